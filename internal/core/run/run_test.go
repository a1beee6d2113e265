package run_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/target"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/judge"
)

// files makes source files and the plan that puts them into FULL.
func files(t testing.TB, lengths ...int) (*plan.Plan, map[string][]byte) {
	dir := t.TempDir()
	p := &plan.Plan{Steps: []plan.Step{{Kind: plan.MakeFolder, Path: "FULL"}}}
	want := map[string][]byte{}
	for i, n := range lengths {
		name := fmt.Sprintf("%d.iso", i)
		data := bytes.Repeat([]byte{byte(i + 1), 2, 3, 4, 5, 6, 7}, n/7+1)[:n]
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, data, 0o644))
		info, err := os.Stat(file)
		require.NoError(t, err)
		p.Steps = append(p.Steps, plan.Step{Kind: plan.Copy, Path: "FULL/" + name, Label: name, Size: int64(n),
			Make: &shape.Spec{Size: int64(n), Source: title.File{Path: file, Size: int64(n),
				Modified: info.ModTime()}}})
		p.Bytes += int64(n)
		want["FULL/"+name] = data
	}
	return p, want
}

func openTarget(t testing.TB, dir string, o folder.Options) *folder.Target {
	p, err := folder.Open(dir, o)
	require.NoError(t, err)
	t.Cleanup(func() { p.Close() })
	return p
}

// onTarget lists the files of a folder with their contents.
func onTarget(t testing.TB, dir string) map[string]string {
	out := map[string]string{}
	require.NoError(t, filepath.Walk(dir, func(p string, info os.FileInfo, err error) error {
		if err == nil && info.Mode().IsRegular() {
			b, err := os.ReadFile(p)
			require.NoError(t, err)
			rel, _ := filepath.Rel(dir, p)
			out[filepath.ToSlash(rel)] = string(b)
		}
		return nil
	}))
	return out
}

func TestFilesArriveWhole(t *testing.T) {
	p, want := files(t, 0, 1, 1<<20-1, 1<<20, 1<<20+1, 5<<20)
	dir := t.TempDir()
	var events []run.Event
	r := run.Run(context.Background(), p, openTarget(t, dir, folder.Options{}), run.Options{},
		func(e run.Event) { events = append(events, e) })
	assert.Equal(t, 6, r.Put)
	assert.Equal(t, p.Bytes, r.Bytes)
	assert.Empty(t, r.Failed)
	got := onTarget(t, dir)
	assert.Len(t, got, len(want))
	for name, data := range want {
		assert.True(t, got[name] == string(data), name)
	}
	var kinds []string
	for _, e := range events {
		if e.Step == 1 && e.Kind != run.Progress {
			kinds = append(kinds, string(e.Kind))
		}
	}
	assert.Equal(t, []string{"began", "checking", "done"}, kinds)
	last := events[len(events)-1]
	assert.Equal(t, run.Ended, last.Kind)
	assert.Equal(t, p.Bytes, last.Total)
}

func TestHolesStayHolesAndHashAlike(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp("", "holes-")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		size := rapid.Int64Range(0, 6<<20).Draw(rt, "size")
		f, err := os.Create(filepath.Join(dir, "sparse"))
		require.NoError(t, err)
		defer f.Close()
		require.NoError(t, f.Truncate(size))
		for range rapid.IntRange(0, 5).Draw(rt, "runs") {
			at := rapid.Int64Range(0, max(0, size-1)).Draw(rt, "at")
			n := min(size-at, rapid.Int64Range(0, 200_000).Draw(rt, "n"))
			_, err := f.WriteAt(bytes.Repeat([]byte{9}, int(n)), at)
			require.NoError(t, err)
		}
		data, err := os.ReadFile(f.Name())
		require.NoError(t, err)
		plain := filepath.Join(dir, "plain")
		require.NoError(t, os.WriteFile(plain, data, 0o644))
		sum := func(name string) run.Sum {
			c, err := folder.OpenFile(name)
			require.NoError(t, err)
			defer c.Close()
			s, err := run.SumOf(context.Background(), c, func(int64) {})
			require.NoError(t, err)
			return s
		}
		if sum(f.Name()) != sum(plain) {
			rt.Fatalf("the same bytes have two sums")
		}
		if size > 0 {
			data[rapid.IntRange(0, len(data)-1).Draw(rt, "flip")] ^= 1
			require.NoError(t, os.WriteFile(plain, data, 0o644))
			if sum(f.Name()) == sum(plain) {
				rt.Fatalf("a changed bit does not show")
			}
		}
	})
}

// faulty is a target that fails as reported.
type faulty struct {
	*folder.Target
	failAfter int64 // bytes until writing fails
	with      error
	flips     int // how often one bit changes on the medium
	wrote     int64
	onWrite   func()
}

type faultyWriter struct {
	target.Writer
	p *faulty
}

func (p *faulty) Create(ctx context.Context, path string, size int64) (target.Writer, error) {
	w, err := p.Target.Create(ctx, path, size)
	return &faultyWriter{w, p}, err
}

func (w *faultyWriter) Write(b []byte) (int, error) {
	if w.p.onWrite != nil {
		w.p.onWrite()
	}
	if w.p.wrote += int64(len(b)); w.p.failAfter > 0 && w.p.wrote > w.p.failAfter {
		w.p.failAfter = 0
		return 0, fmt.Errorf("writing there: %w", w.p.with)
	}
	if w.p.flips > 0 && len(b) > 0 {
		w.p.flips--
		b = bytes.Clone(b)
		b[len(b)/2] ^= 4
	}
	return w.Writer.Write(b)
}

func TestFaults(t *testing.T) {
	for name, c := range map[string]struct {
		fault  faulty
		failed string
		put    int
	}{
		"a full target":        {faulty{failAfter: 1 << 20, with: target.ErrNoSpace}, "free some space on it", 2},
		"bits that flip twice": {faulty{flips: 10}, "0.iso reads back differently from byte 0 on", 2},
		"some other error":     {faulty{failAfter: 1 << 20, with: errors.New("odd")}, "odd", 2},
		"one file not allowed": {faulty{failAfter: 1 << 20, with: target.ErrReadOnly}, "check its write protection", 2},
	} {
		t.Run(name, func(t *testing.T) {
			p, want := files(t, 2<<20, 3<<20, 100)
			dir := t.TempDir()
			f := c.fault
			f.Target = openTarget(t, dir, folder.Options{})
			r := run.Run(context.Background(), p, &f, run.Options{}, func(run.Event) {})
			require.Len(t, r.Failed, 1)
			assert.Contains(t, r.Failed[0].Say, c.failed)
			assert.Equal(t, c.put, r.Put, "the others are done")
			got := onTarget(t, dir)
			assert.Len(t, got, c.put, "nothing half-written is left")
			assert.NotContains(t, got, r.Failed[0].Path)

			again := run.Run(context.Background(), &plan.Plan{Steps: []plan.Step{p.Steps[r.Failed[0].Step]}}, f.Target,
				run.Options{}, func(run.Event) {})
			assert.Empty(t, again.Failed)
			assert.Len(t, onTarget(t, dir), len(want), "a second try does what was left")
		})
	}
}

func TestABitThatFlipsOnceIsWrittenAgain(t *testing.T) {
	p, want := files(t, 2<<20, 100)
	dir := t.TempDir()
	var said string
	r := run.Run(context.Background(), p, &faulty{Target: openTarget(t, dir, folder.Options{}), flips: 1},
		run.Options{}, func(e run.Event) {
			if e.Kind == run.Rewriting {
				said = e.Say
			}
		})
	assert.Empty(t, r.Failed)
	assert.Equal(t, 1, r.Rewritten)
	assert.Contains(t, said, "from byte 0 on")
	got := onTarget(t, dir)
	assert.Len(t, got, 2)
	for name, data := range want {
		assert.True(t, got[name] == string(data), name)
	}

	for level, passes := range map[run.Verify]bool{run.VerifyNone: true, run.VerifySize: true, run.VerifyFull: false} {
		p, _ := files(t, 2<<20)
		r := run.Run(context.Background(), p, &faulty{Target: openTarget(t, t.TempDir(), folder.Options{}), flips: 10},
			run.Options{Verify: level}, func(run.Event) {})
		assert.Equal(t, passes, len(r.Failed) == 0, "%s sees what it looks at", level)
		assert.Equal(t, level, r.Verify)
	}
}

func TestSourcesThatChange(t *testing.T) {
	for name, c := range map[string]struct {
		do     func(file string) error
		during bool
		say    string // "" when the file arrives all the same
	}{
		"gone before": {os.Remove, false, "plug its drive in again, or scan again"},
		"shorter before": {func(f string) error { return os.Truncate(f, 5) }, false,
			"has 5 bytes now; scan again"},
		"cut while it is read": {func(f string) error { return os.Truncate(f, 5) }, true, "unexpected EOF; scan again"},
		"written to while read": {func(f string) error {
			w, err := os.OpenFile(f, os.O_WRONLY, 0)
			if err == nil {
				_, err = w.WriteAt([]byte("new"), 15<<20)
			}
			return errors.Join(err, w.Close())
		}, true, "it has changed since it was scanned; scan again"},
		"removed while it is read": {os.Remove, true, ""},
		"not allowed any more":     {func(f string) error { return os.Rename(f, f+"x") }, false, "no such file"},
	} {
		t.Run(name, func(t *testing.T) {
			p, _ := files(t, 16<<20, 100)
			dir := t.TempDir()
			f := &faulty{Target: openTarget(t, dir, folder.Options{})}
			change := func() { require.NoError(t, c.do(p.Steps[1].Make.Source.Path)) }
			if c.during {
				f.onWrite = func() { f.onWrite = nil; change() }
			} else {
				change()
			}
			r := run.Run(context.Background(), p, f, run.Options{}, func(run.Event) {})
			if c.say == "" {
				assert.Equal(t, 2, r.Put)
				return
			}
			require.Len(t, r.Failed, 1)
			assert.Contains(t, r.Failed[0].Say, c.say)
			assert.Contains(t, r.Failed[0].Say, p.Steps[1].Make.Source.Path)
			assert.Equal(t, 1, r.Put, "the other is done")
			assert.Len(t, onTarget(t, dir), 1)
		})
	}
}

func TestStopping(t *testing.T) {
	p, _ := files(t, 4<<20, 4<<20)
	dir := t.TempDir()
	ctx, cancel := context.WithCancel(context.Background())
	f := &faulty{Target: openTarget(t, dir, folder.Options{}), onWrite: cancel}
	r := run.Run(ctx, p, f, run.Options{}, func(run.Event) {})
	assert.True(t, r.Stopped)
	assert.Zero(t, r.Put)
	assert.Equal(t, 2, r.Untried)
	assert.Empty(t, r.Failed)
	assert.Empty(t, onTarget(t, dir))
}

func TestWhatIsThereStays(t *testing.T) {
	p, _ := files(t, 100)
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "FULL"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "FULL/0.iso"), []byte("mine"), 0o644))
	r := run.Run(context.Background(), p, openTarget(t, dir, folder.Options{}), run.Options{}, func(run.Event) {})
	require.Len(t, r.Failed, 1)
	assert.Contains(t, r.Failed[0].Say, "it is left as it is")
	assert.Equal(t, "mine", onTarget(t, dir)["FULL/0.iso"])
}

func TestARealFullDiskAndARealReadOnlyOne(t *testing.T) {
	p, _ := files(t, 3<<20, 3<<20, 500<<10)
	dir := judge.Mount(t, "size=4m")
	r := run.Run(context.Background(), p, openTarget(t, dir, folder.Options{}), run.Options{}, func(run.Event) {})
	require.Len(t, r.Failed, 1)
	assert.Contains(t, r.Failed[0].Say, "the target is full")
	assert.Equal(t, 2, r.Put, "a smaller file still finds space")
	assert.Len(t, onTarget(t, dir), 2)

	judge.Remount(t, dir, "ro")
	p.Steps = append([]plan.Step{{Kind: plan.MakeFolder, Path: "SHORT"}}, p.Steps[2:]...)
	r = run.Run(context.Background(), p, openTarget(t, dir, folder.Options{}), run.Options{}, func(run.Event) {})
	require.Len(t, r.Failed, 1, "the first failure is enough")
	assert.Contains(t, r.Failed[0].Say, "the target is read-only")
	assert.Equal(t, 2, r.Untried)
}
