package drivesview

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/kit"
	"polytome/internal/core/prepare"
	"polytome/internal/drives"
	"polytome/internal/nbd"
	"polytome/internal/size"
	"polytome/internal/ui/state"
)

// askLoader begins preparing: it asks what for.
func (m *Model) askLoader() tea.Cmd {
	f := m.current()
	if f == nil || !m.idle() {
		return nil
	}
	if r := f.Refusal(); r != nil {
		m.d.Notice = "It cannot be prepared: " + r.Say + "."
		if mounted(f.Drive) {
			m.d.Notice += " m unmounts it first."
		}
		return nil
	}
	var names []string
	for _, p := range m.d.Set.Profiles {
		if p.OnDrive("", f.Network) == nil {
			continue
		}
		names = append(names, p.Name)
		if p.OnDrive(drives.Slab, f.Network) != nil && p.OnDrive("", f.Network).DefaultFilesystem() != drives.Slab {
			names = append(names, p.Name+" "+drives.Slab)
		}
	}
	value := ""
	if n := m.d.TargetOn(f.Drive); n >= 0 {
		value = m.d.Bench.Targets[n].Loader
	}
	names = append(names, "fat32", "exfat", "fat16", drives.Slab)
	hint := strings.Join(names, ", ")
	if len(f.Volumes) > 1 {
		hint = "only this partition: type \"here\" after it. " + hint
	}
	m.d.Ask(state.Question{Prompt: "Prepare " + f.Name() + " for which loader, or with which filesystem? ",
		Value:       value,
		Suggestions: names, Hint: hint, Done: m.makePlan})
	return nil
}

// PrepareFor shows how a drive is prepared for a loader.
func (m *Model) PrepareFor(path, loader string) tea.Cmd {
	for i := range m.d.Drives {
		if m.d.Drives[i].Path == path {
			m.at, m.path, m.vol = i, path, 0
			return m.makePlan(loader)
		}
	}
	return nil
}

// makePlan plans what the drive becomes.
func (m *Model) makePlan(answer string) tea.Cmd {
	f := m.current()
	if f == nil || answer == "" {
		return nil
	}
	r := prepare.Request{Titles: m.d.Scan.Titles, Vault: m.d.Vault}
	if n := m.d.TargetOn(f.Drive); n >= 0 {
		r.Wanted = m.d.Bench.Targets[n]
	}
	what, here := strings.CutSuffix(answer, " here")
	if v := m.volume(); here && v != nil {
		r.Part = v.Number
	}
	if drives.Ours(strings.ToLower(what)) {
		r.Filesystem = what
	} else {
		name, filesystem, _ := strings.Cut(what, " ")
		r.Filesystem = filesystem
		p, err := m.d.Set.Profile(name)
		if err != nil {
			m.d.Notice = state.Sentence(err.Error())
			return nil
		}
		r.Profile = p
	}
	return m.planWith(r)
}

func (m *Model) planWith(r prepare.Request) tea.Cmd {
	sys, set, d := m.d.System, m.d.Set, m.current().Drive
	return m.do("reading what is on it", func(ctx context.Context) doneMsg {
		p, err := prepare.Make(ctx, sys, d, set, r)
		if err != nil {
			return doneMsg{err: err}
		}
		return doneMsg{take: func(m *Model) {
			m.show, m.plan, m.report, m.event = preparing, p, nil, prepare.Event{Step: -1}
			m.request = r
			m.lines.Home()
		}}
	})
}

// askKit asks for the folder with the loader's own files.
func (m *Model) askKit() tea.Cmd {
	if m.plan == nil || m.request.Profile == nil || len(m.request.Profile.Kit.Files) == 0 || m.report != nil {
		m.d.Notice = "This loader has no kit."
		return nil
	}
	k := &m.request.Profile.Kit
	hint := "the folder or archive with " + k.Shown + ", as you downloaded it"
	if len(k.Editions) > 0 {
		hint += "; put the edition in front: " + k.EditionWords()
	}
	m.d.Ask(state.Question{Prompt: "Where are they? ", Value: m.request.Kit, Hint: hint,
		Done: func(answer string) tea.Cmd {
			r := m.request
			if chosen, rest := kit.Editions(k, answer); len(chosen) > 0 {
				r.Editions, answer = chosen, rest
			}
			r.Kit = state.Expand(answer)
			return m.planWith(r)
		}})
	return nil
}

// askConsent wants the drive's name typed.
func (m *Model) askConsent() tea.Cmd {
	if m.plan == nil || m.report != nil || !m.idle() {
		return nil
	}
	d := m.plan.Drive
	word := d.Serial
	if word == "" {
		word = d.Name()
	}
	hint := "no games or files were recognized on it"
	if m.plan.Loses != "" {
		hint = "this will be lost: " + m.plan.Loses
	}
	prompt := fmt.Sprintf("Everything on it will be erased. Type %s to continue: ", word)
	m.d.Ask(state.Question{Prompt: prompt, Hint: hint, Done: func(answer string) tea.Cmd {
		c := drives.Consent{Typed: answer}
		if err := d.Agreed(drives.Consent{Typed: answer, Fixed: true}); err != nil {
			m.d.Notice = "That is not the drive's name. Nothing was changed."
			return nil
		}
		if !d.Fixed() {
			return m.ready(c)
		}
		return func() tea.Msg {
			return state.AskMsg{Question: state.Question{Prompt: "It is built into this computer. Type built in to " +
				"confirm that too: ", Hint: "built in", Done: func(answer string) tea.Cmd {
				if !strings.EqualFold(answer, "built in") {
					m.d.Notice = "Not confirmed. Nothing was changed."
					return nil
				}
				c.Fixed = true
				return m.ready(c)
			}}}
		}
	}})
	return nil
}

// ready carries the plan out.
func (m *Model) ready(c drives.Consent) tea.Cmd {
	p, sys := m.plan, m.d.System
	events := make(chan prepare.Event, len(p.Steps)+1)
	work := m.do("preparing "+p.Drive.Name(), func(context.Context) doneMsg {
		defer close(events)
		// Leaving the screen does not break it off: half prepared, the drive would be of no use.
		r, err := p.Do(context.Background(), sys, c, func(e prepare.Event) { events <- e })
		return doneMsg{
			err:    err,
			change: true,
			then:   func(m *Model) tea.Cmd { return m.d.Reformatted(r) },
			take: func(m *Model) {
				m.report = r
				if err != nil {
					m.event.Step = -1
				}
			},
		}
	})
	return tea.Batch(work, follow(events))
}

// follow waits for the next event.
func follow(events <-chan prepare.Event) tea.Cmd {
	return func() tea.Msg {
		e, ok := <-events
		if !ok {
			return nil
		}
		return eventMsg{e, events}
	}
}

// Next is the step that brings forward what is shown of a drive; ok is false where there is none of the panel's own.
func (m *Model) Next() (n state.Next, ok bool) {
	switch {
	case m.show == preparing && m.plan != nil && m.report == nil && m.busy == "":
		return state.Next{Screen: state.OnDrives, Key: "W", Say: "prepare " + m.plan.Drive.Name() +
			"; its name is asked for first"}, true
	case m.show == titles && len(m.disk.wish) > 0:
		return state.Next{Screen: state.OnDrives, Key: "W", Say: "write the switches that were turned"}, true
	}
	return n, false
}

func (m *Model) readyWhy() state.Why {
	p := m.plan
	if p == nil {
		return state.Why{}
	}
	switch {
	case m.report != nil && m.report.Good():
		return state.Why{Lead: p.Drive.Name() + " is ready.",
			Say: fmt.Sprintf("It took %.1f s, and the check found no problems: %s and %s on it.",
				m.report.Took.Seconds(), size.Count(m.report.Folders, "folder"), size.Count(m.report.Files, "file")),
			Ways: []string{"the titles selected for it are kept", "b goes back to the drives"}}
	case m.report != nil:
		return state.Why{Lead: p.Drive.Name() + ".", Say: "It is prepared, but the check found a problem: " +
			strings.Join(m.report.Wrong, " ")}
	case m.busy != "":
		return state.Why{Lead: p.Drive.Name() + ".", Say: "Preparing the drive. Do not unplug it."}
	}
	loses := "Nothing that was recognized will be lost."
	if p.Loses != "" {
		loses = "This will be lost: " + p.Loses + "."
	}
	return state.Why{Lead: p.Drive.Name() + ".", Say: loses + " Nothing has been written yet.",
		Ways: []string{"enter asks for its name, and prepares it", "esc cancels"}}
}

// askImage shows an image file, or makes one.
func (m *Model) askImage() tea.Cmd {
	if !m.idle() {
		return nil
	}
	m.d.Ask(state.Question{Prompt: "Image file, or address: ",
		Hint: "a path; with a size behind it, such as  north.img 58GiB, a new one; or an address, such as  " +
			"nbd://192.168.0.20/disk", Done: func(answer string) tea.Cmd {
			if answer == "" {
				return nil
			}
			if nbd.IsAddress(answer) {
				m.d.Images = append(m.d.Images, answer)
				m.want = answer
				return m.d.FindDrives()
			}
			name, n, err := m.newImage(answer)
			if err == nil && n > 0 {
				err = drives.MakeImage(name, n)
			} else if info, bad := os.Stat(name); bad != nil || !info.Mode().IsRegular() {
				err = fmt.Errorf("there is no image file %s; add a size to create it: %s 58GiB", name,
					filepath.Base(name))
			}
			if err != nil {
				m.d.Notice = state.Sentence(err.Error())
				return nil
			}
			m.d.Images = append(m.d.Images, name)
			m.want = name
			return m.d.FindDrives()
		}})
	return nil
}

// newImage reads the path of an image file, and the size that may stand behind it for a new one; 0 for none.
func (m *Model) newImage(answer string) (name string, n int64, err error) {
	name = strings.TrimSpace(answer)
	if i := strings.LastIndexByte(name, ' '); i > 0 {
		if n, err = size.Parse(name[i+1:]); err == nil {
			name = strings.TrimSpace(name[:i])
		} else {
			n = 0
		}
	}
	name = state.Expand(name)
	if !filepath.IsAbs(name) && m.d.Bench.File() != "" {
		name = filepath.Join(filepath.Dir(m.d.Bench.File()), name)
	}
	name, err = filepath.Abs(name)
	return name, n, err
}
