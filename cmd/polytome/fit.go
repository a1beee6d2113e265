package main

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/estimate"
	"polytome/internal/core/fit"
	"polytome/internal/core/survey"
	"polytome/internal/size"
	"polytome/internal/target"
)

// fitOptions are the flags of fit.
type fitOptions struct {
	work
	share, accept bool
	suppose       string
}

func fitCommand() *cobra.Command {
	var opt fitOptions
	cmd := &cobra.Command{
		Use:   "fit",
		Short: "Show for every title whether it fits on the target, and why not",
		Long: `Fit shows for every title and every target whether it can go there, in which shape, how much space it takes
and how long it takes; if it cannot, the deciding reason and the ways out, the cheapest first.

--distribute finds a target for every selected title among all targets of the bench: hard rules first,
then favourites and priorities, then what is already there, then time. --what-if shows what would
change if the target were set up differently: as=exfat, cluster=64KiB, capacity=120GiB, reserve=2GiB, via=smb,
loader=NAME, also-for=NAME, covers=no, delete-others=yes, or a rule of its loader by its position in the profile
(rule:accept.1.too-large.part-size=1GiB); several separated by commas. It also takes "without" (the target
removed) and second=PATH (another one like it).

Nothing is written, unless --accept stores the result in the bench.`,
		Example: `  polytome fit --bench season.toml
  polytome fit --bench season.toml --distribute --accept
  polytome fit --bench season.toml --target "North stick" --what-if as=exfat,cluster=128KiB
  polytome fit --from ~/games --loader rowan --to ./stick --as fat32 --capacity 58GiB --only 'size>4G' --json`,
		Args: noArgs,
		RunE: opt.run,
	}
	opt.planFlags(cmd)
	cmd.Flags().BoolVar(&opt.share, "distribute", false, "find a target for every selected title")
	cmd.Flags().StringVar(&opt.suppose, "what-if", "", "show what would change, such as as=exfat,capacity=120GiB")
	cmd.Flags().BoolVar(&opt.accept, "accept", false, "store the result of --distribute or --what-if in the bench")
	return cmd
}

func (opt *fitOptions) run(cmd *cobra.Command, _ []string) error {
	if opt.accept && (opt.bench == "" || !opt.share && opt.suppose == "") {
		return usageError{errors.New("--accept needs --bench, and --distribute or --what-if")}
	}
	b, all, partial, err := opt.look(cmd.Context())
	if err != nil {
		return err
	}
	out := cmd.OutOrStdout()
	switch {
	case opt.share:
		err = opt.distribute(out, b, all, opt.accept)
	case opt.suppose != "":
		err = opt.whatIf(cmd.Context(), out, b, all, opt.suppose, opt.accept)
	default:
		var cannot bool
		cannot, err = opt.verdicts(cmd.Context(), out, b, all)
		partial = partial || cannot
	}
	if err != nil {
		return err
	}
	if partial {
		return errPartial
	}
	return nil
}

// verdicts prints the verdicts at all targets. It reports whether something wanted cannot go.
func (w *work) verdicts(ctx context.Context, out io.Writer, b *bench.Bench, all survey.Board) (cannot bool, err error) {
	reports := []fitReport{}
	for n, s := range all {
		if s == nil {
			continue
		}
		rep := reportFit(all, n, w.only != "" || w.except != "")
		cannot = cannot || rep.cannot > 0
		if !w.asJSON {
			rep.print(out, s)
			printForeseen(ctx, out, s, s.Plan())
		}
		reports = append(reports, rep)
	}
	if w.asJSON {
		err = printJSON(out, reports)
	}
	return cannot, err
}

// fitReport is the verdicts of one target, as printed.
type fitReport struct {
	Target  string         `json:"target"`
	Loader  string         `json:"loader"`
	Facts   target.Facts   `json:"facts"`
	Away    string         `json:"away,omitempty"` // why it cannot be looked at; what is reported was on it before
	Planned int64          `json:"planned"`        // bytes that the chosen titles add
	Left    int64          `json:"left"`           // bytes free afterwards
	Time    estimate.Range `json:"time"`           // for all that is chosen, in nanoseconds
	Titles  []fitTitle     `json:"titles"`

	cannot int
}

type fitTitle struct {
	Key    string         `json:"key"`
	Label  string         `json:"label"`
	Chosen bool           `json:"chosen"`
	Word   string         `json:"word"`  // the verdict with its number
	Space  int64          `json:"space"` // bytes on the target
	Need   int64          `json:"need"`  // those of them that are not there yet
	Time   estimate.Range `json:"time"`
	fit.Explanation
	Paths []string `json:"paths,omitempty"`
}

// reportFit reports on target n; with narrowed set, on its chosen titles only.
func reportFit(all survey.Board, n int, narrowed bool) fitReport {
	s := all[n]
	r := fitReport{Target: s.Config.Name, Loader: s.Profile.Name, Facts: s.Facts, Planned: s.Sheet.Planned,
		Left: s.Sheet.Free(), Time: s.Whole(), Titles: []fitTitle{}}
	if s.Away != nil {
		r.Away = s.Away.Error()
	}
	for i := range s.Titles {
		if narrowed && !s.Sheet.Chosen[i] {
			continue
		}
		v := s.Sheet.Verdict(i)
		t := fitTitle{Key: s.Titles[i].Key, Label: s.Titles[i].Label(), Chosen: s.Sheet.Chosen[i], Word: v.Word(),
			Space: v.Space, Need: v.Need, Time: s.Time(i), Explanation: all.Explain(n, i)}
		for _, item := range s.Sheet.Placement(i).Items {
			t.Paths = append(t.Paths, item.Path)
		}
		if t.Chosen && !v.Kind.Goes() {
			r.cannot++
		}
		r.Titles = append(r.Titles, t)
	}
	return r
}

func (r fitReport) print(out io.Writer, s *survey.Survey) {
	space := fmt.Sprintf("%s with %s free", size.Format(r.Facts.Capacity), size.Format(r.Facts.Free))
	switch {
	case r.Facts.Unknown:
		space = "its capacity unknown (give it with --capacity)"
	case r.Facts.Declared:
		space += ", as declared"
	}
	fmt.Fprintf(out, "%s: %s, %s; loader %s\n", r.Target, r.Facts.Filesystem.Shown, space, s.Shown())
	goes, foreign := 0, 0
	for _, t := range r.Titles {
		if t.Verdict == fit.Foreign {
			foreign++
			continue
		}
		took := ""
		if t.Verdict.Goes() && t.Need > 0 {
			took = t.Time.String()
		}
		fmt.Fprintf(out, "  %-10s %11s  %-40s %s\n", t.Word, size.Format(t.Space), t.Label, took)
		if t.Verdict.Goes() {
			goes++
			continue
		}
		fmt.Fprintf(out, "%26s%s\n", "", t.Say)
		for _, way := range t.Ways {
			fmt.Fprintf(out, "%26s-> %s\n", "", way.Say)
		}
	}
	if foreign > 0 {
		fmt.Fprintf(out, "  %s does not use %s.\n", s.Shown(), size.Count(foreign, "more title"))
	}
	leaves := ", leaves " + size.Format(r.Left)
	if r.Facts.Unknown {
		leaves = ""
	}
	fmt.Fprintf(out, "%d of %s fit; that adds %s%s and takes %s.\n", goes, size.Count(len(r.Titles)-foreign, "title"),
		size.Format(r.Planned), leaves, r.Time)
}

// distribute finds homes, prints them, and takes them over where that is asked for.
func (w *work) distribute(out io.Writer, b *bench.Bench, all survey.Board, accept bool) error {
	sh := all.Distribute(b, all.Wanted())
	if w.asJSON {
		if err := printJSON(out, sh); err != nil {
			return err
		}
	} else {
		for _, h := range sh.Homes {
			to := h.Name
			if h.Target < 0 {
				to = "nowhere"
			}
			fmt.Fprintf(out, "  %-40s %-16s %s\n", h.Label, to, h.Why)
		}
		fmt.Fprintf(out, "%d already there, %d to copy, %d fit nowhere; %s with all "+
			"connections at once.\n", sh.Here, sh.Going, sh.Left, sh.Whole)
	}
	if accept {
		sh.Apply(b, all)
		return w.keep(out, b)
	}
	return nil
}

// keep saves the bench.
func (w *work) keep(out io.Writer, b *bench.Bench) error {
	if err := b.Hold(stateDir()); err != nil {
		return err
	}
	defer b.Release()
	if err := b.Save(); err != nil {
		return err
	}
	if !w.asJSON {
		fmt.Fprintf(out, "Saved in %s.\n", b.File())
	}
	return nil
}
