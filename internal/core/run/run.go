// Package run carries out a plan. Every file is written under a temporary name,
// flushed, read back and compared by hash, and only then gets its final name:
// whatever happens in between, a final name never stands for half a file.
package run

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"time"

	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/place"
	"polytome/internal/size"
)

// EventKind is what an event tells.
type EventKind string

// The events, in the order in which a step has them.
const (
	Began    EventKind = "began"    // a step begins
	Progress EventKind = "progress" // bytes were written
	Checking EventKind = "checking" // the file is being read back
	Done     EventKind = "done"     // the step succeeded
	Failed   EventKind = "failed"   // the step did not; the run goes on
	Ended    EventKind = "ended"    // the run is over
)

// An Event is one thing that happened. It is plain data.
type Event struct {
	Kind    EventKind     `json:"event"`
	Step    int           `json:"step"` // index into the plan's steps
	Path    string        `json:"path,omitempty"`
	Bytes   int64         `json:"bytes"`             // written of this step's file, or read back when checking
	Total   int64         `json:"total"`             // bytes written of the whole plan
	Elapsed time.Duration `json:"elapsed"`           // since the run began
	Say     string        `json:"say,omitempty"`     // Failed: what happened and what to do
	Sum     string        `json:"sum,omitempty"`     // Done, of a file: its fingerprint
	Stopped bool          `json:"stopped,omitempty"` // Ended: the run was stopped
}

// A Failure is a step that did not succeed.
type Failure struct {
	Step int    `json:"step"`
	Path string `json:"path"`
	Say  string `json:"say"`
}

// A Report is how a run ended.
type Report struct {
	Done    int           `json:"done"`              // steps that succeeded
	Put     int           `json:"put"`               // files among them
	Bytes   int64         `json:"bytes"`             // in those files
	Moved   int           `json:"moved,omitempty"`   // files and folders that got another path
	Removed int           `json:"removed,omitempty"` // files that went
	Kept    int           `json:"kept,omitempty"`    // files that were copied to this computer first
	Failed  []Failure     `json:"failed,omitempty"`
	Untried int           `json:"untried,omitempty"` // steps after the place was lost or the run stopped
	Stopped bool          `json:"stopped,omitempty"`
	Elapsed time.Duration `json:"elapsed"`
	// Large and Small are how long files took that were written whole and checked: what the next
	// times are told by.
	Large Timed `json:"large,omitzero"`
	Small Timed `json:"small,omitzero"`
	// Wrote are the texts that were written from rules, by their paths.
	Wrote map[string]string `json:"-"`
}

// Timed is how long some files took together.
type Timed struct {
	Files int           `json:"files"`
	Bytes int64         `json:"bytes"`
	Took  time.Duration `json:"took"`
}

// LargeFrom is from how many bytes on a file takes its time by its length; of what is smaller,
// each takes about the same.
const LargeFrom = 4 << 20

// Options are what a run needs beside the plan.
type Options struct {
	Passwords []string // tried on encrypted archives
	Allowed   []string // archives that may be much larger inside than outside
}

// progressEvery is the time between two progress events.
const progressEvery = 50 * time.Millisecond

// Run carries out a plan's steps in order. It sends events to the function, from
// one goroutine. Just before each step the place is looked at: where it is not what it was when the
// plan was made, the step fails and nothing is touched. A step that fails is reported and the next
// is tried, unless it needs the failed one, or the place itself can no longer be written to.
// Cancelling the context stops the run; what was half done is removed.
func Run(ctx context.Context, p *plan.Plan, to place.Place, o Options, tell func(Event)) Report {
	r := &runner{to: to, tell: tell, start: time.Now(), plan: p, failed: map[int]bool{},
		opener: source.Opener{Passwords: o.Passwords, Allowed: o.Allowed}}
	defer func() {
		_ = r.opener.Close()
		if r.kept != nil {
			_ = r.kept.to.Close()
		}
	}()
	for i := 0; i < len(p.Steps); {
		if ctx.Err() != nil || r.lost != nil {
			r.report.Untried += len(p.Steps) - i
			break
		}
		if n := r.together(i); n > 1 {
			r.group(ctx, i, n)
			i += n
			continue
		}
		s := &p.Steps[i]
		r.begin(i)
		began := time.Now()
		sum, err := r.do(ctx, s)
		r.end(ctx, i, sum, time.Since(began), err)
		i++
	}
	r.report.Stopped = ctx.Err() != nil
	r.report.Elapsed = time.Since(r.start)
	r.path = ""
	r.send(Event{Kind: Ended, Stopped: r.report.Stopped})
	return r.report
}

type runner struct {
	to     place.Place
	plan   *plan.Plan
	opener source.Opener
	kept   *keeper // nil until something is copied to safety
	failed map[int]bool
	tell   func(Event)
	start  time.Time
	last   time.Time // of the last progress event
	step   int
	path   string
	bytes  int64 // written of the current file
	total  int64
	lost   error
	report Report
}

// begin tells that a step begins.
func (r *runner) begin(i int) {
	r.step, r.path, r.bytes = i, r.plan.Steps[i].Path, 0
	r.send(Event{Kind: Began})
}

// end tells how a step ended, and decides whether the place is lost.
func (r *runner) end(ctx context.Context, i int, sum string, took time.Duration, err error) {
	s := &r.plan.Steps[i]
	r.step, r.path = i, s.Path
	switch {
	case err == nil:
		r.report.Done++
		r.count(s, took)
		r.send(Event{Kind: Done, Bytes: r.bytes, Sum: sum})
	case ctx.Err() != nil:
		r.total -= r.bytes
		r.report.Untried++
	default:
		r.total -= r.bytes
		r.failed[i] = true
		say := advise(err)
		r.report.Failed = append(r.report.Failed, Failure{i, s.Path, say})
		r.send(Event{Kind: Failed, Say: say})
		if errors.Is(err, place.ErrReadOnly) || errors.Is(err, place.ErrGone) {
			r.lost = r.lostPlace(ctx, s.Path, err)
		}
	}
}

func (r *runner) send(e Event) {
	e.Step, e.Path, e.Total, e.Elapsed = r.step, r.path, r.total, time.Since(r.start)
	r.tell(e)
}

// count adds a step that succeeded to the report.
func (r *runner) count(s *plan.Step, took time.Duration) {
	switch s.Kind {
	case plan.Move:
		r.report.Moved++
	case plan.Remove:
		r.report.Removed++
	case plan.Keep:
		r.report.Kept++
	case plan.Put, plan.Replace:
		if r.bytes == 0 && s.Make.AtMost { // it was not needed
			return
		}
		r.report.Put++
		r.report.Bytes += r.bytes
		of := &r.report.Small
		if r.bytes >= LargeFrom {
			of = &r.report.Large
		}
		of.Files++
		of.Bytes += r.bytes
		of.Took += took
	}
}

// A DependentError is a step that was not done because another one failed.
type DependentError struct{ On string }

func (e *DependentError) Error() string {
	return fmt.Sprintf("not done, as %s did not succeed; run again when that is mended", e.On)
}

// ready reports why a step cannot be done now.
func (r *runner) ready(ctx context.Context, s *plan.Step) error {
	for _, n := range s.Needs {
		if r.failed[n] {
			return &DependentError{r.plan.Steps[n].Path}
		}
	}
	if s.Last && len(r.failed) > 0 {
		return &DependentError{"every title that it names"}
	}
	return r.recheck(ctx, s)
}

func (r *runner) do(ctx context.Context, s *plan.Step) (sum string, err error) {
	if err := r.ready(ctx, s); err != nil {
		return "", err
	}
	switch s.Kind {
	case plan.Clear, plan.Remove, plan.RemoveFolder:
		return "", r.to.Remove(ctx, s.Path)
	case plan.MakeFolder:
		return "", r.to.MakeFolder(ctx, s.Path)
	case plan.Move:
		return "", r.to.Rename(ctx, s.From, s.Path)
	case plan.Keep:
		return r.keep(ctx, s)
	case plan.Put, plan.Replace:
		return r.put(ctx, s)
	}
	return "", fmt.Errorf("the step %q is not known", s.Kind)
}

// clockSteps is how far two dates of one file may lie apart: FAT keeps every other second.
const clockSteps = 2 * time.Second

// recheck fails when the place is not what it was when the plan was made.
func (r *runner) recheck(ctx context.Context, s *plan.Step) error {
	if s.Was == nil {
		return nil
	}
	at := s.Path
	if s.Kind == plan.Move {
		at = s.From
	}
	is, err := r.to.Stat(ctx, at)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%s is gone: %w", at, place.ErrChanged)
	case err != nil:
		return err
	case is.Folder != s.Was.Folder:
		return fmt.Errorf("%s is something else now: %w", at, place.ErrChanged)
	case !is.Folder && is.Size != s.Was.Size:
		return fmt.Errorf("%s had %s and has %s now: %w", at, size.Format(s.Was.Size), size.Format(is.Size), place.ErrChanged)
	case !is.Folder && is.Modified.Sub(s.Was.Modified).Abs() > clockSteps:
		return fmt.Errorf("%s was written to since: %w", at, place.ErrChanged)
	}
	return nil
}

func (r *runner) put(ctx context.Context, s *plan.Step) (string, error) {
	f, err := r.write(ctx, s)
	if f == nil {
		return "", err
	}
	if err = f.w.Flush(); err == nil {
		err = r.prove(ctx, f)
	}
	if err == nil {
		err = f.w.Commit()
	}
	if err != nil {
		return "", f.giveUp(err)
	}
	r.note(s)
	return f.wrote.String(), nil
}

// written is a file that has no name yet.
type written struct {
	s      *plan.Step
	w      place.Writer
	wrote  Sum
	length int64
}

// giveUp removes what was written.
func (f *written) giveUp(err error) error {
	if aborted := f.w.Abort(); aborted != nil && !errors.Is(aborted, fs.ErrNotExist) {
		err = errors.Join(err, fmt.Errorf("what was half written could not be removed; the next run does it: %w", aborted))
	}
	return err
}

// write writes the file of a step. It returns nil and no error where there is nothing to write.
func (r *runner) write(ctx context.Context, s *plan.Step) (*written, error) {
	src, err := r.opener.Make(ctx, s.Make)
	if errors.Is(err, shape.ErrNotNeeded) {
		return nil, nil // it turned out shorter than it might have been
	}
	if err != nil {
		return nil, err
	}
	defer src.Close()
	begin := r.to.Create
	if s.Kind == plan.Replace {
		begin = r.to.Replace
	}
	w, err := begin(ctx, s.Path, src.Size())
	if err != nil {
		return nil, err
	}
	f := &written{s: s, w: w}
	f.wrote, err = copyTo(ctx, src, w, func(n int64) {
		r.bytes += n
		r.total += n
		if now := time.Now(); now.Sub(r.last) >= progressEvery {
			r.last = now
			r.send(Event{Kind: Progress, Bytes: r.bytes})
		}
	})
	f.length = src.Size()
	var se *shape.SourceError
	if errors.Is(err, io.ErrUnexpectedEOF) && s.Make.Source.Path != "" && !errors.As(err, &se) {
		err = &shape.SourceError{Path: s.Make.Source.Path, Err: err}
	}
	if err != nil {
		return nil, f.giveUp(err)
	}
	return f, nil
}

// prove reads a flushed file back, and looks whether its source and what it replaces are what they were.
func (r *runner) prove(ctx context.Context, f *written) error {
	s := f.s
	if err := r.check(ctx, f.w, f.wrote, s.Path, f.length); err != nil {
		return err
	}
	// A source that is gone by now was read whole; one that was written to
	// meanwhile may have been read half old and half new.
	if err := source.Unchanged(s.Make); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if s.Kind == plan.Replace { // it took a while since
		if err := r.recheck(ctx, s); err != nil {
			return err
		}
	}
	if from := &s.Make.Source; from.Entry != "" && !from.Modified.IsZero() {
		return f.w.Date(from.Modified) // what is taken out of something keeps its date
	}
	return nil
}

// note remembers the text that a step wrote from a rule.
func (r *runner) note(s *plan.Step) {
	if s.Make.Shape != shape.Written || len(s.Make.Sums) > 0 {
		return
	}
	if r.report.Wrote == nil {
		r.report.Wrote = map[string]string{}
	}
	switch {
	case !s.Merged:
		r.report.Wrote[s.Path] = s.Make.Text
	case s.Wanted != "":
		r.report.Wrote[s.Path] = s.Wanted
	}
}

// check reads the file back and compares.
func (r *runner) check(ctx context.Context, w place.Writer, want Sum, file string, length int64) error {
	r.send(Event{Kind: Checking})
	back, err := w.ReadBack()
	if err != nil {
		return err
	}
	defer back.Close()
	var read int64
	got, err := SumOf(ctx, back, func(n int64) {
		read += n
		if now := time.Now(); now.Sub(r.last) >= progressEvery {
			r.last = now
			r.send(Event{Kind: Checking, Bytes: read})
		}
	})
	if err != nil {
		return fmt.Errorf("reading %s back: %w", file, err)
	}
	if got != want || back.Size() != length {
		return &ReadBackError{Path: file}
	}
	return nil
}

// A ReadBackError is a file that the place gives back otherwise than it was written.
type ReadBackError struct{ Path string }

func (e *ReadBackError) Error() string {
	return fmt.Sprintf("%s came back otherwise than it was written; nothing was left under that name. The medium or its cable is probably failing: try another one", e.Path)
}

// lostPlace decides whether an error was about one file or folder, or about the whole
// place: then nothing more can be written beside the file, nor at the root.
func (r *runner) lostPlace(ctx context.Context, file string, err error) error {
	for _, dir := range []string{path.Dir(file), "."} {
		w, createErr := r.to.Create(ctx, path.Join(dir, place.TemporaryPrefix+"probe"), 0)
		if createErr == nil {
			_ = w.Abort()
			return nil
		}
	}
	return err
}

// advise adds what to do to what happened.
func advise(err error) string {
	var source *shape.SourceError
	say := err.Error()
	switch {
	case errors.As(err, &source):
		if errors.Is(err, fs.ErrNotExist) {
			say += "; plug its drive in again, or scan again"
		} else if errors.Is(err, io.ErrUnexpectedEOF) {
			say += "; scan again"
		}
	case errors.Is(err, place.ErrNoRoom):
		say += "; make room on it, or take titles off, and run again"
	case errors.Is(err, place.ErrReadOnly):
		say += "; check its write lock and permissions, and run again"
	case errors.Is(err, place.ErrGone):
		say += "; plug it in again and run again: what was finished is kept"
	case errors.Is(err, place.ErrChanged):
		say += "; nothing was touched; look at the place again, and plan anew"
	case errors.Is(err, place.ErrExists):
		say += "; it is left as it is"
	}
	return say
}
