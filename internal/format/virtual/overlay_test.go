package virtual_test

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"math/rand"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/exfat"
	"polytome/internal/format/virtual"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/volumetest"
)

// TestAnOverlayIsAVolumeThatCanBeWrittenTo: against a copy in memory, with the file opened again now and then, and cut.
func TestAnOverlayIsAVolumeThatCanBeWrittenTo(t *testing.T) {
	for _, file := range []string{"", filepath.Join(t.TempDir(), "overlay")} {
		r := rand.New(rand.NewSource(7))
		below := noise(1, 1<<20+100)
		model := bytes.Clone(below)
		open := func() *virtual.Overlay {
			o, err := virtual.OpenOverlay(bytes.NewReader(below), int64(len(below)), file, like(42))
			require.NoError(t, err)
			return o
		}
		o := open()
		for n := range 300 {
			at := r.Intn(len(below))
			b := noise(n, r.Intn(min(9000, len(below)-at)+1))
			_, err := o.WriteAt(b, int64(at))
			require.NoError(t, err)
			copy(model[at:], b)
			at = r.Intn(len(below))
			got := make([]byte, r.Intn(20_000))
			k, err := o.ReadAt(got, int64(at))
			require.Equal(t, min(len(got), len(below)-at), k)
			if k < len(got) {
				require.ErrorIs(t, err, io.EOF)
			}
			require.True(t, bytes.Equal(model[at:at+k], got[:k]), n)
			if n%50 == 49 && file != "" {
				require.NoError(t, errors.Join(o.Sync(), o.Close()))
				f, err := os.OpenFile(file, os.O_WRONLY|os.O_APPEND, 0)
				require.NoError(t, err)
				_, err = f.Write(noise(n, 1+r.Intn(5000))) // a page that was being written when the power went
				require.NoError(t, errors.Join(err, f.Close()))
				o = open()
			}
		}
		got, err := io.ReadAll(io.NewSectionReader(o, 0, int64(len(below))))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(model, got))
		_, err = o.WriteAt([]byte("xx"), int64(len(below))-1)
		assert.Error(t, err)
		require.NoError(t, o.Close())
		if file != "" { // what does not count any longer does not stay for ever
			o = open()
			for range 3000 {
				_, err := o.WriteAt(model[:4096], 0)
				require.NoError(t, err)
			}
			require.NoError(t, o.Close())
			long, err := os.Stat(file)
			require.NoError(t, err)
			o = open()
			got, err := io.ReadAll(io.NewSectionReader(o, 0, int64(len(below))))
			require.NoError(t, err)
			assert.True(t, bytes.Equal(model, got))
			require.NoError(t, o.Close())
			short, err := os.Stat(file)
			require.NoError(t, err)
			assert.Less(t, short.Size(), long.Size()/5)
			_, err = virtual.OpenOverlay(bytes.NewReader(below), int64(len(below)), file, like(43))
			assert.ErrorIs(t, err, virtual.ErrOtherVolume)
			require.NoError(t, os.WriteFile(file, []byte("something else that is long enough"), 0o600))
			_, err = virtual.OpenOverlay(bytes.NewReader(below), int64(len(below)), file, like(42))
			assert.ErrorContains(t, err, "it is no overlay")
		}
	}
}

// TestAConsoleWritesItsSaves: the volume below stays as it is, and with what was written it is sound for others.
func TestAConsoleWritesItsSaves(t *testing.T) {
	v := fresh(t, "exfat", 64*size.MiB)
	require.NoError(t, show(v, []virtual.File{file("FULL/a.iso", noise(1, 1<<20))}, false))
	before := written(t, v)
	o, err := virtual.OpenOverlay(v, v.Size(), "", like(0))
	require.NoError(t, err)
	assert.Empty(t, o.Pages())
	on, err := exfat.Open(o, v.Size())
	require.NoError(t, err)
	require.NoError(t, on.MakeFolder(ctx, "cards"))
	require.NoError(t, volumetest.Put(on, "cards/a.crd", noise(9, 100_000)))
	require.NoError(t, on.Close())
	assert.NotEmpty(t, o.Pages())
	same, err := os.ReadFile(before)
	require.NoError(t, err)
	now, err := os.ReadFile(written(t, v))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(same, now), "the volume below is as it was")
	img := filepath.Join(t.TempDir(), "with.img")
	f, err := os.Create(img)
	require.NoError(t, err)
	_, err = io.Copy(f, io.NewSectionReader(o, 0, v.Size()))
	require.NoError(t, errors.Join(err, f.Close()))
	judge.Run(t, "fsck.exfat", "-n", img)
	on, err = exfat.Open(volumetest.OpenFile(t, img), v.Size())
	require.NoError(t, err)
	b, err := fsReadFile(on, "cards/a.crd")
	require.NoError(t, err)
	assert.True(t, bytes.Equal(noise(9, 100_000), b))
	all := make([]byte, v.Size())
	_, err = o.ReadAt(all, 0)
	require.NoError(t, err)
	for at := int64(0); at < v.Size(); {
		start, end := o.Data(at)
		assert.Empty(t, bytes.Trim(all[at:start], "\x00"))
		if at = end; start == end {
			break
		}
	}
}

func fsReadFile(v *volume.Volume, name string) ([]byte, error) { return fs.ReadFile(v.FS(), name) }

func like(n uint64) func() (uint64, error) { return func() (uint64, error) { return n, nil } }
