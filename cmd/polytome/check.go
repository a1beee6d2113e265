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
	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/nearest"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/drive"
)

// checking is what the command was asked for.
type checking struct {
	work
	loaders     []string
	quick, full bool
	fix, dry    bool
	planned     bool
	kinds       []string
}

func checkCommand() *cobra.Command {
	p := &checking{}
	cmd := &cobra.Command{
		Use:   "check [TARGET]",
		Short: "Show what the loader will list on a target and what is wrong there, and fix it",
		Long: `Check reads a target as the loader would and shows what it will list, what it will ignore and why,
what keeps a game from starting, and what to do at the console. The target may be a folder, a drive,
an image, a console or a share, filled by Polytome or by hand. Without --loader, the loaders are
recognised by what is on the target. With a bench, or with --from, it also finds titles that should
be there and are not.

--quick looks at names and sizes only (the default over FTP); --full reads every byte and compares
every checksum.

--fix repairs what it can: it renames, moves, rewrites lists and settings, resizes pictures,
defragments files and, with --from or a bench, copies again what is damaged or missing. The steps
are planned, shown and recorded like those of fill; --dry-run only shows them, and --only KIND fixes
problems of one kind. Without --fix nothing is written.

--planned shows the same of the target as fill would leave it, before anything is written.`,
		Example: `  polytome check /media/stick
  polytome check --bench season.toml --target 'North stick' --full
  polytome check ftp://192.168.0.20/hd1 --loader gantry --json
  polytome check north.img --loader bellows --loader mica
  polytome check /media/stick --fix --dry-run
  polytome check /media/stick --from ~/games --fix --only companion
  polytome check --bench season.toml --planned`,
		Args: mostArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error { return p.run(cmd, args) },
	}
	f := cmd.Flags()
	f.Var(&loadersFlag{p}, "loader", "loader profile: a name, or a .toml file (may be repeated)")
	p.flags(cmd)
	f.BoolVar(&p.quick, "quick", false, "look at names and sizes only")
	f.BoolVar(&p.full, "full", false, "read every byte, and compare every checksum")
	f.BoolVar(&p.fix, "fix", false, "fix what can be fixed")
	f.BoolVar(&p.planned, "planned", false, "what the console will list after fill, before it")
	f.BoolVar(&p.dry, "dry-run", false, "with --fix: print the steps and write nothing")
	f.StringArrayVar(&p.kinds, "only", nil, "with --fix: only problems of this kind: "+kindWords()+" (may be repeated)")
	return cmd
}

// loadersFlag takes --loader as often as it is given: the first is the target's loader.
type loadersFlag struct{ p *checking }

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
	for _, k := range check.Kinds() {
		out = append(out, string(k))
	}
	return strings.Join(out, ", ")
}

func (p *checking) depth() check.Depth {
	switch {
	case p.full:
		return check.Whole
	case p.quick:
		return check.Names
	}
	return ""
}

func (p *checking) check(args []string) error {
	switch {
	case p.full && p.quick:
		return usageError{errors.New("--full and --quick exclude each other; use one of them")}
	case p.planned && (p.full || p.fix):
		return usageError{errors.New("--planned is about what is not there yet: omit --full and --fix")}
	case p.planned && p.bench == "" && len(p.from) == 0:
		return usageError{errors.New("--planned needs to know your games: --from DIR or --bench FILE")}
	case len(args) == 0 && p.to == "" && p.bench == "":
		return usageError{errors.New("no target given: name a folder, drive, image or address, or a bench with " +
			"--bench FILE")}
	case len(args) > 0 && p.bench != "":
		return usageError{errors.New("with --bench, choose the target with --target NAME")}
	case len(args) > 0 && p.to != "" && p.to != args[0]:
		return usageError{fmt.Errorf("two targets given: %s and %s; use one", args[0], p.to)}
	case !p.fix && (p.dry || len(p.kinds) > 0):
		return usageError{errors.New("--dry-run and --only need --fix")}
	}
	for _, k := range p.kinds {
		if !slices.Contains(check.Kinds(), check.Kind(k)) {
			return usageError{fmt.Errorf("--only: %w", nearest.Unknown("kind of problem", k, strings.Split(kindWords(),
				", ")))}
		}
	}
	if len(args) > 0 {
		p.to = args[0]
	}
	return nil
}

func (p *checking) run(cmd *cobra.Command, args []string) error {
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
			s, err = survey.Take(ctx, b, 0, scan.Result{}.Titles, survey.Options{Set: set, Vault: keptSaves()})
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
	good, unchecked := true, p.partial
	for n, s := range all {
		if s == nil {
			continue
		}
		fixed := false
		check := func() (*check.Report, error) {
			if p.planned {
				return s.CheckPlanned(ctx, s.Plan(), p.depth())
			}
			r, _, err := s.Checker(b, n, p.depth(), history).CheckAgain(ctx, cache)
			if err == nil {
				noted(ctx, s, survey.Noted{Check: r, Stale: fixed})
			}
			return r, err
		}
		r, err := check()
		if err != nil {
			if len(all) == 1 || ctx.Err() != nil {
				return err
			}
			fmt.Fprintf(stderr(), "polytome: skipped: %s: %v\n", s.Config.Name, err)
			unchecked = true
			continue
		}
		if p.fix {
			if fixed, err = p.fixAll(ctx, out, b, all, n, r); err != nil {
				return err
			}
			if fixed && !p.dry {
				if r, err = check(); err != nil {
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
		printCheck(out, s.Shown(), r)
	}
	if !good || unchecked {
		return errPartial
	}
	return nil
}

// journalLines is how many runs are looked at for what was done at a target last.
const journalLines = 100

// whose finds out which loaders a target is for.
func (p *checking) whose(ctx context.Context, set *loader.Set) error {
	c := bench.Target{Name: p.to, At: drive.AddressOf(p.to), As: p.as}
	if err := p.set(&c); err != nil {
		return err
	}
	var to target.Target
	if err := letIn(func() (err error) {
		to, err = survey.OpenTarget(ctx, c.At, c, nil,
			false)
		return err
	}); err != nil {
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
	fit, rest := check.Fits(entries, facts.Filesystem.Fold, set)
	if len(fit) == 0 {
		unknown := &check.UnknownError{Target: p.to}
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
	fmt.Fprintf(stderr(), "polytome: checking for %s: %s\n", strings.Join(say, " and "), fit[0].Words())
	return nil
}

// fixAll carries out what fixes the findings of a target. It reports whether there was something to do.
func (p *checking) fixAll(ctx context.Context, out io.Writer, b *bench.Bench, all survey.Board, n int,
	r *check.Report) (bool, error) {
	var kinds []check.Kind
	for _, k := range p.kinds {
		kinds = append(kinds, check.Kind(k))
	}
	fixes := r.Fixes(kinds...)
	if len(fixes) == 0 {
		if !p.asJSON {
			fmt.Fprintln(out, "None of these problems can be fixed automatically.")
		}
		return false, nil
	}
	f := &filling{out: out, progress: autoProgress(), asJSON: p.asJSON, dry: p.dry, remove: true, bench: b,
		unchecked: true}
	_, err := f.fix(ctx, all, n, fixes)
	return true, err
}

// printCheck writes an audit for people.
func printCheck(out io.Writer, loaderName string, r *check.Report) {
	say := func(format string, args ...any) { // what stands on a target may be written to harm a terminal
		fmt.Fprintln(out, strings.TrimRight(clean(fmt.Sprintf(format, args...)), " "))
	}
	starts := ""
	if k := r.Starts(); k < len(r.Listed) {
		starts = fmt.Sprintf(", and start %d of them", k)
	}
	say("Check: %s will list %s%s.", loaderName, size.Count(len(r.Listed), "title"), starts)
	section := ""
	for _, l := range r.Listed {
		if l.Section != section && l.Section != "" {
			say("  %s", l.Section)
		}
		section = l.Section
		note, indent := "", ""
		if section != "" {
			indent = "  "
		}
		if l.Favourite {
			note = "   favourite"
		}
		if !l.Starts {
			note = "   DOES NOT START"
		}
		if l.BuiltIn {
			note = "   built in"
		}
		say("%s  %-10s %s%s", indent, l.ID, l.Name, note)
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
		case len(f.Fixes) > 0:
			say("          -> %s (--fix --only %s)", f.Remedy, f.Kind)
		case f.Remedy != "":
			say("          -> %s", f.Remedy)
		}
	}
	if c := r.Changes; c != nil && !c.Empty() {
		say("Since the check before: %s.", c.Words())
	}
	if n := len(r.Others); n > 0 {
		say("Files no loader knows, left alone: %s.", someOf(r.Others))
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
