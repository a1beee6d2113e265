package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/cover"
	"polytome/internal/core/prepare"
	"polytome/internal/core/scan"
	"polytome/internal/draw"
	"polytome/internal/draw/scene"
	"polytome/internal/drives"
	"polytome/internal/netcards"
	"polytome/internal/size"
)

// drawing is what the command line says of a drawing.
type drawing struct {
	work
	out, paper, date, fold, readyFor string
	whole, over, collection          bool
	run                              int64
}

func drawCommand() *cobra.Command {
	d := &drawing{work: work{picked: -1}}
	cmd := &cobra.Command{
		Use:   "draw KIND [DRIVE] -o FILE.pdf|FILE.svg",
		Short: "Draw for paper: the rack, maps, trees, connections, cards, runs, the fit sheet, checklists",
		Long: `Draws what the screen shows, black on white, as PDF or SVG by the extension of the file. Kinds:
  rack       all targets to scale: kept, planned, free, by platform, with totals
  map        what is stored where on one volume, with arcs between fragments; and below, how it would
             be after defragmenting or, with --ready-for, after preparing the drive
  tree       what one target will hold, and what happens to every file; long folders are folded (--whole: every file)
  connections  computer, consoles, boxes and drives, with addresses, ports, what must be on, and direct cables
  card       the contents of one target, to fold into a stick's case (--fold); with --collection, of all titles
  run        the speed of the newest run at each target over time, what happened, totals (--run for another)
  fit        the grid of titles by targets, and why selected titles do not fit
  checklist  what to do at the consoles, with boxes to tick
Targets are read and never changed. The same input and --date give the same bytes. An existing file is
only replaced with --overwrite.`,
		Example: `  polytome draw rack --bench season.toml -o rack.pdf
  polytome draw card --bench season.toml --target 'North stick' --fold eighth --paper letter -o card.pdf
  polytome draw fit --from ~/games --loader rowan --to /media/stick -o fit.svg
  polytome draw map north.img -o map.pdf
  polytome draw map /dev/sdb --ready-for rowan -o before-and-after.pdf
  polytome draw run --run 12 -o run.svg`,
		Args: func(cmd *cobra.Command, args []string) error {
			switch {
			case len(args) == 0:
				return usageError{fmt.Errorf("%s needs a kind of drawing: %s", cmd.CommandPath(), kindsInWords())}
			case len(args) > 2 || len(args) == 2 && args[0] != string(draw.KindMap):
				return usageError{fmt.Errorf("unexpected argument %q: only a map takes a drive", args[len(args)-1])}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error { return d.draw(cmd.Context(), cmd.OutOrStdout(), args) },
	}
	d.planFlags(cmd)
	f := cmd.Flags()
	f.StringVarP(&d.out, "out", "o", "", "the file to write, .pdf or .svg")
	f.StringVar(&d.paper, "paper", "a4", "a4 or letter")
	f.StringVar(&d.date, "date", "", "the date on the drawing, such as 2026-03-14 (default: today)")
	f.StringVar(&d.fold, "fold", "", "how a card is folded: quarter, eighth, half or whole (default quarter)")
	f.BoolVar(&d.whole, "whole", false, "for a tree: draw every file")
	f.BoolVar(&d.collection, "collection", false, "for a card: all titles, wherever they go")
	f.Int64Var(&d.run, "run", 0, "chart this run (list them with polytome runs)")
	f.StringVar(&d.readyFor, "ready-for", "",
		"for a map: also show the drive after preparing it for this loader or filesystem")
	f.BoolVar(&d.over, "overwrite", false, "replace the file if it exists")
	return cmd
}

func kindsInWords() string {
	var names []string
	for _, k := range draw.Kinds {
		names = append(names, string(k))
	}
	return strings.Join(names, ", ")
}

// check says what is wrong with the wishes, before anything is looked at.
func (d *drawing) check(args []string) (r draw.Request, o draw.Options, err error) {
	wrong := func(err error) (draw.Request, draw.Options, error) { return r, o, usageError{err} }
	if r.Kind, err = draw.KindNamed(args[0]); err != nil {
		return wrong(err)
	}
	if len(args) > 1 {
		r.Drive = args[1]
	}
	if o.Paper, err = scene.PaperNamed(d.paper); err != nil {
		return wrong(fmt.Errorf("--paper: %w", err))
	}
	if r.Fold, err = draw.FoldNamed(d.fold); err != nil {
		return wrong(fmt.Errorf("--fold: %w", err))
	}
	o.Date = time.Now()
	if d.date != "" {
		if o.Date, err = time.Parse(time.DateOnly, d.date); err != nil {
			return wrong(fmt.Errorf("--date: %q is not a date; write it like 2026-03-14", d.date))
		}
	}
	if d.out == "" {
		return wrong(errors.New("-o FILE is needed: a .pdf or .svg file"))
	}
	if d.readyFor != "" && (r.Kind != draw.KindMap || r.Drive == "") {
		return wrong(errors.New("--ready-for needs the map of a drive: polytome draw map DRIVE --ready-for LOADER -o " +
			"FILE"))
	}
	if err := draw.Check(d.out); err != nil {
		var unknown *draw.UnknownFormatError
		if errors.As(err, &unknown) {
			return wrong(err)
		}
		return r, o, err
	}
	if _, err := os.Stat(d.out); err == nil && !d.over {
		return r, o, fmt.Errorf("%s already exists; replace it with --overwrite", d.out)
	}
	r.Whole, r.Run = d.whole, d.run
	return r, o, nil
}

func (d *drawing) draw(ctx context.Context, out io.Writer, args []string) error {
	r, o, err := d.check(args)
	if err != nil {
		return err
	}
	src, err := d.source(ctx, &r)
	if err != nil {
		return err
	}
	if store := openCovers(d.covers, os.Stderr); store != nil {
		defer store.Close()
		src.Looker = &cover.Looker{Store: store, Passwords: src.Bench.Passwords, Allowed: scan.Allowed(src.Bench)}
	}
	if d.bench != "" {
		o.Bench = src.Bench.Name
	}
	made, err := src.Make(ctx, r, o)
	switch {
	case errors.Is(err, draw.ErrAmbiguousTarget):
		return usageError{fmt.Errorf("%w with --target; the bench has: %s", err, targetNames(src.Bench))}
	case err != nil && ctx.Err() != nil:
		return errStopped
	case err != nil:
		return err
	}
	if err := draw.Save(d.out, made); err != nil {
		return err
	}
	if d.asJSON {
		err = printJSON(out, map[string]any{"kind": r.Kind, "file": d.out, "pages": len(made.Pages)})
	} else {
		_, err = fmt.Fprintf(out, "%s is in %s, %s.\n", strings.ToUpper(r.Kind.Words()[:1])+r.Kind.Words()[1:], d.out,
			size.Count(len(made.Pages), "page"))
	}
	if err == nil && d.partial {
		err = errPartial
	}
	return err
}

func targetNames(b *bench.Bench) string {
	var names []string
	for _, p := range b.Targets {
		names = append(names, p.Name)
	}
	return strings.Join(names, ", ")
}

// source looks at what the drawing is made from, and at no more.
func (d *drawing) source(ctx context.Context, r *draw.Request) (*draw.Source, error) {
	set, err := known()
	if err != nil {
		return nil, err
	}
	src := &draw.Source{Set: set, Bench: &bench.Bench{}, Cards: netcards.Here, Drives: drives.Here}
	if src.Volumes, err = theLedger().All(); err != nil { // a card without its name is a card, too
		fmt.Fprintf(stderr(), "polytome: %v\n", err)
	}
	r.Target = -1
	runs, note := openJournal()
	if note != nil {
		fmt.Fprintf(stderr(), "polytome: %v\n", note)
	}
	if src.Runs, err = runs.Runs(runsLooked); err != nil {
		return nil, errors.Join(err, runs.Close())
	}
	if err := runs.Close(); err != nil {
		return nil, err
	}
	if r.Drive != "" {
		return src, d.prepared(r, src)
	}
	if r.Kind == draw.KindRun && d.bench == "" {
		if r.Run == 0 && len(src.Runs) > 0 {
			r.Run = src.Runs[0].ID
		}
		return src, nil
	}
	targets := r.Kind != draw.KindCard || !d.collection
	if d.bench != "" {
		if src.Bench, err = bench.Open(d.bench, stateDir()); err != nil {
			return nil, err
		}
		targets = targets && len(src.Bench.Targets) > 0
	}
	if targets {
		if src.Bench, err = d.open(len(d.from) > 0); err != nil {
			return nil, err
		}
		if d.bench == "" {
			src.Bench.Targets[0].Name = filepath.Base(d.to)
		}
		if r.Target = d.picked; r.Target < 0 && len(src.Bench.Targets) == 1 {
			r.Target = 0
		}
	} else if d.bench == "" {
		for _, dir := range d.from {
			src.Bench.Sources = append(src.Bench.Sources, bench.Source{Path: dir})
		}
		src.Bench.Name = strings.Join(d.from, ", ")
	}
	switch r.Kind {
	case draw.KindConnections, draw.KindRun: // no target is looked at for these
		return src, nil
	}
	if !targets {
		found, err := scanned(ctx, src.Bench, set, d.covers, os.Stderr)
		src.Titles = found.Titles
		d.partial = d.partial || len(found.Problems) > 0
		return src, err
	}
	if needed := r.Kind == draw.KindMap || r.Kind == draw.KindTree || r.Kind == draw.KindCard; needed && r.Target < 0 {
		return nil, usageError{fmt.Errorf("%w with --target; the bench has: %s", draw.ErrAmbiguousTarget,
			targetNames(src.Bench))}
	}
	all, found, err := d.surveys(ctx, src.Bench)
	if err == nil {
		err = d.narrow(all, src.Bench)
	}
	if err != nil {
		return nil, err
	}
	src.Board, src.Titles = all, found.Titles
	d.partial = d.partial || len(found.Problems) > 0
	return src, nil
}

// prepared takes up what the drive is to become.
func (d *drawing) prepared(r *draw.Request, src *draw.Source) error {
	if d.readyFor == "" {
		return nil
	}
	req := &prepare.Request{}
	if drives.Ours(strings.ToLower(d.readyFor)) {
		req.Filesystem = strings.ToLower(d.readyFor)
	} else {
		p, err := src.Set.Profile(d.readyFor)
		if err != nil {
			return usageError{fmt.Errorf("--ready-for: %w", err)}
		}
		req.Profile = p
	}
	r.Ready = req
	return nil
}

// runsLooked is how many of the newest runs are looked through for those that are drawn: all that are kept.
const runsLooked = 300
