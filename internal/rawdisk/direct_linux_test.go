package rawdisk

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"polytome/internal/testkit/judge"
)

// TestPastTheMemoryOfTheSystem: a loop device that is opened so that it takes whole sectors only.
func TestPastTheMemoryOfTheSystem(t *testing.T) {
	if !judge.AsRoot(t) {
		return
	}
	img := filepath.Join(t.TempDir(), "stick.img")
	require.NoError(t, os.WriteFile(img, make([]byte, 1<<20), 0o600))
	f, err := os.OpenFile(judge.Loop(t, img), os.O_RDWR|unix.O_DIRECT, 0)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.WriteAt([]byte("x"), 3)
	require.Error(t, err, "the device is opened as it is meant")
	a := &aligned{dev: f, sector: 512, size: 1 << 20}
	text := bytes.Repeat([]byte("Copper Tide "), 50_000)
	_, err = a.WriteAt(text, 777)
	require.NoError(t, err)
	b := make([]byte, len(text))
	_, err = a.ReadAt(b, 777)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(text, b))
	assert.EqualValues(t, 1<<20, end(f, 512))
}
