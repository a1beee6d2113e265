package main

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"polytome/internal/core/arrange"
	"polytome/internal/core/bench"
	"polytome/internal/core/cover"
	"polytome/internal/core/filter"
	"polytome/internal/core/layout"
	"polytome/internal/core/ledger"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
	"polytome/internal/nearest"
	"polytome/internal/target/drive"
)

// work is what a command works on: a bench from a file, or one put together
// from flags.
type work struct {
	bench  string
	target string
	from   []string
	loader string
	to     string
	via    string
	as     string
	space  string
	volume string
	model  string
	// sections are how the console's list is divided, as written.
	sections string
	rate     string
	verify   string
	asJSON   bool
	// partial is set when some target could not be worked on.
	partial bool

	also                   []string
	cluster, reserve       string
	noCovers, deleteOthers bool
	copyDeleted            bool
	onlyCovers             bool
	coversMost             string
	backupTo               string
	only, except           string
	server                 serverTraits
	picked                 int  // number of the target that was asked for, -1 for all
	alike                  bool // those like it, too, as far as they are connected

	lists, passwords, allow []string
	covers                  string // the folder of fetched covers, "" for the usual one
}

// serverTraits are what is said of a console's or share's server.
type serverTraits struct {
	encoding    string
	connections int
	unchecked   bool
}

func (t *serverTraits) flags(f *pflag.FlagSet) {
	f.StringVar(&t.encoding, "encoding", "",
		"the encoding of names over FTP, such as latin1 (default: what the profile says, or UTF-8)")
	f.IntVar(&t.connections, "connections", 0, "how many connections a console or share allows at a time")
	f.BoolVar(&t.unchecked, "unchecked-certificate", false, "with ftps: accept any certificate")
}

// set has them hold for a target.
func (t *serverTraits) set(p *bench.Target) {
	if t.encoding != "" {
		p.Encoding = t.encoding
	}
	if t.connections > 0 {
		p.Connections = t.connections
	}
	p.Unchecked = p.Unchecked || t.unchecked
}

// flags adds the flags that name the work. Commands that look at a target only
// need no sources.
func (w *work) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&w.bench, "bench", "", "work on this bench file")
	f.StringVar(&w.target, "target", "", "with --bench: only the target of this name")
	f.BoolVar(&w.alike, "alike", false, "with --target: also those of its set that are connected")
	f.StringArrayVar(&w.from, "from", nil, "folder with games (may be repeated)")
	if f.Lookup("loader") == nil {
		f.StringVar(&w.loader, "loader", "", "loader profile: a name, or a .toml file")
	}
	f.StringVar(&w.to, "to", "", "the target: a folder, a mounted drive, a drive or an image")
	f.StringVar(&w.via, "via", "", "how the target is connected: "+strings.Join(loader.Connections,
		", ")+" (default: the loader's usual one)")
	f.StringVar(&w.as, "as", "", "declare the target's filesystem: fat32, exfat, ntfs or ext4")
	f.StringVar(&w.space, "capacity", "", "declare the target's capacity, such as 58GiB")
	f.StringVar(&w.volume, "volume", "",
		"which of the console's volumes it is (default: what its folder or label says)")
	f.StringVar(&w.model, "model", "",
		"which model of the console it is, such as north: what is built into it is listed, too")
	w.server.flags(f)
	f.BoolVar(&w.asJSON, "json", false, "print JSON")
}

// planFlags adds the flags of commands that choose titles for a target.
func (w *work) planFlags(cmd *cobra.Command) {
	w.flags(cmd)
	f := cmd.Flags()
	f.StringArrayVar(&w.also, "also-for", nil, "another loader that uses the same target (may be repeated)")
	f.StringVar(&w.cluster, "cluster", "", "declare the target's allocation unit, such as 32KiB")
	f.StringVar(&w.reserve, "reserve", "", "keep this much space free, such as 2GiB")
	f.StringVar(&w.sections, "sections", "",
		"how the console's list is divided: none, letters, parts:40 (at most 40 in each) or one:Added (all in one)")
	f.BoolVar(&w.noCovers, "no-covers", false, "write no covers")
	f.BoolVar(&w.onlyCovers, "only-covers", false,
		"write the covers of titles that are already there, and nothing else")
	f.StringVar(&w.coversMost, "covers-at-most", "", "how much space covers may use on the target, such as 40MiB or 5%")
	f.BoolVar(&w.deleteOthers, "delete-others", false, "remove everything that the loader knows and you did not select")
	f.BoolVar(
		&w.copyDeleted,
		"copy-deleted",
		false,
		"copy titles again that were deleted on the target since the last look",
	)
	f.StringVar(&w.backupTo, "backup-to", "", "back up what is removed or replaced to this folder first")
	f.StringVar(&w.only, "only", "",
		"only titles that match this filter, such as 'platform:vesper size<4G' (same syntax as / on the screen)")
	f.StringVar(&w.except, "except", "", "all titles except those that match this filter")
}

// benchOrNew loads the bench file, or begins one where there is none.
func (w *work) benchOrNew() (*bench.Bench, error) {
	b, err := bench.Open(w.bench, stateDir())
	if errors.Is(err, fs.ErrNotExist) {
		b = bench.New(w.bench)
		b.Kept(stateDir())
		return b, nil
	}
	return b, err
}

// open brings the bench together. With needSources, there must be some.
func (w *work) open(needSources bool) (*bench.Bench, error) {
	if w.bench != "" {
		if len(w.from) > 0 || w.loader != "" || w.to != "" || w.via != "" || w.as != "" || w.space != "" ||
			len(w.also) > 0 || w.cluster != "" {
			return nil, usageError{errors.New(
				"with --bench, omit --from, --loader, --also-for, --to, --via, --as, --capacity and --cluster")}
		}
		b, err := bench.Open(w.bench, stateDir())
		if err != nil {
			return nil, err
		}
		for _, n := range b.Notes {
			fmt.Fprintf(stderr(), "polytome: %s\n", n)
		}
		if w.alike && w.target == "" {
			return nil, usageError{errors.New("--alike: say with --target which target the others are like")}
		}
		if err := w.pick(b); err != nil {
			return nil, err
		}
		for i := range b.Targets { // what is said on the command line counts for this time
			if err := w.set(&b.Targets[i]); err != nil {
				return nil, err
			}
		}
		return b, nil
	}
	w.picked = -1
	var missing []string
	for _, m := range []struct {
		flag string
		ok   bool
	}{{"--from DIR", !needSources || len(w.from) > 0}, {"--loader NAME", w.loader != ""}, {"--to TARGET", w.to != ""}} {
		if !m.ok {
			missing = append(missing, m.flag)
		}
	}
	if len(missing) > 0 {
		return nil, usageError{fmt.Errorf("%s needed (or a bench: --bench FILE)", strings.Join(missing, ", "))}
	}
	if w.via != "" && !slices.Contains(loader.Connections, w.via) {
		return nil, usageError{fmt.Errorf("--via: %w", nearest.Unknown("connection", w.via, loader.Connections))}
	}
	b := bench.New("")
	for _, dir := range w.from {
		b.Sources = append(b.Sources, bench.Source{Path: dir})
	}
	p := bench.Target{Name: w.to, At: drive.AddressOf(w.to), Loader: w.loader, Via: w.via, As: w.as, Everything: true}
	p.Also = w.also
	if err := w.set(&p); err != nil {
		return nil, err
	}
	b.Targets = []bench.Target{p}
	return b, nil
}

// set takes over what the command line says of a target.
func (w *work) set(p *bench.Target) error {
	for _, s := range []struct {
		flag, text string
		into       *bench.Size
	}{{"--capacity", w.space, &p.Capacity}, {"--limit", w.rate, &p.Rate}, {"--cluster", w.cluster, &p.Cluster},
		{"--reserve", w.reserve, &p.Reserve}} {
		n, err := asBytes(s.flag, s.text)
		if err != nil {
			return err
		}
		if s.text != "" {
			*s.into = bench.Size(n)
		}
	}
	if n := int64(p.Cluster); n != 0 && (n&(n-1) != 0 || n < 512) {
		return usageError{errors.New("--cluster: a cluster size is a power of two, 512 bytes or more")}
	}
	if w.verify != "" {
		p.Verify = w.verify
	}
	if w.model != "" {
		p.Model = w.model
	}
	if w.sections != "" {
		wish, err := arrange.ParseSections(w.sections)
		if err != nil {
			return usageError{fmt.Errorf("--sections: %w", err)}
		}
		wish.Sequence, wish.In = p.List.Sequence, p.List.In
		p.List = wish
	}
	if w.volume != "" {
		p.Volume = w.volume
	}
	w.server.set(p)
	p.NoCovers = p.NoCovers || w.noCovers
	if w.noCovers && w.onlyCovers {
		return usageError{errors.New("--no-covers and --only-covers exclude each other")}
	}
	if w.coversMost != "" {
		p.CoversMost = bench.Budget(w.coversMost)
		if err := p.CoversMost.Check(); err != nil {
			return usageError{fmt.Errorf("--covers-at-most: %w", err)}
		}
	}
	p.DeleteOthers = p.DeleteOthers || w.deleteOthers
	if w.backupTo != "" {
		p.BackupTo = w.backupTo
	}
	if (w.only != "" || w.except != "") && p.DeleteOthers {
		return usageError{fmt.Errorf("%s removes everything not selected, so --only and --except would remove the "+
			"rest; use one or the other", p.Name)}
	}
	return nil
}

// narrow leaves only those titles chosen that the filters find.
func (w *work) narrow(all survey.Board, be *bench.Bench) error {
	only, except := filter.Parse(w.only), filter.Parse(w.except)
	for _, f := range []filter.Filter{only, except} {
		if f.Trouble != "" {
			return usageError{errors.New(f.Trouble)}
		}
	}
	if only.Empty() && except.Empty() {
		return nil
	}
	for n, s := range all {
		if s == nil {
			continue
		}
		keep := make([]bool, len(s.Titles))
		for i := range s.Titles {
			t := &s.Titles[i]
			v := s.Sheet.Verdict(i)
			at := filter.Placed{Verdict: v.Word(), Goes: v.Kind.Goes(), Wanted: s.Sheet.Chosen[i],
				Favourite: be.Favours(t.Key),
				Priority:  be.Priorities[t.Key], Minutes: s.Time(i).Middle().Minutes()}
			text := filter.Text(t)
			keep[i] = (only.Empty() || only.MatchAt(t, text, at)) && (except.Empty() || !except.MatchAt(t, text, at))
		}
		s.Narrow(be, n, keep)
	}
	return nil
}

// pick leaves only the target that was asked for.
func (w *work) pick(b *bench.Bench) error {
	if len(b.Targets) == 0 {
		return fmt.Errorf("the bench %s has no target yet; open it with: polytome --bench %s", w.bench, w.bench)
	}
	w.picked = -1
	if w.target == "" {
		return nil
	}
	var names []string
	for i, p := range b.Targets {
		if strings.EqualFold(p.Name, w.target) {
			w.picked = i
			return nil
		}
		names = append(names, p.Name)
	}
	return usageError{fmt.Errorf("the bench has no target %q; it has: %s", w.target, strings.Join(names, ", "))}
}

// scan looks through the sources. Problems are printed; only when no source
// could be read at all does it fail.
func scanned(ctx context.Context, b *bench.Bench, set *loader.Set, covers string, problems io.Writer) (scan.Result,
	error) {
	cache := openCache(problems)
	defer cache.Close()
	store := openCovers(covers, problems)
	defer store.Close()
	o := scan.For(b, set, cache)
	o.Covers = cover.NewFinder(b, set, store)
	r, err := scan.Scan(ctx, b.SourcePaths(), o)
	if err != nil {
		return r, errStopped
	}
	for _, n := range r.Notes {
		fmt.Fprintf(problems, "polytome: %s\n", n)
	}
	for _, p := range r.Problems {
		fmt.Fprintf(problems, "not read: %s: %s\n", p.Path, p.Say)
	}
	if r.Files == 0 && len(r.Problems) > 0 {
		return r, errors.New("none of the source folders could be read")
	}
	return r, nil
}

// look opens the bench, scans its sources and looks at its targets. It also reports
// whether some of the sources or targets could not be read.
func (w *work) look(ctx context.Context) (b *bench.Bench, all survey.Board, unread bool, err error) {
	if b, err = w.open(true); err != nil {
		return nil, nil, false, err
	}
	all, r, err := w.surveys(ctx, b)
	if err == nil {
		err = w.narrow(all, b)
	}
	for _, s := range all {
		if err == nil && s != nil && w.onlyCovers {
			s.SetPlan(s.Plan().OnlyCovers())
		}
	}
	return b, all, len(r.Problems) > 0 || w.partial, err
}

// surveys scans the sources and looks at the targets of the bench, all of them or the one that was asked
// for. The others, and those that cannot be worked on, are nil.
func (w *work) surveys(ctx context.Context, b *bench.Bench) (survey.Board, scan.Result, error) {
	return w.surveysOf(ctx, b, func([]title.Title) {})
}

// surveysOf is surveys for a bench whose choices are made when its titles are known.
func (w *work) surveysOf(ctx context.Context, b *bench.Bench, choose func([]title.Title)) (survey.Board, scan.Result,
	error) {
	set, err := known()
	if err != nil {
		return nil, scan.Result{}, err
	}
	r, err := scanned(ctx, b, set, w.covers, os.Stderr)
	if err != nil {
		return nil, r, err
	}
	choose(r.Titles)
	cache := openCache(os.Stderr)
	defer cache.Close()
	o := survey.Options{Set: set, Cache: cache, Vault: keptSaves(), CopyDeleted: w.copyDeleted,
		Trees: &layout.Shelf{}}
	out := make(survey.Board, len(b.Targets))
	looked := 0
	var past []ledger.Volume
	if w.alike {
		if past, err = volumes(); err != nil {
			return nil, r, err
		}
	}
	for i := range b.Targets {
		if !w.asks(ctx, b, i, past) {
			continue
		}
		var s *survey.Survey
		var err error
		_ = letIn(func() error {
			s, err = survey.Take(ctx, b, i, r.Titles, o)
			return cmp.Or(err, awayOf(s))
		})
		if err != nil {
			if len(b.Targets) == 1 || w.picked >= 0 && !w.alike || ctx.Err() != nil {
				return nil, r, err
			}
			fmt.Fprintf(stderr(), "polytome: skipped: %v\n", err)
			w.partial = true
			continue
		}
		for _, n := range s.Notes {
			fmt.Fprintf(stderr(), "polytome: %s\n", n)
		}
		for _, p := range s.Problems {
			fmt.Fprintf(stderr(), "not read on %s: %s\n", s.Config.Name, p)
		}
		noted(ctx, s, survey.Noted{})
		out[i] = s
		looked++
	}
	if looked == 0 {
		return nil, r, errors.New("none of the targets can be used")
	}
	out.Relate(b)
	return out, r, nil
}

// asks reports whether target number n was asked for. With --alike, those of its set that are not connected wait.
func (w *work) asks(ctx context.Context, b *bench.Bench, n int, past []ledger.Volume) bool {
	switch {
	case w.picked < 0 || n == w.picked && !w.alike:
		return true
	case !w.alike || !slices.Contains(b.Alike(w.picked), n):
		return false
	}
	_, here := survey.Present(ctx, b, n, past)
	if !here {
		fmt.Fprintf(stderr(), "polytome: %s is not connected: it waits\n", b.Targets[n].Name)
	}
	return here
}

// awayOf is why a target cannot be looked at.
func awayOf(s *survey.Survey) error {
	if s == nil {
		return nil
	}
	return s.Away
}

func printJSON(w io.Writer, v any) error {
	e := json.NewEncoder(plain(w))
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}
