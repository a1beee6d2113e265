package state

import (
	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
)

// Teaching is a target that an unknown console is learnt from.
type Teaching struct {
	At     string // as [survey.OpenTarget] takes it
	Name   string
	Config bench.Target
}

// BeginTeaching sets an empty bench up with a folder of games, and has a console be learnt from a target. That comes on
// the bench when the console's loader is known.
func (d *State) BeginTeaching(source, at string) tea.Cmd {
	if source != "" {
		d.Bench.Sources = []bench.Source{{Path: source}}
	}
	d.resize()
	name := nameOf(at)
	return tea.Batch(d.StartScan(), d.save(), d.Teach(Teaching{At: at, Name: name, Config: bench.Target{Name: name,
		At: at}}))
}

// Taught puts a target that was learnt from on the bench as soon as its loader is known, where it is not there yet.
func (d *State) Taught(from Teaching, loader string) {
	for _, c := range d.Bench.Targets {
		if d.Bench.Resolve(c.At) == from.At {
			return
		}
	}
	d.onceLoaded = func() tea.Cmd {
		p, err := d.Set.Profile(loader)
		if err != nil {
			return nil // it is listed with its mistake
		}
		return d.addTarget(NewTarget(from.At, p))
	}
}

// A TeachMsg asks for the panel in which a console is taught.
type TeachMsg struct{}

// Teach has a console be learnt from a target.
func (d *State) Teach(from Teaching) tea.Cmd {
	d.Teaching = from
	return func() tea.Msg { return TeachMsg{} }
}
