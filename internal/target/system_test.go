package target_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/target"
)

func TestWhatSystemsLeaveIsKnownByItsName(t *testing.T) {
	for path, is := range map[string]bool{
		"FULL/._Copper Tide.iso": true, ".DS_Store": true, "FULL/Thumbs.db": true, "__MACOSX/FULL/a.iso": true,
		"$RECYCLE.BIN/a.iso": true, "System Volume Information": true, "FULL/desktop.ini": true,
		"FULL/Copper Tide.iso": false, "FULL/.hidden.iso": false, "FULL/Thumbs.db.iso": false, "a/b._c": false,
		"": false,
	} {
		assert.Equal(t, is, target.OfSystem(path), path)
	}
}
