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
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
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

// show has a volume show files; with prune, those go that are not among them.
func show(v *virtual.Volume, files []virtual.File, prune bool) error {
	wanted := map[string]bool{}
	var errs []error
	for _, f := range files {
		wanted[strings.ToUpper(f.Path)] = true
		if dir := path.Dir(f.Path); dir != "." {
			errs = append(errs, v.MakeFolder(ctx, dir))
		}
		errs = append(errs, v.Put(ctx, f))
	}
	if !prune {
		return errors.Join(append(errs, v.Publish())...)
	}
	var there []string
	errs = append(errs, v.Each(ctx, func(name string, n *volume.Node) { there = append(there, name) }, nil))
	for _, name := range slices.Backward(slices.Sorted(slices.Values(there))) { // what is inside comes first
		needed := slices.ContainsFunc(files, func(f virtual.File) bool { return strings.HasPrefix(f.Path, name+"/") })
		if !needed && !wanted[strings.ToUpper(name)] {
			errs = append(errs, v.Remove(ctx, name))
		}
	}
	return errors.Join(append(errs, v.Publish())...)
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
		require.NoError(t, show(v, files, false))
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
	require.NoError(t, show(v, []virtual.File{file("a.iso", noise(1, 3<<20+17)), file("b.iso", noise(2, 100)), file(
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
		require.NoError(t, show(v, files, prune))
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
			require.NoError(t, show(v, all, false))
			require.Equal(t, shown, contents(t, v), n)
		}
	}
	judge.Run(t, "fsck.exfat", "-n", written(t, v))
}

// TestWhoReadsIsNotDisturbed: a console that looked where files lie finds all of them there for as long as it is
// connected, whatever comes, goes and is replaced; then their space is used again.
func TestWhoReadsIsNotDisturbed(t *testing.T) {
	r := rand.New(rand.NewSource(5))
	v := fresh(t, "exfat", 256*size.MiB)
	names := func() string { return fmt.Sprintf("%s/%d.iso", []string{"FULL", "SHORT"}[r.Intn(2)], r.Intn(12)) }
	for round := range 12 {
		require.NoError(t, v.Use(true))
		looked, err := exfat.Open(reader{v}, v.Size())
		require.NoError(t, err)
		all, err := looked.Files(ctx)
		require.NoError(t, err)
		was := contents(t, v)
		changed := map[string]bool{}
		var more int64
		for range 10 {
			name := names()
			require.NoError(t, v.MakeFolder(ctx, path.Dir(name)))
			if err := v.Remove(ctx, name); r.Intn(2) == 0 || err != nil {
				data := noise(r.Intn(1<<16), r.Intn(2<<20)+1)
				more += int64(len(data))
				require.NoError(t, v.Put(ctx, file(name, data)))
			}
			changed[name] = true
			if r.Intn(3) == 0 {
				require.NoError(t, v.Publish())
			}
		}
		require.NoError(t, v.Publish())
		info := looked.Info()
		for _, p := range all {
			if p.Folder || p.Size == 0 {
				continue
			}
			b := make([]byte, p.Size)
			_, err := v.ReadAt(b, info.Heap+int64(p.Runs[0].First-2)*info.Cluster)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(was[p.Path], b), "round %d: %s, changed: %v", round, p.Path, changed[p.Path])
		}
		now := contents(t, v)
		require.NoError(t, v.Use(false))
		assert.Equal(t, now, contents(t, v))
		used := int64(0)
		for _, data := range now {
			used += (int64(len(data)) + info.Cluster - 1) / info.Cluster * info.Cluster
		}
		free, err := v.FreeBytes(ctx)
		require.NoError(t, err)
		assert.InDelta(t, int64(info.Clusters)*info.Cluster-used, free, 20*4096, "what went is free again")
	}
	judge.Run(t, "fsck.exfat", "-n", written(t, v))
}

// TestNothingIsSeenByHalves: whoever reads sees changes when they are published, all at once, and a volume that was
// ejected in order.
func TestNothingIsSeenByHalves(t *testing.T) {
	v := fresh(t, "exfat", 64*size.MiB)
	require.NoError(t, show(v, []virtual.File{file("a.iso", noise(1, 1<<20))}, false))
	before := contents(t, v)
	require.NoError(t, v.Put(ctx, file("b.iso", noise(2, 1<<20))))
	require.NoError(t, v.Remove(ctx, "a.iso"))
	assert.Equal(t, before, contents(t, v))
	on, err := exfat.Open(reader{v}, v.Size())
	require.NoError(t, err)
	assert.False(t, on.Info().Dirty)
	var saved bytes.Buffer
	require.NoError(t, v.Save(&saved))
	require.NoError(t, v.Publish())
	assert.Equal(t, map[string][]byte{"b.iso": noise(2, 1<<20)}, contents(t, v))
	again, err := virtual.Load(&saved)
	require.NoError(t, err)
	_, err = again.Source("a.iso")
	assert.ErrorIs(t, err, virtual.ErrAway)
	again.Link("A.ISO", bytesOf{bytes.NewReader(noise(1, 1<<20))})
	require.NoError(t, again.Publish())
	assert.Equal(t, before, contents(t, again))
	require.NoError(t, v.MakeFolder(ctx, "FULL"))
	require.NoError(t, v.Rename(ctx, "b.iso", "FULL/c.iso"))
	require.NoError(t, v.Rename(ctx, "FULL", "SHORT"))
	require.NoError(t, v.Publish())
	assert.Equal(t, map[string][]byte{"SHORT/c.iso": noise(2, 1<<20)}, contents(t, v))
	name, at, ok := "", int64(-1), false
	for off := int64(0); off < v.Size() && !ok; off += 4096 {
		name, at, ok = v.At(off)
	}
	assert.Equal(t, "SHORT/c.iso", name)
	assert.Zero(t, at)
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
	require.NoError(t, show(v, []virtual.File{{Path: "a.iso", Source: a}, {Path: "b.iso", Source: b}}, false))
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

	// more than there is room for: the rest is there
	err = show(v, []virtual.File{{Path: "huge.iso", Source: &source{size: 63 << 20}}, file("c.iso", noise(5, 100))},
		false)
	assert.ErrorIs(t, err, volume.ErrNoSpace)
	assert.Contains(t, contents(t, v), "c.iso")

	loaded, err := virtual.Load(bytes.NewReader(nil))
	assert.Error(t, err)
	assert.Nil(t, loaded)
}

// FuzzLoad: what was saved and spoilt is an error, or a volume.
func FuzzLoad(f *testing.F) {
	v := fresh(f, "exfat", 8*size.MiB)
	if err := show(v, []virtual.File{file("a/b.iso", noise(1, 10_000))}, false); err != nil {
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
	require.NoError(b, show(v, files, false))
	made := time.Since(begun)
	var saved bytes.Buffer
	require.NoError(b, v.Save(&saved))
	v = nil
	link := func() {
		for _, f := range files {
			v.Link(f.Path, f.Source)
		}
		require.NoError(b, v.Publish())
	}
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	for b.Loop() {
		v, err = virtual.Load(bytes.NewReader(saved.Bytes()))
		require.NoError(b, err)
		link()
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	b.ReportMetric(made.Seconds(), "s-made")
	b.ReportMetric(float64(int64(after.HeapAlloc)-int64(before.HeapAlloc))/1e6, "MB-kept")
	runtime.KeepAlive(v)
}
