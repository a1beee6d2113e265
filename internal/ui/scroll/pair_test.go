package scroll

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestAPairIsBesideOneAnotherWhereThereIsRoom, and a click says which of the two is meant.
func TestAPairIsBesideOneAnotherWhereThereIsRoom(t *testing.T) {
	var p Pair
	p.Left.Resize(9, 5)
	p.Right.Resize(9, 5)
	part := func(c string) func(w, h int) []string {
		return func(w, h int) []string { return slicesOf(strings.Repeat(c, w), h) }
	}
	out := p.Draw(120, 2, 60, "|", part("l"), part("r"))
	assert.Equal(t, strings.Repeat("l", 72)+"|"+strings.Repeat("r", 47), out[0])
	p.Click(100, 4, 2)
	assert.True(t, p.Side)
	assert.Equal(t, 2, p.Right.Cursor)
	p.Wheel(1)
	assert.Equal(t, 3, p.Right.Cursor)
	p.Click(3, 3, 2)
	assert.False(t, p.Side)
	assert.Equal(t, 1, p.Left.Cursor)

	assert.Equal(t, strings.Repeat("l", 80), p.Draw(80, 2, 60, "|", part("l"), part("r"))[0])
	p.Side = true
	assert.Equal(t, strings.Repeat("r", 80), p.Draw(80, 2, 60, "|", part("l"), part("r"))[0])
	p.Click(3, 2, 2)
	assert.True(t, p.Side, "the other one is not there to be clicked")
}

func slicesOf(line string, n int) (out []string) {
	for range n {
		out = append(out, line)
	}
	return out
}
