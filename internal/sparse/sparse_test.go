package sparse_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/sparse"
)

func TestRunsOfData(t *testing.T) {
	f, err := os.Create(filepath.Join(t.TempDir(), "f"))
	require.NoError(t, err)
	defer f.Close()
	const size = 10 << 20
	require.NoError(t, sparse.Allow(f))
	require.NoError(t, f.Truncate(size))
	if os.Getenv("WINEPREFIX") != "" { // it knows of no holes
		start, end := sparse.Data(f, 5, size)
		assert.Equal(t, []int64{5, size}, []int64{start, end}, "so all is data")
		return
	}
	start, end := sparse.Data(f, 0, size)
	assert.Equal(t, []int64{size, size}, []int64{start, end}, "nothing but a hole")
	_, err = f.WriteAt([]byte("data"), 4<<20)
	require.NoError(t, err)
	start, end = sparse.Data(f, 0, size)
	assert.LessOrEqual(t, start, int64(4<<20))
	assert.Greater(t, start, int64(3<<20), "the hole before it is found")
	assert.Greater(t, end, int64(4<<20))
	start, _ = sparse.Data(f, end, size)
	assert.EqualValues(t, size, start, "and the hole behind it")
	start, end = sparse.Data(f, size+5, size)
	assert.Equal(t, []int64{size, size}, []int64{start, end})
}
