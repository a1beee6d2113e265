package iso9660_test

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/format/iso9660"
	"polytome/internal/format/udf"
	"polytome/internal/testkit/judge"
)

// season is a tree with names that only the wider name spaces can hold.
func season() fstest.MapFS {
	m := tree()
	long := "A very long name, with commas & signs, as people give them when nothing keeps them from it - " +
		strings.Repeat("and on ", 12) + ".data"
	m[long] = &fstest.MapFile{Data: []byte("long"), ModTime: day}
	m["sound/the long way round/Étude n° 3 ж.txt"] = &fstest.MapFile{Data: []byte("étude"), ModTime: day}
	m["a/b/c/d/e/f/g/h/i/j/deep.txt"] = &fstest.MapFile{Data: []byte("deep"), ModTime: day}
	m["CASE/readme.TXT"], m["CASE/README.txt"] = &fstest.MapFile{Data: []byte("1"), ModTime: day},
		&fstest.MapFile{Data: []byte("2"), ModTime: day}
	return m
}

// all are the files of a tree with their contents.
func all(t testing.TB, fsys fs.FS) map[string]string {
	out := map[string]string{}
	require.NoError(t, fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := fs.ReadFile(fsys, name)
		out[name] = string(b)
		return err
	}))
	return out
}

func build(t testing.TB, fsys fs.FS, o iso9660.Options) []byte {
	o.VolumeID, o.Created = "COPPER_TIDE", day
	im, err := iso9660.Lay(fsys, o)
	require.NoError(t, err)
	var b bytes.Buffer
	_, err = im.WriteTo(&b)
	require.NoError(t, err)
	require.EqualValues(t, im.Size(), b.Len(), "the size reported beforehand is exact")
	r := im.Reader()
	defer r.Close()
	for off := int64(0); off < im.Size(); off += 37_777 { // the same at any offset
		part := make([]byte, min(9_999, im.Size()-off))
		_, err := r.ReadAt(part, off)
		require.NoError(t, err)
		require.True(t, bytes.Equal(part, b.Bytes()[off:][:len(part)]))
	}
	return b.Bytes()
}

func TestBuiltImagesAreReadWholeByOthers(t *testing.T) {
	src := season()
	want := all(t, src)
	for name, o := range map[string]iso9660.Options{
		"rock ridge": {RockRidge: true}, "joliet": {Joliet: true}, "both": {RockRidge: true, Joliet: true},
		"bridge": {UDF: true, Joliet: true, RockRidge: true}, "udf": {UDF: true}, "level 1": {RockRidge: true,
			Level: 1},
	} {
		t.Run(name, func(t *testing.T) {
			src, want := src, want
			if o.Joliet && !o.RockRidge { // names of 64 characters, in which letter case does not distinguish files
				src, want = fstest.MapFS{}, map[string]string{}
				for n, f := range season() {
					if len(n) < 60 && !strings.HasPrefix(n, "CASE") {
						src[n], want[n] = f, string(f.Data)
					}
				}
			}
			image := build(t, src, o)
			assert.Equal(t, image, build(t, src, o), "the same input gives the same bytes")
			file := filepath.Join(t.TempDir(), "a.iso")
			require.NoError(t, os.WriteFile(file, image, 0o644))

			v := open(t, image)
			if name != "udf" {
				assert.Equal(t, want, all(t, v), "we read it")
				require.NoError(t, fstest.TestFS(v, "VESPER.INF"))
				info, err := fs.Stat(v, "DATA/ONE/B.TXT")
				require.NoError(t, err)
				assert.True(t, day.Equal(info.ModTime()))
			}
			out := t.TempDir()
			seven := []string{"x", "-o" + out, file}
			if o.UDF {
				u, err := udf.Open(bytes.NewReader(image), int64(len(image)))
				require.NoError(t, err)
				assert.Equal(t, "COPPER_TIDE", u.Identifier)
				assert.Equal(t, want, all(t, u))
				assert.True(t, udf.Recognised(bytes.NewReader(image), int64(len(image))))
				seven = append(seven, "-tudf")
			}
			judge.Run(t, "7z", seven...)
			if name == "bridge" || name == "joliet" || name == "udf" {
				assert.Equal(t, want, all(t, os.DirFS(out)), "7z reads it whole")
			}
			assert.Contains(t, judge.Run(t, "isoinfo", "-d", "-i", file), "Volume id: COPPER_TIDE")
			if o.RockRidge {
				var theirs, ours []string
				for l := range strings.Lines(judge.Run(t, "isoinfo", "-R", "-f", "-i", file)) {
					theirs = append(theirs, strings.TrimPrefix(strings.TrimSpace(l), "/"))
				}
				for n := range want {
					ours = append(ours, n)
				}
				slices.Sort(ours)
				for _, n := range ours {
					assert.Contains(t, theirs, n)
				}
				back := t.TempDir()
				judge.Run(t, "xorriso", "-osirrox", "on", "-indev", file, "-extract", "/", filepath.Join(back, "x"))
				judge.Run(t, "chmod", "-R", "u+w", back)
				assert.Equal(t, want, all(t, os.DirFS(filepath.Join(back, "x"))), "xorriso reads it whole")
			}
			if o.Joliet {
				assert.Contains(t, judge.Run(t, "isoinfo", "-J", "-f", "-i", file), "/sound/the long way round/")
			}
		})
	}
}

func TestFilesLieInTheirOrder(t *testing.T) {
	order := []string{"MANY/F100.DAT", "VESPER.INF", "/DATA/ONE/B.TXT"}
	v := open(t, build(t, tree(), iso9660.Options{Order: order}))
	var last int64
	for _, name := range append(order, "DATA/SCENE1.BIN") {
		runs, err := v.Where(strings.Trim(name, "/"))
		require.NoError(t, err)
		assert.Greater(t, runs[0].At, last, name)
		last = runs[0].At
	}
}

func TestWhatCannotBeBuilt(t *testing.T) {
	for _, c := range []struct {
		fsys fs.FS
		o    iso9660.Options
		want string
	}{
		{fstest.MapFS{"a/b/c/d/e/f/g/h/i/x": {}}, iso9660.Options{}, "add Joliet, Rock Ridge or UDF"},
		{fstest.MapFS{"link": {Mode: fs.ModeSymlink}}, iso9660.Options{},
			"only files and folders can go into an image"},
		{newHollow("BIG.DAT", 5<<30, "a", "b"), iso9660.Options{Level: 2}, "use level 3"},
		{tree(), iso9660.Options{Level: 4}, "there is no interchange level 4"},
		{fstest.MapFS{strings.Repeat("n", 255): {}}, iso9660.Options{UDF: true}, "too long for UDF"},
	} {
		_, err := iso9660.Lay(c.fsys, c.o)
		assert.ErrorContains(t, err, c.want)
	}
	im, err := iso9660.Lay(shrinking{tree()}, iso9660.Options{})
	require.NoError(t, err)
	_, err = im.WriteTo(io.Discard)
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	assert.ErrorContains(t, err, "DATA/SCENE1.BIN", "the file that ended early is named")
}

// shrinking has a file that is shorter than it was listed.
type shrinking struct{ fstest.MapFS }

func (s shrinking) Open(name string) (fs.File, error) {
	if name == "DATA/SCENE1.BIN" {
		return fstest.MapFS{"DATA/SCENE1.BIN": {Data: make([]byte, 1000)}}.Open(name)
	}
	return s.MapFS.Open(name)
}

func TestAnyTreeIsReadBackInEveryNameSpace(t *testing.T) {
	name := rapid.StringMatching(`[A-Za-z0-9 ,&é~ж_-]{1,40}(\.[a-z]{1,4})?`)
	rapid.Check(t, func(rt *rapid.T) {
		src := fstest.MapFS{}
		for i := range rapid.IntRange(0, 60).Draw(rt, "files") {
			dir := rapid.SampledFrom([]string{"", "one/", "one/two/", "Three 3/"}).Draw(rt, "dir")
			n := strings.TrimSpace(name.Draw(rt, "name"))
			src[fmt.Sprintf("%s%d %s", dir, i, n)] = &fstest.MapFile{Data: bytes.Repeat([]byte{byte(i)},
				rapid.IntRange(0, 5000).Draw(rt, "size")), ModTime: day}
		}
		want := all(t, src)
		image := build(t, src, iso9660.Options{RockRidge: true, Joliet: true, UDF: true})
		require.Equal(rt, want, all(t, open(t, image)))
		u, err := udf.Open(bytes.NewReader(image), int64(len(image)))
		require.NoError(rt, err)
		require.Equal(rt, want, all(t, u))
		require.Equal(rt, want, all(t, open(t, build(t, src, iso9660.Options{Joliet: true}))))
	})
}

// TestABridgeOfALargeFile: a file of more than one allocation descriptor of UDF, and of more than one extent of ISO
// 9660, is whole on both sides.
func TestABridgeOfALargeFile(t *testing.T) {
	im, err := iso9660.Lay(newHollow("BIG.DAT", 5<<30+777, "the beginning", "the end"), iso9660.Options{UDF: true,
		Created: day})
	require.NoError(t, err)
	r := im.Reader()
	defer r.Close()
	iso, err := iso9660.Open(r, r.Size())
	require.NoError(t, err)
	u, err := udf.Open(r, r.Size())
	require.NoError(t, err)
	for _, v := range []fs.FS{iso, u} {
		f, err := v.Open("BIG.DAT")
		require.NoError(t, err)
		info, err := f.Stat()
		require.NoError(t, err)
		require.EqualValues(t, 5<<30+777, info.Size())
		b := make([]byte, 13)
		_, err = f.(io.ReaderAt).ReadAt(b, 0)
		require.NoError(t, err)
		assert.Equal(t, "the beginning", string(b))
		_, err = f.(io.ReaderAt).ReadAt(b[:7], 5<<30+770)
		require.NoError(t, err)
		assert.Equal(t, "the end", string(b[:7]))
		require.NoError(t, f.Close())
	}
}
