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
	Place   int
	Report  *proof.Report
	Before  *proof.Report // the one before, nil for none
	Err     error
	changes int
}

// Proved is what is known of the proof of a place.
type Proved struct {
	*proof.Report               // nil until made; what differs from the proof before is in it
	Before        *proof.Report // the proof before this one, nil for none
	Trouble       string        // why the place could not be proved
}

// StartProof audits a place in the background, as closely as is asked for; "" for as closely as is usual.
func (d *Desk) StartProof(n int, depth proof.Depth) tea.Cmd {
	s := d.Surveys[n]
	if s == nil || d.Proving[n] {
		return nil
	}
	d.Proving[n] = true
	prover, ctx, changes, cache, j := s.Prover(d.Bench, n, depth, nil), d.Ctx, d.changes, d.CacheFile, d.Journal
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
		return ProofMsg{n, r, before, err, changes}
	}
}

// SetProof takes over an audit.
func (d *Desk) SetProof(m ProofMsg) {
	if m.changes != d.changes || m.Place >= len(d.Proofs) {
		return
	}
	d.Proving[m.Place] = false
	if m.Err != nil {
		d.Notice = m.Err.Error()
		d.Proofs[m.Place].Trouble = m.Err.Error()
		return
	}
	d.Proofs[m.Place] = Proved{Report: m.Report, Before: m.Before}
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
	Place   int
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
	look, ctx := *d.Surveys[n], d.Ctx
	return func() tea.Msg {
		im, _ := readCover(ctx, &look, path)
		return CoverMsg{n, path, im}
	}
}

func readCover(ctx context.Context, s *survey.Survey, path string) (image.Image, error) {
	p, err := s.Open()
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
