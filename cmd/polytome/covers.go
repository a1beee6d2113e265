package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/cover"
	"polytome/internal/core/filter"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/format/picture"
	"polytome/internal/nearest"
	"polytome/internal/size"
)

func coversCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "covers",
		Short: "Find, download and choose the pictures of titles",
		Long: `Covers are pictures of titles: the front, the disc, a screen, the logo. They are found beside the
games, in folders of yours, in the games themselves, and on the servers that the bench names; see
docs/covers.md. Filling a target writes them with the name and size that its loader needs.`,
		Example: `  polytome covers report --bench season.toml
  polytome covers fetch --bench season.toml
  polytome covers set --bench season.toml VSP-20417 ~/pictures/tide.png`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(coversFetch(), coversReport(), coversSet())
	return cmd
}

// covering is what the commands about covers have in common.
type covering struct {
	bench, only string
	of          []string
	asJSON      bool
}

func (c *covering) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&c.bench, "bench", "", "the bench file (required)")
	f.StringVar(&c.only, "only", "",
		"only titles that match this filter, such as 'platform:vesper' (same syntax as / on the screen)")
	f.StringSliceVar(&c.of, "of", nil, "kinds of pictures: "+strings.Join(title.PictureKinds,
		", ")+" (default: those that the bench's loaders show)")
	f.BoolVar(&c.asJSON, "json", false, "print JSON")
}

// shelf is a bench with its titles, and what finds pictures for them.
type shelf struct {
	bench  *bench.Bench
	set    *loader.Set
	store  *cover.Store
	finder *cover.Finder
	titles []title.Title
	which  []int // the titles that are meant
	kinds  cover.Kinds
}

// open scans the bench's titles. The caller closes the store.
func (c *covering) open(ctx context.Context) (*shelf, error) {
	if c.bench == "" {
		return nil, usageError{errors.New("--bench FILE is needed: it lists the folders with games and pictures")}
	}
	only := filter.Parse(c.only)
	if only.Trouble != "" {
		return nil, usageError{errors.New(only.Trouble)}
	}
	for _, of := range c.of {
		if !slices.Contains(title.PictureKinds, of) {
			return nil, usageError{fmt.Errorf("--of: %w", nearest.Unknown("kind of picture", of, title.PictureKinds))}
		}
	}
	b, err := bench.Open(c.bench, stateDir())
	if err != nil {
		return nil, err
	}
	set, err := known()
	if err != nil {
		return nil, err
	}
	s := &shelf{bench: b, set: set, kinds: cover.Only(c.of...), store: openCovers("", os.Stderr)}
	if len(c.of) == 0 {
		s.kinds = cover.Shown(b, set)
	}
	cache := openCache(os.Stderr)
	defer cache.Close()
	s.finder = cover.NewFinder(b, set, s.store)
	o := scan.For(b, set, cache)
	o.Covers = s.finder
	r, err := scan.Scan(ctx, b.SourcePaths(), o)
	if err != nil {
		return nil, errors.Join(errStopped, s.store.Close())
	}
	for _, p := range r.Problems {
		fmt.Fprintf(stderr(), "not read: %s: %s\n", p.Path, p.Say)
	}
	s.titles = r.Titles
	for i := range s.titles {
		if only.Empty() || only.Match(&s.titles[i], filter.Text(&s.titles[i])) {
			s.which = append(s.which, i)
		}
	}
	return s, nil
}

func (s *shelf) needs() []cover.Need { return cover.Needs(s.titles, s.which, s.kinds) }

// coversFetchOptions are the flags of covers fetch.
type coversFetchOptions struct {
	covering
	again, noText bool
}

func coversFetch() *cobra.Command {
	var opt coversFetchOptions
	cmd := &cobra.Command{
		Use:   "fetch",
		Short: "Download pictures and descriptions from the bench's servers",
		Long: `Fetch asks the bench's servers ([[covers.server]]) for the pictures and descriptions that titles
lack, over few connections and with pauses when a server is busy. Downloads are checked and kept in
your cache. What a server did not have is requested again after a week, or with --again, which also
downloads what has changed. No request goes anywhere else. Failures are listed, and the exit status
is then 3.`,
		Example: `  polytome covers fetch --bench season.toml
  polytome covers fetch --bench season.toml --only 'platform:vesper' --of front,disc
  polytome covers fetch --bench season.toml --again --json`,
		Args: noArgs,
		RunE: opt.run,
	}
	opt.flags(cmd)
	cmd.Flags().BoolVar(&opt.again, "again", false,
		"request again what the servers did not have, and what has changed there")
	cmd.Flags().BoolVar(&opt.noText, "no-descriptions", false, "download pictures only")
	return cmd
}

func (opt *coversFetchOptions) run(cmd *cobra.Command, _ []string) error {
	s, err := opt.open(cmd.Context())
	if err != nil {
		return err
	}
	defer s.store.Close()
	if len(s.bench.Covers.Servers) == 0 {
		return fmt.Errorf("the bench %s has no picture server; add one like this, and see "+
			"docs/covers.md:\n\n[[covers.server]]\nname = \"shelf\"\nurl = "+
			"\"https://pictures.example/\"\npaths = [\"{platform}/{kind}/{id}.png\"]", opt.bench)
	}
	needs := s.needs()
	if !opt.noText {
		needs = append(needs, s.finder.About(s.titles, s.which)...)
	}
	line := passing{out: os.Stderr, want: isTerminal(os.Stderr) && !opt.asJSON}
	r := s.finder.Fetch(cmd.Context(), s.titles, needs, cover.FetchOptions{Again: opt.again,
		Progress: func(p cover.Progress) {
			line.draw(func() string {
				return clean(fmt.Sprintf("%d of %d, %s new: %s", p.Done, p.Total,
					size.Count(p.Fetched, "picture"),
					p.Now))
			})
		}})
	line.clear()
	if err := opt.emit(cmd.OutOrStdout(), r, true); err != nil {
		return err
	}
	if r.Stopped {
		return errors.New("stopped; what arrived is kept, and the same command continues")
	}
	return opt.status(r)
}

func coversReport() *cobra.Command {
	c := &covering{}
	cmd := &cobra.Command{
		Use:   "report",
		Short: "List which titles have pictures, where they come from, and what is missing",
		Long: `Report lists for each title which pictures were found and where, which are proposed because their
names are similar, which are missing, and which cannot be used. It contacts no server. Exit status:
0 when every title has its pictures, otherwise 3.`,
		Example: `  polytome covers report --bench season.toml
  polytome covers report --bench season.toml --of front --json`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := c.open(cmd.Context())
			if err != nil {
				return err
			}
			defer s.store.Close()
			looker := cover.Looker{Store: s.store, Passwords: s.bench.Passwords, Allowed: scan.Allowed(s.bench)}
			if err := s.finder.LookAll(cmd.Context(), s.titles, s.needs(), &looker); err != nil {
				return errStopped
			}
			r := s.finder.Report(s.titles, s.needs())
			if err := c.emit(cmd.OutOrStdout(), r, false); err != nil {
				return err
			}
			return c.status(r)
		},
	}
	c.flags(cmd)
	return cmd
}

func (c *covering) status(r *cover.Report) error {
	if r.Missing+r.Refused+r.Proposed > 0 || len(r.Trouble) > 0 {
		return errPartial
	}
	return nil
}

// tell prints a report: what is wrong first.
func (c *covering) emit(out io.Writer, r *cover.Report, fetched bool) error {
	if c.asJSON {
		return printJSON(out, r)
	}
	for _, state := range []struct{ name, words string }{{cover.Refused, "Cannot be used"}, {cover.Missing, "Missing"},
		{cover.Proposed, "Proposed: the names are similar"}, {cover.Found, "Found"}} {
		var rows []cover.Outcome
		for _, o := range r.Outcomes {
			if o.State == state.name {
				rows = append(rows, o)
			}
		}
		if len(rows) == 0 {
			continue
		}
		fmt.Fprintf(out, "%s:\n", state.words)
		for _, o := range rows {
			name := o.Label
			if o.Disc > 0 {
				name += fmt.Sprintf(" (Disc %d)", o.Disc)
			}
			line := fmt.Sprintf("  %-6s %s", o.Of, name)
			for _, more := range []string{o.From, o.Say} {
				if more != "" {
					line += "  " + more
				}
			}
			if o.File != "" && o.State != cover.Found {
				line += "  " + o.File
			}
			fmt.Fprintln(out, clean(line))
		}
	}
	for _, t := range r.Trouble {
		fmt.Fprintln(out, clean(strings.ToUpper(t[:1])+t[1:]+"."))
	}
	fmt.Fprintln(out, r.Say())
	if fetched {
		fmt.Fprintf(out, "%d downloaded (%s), %d unchanged; %s.\n", r.Fetched, size.Format(r.Bytes), r.Same,
			size.Count(r.Asked, "request"))
	}
	return nil
}

// coversSetOptions are the flags of covers set.
type coversSetOptions struct {
	covering
	crop        string
	none, clear bool
	disc        int
}

func coversSet() *cobra.Command {
	var opt coversSetOptions
	cmd := &cobra.Command{
		Use:   "set TITLE [PICTURE]",
		Short: "Choose the picture of a title by hand",
		Long: `Set chooses the picture of a title, given by its ID or name, or leaves it without one. The choice is
stored on the bench, takes precedence over all pictures found, and is kept when the game's file
moves. --crop cuts off so many thousandths at the left, top, right and bottom.`,
		Example: `  polytome covers set --bench season.toml VSP-20417 ~/pictures/tide.png
  polytome covers set --bench season.toml 'Copper Tide' --crop 100,0,100,0
  polytome covers set --bench season.toml VSP-20417 --of disc --none
  polytome covers set --bench season.toml VSP-20417 --clear`,
		Args: needArgs(1, "a title, by its ID or name"),
		RunE: opt.run,
	}
	opt.flags(cmd)
	cmd.Flags().StringVar(&opt.crop, "crop", "", "cut so many thousandths off: LEFT,TOP,RIGHT,BOTTOM")
	cmd.Flags().BoolVar(&opt.none, "none", false, "the title goes without this picture")
	cmd.Flags().BoolVar(&opt.clear, "clear", false, "forget the choice")
	cmd.Flags().IntVar(&opt.disc, "disc", 0, "the number of the disc it is for")
	return cmd
}

func (opt *coversSetOptions) run(cmd *cobra.Command, args []string) error {
	if len(args) > 2 {
		return usageError{fmt.Errorf("unexpected argument %q", args[2])}
	}
	if given := len(args) - 1 + count(opt.crop != "") + count(opt.none) + count(opt.clear); given == 0 || given > 1 &&
		(opt.none || opt.clear) {
		return usageError{errors.New("give a picture, --crop, --none or --clear")}
	}
	s, err := opt.open(cmd.Context())
	if err != nil {
		return err
	}
	defer s.store.Close()
	t, err := s.one(args[0])
	if err != nil {
		return err
	}
	of := title.PictureKinds[0]
	if len(opt.of) > 0 {
		of = opt.of[0]
	}
	at := 0
	if opt.disc > 0 {
		if at = slices.IndexFunc(t.Discs, func(d title.Disc) bool { return d.Number == opt.disc }); at < 0 {
			return usageError{fmt.Errorf("%s has no disc %d", t.Label(), opt.disc)}
		}
	}
	choice := title.Chosen{Of: of, None: opt.none}
	for _, was := range t.Discs[at].Chosen {
		if was.Of == of && opt.crop != "" {
			choice.File = was.File
		}
	}
	if len(args) > 1 {
		if choice.File, err = cover.Usable(args[1]); err != nil {
			return err
		}
	}
	if opt.crop != "" {
		if choice.Crop, err = parseCrop(opt.crop); err != nil {
			return usageError{err}
		}
	}
	if err := s.bench.Hold(stateDir()); err != nil {
		return err
	}
	defer s.bench.Release()
	if who := s.bench.ReadOnly(); who != "" {
		return fmt.Errorf("another Polytome (%s) has this bench open: close it first", who)
	}
	if choice.File != "" {
		choice.File = s.bench.Relative(choice.File)
	}
	s.bench.Edit(t.Discs[at].Where(t.Among > 1), t.Discs[at].Sign, func(e *title.Edit) { e.Choose(choice) })
	if err := s.bench.Save(); err != nil {
		return err
	}
	switch {
	case opt.asJSON:
		return printJSON(cmd.OutOrStdout(), map[string]any{"title": t.Key, "label": t.Label(),
			"disc": t.Discs[at].Number, "chosen": choice})
	case opt.none:
		fmt.Fprintf(cmd.OutOrStdout(), "%[2]s goes without a %[1]s picture.\n", of, t.Label())
	case opt.clear:
		fmt.Fprintf(cmd.OutOrStdout(), "The %s picture of %s is again the one that was found.\n", of, t.Label())
	default:
		fmt.Fprintf(cmd.OutOrStdout(), "The %s picture of %s is chosen.\n", of, t.Label())
	}
	return nil
}

func count(b bool) int {
	if b {
		return 1
	}
	return 0
}

// one is the only title with an ID, key or name.
func (s *shelf) one(name string) (*title.Title, error) {
	var found []int
	for _, i := range s.which {
		if t := &s.titles[i]; strings.EqualFold(t.ID, name) || t.Key == name || strings.EqualFold(t.Name, name) {
			found = append(found, i)
		}
	}
	switch len(found) {
	case 0:
		return nil, usageError{fmt.Errorf("no title has the ID or name %q; list them with: polytome scan", name)}
	case 1:
		return &s.titles[found[0]], nil
	}
	var all []string
	for _, i := range found {
		all = append(all, fmt.Sprintf("%s (%s)", s.titles[i].Label(), s.titles[i].Source()))
	}
	return nil, usageError{fmt.Errorf("several titles are named %q: %s; choose one with --only", name,
		strings.Join(all, ", "))}
}

// parseCrop reads what is cut off.
func parseCrop(text string) (out [4]int, err error) {
	parts := strings.Split(text, ",")
	if len(parts) == len(out) {
		for i := range out {
			if out[i], err = strconv.Atoi(strings.TrimSpace(parts[i])); err != nil {
				break
			}
		}
		if err == nil && picture.Crop(out).Keeps() {
			return out, nil
		}
	}
	return out, fmt.Errorf("--crop: %q must be four numbers in thousandths (left, top, right, bottom), such as "+
		"100,0,100,0", text)
}
