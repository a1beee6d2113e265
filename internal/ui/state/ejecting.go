package state

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/run"
	"polytome/internal/drives"
	"polytome/internal/target/served"
)

// An EjectedMsg is how ejecting the drive of a target ended.
type EjectedMsg struct {
	ticket
	release *drives.Release
	err     error
}

// Eject has what is not written yet of a target be written, and its drive be unmounted and switched off.
func (d *State) Eject(n int) tea.Cmd {
	t := d.At(n)
	switch {
	case n >= len(d.Targets):
		return nil
	case t.Running():
		d.Notice = "A run is in progress: wait for it to end, or stop it."
		return nil
	case d.goesOn(n, savesWork):
		d.Notice = "Saves on it are being written: wait for that to end."
		return nil
	case !d.Unplugs(n):
		d.Notice = d.Bench.Targets[n].Name + " is not a drive of this computer: there is nothing to eject."
		return nil
	}
	mine, ctx := d.begin(n, ejecting)
	d.drop(n, looking) // nothing of it may be open
	d.drop(n, checking)
	d.drop(n, foresees)
	sys, at, name := d.System, d.Bench.Address(n), d.Bench.Targets[n].Name
	d.Notice = "Not yet: writing pending data to " + name + " …"
	return func() tea.Msg {
		drive, err := sys.Under(ctx, at)
		if err != nil {
			return EjectedMsg{mine, nil, err}
		}
		r, err := sys.Eject(ctx, drive, nil)
		return EjectedMsg{mine, r, err}
	}
}

// SetEjected says how ejecting ended.
func (d *State) SetEjected(m EjectedMsg) tea.Cmd {
	n, ok := d.end(m.ticket)
	if !ok {
		return nil
	}
	name := d.Bench.Targets[n].Name
	if m.err != nil {
		d.Notice = fmt.Sprintf("%s is not ejected: %v. Eject it with your system, then it is safe to unplug.", name,
			m.err)
		return d.SurveyTarget(n)
	}
	d.Targets[n].Ejected = m.release.Safe
	d.Notice = m.release.Say
	if l := d.Targets[n].Lane; m.release.Safe && l != nil && l.Report != nil && l.Report.All() {
		d.Notice = d.Finished(n) + " " + m.release.Say
	}
	return d.SurveyTarget(n)
}

// Finished says that a run is done, in a sentence: how many titles are on the target, and that they can be read.
func (d *State) Finished(n int) string {
	l := d.Targets[n].Lane
	if l == nil || l.Report == nil {
		return ""
	}
	say := fmt.Sprintf("Done: %s written", countTitles(l))
	if r := d.Targets[n].Check.Report; r != nil {
		switch starts := r.Starts(); {
		case starts == len(r.Listed) && l.Verify != run.VerifyFull: // nobody has read it
			say += fmt.Sprintf(", the console lists %d", starts)
		case starts == len(r.Listed):
			say += fmt.Sprintf(", the console lists %d, all readable", starts)
		default:
			say += fmt.Sprintf(", the console lists %d and starts %d", len(r.Listed), starts)
		}
	}
	return say + "."
}

// servedHere reports whether the games of a target stay on this computer.
func (d *State) servedHere(n int) bool { return served.Is(d.Bench.Targets[n].At) }
