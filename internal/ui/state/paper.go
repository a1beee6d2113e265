package state

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/check"
	"polytome/internal/core/cover"
	"polytome/internal/core/journal"
	"polytome/internal/core/scan"
	"polytome/internal/draw"
	"polytome/internal/draw/scene"
	"polytome/internal/size"
)

// A DrawnMsg is a drawing that was made, or why it was not.
type DrawnMsg struct {
	Kind  draw.Kind
	File  string
	Pages int
	Err   error
}

// AskDrawing asks what is to be drawn for paper, and for which file. What the screen shows is proposed.
func (d *State) AskDrawing(shown draw.Request) {
	var names []string
	for _, k := range draw.Kinds {
		names = append(names, string(k))
	}
	suggested := append(slices.Clone(names), "card eighth", "card half", "card whole", "tree whole")
	d.Ask(Question{Prompt: "Draw on paper: ", Value: string(shown.Kind), Suggestions: suggested,
		Hint: strings.Join(names, ", ") + "; add letter for that paper, or eighth, half, whole for a card",
		Done: func(answer string) tea.Cmd {
			r, paper, err := d.wish(answer, shown)
			if err != nil {
				d.Notice = Sentence(err.Error())
				return nil
			}
			return func() tea.Msg { return AskMsg{d.askDrawingFile(r, paper)} }
		}})
}

// wish reads what someone must be drawn: a kind, and behind it how. Of the kind that is shown, it is just what is
// shown.
func (d *State) wish(answer string, shown draw.Request) (r draw.Request, paper scene.Paper, err error) {
	words := strings.Fields(answer)
	if len(words) == 0 {
		words = []string{string(shown.Kind)}
	}
	kind, err := draw.KindNamed(words[0])
	if err != nil {
		return r, paper, err
	}
	if r = shown; kind != shown.Kind {
		r = d.Drawn(kind)
	}
	for _, w := range words[1:] {
		if kind == draw.KindTree && strings.EqualFold(w, "whole") {
			r.Whole = true
			continue
		}
		if p, err := scene.PaperNamed(w); err == nil {
			paper = p
			continue
		}
		if kind != draw.KindCard {
			_, err := scene.PaperNamed(w)
			return r, paper, err
		}
		if r.Fold, err = draw.FoldNamed(w); err != nil {
			return r, paper, err
		}
	}
	return r, paper, nil
}

// Drawn is what a drawing of a kind is of: the target that is shown, where it is of one.
func (d *State) Drawn(kind draw.Kind) draw.Request {
	r := draw.Request{Kind: kind, Target: -1}
	switch kind {
	case draw.KindTree, draw.KindCard, draw.KindMap, draw.KindChecklist:
		r.Target = d.Target
	}
	return r
}

// askDrawingFile is the question where a drawing goes.
func (d *State) askDrawingFile(r draw.Request, paper scene.Paper) Question {
	of, changes := d.Bench.Name, d.changes
	switch {
	case r.Drive != "":
		of = filepath.Base(r.Drive)
	case r.Target >= 0 && r.Target < len(d.Bench.Targets):
		of = d.Bench.Targets[r.Target].Name
	}
	name := strings.NewReplacer("/", "-", `\`, "-").Replace(strings.TrimSpace(of+" "+string(r.Kind))) + ".pdf"
	in := ""
	if dir, err := os.Getwd(); err == nil {
		in = ", in " + dir
	}
	return Question{Prompt: fmt.Sprintf("Draw %s to: ", r.Kind.Words()), Value: name, Hint: "a .pdf or .svg file" + in,
		Done: func(answer string) tea.Cmd {
			if changes != d.changes {
				d.Notice = "The selection changed meanwhile, so nothing was drawn: press O again."
				return nil
			}
			return d.drawTo(r, paper, answer)
		}}
}

// drawTo makes a drawing in the background.
func (d *State) drawTo(r draw.Request, paper scene.Paper, answer string) tea.Cmd {
	if answer == "" {
		d.Notice = "Nothing was drawn."
		return nil
	}
	file, err := filepath.Abs(Expand(answer))
	if err == nil {
		err = draw.Check(file)
	}
	if err == nil {
		if _, there := os.Lstat(file); there == nil {
			err = fmt.Errorf("%s already exists: press O again and name another file", file)
		}
	}
	if err != nil {
		d.Notice = Sentence(err.Error())
		return nil
	}
	if t := d.At(r.Target); r.Kind == draw.KindMap && t.Running() {
		d.Notice = "A run is writing to " + t.Lane.Name + ": its map can be drawn when it is done."
		return nil
	}
	src := &draw.Source{Bench: d.Bench.Clone(), Board: d.frozen(), Titles: d.Scan.Titles, Set: d.Set,
		Reports: map[int]*check.Report{}, Cards: d.Cards, Drives: d.System, Volumes: d.Remembered.Volumes}
	if d.Connections != nil && len(d.Connections.Links) == len(d.Bench.Targets) {
		h := *d.Connections
		h.Links = slices.Clone(h.Links)
		src.Connections = &h
	}
	for n := range d.Targets {
		if d.Targets[n].Check.Report != nil {
			src.Reports[n] = d.Targets[n].Check.Report
		}
	}
	src.Looker = &cover.Looker{Passwords: slices.Clone(d.Bench.Passwords), Allowed: scan.Allowed(d.Bench)}
	ctx, j, store, o := d.Ctx, d.Journal, d.coverStore, draw.Options{Paper: paper, Date: time.Now(),
		Bench: d.Bench.Name}
	d.Notice = "Drawing " + r.Kind.Words() + "."
	return func() tea.Msg {
		src.Looker.Store, _ = store.open() // without it, covers are looked at again
		made, err := drawNow(ctx, src, j, r, o)
		if err == nil {
			err = draw.Save(file, made)
		}
		if err != nil {
			return DrawnMsg{Kind: r.Kind, File: file, Err: err}
		}
		return DrawnMsg{r.Kind, file, len(made.Pages), nil}
	}
}

// drawNow makes a drawing, with the runs as they are written down by now.
func drawNow(ctx context.Context, src *draw.Source, j *journal.Journal, r draw.Request, o draw.Options) (*scene.Drawing,
	error) {
	var err error
	if src.Runs, err = j.Runs(historyRuns); err != nil && r.Kind == draw.KindRun {
		return nil, err
	}
	return src.Make(ctx, r, o)
}

// SetDrawn describes a drawing.
func (d *State) SetDrawn(m DrawnMsg) {
	if m.Err != nil {
		d.Notice = Sentence(m.Err.Error())
		return
	}
	d.Notice = fmt.Sprintf("%s is in %s, %s.", strings.ToUpper(m.Kind.Words()[:1])+m.Kind.Words()[1:], m.File,
		size.Count(m.Pages, "page"))
}
