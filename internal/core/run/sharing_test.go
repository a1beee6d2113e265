package run

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/target"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/versus"
)

// pond is a folder with sources of several makes, and steps that write them in all shapes.
func pond(t testing.TB, size int) (steps []plan.Step) {
	dir := t.TempDir()
	from := func(name string, data []byte) title.File {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, data, 0o644))
		info, err := os.Stat(file)
		require.NoError(t, err)
		return title.File{Path: file, Size: info.Size(), Modified: info.ModTime()}
	}
	add := func(s shape.Spec) {
		steps = append(
			steps,
			plan.Step{Kind: plan.Copy, Path: fmt.Sprintf("%d.bin", len(steps)), Size: s.Size, Make: &s},
		)
	}
	random := rand.New(rand.NewSource(7)) //nolint:gosec // of no secret
	whole := make([]byte, size)
	_, _ = random.Read(whole)
	clear(whole[size/3 : size/2])
	f := from("whole.iso", whole)
	add(shape.Spec{Source: f, Size: f.Size})
	half := int64(size / 2)
	add(shape.Spec{Source: f, Shape: shape.Split, Size: half})
	add(shape.Spec{Source: f, Shape: shape.Split, Offset: half, Size: f.Size - half})

	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range []string{"a", "b", "c"} {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, _ = w.Write([]byte(strings.Repeat(name+"lpha beta ", size/11)))
	}
	require.NoError(t, z.Close())
	packed := from("three.zip", b.Bytes())
	for _, name := range []string{"a", "b", "c"} {
		e := packed
		e.Entry, e.Size = name, int64(len(name+"lpha beta ")*(size/11))
		add(shape.Spec{Source: e, Shape: shape.Unpack, Size: e.Size})
	}
	image := from("disc.iso", bytes.Repeat(append(make([]byte, 3000), whole[:9000]...), size/12000+1))
	spec := shape.PackOf(&title.Disc{File: image}, true)
	all := spec.Size
	for off := int64(0); off < all; off += all / 3 {
		s := spec
		s.Offset, s.Size = off, min(all/3, all-off)
		add(s)
	}
	return steps
}

// slow waits now and then while it writes.
type slow struct {
	*folder.Target
	wait func()
	left int // bytes until writing fails; 0 for never
}

type slowWriter struct {
	target.Writer
	t *slow
}

func (s *slow) Create(ctx context.Context, name string, size int64) (target.Writer, error) {
	w, err := s.Target.Create(ctx, name, size)
	return &slowWriter{w, s}, err
}

func (w *slowWriter) Write(b []byte) (int, error) {
	w.t.wait()
	if w.t.left > 0 {
		if w.t.left -= len(b); w.t.left <= 0 {
			return 0, fmt.Errorf("a worn stick: %w", target.ErrReadOnly)
		}
	}
	return w.Writer.Write(b)
}

// FlushAll is for groups of small files.
func (s *slow) FlushAll(all []target.Writer, readBack bool) []error {
	inner := make([]target.Writer, len(all))
	for i, w := range all {
		inner[i] = w.(*slowWriter).Writer
	}
	return s.Target.FlushAll(inner, readBack)
}

func arrived(t testing.TB, dir string) map[string]string {
	out := map[string]string{}
	all, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range all {
		b, err := os.ReadFile(filepath.Join(dir, e.Name()))
		require.NoError(t, err)
		out[e.Name()] = string(b)
	}
	return out
}

// nothingKept holds that the lanes have left nothing behind.
func nothingKept(t testing.TB) {
	sharing.mu.Lock()
	defer sharing.mu.Unlock()
	assert.Empty(t, sharing.wanted)
	assert.Empty(t, sharing.common)
	assert.Empty(t, sharing.springs)
	assert.Empty(t, sharing.order)
	assert.Zero(t, sharing.bytes.Load())
}

func small(t testing.TB, bytes int64) {
	before := window
	window = bytes
	t.Cleanup(func() { window = before })
}

// TestLanesThatShareSourcesWriteWhatOneAloneWould, however fast each is, whichever fails or is stopped, and however
// little is kept in memory.
func TestLanesThatShareSourcesWriteWhatOneAloneWould(t *testing.T) {
	steps := pond(t, 1<<20)
	alone := t.TempDir()
	to, err := folder.Open(alone, folder.Options{})
	require.NoError(t, err)
	r := Run(context.Background(), &plan.Plan{Steps: steps}, to, Options{}, func(Event) {})
	require.True(t, r.All(), r.Failed)
	require.NoError(t, to.Close())
	want, under := arrived(t, alone), t.TempDir()
	judge.Times(t, 15, func(rt *rapid.T) {
		small(t, rapid.Int64Range(1, 3<<20).Draw(rt, "window"))
		var lanes []*Lane
		var dirs []string
		var breaks, stops []bool
		for k := range rapid.IntRange(2, 5).Draw(rt, "lanes") {
			mine := append([]plan.Step(nil), steps...)
			if rapid.Bool().Draw(rt, "other order") {
				rand.New(rand.NewSource(int64(k))).Shuffle(len(mine), func(a, b int) { //nolint:gosec // of no secret
					if mine[a].Make.Shape != shape.Pack && mine[b].Make.Shape != shape.Pack { // these hang together
						mine[a], mine[b] = mine[b], mine[a]
					}
				})
			}
			dir, err := os.MkdirTemp(under, "")
			require.NoError(t, err)
			most := rapid.IntRange(0, 3000).Draw(rt, "pause in µs")
			left := 0
			if k > 0 && rapid.IntRange(0, 3).Draw(rt, "breaks") == 0 {
				left = rapid.IntRange(1, 4<<20).Draw(rt, "after")
			}
			l := Start(context.Background(), Job{Plan: &plan.Plan{Steps: mine}, Options: Options{Verify: VerifySize},
				Open: func(context.Context) (target.Target, error) {
					f, err := folder.Open(dir, folder.Options{})
					return &slow{f, func() { time.Sleep(time.Duration(most) * time.Microsecond) }, left}, err
				}})
			stop := k > 0 && rapid.IntRange(0, 4).Draw(rt, "stopped") == 0
			if stop {
				go l.Stop()
			}
			lanes, dirs, breaks, stops = append(
				lanes,
				l,
			), append(
				dirs,
				dir,
			), append(
				breaks,
				left > 0,
			), append(
				stops,
				stop,
			)
		}
		for k, l := range lanes {
			r := l.Wait()
			got := arrived(t, dirs[k])
			if breaks[k] || stops[k] { // what has its name is whole
				for name, text := range got {
					if !strings.HasPrefix(name, target.TemporaryPrefix) && text != want[name] {
						rt.Fatalf("%s is not what it should be", name)
					}
				}
				continue
			}
			if !r.All() {
				rt.Fatalf("lane %d: %v", k, r.Failed)
			}
			for name := range want {
				if got[name] != want[name] {
					rt.Fatalf("lane %d: %s differs", k, name)
				}
			}
		}
		nothingKept(t)
	})
}

// TestSeveralLanesReadTheirSourceOnce measures what the program reads while six lanes write the same, of which one is
// far behind.
func TestSeveralLanesReadTheirSourceOnce(t *testing.T) {
	const size = 12 << 20
	steps := pond(t, size)[:1]
	read := func() (n int64) {
		b, err := os.ReadFile("/proc/self/io")
		require.NoError(t, err)
		_, err = fmt.Sscanf(string(b), "rchar: %d", &n)
		require.NoError(t, err)
		return n
	}
	measure := func(lanes int) int64 {
		before, begun := read(), make(chan struct{})
		var all []*Lane
		for range lanes {
			dir := t.TempDir()
			all = append(all, Start(context.Background(), Job{Plan: &plan.Plan{Steps: steps},
				Options: Options{Verify: VerifySize, AtOnce: true},
				Open: func(context.Context) (target.Target, error) {
					<-begun // what is read before others want it, too, is read for one lane
					return folder.Open(dir, folder.Options{})
				}}))
		}
		close(begun)
		for _, l := range all {
			require.True(t, l.Wait().All())
		}
		return read() - before
	}
	one := measure(1)
	require.Greater(t, one, int64(size/2), "it is read in blocks, without its hole")
	assert.Less(t, measure(6), one+one/4, "six read hardly more than one")
	nothingKept(t)
}

// BenchmarkManyAlike fills six folders with what is in an archive, next to unzip for each of them at the same time, in
// turns, both with flushing and without reading back, and prints the ratio of the medians.
func BenchmarkManyAlike(b *testing.B) {
	const sticks, size = 6, 96 << 20
	dir := b.TempDir()
	packed, text := filepath.Join(dir, "game.zip"), make([]byte, size)
	random := rand.New(rand.NewSource(7)) //nolint:gosec // of no secret
	for i := 0; i < size; i += 64 {       // half of it can be packed
		_, _ = random.Read(text[i : i+32])
	}
	f, err := os.Create(packed)
	require.NoError(b, err)
	z := zip.NewWriter(f)
	w, err := z.Create("game.iso")
	require.NoError(b, err)
	_, err = w.Write(text)
	require.NoError(b, err)
	require.NoError(b, z.Close())
	require.NoError(b, f.Close())
	info, err := os.Stat(packed)
	require.NoError(b, err)
	steps := []plan.Step{
		{Kind: plan.Copy, Path: "game.iso", Size: size, Make: &shape.Spec{Shape: shape.Unpack, Size: size,
			Source: title.File{Path: packed, Entry: "game.iso", Size: size, Modified: info.ModTime()}}},
	}
	var dirs []string
	for k := range sticks {
		dirs = append(dirs, filepath.Join(dir, fmt.Sprint("stick", k)))
	}
	fresh := func() {
		for _, d := range dirs {
			require.NoError(b, os.RemoveAll(d))
			require.NoError(b, os.Mkdir(d, 0o755))
		}
		judge.Run(b, "sync")
	}
	fresh()
	versus.Race(b, fresh, versus.Contender{Name: "fill", Do: func() {
		var lanes []*Lane
		for _, d := range dirs {
			lanes = append(lanes, Start(context.Background(), Job{Plan: &plan.Plan{Steps: steps},
				Options: Options{Verify: VerifySize},
				Open:    func(context.Context) (target.Target, error) { return folder.Open(d, folder.Options{}) }}))
		}
		for _, l := range lanes {
			require.True(b, l.Wait().All())
		}
	}}, versus.Contender{Name: "unzip+sync", Most: 1, Do: func() {
		var all sync.WaitGroup
		for _, d := range dirs {
			all.Go(func() { judge.Run(b, "sh", "-c", "unzip -q '"+packed+"' -d '"+d+"' && sync '"+d+"/game.iso'") })
		}
		all.Wait()
	}})
}

// TestASlowLaneHoldsNoOtherUp has one that stands still until all others are done, and must then read by itself.
func TestASlowLaneHoldsNoOtherUp(t *testing.T) {
	small(t, 1<<20)
	steps := pond(t, 6<<20)
	var others sync.WaitGroup
	var all []*Lane
	var dirs []string
	others.Add(3)
	for k := range 4 {
		dir := t.TempDir()
		all = append(all, Start(context.Background(), Job{Plan: &plan.Plan{Steps: steps},
			Over: func(Report) {
				if k > 0 {
					others.Done()
				}
			},
			Open: func(context.Context) (target.Target, error) {
				f, err := folder.Open(dir, folder.Options{})
				wait := func() {}
				if k == 0 {
					wait = func() {
						others.Wait()
						assert.LessOrEqual(t, sharing.bytes.Load(), window, "no more is kept for it")
					}
				}
				return &slow{f, wait, 0}, err
			}}))
		dirs = append(dirs, dir)
	}
	for k, l := range all {
		r := l.Wait()
		require.True(t, r.All(), r.Failed)
		assert.Equal(t, arrived(t, dirs[3]), arrived(t, dirs[k]))
	}
	nothingKept(t)
}

// strict is content that is made in order, as a stream is.
type strict struct {
	size, at int64
}

func (s *strict) Size() int64                       { return s.size }
func (s *strict) InOrder() bool                     { return true }
func (s *strict) Close() error                      { return nil }
func (s *strict) Data(off int64) (start, end int64) { return off, s.size }

func (s *strict) ReadAt(b []byte, off int64) (int, error) {
	if off != s.at {
		return 0, fmt.Errorf("byte %d was asked for, and %d is next", off, s.at)
	}
	for i := range b {
		b[i] = byte((off + int64(i)) >> 10)
	}
	s.at += int64(len(b))
	return len(b), nil
}

// TestALaneGoesOnAloneInTheMiddleOfAStream, when what it has not got yet is no longer kept: it makes the stream again,
// up to where it is.
func TestALaneGoesOnAloneInTheMiddleOfAStream(t *testing.T) {
	small(t, blockSize)
	const size = 6 * blockSize
	c := &common{spring: &spring{}, opened: true, content: &strict{size: size}, size: size, inOrder: true,
		blocks: map[int64]*waiting{}, data: map[int64][2]int64{}}
	c.wanted.Store(2)
	alone := func() (target.Content, error) { return &strict{size: size}, nil }
	fast, late := &lot{c: c, size: size, alone: alone}, &lot{c: c, size: size, alone: alone}
	want, got := make([]byte, blockSize), make([]byte, blockSize)
	read := func(l *lot, n int64) []byte {
		_, err := l.ReadAt(got, n*blockSize)
		require.NoError(t, err)
		return got
	}
	same := func(n int64) []byte {
		_, _ = (&strict{size: size, at: n * blockSize}).ReadAt(want, n*blockSize)
		return want
	}
	require.Equal(t, same(0), read(fast, 0))
	require.Equal(t, same(0), read(late, 0))
	require.Nil(t, late.own, "from memory")
	for n := range int64(5) {
		require.Equal(t, same(n+1), read(fast, n+1))
	}
	for n := range int64(5) {
		require.Equal(t, same(n+1), read(late, n+1))
	}
	require.NotNil(t, late.own)
	c.drop()
	sharing.mu.Lock()
	unlist(c)
	sharing.mu.Unlock()
	nothingKept(t)
}
