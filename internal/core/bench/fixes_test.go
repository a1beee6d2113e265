package bench_test

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/fix"
	"polytome/internal/format/picture"
)

func TestFixesAreKeptAndGivenUp(t *testing.T) {
	file := filepath.Join(t.TempDir(), "season.toml")
	b := bench.New(file)
	b.Targets = []bench.Target{{Name: "North stick", At: "north", Loader: "rowan"}}
	p := &b.Targets[0]
	move := fix.Fix{Do: fix.Rename, Path: "FULL/x.iso", To: "FULL/VSP-20417 - x.iso", Seen: "5 6", Why: "its name"}
	fit := fix.Fix{Do: fix.Fit, Path: "FACES/a.png", To: "FACES/a.jpg", Picture: &picture.Rule{Width: 256, Height: 368,
		Fit: "inside", Format: "jpg"}}
	set := fix.Fix{Do: fix.Set, Path: "ROWAN/rowan.cfg", Syntax: "key=value", Key: "look", Value: "stick"}
	write := fix.Fix{Do: fix.Write, Path: "list.txt", Text: "one\n\"two\"\n"}
	put := fix.Fix{Do: fix.Copy, Path: "FULL/y.iso", Title: "VSP-00001"}
	leave := fix.Fix{Do: fix.Remove, Path: "FULL/z.iso"}
	before := b.Choices()
	p.Fix(move, fit, set, write, put, leave)
	p.Fix(move) // once is enough
	require.Len(t, p.Fixes, 5)
	assert.True(t, p.Wants("VSP-00001"), "what is put again is wanted")
	assert.Equal(t, []string{"FULL/y.iso"}, p.Replace)
	assert.Equal(t, []string{"FULL/z.iso"}, p.Removing)
	assert.True(t, p.Fixing(move, fit, set, write, put, leave))
	assert.False(t, p.Fixing())
	p.Tick("Plug the stick in")
	p.Cable = &bench.Cable{Interface: "eth1", Computer: "192.168.77.1/24", Console: "192.168.77.2",
		Was: "ftp://10.0.0.2/", Before: []string{"dhcp"}}
	require.NoError(t, b.Save())
	again, err := bench.Load(file)
	require.NoError(t, err)
	assert.Equal(t, b.Targets, again.Targets, "all of it is in the file")

	p.Unfix(put, leave)
	assert.Empty(t, p.Replace)
	assert.Empty(t, p.Removing)
	assert.False(t, p.Fixing(put))
	assert.True(t, p.Fixed(func(m *fix.Fix) bool { return m.Do != fix.Set }))
	assert.Equal(t, []fix.Fix{set}, p.Fixes)
	assert.False(t, p.Fixed(func(*fix.Fix) bool { return false }))
	assert.True(t, p.Fixed(func(*fix.Fix) bool { return true }))
	assert.Nil(t, p.Fixes)
	p.Tick("Plug the stick in")
	assert.Empty(t, p.Ticked, "a second tick takes it away")
	b.Restore(before)
	assert.Nil(t, b.Targets[0].Fixes, "earlier choices are as they were")
	for _, m := range []fix.Fix{move, fit, set, write, put, leave, {Do: fix.Defragment, Path: "x"}} {
		assert.NotEmpty(t, m.Words())
	}
}

// TestAFixOfAnyBytesIsKept: a list of records is no text, and comes back from the bench's file byte by byte.
func TestAFixOfAnyBytesIsKept(t *testing.T) {
	for _, content := range []string{"a line\n", "\x00\xff\x7e records", "base64:AAAA", "\x83\x8c"} {
		b := bench.New(filepath.Join(t.TempDir(), "b.toml"))
		b.Targets = []bench.Target{{Name: "Stick", At: "/s", Loader: "rowan",
			Fixes: []fix.Fix{{Do: fix.Write, Path: "games.idx", Text: fix.Text([]byte(content))}}}}
		require.NoError(t, b.Save())
		again, err := bench.Load(b.File())
		require.NoError(t, err)
		got, err := again.Targets[0].Fixes[0].Content()
		require.NoError(t, err)
		assert.Equal(t, content, got)
	}
}
