package main

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/ledger"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/ui/state"
)

// whereOptions are the flags of "where".
type whereOptions struct {
	bench, covers string
	missing, once bool
	asJSON        bool
}

// A wherever is where a title lies, as JSON.
type wherever struct {
	ID     string   `json:"id,omitempty"`
	Title  string   `json:"title"`
	On     []string `json:"on"`             // the names of the volumes
	Room   []string `json:"room,omitempty"` // where it is on none: those with space for it
	Volume []string `json:"volume-ids,omitempty"`
}

func whereCommand() *cobra.Command {
	var opt whereOptions
	cmd := &cobra.Command{
		Use:   "where [WORDS]",
		Short: "On which sticks, disks and shares a title lies, also on those in a drawer",
		Long: `Where looks in the ledger for titles whose IDs or names have all the words. With a bench, it also
says which of its titles are on no volume, with those that have space for them, or on one alone.`,
		Example: `  polytome where copper tide
  polytome where --bench season.toml --missing
  polytome where --bench season.toml --once`,
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := volumes()
			if err != nil {
				return err
			}
			if opt.bench != "" {
				return opt.ofBench(cmd, all, strings.Join(args, " "))
			}
			if len(args) == 0 || opt.missing || opt.once {
				return usageError{errors.New("say words of a title, or a bench with --bench")}
			}
			return printHits(cmd.OutOrStdout(), ledger.Where(all, strings.Join(args, " ")), opt.asJSON)
		},
	}
	f := cmd.Flags()
	f.StringVar(&opt.bench, "bench", "", "the titles of this bench file")
	f.BoolVar(&opt.missing, "missing", false, "with --bench: those that are on no volume")
	f.BoolVar(&opt.once, "once", false, "with --bench: those that are on one volume alone")
	f.BoolVar(&opt.asJSON, "json", false, "print JSON")
	return cmd
}

func printHits(out io.Writer, hits []ledger.Hit, asJSON bool) error {
	all := []wherever{}
	for _, h := range hits {
		if n := len(all); n > 0 && all[n-1].Title == h.Title.Name && all[n-1].ID == h.Title.ID {
			all[n-1].On, all[n-1].Volume = append(all[n-1].On, h.Volume.Called()), append(all[n-1].Volume, h.Volume.ID)
			continue
		}
		all = append(all, wherever{h.Title.ID, h.Title.Name, []string{h.Volume.Called()}, nil, []string{h.Volume.ID}})
	}
	if asJSON {
		return printJSON(out, all)
	}
	if len(hits) == 0 {
		fmt.Fprintln(out, "No volume that was looked at holds a title with these words.")
	}
	for _, h := range hits {
		at := h.Volume.Called()
		if w := h.Volume.Where(); w != "" {
			at += ", " + w
		}
		starts := ""
		if !h.Title.Starts {
			starts = ", where it does not start"
		}
		fmt.Fprintln(out, clean(fmt.Sprintf("%-10s %s: %s%s (seen %s)", h.Title.ID, h.Title.Name, at, starts,
			day(h.Volume.Seen))))
	}
	return nil
}

// ofBench looks for the titles of a bench.
func (opt *whereOptions) ofBench(cmd *cobra.Command, all []ledger.Volume, words string) error {
	set, err := known()
	if err != nil {
		return err
	}
	b, err := bench.Load(state.Expand(opt.bench))
	if err != nil {
		return err
	}
	r, err := scanned(cmd.Context(), b, set, opt.covers, stderr())
	if err != nil {
		return err
	}
	x, out := ledger.NewIndex(all), []wherever{}
	for i := range r.Titles {
		t := &r.Titles[i]
		on := x.On(t)
		if opt.missing && len(on) > 0 || opt.once && len(on) != 1 || !state.HasWords(t.ID+" "+t.Name, words) {
			continue
		}
		w := wherever{ID: t.ID, Title: t.Label(), On: []string{}}
		for _, v := range on {
			w.On, w.Volume = append(w.On, v.Called()), append(w.Volume, v.ID)
		}
		if len(on) == 0 {
			w.Room = roomFor(set, all, t)
		}
		out = append(out, w)
	}
	if opt.asJSON {
		return printJSON(cmd.OutOrStdout(), out)
	}
	for _, w := range out {
		say := strings.Join(w.On, ", ")
		switch {
		case len(w.On) == 0 && len(w.Room) > 0:
			say = "nowhere; room on " + strings.Join(w.Room, ", ")
		case len(w.On) == 0:
			say = "nowhere, and no volume has room for it"
		}
		fmt.Fprintln(cmd.OutOrStdout(), clean(fmt.Sprintf("%-10s %s: %s", w.ID, w.Title, say)))
	}
	if len(out) == 0 {
		fmt.Fprintln(cmd.OutOrStdout(), "No title of the bench is so.")
	}
	return nil
}

// mostRooms is how many volumes with space are named for a title.
const mostRooms = 3

// roomFor are volumes with space for a title, whose loader takes such titles.
func roomFor(set *loader.Set, all []ledger.Volume, t *title.Title) (names []string) {
	takes := func(v *ledger.Volume) bool {
		for _, name := range v.Loaders {
			if p, err := set.Profile(name); err == nil && p.Knows(t.Platform) {
				return true
			}
		}
		return false
	}
	for _, v := range ledger.Room(all, takes, t.Size()) {
		if len(names) < mostRooms {
			names = append(names, fmt.Sprintf("%s (%s free)", v.Called(), size.Format(v.Free)))
		}
	}
	return names
}
