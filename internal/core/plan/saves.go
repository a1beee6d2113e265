package plan

import (
	"fmt"
	"path"
	"strings"

	"polytome/internal/core/fit"
	"polytome/internal/core/saves"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
)

// A Save belongs to the player of a title: it follows the title to its new name, or comes along from what is kept.
type Save struct {
	Title int
	From  string // where it is on the target; "" for one that comes along
	To    string
	// Version is the one that comes along, and Files the files of this computer that have its bytes, in its order.
	Version saves.Version
	Files   []title.File
	// WithTitle is set for one that comes only where the title comes, too.
	WithTitle bool
	// Note is why nothing comes along, in a sentence; "" where something does.
	Note string
	Why  string
}

// saves plans what becomes of the saves of chosen titles. What is on the target under the path already stays.
func (m *maker) saves() {
	for i := range m.o.Saves {
		s := &m.o.Saves[i]
		kind := m.sheet.Verdict(s.Title).Kind
		if !m.sheet.Chosen[s.Title] || !kind.Goes() || s.WithTitle && kind == fit.Present {
			continue
		}
		switch {
		case s.Note != "":
			m.plan.Notes = append(m.plan.Notes, s.Note+".")
		case s.From == "":
			m.along(s)
		case !m.carried[s.Title]:
			t := &m.sheet.Titles()[s.Title]
			if _, taken := m.sheet.At(s.To); taken {
				m.plan.Notes = append(m.plan.Notes, fmt.Sprintf("%s keeps its name: there is a save at %s already.",
					s.From, s.To))
				continue
			}
			m.moves = append(m.moves, m.move(s.From, s.To, t, "the save of a title follows its name"))
		}
	}
}

// along plans the files of a save that comes along, if there is space for all of them.
func (m *maker) along(s *Save) {
	t := &m.sheet.Titles()[s.Title]
	var steps []Step
	var space int64
	for k := range s.Files {
		f, is := s.Files[k], &s.Version.Files[k]
		to := path.Join(s.To, is.Path)
		need := m.facts.SpaceFor(to, f.Size)
		space += need
		steps = append(steps, Step{Kind: Copy, Path: to, Title: t.Key, Label: t.Label(), Why: s.Why, Size: f.Size,
			Space: need, Make: &shape.Spec{Source: f, Size: f.Size, With: &shape.With{Dated: is.Modified}}})
	}
	if m.brought+space > m.sheet.Free() {
		m.plan.Notes = append(m.plan.Notes,
			fmt.Sprintf("There is no space for the save of %s, which is kept as number %d.",
				t.Label(), s.Version.Number))
		return
	}
	m.brought += space
	for k := range steps {
		steps[k].Path = m.at(steps[k].Path)
	}
	m.puts = append(m.puts, steps...)
	v := s.Version
	v.Path = steps[0].Path
	if below := v.Files[0].Path; below != "" {
		v.Path = strings.TrimSuffix(v.Path, "/"+below)
	}
	m.plan.Saves = append(m.plan.Saves, v)
}
