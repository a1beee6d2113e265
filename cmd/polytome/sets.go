package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/layout"
	"polytome/internal/core/ledger"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

// setsOptions are the flags of sets.
type setsOptions struct {
	bench, target string
	asJSON        bool
}

func setsCommand() *cobra.Command {
	var opt setsOptions
	cmd := &cobra.Command{
		Use:   "sets",
		Short: "Sticks that are alike: one choice of titles for all of them, and which are up to date",
		Long: `A set is several targets that are alike, such as the sticks of a drawer. What is selected and set up
for one of them holds for all; each is recognised by the serial number of its volume, wherever it is plugged in.
Without a command, sets says for each stick of the bench's sets whether it is up to date, also of those that are not
connected. The exit status is 3 unless all are.`,
		Example: `  polytome sets --bench season.toml
  polytome sets add --bench season.toml --target "Hall 1" /media/HALL1 /media/HALL2
  polytome fill --bench season.toml --target "Hall 1" --alike`,
		Args: noArgs,
		RunE: opt.show,
	}
	opt.flags(cmd)
	cmd.Flags().BoolVar(&opt.asJSON, "json", false, "print JSON")
	cmd.AddCommand(setsAddCommand())
	return cmd
}

func (opt *setsOptions) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&opt.bench, "bench", "", "the bench file")
	cmd.Flags().StringVar(&opt.target, "target", "", "a target of the set")
}

func setsAddCommand() *cobra.Command {
	var opt setsOptions
	cmd := &cobra.Command{
		Use:   "add PLACE...",
		Short: "Add sticks that are plugged in to the set of a target",
		Long: `Add has the volumes that are mounted at the places be further sticks like the target: they get its
titles and setup, and names with numbers. Nothing is written to them; fill and dock do that. A drive or an
address can be added, too.`,
		Example: `  polytome sets add --bench season.toml --target "Hall 1" /media/HALL1 /media/HALL2`,
		Args:    needArgs(1, "a place where a stick is plugged in"),
		RunE:    opt.add,
	}
	opt.flags(cmd)
	return cmd
}

// A member is one target of a set, as JSON.
type member struct {
	Set       string   `json:"set"` // the name of its first target
	Target    string   `json:"target"`
	Stick     string   `json:"stick,omitempty"`
	Place     string   `json:"place,omitempty"` // where it is kept
	Connected bool     `json:"connected"`
	State     string   `json:"state"`             // one of the words below
	Missing   []string `json:"missing,omitempty"` // titles that it lacks
	Others    []string `json:"others,omitempty"`  // titles that shall go
	Say       string   `json:"say,omitempty"`
}

// How a target of a set can stand.
const (
	upToDate = "up to date"
	behind   = "behind"
	unknown  = "unknown" // it was never looked at
)

func (opt *setsOptions) show(cmd *cobra.Command, _ []string) error {
	w := work{bench: opt.bench, target: opt.target}
	if w.bench == "" {
		return usageError{errors.New("say which bench: --bench FILE")}
	}
	b, err := w.open(true)
	if err != nil {
		return err
	}
	all, err := opt.members(cmd.Context(), b, &w)
	if err != nil {
		return err
	}
	if opt.asJSON {
		err = printJSON(cmd.OutOrStdout(), all)
	} else {
		printMembers(cmd.OutOrStdout(), all)
	}
	for _, m := range all {
		if err == nil && m.State != upToDate {
			err = errPartial
		}
	}
	return err
}

// members are the targets of the sets of a bench, and how each stands: by a look at those that are connected, and by
// the ledger for the others.
func (opt *setsOptions) members(ctx context.Context, b *bench.Bench, w *work) ([]member, error) {
	past, err := volumes()
	if err != nil {
		return nil, err
	}
	set, err := known()
	if err != nil {
		return nil, err
	}
	r, err := scanned(ctx, b, set, w.covers, os.Stderr)
	if err != nil {
		return nil, err
	}
	all := []member{}
	for n := range b.Targets {
		of := b.Alike(n)
		if b.First(n) != n || len(of) < 2 || w.picked >= 0 && b.First(w.picked) != n {
			continue
		}
		these, err := membersOf(ctx, b, of, past, survey.Options{Set: set, Vault: keptSaves(),
			Trees: &layout.Shelf{}}, &r)
		if err != nil {
			return nil, err
		}
		all = append(all, these...)
	}
	if len(all) == 0 {
		return nil, errors.New("the bench has no targets that are alike; sets add makes some")
	}
	return all, nil
}

func membersOf(ctx context.Context, b *bench.Bench, of []int, past []ledger.Volume, o survey.Options, r *scan.Result) (
	out []member, err error) {
	cache := openCache(os.Stderr)
	defer cache.Close()
	o.Cache = cache
	looks := make([]*survey.Survey, len(of))
	var one *survey.Survey // knows what is wanted
	for k, n := range of {
		if _, ok := survey.Present(ctx, b, n, past); !ok {
			continue
		}
		s, err := survey.Take(ctx, b, n, r.Titles, o)
		if err != nil || s.Away != nil {
			continue
		}
		noted(ctx, s, survey.Noted{})
		looks[k], one = s, s
	}
	for _, n := range of { // how one was the last time
		if one == nil {
			one, err = survey.Take(ctx, b, n, r.Titles, o)
		}
	}
	if one == nil {
		return nil, fmt.Errorf("none of them is connected: %w", err)
	}
	for k, n := range of {
		t := &b.Targets[n]
		m := member{
			Set:       b.Targets[of[0]].Name,
			Target:    t.Name,
			Stick:     t.Stick,
			Connected: looks[k] != nil,
			State:     unknown,
		}
		v := volumeOf(past, b, n)
		if v != nil {
			m.Place = v.Place
		}
		switch s := looks[k]; {
		case s != nil:
			m.stands(s, s.Missing(), nil)
			if p := s.Plan(); !p.Empty() {
				m.State, m.Say = behind, "to do: "+p.Say()
			}
		case v != nil:
			missing, others := one.Behind(v)
			m.stands(one, missing, others)
		}
		out = append(out, m)
	}
	return out, nil
}

// stands says how the target stands against what is wanted.
func (m *member) stands(s *survey.Survey, missing []int, others []string) {
	for _, i := range missing {
		m.Missing = append(m.Missing, s.Titles[i].Label())
	}
	m.Others, m.State = others, upToDate
	if len(missing)+len(others) > 0 {
		m.State = behind
	}
}

// volumeOf is what the ledger knows of a target; nil for nothing.
func volumeOf(past []ledger.Volume, b *bench.Bench, n int) *ledger.Volume {
	t := &b.Targets[n]
	for i := range past {
		if past[i].IsOf(t.Stick, t.Name) {
			return &past[i]
		}
	}
	return nil
}

func printMembers(out io.Writer, all []member) {
	for i, m := range all {
		if i == 0 || m.Set != all[i-1].Set {
			good, count := 0, 0
			for _, o := range all {
				if o.Set == m.Set {
					count++
				}
				if o.Set == m.Set && o.State == upToDate {
					good++
				}
			}
			fmt.Fprintln(out, clean(fmt.Sprintf("%s and those like it: %d of %d up to date", m.Set, good, count)))
		}
		parts := []string{m.State}
		if n := len(m.Missing); n > 0 {
			parts = append(parts, fmt.Sprintf("%s missing, such as %s", size.Count(n, "title"), m.Missing[0]))
		}
		if n := len(m.Others); n > 0 {
			parts = append(parts, fmt.Sprintf("%s too many, such as %s", size.Count(n, "title"), m.Others[0]))
		}
		if m.Say != "" {
			parts = append(parts, m.Say)
		}
		if m.Connected {
			parts = append(parts, "connected")
		} else if m.Place != "" {
			parts = append(parts, "in "+strings.TrimPrefix(m.Place, "in "))
		}
		fmt.Fprintln(out, clean("  "+m.Target+": "+strings.Join(parts, "; ")))
	}
}

func (opt *setsOptions) add(cmd *cobra.Command, places []string) error {
	if opt.bench == "" || opt.target == "" {
		return usageError{errors.New("say which bench and which target of it: --bench FILE --target NAME")}
	}
	w := work{bench: opt.bench, target: opt.target}
	b, err := w.open(true)
	if err != nil {
		return err
	}
	if err := b.Hold(stateDir()); err != nil {
		return err
	}
	defer b.Release()
	past, err := volumes()
	if err != nil {
		return err
	}
	for _, place := range places {
		n, err := survey.AddAlike(cmd.Context(), b, w.picked, place, past)
		if err != nil {
			return err
		}
		fmt.Fprintln(cmd.OutOrStdout(), clean(fmt.Sprintf("%s is like %s: %s", b.Targets[n].Name, b.Targets[n].Like,
			b.Targets[n].At)))
	}
	return b.Save()
}
