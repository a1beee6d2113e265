package sim_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/sim"
	"polytome/internal/testkit/coretest"
)

// TestThePage holds the simulator against what docs/consoles/vesper-rowan.md says,
// sentence by sentence.
func TestThePage(t *testing.T) {
	full := func(id string) *fstest.MapFile {
		return &fstest.MapFile{Data: coretest.Image(t, coretest.Inf(id, "x", "1/1", "full"))}
	}
	short := &fstest.MapFile{Data: coretest.Image(t, coretest.Inf("VSP-21002", "x", "1/1", "short"))}
	cut := &fstest.MapFile{Data: full("VSP-00009").Data[:44_000]}
	parts := func(title string, lengths ...int) []byte {
		text := fmt.Sprintf("title = %q\nkind = \"full\"\n", title)
		for i, n := range lengths {
			text += fmt.Sprintf("\n[[part]]\nfile = \"%03d.rwn\"\nlength = %d\ncrc32 = \"00000000\"\n", i+1, n)
		}
		return []byte(text)
	}
	stick := fstest.MapFS{
		"ROWAN/rowan.cfg":                                      {Data: []byte("volume=7\nlook=stick\n")},
		"FULL/VSP-20417 - Copper Tide.iso":                     full("VSP-20417"),
		"SHORT/VSP-21002 - Saffron Circuit.iso":                short,
		"FULL/VSP-00001 - " + strings.Repeat("n", 28) + ".iso": full("VSP-00001"),
		"FULL/VSP-00002 - " + strings.Repeat("n", 29) + ".iso": full("VSP-00002"),
		"FULL/VSP-00003 - a+b.iso":                             full("VSP-00003"),
		"FULL/Mosswick.iso":                                    full("VSP-00004"),
		"FULL/VSP-5 - Short of digits.iso":                     full("VSP-00005"),
		"FULL/deeper/VSP-00006 - x.iso":                        full("VSP-00006"),
		"FULL/VSP-00007 - Another inside.iso":                  full("VSP-77777"),
		"SHORT/VSP-00008 - Other kind.iso":                     full("VSP-00008"),
		"FULL/VSP-00009 - Cut short.iso":                       cut,
		"FULL/VSP-00010 - No image.iso":                        {Data: []byte("no")},
		"elsewhere/VSP-00011 - x.iso":                          full("VSP-00011"),
		"full.txt":                                             {Data: []byte("x")},
		"LONG/VSP-00020/001.rwn":                               {Data: full("VSP-00020").Data[:30_000]},
		"LONG/VSP-00020/002.rwn":                               {Data: full("VSP-00020").Data[30_000:]},
		"LONG/VSP-00020/003.rwn":                               {Data: []byte("junk")},
		"LONG/VSP-00020/parts.toml": {Data: parts("A long one", 30_000,
			len(full("VSP-00020").Data)-30_000)},
		"LONG/VSP-00021/001.rwn":    {Data: full("VSP-00021").Data[:30_000]},
		"LONG/VSP-00021/parts.toml": {Data: parts("Falls short", 30_000, 9)},
		"LONG/VSP-00022/001.rwn":    {Data: full("VSP-00022").Data[:30_000]},
		"LONG/VSP-00022/parts.toml": {Data: parts("Other length", 40_000)},
		"LONG/VSP-00023/001.rwn":    {Data: full("VSP-00099").Data},
		"LONG/VSP-00023/parts.toml": {Data: parts("Other inside",
			len(full("VSP-00099").Data))},
		"LONG/VSP-00024/001.rwn": {Data: []byte("x")},
		"LONG/stray.rwn":         {Data: []byte("x")},
	}
	l, err := sim.Rowan{}.List(stick)
	require.NoError(t, err)
	var got []string
	for _, g := range l.Games {
		line := g.ID + " " + g.Title
		if !g.Starts {
			line += " (" + g.Why + ")"
		}
		got = append(got, line)
	}
	assert.Equal(t, []string{
		"VSP-00020 A long one",
		"VSP-00007 Another inside (it holds VSP-77777)",
		"VSP-20417 Copper Tide",
		"VSP-00009 Cut short (it is cut short)",
		"VSP-00021 Falls short (its part 002.rwn is missing)",
		"VSP-00001 " + strings.Repeat("n", 28),
		"VSP-00010 No image (there is no volume in it)",
		"VSP-00023 Other inside (it holds VSP-00099)",
		"VSP-00008 Other kind (it is a full disc in the folder for short ones)",
		"VSP-00022 Other length (its part 001.rwn has 30000 bytes instead of 40000)",
		"VSP-21002 Saffron Circuit",
	}, got)
	assert.Len(t, l.Passed, 8)
	assert.False(t, l.Faces)

	delete(stick, "ROWAN/rowan.cfg")
	l, err = sim.Rowan{}.List(stick)
	require.NoError(t, err)
	assert.Empty(t, l.Games, "without look=stick nothing is listed")
}
