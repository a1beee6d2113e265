package state

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/arrange"
	"polytome/internal/core/bench"
	"polytome/internal/core/check"
)

// AskSections asks how the console's list of target n is to be divided.
func (d *State) AskSections(n int) {
	s := d.At(n).Survey
	if s == nil || d.busy() {
		return
	}
	if !s.Arranges().Sections {
		d.Notice = fmt.Sprintf("The list of %s has no sections that could be set.", s.Shown())
		return
	}
	set := d.LaterWith(n, func(n int, answer string) tea.Cmd {
		wish, err := arrange.ParseSections(strings.TrimSpace(answer))
		if err != nil {
			d.Notice = Sentence(err.Error())
			return nil
		}
		return d.SetUp(n, fmt.Sprintf("The console's list: %s. u undoes.", &wish), func(p *bench.Target) {
			wish.Sequence, wish.In = p.List.Sequence, p.List.In
			p.List = wish
		})
	})
	d.Ask(Question{Prompt: "Sections of the console's list: ",
		Hint: "none, letters, parts:40 (at most 40 in each), one:Added (all in one); tab completes",
		Suggestions: []string{"none", "letters", fmt.Sprintf("parts:%d", arrange.UsualMost),
			"one:" + arrange.UsualName}, Done: set})
}

// AskSection asks in which section of the console's list a title stands.
func (d *State) AskSection(n int, l *check.Listed) {
	i, key, ok := d.listed(n, l)
	if !ok || d.busy() {
		return
	}
	if _, section := d.At(n).Survey.Placeable(i); !section {
		d.Notice = fmt.Sprintf("%s cannot be in a section: the console has none for such titles.", l.Name)
		return
	}
	have := []string{}
	if r := d.At(n).Foreseen.Report; r != nil {
		for k := range r.Listed {
			if in := r.Listed[k].Section; in != "" && !slices.Contains(have, in) {
				have = append(have, in)
			}
		}
	}
	name := l.Name
	set := d.LaterWith(n, func(n int, answer string) tea.Cmd {
		list, section := d.Bench.Targets[n].List, strings.TrimSpace(answer)
		if err := list.Put(key, section); err != nil {
			d.Notice = Sentence(err.Error())
			return nil
		}
		say := fmt.Sprintf("%s will stand in the section %s. u undoes.", name, section)
		if section == "" {
			say = name + " will stand in the list itself. u undoes."
		}
		return d.SetUp(n, say, func(p *bench.Target) { p.List = list })
	})
	d.Ask(Question{Prompt: fmt.Sprintf("Section for %s: ", name), Value: l.Section,
		Hint: "a new name makes a section; empty for the list itself", Suggestions: have, Done: set})
}

// MoveListed puts a title earlier or later among those of its section, of all that the list shows.
func (d *State) MoveListed(n int, all []check.Listed, at, by int) tea.Cmd {
	l := &all[at]
	i, key, ok := d.listed(n, l)
	if !ok {
		return nil
	}
	s := d.At(n).Survey
	if place, _ := s.Placeable(i); !place {
		d.Notice = fmt.Sprintf("%s stays where its name has it: the console sorts such titles itself.", l.Name)
		return nil
	}
	var keys []string
	for k := range all {
		o, ok := s.ListedTitle(&all[k])
		if !ok || all[k].Section != l.Section || all[k].Loader != l.Loader {
			continue
		}
		if place, _ := s.Placeable(o); place {
			keys = append(keys, s.Titles[o].Key)
		}
	}
	list := d.Bench.Targets[n].List
	if list.Sections == "" {
		list.Sections = arrange.None
	}
	if !list.Move(key, by, keys) {
		d.Notice = fmt.Sprintf("%s stands at the end of its section.", l.Name)
		return nil
	}
	return d.SetUp(n, fmt.Sprintf("%s moves in the console's list with the next run. u undoes.", l.Name),
		func(p *bench.Target) { p.List = list })
}

// FavourListed makes the title behind a line of the console's list a favourite, or none any longer.
func (d *State) FavourListed(n int, l *check.Listed) tea.Cmd {
	i, _, ok := d.listed(n, l)
	if !ok {
		return nil
	}
	return d.Favour([]int{i})
}

// listed is the title behind a line of the console's list; it says where there is none.
func (d *State) listed(n int, l *check.Listed) (i int, key string, ok bool) {
	s := d.At(n).Survey
	switch {
	case s == nil || l == nil:
		return 0, "", false
	case l.BuiltIn:
		d.Notice = l.Name + " is built into the console: it stays where it is."
		return 0, "", false
	}
	if i, ok = s.ListedTitle(l); !ok {
		d.Notice = l.Name + " is none of the titles of this bench, so it cannot be arranged here."
		return 0, "", false
	}
	return i, s.Titles[i].Key, true
}

// relist looks again at targets whose consoles will show another list than when they were looked at, as titles are
// chosen now.
func (d *State) relist() tea.Cmd {
	var all []tea.Cmd
	for n := range d.Bench.Targets {
		if s := d.At(n).Survey; s != nil && s.ListChanged(d.Bench, n) {
			all = append(all, d.SurveyTarget(n))
		}
	}
	return tea.Batch(all...)
}
