package discread_test

import (
	"crypto/sha1"
	"encoding/hex"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/discread"
	"polytome/internal/optical"
	sim "polytome/internal/sim/optical"
)

func TestAnImageGetsItsNameWhenItIsWhole(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "game.iso")
	data, m := noise(700), sim.New()
	into := func(d *optical.Drive) (*discread.Result, error) {
		disc, err := discread.Look(t.Context(), d)
		require.NoError(t, err)
		return discread.Into(t.Context(), d, disc, file, discread.Options{Tries: 2})
	}
	r, err := into(put(t, m, data, sim.Scratch{First: 300, Count: 4}))
	require.NoError(t, err)
	assert.Equal(t, file+".reading", r.File)
	assert.Equal(t, int64(4), r.Blocks.In(discread.Bad))
	assert.NoFileExists(t, file)

	// another disc of the same size; one that is too damaged to tell; then a copy
	other := noise(700)
	other[0]++
	other = append(other[sim.Block:], other[:sim.Block]...)
	_, err = into(put(t, m, other))
	assert.ErrorContains(t, err, "it is another disc than the one that was read before")
	_, err = into(put(t, m, data, sim.Scratch{First: 0, Count: 700}))
	assert.ErrorContains(t, err, "it is not known whether it is a copy of the same")
	_, err = into(put(t, m, data[sim.Block:]))
	assert.ErrorContains(t, err, "was begun with a disc of 700 blocks")
	r, err = into(put(t, m, data, sim.Scratch{First: 10, Count: 200}))
	require.NoError(t, err)
	assert.Equal(t, file, r.File)
	assert.Equal(t, int64(696), r.Before)
	sum := sha1.Sum(data)
	assert.Equal(t, hex.EncodeToString(sum[:]), r.SHA1)
	got, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, data, got)
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing is left beside it")

	_, err = into(put(t, m, data))
	assert.ErrorContains(t, err, "game.iso is there already")
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.WriteFile(file+".reading", make([]byte, 700*sim.Block), 0o600))
	require.NoError(t, os.WriteFile(file+".reading.toml", []byte("block-size = 2048\nblocks = 700\n"), 0o600))
	_, err = into(put(t, m, data))
	assert.ErrorContains(t, err, "game.iso.reading.toml: it has spans for 0 blocks, but the disc has 700 blocks")
}
