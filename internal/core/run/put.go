package run

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"time"

	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/target"
)

// written is a file that has no name yet.
type written struct {
	w      target.Writer
	sums   sums
	length int64
}

// put writes the file of a step, has it checked and named.
func (t *task) put(ctx context.Context) (string, error) { return t.putAs(ctx, false) }

// putAgain is put for a file that came back wrong once.
func (t *task) putAgain(ctx context.Context) (string, error) { return t.putAs(ctx, true) }

func (t *task) putAs(ctx context.Context, again bool) (string, error) {
	if to, ok := t.l.to.(target.Referrer); ok {
		if done, err := t.refer(ctx, to); done || err != nil {
			return "", err
		}
	}
	for ; ; again = true {
		f, err := t.write(ctx, !again)
		if f == nil {
			return "", err
		}
		if err = f.w.Flush(); err == nil {
			err = t.readBack(ctx, f)
		}
		var wrong *ReadBackError
		if errors.As(err, &wrong) && !again {
			if aborted := f.w.Abort(); aborted != nil {
				return "", aborted
			}
			t.rewrite(wrong)
			continue
		}
		if err == nil {
			if err = f.w.Commit(); err == nil {
				t.note()
				return f.sums.Sum().String(), nil
			}
		}
		return "", t.giveUp(ctx, f.w, err)
	}
}

// refer has the target read the file of a step from where it lies. It reports whether it does: what cannot be read so
// is written.
func (t *task) refer(ctx context.Context, to target.Referrer) (bool, error) {
	s := t.s
	if err := source.Unchanged(s.Make); err != nil {
		return false, err
	}
	recipe, ok, err := t.opener.Recipe(s.Make)
	if !ok || err != nil {
		return false, err
	}
	modified := s.Make.Source.Modified
	if modified.IsZero() {
		modified = time.Now()
	}
	if err := to.Refer(ctx, target.Referral{Path: s.Path, Size: s.Make.Size, Modified: modified, Recipe: recipe,
		Over: s.Kind == plan.Replace}); err != nil {
		return false, err
	}
	t.wrote(s.Make.Size)
	t.note()
	return true, nil
}

// rewrite notes that the file is written again.
func (t *task) rewrite(wrong *ReadBackError) {
	l := t.l
	l.ask(func(c *course) {
		c.total -= t.bytes
		c.report.Rewritten++
	})
	t.bytes, t.resumed = 0, 0
	l.emit(Event{Kind: Rewriting, Say: fmt.Sprintf("%s reads back differently from byte %d on; writing it once more",
		t.s.Path, wrong.Offset)}, t.i)
}

// leaveFrom is from how many bytes on a half file is worth being left for the next try, rather than removed.
const leaveFrom = 4 << 20

// giveUp removes what was written, or leaves it to be resumed.
func (t *task) giveUp(ctx context.Context, w target.Writer, err error) error {
	suspender, leaves := w.(target.Suspender)
	_, resumes := t.l.to.(target.Resumer)
	stopped := ctx.Err() != nil && !errors.Is(context.Cause(ctx), errSkipped)
	if leaves && resumes && t.bytes >= leaveFrom && (stopped || errors.Is(err, target.ErrGone)) {
		if left := suspender.Leave(); left == nil {
			t.half = true
			return err
		}
	}
	if aborted := w.Abort(); aborted != nil && !errors.Is(aborted, fs.ErrNotExist) && !errors.Is(err, target.ErrGone) {
		err = errors.Join(err, fmt.Errorf("the half-written file could not be removed; the next run will do it: %w",
			aborted))
	}
	return err
}

// write writes the file of a step. It returns nil and no error where there is nothing to write. With goOn, what an
// earlier try has left is resumed.
func (t *task) write(ctx context.Context, goOn bool) (*written, error) {
	l, s := t.l, t.s
	begin := l.to.Create
	if s.Kind == plan.Replace {
		begin = l.to.Replace
	}
	var w target.Writer
	_, resumes := l.to.(target.Resumer)
	if s.Make.OnTarget() && l.job.From == nil && s.Make.Shape == shape.Whole && !resumes {
		// the first write may have the target opened again, and what was opened of it before would be closed
		var err error
		if w, err = begin(ctx, s.Path, s.Make.Size); err != nil {
			return nil, err
		}
	}
	src, err := t.open(ctx)
	if err != nil && w != nil {
		return nil, errors.Join(err, w.Abort())
	}
	if errors.Is(err, shape.ErrNotNeeded) {
		return nil, nil // it turned out shorter than it might have been
	}
	if err != nil {
		return nil, err
	}
	defer src.Close()
	if goOn && src.Size() >= leaveFrom {
		f, err := t.goOn(ctx, src)
		if f != nil || err != nil {
			return f, err
		}
	}
	if w == nil {
		if w, err = begin(ctx, s.Path, src.Size()); err != nil {
			return nil, err
		}
	}
	return t.copy(ctx, src, w, func(block) (int64, error) { return 0, nil })
}

// copy writes what of the source's blocks is not there yet: for each, it is known how many bytes are.
func (t *task) copy(ctx context.Context, src target.Content, w target.Writer, there func(block) (int64, error)) (
	*written, error) {
	l, s := t.l, t.s
	var of turn
	if !l.job.AtOnce {
		of = turnOf(s)
	}
	clone := clones(src, w)
	all, err := eachBlock(ctx, src, of, func(b block) error {
		k, err := there(b)
		if k == b.n || err != nil {
			return err
		}
		b = b.behind(k)
		if err := l.gate(ctx); err != nil {
			return err
		}
		if err := l.limit.wait(ctx, b.n); err != nil {
			return err
		}
		ok, err := clone.write(b)
		if err == nil && !ok {
			err = writeBlock(b, w)
		}
		if err == nil {
			t.wrote(b.n)
			t.progress(Progress, t.bytes)
		}
		return err
	})
	if err == nil && ctx.Err() != nil {
		err = ctx.Err()
	}
	f := &written{w: w, sums: all, length: src.Size()}
	var se *shape.SourceError
	if errors.Is(err, io.ErrUnexpectedEOF) && s.Make.Source.Path != "" && !errors.As(err, &se) &&
		!errors.Is(err, target.ErrGone) {
		err = &shape.SourceError{Path: s.Make.Source.Path, Err: err}
	}
	if err != nil {
		return nil, t.giveUp(ctx, w, err)
	}
	return f, nil
}

// wrote counts bytes that are on the target.
func (t *task) wrote(n int64) {
	t.bytes += n
	t.l.ask(func(c *course) { c.total += n })
}

// progress reports how far the step is, now and then.
func (t *task) progress(kind EventKind, n int64) {
	if now := time.Now(); now.Sub(t.last) >= progressEvery {
		t.last = now
		t.l.emit(Event{Kind: kind, Bytes: n}, t.i)
	}
}

// tailBlocks is how many of the last blocks of an interrupted file are compared before it is resumed, where all of it
// is read back at the end.
const tailBlocks = 2

// errOther reports that an interrupted file is not the beginning of its source.
var errOther = errors.New("what is there is not the beginning of the file")

// goOn resumes what an earlier try has left. It returns nil, and no error, when there is nothing of use. What is there
// is compared with the source: all of it, or only its end where the whole file is read back afterwards in any case.
func (t *task) goOn(ctx context.Context, src target.Content) (*written, error) {
	resumer, ok := t.l.to.(target.Resumer)
	if !ok {
		return nil, nil
	}
	w, err := resumer.Resume(ctx, t.s.Path, src.Size(), t.s.Kind == plan.Replace)
	if err != nil {
		if errors.Is(err, target.ErrGone) || errors.Is(err, target.ErrExists) || ctx.Err() != nil {
			return nil, err
		}
		return nil, nil //nolint:nilerr // it is begun again, and fails then if it has to
	}
	end := min(w.There(), src.Size())
	from := int64(0)
	if t.l.job.Verify == VerifyFull {
		from = max(0, (end+blockSize-1)/blockSize-tailBlocks) * blockSize
	}
	back, err := w.ReadBack()
	if err != nil || end < blockSize {
		if back != nil {
			_ = back.Close()
		}
		return nil, t.without(w, err)
	}
	defer back.Close()
	buf := make([]byte, blockSize)
	kept := false
	keep := func(n int64) error {
		kept = true
		if n == 0 {
			return errOther
		}
		if err := back.Close(); err != nil {
			return err
		}
		if err := w.Keep(n); errors.Is(err, target.ErrGone) {
			return err
		} else if err != nil {
			return errOther // it goes on behind all of what is there, or not at all
		}
		t.bytes, t.resumed = n, n
		t.l.ask(func(c *course) { c.total += n })
		t.l.emit(Event{Kind: Resuming, Bytes: n}, t.i)
		return nil
	}
	f, err := t.copy(ctx, src, w, func(b block) (int64, error) {
		is := min(b.n, end-b.off) // bytes of the block that are there
		switch {
		case kept:
			return 0, nil
		case is <= 0:
			return 0, keep(end)
		case b.off < from:
			return b.n, nil
		}
		if k, err := back.ReadAt(buf[:is], b.off); int64(k) < is {
			if errors.Is(err, target.ErrGone) || ctx.Err() != nil {
				return 0, err
			}
			return 0, errOther
		}
		switch {
		case !bytes.Equal(buf[:is], b.bytes()[:is]) && from > 0: // nothing is known of what comes before
			return 0, errOther
		case !bytes.Equal(buf[:is], b.bytes()[:is]):
			return 0, keep(b.off)
		case is < b.n:
			return is, keep(end)
		}
		return is, nil
	})
	switch {
	case errors.Is(err, errOther):
		return nil, nil
	case err == nil && !kept: // all of it was there
		err := keep(min(end, f.length)) // what is made on the way may end earlier than it might have
		if errors.Is(err, errOther) {
			return nil, t.without(w, nil)
		}
		if err != nil {
			return nil, t.giveUp(ctx, w, err)
		}
	}
	return f, err
}

// without gives up what was left; the file is begun again.
func (t *task) without(w target.Writer, err error) error {
	if aborted := w.Abort(); aborted != nil && errors.Is(aborted, target.ErrGone) {
		return aborted
	}
	if err != nil && errors.Is(err, target.ErrGone) {
		return err
	}
	return nil
}

// check checks a flushed file, and looks whether its source and what it replaces are what they were.
func (t *task) readBack(ctx context.Context, f *written) error {
	s := t.s
	if err := t.verify(ctx, f); err != nil {
		return err
	}
	// A source that is gone by now was read whole; one that was written to
	// meanwhile may have been read half old and half new.
	if err := source.Unchanged(s.Make); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if s.Kind == plan.Replace { // it took a while since
		if err := t.recheck(ctx); err != nil {
			return err
		}
	}
	var date time.Time
	if from := &s.Make.Source; from.Entry != "" {
		date = from.Modified // what is taken out of something keeps its date
	}
	if with := s.Make.With; with != nil && !with.Dated.IsZero() {
		date = with.Dated
	}
	if date.IsZero() {
		return nil
	}
	return f.w.Date(date)
}

// note remembers the text that a step wrote from a rule.
func (t *task) note() {
	s := t.s
	picture := s.Make.Shape == shape.Fitted && !s.Fix
	if !picture && (s.Make.Shape != shape.Written || len(s.Make.Sums) > 0) {
		return
	}
	text := ""
	switch {
	case picture:
		text = shape.Made(s.Make, t.bytes)
	case !s.Merged:
		text = string(s.Make.Text)
	case s.Wanted != "":
		text = string(s.Wanted)
	default:
		return
	}
	t.l.ask(func(c *course) {
		if c.report.Wrote == nil {
			c.report.Wrote = map[string]string{}
		}
		c.report.Wrote[s.Path] = text
	})
}
