package state

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/ledger"
	"polytome/internal/core/loader"
	"polytome/internal/core/prepare"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
	"polytome/internal/size"
)

// Remembered is what the ledger knows: every volume that was looked at, the newest look first.
type Remembered struct {
	Volumes []ledger.Volume
	Index   *ledger.Index
	Err     error // what of it cannot be read or written

	reading *ledger.Reading
	stale   bool // something was written since the reading that is under way was begun
}

// A LedgerMsg is what the ledger knows now.
type LedgerMsg struct {
	ticket
	reading *ledger.Reading
	err     error
}

// A NotedMsg is that something was written into the ledger: what is on a target, or what somebody said of a volume.
type NotedMsg struct {
	ticket
	err  error
	ours bool // it was noted that a target is as it was left here
	say  string
}

// noteVolume has the ledger remember target n, as it was looked at or checked.
func (d *State) noteVolume(n int, more survey.Noted) tea.Cmd {
	t := d.At(n)
	if d.Ledger.Dir == "" || t.Survey == nil || t.Survey.Away != nil || t.Running() {
		return nil
	}
	more.Ours = more.Ours || t.wrote
	mine, ctx := d.begin(n, noting)
	look, store := *t.Survey, d.Ledger
	look.Sheet = t.Survey.Sheet.Clone()
	return func() tea.Msg { return NotedMsg{mine, look.Note(ctx, store, more), more.Ours, ""} }
}

// changeLedger has something be written into the ledger that somebody said.
func (d *State) changeLedger(say string, do func(ledger.Store) error) tea.Cmd {
	if d.goesOn(-1, changingLedger) {
		d.Notice = "The ledger is being written: try again in a moment."
		return nil
	}
	mine, _ := d.begin(-1, changingLedger)
	store := d.Ledger
	return func() tea.Msg { return NotedMsg{mine, do(store), false, say} }
}

// SetNoted says what became of writing into the ledger, which is read again: only the newest reading counts, so that
// one that was begun before shows nothing older.
func (d *State) SetNoted(m NotedMsg) tea.Cmd {
	n, ok := d.end(m.ticket)
	if !ok {
		return nil
	}
	switch {
	case m.err != nil && n < 0:
		d.Notice = Sentence(m.err.Error())
	case m.err != nil:
		d.Remembered.Err = m.err
		return nil
	case m.say != "":
		d.Notice = m.say
	}
	if m.ours && n >= 0 {
		d.Targets[n].wrote = false
	}
	return d.ReadLedger()
}

// ReadLedger reads what the ledger knows. One reading is under way at a time: when several targets are noted one after
// the other, another one follows it.
func (d *State) ReadLedger() tea.Cmd {
	if d.Ledger.Dir == "" {
		return nil
	}
	if d.goesOn(-1, readingLedger) {
		d.Remembered.stale = true
		return nil
	}
	d.Remembered.stale = false
	mine, _ := d.begin(-1, readingLedger)
	store, earlier := d.Ledger, d.Remembered.reading
	return func() tea.Msg {
		now, err := store.Read(earlier)
		return LedgerMsg{mine, now, err}
	}
}

// SetLedger takes over what the ledger knows. What of it cannot be read is said once.
func (d *State) SetLedger(m LedgerMsg) tea.Cmd {
	if _, ok := d.end(m.ticket); !ok {
		return nil
	}
	if d.Remembered.stale { // what it shows is older than what is known here
		d.Remembered.reading = m.reading
		return d.ReadLedger()
	}
	if m.err != nil && d.Remembered.Err == nil {
		d.Notice = Sentence(m.err.Error())
	}
	d.Remembered = Remembered{Volumes: m.reading.Volumes, Index: ledger.NewIndex(m.reading.Volumes), Err: m.err,
		reading: m.reading}
	return nil
}

// Here are the targets that are a volume and are connected now, by their numbers.
func (d *State) Here(v *ledger.Volume) (on []int) {
	for n, t := range d.Targets {
		if s := t.Survey; s != nil && s.Away == nil {
			if id, _ := s.VolumeID(); id == v.ID {
				on = append(on, n)
			}
		}
	}
	return on
}

// Behind are how many titles a volume lacks that are selected for it, and how many are to go; known is false where the
// bench selects none for it, or nothing is known of that yet.
func (d *State) Behind(v *ledger.Volume) (missing, others int, known bool) {
	n := slices.IndexFunc(d.Bench.Targets, func(t bench.Target) bool { return v.IsOf(t.Stick, t.Name) })
	if n < 0 {
		return 0, 0, false
	}
	for _, k := range append([]int{n}, d.Bench.Alike(n)...) {
		s := d.At(k).Survey
		if !d.known(s, 0) {
			continue
		}
		now := lag{of: s, changes: d.changes, index: d.Remembered.Index}
		if was := d.lags[v.ID]; was.of == now.of && was.changes == now.changes && was.index == now.index {
			return was.missing, was.others, true
		}
		m, o := s.Behind(v)
		if now.missing, now.others = len(m), len(o); d.lags == nil {
			d.lags = map[string]lag{}
		}
		d.lags[v.ID] = now
		return now.missing, now.others, true
	}
	return 0, 0, false
}

// lag is how far a volume is behind what is selected for it, and for what that was worked out.
type lag struct {
	of              *survey.Survey
	changes         int
	index           *ledger.Index
	missing, others int
}

// AskVolumeName asks for the name of a volume.
func (d *State) AskVolumeName(v ledger.Volume) {
	d.Ask(Question{Prompt: "Name of " + v.Called() + ": ", Value: v.Name,
		Hint: "as it stands on it, such as Hall 3; empty for none", Done: func(answer string) tea.Cmd {
			name := strings.TrimSpace(answer)
			if i := slices.IndexFunc(d.Remembered.Volumes, func(o ledger.Volume) bool {
				return name != "" && o.ID != v.ID && strings.EqualFold(o.Name, name)
			}); i >= 0 {
				d.Notice = name + " is the name of another volume. Nothing was changed."
				return nil
			}
			say := fmt.Sprintf("Its name is %s.", name)
			if name == "" {
				say = "It has no name of its own."
			}
			return d.changeLedger(say, func(s ledger.Store) error { return s.Name(v.ID, &name, nil) })
		}})
}

// AskVolumePlace asks where a volume is kept.
func (d *State) AskVolumePlace(v ledger.Volume) {
	var known []string
	for _, o := range d.Remembered.Volumes {
		if o.Place != "" && !slices.Contains(known, o.Place) {
			known = append(known, o.Place)
		}
	}
	d.Ask(Question{Prompt: v.Called() + " is kept in: ", Value: v.Place, Suggestions: known,
		Hint: "such as drawer 2; empty for nowhere known", Done: func(answer string) tea.Cmd {
			place := strings.TrimSpace(answer)
			say := v.Called() + " is kept in " + place + "."
			if place == "" {
				say = "Nobody knows where " + v.Called() + " is kept."
			}
			return d.changeLedger(say, func(s ledger.Store) error { return s.Name(v.ID, nil, &place) })
		}})
}

// Reformatted has the ledger and the bench take the new volume of a drive that was prepared for the ones that it had: a
// stick of a set stays one.
func (d *State) Reformatted(r *prepare.Report) tea.Cmd {
	if r == nil || len(r.Lost) == 0 {
		return nil
	}
	var cmds []tea.Cmd
	for n := range d.Bench.Targets {
		if t := &d.Bench.Targets[n]; t.Stick != "" && r.Volume != "" && slices.Contains(r.Lost, t.Stick) {
			t.Stick = r.Volume
			cmds = append(cmds, d.SurveyTarget(n), d.save())
		}
	}
	return tea.Batch(append(cmds, d.changeLedger("", func(s ledger.Store) error {
		return s.Reformatted(r.Lost, r.Volume)
	}))...)
}

// AskTwin asks for a stick that is to hold what is remembered of a volume, as far as the games still have it.
func (d *State) AskTwin(v ledger.Volume) {
	if d.busy() {
		return
	}
	keys, lost := survey.Remembered(&v, d.Scan.Titles)
	switch {
	case len(v.Loaders) == 0:
		d.Notice = "It is not known for which loader " + v.Called() + " was."
		return
	case len(keys) == 0:
		d.Notice = "None of the titles on " + v.Called() + " is among your games."
		return
	}
	d.Ask(Question{Prompt: fmt.Sprintf("Stick that gets the titles of %s: ", v.Called()), Suggestions: d.Mounted(),
		Hint: "a folder, mounted drive or image; nothing is written yet", Done: func(answer string) tea.Cmd {
			at, _, err := Address(answer)
			if err != nil {
				d.Notice = Sentence(err.Error())
				return nil
			}
			cmd := d.addTarget(bench.Target{Name: v.Called(), At: at, Loader: v.Loaders[0], Also: v.Loaders[1:],
				Model: v.Model, Titles: keys})
			if n := len(lost); cmd != nil && n > 0 {
				d.Notice = fmt.Sprintf(
					"%s is now a target with %s; your games lack %s that it had, such as %s. u undoes.",
					d.Bench.Targets[d.Target].Name,
					size.Count(len(keys), "title"),
					size.Count(n, "title"),
					lost[0],
				)
			} else if cmd != nil {
				d.Notice = fmt.Sprintf("%s is now a target with %s. u undoes.", d.Bench.Targets[d.Target].Name,
					size.Count(len(keys), "title"))
			}
			return cmd
		}})
}

// ForgetVolume asks whether what is remembered of a volume shall go.
func (d *State) ForgetVolume(v ledger.Volume) {
	d.Agree(fmt.Sprintf("Forget what is on %s?", v.Called()),
		"the volume itself is not touched, and is remembered again when it is looked at", func() tea.Cmd {
			return d.changeLedger(v.Called()+" is forgotten.", func(s ledger.Store) error { return s.Forget(v.ID) })
		})
}

// RoomFor are the volumes that had space for a title, and whose loader takes such titles.
func (d *State) RoomFor(t *title.Title) []*ledger.Volume {
	return ledger.Room(d.Remembered.Volumes, func(v *ledger.Volume) bool {
		return slices.ContainsFunc(v.Loaders, func(name string) bool {
			i := slices.IndexFunc(d.Set.Profiles, func(p *loader.Profile) bool { return p.Name == name })
			return i >= 0 && d.Set.Profiles[i].Knows(t.Platform)
		})
	}, t.Size())
}
