package check_test

import (
	"fmt"
	"maps"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/coretest"
)

// TestPartsWithoutAList are checked as one image: a missing and a short part are found, good ones are no junk, and no
// remedy moves one of them away from the others.
func TestPartsWithoutAList(t *testing.T) {
	p, err := loader.ParseProfile("any.toml", []byte(`format = 1
name = "any"
shown = "Any"
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["fat32"]
case = "ignored"
[[accept]]
platforms = ["vesper"]
forms = ["image"]
path = "G/{id}.{title}.iso"
[accept.too-large]
do = "split"
over = "20KiB"
part-size = "20KiB"
parts = "P/{id}.{title}.{index}.prt"
`))
	require.NoError(t, err)
	image := coretest.Image(t, coretest.Inf("VSP-20431", "The Ninth. Orchard", "1/1", "full"))
	const size = 20 << 10
	good := files{}
	for n := 0; n*size < len(image); n++ {
		good[fmt.Sprintf("P/VSP-20431.The Ninth. Orchard.%d.prt", n+1)] = image[n*size : min(len(image), (n+1)*size)]
	}
	require.Len(t, good, 3)
	look := func(change func(f files), depth check.Depth) *check.Report {
		f := maps.Clone(good)
		change(f)
		dir := t.TempDir()
		for name, data := range f {
			coretest.Write(t, dir, name, data)
		}
		to, err := folder.Open(dir, folder.Options{Filesystem: "fat32"})
		require.NoError(t, err)
		defer to.Close()
		r, err := check.Audit(t.Context(), to, []*loader.Profile{p}, coretest.Set(t), check.Options{Via: "usb",
			Depth: depth})
		require.NoError(t, err)
		return r
	}
	part := func(n int) string { return fmt.Sprintf("P/VSP-20431.The Ninth. Orchard.%d.prt", n) }
	for _, depth := range check.Depths {
		r := look(func(files) {}, depth)
		require.Len(t, r.Listed, 1, depth)
		assert.True(t, r.Listed[0].Starts, "%q", reported(r))
		assert.Equal(t, "The Ninth. Orchard", r.Listed[0].Name)
		assert.EqualValues(t, len(image), r.Listed[0].Size)
		assert.Empty(t, r.Findings)
		assert.Empty(t, r.Others, "no part is junk")
		for what, change := range map[string]func(files){
			"a missing part": func(f files) { delete(f, part(2)) },
			"a short part":   func(f files) { f[part(1)] = f[part(1)][:2048] },
			"no first part":  func(f files) { delete(f, part(1)) },
			"another's image": func(f files) {
				maps.DeleteFunc(f, func(string, []byte) bool { return true })
				f["P/VSP-99999.Other.1.prt"] = good[part(1)]
				f["P/VSP-99999.Other.2.prt"] = good[part(2)]
				f["P/VSP-99999.Other.3.prt"] = good[part(3)]
			},
		} {
			r := look(change, depth)
			starts := 0
			if depth == check.Names && what == "another's image" { // their names and sizes are right
				starts = 1
			}
			assert.Equal(t, starts, r.Starts(), "%s, %s: %q", what, depth, reported(r))
			assert.Equal(t, starts > 0, r.Good(), "%s, %s", what, depth)
			assert.Empty(t, r.Fixes(), "%s, %s: no part is moved from the others", what, depth)
		}
	}
	r := look(func(f files) { f[part(3)] = f[part(3)][:len(f[part(3)])-1024] }, check.Inside)
	assert.False(t, r.Good(), "the last part is short: %q", reported(r))
}
