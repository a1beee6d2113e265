package trash_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/trash"
)

func TestFilesGoToTheRecycleBin(t *testing.T) {
	file := filepath.Join(t.TempDir(), "Copper Tide.iso")
	require.NoError(t, os.WriteFile(file, []byte("bytes"), 0o644))
	require.NoError(t, trash.Move(file))
	assert.NoFileExists(t, file)
	assert.ErrorIs(t, trash.Move(file), os.ErrNotExist)
}
