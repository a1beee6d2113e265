package state

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/check"
	"polytome/internal/core/estimate"
	"polytome/internal/core/plan"
	"polytome/internal/size"
	"polytome/internal/target/drive"
)

// Next is the step that brings the job forward.
type Next struct {
	Screen string // the name of the one on which its key is; "" for every screen
	Key    string // "" where there is only something to wait for
	Say    string
}

// The names of screens that a step leads to.
const (
	OnGames       = "Games"
	OnFit         = "Fit"
	OnRun         = "Run"
	OnCheck       = "Check"
	OnDrives      = "Drives"
	OnConnections = "Connections"
	OnDock        = "Dock"
)

// Next finds the step that brings the job forward.
func (d *State) Next() Next {
	switch {
	case d.Bench.ReadOnly() != "":
		return Next{Say: "close the other Polytome that has this bench open: this one only looks"}
	case len(d.Bench.Sources) == 0:
		return Next{OnGames, "a", "add the folder with your games"}
	case len(d.Bench.Targets) == 0:
		return Next{"", "P", "say what shall be filled: a drive, a folder, a console or a share"}
	case d.Dock != nil && d.Dock.Closing:
		return Next{Say: "wait: the dock closes"}
	case d.Dock != nil:
		return Next{OnDock, "space", "close the dock when all have come that you wait for"}
	case d.Running():
		return d.nextOfRun()
	case len(d.Scan.Titles) == 0 && d.Scanning:
		return Next{Say: fmt.Sprintf("wait: your folders are searched, %s so far", size.Count(d.Scan.Files, "file"))}
	case len(d.Scan.Titles) == 0:
		return Next{OnGames, "a", "add another folder: there is no game of a known platform in the ones searched"}
	}
	here := d.nextAt(d.Target)
	if !here.done {
		return here.Next
	}
	for n := range d.Targets {
		if x := d.nextAt(n); n != d.Target && !x.done && x.Key == "W" {
			return Next{"", "W", "write to the other targets too: " + strings.TrimPrefix(x.Say, "write ")}
		}
	}
	return here.Next
}

// step is the next one at a target; done is set where nothing has to be done there any longer.
type step struct {
	Next
	done bool
}

// nextAt finds the next step at target n.
func (d *State) nextAt(n int) step {
	t, name := d.Targets[n], d.Bench.Targets[n].Name
	wait := func(say string) step { return step{Next: Next{Say: say}} }
	if d.goesOn(n, ejecting) {
		return wait("wait: " + name + " is being ejected")
	}
	if d.Looking(n) && t.Survey == nil {
		return wait("wait: " + name + " is being read")
	}
	if t.Ejected {
		return step{Next{Say: "take " + name + " to the console: it is safe to unplug"}, true}
	}
	if err := t.Away(); err != nil || t.Survey == nil {
		return step{Next: d.nextAway(n, err)}
	}
	p := d.Plan(n)
	if p == nil {
		return wait("wait: what is to be done at " + name + " is worked out")
	}
	l := t.Lane
	if l != nil && !l.Report.All() && !p.Empty() {
		return step{Next: Next{"", "W", "write what is left: " + d.bytesOf(n, p)}}
	}
	if stop := t.Foreseen.Stops(); stop != nil && !p.Empty() {
		return step{Next: d.fixes(stop.Say, len(stop.Fixes) > 0, stop.Remedy)}
	}
	switch goes, all := d.Chosen(n); {
	case p.Empty() && goes == 0 && all > 0 && len(p.Left) == 0:
		return step{Next: Next{OnFit, "A", "select what shall go to " + name + ", or single titles with space"}}
	case !p.Empty():
		return step{Next: Next{"", "W", "write " + d.bytesOf(n, p)}}
	}
	return d.nextAfter(n, p)
}

// nextAfter finds the next step where everything is written.
func (d *State) nextAfter(n int, p *plan.Plan) step {
	t, name := d.Targets[n], d.Bench.Targets[n].Name
	if d.Checking(n) {
		return step{Next: Next{Say: "wait: " + name + " is being checked"}}
	}
	left := "everything is there"
	if r := t.Check.Report; r != nil && !r.Good() {
		all := Foreseen{Report: r}.Problems()
		left = size.Count(len(all), "problem") + " that only you can fix"
		if i := slices.IndexFunc(all, func(f *check.Finding) bool { return len(f.Fixes) > 0 }); i >= 0 {
			return step{Next: Next{OnCheck, "M", fmt.Sprintf("have it fixed, as one of %s on %s: %s",
				size.Count(len(all), "problem"), name, all[i].Say)}}
		}
	}
	switch {
	case d.servedHere(n) && t.Serving == nil:
		return step{Next{OnRun, "v", "serve " + name + ", and play"}, true}
	case d.servedHere(n):
		return step{Next{Say: "play: " + t.Serving.Address()}, true}
	case len(p.Left) > 0 && t.Lane == nil: // after a run it is known
		return step{Next{OnFit, "m", fmt.Sprintf("see why %s not fit on %s: %s", does(len(p.Left), "wanted title"),
			name,
			p.Left[0].Why.Say)}, true}
	case d.Unplugs(n):
		return step{Next{OnRun, "e", "eject " + name + ": " + left}, true}
	}
	return step{Next{OnCheck, "tab", "do what the checklist for the console says"}, true}
}

// fixes is the step that fixes a problem.
func (d *State) fixes(say string, can bool, remedy string) Next {
	if can {
		return Next{"", "W", "then m: have it fixed, and write: " + say}
	}
	if remedy != "" {
		say += ": " + remedy
	}
	return Next{OnCheck, "enter", "see to it: " + say}
}

// nextAway is the next step where a target cannot be looked at.
func (d *State) nextAway(n int, err error) Next {
	p := &d.Bench.Targets[n]
	var bare *drive.BareError
	switch a, isDrive := drive.ParseAddress(p.At); {
	case errors.As(err, &bare):
		return Next{OnDrives, "W", "prepare " + p.Name + ": nothing can be written to it as it is"}
	case isDrive && a.Network(), !isDrive && !d.Unplugs(n):
		return Next{OnConnections, "t", "connect " + p.Name + ", or test what is wrong"}
	case isDrive:
		return Next{OnDrives, "r", "plug in " + p.Name}
	}
	return Next{"", "r", "connect " + p.Name + ", and look again"}
}

// bytesOf says how much a plan writes, and how long that takes.
func (d *State) bytesOf(n int, p *plan.Plan) string {
	s := d.Targets[n].Survey
	if p.Titles == 0 {
		return fmt.Sprintf("to %s: %s, %s", s.Config.Name, p.Say(), d.PlanTime(n, p))
	}
	return fmt.Sprintf("%s to %s: %s, %s", size.Count(p.Titles, "title"), s.Config.Name, size.Format(p.Bytes),
		d.PlanTime(n, p))
}

// nextOfRun is what to do while runs go on.
func (d *State) nextOfRun() Next {
	for n, t := range d.Targets {
		if !t.Running() {
			continue
		}
		name := d.Bench.Targets[n].Name
		switch l := t.Lane; {
		case l.Paused:
			return Next{OnRun, "p", "resume the run at " + name}
		case l.Waiting != "":
			return Next{Say: "connect " + name + " again: the run goes on by itself"}
		default:
			if left, ok := l.Left(); ok {
				return Next{Say: fmt.Sprintf("wait about %s for %s; you can look round meanwhile", estimate.Words(left),
					name)}
			}
			return Next{Say: "wait for the run at " + name + "; you can look round meanwhile"}
		}
	}
	return Next{}
}

// does counts things that do something, or do not.
func does(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " does"
	}
	return size.Count(n, noun) + " do"
}

// countTitles counts the titles of which a run wrote files, in words.
func countTitles(l *Lane) string {
	if l.Plan.Titles == 0 {
		return size.Count(l.Report.Put, "file")
	}
	return size.Count(l.Plan.Titles, "title")
}

// Work is the slow work that needs doing for what every screen says. With many titles, what a check will say is worked
// out only where it is looked at, as it takes seconds.
func (d *State) Work(lookedAt bool) tea.Cmd {
	var all []tea.Cmd
	few := len(d.Scan.Titles) <= Inline
	for n := range d.Targets {
		if n == d.Target || few {
			all = append(all, d.PlanSoon(n))
		}
		if few || n == d.Target && lookedAt {
			all = append(all, d.Foresee(n))
		}
	}
	return tea.Batch(all...)
}
