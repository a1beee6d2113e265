package drives

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/partition"
)

// says is a system that describes the drives that it is given.
type says struct{ all func() []*Drive }

func (s says) drives(context.Context) ([]*Drive, error) { return s.all(), nil }
func (s says) known() string                            { return "" }
func (s says) drive(_ context.Context, path string) (*Drive, error) {
	for _, d := range s.all() {
		if d.Path == path {
			return d, nil
		}
	}
	return nil, nil
}

// TestTheGuardIsTheSameWhereDrivesAreDescribed: another drive in the place of the one that was shown, one that is
// mounted, and one that was changed just before the first write, are not written to.
func TestTheGuardIsTheSameWhereDrivesAreDescribed(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	path := filepath.Join(dir, "disk2")
	const length = 4 << 20
	is := Drive{
		Path:      path,
		Model:     "Gullwing Stick",
		Serial:    "0042",
		Bus:       "usb",
		Size:      length,
		Sector:    512,
		Removable: true,
	}
	s := System{Dev: dir, calls: says{func() []*Drive { d := is; return []*Drive{&d} }}}
	fresh := func() *Drive {
		require.NoError(t, os.WriteFile(path, make([]byte, length), 0o600))
		d, err := s.Look(ctx, path)
		require.NoError(t, err)
		return d
	}
	agreed := Consent{Typed: "0042"}

	m, err := s.Open(ctx, fresh(), Erasing, agreed)
	require.NoError(t, err)
	_, err = m.WriteAt([]byte("here"), 0)
	require.NoError(t, err)
	require.NoError(t, m.Close())

	_, err = s.Open(ctx, fresh(), Erasing, Consent{Typed: "0043"})
	assert.ErrorContains(t, err, "that is not its name")

	for name, change := range map[string]func(){
		"another one":  func() { is.Serial = "0043" },
		"a system one": func() { is.Uses = []Use{{Kind: OfSystem, Say: "Windows runs from it"}} },
		"mounted":      func() { is.Uses = []Use{{Kind: Mounted, Say: `it is mounted at E:\`, At: `E:\`}} },
		"locked":       func() { is.ReadOnly = true },
		"another table": func() {
			require.NoError(t, os.WriteFile(path, append([]byte("other"), make([]byte, length-5)...), 0o600))
		},
	} {
		before, shown := is, fresh()
		change()
		_, err := s.Open(ctx, shown, Erasing, agreed)
		assert.True(t, IsRefused(err), "%s: %v", name, err)
		is = before

		m, err := s.Open(ctx, fresh(), Erasing, agreed)
		require.NoError(t, err)
		change()
		_, err = m.WriteAt([]byte("here"), 1024)
		if name == "another one" || name == "another table" {
			assert.ErrorContains(t, err, "just before the first write", name)
			b, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.NotContains(t, string(b), "here", name)
		}
		require.NoError(t, m.Close())
		is = before
	}

	shown := fresh()
	is.Trouble, is.Path = "", filepath.Join(dir, "disk3")
	_, err = s.Open(ctx, shown, Erasing, agreed)
	assert.Error(t, err, "it is gone")
}

// TestWhatTheSystemSaysAndWhatIsReadAreOne: of volumes that are not read here, the system knows more; of the others,
// where they are mounted.
func TestWhatTheSystemSaysAndWhatIsReadAreOne(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	path := filepath.Join(dir, "disk2")
	const length = 64 << 20
	f, err := os.Create(path)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(length))
	table, err := partition.New(partition.MBR, length, 512, partition.Wanted{Type: partition.FAT32})
	require.NoError(t, err)
	require.NoError(t, table.Write(f))
	start := table.Parts[0].Start
	_, err = f.WriteAt([]byte("xxxNTFS    "), start)
	require.NoError(t, err)
	require.NoError(t, f.Close())

	said := []Volume{
		{Number: 7, Start: start, Size: 9, Filesystem: "ntfs", Label: "SOUTH", Free: 5, MountedAt: []string{`E:\`}},
	}
	s := System{Dev: dir, calls: says{func() []*Drive {
		return []*Drive{{Path: path, Size: length, Sector: 512, Table: &partition.Table{}, Volumes: said}}
	}}}
	d, err := s.Look(ctx, path)
	require.NoError(t, err)
	assert.Equal(t, partition.MBR, d.Table.Scheme)
	require.Len(t, d.Volumes, 1)
	v := d.Volumes[0]
	assert.Equal(t, []any{1, "SOUTH", "ntfs", int64(5), []string{`E:\`}},
		[]any{v.Number, v.Label, v.Filesystem, v.Free, v.MountedAt})

	require.NoError(t, os.WriteFile(path, make([]byte, length), 0o600))
	d, err = s.Look(ctx, path)
	require.NoError(t, err)
	assert.Nil(t, d.Table, "what is read counts")
	assert.Empty(t, d.Volumes)
}
