package virtual_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand"
	fast "math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/exfat"
	"polytome/internal/format/fat"
	"polytome/internal/format/virtual"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/testkit/judge"
)

var ctx = context.Background()

// bytesOf is a source in memory.
type bytesOf struct{ *bytes.Reader }

func (b bytesOf) Size() int64 { return b.Reader.Size() }

func noise(seed, n int) []byte {
	b := make([]byte, n)
	_, _ = fast.NewChaCha8([32]byte{byte(seed), byte(seed >> 8)}).Read(b)
	return b
}

func file(name string, data []byte) virtual.File {
	return virtual.File{Path: name, Modified: time.Date(2026, 3, 14, 9, 26, 52, 0, time.UTC),
		Source: bytesOf{bytes.NewReader(data)}}
}

func fresh(t testing.TB, filesystem string, bytes int64) *virtual.Volume {
	cluster := int64(4096)
	if filesystem == "fat32" {
		cluster = 512
	}
	v, err := virtual.New(virtual.Options{Filesystem: filesystem, Label: "GAMES", Serial: 7, Size: bytes,
		Cluster: cluster})
	require.NoError(t, err)
	return v
}

// written writes a volume into an image.
func written(t testing.TB, v *virtual.Volume) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "volume.img")
	f, err := os.Create(name)
	require.NoError(t, err)
	_, err = io.Copy(f, io.NewSectionReader(v, 0, v.Size()))
	require.NoError(t, errors.Join(err, f.Close()))
	return name
}

// reader is a volume as a device that nobody writes to.
type reader struct{ *virtual.Volume }

func (reader) WriteAt([]byte, int64) (int, error) { return 0, errors.New("it is only read") }
func (reader) Sync() error                        { return nil }

// contents are the files that a volume shows.
func contents(t testing.TB, v *virtual.Volume) map[string][]byte {
	t.Helper()
	boot := make([]byte, 512)
	_, err := v.ReadAt(boot, 0)
	require.NoError(t, err)
	open := fat.Open
	if exfat.Is(boot) {
		open = exfat.Open
	}
	on, err := open(reader{v}, v.Size())
	require.NoError(t, err)
	out := map[string][]byte{}
	require.NoError(t, fs.WalkDir(on.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			out[name], err = fs.ReadFile(on.FS(), name)
		}
		return err
	}))
	return out
}

func pieces(t testing.TB, v *virtual.Volume) map[string][]volume.Run {
	t.Helper()
	on, err := exfat.Open(reader{v}, v.Size())
	require.NoError(t, err)
	all, err := on.Files(ctx)
	require.NoError(t, err)
	out := map[string][]volume.Run{}
	for _, p := range all {
		if !p.Folder {
			out[p.Path] = p.Runs
		}
	}
	return out
}

// TestForeignJudges: written into an image, the volume is sound, and has the files whole.
func TestForeignJudges(t *testing.T) {
	for _, filesystem := range []string{"exfat", "fat32"} {
		v := fresh(t, filesystem, 64*size.MiB)
		want := map[string][]byte{"FULL/VSP-20417 - Copper Tide.iso": noise(1, 5<<20+17),
			"FULL/VSP-20502 - Paper Falcons.iso": noise(2,
				1<<20), "SHORT/VSP-21002 - Saffron Circuit.iso": noise(3, 100), "empty.txt": {}}
		var files []virtual.File
		for name, data := range want {
			files = append(files, file(name, data))
		}
		require.NoError(t, v.Show(ctx, files, false))
		img := written(t, v)
		judge.Run(t, "fsck."+map[string]string{"exfat": "exfat", "fat32": "fat"}[filesystem], "-n", img)
		assert.Equal(t, want, contents(t, v))
		if filesystem == "fat32" {
			out := filepath.Join(t.TempDir(), "tide.iso")
			judge.Run(t, "mcopy", "-i", img, "::/FULL/VSP-20417 - Copper Tide.iso", out)
			b, err := os.ReadFile(out)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(want["FULL/VSP-20417 - Copper Tide.iso"], b))
		}
		assert.Equal(t, "GAMES", v.Info().Label)
		assert.EqualValues(t, 7, v.Info().Serial)
	}
}

// TestDataAndHoles: what is not said to be data is zeros.
func TestDataAndHoles(t *testing.T) {
	v := fresh(t, "exfat", 64*size.MiB)
	require.NoError(t, v.Show(ctx, []virtual.File{file("a.iso", noise(1, 3<<20+17)), file("b.iso", noise(2, 100)), file(
		"c/d.iso", noise(3, 1<<20))}, false))
	whole := make([]byte, v.Size())
	_, err := v.ReadAt(whole, 0)
	require.NoError(t, err)
	data := int64(0)
	for at := int64(0); at < v.Size(); {
		start, end := v.Data(at)
		require.True(t, at <= start && start <= end && end <= v.Size())
		assert.Empty(t, bytes.Trim(whole[at:start], "\x00"), "between %d and %d", at, start)
		if start == end {
			break
		}
		data += end - start
		at = end
	}
	assert.Less(t, data, int64(8<<20))
	assert.Greater(t, data, int64(4<<20))
}

// TestWhatIsThereStaysWhereItIs: when files come, when they go while somebody may read, and when the volume is taken up
// again.
func TestWhatIsThereStaysWhereItIs(t *testing.T) {
	r := rand.New(rand.NewSource(3))
	v := fresh(t, "exfat", 256*size.MiB)
	shown := map[string][]byte{}
	for n := range 40 {
		before := pieces(t, v)
		prune := n%5 == 4
		want := map[string][]byte{}
		for name, data := range shown {
			if r.Intn(4) > 0 {
				want[name] = data
			}
		}
		for range r.Intn(4) {
			name := fmt.Sprintf("%s/game %d.iso", []string{"FULL", "SHORT", "A/B"}[r.Intn(3)], n*10+r.Intn(10))
			want[name] = noise(n, r.Intn(3<<20))
		}
		var files []virtual.File
		for name, data := range want {
			files = append(files, file(name, data))
		}
		require.NoError(t, v.Show(ctx, files, prune))
		if prune {
			shown = want
		} else {
			for name, data := range want {
				shown[name] = data
			}
		}
		require.Equal(t, shown, contents(t, v), n)
		now := pieces(t, v)
		for name, runs := range before {
			if _, still := shown[name]; still {
				assert.Equal(t, runs, now[name], name)
			}
		}
		for name, runs := range now {
			assert.LessOrEqual(t, len(runs), 1, "%s is contiguous", name)
		}
		var saved bytes.Buffer
		require.NoError(t, v.Save(&saved))
		again, err := virtual.Load(bytes.NewReader(saved.Bytes()))
		require.NoError(t, err)
		assert.Equal(t, now, pieces(t, again))
		if n%3 == 0 { // restarted
			v = again
			all := slices.Clone(files)
			for name, data := range shown {
				if _, is := want[name]; !is {
					all = append(all, file(name, data))
				}
			}
			require.NoError(t, v.Show(ctx, all, false))
			require.Equal(t, shown, contents(t, v), n)
		}
	}
	judge.Run(t, "fsck.exfat", "-n", written(t, v))
}

// source is one that changes under way.
type source struct {
	data []byte
	size int64
	err  error
}

func (s *source) Size() int64 { return s.size }

func (s *source) ReadAt(b []byte, off int64) (int, error) {
	if s.err != nil {
		return 0, s.err
	}
	return bytes.NewReader(s.data).ReadAt(b, off)
}

// TestASourceThatVanishes harms nobody else, and heals.
func TestASourceThatVanishes(t *testing.T) {
	v := fresh(t, "exfat", 64*size.MiB)
	a, b := &source{data: noise(1, 1<<20), size: 1 << 20}, &source{data: noise(2, 1<<20), size: 1 << 20}
	require.NoError(t, v.Show(ctx, []virtual.File{{Path: "a.iso", Source: a}, {Path: "b.iso", Source: b}}, false))
	where := func(name string) int64 {
		for at := int64(0); at < v.Size(); at += 4096 {
			if n, off, ok := v.At(at); ok && n == name && off == 0 {
				return at
			}
		}
		t.Fatalf("%s lies nowhere", name)
		return 0
	}
	at := where("a.iso")
	buf := make([]byte, 8192)
	a.err = errors.New("the disk is gone")
	_, err := v.ReadAt(buf, at)
	var wrong *virtual.ReadError
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, "a.iso", wrong.Path)
	assert.ErrorContains(t, err, "a.iso cannot be read at byte 0: the disk is gone")
	_, err = v.ReadAt(buf, where("b.iso"))
	require.NoError(t, err)
	assert.Equal(t, b.data[:8192], buf)
	a.err, a.data = nil, a.data[:6000]
	n, err := v.ReadAt(buf, at)
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF, "it is shorter than it was")
	assert.Equal(t, 6000, n)
	a.data = noise(1, 1<<20)
	_, err = v.ReadAt(buf, at)
	require.NoError(t, err)

	// another length is not shown while somebody may read, and is at the next time
	longer := []virtual.File{{Path: "A.ISO", Source: &source{data: noise(4, 2<<20), size: 2 << 20}}, {Path: "b.iso",
		Source: b}}
	err = v.Show(ctx, longer, false)
	assert.ErrorIs(t, err, virtual.ErrChanged)
	assert.Len(t, contents(t, v)["a.iso"], 1<<20)
	require.NoError(t, v.Show(ctx, longer, true))
	assert.Len(t, contents(t, v)["A.ISO"], 2<<20)

	// more than there is room for: the rest is there
	err = v.Show(ctx, append(longer, virtual.File{Path: "huge.iso", Source: &source{size: 1 << 40}}, file("c.iso",
		noise(5, 100))), false)
	var refused *virtual.ChangeError
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, "huge.iso", refused.Path)
	assert.Contains(t, contents(t, v), "c.iso")

	loaded, err := virtual.Load(bytes.NewReader(nil))
	assert.Error(t, err)
	assert.Nil(t, loaded)
}

// FuzzLoad: what was saved and spoilt is an error, or a volume.
func FuzzLoad(f *testing.F) {
	v := fresh(f, "exfat", 8*size.MiB)
	if err := v.Show(ctx, []virtual.File{file("a/b.iso", noise(1, 10_000))}, false); err != nil {
		f.Fatal(err)
	}
	var saved bytes.Buffer
	if err := v.Save(&saved); err != nil {
		f.Fatal(err)
	}
	f.Add(saved.Bytes())
	f.Add(saved.Bytes()[:5000])
	f.Fuzz(func(t *testing.T, b []byte) {
		v, err := virtual.Load(bytes.NewReader(b))
		if err == nil {
			_, _ = v.ReadAt(make([]byte, 1<<16), 0)
		}
	})
}

// BenchmarkTenThousand takes up a volume of 20 TiB with 10,000 titles that was saved, and shows them; it reports what
// making it took, and the memory that it keeps.
func BenchmarkTenThousand(b *testing.B) {
	var files []virtual.File
	for i := range 10_000 {
		files = append(files, virtual.File{Path: fmt.Sprintf("FULL/VSP-%05d - A Title of Some Length.iso", i),
			Source: &source{size: 2 << 30}})
	}
	begun := time.Now()
	v, err := virtual.New(virtual.Options{Filesystem: "exfat", Label: "GAMES", Size: 21 << 40, Cluster: 1 << 20})
	require.NoError(b, err)
	require.NoError(b, v.Show(ctx, files, false))
	made := time.Since(begun)
	var saved bytes.Buffer
	require.NoError(b, v.Save(&saved))
	v = nil
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	for b.Loop() {
		v, err = virtual.Load(bytes.NewReader(saved.Bytes()))
		require.NoError(b, err)
		require.NoError(b, v.Show(ctx, files, false))
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	b.ReportMetric(made.Seconds(), "s-made")
	b.ReportMetric(float64(int64(after.HeapAlloc)-int64(before.HeapAlloc))/1e6, "MB-kept")
	runtime.KeepAlive(v)
}
