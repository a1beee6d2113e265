package main

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"polytome/internal/core/fit"
	"polytome/internal/core/survey"
	"polytome/internal/place"
	"polytome/internal/size"
)

func fitCommand() *cobra.Command {
	w := &work{}
	cmd := &cobra.Command{
		Use:   "fit",
		Short: "Say for every title whether it can go to the place, and why not",
		Long: `Fit judges every title for every place: whether it goes, what it takes there, and if
not, the one reason that decides and the ways out. Nothing is written.`,
		Example: `  polytome fit --bench season.toml
  polytome fit --from ~/games --loader rowan --to /media/stick
  polytome fit --from ~/games --loader rowan --to ./stick --as fat32 --room 58GiB --json`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, partial, err := w.look(cmd.Context())
			if err != nil {
				return err
			}
			var reports []fitReport
			for _, s := range all {
				rep := reportFit(s)
				partial = partial || rep.cannot > 0
				if !w.asJSON {
					rep.print(cmd.OutOrStdout(), s)
				}
				reports = append(reports, rep)
			}
			if w.asJSON {
				if err := printJSON(cmd.OutOrStdout(), reports); err != nil {
					return err
				}
			}
			if partial {
				return errPartial
			}
			return nil
		},
	}
	w.flags(cmd)
	return cmd
}

// fitReport is the verdicts of one place, as printed.
type fitReport struct {
	Place   string      `json:"place"`
	Loader  string      `json:"loader"`
	Facts   place.Facts `json:"facts"`
	Planned int64       `json:"planned"` // bytes that the chosen titles add
	Left    int64       `json:"left"`    // bytes free afterwards
	Titles  []fitTitle  `json:"titles"`

	cannot int
}

type fitTitle struct {
	Key    string `json:"key"`
	Label  string `json:"label"`
	Chosen bool   `json:"chosen"`
	Room   int64  `json:"room"` // bytes on the place
	fit.Explanation
	Paths []string `json:"paths,omitempty"`
}

func reportFit(s *survey.Survey) fitReport {
	r := fitReport{Place: s.Config.Name, Loader: s.Profile.Name, Facts: s.Facts, Planned: s.Sheet.Planned, Left: s.Sheet.Free(), Titles: []fitTitle{}}
	for i := range s.Titles {
		v := s.Sheet.Verdicts[i]
		t := fitTitle{Key: s.Titles[i].Key, Label: s.Titles[i].Label(), Chosen: s.Sheet.Chosen[i], Room: v.Room, Explanation: s.Sheet.Explain(i)}
		for _, item := range s.Tree.Placements[i].Items {
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
	declared := ""
	if r.Facts.Declared {
		declared = ", as declared"
	}
	fmt.Fprintf(out, "%s: %s, %s with %s free%s; loader %s\n", r.Place, r.Facts.Filesystem.Shown,
		size.Format(r.Facts.Capacity), size.Format(r.Facts.Free), declared, s.Profile.Shown)
	goes, foreign := 0, 0
	for _, t := range r.Titles {
		if t.Verdict == fit.Foreign {
			foreign++
			continue
		}
		fmt.Fprintf(out, "  %-9s %11s  %s\n", t.Verdict, size.Format(t.Room), t.Label)
		if t.Verdict.Goes() {
			goes++
			continue
		}
		fmt.Fprintf(out, "%25s%s\n", "", t.Say)
		for _, way := range t.Ways {
			fmt.Fprintf(out, "%25s-> %s\n", "", way)
		}
	}
	if foreign > 0 {
		fmt.Fprintf(out, "  %s has nothing to do with %s more.\n", s.Profile.Shown, size.Count(foreign, "title"))
	}
	fmt.Fprintf(out, "%d of %s can be there; that adds %s and leaves %s.\n", goes, size.Count(len(r.Titles)-foreign, "title"), size.Format(r.Planned), size.Format(r.Left))
}
