package fileserver

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestNothingIsReadAheadForTheHeadOfAFile and more and more of what is read in order.
func TestNothingIsReadAheadForTheHeadOfAFile(t *testing.T) {
	for row, want := range map[int64]int{0: 0, 8: 0, 64 << 10: 0, readChunk - 1: 0, readChunk: 2, 2 * readChunk: 4,
		3 * readChunk: 8, 100 * readChunk: readAhead, 4096 * readChunk: readAhead} {
		c := &content{row: row}
		assert.Equal(t, want, c.window(), "%d bytes in order", row)
	}
}
