package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"polytome/internal/core/estimate"
	"polytome/internal/core/movesources"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

// printWrong reports which titles that are wanted do not start as they are there.
func printWrong(out io.Writer, s *survey.Survey, wrong []survey.Wrong) {
	can := 0
	fmt.Fprintf(out, "Selected on %s and there, but not starting: %s\n", s.Config.Name, size.Count(len(wrong), "title"))
	for _, w := range wrong {
		fmt.Fprintf(out, "  %s: %s\n", clean(s.Titles[w.Title].Label()), clean(w.Say))
		if len(w.Fixes) > 0 {
			can++
		}
	}
	if can > 0 {
		fmt.Fprintf(out, "  fill --fix fixes %d of them\n", can)
	}
}

// moveSources moves the files of titles that have been copied.
func (f *filling) moveSources(ctx context.Context, all survey.Board, to string) error {
	var carried []movesources.Carried
	for n, l := range f.lanes {
		if l != nil {
			carried = append(carried, movesources.Carried{Survey: all[n], Plan: l.plan, Report: l.report})
		} else if all[n] != nil {
			return fmt.Errorf("%s was not connected, so no source is moved: it may still be needed there",
				all[n].Config.Name)
		}
	}
	found := movesources.Find(carried)
	moved, err := movesources.Move(ctx, found.Files, f.bench.SourcePaths(), to)
	if err != nil {
		return err
	}
	if f.asJSON {
		return f.object(map[string]any{"moved": map[string]any{"titles": found.Titles, "files": moved.Files,
			"bytes": moved.Bytes, "to": to, "stay": found.Stay}})
	}
	where := "to " + to
	if to == movesources.Trash {
		where = "to the trash"
	}
	fmt.Fprintf(f.out, "\n%s of %s, %s, moved %s.\n", size.Count(moved.Files, "file"), size.Count(len(found.Titles),
		"title"), size.Format(moved.Bytes), where)
	for _, say := range found.Stay {
		fmt.Fprintf(f.out, "  %s.\n", say)
	}
	for _, err := range moved.Failed {
		fmt.Fprintf(f.out, "  not moved: %v\n", err)
	}
	if len(moved.Failed) > 0 {
		return errPartial
	}
	return nil
}

// line prints one object; with the target that it is of, where there are several.
func (l *lane) line(key string, v any) error {
	o := map[string]any{key: v}
	if !l.only {
		o["target"] = l.name
	}
	return l.f.object(o)
}

func (f *filling) object(v any) error {
	e := json.NewEncoder(plain(f.out))
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

func (l *lane) begin(s *survey.Survey) error {
	f := l.f
	if f.asJSON {
		return l.line("plan", l.plan)
	}
	fmt.Fprintf(f.out, "%s: %s; %d already there, by name and length; %s\n", s.Config.Name, l.plan.Say(), l.plan.There,
		s.PlanTime(l.plan))
	cache := openCache(io.Discard)
	known := s.KnownWrong(cache)
	if len(known) > 0 {
		fmt.Fprintf(f.out, "  %s of these did not start at the last check, and nothing has changed since: fill --fix "+
			"fixes what it can\n", size.Count(len(known), "title"))
	}
	_ = cache.Close()
	if l.plan.Empty() && len(known) == 0 {
		fmt.Fprintf(f.out, "  nothing to write: %s\n", l.plan.Idle())
	}
	if say := s.Plain(); say != "" {
		fmt.Fprintf(f.out, "  note: %s\n", say)
	}
	for _, say := range l.plan.Notes {
		fmt.Fprintf(f.out, "  note: %s\n", say)
	}
	if f.dry {
		for i := range l.plan.Steps {
			fmt.Fprintf(f.out, "  %s\n", describe(&l.plan.Steps[i]))
		}
	}
	printLeft(f.out, l.plan.Left)
	if f.dry {
		fmt.Fprintln(f.out, "Nothing was written.")
	}
	return nil
}

// event prints one event of the run.
func (l *lane) event(e run.Event) {
	f := l.f
	f.mu.Lock()
	defer f.mu.Unlock()
	if l.forecast != nil {
		l.forecast.Event(e)
	}
	l.total = e.Total
	if f.progress == progressJSON {
		o := map[string]any{"event": e}
		if l.forecast != nil {
			o["left"] = l.forecast.Left()
		}
		if !l.only {
			o["target"] = l.name
		}
		_ = json.NewEncoder(os.Stderr).Encode(o)
	}
	if f.asJSON {
		_ = l.line("event", e)
		return
	}
	step := plan.Step{}
	if e.Step < len(l.plan.Steps) {
		step = l.plan.Steps[e.Step]
	}
	say := func(format string, args ...any) {
		f.passing.clear()
		if !l.only {
			fmt.Fprintf(f.out, "  %s:", l.name)
		} else {
			fmt.Fprint(f.out, " ")
		}
		fmt.Fprintf(f.out, " "+format+"\n", args...)
	}
	switch e.Kind {
	case run.Progress, run.Checking:
		f.passing.draw(func() string { return f.passingLine(l, e, &step) })
	case run.Resuming:
		say("resuming: %s of %s are already there", size.Format(e.Bytes), step.Path)
	case run.Done:
		if step.Writes() {
			l.done++
			l.spared += max(0, step.Size-e.Bytes)
		}
		say("done: %s", describe(&step))
	case run.Failed:
		say("FAILED: %s: %s", step.Path, e.Say)
	case run.Rewriting, run.PutOff, run.Waiting:
		if !l.said[e.Say] { // once
			l.said[e.Say] = true
			say("%s", e.Say)
		}
	case run.Back:
		say("it is back")
	case run.Began, run.Ended, run.Skipped, run.Paused, run.Resumed, run.Reordered:
	}
}

// passingLine is how far all targets are.
func (f *filling) passingLine(of *lane, e run.Event, step *plan.Step) string {
	if of.only {
		doing := "copy"
		if e.Kind == run.Checking {
			doing = "check"
		}
		share := of.forecast.Share()
		line := fmt.Sprintf("%s %3.0f %%  %d of %s  %s", bar(share), 100*share, of.done,
			size.Count(of.plan.Files, "file"), size.Format(e.Total))
		if e.Elapsed > time.Second {
			line += fmt.Sprintf("  %s/s  about %s left", size.Format(int64(float64(e.Total)/e.Elapsed.Seconds())),
				estimate.Words(of.forecast.Left()))
		}
		return line + "  " + doing + " " + step.Path
	}
	var parts []string
	longest := time.Duration(0)
	for _, l := range f.lanes {
		if l == nil || l.forecast == nil {
			continue
		}
		state := fmt.Sprintf("%.0f %%", 100*l.forecast.Share())
		if l.report != nil {
			state = "over"
		} else {
			longest = max(longest, l.forecast.Left())
		}
		parts = append(parts, l.name+" "+state)
	}
	return strings.Join(parts, ", ") + "; about " + estimate.Words(longest) + " left"
}

func percent(n, of int64) float64 {
	if of <= 0 {
		return 100
	}
	return 100 * float64(n) / float64(of)
}

func isTerminal(f *os.File) bool {
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

func (l *lane) end() error {
	r, f := l.report, l.f
	if f.asJSON {
		return l.line("run", r)
	}
	if !l.only {
		fmt.Fprintf(f.out, "%s: ", l.name)
	}
	done := "copied, " + r.Verify.Words()
	if l.plan.Refers {
		done = "laid out, read from where they lie"
	}
	fmt.Fprintf(f.out, "%s %s, %s in %s", size.Count(r.Put, "file"), done, size.Format(r.Bytes),
		r.Elapsed.Round(10*time.Millisecond))
	for _, x := range []struct {
		n    int
		said string
	}{
		{r.Moved, fmt.Sprintf("%d renamed", r.Moved)}, {r.Removed, size.Count(r.Removed, "file") + " removed"},
		{r.Kept, fmt.Sprintf("%s kept in %s", size.Count(r.Kept, "file"), l.plan.BackupTo)},
		{int(r.Resumed), size.Format(r.Resumed) + " were there from before"},
		{r.Rewritten, fmt.Sprintf("%s had to be written twice, so the medium or its cable is not to be trusted",
			size.Count(r.Rewritten, "file"))},
		{r.Breaks, fmt.Sprintf("the connection was lost and restored %d times", r.Breaks)},
		{len(r.Failed), size.Count(len(r.Failed), "step") + " failed"},
		{r.Skipped, size.Count(r.Skipped, "step") + " skipped"}, {r.Untried, size.Count(r.Untried, "step") +
			" not tried"},
		{len(r.Half), r.Waits()},
	} {
		if x.n > 0 {
			fmt.Fprintf(f.out, "; %s", x.said)
		}
	}
	fmt.Fprintln(f.out, ".")
	for _, x := range r.Failed { // that no step is to blame for
		if x.Path == "" {
			fmt.Fprintf(f.out, "  FAILED: %s\n", x.Say)
		}
	}
	return nil
}
