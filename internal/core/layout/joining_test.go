package layout_test

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

const joining = `format = 1
name = "any"
shown = "Any"
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["exfat"]
[[accept]]
platforms = ["vesper"]
forms = ["image"]
path = "{title}.box"
[accept.join]
of = "discs"
header-length = 256
table = 16
record = 24
align = 64
trailer-length = 4
[[accept.join.header]]
offset = 0
length = 4
value = "VBOX"
encoding = "ascii"
[[accept.join.header]]
offset = 4
length = 4
value = "{parts}"
encoding = "number-le"
[[accept.join.row]]
offset = 0
length = 8
value = "{offset|blocks:64}"
encoding = "number-le"
[[accept.join.row]]
offset = 8
length = 8
value = "{size|blocks:512}"
encoding = "number-be"
[[accept.join.row]]
offset = 16
length = 8
value = "{file}"
encoding = "utf-8"
`

// FuzzPieces wants whatever a header says to lead to pieces that lie in the file, one behind another, or to an error.
func FuzzPieces(f *testing.F) {
	p, err := loader.ParseProfile("any.toml", []byte(joining))
	require.NoError(f, err)
	j := &p.Accepts[0].Join
	for n := range 4 {
		var all []title.Part
		for k := range n + 1 {
			all = append(all, title.Part{Name: "d", File: title.File{Path: "d", Size: int64(100 * k)}})
		}
		b, say := layout.Join(j, &loader.Values{}, all, make([]string, n+1))
		require.Empty(f, say)
		f.Add(append(b.Head, make([]byte, b.Size)...))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		pieces, err := layout.Pieces(j, bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		at := int64(256)
		for _, x := range pieces {
			if x.Offset < at || x.Size < 0 || x.Offset+x.Size > int64(len(b)) {
				t.Fatalf("%+v of %d", pieces, len(b))
			}
			at = x.Offset + x.Size
		}
	})
}

// TestMorePiecesThanTheTableHasSpaceFor are refused, and not cut off.
func TestMorePiecesThanTheTableHasSpaceFor(t *testing.T) {
	p, err := loader.ParseProfile("any.toml", []byte(joining))
	require.NoError(t, err)
	b, say := layout.Join(&p.Accepts[0].Join, &loader.Values{}, make([]title.Part, 11), make([]string, 11))
	require.Nil(t, b)
	require.Equal(t, "the header has space for 10 pieces, but it has 11", say)
}
