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
	"polytome/internal/parallel"
	"polytome/internal/size"
	"polytome/internal/target"
)

// A task is one step under way.
type task struct {
	l       *Lane
	i       int
	s       *plan.Step
	opener  *source.Opener
	ahead   *ahead // what of its group is made ahead; nil for nothing
	cancel  context.CancelCauseFunc
	began   time.Duration // on the lane's clock
	last    time.Time     // of the last event of progress
	bytes   int64         // of the file that are on the target
	resumed int64         // of them, those that were there from an earlier try
	half    bool          // some of the file was left, to be resumed
}

// end reports how the step ended, and decides what becomes of it and of the target.
func (t *task) end(ctx context.Context, sum string, err error) {
	l := t.l
	cause := context.Cause(ctx)
	t.cancel(nil)
	l.ask(func(c *course) {
		delete(c.cancels, t.i)
		if err != nil {
			c.total -= t.bytes
		} else {
			c.count(t, c.elapsed()-t.began)
		}
	})
	switch {
	case err == nil:
		l.unwanted(t.i)
		l.emit(Event{Kind: Done, Bytes: t.bytes, Sum: sum}, t.i)
	case errors.Is(cause, errSkipped):
		l.unwanted(t.i)
		l.emit(Event{Kind: Skipped}, t.i)
	case cause != nil: // the run was stopped
		if t.half {
			l.ask(func(c *course) {
				c.report.Half, c.report.HalfBytes, c.report.HalfOf = t.s.Path, t.bytes, t.s.Size
			})
		}
	case t.passes(ctx, err):
	default:
		t.fail(ctx, err)
	}
}

// triesOfOne is how often one step is put off, as the target goes away in the middle of it.
const triesOfOne = 5

// passes puts a step off whose fault may pass. It reports whether it did.
func (t *task) passes(ctx context.Context, err error) bool {
	l := t.l
	busy, gone := errors.Is(err, target.ErrBusy), errors.Is(err, target.ErrGone) && l.job.Open != nil
	var tries int
	l.ask(func(c *course) {
		c.tries[t.i]++
		tries = c.tries[t.i]
	})
	var src *shape.SourceError
	if !busy && !gone || tries > triesOfOne || l.job.Patience < 0 || errors.As(err, &src) {
		return false
	}
	if busy && !gone {
		wait := min(l.job.FirstWait<<(tries-1), MostWait)
		l.emit(Event{Kind: PutOff, Say: fmt.Sprintf("%v; trying again in %s", err, wait.Round(time.Second/10))}, t.i)
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	} else {
		l.ask(func(c *course) { c.gone = err })
		l.emit(Event{Kind: PutOff, Say: err.Error()}, t.i)
	}
	l.ask(func(c *course) { c.putOff(t.i) })
	return true
}

// fail has the step have failed.
func (t *task) fail(ctx context.Context, err error) {
	var dep *DependentError
	t.l.unwanted(t.i)
	t.l.emit(Event{Kind: Failed, Say: advise(err), Dependent: errors.As(err, &dep)}, t.i)
	if errors.Is(err, target.ErrReadOnly) || errors.Is(err, target.ErrGone) {
		if lost := t.lostTarget(ctx, err); lost != nil {
			t.l.lose(lost)
		}
	}
}

// A DependentError reports a step that was not done because another one failed.
type DependentError struct{ On string }

func (e *DependentError) Error() string {
	return fmt.Sprintf("not done, because %s failed; fix that and run again", e.On)
}

// ready reports why a step cannot be done now.
func (t *task) ready(ctx context.Context) error {
	if err := t.held(); err != nil {
		return err
	}
	return t.recheck(ctx)
}

// held reports on which other step it hangs that was not done.
func (t *task) held() (err error) {
	t.l.ask(func(c *course) { err = c.held(t.s) })
	return err
}

// do carries out the step. One that may have been done before, when no one got to know of it any longer, is looked at.
func (t *task) do(ctx context.Context) (sum string, err error) {
	err = parallel.Safely(func() (err error) {
		sum, err = t.try(ctx)
		return t.already(ctx, err)
	})
	return sum, err
}

// already returns nil where a step that cannot be done has been before, and the error otherwise, or why that cannot be
// found out now.
func (t *task) already(ctx context.Context, err error) error {
	again := t.l.job.Again
	t.l.ask(func(c *course) { again = again || c.tries[t.i] > 0 })
	if err == nil || !again || ctx.Err() != nil {
		return err
	}
	is, asking := t.is(ctx, err)
	if asking != nil && (errors.Is(asking, target.ErrGone) || errors.Is(asking, target.ErrBusy) || ctx.Err() != nil) {
		return asking
	}
	if is {
		return nil
	}
	return err
}

// is reports whether all is as the step makes it.
func (t *task) is(ctx context.Context, err error) (bool, error) {
	to, s := t.l.to, t.s
	gone := func(name string) bool {
		_, err := to.Stat(ctx, name)
		return errors.Is(err, fs.ErrNotExist)
	}
	switch s.Kind {
	case plan.Clear, plan.Remove, plan.RemoveFolder:
		return gone(s.Path), nil
	case plan.Move:
		is, err := to.Stat(ctx, s.Path)
		return err == nil && gone(s.From) && s.Was != nil && is.Folder == s.Was.Folder &&
			(is.Folder || is.Size == s.Was.Size), err
	case plan.Copy, plan.Replace:
		if errors.Is(err, target.ErrExists) || errors.Is(err, target.ErrChanged) {
			return t.same(ctx)
		}
	}
	return false, nil
}

// same compares the file that is there with what was to be written, byte for byte.
func (t *task) same(ctx context.Context) (bool, error) {
	is, err := t.l.to.Open(ctx, t.s.Path)
	if err != nil {
		return false, err
	}
	defer is.Close()
	src, err := t.opener.Make(ctx, t.s.Make)
	if err != nil {
		return false, err
	}
	defer src.Close()
	want, err := eachBlock(ctx, src, turnOf(t.s), func(block) error { return t.l.gate(ctx) })
	if err != nil || src.Size() != is.Size() {
		return false, err
	}
	got, err := eachBlock(ctx, is, nil, func(b block) error { t.progress(Checking, b.off); return t.l.gate(ctx) })
	if err != nil || got.Sum() != want.Sum() {
		return false, err
	}
	t.wrote(src.Size())
	t.resumed = src.Size()
	return true, nil
}

func (t *task) try(ctx context.Context) (sum string, err error) {
	if err := t.ready(ctx); err != nil {
		return "", err
	}
	to, s := t.l.to, t.s
	switch s.Kind {
	case plan.Clear, plan.Remove, plan.RemoveFolder:
		return "", to.Remove(ctx, s.Path)
	case plan.MakeFolder:
		return "", to.MakeFolder(ctx, s.Path)
	case plan.Move:
		return "", to.Rename(ctx, s.From, s.Path)
	case plan.Backup:
		return t.keep(ctx)
	case plan.Copy, plan.Replace:
		return t.put(ctx)
	}
	return "", fmt.Errorf("unknown step %q", s.Kind)
}

// clockSteps is how far two dates of one file may lie apart: FAT keeps every other second.
const clockSteps = 2 * time.Second

// recheck fails when the target is not what it was when the plan was made.
func (t *task) recheck(ctx context.Context) error {
	s := t.s
	if s.Was == nil {
		return nil
	}
	at := s.Path
	if s.Kind == plan.Move {
		at = s.From
	}
	is, err := t.l.to.Stat(ctx, at)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%s is gone: %w", at, target.ErrChanged)
	case err != nil:
		return err
	case is.Folder != s.Was.Folder:
		return fmt.Errorf("%s has changed: %w", at, target.ErrChanged)
	case !is.Folder && is.Size != s.Was.Size:
		return fmt.Errorf("%s had %s and has %s now: %w", at, size.Format(s.Was.Size), size.Format(is.Size),
			target.ErrChanged)
	case !is.Folder && is.Modified.Sub(s.Was.Modified).Abs() > clockSteps:
		return fmt.Errorf("%s has changed since: %w", at, target.ErrChanged)
	}
	return nil
}

// lostTarget decides whether an error was about one file or folder, or about the whole
// target: then nothing more can be written beside the file, nor at the root.
func (t *task) lostTarget(ctx context.Context, err error) error {
	for _, dir := range []string{path.Dir(t.s.Path), "."} {
		w, createErr := t.l.to.Create(ctx, path.Join(dir, target.TemporaryPrefix+"probe"), 0)
		if createErr == nil {
			createErr = w.Flush() // some targets begin a file only when it has to be there
			_ = w.Abort()
		}
		if createErr == nil {
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
	case errors.Is(err, target.ErrNoFiles):
		say += "; there may be free bytes, but no free entries: remove files you do not need, or reformat it for " +
			"more files"
	case errors.Is(err, target.ErrNoSpace):
		say += "; free some space on it, or deselect titles, and run again"
	case errors.Is(err, target.ErrReadOnly):
		say += "; check its write protection and permissions, and run again"
	case errors.Is(err, target.ErrGone):
		say += "; reconnect it and run again: finished files are kept"
	case errors.Is(err, target.ErrChanged):
		say += "; nothing was touched; run again to plan with what is there now"
	case errors.Is(err, target.ErrExists):
		say += "; it is left as it is"
	case errors.Is(err, target.ErrBusy):
		say += "; run again in a while"
	}
	return say
}
