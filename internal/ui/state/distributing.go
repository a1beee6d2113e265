package state

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/survey"
	"polytome/internal/size"
)

// A Sharing is homes that are proposed.
type Sharing struct {
	*survey.Sharing
	Working bool
	changes int
}

// A SharingMsg is homes that were found in the background.
type SharingMsg struct {
	sharing *survey.Sharing
	changes int
}

// frozen copies what choices change, for work in the background.
func (d *State) frozen() survey.Board {
	out := make(survey.Board, len(d.Targets))
	for n, target := range d.Targets {
		s := target.Survey
		if s != nil && len(s.Titles) == len(d.Scan.Titles) {
			c := *s
			c.Sheet = s.Sheet.Clone()
			out[n] = &c
		}
	}
	return out
}

// Distribute finds homes for titles over all targets, in the background.
func (d *State) Distribute(titles []int) tea.Cmd {
	if d.busy() {
		return nil
	}
	if len(titles) == 0 {
		d.Notice = "No title is selected anywhere: select some first, or narrow the list with / to distribute what " +
			"is shown."
		return nil
	}
	d.Sharing = &Sharing{Working: true, changes: d.changes}
	board, b, changes := d.frozen(), d.Bench.Clone(), d.changes
	return func() tea.Msg { return SharingMsg{board.Distribute(b, titles), changes} }
}

// SetSharing takes over homes that were found.
func (d *State) SetSharing(m SharingMsg) {
	if d.Sharing != nil && m.changes == d.changes {
		d.Sharing = &Sharing{Sharing: m.sharing, changes: m.changes}
	}
}

// TakeHomes makes the proposed homes the choices.
func (d *State) TakeHomes() tea.Cmd {
	if d.Sharing == nil || d.Sharing.Working || d.busy() {
		return nil
	}
	sh := d.Sharing.Sharing
	d.remember()
	sh.Apply(d.Bench, d.Board())
	cmd := d.changed()
	d.Notice = fmt.Sprintf("Distributed: %s have a home, %d have none. u undoes.", size.Count(sh.Here+sh.Going,
		"title"), sh.Left)
	return cmd
}
