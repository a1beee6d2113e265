package drivesview

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/blockmap"
	"polytome/internal/core/loader"
	"polytome/internal/core/slabdisk"
	"polytome/internal/core/survey"
	"polytome/internal/drives"
	"polytome/internal/format/slab"
	"polytome/internal/size"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
)

// disk is what is shown of a console's own disk: its titles, with the switches of each.
type disk struct {
	info     slab.Info
	titles   []slab.Title // in the order of their names
	lay      *blockmap.Map
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
			return cmp.Or(strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), strings.Compare(a.ID, b.ID))
		})
		done.err = errors.Join(done.err, d.Close())
		done.take = func(m *Model) { m.disk.took(info, all, lay); m.lay = lay }
		return done
	})
}

// took takes over what is on the disk.
func (d *disk) took(info slab.Info, all []slab.Title, lay *blockmap.Map) {
	at := ""
	if t := d.under(); t != nil {
		at = t.ID
	}
	d.info, d.titles, d.lay = info, all, lay
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
			state.Do("tab b", "back to the titles", state.Just(func() { d.turning = false })),
		}
	}
	out := append(state.Movement(&d.list),
		state.Do("space", "mark", state.Just(m.mark)).Saying("several titles are taken out, removed or set at once"),
		state.Do("A", "mark all, or none", state.Just(m.markAll)))
	if len(d.switches) > 0 {
		out = append(out, state.Do("tab", "switches", state.Just(func() { d.turning = len(d.titles) > 0 })).
			Saying("what a title may need to run well"))
	}
	return append(out,
		state.Do("a", "add", m.askAdd).Saying("an image, an archive, or a file of another target"),
		state.Do("o", "take out", m.askOut).Saying("write titles as images to a folder; the disk keeps them"),
		state.Do("e", "rename", m.askName),
		state.Do("x", "remove", m.askRemove),
		state.Do("m", "map", state.Just(func() { m.show, m.lay, m.cell, m.of = mapping, d.lay, 0, titles })),
		state.Do("c", "check", func() tea.Cmd { return m.checkDisk(false) }),
		state.Do("V", "check every byte", func() tea.Cmd { return m.checkDisk(true) }),
		state.Do("M", "compact", m.compact).Saying("bring every title and the free space into one piece"),
		state.Do("K", "copy to a larger disk", m.askClone),
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

// turnSwitch turns the switch under the cursor for all that are meant. What is turned meanwhile is written next.
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
	return m.writeSwitches()
}

// writeSwitches writes what was turned, unless something is being done.
func (m *Model) writeSwitches() tea.Cmd {
	d := &m.disk
	if len(d.wish) == 0 || m.busy != "" {
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

// askAdd adds a title.
func (m *Model) askAdd() tea.Cmd {
	if !m.changeable() {
		return nil
	}
	var offered []string
	for n, p := range m.d.Bench.Targets {
		if n < len(m.d.Targets) && m.d.Targets[n].Survey != nil && m.d.TargetOn(m.subject) != n {
			offered = append(offered, p.Name+": ")
		}
	}
	hint := "an image or archive"
	if len(offered) > 0 {
		hint += "; or a file of another target: " + offered[0] + "its path there"
	}
	m.d.Ask(state.Question{Prompt: "Add which game? ", Hint: hint, Suggestions: offered, Done: func(answer string) tea.Cmd {
		if answer = strings.TrimSpace(answer); answer == "" || !m.changeable() {
			return nil
		}
		set := m.d.Set
		for n, p := range m.d.Bench.Targets {
			if file, ok := strings.CutPrefix(answer, p.Name+":"); ok {
				return m.addFrom(n, strings.TrimSpace(file))
			}
		}
		file := state.Expand(answer)
		if !filepath.IsAbs(file) && m.d.Bench.File() != "" {
			file = filepath.Join(filepath.Dir(m.d.Bench.File()), file)
		}
		return m.onDisk("adding "+filepath.Base(file), changes, func(ctx context.Context, d *slabdisk.Disk,
			count func(int64)) (string, error) {
			t, err := d.Add(ctx, set, file, slabdisk.As{}, count)
			return t.Name + " is on the disk, and was read back.", err
		})
	}})
	return nil
}

// addFrom adds a title straight from another target.
func (m *Model) addFrom(n int, file string) tea.Cmd {
	c, set := m.d.Bench.Targets[n], m.d.Set
	at := m.d.Bench.Resolve(c.At)
	p, err := set.Profile(c.Loader)
	if err != nil {
		m.d.Notice = state.Sentence(err.Error())
		return nil
	}
	return m.onDisk("adding "+file, changes, func(ctx context.Context, d *slabdisk.Disk, count func(int64)) (say string,
		err error) {
		from, err := survey.OpenTarget(ctx, at, c, p, false)
		if err != nil {
			return "", err
		}
		t, err := d.AddFrom(ctx, set, from, file, slabdisk.As{}, count)
		return fmt.Sprintf("%s came from %s, and was read back.", t.Name, c.Name), errors.Join(err, from.Close())
	})
}

// askOut writes titles to a folder.
func (m *Model) askOut() tea.Cmd {
	all := m.disk.meant()
	if len(all) == 0 || !m.idle() {
		return nil
	}
	value := ""
	if len(m.d.Bench.Sources) > 0 {
		value = m.d.Bench.Sources[0].Path
	}
	m.d.Ask(state.Question{Prompt: fmt.Sprintf("Write %s to which folder? ", named(all)), Value: value,
		Hint: "each becomes an image there, and its checksum is compared", Done: func(answer string) tea.Cmd {
			dir := state.Expand(strings.TrimSpace(answer))
			if dir == "" || !m.idle() {
				return nil
			}
			if !filepath.IsAbs(dir) && m.d.Bench.File() != "" {
				dir = filepath.Join(filepath.Dir(m.d.Bench.File()), dir)
			}
			return m.onDisk("taking out "+named(all), looks, func(ctx context.Context, d *slabdisk.Disk,
				count func(int64)) (string, error) {
				var failed []error
				wrote := 0
				for _, t := range all {
					if _, err := d.Out(ctx, t.ID, dir, count); err != nil {
						failed = append(failed, err)
					} else {
						wrote++
					}
					if ctx.Err() != nil {
						break
					}
				}
				return fmt.Sprintf("%s written to %s, and compared.", isWas(wrote, "title"), dir), errors.Join(failed...)
			})
		}})
	return nil
}

// askName gives a title another name.
func (m *Model) askName() tea.Cmd {
	t := m.disk.under()
	if t == nil || !m.changeable() {
		return nil
	}
	id := t.ID
	m.d.Ask(state.Question{Prompt: "Name of " + id + ": ", Value: t.Name, Hint: "as the console lists it",
		Done: func(answer string) tea.Cmd {
			if answer = strings.TrimSpace(answer); answer == "" || !m.changeable() {
				return nil
			}
			return m.onDisk("renaming", changes, func(_ context.Context, d *slabdisk.Disk, _ func(int64)) (string, error) {
				return "", d.Rename(id, answer)
			})
		}})
	return nil
}

// askRemove removes titles when that is confirmed.
func (m *Model) askRemove() tea.Cmd {
	all := m.disk.meant()
	if len(all) == 0 || !m.changeable() {
		return nil
	}
	var bytes int64
	for _, t := range all {
		bytes += t.Size
	}
	m.d.Ask(state.Question{Prompt: fmt.Sprintf("Remove %s (%s) from the disk? Type yes: ", named(all),
		size.Format(bytes)), Hint: "o takes them out first, if they are nowhere else", Suggestions: []string{"yes"},
		Done: func(answer string) tea.Cmd {
			if !strings.EqualFold(strings.TrimSpace(answer), "yes") || !m.changeable() {
				m.d.Notice = "Nothing was removed."
				return nil
			}
			return m.onDisk("removing "+named(all), changes, func(_ context.Context, d *slabdisk.Disk, _ func(int64)) (string,
				error) {
				var failed []error
				d.Hold()
				for _, t := range all {
					failed = append(failed, d.Remove(t.ID))
				}
				return isWas(len(all), "title") + " removed.", errors.Join(append(failed, d.Settle())...)
			})
		}})
	return nil
}

// compact moves titles together. It may be stopped at any moment.
func (m *Model) compact() tea.Cmd {
	if !m.changeable() {
		return nil
	}
	return m.onDisk("moving titles together", changes, func(ctx context.Context, d *slabdisk.Disk, count func(int64)) (
		string, error) {
		n, err := d.Compact(ctx, count)
		if n == 0 && err == nil {
			return "Every title and the free space are in one piece already.", nil
		}
		return isWas(n, "title") + " moved.", err
	})
}

// askClone copies the disk to another drive.
func (m *Model) askClone() tea.Cmd {
	if !m.idle() {
		return nil
	}
	var others []string
	for _, f := range m.d.Drives {
		if f.Path != m.subject.Path && f.Refusal() == nil {
			others = append(others, f.Name())
		}
	}
	m.d.Ask(state.Question{Prompt: "Copy the disk to which drive? ", Suggestions: others,
		Hint: strings.Join(append(slices.Clone(others), "or a new image with its size:  larger.img 2TB"), ", "),
		Done: m.cloneTo})
	return nil
}

func (m *Model) cloneTo(answer string) tea.Cmd {
	answer = strings.TrimSpace(answer)
	if answer == "" || !m.idle() {
		return nil
	}
	for i := range m.d.Drives {
		if f := &m.d.Drives[i]; f.Path != m.subject.Path && (strings.EqualFold(f.Name(), answer) || f.Path == answer) {
			return m.askCloneConsent(f)
		}
	}
	name, n, err := m.newImage(answer)
	if err == nil && n == 0 {
		err = fmt.Errorf("there is no drive %s; add a size to create an image: %s 2TB", answer, filepath.Base(name))
	}
	if err != nil {
		m.d.Notice = state.Sentence(err.Error())
		return nil
	}
	sys := m.d.System
	m.d.Images = append(m.d.Images, name)
	return m.clone(filepath.Base(name), func(ctx context.Context, d *slabdisk.Disk, count func(int64)) error {
		if err := drives.MakeImage(name, n); err != nil {
			return err
		}
		to, err := sys.Look(ctx, name)
		if err == nil {
			err = d.Clone(ctx, sys, to, drives.Consent{Typed: to.Name()}, count)
		}
		if err != nil { // an image without all of it is what no one asked for
			err = errors.Join(err, os.Remove(name))
		}
		return err
	})
}

// askCloneConsent wants the name of the drive typed of which everything will be lost.
func (m *Model) askCloneConsent(f *state.Found) tea.Cmd {
	if r := f.Refusal(); r != nil {
		m.d.Notice = "It cannot be written to: " + r.Say + "."
		return nil
	}
	var loses []string
	for i, v := range f.Volumes {
		loses = append(loses, volumeWords(&v)+" with "+f.Contents[i].Words())
	}
	if len(loses) == 0 {
		loses = []string{"nothing that was recognized"}
	}
	to := f.Drive
	return func() tea.Msg { // after the question that led here
		return state.AskMsg{Question: state.Question{Prompt: "Everything on it will be lost. Type " + to.Name() +
			" to continue: ", Hint: "lost is " + strings.Join(loses, "; "), Done: func(answer string) tea.Cmd {
			if err := to.Agreed(drives.Consent{Typed: answer, Fixed: true}); err != nil || to.Fixed() {
				m.d.Notice = "That is not the drive's name. Nothing was changed."
				if to.Fixed() {
					m.d.Notice = "It is built into this computer: polytome slab clone --fixed-disk does that."
				}
				return nil
			}
			sys := m.d.System
			return m.clone(to.Name(), func(ctx context.Context, d *slabdisk.Disk, count func(int64)) error {
				return d.Clone(ctx, sys, to, drives.Consent{Typed: answer}, count)
			})
		}}}
	}
}

// clone has the disk be copied to where it is called so.
func (m *Model) clone(to string, do func(ctx context.Context, d *slabdisk.Disk, count func(int64)) error) tea.Cmd {
	return m.onDisk("copying the disk to "+to, changesAnother, func(ctx context.Context, d *slabdisk.Disk, count func(int64)) (
		string, error) {
		return to + " is a copy of the disk, and every title was compared.", do(ctx, d, count)
	})
}

// checkDisk looks for what is wrong on the disk, and what repairing it would do.
func (m *Model) checkDisk(deep bool) tea.Cmd {
	if !m.idle() {
		return nil
	}
	m.of, m.show, m.wrong = m.show, mending, nil
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

// mend repairs the disk.
func (m *Model) mend() tea.Cmd {
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
		w.Ways = append(w.Ways, "M brings it into one")
	}
	if n := len(d.chosen); n > 0 {
		w.Ways = append(w.Ways, "what you do next is for "+size.Count(n, "marked title"))
	}
	return w
}

func (m *Model) mendWhy() state.Why {
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
		return state.Why{Lead: m.subject.Name() + ".", Say: "Nothing has to be repaired on the disk itself. Damaged titles " +
			"are removed and added again."}
	}
	return state.Why{Lead: m.subject.Name() + ".", Say: "Nothing has been changed.",
		Ways: []string{"R repairs it, as listed here"}}
}
