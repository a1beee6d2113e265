package drivesview

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/blockmap"
	"polytome/internal/core/loader"
	"polytome/internal/core/slabdisk"
	"polytome/internal/drives"
	"polytome/internal/format/slab"
	"polytome/internal/size"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
	"polytome/internal/ui/tape"
)

// disk is what is shown of a console's own disk: its titles, with the switches of each.
type disk struct {
	info     slab.Info
	titles   []slab.Title // in the order of their names
	tape     *tape.Tape
	list     scroll.List
	chosen   map[string]bool // by ID
	switches []loader.Switch // that the console knows
	turning  bool            // the cursor is among the switches
	at       int             // the switch under the cursor
	wish     map[string]map[string]string
}

// A wrong is what a look at a disk found, and what repairing it would do.
type wrong struct {
	deep     bool // every title was read
	problems []slab.Problem
	repair   *slab.Repair
	done     bool
}

// openDisk shows the titles of the disk.
func (m *Model) openDisk() tea.Cmd {
	f, v := m.current(), m.volume()
	m.subject = f.Drive
	m.show = titles
	m.disk = disk{chosen: map[string]bool{}, wish: map[string]map[string]string{}, switches: m.switchesOf(f, v)}
	return m.onDisk("reading the disk", looks, func(context.Context, *slabdisk.Disk, func(int64)) (string, error) {
		return "", nil
	})
}

// switchesOf are the switches of the console that the disk is of: that of the target on it, of the titles on it, or of
// any loader that reads such disks.
func (m *Model) switchesOf(f *state.Found, v *drives.Volume) []loader.Switch {
	var names []string
	if n := m.d.TargetOn(f.Drive); n >= 0 {
		names = append(names, m.d.Bench.Targets[n].Loader)
	}
	for _, l := range f.Contents[m.vol].Loaders {
		names = append(names, l.Name)
	}
	for _, p := range m.d.Set.Profiles {
		names = append(names, p.Name)
	}
	for _, name := range names {
		p, err := m.d.Set.Profile(name)
		if err != nil {
			continue
		}
		if at := p.OnDrive(v.Filesystem, f.Network); at != nil {
			if all := p.SwitchesOn(at); len(all) > 0 {
				return all
			}
		}
	}
	return nil
}

// what is done with a disk
const (
	looks = iota
	changes
	changesAnother // drive
)

// onDisk does something with the disk in the background, and reads what is on it then.
func (m *Model) onDisk(what string, does int, work func(ctx context.Context, d *slabdisk.Disk,
	count func(n int64)) (say string, err error)) tea.Cmd {
	sys, subject := m.d.System, m.subject
	return m.counting(what, func(ctx context.Context, count func(int64)) (done doneMsg) {
		d, err := slabdisk.Open(ctx, sys, subject.Path, does == changes)
		if err != nil {
			return doneMsg{err: err}
		}
		done.change = does != looks
		done.say, done.err = work(ctx, d, count)
		info, all, lay := d.Info(), d.Titles(), blockmap.OfDisk(d.Disk)
		slices.SortStableFunc(all, func(a, b slab.Title) int {
			return cmp.Or(strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)),
				strings.Compare(a.ID, b.ID))
		})
		done.err = errors.Join(done.err, d.Close())
		done.take = func(m *Model) { m.disk.took(info, all, lay); m.shows(lay) }
		return done
	})
}

// took takes over what is on the disk.
func (d *disk) took(info slab.Info, all []slab.Title, lay *blockmap.Map) {
	at := ""
	if t := d.under(); t != nil {
		at = t.ID
	}
	d.info, d.titles, d.tape = info, all, tape.New(lay)
	d.list.N = len(all)
	is := map[string]bool{}
	for i, t := range all {
		is[t.ID] = true
		if t.ID == at {
			d.list.Move(i - d.list.Cursor)
		}
	}
	for id := range d.chosen {
		if !is[id] {
			delete(d.chosen, id)
		}
	}
}

// under is the title under the cursor, nil for none.
func (d *disk) under() *slab.Title {
	if d.list.Cursor < 0 || d.list.Cursor >= len(d.titles) {
		return nil
	}
	return &d.titles[d.list.Cursor]
}

// meant are the titles that are marked, or that under the cursor.
func (d *disk) meant() (out []slab.Title) {
	for _, t := range d.titles {
		if d.chosen[t.ID] {
			out = append(out, t)
		}
	}
	if t := d.under(); len(out) == 0 && t != nil {
		out = append(out, *t)
	}
	return out
}

// named names titles in a few words.
func named(all []slab.Title) string {
	if len(all) == 1 {
		return all[0].Name
	}
	return size.Count(len(all), "title")
}

// value is what a switch of a title stands on.
func (d *disk) value(t *slab.Title, s *loader.Switch) string {
	if v, ok := d.wish[t.ID][s.Key]; ok {
		return v
	}
	return cmp.Or(t.Settings[s.Key], s.Values[0])
}

// valueOfAll is what a switch stands on in all titles that are meant; same is false where it differs.
func (d *disk) valueOfAll(s *loader.Switch) (value string, same bool) {
	all := d.meant()
	for i := range all {
		v := d.value(&all[i], s)
		if i > 0 && v != value {
			return "", false
		}
		value = v
	}
	return value, true
}

func (m *Model) diskActions() []state.Action {
	d := &m.disk
	if d.turning {
		return []state.Action{
			state.Do("up k", "the switch above", state.Just(func() { d.at = max(0, d.at-1) })),
			state.Do("down j", "the switch below", state.Just(func() { d.at = min(d.at+1, len(d.switches)-1) })),
			state.Do("right l enter space", "turn it on", func() tea.Cmd { return m.turnSwitch(1) }).
				Saying("to its next value, for the title under the cursor or all that are marked"),
			state.Do("left h", "turn it back", func() tea.Cmd { return m.turnSwitch(-1) }),
			state.Do("W", "write the switches", m.write).Writing(),
			state.Do("tab b", "back to the titles", state.Just(func() { d.turning = false })),
		}
	}
	out := state.Movement(&d.list)
	if len(d.switches) > 0 {
		out = append(out, state.Do("tab", "switches", state.Just(func() { d.turning = len(d.titles) > 0 })).
			Saying("what a title may need to run well"))
	}
	return append(out,
		state.Do("a", "add", m.askAdd).Saying("an image, an archive, or a file of another target"),
		state.Do("o", "take out", m.askOut).Saying("write titles as images to a folder; the disk keeps them"),
		state.Do("delete", "remove", m.askRemove).Writing(),
		state.Do("e", "rename", m.askName),
		state.Do("space", "mark", state.Just(m.mark)).Saying("several titles are taken out, removed or set at once"),
		state.Do("A", "mark all, or none", state.Just(m.markAll)),
		state.Do("m", "map", state.Just(func() {
			m.show, m.tape, m.of = mapping, tape.New(d.tape.Map), titles
			m.tape.Go(max(0, d.onTape()))
		})),
		state.Do("c", "check", func() tea.Cmd { return m.checkDisk(false) }),
		state.Do("V", "check every byte", func() tea.Cmd { return m.checkDisk(true) }),
		state.Do("W", m.writeWord(), m.write).Saying("write the switches that were turned; else bring every title "+
			"and the free space into one piece").Writing(),
		state.Do("K", "copy to a larger disk", m.askClone).Writing(),
		state.Do("b", "back to the drives", state.Just(func() { m.Escape() })),
	)
}

func (m *Model) mark() {
	if t := m.disk.under(); t != nil {
		if m.disk.chosen[t.ID] = !m.disk.chosen[t.ID]; !m.disk.chosen[t.ID] {
			delete(m.disk.chosen, t.ID)
		}
		m.disk.list.Move(1)
	}
}

func (m *Model) markAll() {
	d := &m.disk
	if len(d.chosen) > 0 {
		clear(d.chosen)
		return
	}
	for _, t := range d.titles {
		d.chosen[t.ID] = true
	}
}

// turnSwitch turns the switch under the cursor for all that are meant.
func (m *Model) turnSwitch(by int) tea.Cmd {
	d := &m.disk
	if len(d.switches) == 0 || m.refused() {
		return nil
	}
	s := &d.switches[d.at]
	now, same := d.valueOfAll(s)
	k := slices.Index(s.Values, now)
	if k = (k + by + len(s.Values)) % len(s.Values); !same {
		k = 0
	}
	for _, t := range d.meant() {
		if d.wish[t.ID] == nil {
			d.wish[t.ID] = map[string]string{}
		}
		d.wish[t.ID][s.Key] = s.Values[k]
	}
	m.d.Notice = fmt.Sprintf("%s: %s for %s. W writes it.", s.Key, s.Values[k], named(d.meant()))
	return nil
}

// write asks whether what was turned shall be written, or else whether titles shall be moved together.
func (m *Model) write() tea.Cmd {
	n := len(m.disk.wish)
	switch {
	case n == 0 && m.disk.turning:
		m.d.Notice = "No switch was turned."
	case n == 0:
		return m.askCompact()
	case m.changeable():
		m.d.Agree("Write the switches of "+size.Count(n, "title")+"?", "nothing else is changed", m.writeSwitches)
	}
	return nil
}

// writeWord is what W does now.
func (m *Model) writeWord() string {
	if len(m.disk.wish) > 0 {
		return "write switches"
	}
	return "compact"
}

// writeSwitches writes what was turned.
func (m *Model) writeSwitches() tea.Cmd {
	d := &m.disk
	if len(d.wish) == 0 || !m.changeable() {
		return nil
	}
	wish := d.wish
	d.wish = map[string]map[string]string{}
	for i := range d.titles { // shown until it is read back
		t := &d.titles[i]
		for key, value := range wish[t.ID] {
			if t.Settings == nil {
				t.Settings = map[string]string{}
			}
			t.Settings[key] = value
		}
	}
	return m.onDisk("writing the switches", changes, func(_ context.Context, d *slabdisk.Disk, _ func(int64)) (string,
		error) {
		var failed []error
		d.Hold()
		for id, set := range wish {
			if err := d.Set(id, set); err != nil {
				failed = append(failed, fmt.Errorf("%s: %w", id, err))
			}
		}
		return "", errors.Join(append(failed, d.Settle())...)
	})
}

// refused reports, and says, why the disk must not be changed now.
func (m *Model) refused() bool {
	if r := m.subject.Refusal(); r != nil {
		m.d.Notice = "Nothing is written to it: " + r.Say + "."
		return true
	}
	return false
}

// ready reports whether the disk may be changed now.
func (m *Model) changeable() bool { return m.idle() && !m.refused() }

// checkDisk looks for what is wrong on the disk, and what repairing it would do.
func (m *Model) checkDisk(deep bool) tea.Cmd {
	if !m.idle() {
		return nil
	}
	m.of, m.show, m.wrong = m.show, repairing, nil
	m.lines.Home()
	sys, subject := m.d.System, m.subject
	return m.counting("checking", func(ctx context.Context, count func(int64)) doneMsg {
		w := &wrong{deep: deep}
		d, err := slabdisk.Open(ctx, sys, subject.Path, false)
		if err == nil { // else its tables are lost, and only repairing is left
			w.problems, err = d.Check(ctx, deep, count)
			if err = errors.Join(err, d.Close()); err != nil {
				return doneMsg{err: err}
			}
		}
		r, end, err := slabdisk.Repair(ctx, sys, subject.Path, false, count)
		if err != nil {
			return doneMsg{err: err}
		}
		w.repair = r
		return doneMsg{err: end(), take: func(m *Model) { m.wrong = w }}
	})
}

// askRepairDisk asks whether what was found shall be repaired.
func (m *Model) askRepairDisk() tea.Cmd {
	if m.changeable() && m.wrong != nil {
		m.d.Agree("Repair "+m.subject.Name()+"?", "it does what is listed here", m.repairDisk)
	}
	return nil
}

// repairDisk repairs the disk.
func (m *Model) repairDisk() tea.Cmd {
	if !m.changeable() || m.wrong == nil || m.wrong.done {
		return nil
	}
	sys, subject, w := m.d.System, m.subject, m.wrong
	return m.counting("repairing", func(ctx context.Context, count func(int64)) (done doneMsg) {
		r, end, err := slabdisk.Repair(ctx, sys, subject.Path, true, count)
		if err != nil {
			return doneMsg{err: err}
		}
		defer func() { done.err = errors.Join(done.err, end()) }()
		if _, err := r.Apply(); err != nil {
			return doneMsg{err: err, change: true}
		}
		return doneMsg{change: true, take: func(m *Model) {
			if m.wrong == w {
				w.repair, w.done = r, true
			}
		}}
	})
}

func (m *Model) diskWhy() state.Why {
	d := &m.disk
	if m.busy != "" {
		say := m.busy
		if m.counted > 0 {
			say += ", " + size.Format(m.counted)
		}
		return state.Why{Say: state.Sentence(say + " …"), Ways: []string{"esc stops it; nothing is lost"}}
	}
	if d.turning && len(d.switches) > 0 {
		s := &d.switches[d.at]
		return state.Why{Lead: s.Key + ".", Say: "Of help when " + s.Helps + ".",
			Ways: []string{"right turns it for " + named(d.meant())}}
	}
	t := d.under()
	if t == nil {
		return state.Why{Say: "There are no titles on the disk.", Ways: []string{"a adds one",
			"p in the list of drives makes it a target, to be filled"}}
	}
	w := state.Why{Lead: t.Name + ".", Say: fmt.Sprintf("%s, %s, CRC-32C %08x.", t.ID, size.Format(t.Size), t.Sum)}
	if n := len(t.Extents); n > 1 {
		w.Say += fmt.Sprintf(" It lies in %d pieces.", n)
		w.Ways = append(w.Ways, "W brings it into one")
	}
	if n := len(d.chosen); n > 0 {
		w.Ways = append(w.Ways, "what you do next is for "+size.Count(n, "marked title"))
	}
	return w
}

func (m *Model) repairWhy() state.Why {
	switch w := m.wrong; {
	case m.busy != "":
		return m.diskWhy()
	case w == nil:
		return state.Why{}
	case w.done:
		return state.Why{Lead: m.subject.Name() + ".", Say: "It is repaired."}
	case len(w.problems) == 0 && len(w.repair.Do) == 0:
		return state.Why{Lead: m.subject.Name() + ".", Say: "Nothing is wrong."}
	case len(w.repair.Do) == 0:
		return state.Why{Lead: m.subject.Name() + ".",
			Say: "Nothing has to be repaired on the disk itself. Damaged titles " +
				"are removed and added again."}
	}
	return state.Why{Lead: m.subject.Name() + ".", Say: "Nothing has been changed.",
		Ways: []string{"W repairs it, as listed here"}}
}
