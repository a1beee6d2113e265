package state

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/scan"
	"polytome/internal/core/scancache"
	"polytome/internal/core/title"
	"polytome/internal/size"
)

// Fix changes what is set by hand for files of titles, and looks at them again. It can be
// undone.
func (d *State) Fix(say string, change func()) tea.Cmd {
	if d.busy() {
		return nil
	}
	d.remember()
	change()
	d.Notice = say + undoHint
	return tea.Batch(d.StartScan(), d.changed())
}

// SetField sets a field of a title by hand; "" leaves it to what the files tell. Discs of one
// game keep together: each gets its name.
func (d *State) SetField(t title.Title, field, value string) tea.Cmd {
	discs := t.Discs[:1]
	if field != "ID" {
		discs = t.Discs
	}
	say := fmt.Sprintf("The %s of %s is %s now.", field, t.Label(), value)
	if value == "" {
		say = fmt.Sprintf("The %s of %s is what its file says.", field, t.Label())
	}
	return d.Fix(say, func() {
		for i := range discs {
			d.Bench.Edit(discs[i].Where(t.Among > 1), discs[i].Sign, func(e *title.Edit) {
				*e.Value(field) = value
				if value == "" {
					e.Lock(field, false)
				}
			})
		}
	})
}

// LockField keeps a field as it is, whatever lists and files tell later, or lets it go.
func (d *State) LockField(t title.Title, field string) tea.Cmd {
	lock := !slices.Contains(t.Locked, field)
	value := *t.Value(field)
	if lock && value == "" {
		d.Notice = fmt.Sprintf("%s has no %s to lock.", t.Label(), field)
		return nil
	}
	say := fmt.Sprintf("The %s of %s is locked.", field, t.Label())
	if !lock {
		say = fmt.Sprintf("The %s of %s is unlocked.", field, t.Label())
	}
	return d.Fix(say, func() {
		for i := range t.Discs {
			if field == "ID" && i > 0 {
				break
			}
			d.Bench.Edit(t.Discs[i].Where(t.Among > 1), t.Discs[i].Sign, func(e *title.Edit) {
				if lock {
					*e.Value(field) = value
				}
				e.Lock(field, lock)
			})
		}
	})
}

// Drop leaves titles out. Their files stay where they are.
func (d *State) Drop(all []title.Title) tea.Cmd {
	what := size.Count(len(all), "title")
	if len(all) == 1 {
		what = all[0].Label()
	}
	return d.Fix(what+" left out; the files stay where they are.",
		func() { d.editAll(all, func(e *title.Edit) { e.Drop = true }) })
}

// BringBack takes in again what was left out.
func (d *State) BringBack() tea.Cmd {
	n := len(d.Scan.Dropped)
	if n == 0 {
		d.Notice = "Nothing was left out."
		return nil
	}
	dropped := d.Scan.Dropped
	return d.Fix(size.Count(n, "title")+" included again.",
		func() { d.editAll(dropped, func(e *title.Edit) { e.Drop = false }) })
}

func (d *State) editAll(all []title.Title, change func(*title.Edit)) {
	for i := range all {
		for k := range all[i].Discs {
			disc := &all[i].Discs[k]
			d.Bench.Edit(disc.Where(all[i].Among > 1), disc.Sign, change)
		}
	}
}

// Join makes one title of several: its discs, in the order of their names.
func (d *State) Join(all []title.Title) tea.Cmd {
	if len(all) < 2 {
		d.Notice = "Mark the discs with space first, two at least; then they can be joined."
		return nil
	}
	for i := range all {
		if all[i].Platform != all[0].Platform || all[i].Form != all[0].Form {
			d.Notice = fmt.Sprintf("%s and %s differ in platform or form, so they cannot be discs of one game.",
				all[0].Label(), all[i].Label())
			return nil
		}
	}
	slices.SortFunc(all, func(a, b title.Title) int { return title.CompareSource(&a, &b) })
	slices.SortStableFunc(all, func(a, b title.Title) int { return a.Discs[0].Number - b.Discs[0].Number })
	name := all[0].Name
	return d.Fix(fmt.Sprintf("%d discs joined to %s.", len(all), name), func() {
		n := 0
		for i := range all {
			for k := range all[i].Discs {
				n++
				disc := &all[i].Discs[k]
				d.Bench.Edit(disc.Where(all[i].Among > 1), disc.Sign,
					func(e *title.Edit) { e.Set, e.Disc, e.Alone = all[0].Key, n, false })
			}
		}
	})
}

// Part makes a title of each disc.
func (d *State) Part(t title.Title) tea.Cmd {
	if len(t.Discs) < 2 && t.Of < 2 {
		d.Notice = t.Label() + " has one disc only."
		return nil
	}
	return d.Fix(fmt.Sprintf("The discs of %s are separate titles now.", t.Label()), func() {
		d.editAll([]title.Title{t}, func(e *title.Edit) { e.Set, e.Disc, e.Alone = "", 0, true })
	})
}

// Password adds a password that is tried on encrypted archives.
func (d *State) Password(p string) tea.Cmd {
	if p == "" || slices.Contains(d.Bench.Passwords, p) {
		d.Notice = "That password was already tried."
		return nil
	}
	return d.Fix("The password is tried on all encrypted archives. The bench stores it as plain text.", func() {
		d.Bench.Passwords = append(slices.Clone(d.Bench.Passwords), p)
	})
}

// AddList has titles completed from a CSV file of the user's.
func (d *State) AddList(path string) tea.Cmd {
	path = Expand(path)
	if info, err := os.Stat(path); err != nil || info.IsDir() {
		d.Notice = fmt.Sprintf("There is no list %s; write the path of a CSV file.", path)
		return nil
	}
	if abs, err := filepath.Abs(path); err == nil {
		path = abs
	}
	return d.Fix(filepath.Base(path)+" now provides names and years.", func() { d.Bench.AddList(path) })
}

// Allow opens an archive that is suspiciously large inside.
func (d *State) Allow(t title.Title) tea.Cmd {
	if !slices.ContainsFunc(t.Findings, func(f title.Finding) bool { return f.Wants == title.Allowance }) {
		d.Notice = t.Label() + " needs no permission: nothing about its archive is suspicious."
		return nil
	}
	return d.Fix(t.Label()+" may be opened.", func() {
		d.Bench.Edit(t.Where(), t.Discs[0].Sign, func(e *title.Edit) { e.Allow = true })
	})
}

// Verifying is how far a check of files has come.
type Verifying struct {
	Done, Total int64 // bytes
	Path        string
	Bad, Files  int
	stop        context.CancelFunc
}

// A VerifyMsg reports how far a check of files has come, or its end.
type VerifyMsg struct {
	progress  scan.VerifyProgress
	bad, done int
	report    *scan.VerifyReport
	trouble   error
	feed      feed[VerifyMsg]
}

// Verify reads the files of titles from end to end in the background. Called while that goes on,
// it stops it.
func (d *State) Verify(titles []title.Title) tea.Cmd {
	if d.Verifying != nil {
		d.Verifying.stop()
		d.Notice = "Stopped verifying; what was read is remembered."
		return nil
	}
	if len(titles) == 0 {
		return nil
	}
	ctx, cancel := context.WithCancel(d.Ctx)
	d.Verifying = &Verifying{stop: cancel}
	titles = slices.Clone(titles)
	o := scan.VerifyOptions{Passwords: slices.Clone(d.Bench.Passwords), Allowed: scan.Allowed(d.Bench),
		Lists: listsBeside(titles, d.Scan.Sums)}
	cache := d.CacheFile
	out := newest[VerifyMsg]()
	out.start(func() {
		defer cancel()
		if cache != "" {
			if store, err := scancache.Open(cache); err == nil {
				o.Cache = store
				defer store.Close()
			}
		}
		bad, done := 0, 0
		o.Progress = func(p scan.VerifyProgress) {
			if p.Ended != nil {
				done++
				if p.Ended.Verdict.Bad() {
					bad++
				}
			}
			out.emit(VerifyMsg{progress: p, bad: bad, done: done, feed: out})
		}
		r, _ := scan.Verify(ctx, titles, o)
		out.emit(VerifyMsg{report: &r})
	}, func(err error) VerifyMsg { return VerifyMsg{report: &scan.VerifyReport{}, trouble: err} })
	return out.next
}

// listsBeside are the checksum lists in the folders of titles.
func listsBeside(titles []title.Title, lists []string) (out []string) {
	dir := func(path string) string {
		if i := strings.LastIndexAny(path, `/\`); i >= 0 {
			return path[:i]
		}
		return ""
	}
	dirs := map[string]bool{}
	for i := range titles {
		for k := range titles[i].Discs {
			dirs[dir(titles[i].Discs[k].File.Path)] = true
		}
	}
	for _, l := range lists {
		if dirs[dir(l)] {
			out = append(out, l)
		}
	}
	return out
}

// SetVerify takes over how far a check has come. At its end the titles are looked at again, as the
// result belongs to them.
func (d *State) SetVerify(m VerifyMsg) tea.Cmd {
	if m.report == nil {
		if d.Verifying != nil {
			d.Verifying.Done, d.Verifying.Total, d.Verifying.Path = m.progress.Done, m.progress.Total, m.progress.Path
			d.Verifying.Bad, d.Verifying.Files = m.bad, m.done
		}
		return m.feed.next
	}
	d.Verifying = nil
	var words []string
	for _, v := range scan.Verdicts {
		if n := m.report.Counts[v]; n > 0 {
			words = append(words, fmt.Sprintf("%d %s", n, v))
		}
	}
	if m.trouble != nil {
		d.Notice = "Verifying: " + m.trouble.Error()
	} else if len(words) > 0 {
		d.Notice = fmt.Sprintf("Verified %s: %s.", size.Count(len(m.report.Files), "file"), strings.Join(words, ", "))
	}
	return d.StartScan()
}
