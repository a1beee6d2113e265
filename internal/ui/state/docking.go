package state

import (
	"context"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/dock"
	"polytome/internal/core/scancache"
	"polytome/internal/logbook"
	"polytome/internal/notify"
	"polytome/internal/size"
)

// Docking is the dock while it is open.
type Docking struct {
	Slots   []dock.Event // how it stands in each
	Targets []bench.ID   // whose slots these are
	Closing bool         // it was asked to end, and waits for what is worked on

	stop context.CancelFunc
}

// A DockMsg is how it stands at the dock.
type DockMsg struct {
	of    *Docking
	slots []dock.Event
	ended bool
	err   error
	feed  feed[DockMsg]
}

// ToggleDock opens the dock, or closes it. While it is open, what is selected and set up stays as it is.
func (d *State) ToggleDock() tea.Cmd {
	switch {
	case d.Dock != nil && d.Dock.Closing:
		return nil
	case d.Dock != nil:
		d.Dock.Closing = true
		d.Dock.stop()
		d.Notice = "The dock closes: what is being written is stopped, and can be resumed."
		return nil
	case d.Bench.ReadOnly() != "" || d.Running():
		d.busy()
		return nil
	case d.Scanning:
		d.Notice = "Your games are being read: open the dock when that is done."
		return nil
	}
	slots := dock.Slots(d.Bench)
	if len(slots) == 0 {
		d.Notice = "No target of the bench could be plugged in or switched on: P adds one."
		return nil
	}
	var fills []string
	for _, n := range slots {
		if t := &d.Bench.Targets[n]; t.WhenConnected == bench.Fill {
			fills = append(fills, t.Name)
		}
	}
	if len(fills) == 0 { // nothing is written
		return d.openDock(slots)
	}
	who := strings.Join(fills, ", ")
	if len(fills) > 3 {
		who = size.Count(len(fills), "target")
	}
	d.Agree("Open the dock, and write to "+who+" when it comes?",
		"what would remove or replace files waits for you", func() tea.Cmd { return d.openDock(slots) })
	return nil
}

// openDock waits for targets, and does what is set for each.
func (d *State) openDock(slots []int) tea.Cmd {
	ctx, cancel := context.WithCancel(d.Ctx)
	x := &Docking{Slots: make([]dock.Event, len(slots)), stop: cancel}
	for i, n := range slots {
		x.Slots[i] = dock.Event{Slot: i, Report: dock.Report{Phase: dock.Waiting}}
		x.Targets = append(x.Targets, d.Bench.Targets[n].ID())
	}
	d.Dock = x
	w := &dock.Worker{Bench: d.Bench.Clone(), Slots: slots, Titles: d.Scan.Titles, Set: d.Set, Vault: d.Vault,
		Ledger: d.Ledger, Journal: d.Journal, Eject: dock.Ejector(d.System)}
	if file := d.CacheFile; file != "" {
		w.Cache = func() *scancache.Store {
			store, _ := scancache.Open(file) // without it, all is read again
			return store
		}
	}
	found, now := newest[DockMsg](), slices.Clone(x.Slots)
	names := make([]string, len(slots))
	for i, n := range slots {
		names[i] = d.Bench.Targets[n].Name
	}
	every, changes := d.DockEvery, d.System.Changes(ctx)
	d.running.Add(1)
	found.start(func() {
		defer d.running.Done()
		dock.Run(
			ctx,
			len(slots),
			dock.Options{Every: every, Changes: changes, Probe: w.Probe, Work: w.Work},
			func(e dock.Event) {
				now[e.Slot] = e
				if e.Phase.Rests() {
					logbook.Note("dock", "target", names[e.Slot], "phase", string(e.Phase), "say", e.Say)
				}
				found.emit(DockMsg{of: x, slots: slices.Clone(now), feed: found})
			},
		)
		found.emit(DockMsg{of: x, slots: slices.Clone(now), ended: true, feed: found})
	}, func(err error) DockMsg { return DockMsg{of: x, ended: true, err: err, feed: found} })
	d.Notice = "The dock is open: each stick and console that comes is worked on."
	return found.next
}

// SetDock takes over how it stands at the dock. What has come to rest is announced, and its target looked at again.
func (d *State) SetDock(m DockMsg) tea.Cmd {
	if d.Dock != m.of {
		return nil
	}
	cmds := []tea.Cmd{m.feed.next}
	for i := range m.slots {
		was, is := &m.of.Slots[i], &m.slots[i]
		if !is.Phase.Rests() || is.At.Equal(was.At) {
			continue
		}
		n, ok := d.Bench.Find(m.of.Targets[i])
		if !ok {
			continue
		}
		d.Targets[n].Ejected = is.Ejected
		name, say := d.Bench.Targets[n].Name, string(is.Phase)+": "+is.Say
		cmds = append(cmds, tea.Raw("\a"), d.SurveyTarget(n), d.ReadLedger(), func() tea.Msg {
			_ = notify.Desktop(name, say) // without a desktop, the bell has to do
			return nil
		})
	}
	if len(m.slots) > 0 {
		m.of.Slots = m.slots
	}
	if m.ended {
		d.Dock.stop()
		d.Dock = nil
		d.Notice = "The dock is closed."
		if m.err != nil {
			d.Notice = Sentence(m.err.Error())
		}
		cmds = append(cmds, d.LookBack())
	}
	return tea.Batch(cmds...)
}

// NextWhenConnected has something else be done at the dock when a target comes.
func (d *State) NextWhenConnected(n int) tea.Cmd {
	if d.busy() {
		return nil
	}
	t := &d.Bench.Targets[n]
	i := slices.Index(bench.WhenConnectedWords, t.WhenConnected)
	word := bench.WhenConnectedWords[(max(i, 0)+1)%len(bench.WhenConnectedWords)]
	what := map[string]string{
		bench.LookAtIt: "it is looked at",
		bench.Ask:      "you are asked when there is something to do",
		bench.Fill:     "it is filled, checked and ejected",
	}[word]
	d.remember()
	if t.WhenConnected = word; word == bench.LookAtIt {
		t.WhenConnected = ""
	}
	d.Bench.Spread(n)
	d.Notice = fmt.Sprintf("When %s comes to the dock, %s. u undoes.", t.Name, what)
	return d.save()
}
