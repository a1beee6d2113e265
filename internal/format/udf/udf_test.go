package udf_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/udf"
	"polytome/internal/testkit/judge"
)

// tree makes the files that the foreign writers put on their volumes.
func tree(t testing.TB, many int) (dir string, files map[string][]byte) {
	dir = filepath.Join(t.TempDir(), "tree")
	big := make([]byte, 700_001)
	for i := range big {
		big[i] = byte(i * i >> 5)
	}
	files = map[string][]byte{
		"SYS/TITLE.JSON":                   []byte(`{"id": "MRD-0117"}`),
		"SYS/deep/er/and deeper/world.dat": big,
		"SYS/empty":                        {},
		"one sector":                       big[:2048],
	}
	if many > 100 { // udfclient takes names for bytes
		files["Ünïcode ファイル.txt"] = []byte("names of sixteen bits\n")
	}
	for n := range many { // 120 take more than one block of directory
		files["many/file number "+strings.Repeat("x", n%40)+string(rune('a'+n%26))+".bin"] = big[:n]
	}
	for name, data := range files {
		file := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, data, 0o644))
	}
	return dir, files
}

func open(t testing.TB, image []byte) *udf.Volume {
	v, err := udf.Open(bytes.NewReader(image), int64(len(image)))
	require.NoError(t, err)
	return v
}

// bridge has genisoimage write the tree as ISO 9660 and UDF beside one another.
func bridge(t testing.TB, dir string) []byte {
	image := filepath.Join(t.TempDir(), "bridge.iso")
	judge.Run(t, "genisoimage", "-quiet", "-udf", "-J", "-R", "-V", "BRIDGE 1", "-o", image, dir)
	b, err := os.ReadFile(image)
	require.NoError(t, err)
	return b
}

// written has udfclient put the tree on a new volume.
func written(t testing.TB, dir string, flags ...string) []byte {
	image := filepath.Join(t.TempDir(), "disc.udf")
	require.NoError(t, os.WriteFile(image, make([]byte, 64<<20), 0o644))
	judge.Run(t, "newfs_udf", append(flags, "-b", "2048", "-L", "GULL", "-P", "PRIM", "-S", "SET", image)...)
	cmd := exec.Command("udfclient", "-b", "2048", "-W", image)
	cmd.Dir = filepath.Dir(dir)
	cmd.Stdin = strings.NewReader("cd SET:PRIM:GULL:fileset\nput tree\nsync\nquit\n")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	b, err := os.ReadFile(image)
	require.NoError(t, err)
	return b
}

func check(t *testing.T, v *udf.Volume, below string, files map[string][]byte) {
	t.Helper()
	sub, err := fs.Sub(v, below)
	require.NoError(t, err)
	got := map[string][]byte{}
	require.NoError(t, fs.WalkDir(sub, ".", func(name string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			got[name], err = fs.ReadFile(sub, name)
		}
		return err
	}))
	assert.Equal(t, len(files), len(got))
	for name, want := range files {
		assert.True(t, bytes.Equal(want, got[name]), "%s differs", name)
	}
	require.NoError(t, fstest.TestFS(sub, "SYS/TITLE.JSON", "one sector"))
}

func TestVolumesOfOthers(t *testing.T) {
	dir, files := tree(t, 120)
	few, fewFiles := tree(t, 10) // udfclient forgets some when there are more
	t.Run("bridge", func(t *testing.T) {
		image := bridge(t, dir)
		v := open(t, image)
		assert.Equal(t, "BRIDGE 1", v.Identifier)
		assert.Equal(t, 0x102, v.Revision)
		assert.LessOrEqual(t, v.DeclaredSize(), int64(len(image)))
		check(t, v, ".", files)
		listed := judge.Run(t, "7z", "l", "-tudf", writeFile(t, image))
		for name := range files {
			assert.Contains(t, listed, filepath.FromSlash(name))
		}
		when, err := fs.Stat(v, "one sector")
		require.NoError(t, err)
		on, err := os.Stat(filepath.Join(dir, "one sector"))
		require.NoError(t, err)
		assert.WithinDuration(t, on.ModTime(), when.ModTime(), 2e9)
	})
	t.Run("written with extended entries", func(t *testing.T) {
		t.Parallel()
		v := open(t, written(t, few))
		assert.Equal(t, "GULL", v.Identifier)
		assert.Equal(t, 0x201, v.Revision)
		check(t, v, "tree", fewFiles)
	})
	t.Run("written with plain entries", func(t *testing.T) {
		t.Parallel()
		v := open(t, written(t, few, "-2"))
		assert.LessOrEqual(t, v.Revision, 0x150)
		check(t, v, "tree", fewFiles)
	})
}

func writeFile(t *testing.T, b []byte) string {
	file := filepath.Join(t.TempDir(), "image.udf")
	require.NoError(t, os.WriteFile(file, b, 0o644))
	return file
}

func TestEmptyVolumesOfEveryRevision(t *testing.T) {
	for revision, want := range map[string]int{"0x0102": 0x102, "0x0150": 0x150, "0x0200": 0x200, "0x0201": 0x201} {
		for _, media := range []string{"hd", "dvd", "dvdrw", "cdrw", "cdr"} {
			image := filepath.Join(t.TempDir(), "m.udf")
			require.NoError(t, os.WriteFile(image, nil, 0o644))
			out, err := judge.Try(t, "mkudffs", "--media-type="+media, "--udfrev="+revision, "-b", "2048", "-l",
				"Label é", image, "4000")
			if err != nil {
				require.Contains(t, out, "Error", "mkudffs has no such medium for this revision")
				continue
			}
			b, err := os.ReadFile(image)
			require.NoError(t, err)
			v := open(t, b)
			assert.Equal(t, "Label é", v.Identifier, "%s %s", revision, media)
			assert.Equal(t, want, v.Revision, "%s %s", revision, media)
			list, err := fs.ReadDir(v, ".")
			require.NoError(t, err)
			for _, e := range list { // a table that rewritable discs show as a file
				assert.Equal(t, "Non-Allocatable Space", e.Name())
			}
		}
	}
}

func TestDamage(t *testing.T) {
	dir, _ := tree(t, 120)
	image := bridge(t, dir)
	_, err := udf.Open(bytes.NewReader(nil), 0)
	require.ErrorIs(t, err, udf.ErrNotUDF)
	_, err = udf.Open(bytes.NewReader(make([]byte, 1<<20)), 1<<20)
	require.ErrorIs(t, err, udf.ErrNotUDF)

	short := image[:len(image)/2]
	v, err := udf.Open(bytes.NewReader(short), int64(len(short)))
	require.NoError(t, err, "an image that is cut short opens, so that it can be reported")
	assert.Greater(t, v.DeclaredSize(), int64(len(short)))

	// Each descriptor of the main sequence destroyed: the reserve one serves.
	anchor := image[256*2048:]
	main := binary.LittleEndian.Uint32(anchor[20:])
	spoilt := bytes.Clone(image)
	clear(spoilt[main*2048 : main*2048+4*2048])
	v, err = udf.Open(bytes.NewReader(spoilt), int64(len(spoilt)))
	require.NoError(t, err)
	_, err = fs.Stat(v, "SYS/TITLE.JSON")
	require.NoError(t, err)

	// Both destroyed: said with the target.
	reserve := binary.LittleEndian.Uint32(anchor[28:])
	clear(spoilt[reserve*2048 : reserve*2048+4*2048])
	_, err = udf.Open(bytes.NewReader(spoilt), int64(len(spoilt)))
	var damage *udf.FormatError
	require.True(t, errors.As(err, &damage), "%v", err)
	assert.Equal(t, int64(main)*2048, damage.Offset)

	// A directory's entry destroyed: the rest is still listed.
	spoilt = bytes.Clone(image)
	at := bytes.Index(spoilt[257*2048:], []byte("TITLE.JSON"))
	require.Positive(t, at)
	entry := 257*2048 + at - 39
	require.Equal(t, byte(1), spoilt[entry+1], "this is where the entry begins")
	spoilt[entry+4] ^= 0xFF
	v = open(t, spoilt)
	_, err = fs.ReadDir(v, "SYS")
	require.True(t, errors.As(err, &damage), "%v", err)
	list, err := fs.ReadDir(v, "many")
	require.NoError(t, err)
	assert.Len(t, list, 120)
}

// FuzzVolume changes bytes of a real volume's structures and walks what is left.
func FuzzVolume(f *testing.F) {
	dir := f.TempDir()
	require.NoError(f, os.MkdirAll(filepath.Join(dir, "a/b"), 0o755))
	require.NoError(f, os.WriteFile(filepath.Join(dir, "a/b/c"), []byte("text"), 0o644))
	image := bridge(f, dir)
	f.Add(uint32(257*2048), []byte{1, 2, 3}, uint32(256*2048+16), []byte{0xFF})
	for at := 32; at < 300; at++ {
		f.Add(uint32(at*2048+30), []byte{0xFF, 0xFF, 0xFF, 0xFF}, uint32(at*2048+172), []byte{0xFF, 0, 0, 0x40})
	}
	f.Fuzz(func(t *testing.T, at1 uint32, b1 []byte, at2 uint32, b2 []byte) {
		b := bytes.Clone(image)
		copy(b[at1%uint32(len(b)):], b1)
		copy(b[at2%uint32(len(b)):], b2)
		for _, at := range []uint32{at1 % uint32(len(b)), at2 % uint32(len(b))} {
			seal(b[at/2048*2048:])
		}
		v, err := udf.Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		seen := 0
		_ = fs.WalkDir(v, ".", func(name string, d fs.DirEntry, err error) error {
			if seen++; seen > 5000 {
				return fs.SkipAll
			}
			if err == nil && !d.IsDir() {
				if file, err := v.Open(name); err == nil {
					_, _ = io.Copy(io.Discard, io.LimitReader(file, 1<<16))
				}
			}
			return nil
		})
	})
}

// seal makes a changed descriptor pass its own checks, so that what it says is believed.
func seal(b []byte) {
	if len(b) < 2048 {
		return
	}
	clear(b[8:12]) // no CRC
	b[4] = 0
	var sum byte
	for _, c := range b[:16] {
		sum += c
	}
	b[4] = sum
}

// TestADirectoryThatContainsItself: a folder's entry is bent to point at the folder above.
func TestADirectoryThatContainsItself(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "tree")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "outer", "inner"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "outer", "file"), []byte("x"), 0o644))
	image := bridge(t, dir)
	entry := func(name string) []byte { // the file identifier descriptor of a name
		at := bytes.Index(image[257*2048:], append([]byte{8}, name...))
		require.Positive(t, at, name)
		return image[257*2048+at-38:]
	}
	outer, inner := entry("outer"), entry("inner")
	copy(inner[20:36], outer[20:36])
	clear(inner[8:12])
	inner[4] = 0
	var sum byte
	for _, c := range inner[:16] {
		sum += c
	}
	inner[4] = sum
	v := open(t, image)
	var failed []string
	n := 0
	require.NoError(t, fs.WalkDir(v, ".", func(name string, _ fs.DirEntry, err error) error {
		n++
		if err != nil {
			failed = append(failed, err.Error())
			return fs.SkipDir
		}
		return nil
	}))
	require.Len(t, failed, 1)
	assert.Contains(t, failed[0], "contains itself")
	assert.Less(t, n, 10)
}
