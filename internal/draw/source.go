package draw

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"image/jpeg"
	"path/filepath"
	"runtime"

	"polytome/internal/core/bench"
	"polytome/internal/core/blockmap"
	"polytome/internal/core/check"
	"polytome/internal/core/connections"
	"polytome/internal/core/cover"
	"polytome/internal/core/journal"
	"polytome/internal/core/ledger"
	"polytome/internal/core/loader"
	"polytome/internal/core/prepare"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
	"polytome/internal/draw/scene"
	"polytome/internal/drives"
	"polytome/internal/format/picture"
	"polytome/internal/netcards"
	"polytome/internal/target/drive"
)

// A Source is everything that drawings are made from. Nobody else may change it while a drawing is made: on the screen,
// that is a clone.
type Source struct {
	Bench  *bench.Bench
	Board  survey.Board // targets that are nil could not be looked at
	Titles []title.Title
	Set    *loader.Set
	// Runs are those that are written down, the newest first.
	Runs []journal.Run
	// Reports are checks that were made already, by target; others are made where a drawing needs them.
	Reports map[int]*check.Report
	Cards   netcards.System
	// Connections is how everything is joined, where that was looked at and tried already; nil has it looked at.
	Connections *connections.Connections
	// Computer is how this computer is named, "" for its own name.
	Computer string
	Drives   drives.System
	// Looker looks at covers; nil draws none.
	Looker *cover.Looker
	// Volumes are those of the ledger: what their owner calls them and where they are kept stands on cards.
	Volumes []ledger.Volume
}

// A Request is what is to be drawn of a source.
type Request struct {
	Kind Kind
	// Target is the number of the target, -1 for all of them: the tree and the map are of one, and the card of none is
	// that of all titles.
	Target int
	Fold   Fold // of a card
	Whole  bool // a tree is not folded
	// Drive is a drive, image or partition whose map is drawn, in place of a target's; Ready is what it is to become,
	// nil for nothing.
	Drive string
	Ready *prepare.Request
	// Run is the number of the run that is charted, 0 for the newest at each target.
	Run int64
}

// ErrAmbiguousTarget reports that a drawing of one target needs its name, as there are several.
var ErrAmbiguousTarget = errors.New("this drawing needs one target: name it")

// Make makes a drawing.
func (src *Source) Make(ctx context.Context, r Request, o Options) (*scene.Drawing, error) {
	subject, err := src.subject(ctx, r)
	if err != nil {
		return nil, err
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	return subject.Draw(o), nil
}

func (src *Source) subject(ctx context.Context, r Request) (Subject, error) {
	b := src.Bench
	switch r.Kind {
	case KindRack:
		b, board := src.only(r.Target)
		return RackOf(b, board, src.Set), nil
	case KindFit:
		_, board := src.only(r.Target)
		return FitOf(board, src.Set), nil
	case KindConnections:
		return src.connections(r)
	case KindRun:
		return src.runs(r)
	case KindChecklist:
		return src.checklist(ctx, r)
	case KindMap:
		return src.volumeMap(ctx, r)
	case KindTree:
		if len(b.Targets) == 0 {
			return Tree{Target: "no target"}, nil
		}
		s, err := src.survey(r.Target)
		if err != nil {
			return nil, err
		}
		return TreeOf(s, r.Whole), nil
	case KindCard:
		return src.card(ctx, r)
	}
	return nil, &UnknownKindError{string(r.Kind)}
}

// survey is the target that was asked for, or the only one.
func (src *Source) survey(n int) (*survey.Survey, error) {
	if n < 0 && len(src.Board) == 1 {
		n = 0
	}
	switch {
	case n < 0 || n >= len(src.Bench.Targets):
		return nil, ErrAmbiguousTarget
	case n >= len(src.Board) || src.Board[n] == nil:
		return nil, fmt.Errorf("%s could not be read, so it cannot be drawn", src.Bench.Targets[n].Name)
	}
	return src.Board[n], nil
}

func (src *Source) connections(r Request) (Subject, error) {
	h := connections.Connections{}
	if src.Connections != nil {
		h = *src.Connections
	} else {
		cards, err := src.Cards.Cards()
		if err != nil {
			return nil, fmt.Errorf("listing the network interfaces: %w", err)
		}
		h = *connections.Of(src.Bench, src.Set, cards)
	}
	h.Computer = cmp.Or(src.Computer, h.Computer)
	if r.Target >= 0 && r.Target < len(h.Links) {
		h.Links = h.Links[r.Target : r.Target+1]
	}
	return ConnectionsOf(&h), nil
}

func (src *Source) runs(r Request) (Subject, error) {
	if r.Run > 0 {
		for i := range src.Runs {
			if src.Runs[i].ID == r.Run {
				return RunsOf(src.Runs[i:i+1], nil), nil
			}
		}
		return nil, fmt.Errorf("%w: %d", journal.ErrNotFound, r.Run)
	}
	b, _ := src.only(r.Target)
	return RunsOf(src.Runs, b), nil
}

// only are the bench and the board with one target, or as they are.
func (src *Source) only(n int) (*bench.Bench, survey.Board) {
	if n < 0 || n >= len(src.Bench.Targets) {
		return src.Bench, src.Board
	}
	b, board := src.Bench.Clone(), src.Board
	b.Targets = b.Targets[n : n+1]
	if n < len(board) {
		board = board[n : n+1]
	}
	return b, board
}

// report is the check of a target, by which its checklist is reported.
func (src *Source) report(ctx context.Context, n int) (*check.Report, error) {
	if r := src.Reports[n]; r != nil {
		return r, nil
	}
	s, err := src.survey(n)
	if err != nil {
		return nil, err
	}
	if s.Away != nil {
		return nil, s.Away
	}
	runs := src.Runs
	if runs == nil {
		runs = []journal.Run{}
	}
	return s.Checker(src.Bench, n, check.Names, runs).Check(ctx)
}

func (src *Source) checklist(ctx context.Context, r Request) (Subject, error) {
	var c Checklist
	for n := range src.Bench.Targets {
		if r.Target >= 0 && n != r.Target {
			continue
		}
		report, err := src.report(ctx, n)
		if err != nil {
			if r.Target >= 0 || len(src.Bench.Targets) == 1 || ctx.Err() != nil {
				return nil, err
			}
			c.Targets = append(c.Targets, Steps{Target: src.Bench.Targets[n].Name, Detail: "could not be read: " +
				err.Error()})
			continue
		}
		s, err := src.survey(n)
		if err != nil {
			return nil, err
		}
		c.Targets = append(c.Targets, StepsOf(s, report.Checklist, runtime.GOOS))
	}
	return c, nil
}

func (src *Source) card(ctx context.Context, r Request) (Subject, error) {
	if r.Target < 0 {
		return CollectionOf(src.Bench.Name, src.Titles, src.Set, r.Fold, src.jpeg(ctx)), nil
	}
	s, err := src.survey(r.Target)
	if err != nil {
		return nil, err
	}
	report, err := src.report(ctx, r.Target)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
		c := CardOf(s, src.Set, r.Fold, nil, src.jpeg(ctx))
		c.Note = "What to do at the console is unknown, as the target could not be read: " + err.Error() + "."
		return src.named(s, c), nil
	}
	if len(src.Titles) == 0 {
		return src.named(s, CardOfList(s, report, src.Set, r.Fold)), nil
	}
	return src.named(s, CardOf(s, src.Set, r.Fold, report.Checklist, src.jpeg(ctx))), nil
}

// named is a card under the name that its owner gave the volume, with where it is kept.
func (src *Source) named(s *survey.Survey, c Card) Card {
	id, _ := s.VolumeID()
	for _, v := range src.Volumes {
		if v.ID != id || id == "" {
			continue
		}
		c.Target = cmp.Or(v.Name, c.Target)
		if v.Place != "" {
			c.Detail += ", kept " + v.Where()
		}
	}
	return c
}

// jpeg reads covers, as large as paper shows them.
func (src *Source) jpeg(ctx context.Context) func(t *title.Title) []byte {
	if src.Looker == nil {
		return nil
	}
	return func(t *title.Title) []byte {
		p := t.Picture("front", 0)
		if p == nil || ctx.Err() != nil {
			return nil
		}
		if p.Crop == ([4]int{}) {
			if l, err := src.Looker.Look(ctx, &p.File); err == nil && len(l.Small) > 0 {
				return l.Small
			}
			return nil
		}
		im, err := src.Looker.Read(&p.File, picture.Rule{Width: 160, Height: 200, Fit: "inside",
			Crop: picture.Crop(p.Crop)})
		var b bytes.Buffer
		if err != nil || jpeg.Encode(&b, im, &jpeg.Options{Quality: 85}) != nil {
			return nil // a title is reported without a picture that cannot be used
		}
		return b.Bytes()
	}
}

// volumeMap reads what is where on a drive, and rehearses what is planned for it.
func (src *Source) volumeMap(ctx context.Context, r Request) (Subject, error) {
	what, name := r.Drive, r.Drive
	if what == "" {
		if len(src.Bench.Targets) == 0 {
			return VolumeMap{Target: "no target"}, nil
		}
		s, err := src.survey(r.Target)
		if err != nil {
			return nil, err
		}
		what, name = src.Bench.Resolve(s.Config.At), s.Config.Name
	}
	d, part, err := src.Drives.Target(ctx, what)
	if err != nil {
		return nil, fmt.Errorf("only the map of a drive or image can be drawn: %w", err)
	}
	m := VolumeMap{Target: filepath.Base(name), Shown: ShownBy(src.Set)}
	if r.Ready != nil {
		if m.Ready, err = prepare.Make(ctx, src.Drives, d, src.Set, *r.Ready); err != nil {
			return nil, err
		}
		m.Planned = "before and after preparing"
	}
	if r.Ready != nil && r.Ready.Part == 0 {
		return m, nil
	}
	if v := d.Find(part); v != nil && v.Filesystem == drives.Slab {
		m.Now, err = blockmap.On(ctx, src.Drives, d, v, src.Set)
		return m, err
	}
	p, err := drive.OpenVolume(ctx, src.Drives, drive.Address{Drive: d.Path, Part: part}, drive.Options{})
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if m.Now, err = blockmap.Read(ctx, p.Volume(), src.Set); err != nil {
		return nil, err
	}
	if len(m.Now.Fragmented()) > 0 && r.Ready == nil {
		if m.After, m.NotFixed, err = blockmap.AfterDefragmenting(ctx, p.Volume(), src.Set); err != nil {
			return nil, err
		}
		m.Planned = "now, and after defragmenting every file"
	}
	return m, nil
}
