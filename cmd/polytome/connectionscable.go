package main

import (
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/connections"
	"polytome/internal/netcards"
)

// connectionsOf says how the targets of a bench are joined to this computer, and tries each link.
func connectionsOf(cmd *cobra.Command, w *work) error {
	b, err := w.open(false)
	if err != nil {
		return err
	}
	set, err := known()
	if err != nil {
		return err
	}
	cards, err := netcards.Here.Cards()
	if err != nil {
		return err
	}
	h := connections.Of(b, set, cards)
	if w.picked >= 0 {
		h.Links = h.Links[w.picked : w.picked+1]
	}
	var wait sync.WaitGroup
	for i := range h.Links {
		l := &h.Links[i]
		wait.Go(func() {
			l.Tried = l.Try(cmd.Context(), connections.Trier{})
			if l.Cable != nil {
				l.CableSet = connections.CableState(l.Cable, cards, l.Tried.State == connections.Answers)
			}
		})
	}
	wait.Wait()
	if w.asJSON {
		err = printJSON(cmd.OutOrStdout(), h)
	} else {
		printConnections(cmd.OutOrStdout(), h)
	}
	for i := range h.Links {
		if err == nil && h.Links[i].Tried.State != connections.Answers {
			err = errPartial
		}
	}
	return err
}

// printConnections writes how everything is joined, for people.
func printConnections(out io.Writer, h *connections.Connections) {
	fmt.Fprintf(out, "%s:\n", h.Computer)
	for _, c := range h.Cards {
		if c.Loopback || c.Virtual && len(c.Addresses) == 0 {
			continue
		}
		var addresses []string
		for _, a := range c.Addresses {
			if a.Addr().Is4() {
				addresses = append(addresses, a.String())
			}
		}
		state := strings.Join(addresses, ", ")
		switch {
		case !c.Plugged:
			state = "no cable in it"
		case state == "":
			state = "no address"
		}
		fmt.Fprintf(out, "  %-10s %s\n", c.Name, state)
	}
	for i := range h.Links {
		l := &h.Links[i]
		fmt.Fprintf(out, "\n%s (%s, %s)\n", l.Name, l.Console, l.Loader)
		via := l.Joined()
		if l.Card != "" {
			via += ", " + l.Card
			if l.Local != "" {
				via += " " + l.Local
			}
		}
		fmt.Fprintf(out, "  via      %s: %s\n  address  %s\n", l.Via, via, l.At)
		for _, m := range l.Must {
			fmt.Fprintf(out, "  on       %s\n", m)
		}
		for _, n := range l.Notes {
			fmt.Fprintf(out, "  note     %s\n", n)
		}
		fmt.Fprintf(out, "  now      %s\n", l.Tried.Say)
		if l.Tried.Do != "" {
			fmt.Fprintf(out, "           -> %s\n", l.Tried.Do)
		}
		if l.Cable != nil {
			fmt.Fprintf(out, "  cable    %s: computer %s, console %s (%s)\n", l.Cable.Interface, l.Cable.Computer,
				l.Cable.Console, l.CableSet)
		}
	}
	for _, r := range h.Reminder {
		fmt.Fprintf(out, "\n%s.\n", r)
	}
}

// connectionsCable plans a cable between this computer and a console, or gives one up.
func connectionsCable() *cobra.Command {
	w := &work{picked: -1}
	var card, system string
	var back bool
	cmd := &cobra.Command{
		Use:   "cable",
		Short: "Plan a direct cable to a console: both addresses, what to set, and what to set back",
		Long: `Picks a private network that no interface of this computer uses, and shows what to set on this
computer and on the console so that a cable connects them directly, and what to set back afterwards,
with the earlier values. Only the bench is changed: the target gets the console's address. The
network settings are never touched.

--back ends the cable setup: the target gets its earlier address again, and what is still to be set
back is shown.`,
		Example: `  polytome connections cable --bench season.toml --target 'Meridian disk'
  polytome connections cable --bench season.toml --target 'Meridian disk' --interface eth1 --system windows
  polytome connections cable --bench season.toml --target 'Meridian disk' --back`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if w.bench == "" || w.target == "" {
				return usageError{errors.New("--bench FILE and --target NAME are needed")}
			}
			b, err := bench.Load(w.bench)
			if err != nil {
				return err
			}
			if err := w.pick(b); err != nil {
				return err
			}
			if err := b.Hold(stateDir()); err != nil {
				return err
			}
			defer b.Release()
			cards, err := netcards.Here.Cards()
			if err != nil {
				return err
			}
			p, out := &b.Targets[w.picked], cmd.OutOrStdout()
			if back {
				left, err := connections.Part(p, cards)
				if err != nil {
					return usageError{err}
				}
				if err := b.Save(); err != nil {
					return err
				}
				fmt.Fprintf(out, "%s is %s again.\n", p.Name, p.At)
				if left != "" {
					fmt.Fprintf(out, "%s.\n", left)
					return errPartial
				}
				return nil
			}
			if p.Cable == nil {
				if err := connections.Join(p, cards, card); err != nil {
					return usageError{err}
				}
				if err := b.Save(); err != nil {
					return err
				}
			} else if err := connections.Valid(p.Cable); err != nil {
				return err
			}
			console := "console"
			if set, err := known(); err == nil {
				if profile, err := set.Profile(p.Loader); err == nil && profile.Console != "" {
					console = profile.Console
				}
			}
			sheet, err := connections.SheetOf(p.Cable, system, console, p.At)
			if err != nil {
				return err
			}
			if w.asJSON {
				return printJSON(out, map[string]any{"cable": p.Cable, "sheet": sheet,
					"state": connections.CableState(p.Cable, cards, false)})
			}
			fmt.Fprint(out, sheet.Text())
			return nil
		},
	}
	cmd.Flags().StringVar(&w.bench, "bench", "", "the bench file")
	cmd.Flags().StringVar(&w.target, "target", "", "the name of the target")
	cmd.Flags().StringVar(&card, "interface", "", "the interface for the cable (default: the most suitable one)")
	cmd.Flags().StringVar(&system, "system", runtime.GOOS, "show the settings for this system: "+strings.Join(
		connections.Systems, ", "))
	cmd.Flags().BoolVar(&back, "back", false, "end the cable setup")
	cmd.Flags().BoolVar(&w.asJSON, "json", false, "print JSON")
	return cmd
}
