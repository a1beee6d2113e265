package main

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
	"polytome/internal/core/pace"
	"polytome/internal/core/survey"
	"polytome/internal/place"
	"polytome/internal/size"
)

func fitCommand() *cobra.Command {
	w := &work{}
	var share, accept bool
	var suppose string
	cmd := &cobra.Command{
		Use:   "fit",
		Short: "Say for every title whether it can go to the place, and why not",
		Long: `Fit judges every title for every place: whether it goes, in which shape, what it takes there
and how long that will be; if not, the one reason that decides and the ways out, the cheapest first.

With --share-out it finds a home for every wanted title over all places of the bench: hard rules first,
then favourites and priorities, then what is there already, then time. With --what-if it says what would
be different if the place were set up otherwise: as=exfat, cluster=64KiB, room=120GiB, reserve=2GiB, road=smb,
loader=NAME, also-for=NAME, covers=no, exactly=yes, or a rule of its loader by its place in the profile
(rule:accept.1.too-large.part-size=1GiB); several separated by commas. It also knows "without", the place taken
away, and second=PATH, another one like it.

Nothing is written, unless --accept takes the homes or the change over into the bench.`,
		Example: `  polytome fit --bench season.toml
  polytome fit --bench season.toml --share-out --accept
  polytome fit --bench season.toml --place "North stick" --what-if as=exfat,cluster=128KiB
  polytome fit --from ~/games --loader rowan --to ./stick --as fat32 --room 58GiB --only 'size>4G' --json`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if accept && (w.bench == "" || !share && suppose == "") {
				return usageError{errors.New("--accept takes homes or a change over into a bench: it needs --bench, and --share-out or --what-if")}
			}
			b, all, partial, err := w.look(cmd.Context())
			if err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			switch {
			case share:
				err = w.shareOut(out, b, all, accept)
			case suppose != "":
				err = w.whatIf(cmd.Context(), out, b, all, suppose, accept)
			default:
				var cannot bool
				cannot, err = w.verdicts(cmd.Context(), out, b, all)
				partial = partial || cannot
			}
			if err != nil {
				return err
			}
			if partial {
				return errPartial
			}
			return nil
		},
	}
	w.planFlags(cmd)
	cmd.Flags().BoolVar(&share, "share-out", false, "find a home for every wanted title over all places")
	cmd.Flags().StringVar(&suppose, "what-if", "", "say what would be different, such as as=exfat,room=120GiB")
	cmd.Flags().BoolVar(&accept, "accept", false, "take the homes of --share-out or the change of --what-if over into the bench")
	return cmd
}

// verdicts prints the verdicts at all places. It reports whether something wanted cannot go.
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

// fitReport is the verdicts of one place, as printed.
type fitReport struct {
	Place   string      `json:"place"`
	Loader  string      `json:"loader"`
	Facts   place.Facts `json:"facts"`
	Away    string      `json:"away,omitempty"` // why it cannot be looked at; what is told was on it before
	Planned int64       `json:"planned"`        // bytes that the chosen titles add
	Left    int64       `json:"left"`           // bytes free afterwards
	Time    pace.Range  `json:"time"`           // for all that is chosen, in nanoseconds
	Titles  []fitTitle  `json:"titles"`

	cannot int
}

type fitTitle struct {
	Key    string     `json:"key"`
	Label  string     `json:"label"`
	Chosen bool       `json:"chosen"`
	Word   string     `json:"word"` // the verdict with its number
	Room   int64      `json:"room"` // bytes on the place
	Need   int64      `json:"need"` // those of them that are not there yet
	Time   pace.Range `json:"time"`
	fit.Explanation
	Paths []string `json:"paths,omitempty"`
}

// reportFit reports on place n; with narrowed set, on its chosen titles only.
func reportFit(all survey.Board, n int, narrowed bool) fitReport {
	s := all[n]
	r := fitReport{Place: s.Config.Name, Loader: s.Profile.Name, Facts: s.Facts, Planned: s.Sheet.Planned, Left: s.Sheet.Free(), Time: s.Whole(), Titles: []fitTitle{}}
	if s.Away != nil {
		r.Away = s.Away.Error()
	}
	for i := range s.Titles {
		if narrowed && !s.Sheet.Chosen[i] {
			continue
		}
		v := s.Sheet.Verdict(i)
		t := fitTitle{Key: s.Titles[i].Key, Label: s.Titles[i].Label(), Chosen: s.Sheet.Chosen[i], Word: v.Word(), Room: v.Room, Need: v.Need, Time: s.Time(i), Explanation: all.Explain(n, i)}
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
	room := fmt.Sprintf("%s with %s free", size.Format(r.Facts.Capacity), size.Format(r.Facts.Free))
	switch {
	case r.Facts.Untold:
		room = "its room not told (say it with --room)"
	case r.Facts.Declared:
		room += ", as declared"
	}
	fmt.Fprintf(out, "%s: %s, %s; loader %s\n", r.Place, r.Facts.Filesystem.Shown, room, s.Shown())
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
		fmt.Fprintf(out, "  %-10s %11s  %-40s %s\n", t.Word, size.Format(t.Room), t.Label, took)
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
		fmt.Fprintf(out, "  %s has nothing to do with %s more.\n", s.Shown(), size.Count(foreign, "title"))
	}
	leaves := ", leaves " + size.Format(r.Left)
	if r.Facts.Untold {
		leaves = ""
	}
	fmt.Fprintf(out, "%d of %s can be there; that adds %s%s and takes %s.\n", goes, size.Count(len(r.Titles)-foreign, "title"), size.Format(r.Planned), leaves, r.Time)
}

// shareOut finds homes, prints them, and takes them over where that is asked for.
func (w *work) shareOut(out io.Writer, b *bench.Bench, all survey.Board, accept bool) error {
	sh := all.ShareOut(b, all.Wanted())
	if w.asJSON {
		if err := printJSON(out, sh); err != nil {
			return err
		}
	} else {
		for _, h := range sh.Homes {
			to := h.Name
			if h.Place < 0 {
				to = "nowhere"
			}
			fmt.Fprintf(out, "  %-40s %-16s %s\n", h.Label, to, h.Why)
		}
		fmt.Fprintf(out, "%d are where they belong, %d go, %d are left over; %s with all roads at once.\n", sh.Here, sh.Going, sh.Left, sh.Whole)
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
		fmt.Fprintf(out, "Taken over into %s.\n", b.File())
	}
	return nil
}
