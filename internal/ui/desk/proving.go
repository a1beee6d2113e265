package desk

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

	"polytome/internal/core/mend"
	"polytome/internal/core/proof"
	"polytome/internal/core/seen"
	"polytome/internal/core/survey"
	"polytome/internal/format/picture"
	"polytome/internal/size"
)

// A ProofMsg is the audit of a place.
type ProofMsg struct {
	ticket
	report *proof.Report
	before *proof.Report // the one before, nil for none
	err    error
}

// Proved is what is known of the proof of a place.
type Proved struct {
	*proof.Report               // nil until made; what differs from the proof before is in it
	Before        *proof.Report // the proof before this one, nil for none
	Trouble       string        // why the place could not be proved
}

// StartProof audits a place in the background, as closely as is asked for; "" for as closely as is usual.
func (d *Desk) StartProof(n int, depth proof.Depth) tea.Cmd { return d.startProof(n, depth, nil) }

// startProof is StartProof, after a run that has just ended; nil for none.
func (d *Desk) startProof(n int, depth proof.Depth, after *Lane) tea.Cmd {
	s := d.Surveys[n]
	if s == nil || d.Proving(n) {
		return nil
	}
	mine, ctx := d.begin(n, proving)
	prover, cache, j := s.Prover(d.Bench, n, depth, nil), d.CacheFile, d.Journal
	if after != nil {
		prover.JustRan(after.Plan, after.Report)
	}
	return func() tea.Msg {
		prover.Journal = j
		var store *seen.Store
		if cache != "" {
			if opened, err := seen.Open(cache); opened != nil && err == nil {
				store = opened
				defer store.Close()
			}
		}
		r, before, err := prover.ProveAnew(ctx, store)
		return ProofMsg{mine, r, before, err}
	}
}

// Proving reports whether place n is being proved.
func (d *Desk) Proving(n int) bool { return d.goesOn(n, proving) }

// SetProof takes over an audit, unless choices have changed or a run was begun since.
func (d *Desk) SetProof(m ProofMsg) {
	n, ok := d.end(m.ticket)
	if !ok {
		return
	}
	if m.err != nil {
		d.Notice = m.err.Error()
		d.Proofs[n].Trouble = m.err.Error()
		return
	}
	d.Proofs[n] = Proved{Report: m.report, Before: m.before}
}

// MarkMends takes up what mends findings at a place, or gives it up again when all of it is taken up. The proof that is shown stays.
func (d *Desk) MarkMends(n int, mends []mend.Mend) tea.Cmd {
	if n >= len(d.Bench.Places) || d.busy() {
		return nil
	}
	if len(mends) == 0 {
		d.Notice = "This cannot be mended from here: do what the arrow says, and prove again (p)."
		return nil
	}
	p := &d.Bench.Places[n]
	d.remember()
	if p.Mending(mends...) {
		p.Unmend(mends...)
		d.Notice = "It stays as it is. u takes it back."
	} else {
		p.Mend(mends...)
		d.Notice = fmt.Sprintf("%s marked: 3 shows them in the tree, and the next run (4) makes them. u takes it back.", size.Count(len(mends), "change"))
	}
	choices := false
	for i := range mends {
		choices = choices || mends[i].Choice()
	}
	shown := append([]Proved{}, d.Proofs...)
	cmd := d.changed()
	copy(d.Proofs, shown)
	if choices {
		cmd = tea.Batch(d.SurveyPlace(n), cmd)
	}
	return cmd
}

// Tick ticks a line of a place's checklist off, or takes the tick away.
func (d *Desk) Tick(n int, line string) tea.Cmd {
	if who := d.Bench.ReadOnly(); who != "" {
		d.Notice = "Another Polytome has this bench open, so ticks are not kept here."
		return nil
	}
	d.Bench.Places[n].Tick(line)
	return d.save()
}

// AskChecklist asks where the checklist of a place is written to, as plain text.
func (d *Desk) AskChecklist(n int) {
	r := d.Proofs[n].Report
	if r == nil {
		d.Notice = "The checklist comes with the proof: p makes it."
		return
	}
	p := &d.Bench.Places[n]
	text := proof.ChecklistText(p.Name, r.Checklist, survey.Ticked(p))
	d.Ask(Question{Prompt: "Write the checklist to: ", Hint: "a text file, such as checklist.txt", Value: "checklist " + strings.ReplaceAll(p.Name, "/", "-") + ".txt", Done: func(answer string) tea.Cmd {
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

// A CoverMsg is a picture that lies on a place; nil for one that cannot be shown.
type CoverMsg struct {
	Of      *proof.Report // the proof that it was shown in
	Path    string
	Picture image.Image
}

// coverRule is how large pictures are kept to be shown: more than any window has half cells.
var coverRule = picture.Rule{Width: 240, Height: 240, Fit: "inside", Format: "png"}

// largestCover is how many bytes a picture has at most that is shown.
const largestCover = 32 << 20

// Cover reads a picture of a place in the background.
func (d *Desk) Cover(n int, path string) tea.Cmd {
	if n >= len(d.Surveys) || d.Surveys[n] == nil {
		return nil
	}
	look, ctx, of := *d.Surveys[n], d.Ctx, d.Proofs[n].Report
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
		return nil, fmt.Errorf("with %s it is too large", size.Format(c.Size()))
	}
	small, err := picture.Fit(io.NewSectionReader(c, 0, c.Size()), coverRule)
	if err != nil {
		return nil, err
	}
	im, _, err := image.Decode(bytes.NewReader(small))
	return im, err
}
