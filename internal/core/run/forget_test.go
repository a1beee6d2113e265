package run_test

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/target"
	"polytome/internal/target/folder"
)

// A forgetful target keeps account of what would be there after the power goes: bytes that were flushed before their
// file got its name, and names that were made to last. What it is reported to fail at, it fails at.
type forgetful struct {
	target.Target
	mu      sync.Mutex
	lasting map[string]string
	fails   string
}

var errForgetful = errors.New("the medium does not answer")

func (p *forgetful) Create(ctx context.Context, path string, size int64) (target.Writer, error) {
	w, err := p.Target.Create(ctx, path, size)
	return &forgetfulWriter{Writer: w, p: p, path: path}, err
}

func (p *forgetful) lasts(path, data string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.lasting[path] = data
}

// then is what would be there of a file, and whether there would be one.
func (p *forgetful) then(path string) (string, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	data, ok := p.lasting[path]
	return data, ok
}

type forgetfulWriter struct {
	target.Writer
	p       *forgetful
	path    string
	wrote   []byte
	flushed string
	held    func(path, data string) bool // takes the name, where names are held back
}

func (w *forgetfulWriter) Write(b []byte) (int, error) {
	w.wrote = append(w.wrote, b...)
	return w.Writer.Write(b)
}

func (w *forgetfulWriter) Skip(n int64) error {
	w.wrote = append(w.wrote, make([]byte, n)...)
	return w.Writer.Skip(n)
}

func (w *forgetfulWriter) Flush() error {
	if w.p.fails == "flush" {
		return errForgetful
	}
	w.flushed = string(w.wrote)
	return w.Writer.Flush()
}

func (w *forgetfulWriter) Commit() error {
	if w.p.fails == "commit" {
		return errForgetful
	}
	if w.held == nil || !w.held(w.path, w.flushed) {
		w.p.lasts(w.path, w.flushed)
	}
	return w.Writer.Commit()
}

// forgetfulBatch is one on which names are held back.
type forgetfulBatch struct {
	*forgetful
	holds   bool
	held    map[string]string
	settled int
}

func (p *forgetfulBatch) Create(ctx context.Context, path string, size int64) (target.Writer, error) {
	w, err := p.forgetful.Create(ctx, path, size)
	w.(*forgetfulWriter).held = func(path, data string) bool {
		if p.holds {
			p.held[path] = data
		}
		return p.holds
	}
	return w, err
}

func (p *forgetfulBatch) Together() int { return 100 }

func (p *forgetfulBatch) FlushAll(files []target.Writer, _ bool) (out []error) {
	for _, f := range files {
		out = append(out, f.Flush())
	}
	return out
}

func (p *forgetfulBatch) Hold() { p.holds, p.held = true, map[string]string{} }

// settling is how long it takes to have names last.
const settling = 200 * time.Millisecond

func (p *forgetfulBatch) Settle(context.Context) error {
	time.Sleep(settling) // whoever says that a file is done before this shows it
	p.holds = false
	if p.fails == "settle" {
		return errForgetful
	}
	for path, data := range p.held {
		p.lasts(path, data)
	}
	p.settled++
	return nil
}

// TestWhatIsDoneWouldOutliveAPowerCut looks, whenever a file is reported to be done, whether it would be there whole if
// the power went at that moment, and has flushing, naming and settling fail: nothing of that is reported to be done.
func TestWhatIsDoneWouldOutliveAPowerCut(t *testing.T) {
	for _, fails := range []string{"", "flush", "commit", "settle"} {
		for _, holds := range []bool{false, true} {
			if fails == "settle" && !holds {
				continue
			}
			p, want := files(t, 3<<20, 700, 0, 4096, 1<<20, 1<<20+1)
			f := &forgetful{Target: openTarget(t, t.TempDir(), folder.Options{}), lasting: map[string]string{},
				fails: fails}
			batch := &forgetfulBatch{forgetful: f}
			to := target.Target(f)
			if holds {
				to = batch
			}
			done := 0
			r := run.Run(context.Background(), p, to, run.Options{Verify: run.VerifyNone}, func(e run.Event) {
				if e.Kind != run.Done || p.Steps[e.Step].Kind != plan.Copy {
					return
				}
				done++
				got, there := f.then(p.Steps[e.Step].Path)
				assert.True(t, there && got == string(want[p.Steps[e.Step].Path]),
					"%s is reported to be done, and would have %d bytes", p.Steps[e.Step].Path, len(got))
			})
			switch fails {
			case "":
				assert.Equal(t, len(want), done)
				assert.Equal(t, holds, batch.settled > 0)
			case "settle":
				assert.Equal(t, 2, done, "the large ones are no part of a group")
				assert.Len(t, r.Failed, len(want)-2)
			default:
				assert.Zero(t, done, fails)
				assert.Len(t, r.Failed, len(want), fails)
			}
		}
	}
}

// TestAllTheTimeOfAGroupIsCounted: the next run is estimated from it.
func TestAllTheTimeOfAGroupIsCounted(t *testing.T) {
	p, want := files(t, 700, 0, 4096, 10, 20, 30, 40, 50)
	to := &forgetfulBatch{forgetful: &forgetful{Target: openTarget(t, t.TempDir(), folder.Options{}),
		lasting: map[string]string{}}}
	r := run.Run(context.Background(), p, to, run.Options{Verify: run.VerifyNone}, func(run.Event) {})
	assert.Equal(t, len(want), r.Small.Files)
	assert.Equal(t, 1, to.settled)
	assert.GreaterOrEqual(t, r.Small.Took, settling)
	assert.LessOrEqual(t, r.Small.Took, r.Elapsed)
}

// TestAChangeInTheLastBytesShows flips one bit of the last, short block of a file on its way to the medium.
func TestAChangeInTheLastBytesShows(t *testing.T) {
	const n = 2<<20 + 300
	for at, n := range map[int64]int{n - 1: n, n - 300: n, 1 << 20: n, 4999: 5000, 0: 1} {
		p, want := files(t, n)
		dir := t.TempDir()
		f := &flipping{Target: openTarget(t, dir, folder.Options{}), at: at}
		r := run.Run(context.Background(), p, f, run.Options{}, func(run.Event) {})
		assert.Empty(t, r.Failed)
		assert.Equal(t, 1, r.Rewritten, "byte %d of %d", at, n)
		assert.True(t, onTarget(t, dir)["FULL/0.iso"] == string(want["FULL/0.iso"]))
	}
}

// flipping changes one bit of the first file that is written.
type flipping struct {
	*folder.Target
	at   int64
	done bool
}

type flippingWriter struct {
	target.Writer
	p   *flipping
	off int64
}

func (p *flipping) Create(ctx context.Context, path string, size int64) (target.Writer, error) {
	w, err := p.Target.Create(ctx, path, size)
	return &flippingWriter{Writer: w, p: p}, err
}

func (w *flippingWriter) Skip(n int64) error { w.off += n; return w.Writer.Skip(n) }

func (w *flippingWriter) Write(b []byte) (int, error) {
	if k := w.p.at - w.off; !w.p.done && k >= 0 && k < int64(len(b)) {
		w.p.done = true
		b = bytes.Clone(b)
		b[k] ^= 1
	}
	w.off += int64(len(b))
	return w.Writer.Write(b)
}

// TestWhatIsReplacedMayChangeMeanwhile has someone write to a file of the target while the one that shall take its
// target is being copied: theirs stays.
func TestWhatIsReplacedMayChangeMeanwhile(t *testing.T) {
	for name, change := range map[string]func(t *testing.T, file string){
		"other content": func(t *testing.T, file string) {
			require.NoError(t, os.WriteFile(file, []byte("longer than it was"), 0o644))
		},
		"same length, later": func(t *testing.T, file string) {
			require.NoError(t, os.WriteFile(file, []byte("mine"), 0o644))
			require.NoError(t, os.Chtimes(file, time.Now(), time.Now().Add(time.Hour)))
		},
		"gone": func(t *testing.T, file string) { require.NoError(t, os.Remove(file)) },
	} {
		t.Run(name, func(t *testing.T) {
			p, _ := files(t, 3<<20)
			dir := t.TempDir()
			destination := filepath.Join(dir, "FULL/0.iso")
			require.NoError(t, os.MkdirAll(filepath.Dir(destination), 0o755))
			require.NoError(t, os.WriteFile(destination, []byte("was!"), 0o644))
			to := openTarget(t, dir, folder.Options{})
			was, err := to.Stat(context.Background(), "FULL/0.iso")
			require.NoError(t, err)
			p.Steps[1].Kind, p.Steps[1].Was = plan.Replace, &was
			var theirs map[string]string
			r := run.Run(context.Background(), p, &meddling{to, func() {
				change(t, destination)
				theirs = onTarget(t, dir)
			}}, run.Options{}, func(run.Event) {})
			require.Len(t, r.Failed, 1)
			got := onTarget(t, dir)
			assert.Equal(t, theirs["FULL/0.iso"], got["FULL/0.iso"])
			for name := range got {
				assert.False(t, target.IsTemporary(name), "nothing half written is left")
			}
		})
	}
}

// meddling has something happen when a file is flushed.
type meddling struct {
	*folder.Target
	then func()
}

type meddlingWriter struct {
	target.Writer
	then func()
}

func (p *meddling) Replace(ctx context.Context, path string, size int64) (target.Writer, error) {
	w, err := p.Target.Replace(ctx, path, size)
	return &meddlingWriter{w, p.then}, err
}

func (w *meddlingWriter) Flush() error {
	err := w.Writer.Flush()
	w.then()
	return err
}
