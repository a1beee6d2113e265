package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"polytome/internal/awake"
	"polytome/internal/core/bench"
	"polytome/internal/core/dock"
	"polytome/internal/core/scancache"
	"polytome/internal/drives"
	"polytome/internal/logbook"
	"polytome/internal/nearest"
	"polytome/internal/notify"
	"polytome/internal/ui"
	"polytome/internal/ui/dockview"
	"polytome/internal/ui/state"
)

// dockOptions are the flags of dock.
type dockOptions struct {
	bench, covers string
	targets       []string
	every         time.Duration
	stays, asJSON bool
	lines         bool
}

func dockCommand() *cobra.Command {
	var opt dockOptions
	cmd := &cobra.Command{
		Use:   "dock",
		Short: "Wait for the sticks and consoles of a bench, and bring each up to date when it comes",
		Long: `Dock waits until a target of the bench is plugged in or switched on, and does what its key
when-connected says: "look" remembers what is on it, "ask" says what is to be done, and "fill" does it: plan,
run, check and eject. Saves on it are kept first. What would remove or replace files waits for a person, and so does a
volume that is not in the ledger as this target yet: look at it once by hand. Several are worked on at once. It ends
with ctrl+c; what is being written then is stopped, and polytome runs resumes it.`,
		Example: `  polytome dock --bench season.toml
  polytome dock --bench season.toml --target "North stick" --no-eject`,
		Args: noArgs,
		RunE: opt.run,
	}
	f := cmd.Flags()
	f.StringVar(&opt.bench, "bench", "", "the bench file")
	f.StringArrayVar(&opt.targets, "target", nil, "only this target of the bench (may be repeated)")
	f.DurationVar(&opt.every, "every", dock.Usual, "how often it is looked whether something came")
	f.BoolVar(&opt.stays, "no-eject", false, "leave sticks mounted at the end")
	f.BoolVar(&opt.asJSON, "json", false, "print a line of JSON for each event")
	f.BoolVar(&opt.lines, "lines", false, "print lines in place of the board, as is done where there is no terminal")
	return cmd
}

// A docking is one line of the dock, as JSON.
type docking struct {
	Target string `json:"target"`
	dock.Report
	At time.Time `json:"at"`
}

func (opt *dockOptions) run(cmd *cobra.Command, _ []string) error {
	if opt.bench == "" {
		return usageError{errors.New("say which bench: --bench FILE")}
	}
	if opt.every < 100*time.Millisecond {
		return usageError{errors.New("--every: 100ms or more")}
	}
	file := state.Expand(opt.bench)
	b, err := bench.Load(file)
	if err != nil {
		return err
	}
	slots, err := opt.slots(b)
	if err != nil {
		return err
	}
	names := make([]string, len(slots))
	for i, n := range slots {
		names[i] = b.Targets[n].Name
	}
	runs, note := openJournal()
	if note != nil {
		fmt.Fprintf(stderr(), "polytome: %v\n", note)
	}
	defer runs.Close()
	defer awake.Keep("sticks and consoles are waited for")()
	out := cmd.OutOrStdout()
	waiting := &dock.Worker{Bench: b, Slots: slots, Ledger: theLedger()}
	work := func(ctx context.Context, emit func(dock.Event)) {
		dock.Run(
			ctx,
			len(slots),
			dock.Options{Every: opt.every, Changes: drives.Here.Changes(ctx), Probe: waiting.Probe,
				Work: func(ctx context.Context, slot int, report func(dock.Report)) dock.Report {
					w, at, err := opt.worker(ctx, file, names[slot])
					if err != nil {
						return dock.Report{Phase: dock.Failed, Say: err.Error()}
					}
					w.Journal = runs
					return w.Work(ctx, at, report)
				}},
			func(e dock.Event) {
				if e.Phase.Rests() {
					logbook.Note("dock", "target", names[e.Slot], "phase", string(e.Phase), "say", e.Say)
				}
				emit(e)
			},
		)
	}
	if isTerminal(os.Stdout) && !opt.asJSON && !opt.lines {
		plain := prints.colours() == ui.ColoursNone
		return dockview.Run(cmd.Context(), names, dockview.Options{Plain: plain, Work: work,
			Rests: func(e dock.Event) { // the board shows it, too
				_ = notify.Desktop(names[e.Slot]+": "+string(e.Phase), e.Say)
			}})
	}
	last := make([]dock.Phase, len(slots))
	work(cmd.Context(), func(e dock.Event) {
		if opt.asJSON || e.Phase != last[e.Slot] { // how far it is changes all the time
			opt.say(out, names[e.Slot], e)
		}
		last[e.Slot] = e.Phase
	})
	if !opt.asJSON {
		fmt.Fprintln(out, "The dock is closed.")
	}
	return nil
}

// slots are the targets that are waited for.
func (opt *dockOptions) slots(b *bench.Bench) (slots []int, err error) {
	all := dock.Slots(b)
	if len(opt.targets) == 0 {
		slots = all
	}
	for _, name := range opt.targets {
		i := slices.IndexFunc(all, func(n int) bool { return b.Targets[n].Name == name })
		if i < 0 {
			var names []string
			for _, n := range all {
				names = append(names, b.Targets[n].Name)
			}
			return nil, usageError{nearest.Unknown("target", name, names)}
		}
		slots = append(slots, all[i])
	}
	if len(slots) == 0 {
		return nil, usageError{errors.New("the bench has no target that could be plugged in or switched on")}
	}
	return slots, nil
}

// worker does the work at one target, by what the bench and its games are now.
func (opt *dockOptions) worker(ctx context.Context, file, name string) (w *dock.Worker, slot int, err error) {
	set, err := known()
	if err != nil {
		return nil, 0, err
	}
	b, err := bench.Load(file)
	if err != nil {
		return nil, 0, err
	}
	r, err := scanned(ctx, b, set, opt.covers, io.Discard)
	if err != nil {
		return nil, 0, err
	}
	w = &dock.Worker{Bench: b, Titles: r.Titles, Set: set, Vault: keptSaves(), Ledger: theLedger(),
		Cache: func() *scancache.Store { return openCache(io.Discard) }}
	if !opt.stays {
		w.Eject = dock.Ejector(drives.Here)
	}
	for n := range b.Targets {
		if b.Targets[n].Name == name {
			w.Slots = []int{n}
			return w, 0, nil
		}
	}
	return nil, 0, fmt.Errorf("%s is no longer a target of the bench", name)
}

// say reports what happens in a slot: aloud, where somebody is needed or something is ready.
func (opt *dockOptions) say(out io.Writer, name string, e dock.Event) {
	if opt.asJSON {
		if data, err := json.Marshal(docking{name, e.Report, e.At}); err == nil {
			fmt.Fprintln(out, string(data))
		}
		return
	}
	line := fmt.Sprintf("%s  %s: %s", e.At.Format("15:04:05"), name, e.Phase)
	if e.Say != "" {
		line += ": " + e.Say
	}
	fmt.Fprintln(out, clean(line))
	if isTerminal(os.Stdout) && e.Phase.Rests() {
		fmt.Fprint(out, "\a")
	}
}
