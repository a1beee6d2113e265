package iso9660_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/format/iso9660"
	"polytome/internal/testkit/judge"
)

var day = time.Date(2026, 3, 14, 9, 26, 52, 0, time.UTC)

// tree is a small source tree; its names are already legal primary names, so
// that what is read back carries the same ones.
func tree() fstest.MapFS {
	noise := make([]byte, 300_001)
	rng := rand.New(rand.NewPCG(1, 2))
	for i := range noise {
		noise[i] = byte(rng.Uint32())
	}
	m := fstest.MapFS{
		"VESPER.INF":         {Data: []byte("ID=VSP-20417\nNAME=Copper Tide\n"), ModTime: day},
		"DATA/SCENE1.BIN":    {Data: noise, ModTime: day},
		"DATA/EMPTY.BIN":     {Data: nil, ModTime: day},
		"DATA/ONE/TWO/A.TXT": {Data: []byte("deep"), ModTime: day},
		"DATA/ONE/B.TXT":     {Data: bytes.Repeat([]byte{7}, 2048), ModTime: day},
	}
	for i := range 200 { // more records than one sector holds
		m[fmt.Sprintf("MANY/F%03d.DAT", i)] = &fstest.MapFile{Data: fmt.Appendf(nil, "file %d", i), ModTime: day}
	}
	return m
}

func lay(t testing.TB, fsys fs.FS) []byte {
	im, err := iso9660.Lay(fsys, iso9660.Options{VolumeID: "COPPER_TIDE", Created: day})
	require.NoError(t, err)
	var b bytes.Buffer
	n, err := im.WriteTo(&b)
	require.NoError(t, err)
	require.Equal(t, im.Size(), n, "the size reported beforehand is exact")
	return b.Bytes()
}

func open(t testing.TB, image []byte) *iso9660.Volume {
	v, err := iso9660.Open(bytes.NewReader(image), int64(len(image)))
	require.NoError(t, err)
	return v
}

func TestWhatIsWrittenIsReadBack(t *testing.T) {
	src := tree()
	image := lay(t, src)
	v := open(t, image)
	assert.Equal(t, "COPPER_TIDE", v.Identifier)
	assert.Equal(t, int64(len(image)), v.DeclaredSize())
	assert.Equal(t, image, lay(t, src), "the same input gives the same bytes")

	var names []string
	for name, f := range src {
		names = append(names, name)
		got, err := fs.ReadFile(v, name)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(f.Data, got), name)
		info, err := fs.Stat(v, name)
		require.NoError(t, err)
		assert.True(t, day.Equal(info.ModTime()), name)
	}
	require.NoError(t, fstest.TestFS(v, names...))
}

func TestForeignToolsReadWhatIsWritten(t *testing.T) {
	src := tree()
	file := filepath.Join(t.TempDir(), "a.iso")
	require.NoError(t, os.WriteFile(file, lay(t, src), 0o644))

	listing := judge.Run(t, "isoinfo", "-f", "-i", file)
	for name := range src {
		assert.Contains(t, listing, "/"+name+";1\n")
	}
	assert.Contains(t, judge.Run(t, "isoinfo", "-d", "-i", file), "Volume id: COPPER_TIDE")
	assert.Equal(t, "ID=VSP-20417\nNAME=Copper Tide\n", judge.Run(t, "isoinfo", "-x", "/VESPER.INF;1", "-i", file))
	assert.Contains(t, judge.Run(t, "xorriso", "-indev", file, "-find", "/", "-type", "f"), "SCENE1.BIN")

	out := t.TempDir()
	judge.Run(t, "7z", "x", "-o"+out, file)
	for name, f := range src {
		got, err := os.ReadFile(filepath.Join(out, name))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(f.Data, got), name)
	}
}

func TestNamesOfForeignImages(t *testing.T) {
	src := t.TempDir()
	long := "Gannet Patrol, the long way round the harbour.txt"
	deep := "a/b/c/d/e/f/g/h/i/deep.txt" // deeper than the standard allows: relocated
	require.NoError(t, os.WriteFile(filepath.Join(src, long), []byte("x"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(src, filepath.Dir(deep)), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(src, deep), []byte("deep"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(src, strings.Repeat("n", 240)+".txt"), []byte("continued"), 0o644))
	require.NoError(t, os.Symlink(long, filepath.Join(src, "link")))

	for _, c := range []struct {
		name string
		args []string
		want iso9660.Names
		see  []string
	}{
		{"rock ridge", []string{"-R", "-J", "-joliet-long"}, iso9660.RockRidgeNames,
			[]string{long, deep, strings.Repeat("n", 240) + ".txt"}},
		{"joliet", []string{"-J", "-joliet-long", "-D"}, iso9660.JolietNames, []string{long}},
		{"primary", []string{"-D"}, iso9660.PrimaryNames, []string{"GANNET_P.TXT"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "a.iso")
			judge.Run(t, "genisoimage", append(append([]string{"-quiet", "-o", file}, c.args...), src)...)
			image, err := os.ReadFile(file)
			require.NoError(t, err)
			v := open(t, image)
			assert.Equal(t, c.want, v.Names)
			for _, name := range c.see {
				b, err := fs.ReadFile(v, name)
				require.NoError(t, err)
				if name == deep {
					assert.Equal(t, "deep", string(b))
				}
			}
			_, err = fs.Stat(v, "link")
			assert.ErrorIs(t, err, fs.ErrNotExist, "symbolic links are left out")
			require.NoError(t, fstest.TestFS(v, c.see...))
		})
	}
}

// hollow is a file of any length that is zeros but for its first and last block.
type hollow struct {
	name       string
	size       int64
	head, tail []byte
	*io.SectionReader
}

func newHollow(name string, size int64, head, tail string) *hollow {
	h := &hollow{name: name, size: size, head: []byte(head), tail: []byte(tail)}
	h.SectionReader = io.NewSectionReader(h, 0, size)
	return h
}

func (h *hollow) ReadAt(b []byte, off int64) (int, error) {
	clear(b)
	if off < int64(len(h.head)) {
		copy(b, h.head[off:])
	}
	if start := h.size - int64(len(h.tail)); off+int64(len(b)) > start {
		if off >= start {
			copy(b, h.tail[off-start:])
		} else {
			copy(b[start-off:], h.tail)
		}
	}
	return len(b), nil
}

func (h *hollow) Read(b []byte) (int, error)        { return h.SectionReader.Read(b) }
func (h *hollow) Stat() (fs.FileInfo, error)        { return hollowInfo{h}, nil }
func (h *hollow) Close() error                      { return nil }
func (h *hollow) Open(name string) (fs.File, error) { return h.open(name) }
func (h *hollow) ReadDir(name string) ([]fs.DirEntry, error) {
	return []fs.DirEntry{fs.FileInfoToDirEntry(hollowInfo{h})}, nil
}
func (h *hollow) DataRanges() []iso9660.Range {
	return []iso9660.Range{{Start: 0, End: int64(len(h.head))}, {Start: h.size - int64(len(h.tail)), End: h.size}}
}

func (h *hollow) open(name string) (fs.File, error) {
	if name != h.name {
		return nil, fs.ErrNotExist
	}
	return h, nil
}

type hollowInfo struct{ h *hollow }

func (i hollowInfo) Name() string       { return i.h.name }
func (i hollowInfo) Size() int64        { return i.h.size }
func (i hollowInfo) ModTime() time.Time { return day }
func (i hollowInfo) IsDir() bool        { return false }
func (i hollowInfo) Sys() any           { return nil }
func (i hollowInfo) Mode() fs.FileMode  { return 0o444 }

func TestFilesOverFourGiB(t *testing.T) {
	const size = 9<<30 + 12345 // three extents
	im, err := iso9660.Lay(newHollow("BIG.DAT", size, "the head", "the tail"), iso9660.Options{VolumeID: "BIG"})
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "big.iso")
	f, err := os.Create(file)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, im.WriteSparse(f))

	v, err := iso9660.Open(f, im.Size())
	require.NoError(t, err)
	info, err := fs.Stat(v, "BIG.DAT")
	require.NoError(t, err)
	assert.EqualValues(t, size, info.Size())
	big, err := v.Open("BIG.DAT")
	require.NoError(t, err)
	tail := make([]byte, 8)
	_, err = big.(io.ReaderAt).ReadAt(tail, size-8)
	require.NoError(t, err)
	assert.Equal(t, "the tail", string(tail))
	across := make([]byte, 4096) // the seam between two extents
	_, err = big.(io.ReaderAt).ReadAt(across, 1<<32-SectorSize-100)
	require.NoError(t, err)

	assert.Contains(t, judge.Run(t, "7z", "l", "-slt", file), fmt.Sprintf("Size = %d\n", int64(size)))
	assert.Contains(t, judge.Run(t, "xorriso", "-indev", file, "-lsl", "/"), fmt.Sprint(int64(size)))
}

const SectorSize = iso9660.SectorSize

func TestAnyTreeComesBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		src := fstest.MapFS{}
		files := rapid.SliceOfN(rapid.SliceOfN(rapid.StringMatching(`[A-Z0-9_]{1,8}`), 1, 6), 0, 20).Draw(t, "files")
		for i, elems := range files {
			src[strings.Join(elems, "/")+".X"] = &fstest.MapFile{Data: bytes.Repeat([]byte{byte(i + 1)},
				rapid.IntRange(0, 5000).Draw(t, "length"))}
		}
		im, err := iso9660.Lay(src, iso9660.Options{})
		if err != nil {
			t.Fatal(err)
		}
		var b bytes.Buffer
		if _, err := im.WriteTo(&b); err != nil {
			t.Fatal(err)
		}
		v, err := iso9660.Open(bytes.NewReader(b.Bytes()), im.Size())
		if err != nil {
			t.Fatal(err)
		}
		for name, f := range src {
			if got, err := fs.ReadFile(v, name); err != nil || !bytes.Equal(got, f.Data) {
				t.Fatalf("%s: %v", name, err)
			}
		}
	})
}

func TestLongAndOddNamesStayUnique(t *testing.T) {
	src := fstest.MapFS{}
	for i := range 30 {
		src[strings.Repeat("the same long beginning ", 3)+fmt.Sprint(i)+".data"] = &fstest.MapFile{Data: fmt.Append(
			nil, i)}
	}
	entries, err := open(t, lay(t, src)).ReadDir(".")
	require.NoError(t, err)
	assert.Len(t, entries, 30)
	for _, e := range entries {
		assert.LessOrEqual(t, len(e.Name()), 31)
	}
	_, err = iso9660.Lay(fstest.MapFS{"a/b/c/d/e/f/g/h/i.txt": {}}, iso9660.Options{})
	assert.ErrorContains(t, err, "deeper than 8")
}

func TestDamageIsNamedAndHarmless(t *testing.T) {
	good := lay(t, tree())
	rootAt := int(binary.LittleEndian.Uint32(good[16*2048+158:])) * 2048

	_, err := iso9660.Open(bytes.NewReader([]byte("short")), 5)
	assert.ErrorIs(t, err, iso9660.ErrNotISO)
	_, err = iso9660.Open(bytes.NewReader(make([]byte, 1<<20)), 1<<20)
	assert.ErrorIs(t, err, iso9660.ErrNotISO)

	broken := func(change func(b []byte)) []byte {
		b := bytes.Clone(good)
		change(b)
		return b
	}
	for name, c := range map[string]struct {
		image []byte
		say   string
	}{
		"block size":    {broken(func(b []byte) { b[16*2048+129] = 1 }), "are not supported"},
		"record length": {broken(func(b []byte) { b[rootAt+68] = 5 }), "impossible length"},
		"directory elsewhere": {broken(func(b []byte) { binary.LittleEndian.PutUint32(b[16*2048+158:], 1<<30) }),
			"outside the image"},
		"no primary": {broken(func(b []byte) { b[16*2048] = 9; b[17*2048] = 255 }),
			"no primary volume descriptor"},
	} {
		t.Run(name, func(t *testing.T) {
			v, err := iso9660.Open(bytes.NewReader(c.image), int64(len(c.image)))
			if err == nil {
				_, err = v.ReadDir(".")
			}
			var damage *iso9660.FormatError
			require.True(t, errors.As(err, &damage), "%v", err)
			assert.ErrorContains(t, err, c.say)
		})
	}

	cut := good[:rootAt+100_000]
	v := open(t, cut)
	assert.Greater(t, v.DeclaredSize(), int64(len(cut)), "truncation shows")
	_, err = fs.ReadFile(v, "DATA/SCENE1.BIN")
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
}

func TestADirectoryInsideItselfEnds(t *testing.T) {
	image := lay(t, fstest.MapFS{"A/B/C.TXT": {Data: []byte("c")}})
	dir := func(at int) int { return int(binary.LittleEndian.Uint32(image[at+68+2:])) * 2048 }
	rootAt := int(binary.LittleEndian.Uint32(image[16*2048+158:])) * 2048
	a := dir(rootAt)
	copy(image[a+68+2:a+68+18], image[rootAt+68+2:]) // B becomes A
	v := open(t, image)
	err := fs.WalkDir(v, ".", func(string, fs.DirEntry, error) error { return nil })
	require.NoError(t, err)
	_, err = v.ReadDir("A/B")
	assert.ErrorContains(t, err, "contains itself")
}

func FuzzOpen(f *testing.F) {
	good := lay(f, fstest.MapFS{"VESPER.INF": {Data: []byte("ID=VSP-1\n")}, "D/E.TXT": {Data: []byte("e")}})
	// The system area says nothing, so the fuzzer is spared it.
	const system = 16 * SectorSize
	f.Add(good[system:])
	f.Add(good[system:40000])
	f.Fuzz(func(t *testing.T, volume []byte) {
		image := append(make([]byte, system), volume...)
		v, err := iso9660.Open(bytes.NewReader(image), int64(len(image)))
		if err != nil {
			return
		}
		left := 200
		_ = fs.WalkDir(v, ".", func(name string, d fs.DirEntry, err error) error {
			if left--; left < 0 {
				return fs.SkipAll
			}
			if !fs.ValidPath(name) {
				t.Fatalf("%q is no valid path", name)
			}
			if err == nil && !d.IsDir() {
				if file, err := v.Open(name); err == nil {
					_, _ = io.CopyN(io.Discard, file, 1<<16)
				}
			}
			return nil
		})
	})
}
