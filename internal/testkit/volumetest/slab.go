package volumetest

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/format/slab"
)

// SlabDisk makes an image file with an empty slab disk of so many slabs.
func SlabDisk(t testing.TB, slabs int64, label string) (file string) {
	t.Helper()
	file = filepath.Join(t.TempDir(), "vesper.img")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	require.NoError(t, os.Truncate(file, slabs*slab.Slab))
	m := OpenFile(t, file)
	_, err := slab.Format(m, slabs*slab.Slab, slab.Options{Label: label})
	require.NoError(t, err)
	require.NoError(t, m.Close())
	return file
}
