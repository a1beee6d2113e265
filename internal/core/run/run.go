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
	"os"
	"path"
	"strings"
	"time"

	"polytome/internal/core/plan"
	"polytome/internal/place"
	"polytome/internal/place/folder"
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
	Done    int           `json:"done"`  // steps that succeeded
	Put     int           `json:"put"`   // files among them
	Bytes   int64         `json:"bytes"` // in those files
	Failed  []Failure     `json:"failed,omitempty"`
	Untried int           `json:"untried,omitempty"` // steps after the place was lost or the run stopped
	Stopped bool          `json:"stopped,omitempty"`
	Elapsed time.Duration `json:"elapsed"`
}

// progressEvery is the time between two progress events.
const progressEvery = 50 * time.Millisecond

// Run carries out a plan's steps in order. It sends events to the function, from
// one goroutine. A step that fails is reported and the next is tried, unless
// the place itself can no longer be written to. Cancelling the context stops
// the run; what was half done is removed.
func Run(ctx context.Context, p *plan.Plan, to place.Place, tell func(Event)) Report {
	r := &runner{to: to, tell: tell, start: time.Now()}
	for i, s := range p.Steps {
		if ctx.Err() != nil || r.lost != nil {
			r.report.Untried += len(p.Steps) - i
			break
		}
		r.step, r.path, r.bytes = i, s.Path, 0
		r.send(Event{Kind: Began})
		sum, err := r.do(ctx, s)
		switch {
		case err == nil:
			r.report.Done++
			if s.Kind == plan.Put {
				r.report.Put++
				r.report.Bytes += s.Source.Size
			}
			r.send(Event{Kind: Done, Bytes: r.bytes, Sum: sum})
		case ctx.Err() != nil:
			r.total -= r.bytes
			r.report.Untried++
		default:
			r.total -= r.bytes
			say := advise(err)
			r.report.Failed = append(r.report.Failed, Failure{i, s.Path, say})
			r.send(Event{Kind: Failed, Say: say})
			if errors.Is(err, place.ErrReadOnly) || errors.Is(err, place.ErrGone) {
				r.lost = r.lostPlace(ctx, s.Path, err)
			}
		}
	}
	r.report.Stopped = ctx.Err() != nil
	r.report.Elapsed = time.Since(r.start)
	r.path = ""
	r.send(Event{Kind: Ended, Stopped: r.report.Stopped})
	return r.report
}

type runner struct {
	to     place.Place
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

func (r *runner) send(e Event) {
	e.Step, e.Path, e.Total, e.Elapsed = r.step, r.path, r.total, time.Since(r.start)
	r.tell(e)
}

func (r *runner) do(ctx context.Context, s plan.Step) (sum string, err error) {
	switch s.Kind {
	case plan.Clear:
		return "", r.to.Remove(ctx, s.Path)
	case plan.MakeFolder:
		return "", r.to.MakeFolder(ctx, s.Path)
	case plan.Put:
		return r.put(ctx, s)
	}
	return "", fmt.Errorf("the step %q is not known", s.Kind)
}

func (r *runner) put(ctx context.Context, s plan.Step) (string, error) {
	src, err := openSource(s)
	if err != nil {
		return "", err
	}
	defer src.Close()
	w, err := r.to.Create(ctx, s.Path, src.Size())
	if err != nil {
		return "", err
	}
	wrote, err := copyTo(ctx, src, w, func(n int64) {
		r.bytes += n
		r.total += n
		if now := time.Now(); now.Sub(r.last) >= progressEvery {
			r.last = now
			r.send(Event{Kind: Progress, Bytes: r.bytes})
		}
	})
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = &SourceError{s.Source.Path, err}
	}
	if err == nil {
		err = w.Flush()
	}
	if err == nil {
		err = r.check(ctx, w, wrote, s)
	}
	if err == nil {
		// A source that is gone by now was read whole; one that was written to
		// meanwhile may have been read half old and half new.
		if err = unchanged(s); errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
	}
	if err == nil {
		err = w.Commit()
	}
	if err != nil {
		if aborted := w.Abort(); aborted != nil && !errors.Is(aborted, fs.ErrNotExist) {
			err = errors.Join(err, fmt.Errorf("what was half written could not be removed; the next run does it: %w", aborted))
		}
		return "", err
	}
	return wrote.String(), nil
}

// check reads the file back and compares.
func (r *runner) check(ctx context.Context, w place.Writer, want Sum, s plan.Step) error {
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
		return fmt.Errorf("reading %s back: %w", s.Path, err)
	}
	if got != want || back.Size() != s.Source.Size {
		return &ReadBackError{Path: s.Path}
	}
	return nil
}

// A ReadBackError is a file that the place gives back otherwise than it was written.
type ReadBackError struct{ Path string }

func (e *ReadBackError) Error() string {
	return fmt.Sprintf("%s came back otherwise than it was written; nothing was left under that name. The medium or its cable is probably failing: try another one", e.Path)
}

// openSource opens a source file, which must still be what was planned with.
func openSource(s plan.Step) (place.Content, error) {
	f := s.Source
	if f.Path == "" {
		return text{strings.NewReader(s.Text)}, nil
	}
	c, err := folder.OpenFile(f.Path)
	if err != nil {
		return nil, &SourceError{f.Path, err}
	}
	if err := unchanged(s); err != nil {
		_ = c.Close()
		return nil, err
	}
	return &sourceContent{c, f.Path}, nil
}

// text is the content of a file that has no source.
type text struct{ *strings.Reader }

func (t text) Close() error { return nil }

// Data is the text as one run.
func (t text) Data(off int64) (start, end int64) { return min(off, t.Size()), t.Size() }

// unchanged says whether a source file is still what was planned with.
func unchanged(s plan.Step) error {
	f := s.Source
	if f.Path == "" {
		return nil
	}
	info, err := os.Stat(f.Path)
	if err != nil {
		return &SourceError{f.Path, err}
	}
	if info.Size() != f.Size {
		return &SourceError{f.Path, fmt.Errorf("it had %s when it was looked at and has %s now; scan again", size.Format(f.Size), size.Format(info.Size()))}
	}
	if !info.ModTime().Equal(f.Modified) {
		return &SourceError{f.Path, errors.New("it was written to since it was looked at; scan again")}
	}
	return nil
}

// A SourceError is a source file that cannot be read as planned.
type SourceError struct {
	Path string
	Err  error
}

func (e *SourceError) Error() string {
	var pe *fs.PathError
	if errors.As(e.Err, &pe) {
		return fmt.Sprintf("reading the source %s: %v", e.Path, pe.Err)
	}
	return fmt.Sprintf("reading the source %s: %v", e.Path, e.Err)
}

// Unwrap returns what the system said.
func (e *SourceError) Unwrap() error { return e.Err }

// sourceContent marks read errors as the source's.
type sourceContent struct {
	place.Content
	path string
}

func (c *sourceContent) ReadAt(b []byte, off int64) (int, error) {
	n, err := c.Content.ReadAt(b, off)
	if err != nil && n < len(b) && !errors.Is(err, io.EOF) {
		err = &SourceError{c.path, err}
	}
	return n, err
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
	var source *SourceError
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
	case errors.Is(err, place.ErrExists):
		say += "; it is left as it is"
	}
	return say
}
