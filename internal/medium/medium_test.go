package medium_test

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/medium"
)

func image(t *testing.T, n int64) *medium.File {
	name := filepath.Join(t.TempDir(), "a.img")
	require.NoError(t, os.WriteFile(name, nil, 0o600))
	require.NoError(t, os.Truncate(name, n))
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	require.NoError(t, err)
	m, err := medium.Of(f)
	require.NoError(t, err)
	t.Cleanup(func() { _ = m.Close() })
	return m
}

func TestAPartEndsWhereItEnds(t *testing.T) {
	m := image(t, 1<<20)
	p := m.Part(4096, 8192)
	assert.EqualValues(t, 8192, p.Size())
	n, err := p.WriteAt([]byte("begins"), 0)
	require.NoError(t, err)
	assert.Equal(t, 6, n)
	_, err = p.WriteAt([]byte("over the end"), 8190)
	assert.ErrorContains(t, err, "beyond its end")
	_, err = p.WriteAt([]byte("before"), -1)
	assert.Error(t, err)
	b := make([]byte, 6)
	_, err = m.ReadAt(b, 4096)
	require.NoError(t, err)
	assert.Equal(t, "begins", string(b))
	n, err = p.ReadAt(make([]byte, 100), 8150)
	assert.ErrorIs(t, err, io.EOF)
	assert.Equal(t, 42, n)
	assert.EqualValues(t, 1<<20-100, m.Part(100, 1<<40).Size(), "a part never reaches beyond the whole")
	assert.NoError(t, p.Close())
	_, err = m.ReadAt(b, 0)
	assert.NoError(t, err, "closing a part closes nothing else")
}

func TestZerosAreZeros(t *testing.T) {
	m := image(t, 1<<20)
	for i := range 16 {
		_, err := m.WriteAt([]byte{1, 2, 3, 4}, int64(i)<<16)
		require.NoError(t, err)
	}
	if err := m.Zero(1<<16, 3<<16); !errors.Is(err, errors.ErrUnsupported) {
		require.NoError(t, err)
		b := make([]byte, 5<<16)
		_, err := m.ReadAt(b, 0)
		require.NoError(t, err)
		assert.EqualValues(t, []byte{1, 0, 0, 0, 1}, []byte{b[0], b[1<<16], b[2<<16], b[3<<16], b[4<<16]})
		start, _ := m.Data(1 << 16)
		assert.EqualValues(t, 4<<16, start, "and they take no space")
	}
	assert.Error(t, m.Zero(1<<20-1, 2))
	require.NoError(t, m.Sync())
	require.NoError(t, m.Drop(0, 1<<20))
}

func TestWhatGuardsAWriteIsAsked(t *testing.T) {
	m := image(t, 1<<20)
	no := errors.New("another drive")
	asked := 0
	m.Before(func() error { asked++; return no })
	p := m.Part(0, 4096)
	_, err := p.WriteAt([]byte("x"), 0)
	assert.ErrorIs(t, err, no, "of a part too")
	assert.ErrorIs(t, m.Zero(0, 512), no)
	src, err := os.Open(m.Name())
	require.NoError(t, err)
	defer src.Close()
	_, err = m.CopyFrom(src, 0, 0, 10)
	assert.ErrorIs(t, err, no)
	assert.Equal(t, 3, asked)
	b := make([]byte, 1)
	_, err = m.ReadAt(b, 0)
	require.NoError(t, err)
	assert.Zero(t, b[0], "nothing was written")
}

func TestAFileThatGrewIsKnown(t *testing.T) {
	name := filepath.Join(t.TempDir(), "stick.img")
	require.NoError(t, os.WriteFile(name, make([]byte, 100), 0o600))
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	require.NoError(t, err)
	m, err := medium.Of(f)
	require.NoError(t, err)
	defer m.Close()
	require.NoError(t, os.Truncate(name, 300))
	assert.EqualValues(t, 100, m.Size(), "what it was opened as")
	n, err := m.Part(10, 20).SizeNow()
	require.NoError(t, err)
	assert.EqualValues(t, 300, n, "of the whole file, also asked through a part")
}
