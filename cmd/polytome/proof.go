package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/intake"
	"polytome/internal/core/loader"
	"polytome/internal/core/proof"
	"polytome/internal/core/survey"
	"polytome/internal/place"
	"polytome/internal/place/drive"
	"polytome/internal/size"
)

// proving is what the command was asked for.
type proving struct {
	work
	loaders     []string
	quick, full bool
	mend, dry   bool
	kinds       []string
}

func proofCommand() *cobra.Command {
	p := &proving{}
	cmd := &cobra.Command{
		Use:   "proof [PLACE]",
		Short: "Say what the loader will list on the place, what is wrong there, and mend it",
		Long: `Proof reads a place as the loader would and says what it will list, what it will pass
over and why, what keeps a game from starting, and what to do at the console. The place may be a folder, a drive, an image, a
console or a share, filled by Polytome or by hand. Without --loader it is found out whose place it is; of several loaders on one place, all are
asked. With a bench, or with --from, it also looks for titles that should be there and are not.

--quick looks at names and sizes only, which is what is usual over FTP; --full reads every byte and compares every checksum.

--mend does what can be done: renames, moves, writes lists and settings anew, brings pictures to size, brings files into one piece, and, with
--from or a bench, puts again what is damaged or missing. Each step is planned, shown and written down like those of fill; --dry-run shows them
only, --only KIND mends findings of one kind. Without --mend nothing is written.`,
		Example: `  polytome proof /media/stick
  polytome proof --bench season.toml --place 'North stick' --full
  polytome proof ftp://192.168.0.20/hd1 --loader gantry --json
  polytome proof north.img --loader bellows --loader mica
  polytome proof /media/stick --mend --dry-run
  polytome proof /media/stick --from ~/games --mend --only companion`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error { return p.run(cmd, args) },
	}
	f := cmd.Flags()
	f.Var(&loadersFlag{p}, "loader", "loader profile: a name, or a file ending in .toml (may be given several times)")
	p.flags(cmd)
	f.BoolVar(&p.quick, "quick", false, "look at names and sizes only")
	f.BoolVar(&p.full, "full", false, "read every byte, and compare every checksum")
	f.BoolVar(&p.mend, "mend", false, "mend what can be mended")
	f.BoolVar(&p.dry, "dry-run", false, "with --mend: print the steps and write nothing")
	f.StringArrayVar(&p.kinds, "only", nil, "with --mend: only findings of this kind: "+kindWords()+" (may be given several times)")
	return cmd
}

// loadersFlag takes --loader as often as it is given: the first is the place's loader.
type loadersFlag struct{ p *proving }

func (l *loadersFlag) String() string {
	if l.p == nil {
		return ""
	}
	return strings.Join(l.p.loaders, ", ")
}
func (l *loadersFlag) Type() string { return "string" }
func (l *loadersFlag) Set(name string) error {
	if l.p.loaders = append(l.p.loaders, name); len(l.p.loaders) == 1 {
		l.p.loader = name
	} else {
		l.p.also = append(l.p.also, name)
	}
	return nil
}

func kindWords() string {
	var out []string
	for _, k := range proof.Kinds() {
		out = append(out, string(k))
	}
	return strings.Join(out, ", ")
}

func (p *proving) depth() proof.Depth {
	switch {
	case p.full:
		return proof.Whole
	case p.quick:
		return proof.Names
	}
	return ""
}

func (p *proving) check(args []string) error {
	switch {
	case p.full && p.quick:
		return usageError{errors.New("--full and --quick are two depths; give one of them")}
	case len(args) == 0 && p.to == "" && p.bench == "":
		return usageError{errors.New("missing: the place, as in polytome proof /media/stick (or give a bench with --bench FILE)")}
	case len(args) > 0 && p.bench != "":
		return usageError{errors.New("--bench says which places there are; choose one with --place")}
	case len(args) > 0 && p.to != "" && p.to != args[0]:
		return usageError{fmt.Errorf("two places are given: %s and %s", args[0], p.to)}
	case !p.mend && (p.dry || len(p.kinds) > 0):
		return usageError{errors.New("--dry-run and --only are for --mend")}
	}
	for _, k := range p.kinds {
		if !slices.Contains(proof.Kinds(), proof.Kind(k)) {
			return usageError{fmt.Errorf("--only: %q is no kind of finding; kinds are: %s", k, kindWords())}
		}
	}
	if len(args) > 0 {
		p.to = args[0]
	}
	return nil
}

func (p *proving) run(cmd *cobra.Command, args []string) error {
	if err := p.check(args); err != nil {
		return err
	}
	ctx, out := cmd.Context(), cmd.OutOrStdout()
	set, err := known()
	if err != nil {
		return err
	}
	if p.bench == "" && p.to != "" && p.loader == "" {
		if err := p.whose(ctx, set); err != nil {
			return err
		}
	}
	b, err := p.open(false)
	if err != nil {
		return err
	}
	var all survey.Board
	if p.bench != "" || len(p.from) > 0 {
		all, _, err = p.surveys(ctx, b)
	} else {
		var s *survey.Survey
		err = letIn(func() (err error) {
			s, err = survey.Take(ctx, b, 0, intake.Result{}.Titles, survey.Options{Set: set})
			return cmp.Or(err, awayOf(s))
		})
		all = survey.Board{s}
	}
	if err != nil {
		return err
	}
	runs, note := openJournal()
	if note != nil {
		fmt.Fprintf(stderr(), "polytome: %v\n", note)
	}
	history, err := runs.Runs(journalLines)
	if err != nil {
		fmt.Fprintf(stderr(), "polytome: %v\n", err)
	}
	_ = runs.Close()
	cache := openCache(os.Stderr)
	defer cache.Close()
	good, unproved := true, p.partial
	for n, s := range all {
		if s == nil {
			continue
		}
		prove := func() (*proof.Report, error) {
			r, _, err := s.Prover(b, n, p.depth(), history).ProveAnew(ctx, cache)
			return r, err
		}
		r, err := prove()
		if err != nil {
			if len(all) == 1 || ctx.Err() != nil {
				return err
			}
			fmt.Fprintf(stderr(), "polytome: left out: %s: %v\n", s.Config.Name, err)
			unproved = true
			continue
		}
		if p.mend {
			var mended bool
			if mended, err = p.mendAll(ctx, out, b, all, n, r); err != nil {
				return err
			}
			if mended && !p.dry {
				if r, err = prove(); err != nil {
					return err
				}
			}
		}
		good = good && r.Good()
		if p.asJSON {
			if err := printJSON(out, r); err != nil {
				return err
			}
			continue
		}
		if len(all) > 1 {
			fmt.Fprintf(out, "%s\n", s.Config.Name)
		}
		printProof(out, s.Shown(), r)
	}
	if !good || unproved {
		return errPartial
	}
	return nil
}

// journalLines is how many runs are looked at for what was done at a place last.
const journalLines = 100

// whose finds out which loaders a place is for.
func (p *proving) whose(ctx context.Context, set *loader.Set) error {
	c := bench.Place{Name: p.to, At: drive.AddressOf(p.to), As: p.as}
	if err := p.set(&c); err != nil {
		return err
	}
	var to place.Place
	if err := letIn(func() (err error) { to, err = survey.OpenPlace(ctx, c.At, c, nil, false); return err }); err != nil {
		return err
	}
	defer to.Close()
	entries, err := to.List(ctx, func(string, error) {})
	if err != nil {
		return err
	}
	facts, err := to.Facts(ctx, entries)
	if err != nil {
		return err
	}
	fit, rest := proof.Fits(entries, facts.Filesystem.Fold, set)
	if len(fit) == 0 {
		unknown := &proof.UnknownError{Place: p.to}
		if len(rest) > 0 && rest[0].Games+len(rest[0].Near) > 0 {
			unknown.Nearest = &rest[0]
		}
		return unknown
	}
	var say []string
	for _, f := range fit {
		_ = (&loadersFlag{p}).Set(f.Profile.Name)
		say = append(say, f.Profile.Shown)
	}
	fmt.Fprintf(stderr(), "polytome: proved for %s, as there is %s\n", strings.Join(say, " and "), strings.TrimPrefix(fit[0].Words(), "there is "))
	return nil
}

// mendAll carries out what mends the findings of a place. It reports whether there was something to do.
func (p *proving) mendAll(ctx context.Context, out io.Writer, b *bench.Bench, all survey.Board, n int, r *proof.Report) (bool, error) {
	var kinds []proof.Kind
	for _, k := range p.kinds {
		kinds = append(kinds, proof.Kind(k))
	}
	mends := r.Mends(kinds...)
	if len(mends) == 0 {
		if !p.asJSON {
			fmt.Fprintln(out, "Nothing that is wrong here can be mended by itself.")
		}
		return false, nil
	}
	f := &filling{out: out, progress: autoProgress(), asJSON: p.asJSON, dry: p.dry, remove: true, bench: b, unproved: true}
	_, err := f.mend(ctx, all, n, mends)
	return true, err
}

// printProof writes an audit for people.
func printProof(out io.Writer, loaderName string, r *proof.Report) {
	say := func(format string, args ...any) { // what stands on a place may be written to harm a terminal
		fmt.Fprintln(out, strings.TrimRight(clean(fmt.Sprintf(format, args...)), " "))
	}
	starts := ""
	if k := r.Starts(); k < len(r.Listed) {
		starts = fmt.Sprintf(", and start %d of them", k)
	}
	say("Proof: %s will list %s%s.", loaderName, size.Count(len(r.Listed), "title"), starts)
	for _, l := range r.Listed {
		note := ""
		if !l.Starts {
			note = "   DOES NOT START"
		}
		say("  %-10s %s%s", l.ID, l.Name, note)
	}
	if len(r.Findings) > 0 {
		say("Findings:")
	}
	for _, f := range r.Findings {
		at := f.Path
		if at != "" {
			at += ": "
		}
		say("  %-7s %s%s", strings.ToUpper(string(f.Grade)), at, f.Say)
		if f.Matters != "" && !strings.Contains(f.Say, f.Matters) {
			say("          at the console: %s", f.Matters)
		}
		switch {
		case len(f.Mends) > 0:
			say("          -> %s (--mend --only %s)", f.Remedy, f.Kind)
		case f.Remedy != "":
			say("          -> %s", f.Remedy)
		}
	}
	if c := r.Changes; c != nil && !c.Empty() {
		say("Since the proof before: %s.", c.Words())
	}
	if n := len(r.Others); n > 0 {
		say("Left alone, as no loader knows them: %s.", someOf(r.Others))
	}
	for _, u := range r.Unchecked {
		say("Not checked: %s.", u)
	}
	if len(r.Checklist) > 0 {
		say("At the console:")
	}
	for i, c := range r.Checklist {
		say("  %d. %s.", i+1, c)
	}
}

// someOf names the first of several files.
func someOf(all []string) string {
	const most = 5
	if len(all) <= most {
		return strings.Join(all, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(all[:most], ", "), len(all)-most)
}
