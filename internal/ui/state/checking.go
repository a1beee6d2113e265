package state

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"io"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/check"
	"polytome/internal/core/fix"
	"polytome/internal/core/scancache"
	"polytome/internal/core/survey"
	"polytome/internal/format/picture"
	"polytome/internal/size"
)

// A CheckMsg is the audit of a target.
type CheckMsg struct {
	ticket
	report *check.Report
	before *check.Report // the one before, nil for none
	err    error
}

// Checked is what is known of the check of a target.
type Checked struct {
	*check.Report               // nil until made; what differs from the check before is in it
	Before        *check.Report // the check before this one, nil for none
	Trouble       string        // why the target could not be checked
}

// StartCheck audits a target in the background, as closely as is asked for; "" for as closely as is usual.
func (d *State) StartCheck(n int, depth check.Depth) tea.Cmd { return d.startCheck(n, depth, nil) }

// startCheck is StartCheck, after a run that has just ended; nil for none.
func (d *State) startCheck(n int, depth check.Depth, after *Lane) tea.Cmd {
	s := d.Targets[n].Survey
	if s == nil || d.Checking(n) {
		return nil
	}
	mine, ctx := d.begin(n, checking)
	checker, cache, j := s.Checker(d.Bench, n, depth, nil), d.CacheFile, d.Journal
	if after != nil {
		checker.JustRan(after.Plan, after.Report)
	}
	return func() tea.Msg {
		checker.Journal = j
		var store *scancache.Store
		if cache != "" {
			if opened, err := scancache.Open(cache); opened != nil && err == nil {
				store = opened
				defer store.Close()
			}
		}
		r, before, err := checker.CheckAgain(ctx, store)
		return CheckMsg{mine, r, before, err}
	}
}

// Checking reports whether target n is being checked.
func (d *State) Checking(n int) bool { return d.goesOn(n, checking) }

// SetCheck takes over an audit, unless choices have changed or a run was begun since.
func (d *State) SetCheck(m CheckMsg) tea.Cmd {
	n, ok := d.end(m.ticket)
	if !ok {
		return nil
	}
	if m.err != nil {
		d.Notice = m.err.Error()
		d.Targets[n].Check.Trouble = m.err.Error()
		return nil
	}
	d.Targets[n].Check = Checked{Report: m.report, Before: m.before}
	return d.noteVolume(n, survey.Noted{Check: m.report})
}

// MarkFixes takes up what fixes findings at a target, or gives it up again when all of it is taken up. The check that
// is shown stays.
func (d *State) MarkFixes(n int, fixes []fix.Fix) tea.Cmd {
	if n >= len(d.Bench.Targets) || d.busy() {
		return nil
	}
	if len(fixes) == 0 {
		d.Notice = "This cannot be fixed from here: do what the arrow says, then check again (p)."
		return nil
	}
	p := &d.Bench.Targets[n]
	d.remember()
	if p.Fixing(fixes...) {
		p.Unfix(fixes...)
		d.Notice = "Not to be fixed any more. u undoes."
	} else {
		p.Fix(fixes...)
		d.Notice = fmt.Sprintf("%s marked: 3 shows them in the tree, and the next run (4) makes them. u undoes.",
			size.Count(len(fixes), "change"))
	}
	choices := false
	for i := range fixes {
		choices = choices || fixes[i].Choice()
	}
	shown := make([]Checked, len(d.Targets))
	for n, t := range d.Targets {
		shown[n] = t.Check
	}
	cmd := d.changed()
	for n, t := range d.Targets {
		t.Check = shown[n]
	}
	if choices {
		cmd = tea.Batch(d.SurveyTarget(n), cmd)
	}
	return cmd
}

// Tick ticks a line of a target's checklist off, or takes the tick away.
func (d *State) Tick(n int, line string) tea.Cmd {
	if who := d.Bench.ReadOnly(); who != "" {
		d.Notice = "Another Polytome has this bench open, so ticks are not saved here."
		return nil
	}
	d.Bench.Targets[n].Tick(line)
	return d.save()
}

// AskChecklist asks where the checklist of a target is written to, as plain text.
func (d *State) AskChecklist(n int) {
	r := d.Targets[n].Check.Report
	if r == nil {
		d.Notice = "The checklist comes with a check: p runs one."
		return
	}
	p := &d.Bench.Targets[n]
	text := check.ChecklistText(p.Name, r.Checklist, survey.Ticked(p))
	d.Ask(Question{Prompt: "Write the checklist to: ", Hint: "a text file, such as checklist.txt", Value: "checklist " +
		strings.ReplaceAll(p.Name, "/", "-") + ".txt", Done: func(answer string) tea.Cmd {
		file, err := filepath.Abs(Expand(answer))
		if err == nil && answer != "" {
			err = writeNew(file, text)
		}
		switch {
		case answer == "":
			d.Notice = "Nothing was written."
		case err != nil:
			d.Notice = Sentence(err.Error())
		default:
			d.Notice = "The checklist is in " + file + "."
		}
		return nil
	}})
}

// writeNew writes a file that is not there yet.
func writeNew(file, text string) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	if _, err := f.WriteString(text); err != nil {
		_ = f.Close()
		return err
	}
	return f.Close()
}

// A CoverMsg is a picture that is on a target; nil for one that cannot be shown.
type CoverMsg struct {
	Of      *check.Report // the check that it was shown in
	Path    string
	Picture image.Image
}

// coverRule is how large pictures are kept to be shown: more than any window has half cells.
var coverRule = picture.Rule{Width: 240, Height: 240, Fit: "inside", Format: "png"}

// largestCover is how many bytes a picture has at most that is shown.
const largestCover = 32 << 20

// Cover reads a picture of a target in the background.
func (d *State) Cover(n int, path string) tea.Cmd {
	if d.At(n).Survey == nil {
		return nil
	}
	look, ctx, of := *d.Targets[n].Survey, d.Ctx, d.Targets[n].Check.Report
	return func() tea.Msg {
		im, _ := readCover(ctx, &look, path)
		return CoverMsg{of, path, im}
	}
}

func readCover(ctx context.Context, s *survey.Survey, path string) (image.Image, error) {
	p, err := s.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	c, err := p.Open(ctx, path)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	if c.Size() > largestCover {
		return nil, fmt.Errorf("it is too large: %s", size.Format(c.Size()))
	}
	small, err := picture.Fit(io.NewSectionReader(c, 0, c.Size()), coverRule)
	if err != nil {
		return nil, err
	}
	im, _, err := image.Decode(bytes.NewReader(small))
	return im, err
}
