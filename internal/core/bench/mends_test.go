package bench_test

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/mend"
	"polytome/internal/format/picture"
)

func TestMendsAreKeptAndGivenUp(t *testing.T) {
	file := filepath.Join(t.TempDir(), "season.toml")
	b := bench.New(file)
	b.Places = []bench.Place{{Name: "North stick", At: "north", Loader: "rowan"}}
	p := &b.Places[0]
	move := mend.Mend{Do: mend.Rename, Path: "FULL/x.iso", To: "FULL/VSP-20417 - x.iso", Seen: "5 6", Why: "its name"}
	fit := mend.Mend{Do: mend.Fit, Path: "FACES/a.png", To: "FACES/a.jpg", Picture: &picture.Rule{Width: 256, Height: 368, Fit: "inside", Format: "jpg"}}
	set := mend.Mend{Do: mend.Set, Path: "ROWAN/rowan.cfg", Syntax: "key=value", Key: "look", Value: "stick"}
	write := mend.Mend{Do: mend.Write, Path: "list.txt", Text: "one\n\"two\"\n"}
	put := mend.Mend{Do: mend.Put, Path: "FULL/y.iso", Title: "VSP-00001"}
	leave := mend.Mend{Do: mend.Leave, Path: "FULL/z.iso"}
	before := b.Choices()
	p.Mend(move, fit, set, write, put, leave)
	p.Mend(move) // once is enough
	require.Len(t, p.Mends, 5)
	assert.True(t, p.Wants("VSP-00001"), "what is put again is wanted")
	assert.Equal(t, []string{"FULL/y.iso"}, p.Replace)
	assert.Equal(t, []string{"FULL/z.iso"}, p.Leaving)
	assert.True(t, p.Mending(move, fit, set, write, put, leave))
	assert.False(t, p.Mending())
	p.Tick("Plug the stick in")
	p.Cable = &bench.Cable{Interface: "eth1", Computer: "192.168.77.1/24", Console: "192.168.77.2", Was: "ftp://10.0.0.2/", Before: []string{"dhcp"}}
	require.NoError(t, b.Save())
	again, err := bench.Load(file)
	require.NoError(t, err)
	assert.Equal(t, b.Places, again.Places, "all of it is in the file")

	p.Unmend(put, leave)
	assert.Empty(t, p.Replace)
	assert.Empty(t, p.Leaving)
	assert.False(t, p.Mending(put))
	assert.True(t, p.Mended(func(m *mend.Mend) bool { return m.Do != mend.Set }))
	assert.Equal(t, []mend.Mend{set}, p.Mends)
	assert.False(t, p.Mended(func(*mend.Mend) bool { return false }))
	assert.True(t, p.Mended(func(*mend.Mend) bool { return true }))
	assert.Nil(t, p.Mends)
	p.Tick("Plug the stick in")
	assert.Empty(t, p.Ticked, "a second tick takes it away")
	b.Restore(before)
	assert.Nil(t, b.Places[0].Mends, "earlier choices are as they were")
	for _, m := range []mend.Mend{move, fit, set, write, put, leave, {Do: mend.Gather, Path: "x"}} {
		assert.NotEmpty(t, m.Words())
	}
}
