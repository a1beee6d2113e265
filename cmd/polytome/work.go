package main

import (
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

	"polytome/internal/core/bench"
	"polytome/internal/core/intake"
	"polytome/internal/core/loader"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

// work is what a command works on: a bench from a file, or one put together
// from flags.
type work struct {
	bench  string
	place  string
	from   []string
	loader string
	to     string
	road   string
	as     string
	room   string
	rate   string
	asJSON bool

	lists, passwords, allow []string
}

// flags adds the flags that name the work. Commands that look at a place only
// need no sources.
func (w *work) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&w.bench, "bench", "", "work on this bench file")
	f.StringVar(&w.place, "place", "", "with --bench: only the place of this name")
	f.StringArrayVar(&w.from, "from", nil, "folder with games (may be given several times)")
	f.StringVar(&w.loader, "loader", "", "loader profile: a name, or a file ending in .toml")
	f.StringVar(&w.to, "to", "", "the place: a folder or mounted drive")
	f.StringVar(&w.road, "road", "", "how the console gets at the place: "+strings.Join(loader.Roads, ", ")+" (default: the loader's usual one)")
	f.StringVar(&w.as, "as", "", "declare the place's filesystem: fat32, exfat, ntfs or ext4")
	f.StringVar(&w.room, "room", "", "declare the place's capacity, such as 58GiB")
	f.BoolVar(&w.asJSON, "json", false, "print JSON")
}

// benchOrNew loads the bench file, or begins one where there is none.
func (w *work) benchOrNew() (*bench.Bench, error) {
	b, err := bench.Load(w.bench)
	if errors.Is(err, fs.ErrNotExist) {
		return bench.New(w.bench), nil
	}
	return b, err
}

// open brings the bench together. With needSources, there must be some.
func (w *work) open(needSources bool) (*bench.Bench, error) {
	if w.bench != "" {
		if len(w.from) > 0 || w.loader != "" || w.to != "" || w.road != "" || w.as != "" || w.room != "" {
			return nil, usageError{errors.New("--bench says where everything is; leave --from, --loader, --to, --road, --as and --room away")}
		}
		b, err := bench.Load(w.bench)
		if err != nil {
			return nil, err
		}
		return b, w.pick(b)
	}
	var missing []string
	for _, m := range []struct {
		flag string
		ok   bool
	}{{"--from DIR", !needSources || len(w.from) > 0}, {"--loader NAME", w.loader != ""}, {"--to PLACE", w.to != ""}} {
		if !m.ok {
			missing = append(missing, m.flag)
		}
	}
	if len(missing) > 0 {
		return nil, usageError{fmt.Errorf("missing: %s (or give a bench with --bench FILE)", strings.Join(missing, ", "))}
	}
	if w.road != "" && !slices.Contains(loader.Roads, w.road) {
		return nil, usageError{fmt.Errorf("--road: %q is not known; known are: %s", w.road, strings.Join(loader.Roads, ", "))}
	}
	b := bench.New("")
	for _, dir := range w.from {
		b.Sources = append(b.Sources, bench.Source{Path: dir})
	}
	p := bench.Place{Name: w.to, At: w.to, Loader: w.loader, Road: w.road, As: w.as, Everything: true}
	for _, s := range []struct {
		flag, text string
		into       *bench.Size
	}{{"--room", w.room, &p.Room}, {"--rate", w.rate, &p.Rate}} {
		if s.text == "" {
			continue
		}
		n, err := size.Parse(s.text)
		if err != nil {
			return nil, usageError{fmt.Errorf("%s: %w", s.flag, err)}
		}
		*s.into = bench.Size(n)
	}
	b.Places = []bench.Place{p}
	return b, nil
}

// pick leaves only the place that was asked for.
func (w *work) pick(b *bench.Bench) error {
	if len(b.Places) == 0 {
		return fmt.Errorf("the bench %s has no place to fill yet; open it with polytome --bench %s", w.bench, w.bench)
	}
	if w.place == "" {
		return nil
	}
	var names []string
	for _, p := range b.Places {
		if strings.EqualFold(p.Name, w.place) {
			b.Places = []bench.Place{p}
			return nil
		}
		names = append(names, p.Name)
	}
	return usageError{fmt.Errorf("the bench has no place %q; it has: %s", w.place, strings.Join(names, ", "))}
}

// scan looks through the sources. Problems are printed; only when no source
// could be read at all does it fail.
func scan(ctx context.Context, b *bench.Bench, set *loader.Set, problems io.Writer) (intake.Result, error) {
	cache := openCache(problems)
	defer cache.Close()
	r, err := intake.Scan(ctx, b.SourcePaths(), intake.For(b, set, cache))
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

// look opens the bench, scans its sources and looks at its places. It also reports
// whether some of the sources could not be read.
func (w *work) look(ctx context.Context) (all []*survey.Survey, unread bool, err error) {
	b, err := w.open(true)
	if err != nil {
		return nil, false, err
	}
	all, r, err := w.surveys(ctx, b)
	return all, len(r.Problems) > 0, err
}

// surveys scans the sources and looks at every place of the bench.
func (w *work) surveys(ctx context.Context, b *bench.Bench) ([]*survey.Survey, intake.Result, error) {
	set, err := known()
	if err != nil {
		return nil, intake.Result{}, err
	}
	r, err := scan(ctx, b, set, os.Stderr)
	if err != nil {
		return nil, r, err
	}
	var out []*survey.Survey
	for i := range b.Places {
		s, err := survey.Take(ctx, b, i, r.Titles, set)
		if err != nil {
			return nil, r, err
		}
		for _, p := range s.Problems {
			fmt.Fprintf(os.Stderr, "not read on %s: %s\n", s.Config.Name, p)
		}
		out = append(out, s)
	}
	return out, r, nil
}

func printJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}
