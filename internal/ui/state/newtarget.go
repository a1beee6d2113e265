package state

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/survey"
	"polytome/internal/target/drive"
	"polytome/internal/target/folder"
	"polytome/internal/target/protocols"
	"polytome/internal/target/served"
)

// Address takes what someone has written for a target: a folder, an image, or the address of a console or share.
// remote is set for the last two.
func Address(text string) (at string, isRemote bool, err error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return "", false, errors.New("type a folder, or an address such as " + protocols.Examples("or"))
	}
	if p, _, err := protocols.Parse(text); p != nil {
		return text, true, err
	}
	if _, ok := drive.ParseAddress(text); ok || served.Is(text) && text != served.Scheme {
		return text, false, nil
	}
	path, err := filepath.Abs(Expand(text))
	if err != nil {
		return "", false, err
	}
	if at := drive.AddressOf(path); at != path { // an image or a device
		return at, false, nil
	}
	p, err := folder.Open(path, folder.Options{})
	if err == nil {
		err = p.Close()
	}
	return path, false, err
}

// nameOf is what a new target is named: by the end of its address, or its host.
func nameOf(at string) string {
	if p, a, _ := protocols.Parse(at); p != nil {
		if a.Root == "" {
			return a.Host
		}
		return a.Host + " " + filepath.Base(a.Root)
	}
	return filepath.Base(strings.TrimPrefix(strings.TrimPrefix(at, drive.Scheme), served.Scheme))
}

// NewTarget is a target as it comes about from its address.
func NewTarget(at string, p *loader.Profile) bench.Target {
	t := bench.Target{Name: nameOf(at), At: at, Loader: p.Name, Everything: true}
	if _, ok := drive.ParseAddress(at); !ok { // of a drive, what is on it says how it is read
		t.Via = survey.WayTo(at, p, "")
		t.Stick = survey.StickOfLetter(at)
	}
	if served.Is(at) { // it shows what is selected, and nothing is lost
		t.DeleteOthers = true
	}
	return t
}

// AskTarget asks for the address of a further target, and for its loader.
func (d *State) AskTarget() {
	if d.busy() {
		return
	}
	d.Ask(Question{Prompt: "Add the target: ",
		Hint: "a folder, an image, " + protocols.Examples("or") + "; " + served.Scheme +
			"NAME has games be played from here",
		Done: func(answer string) tea.Cmd {
			at, _, err := Address(answer)
			if err != nil {
				d.Notice = Sentence(err.Error())
				return nil
			}
			var names []string
			for _, p := range d.Set.Profiles {
				names = append(names, p.Name)
			}
			return func() tea.Msg {
				return AskMsg{Question{Prompt: "Which loader reads it? ", Hint: strings.Join(names, ", "),
					Suggestions: names, Done: func(name string) tea.Cmd {
						p, err := d.Set.Profile(strings.ToLower(name))
						if err != nil {
							d.Notice = Sentence(err.Error())
							return nil
						}
						return d.addTarget(NewTarget(at, p))
					}}}
			}
		}})
}

// addTarget takes a target onto the bench, with nothing chosen for it yet.
func (d *State) addTarget(p bench.Target) tea.Cmd {
	if d.busy() {
		return nil
	}
	for base, n := p.Name, 2; slices.ContainsFunc(d.Bench.Targets,
		func(x bench.Target) bool { return strings.EqualFold(x.Name, p.Name) }); n++ {
		p.Name = fmt.Sprintf("%s %d", base, n)
	}
	p.Everything = false
	d.remember()
	d.Bench.Targets = append(d.Bench.Targets, p)
	d.resize()
	d.Target = len(d.Bench.Targets) - 1
	d.Notice = p.Name + " is now a target: select titles for it in Fit. u undoes."
	return tea.Batch(d.Survey(), d.changed())
}

// Mounted are the folders in which drives are mounted.
func (d *State) Mounted() (at []string) {
	for _, f := range d.Drives {
		at = append(at, f.MountPoints()...)
	}
	return at
}

// AskAlike asks for another stick that is like target n: what is selected for one of them is for all.
func (d *State) AskAlike(n int) {
	if n >= len(d.Bench.Targets) || d.busy() {
		return
	}
	add := d.LaterWith(n, func(n int, answer string) tea.Cmd {
		at, _, err := Address(answer)
		if err != nil {
			d.Notice = Sentence(err.Error())
			return nil
		}
		before := d.Bench.Clone()
		d.remember()
		n, err = survey.AddAlike(d.Ctx, d.Bench, n, at, d.Remembered.Volumes)
		if err != nil {
			d.Bench.Targets = before.Targets
			d.undo = d.undo[:len(d.undo)-1]
			d.Notice = Sentence(err.Error())
			return nil
		}
		d.resize()
		p := &d.Bench.Targets[n]
		d.Target = n
		d.Notice = fmt.Sprintf("%s is like %s: what you select for one of them is for all. u undoes.", p.Name, p.Like)
		return tea.Batch(d.Survey(), d.changed())
	})
	d.Ask(Question{Prompt: "Another stick like " + d.Bench.Targets[n].Name + ": ", Suggestions: d.Mounted(),
		Hint: "the folder in which it is mounted; it gets the same titles", Done: add})
}
