package source_test

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/core/title"
	"polytome/internal/format/picture"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

func fileOf(t testing.TB, name string, data []byte) title.File {
	f := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(f, data, 0o644))
	info, err := os.Stat(f)
	require.NoError(t, err)
	return title.File{Path: f, Size: info.Size(), Modified: info.ModTime()}
}

func bytesOf(t testing.TB, o *source.Opener, s *shape.Spec) []byte {
	c, err := o.Make(context.Background(), s)
	require.NoError(t, err)
	defer c.Close()
	b, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
	require.NoError(t, err)
	return b
}

// TestPartsMakeTheWhole cuts a file with holes into parts: together they are the file, and what they say of
// their holes is true.
func TestPartsMakeTheWhole(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(rt *rapid.T) {
		n := rapid.Int64Range(1, 3<<20).Draw(rt, "size")
		name := filepath.Join(dir, "whole")
		f, err := os.Create(name)
		require.NoError(t, err)
		require.NoError(t, f.Truncate(n))
		for range rapid.IntRange(0, 4).Draw(rt, "runs") {
			_, err := f.WriteAt([]byte("some data"), rapid.Int64Range(0, max(0, n-9)).Draw(rt, "at"))
			require.NoError(t, err)
		}
		require.NoError(t, f.Truncate(n))
		require.NoError(t, f.Close())
		info, err := os.Stat(name)
		require.NoError(t, err)
		src := title.File{Path: name, Size: n, Modified: info.ModTime()}
		part := rapid.Int64Range(1000, 2<<20).Draw(rt, "part")
		o := &source.Opener{}
		defer o.Close()
		var whole []byte
		for off := int64(0); off < n; off += part {
			s := &shape.Spec{Source: src, Shape: shape.Split, Offset: off, Size: min(part, n-off)}
			c, err := o.Make(context.Background(), s)
			require.NoError(t, err)
			b, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
			require.NoError(t, err)
			for at := int64(0); at < c.Size(); {
				start, end := c.Data(at)
				if start < at || start > c.Size() || end < start || end > c.Size() {
					rt.Fatalf("data at %d from %d to %d of %d", at, start, end, c.Size())
				}
				if len(bytes.Trim(b[at:start], "\x00")) > 0 {
					rt.Fatalf("there is data from %d to %d", at, start)
				}
				at = max(end, start)
				if start == c.Size() {
					break
				}
			}
			require.NoError(t, c.Close())
			whole = append(whole, b...)
		}
		want, err := os.ReadFile(name)
		require.NoError(t, err)
		if !bytes.Equal(want, whole) {
			rt.Fatalf("the parts are not the whole")
		}
	})
}

func TestChecksumsAreFilledIn(t *testing.T) {
	data := bytes.Repeat([]byte("Copper Tide "), 200_000)
	src := fileOf(t, "tide.iso", data)
	s := &shape.Spec{Shape: shape.Written, Text: "crc = 00000000 and 00000000", Sums: []shape.Summed{
		{At: 6, Source: src, Offset: 0, Size: 1_000_000}, {At: 19, Source: src, Offset: 1_000_000,
			Size: src.Size - 1_000_000}}}
	got := string(bytesOf(t, &source.Opener{}, s))
	assert.Equal(t, fmt.Sprintf("crc = %08x and %08x", crc32.ChecksumIEEE(data[:1_000_000]),
		crc32.ChecksumIEEE(data[1_000_000:])), got)
	first := filepath.Join(t.TempDir(), "first")
	require.NoError(t, os.WriteFile(first, data[:1_000_000], 0o644))
	assert.Contains(t, judge.Run(t, "7z", "h", "-scrcCRC32", first),
		fmt.Sprintf("%08X", crc32.ChecksumIEEE(data[:1_000_000])), "a foreign tool agrees")
}

func TestWhatIsInArchivesAndImages(t *testing.T) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	want := map[string]string{"deep/a.dat": "alpha", "b.dat": string(bytes.Repeat([]byte("beta"), 100_000))}
	for name, text := range want {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, _ = w.Write([]byte(text))
	}
	require.NoError(t, z.Close())
	packed := fileOf(t, "two.zip", b.Bytes())
	o := &source.Opener{}
	defer o.Close()
	for name, text := range want {
		f := packed
		f.Entry, f.Size = name, int64(len(text))
		assert.Equal(t, text, string(bytesOf(t, o, &shape.Spec{Source: f, Shape: shape.Unpack, Size: f.Size})))
	}
	image := fileOf(t, "disc.iso", coretest.Image(t, coretest.Inf("VSP-00001", "x", "1/1", "full")))
	f := image
	f.Entry, f.Size = "VESPER.INF", int64(len(coretest.Inf("VSP-00001", "x", "1/1", "full")))
	assert.Equal(t, coretest.Inf("VSP-00001", "x", "1/1", "full"),
		string(bytesOf(t, o, &shape.Spec{Source: f, Shape: shape.Extract, Size: f.Size})))

	for name, c := range map[string]struct {
		entry string
		size  int64
		say   string
	}{"not in it": {"c.dat", 5, "c.dat"}, "of another length": {"b.dat", 5, "it had 5 bytes"}, "a folder": {"deep", 0,
		"deep"}} {
		f := packed
		f.Entry, f.Size = c.entry, c.size
		_, err := o.Make(context.Background(), &shape.Spec{Source: f, Size: c.size})
		var wrong *shape.SourceError
		assert.ErrorAs(t, err, &wrong, name)
		assert.ErrorContains(t, err, c.say)
	}
	f = title.File{Path: filepath.Join(t.TempDir(), "gone.zip"), Entry: "a", Size: 1}
	_, err := o.Make(context.Background(), &shape.Spec{Source: f, Size: 1})
	assert.ErrorContains(t, err, "reading the source")
	f = fileOf(t, "short.iso", []byte("short"))
	_, err = o.Make(context.Background(), &shape.Spec{Source: f, Offset: 3, Size: 9})
	assert.ErrorContains(t, err, "it has 5 bytes, but 12 bytes are needed: unexpected EOF")
}

func TestPicturesAreBroughtToSize(t *testing.T) {
	wide := image.NewRGBA(image.Rect(0, 0, 800, 200))
	for x := range 800 {
		for y := range 200 {
			wide.Set(x, y, color.RGBA{uint8(x), uint8(y), uint8(x * y), 255})
		}
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, wide))
	src := fileOf(t, "cover.png", b.Bytes())
	for name, c := range map[string]struct {
		picture picture.Rule
		w, h    int
	}{
		"inside":      {picture.Rule{Width: 256, Height: 368, Fit: "inside", Format: "jpg"}, 256, 64},
		"exact":       {picture.Rule{Width: 128, Height: 128, Fit: "exact", Format: "png"}, 128, 128},
		"cut":         {picture.Rule{Width: 100, Height: 140, Fit: "cut", Format: "jpg"}, 100, 140},
		"small files": {picture.Rule{Width: 256, Height: 368, Fit: "inside", Format: "jpg", Largest: 5000}, 256, 64},
	} {
		got := bytesOf(t, &source.Opener{}, &shape.Spec{Source: src, Shape: shape.Fitted,
			With: &shape.With{Picture: &c.picture}})
		head, kind, err := image.DecodeConfig(bytes.NewReader(got))
		require.NoError(t, err, name)
		assert.Equal(t, [2]int{c.w, c.h}, [2]int{head.Width, head.Height}, name)
		assert.Equal(t, map[string]string{"jpg": "jpeg", "png": "png"}[c.picture.Format], kind, name)
		if most := c.picture.Largest; most > 0 {
			assert.LessOrEqual(t, int64(len(got)), most)
		}
		again := bytesOf(t, &source.Opener{}, &shape.Spec{Source: src, Shape: shape.Fitted,
			With: &shape.With{Picture: &c.picture}})
		assert.True(t, bytes.Equal(got, again), "the same bytes each time")
	}
	bad := fileOf(t, "cover.jpg", []byte("no picture"))
	_, err := (&source.Opener{}).Make(context.Background(), &shape.Spec{Source: bad, Shape: shape.Fitted,
		With: &shape.With{Picture: &picture.Rule{Width: 9, Height: 9, Format: "jpg"}}, Size: 10})
	assert.ErrorContains(t, err, "it is not a readable picture")
	var j bytes.Buffer
	require.NoError(t, jpeg.Encode(&j, wide, nil))
	cut := fileOf(t, "cut.jpg", j.Bytes()[:j.Len()/2])
	_, err = (&source.Opener{}).Make(context.Background(), &shape.Spec{Source: cut, Shape: shape.Fitted,
		With: &shape.With{Picture: &picture.Rule{Width: 9, Height: 9, Format: "jpg"}}, Size: 10})
	assert.ErrorContains(t, err, "reading the source")
}

// TestATargetThatIsGoneIsNoBadSource has a file be made of one of the target, which has gone away: the run may wait for
// it.
func TestATargetThatIsGoneIsNoBadSource(t *testing.T) {
	o := &source.Opener{At: func(context.Context, string) (target.Content, error) {
		return nil, fmt.Errorf("%w: pulled", target.ErrGone)
	}}
	defer o.Close()
	for _, as := range []shape.Name{shape.Whole, shape.Fitted, shape.Set} {
		_, err := o.Make(context.Background(), &shape.Spec{Shape: as, Source: title.File{Path: "FACES/x.png"},
			With: &shape.With{Placed: true, Picture: &picture.Rule{Width: 1, Height: 1, Format: "png"}}})
		var bad *shape.SourceError
		assert.ErrorIs(t, err, target.ErrGone)
		assert.False(t, errors.As(err, &bad), "%s: it is the target, and no source", as)
	}
	_, err := (&source.Opener{}).Make(context.Background(), &shape.Spec{Source: title.File{Path: "x"},
		With: &shape.With{Placed: true}})
	assert.ErrorContains(t, err, "none is written to")
}
