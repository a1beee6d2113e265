package source_test

import (
	"archive/zip"
	"bytes"
	"io"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/core/title"
	"polytome/internal/testkit/coretest"
)

// TestWhatIsReadFromWhereItLies: all that can be had at any offset is, and is what a copy of it would be; what can only
// be unpacked from its beginning, or has no known length, is not.
func TestWhatIsReadFromWhereItLies(t *testing.T) {
	t.Cleanup(source.CloseReferred)
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, method := range map[string]uint16{"stored.iso": zip.Store, "packed.iso": zip.Deflate} {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: method})
		require.NoError(t, err)
		_, _ = w.Write(bytes.Repeat([]byte(name), 20_000))
	}
	require.NoError(t, z.Close())
	archive := fileOf(t, "two.zip", b.Bytes())
	in := func(f title.File, entry string, n int64) title.File {
		f.Entry, f.Size = entry, n
		return f
	}
	inf := coretest.Inf("VSP-00001", "x", "1/1", "full")
	image := fileOf(t, "disc.iso", coretest.Image(t, inf))
	whole := fileOf(t, "whole.bin", bytes.Repeat([]byte("0123456789"), 100_000))
	folder := title.File{Path: filepath.Dir(whole.Path)}
	sum := shape.Summed{Source: whole, Size: 10}
	for name, c := range map[string]struct {
		spec shape.Spec
		is   bool
	}{
		"a file": {shape.Spec{Source: whole, Size: whole.Size}, true},
		"a part": {shape.Spec{Shape: shape.Split, Source: whole, Offset: 1000, Size: 5000}, true},
		"a stored entry": {shape.Spec{Shape: shape.Unpack, Source: in(archive, "stored.iso", 200_000), Size: 200_000},
			true},
		"a packed entry": {shape.Spec{Shape: shape.Unpack, Source: in(archive, "packed.iso", 200_000), Size: 200_000},
			false},
		"a file of an image": {shape.Spec{Shape: shape.Extract, Source: in(image, "VESPER.INF", int64(len(inf))),
			Size: int64(len(inf))}, true},
		"an image that is built": {shape.BuildOf(folder, []title.Part{{Name: "whole.bin", File: whole}}, "BUILT"),
			true},
		"a text": {shape.Spec{Shape: shape.Written, Text: "text", Size: 4}, true},
		"a text with sums": {shape.Spec{Shape: shape.Written, Text: "00000000", Size: 8,
			Sums: []shape.Summed{sum}}, false},
		"of no known length":   {shape.Spec{Source: whole, Size: whole.Size, AtMost: true}, false},
		"a file of the target": {shape.Spec{Source: whole, Size: 1, With: &shape.With{Placed: true}}, false},
	} {
		o := &source.Opener{}
		recipe, ok, err := o.Recipe(&c.spec)
		require.NoError(t, err, name)
		assert.Equal(t, c.is, ok, name)
		if ok {
			want := bytesOf(t, o, &c.spec)
			s, err := source.Referred(recipe, c.spec.Size)
			require.NoError(t, err, name)
			assert.Equal(t, c.spec.Size, s.Size())
			var all sync.WaitGroup
			for k := range 4 { // several at a time, at any offset
				all.Go(func() {
					for at := int64(k) * 1000; at < s.Size(); at += 7777 {
						got := make([]byte, min(5000, s.Size()-at))
						n, err := s.ReadAt(got, at)
						if n < len(got) {
							assert.NoError(t, err, name)
						}
						assert.True(t, bytes.Equal(want[at:at+int64(len(got))], got), "%s at %d", name, at)
					}
				})
			}
			all.Wait()
		}
		require.NoError(t, o.Close())
	}
	_, err := source.Referred([]byte("nonsense"), 1)
	assert.Error(t, err)
}

// TestASourceThatBecomesAnotherOne is refused within a second or two, and read again when it is back.
func TestASourceThatBecomesAnotherOne(t *testing.T) {
	t.Cleanup(source.CloseReferred)
	f := fileOf(t, "a.iso", bytes.Repeat([]byte("a"), 10_000))
	recipe, ok, err := (&source.Opener{}).Recipe(&shape.Spec{Source: f, Size: f.Size})
	require.True(t, ok && err == nil)
	s, err := source.Referred(recipe, f.Size)
	require.NoError(t, err)
	read := func() error {
		_, err := io.ReadFull(io.NewSectionReader(s, 0, s.Size()), make([]byte, s.Size()))
		return err
	}
	require.NoError(t, read())
	soon := func(fails bool) {
		assert.Eventually(t, func() bool { return (read() != nil) == fails }, time.Minute, 20*time.Millisecond)
	}
	require.NoError(t, os.WriteFile(f.Path, bytes.Repeat([]byte("b"), 10_000), 0o600)) // at another time
	soon(true)
	require.NoError(t, os.WriteFile(f.Path, bytes.Repeat([]byte("a"), 10_000), 0o600))
	require.NoError(t, os.Chtimes(f.Path, f.Modified, f.Modified))
	soon(false)
	require.NoError(t, os.Remove(f.Path))
	soon(true)
}

// TestMoreSourcesThanAreOpenAtOnce can all be read, by several at a time.
func TestMoreSourcesThanAreOpenAtOnce(t *testing.T) {
	t.Cleanup(source.CloseReferred)
	var all sync.WaitGroup
	for i := range 200 {
		text := bytes.Repeat([]byte{byte(i)}, 100)
		f := fileOf(t, "x.bin", text)
		recipe, _, err := (&source.Opener{}).Recipe(&shape.Spec{Source: f, Size: f.Size})
		require.NoError(t, err)
		s, err := source.Referred(recipe, f.Size)
		require.NoError(t, err)
		all.Go(func() {
			for range 20 {
				b := make([]byte, 100)
				n, _ := s.ReadAt(b, 0)
				assert.True(t, n == 100 && bytes.Equal(b, text), i)
			}
		})
	}
	all.Wait()
}

// TestNobodyWaitsForASlowReader: while somebody is still reading a source, others are read, given up and opened again.
func TestNobodyWaitsForASlowReader(t *testing.T) {
	t.Cleanup(source.CloseReferred)
	referred := func() (s io.ReaderAt, section func(off, n int64) (*os.File, int64, func(), bool), file string) {
		f := fileOf(t, "x.bin", []byte("0123456789"))
		recipe, _, err := (&source.Opener{}).Recipe(&shape.Spec{Source: f, Size: f.Size})
		require.NoError(t, err)
		v, err := source.Referred(recipe, f.Size)
		require.NoError(t, err)
		return v, v.(interface {
			Section(off, n int64) (*os.File, int64, func(), bool)
		}).Section, f.Path
	}
	slow, section, _ := referred()
	held, at, done, ok := section(0, 10)
	require.True(t, ok)
	over := make(chan struct{})
	go func() {
		defer close(over)
		for range 100 { // more than are open at once
			s, _, _ := referred()
			_, err := s.ReadAt(make([]byte, 10), 0)
			assert.NoError(t, err)
		}
		_, err := slow.ReadAt(make([]byte, 10), 0)
		assert.NoError(t, err)
	}()
	select {
	case <-over:
	case <-time.After(time.Minute):
		t.Fatal("they wait for the slow one")
	}
	b := make([]byte, 10)
	_, err := held.ReadAt(b, at)
	require.NoError(t, err, "what is being read stays open")
	assert.Equal(t, "0123456789", string(b))
	done()
	_, err = held.ReadAt(b, at)
	assert.ErrorIs(t, err, os.ErrClosed, "and no longer")
}
