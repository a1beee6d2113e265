package gamesview

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/title"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// fields shows what can be set by hand.
func (m *Model) fields(t *style.Theme, w, h int) []string {
	i, ok := m.Title()
	if !ok {
		return t.Block([]string{t.Rule("nothing to edit", w)}, w, h)
	}
	tt := &m.d.Scan.Titles[i]
	lines := []string{t.Rule("edit "+style.Clean(tt.Label())+": enter edits, l locks, esc closes", w)}
	for k, f := range title.Editable {
		value, from := *tt.Value(f), "unknown"
		for _, d := range tt.Discs {
			for _, e := range d.Evidence {
				if e.Field == f {
					from = "from " + e.From
				}
			}
			if from != "unknown" {
				break
			}
		}
		if value != "" && from == "unknown" {
			from = "from what the file is"
		}
		if slices.Contains(tt.Locked, f) && !strings.Contains(from, "locked") {
			from += ", locked"
		}
		c := []style.Cell{{Text: f, Width: 10, FG: t.Dim}, {Text: value, Width: max(12, min(48, w/2))},
			{Text: strings.Replace(from, "from set by hand", "set by hand", 1), Width: w, FG: t.Dim}}
		lines = append(lines, t.Row(w, k == m.field, c...))
	}
	return t.Block(lines, w, h)
}

// fieldActions are the keys while fields are edited.
func (m *Model) fieldActions() []state.Action {
	move := func(by int) func() tea.Cmd {
		return state.Just(func() { m.field = (m.field + by + len(title.Editable)) % len(title.Editable) })
	}
	return []state.Action{
		state.Do("up k", "the field above", move(-1)),
		state.Do("down j", "the field below", move(1)),
		state.Do("enter e", "change it", state.Just(m.change)),
		state.Do("l", "lock or unlock it", func() tea.Cmd {
			return m.with(func(t title.Title) tea.Cmd { return m.d.LockField(t, title.Editable[m.field]) })
		}),
		state.Do("delete backspace", "use the file's", func() tea.Cmd {
			return m.with(func(t title.Title) tea.Cmd { return m.d.SetField(t, title.Editable[m.field], "") })
		}),
	}
}

func (m *Model) edit() {
	if _, ok := m.Title(); ok {
		m.editing = true
	}
}

// change asks for the value of a field.
func (m *Model) change() {
	i, ok := m.Title()
	if !ok {
		return
	}
	t := m.d.Scan.Titles[i]
	field := title.Editable[m.field]
	q := state.Question{Prompt: field + ": ", Value: *t.Value(field), Hint: "empty uses what the file says",
		Done: func(v string) tea.Cmd { return m.setField(t, field, v) }}
	if field == "platform" {
		for _, p := range m.d.Set.Platforms {
			q.Suggestions = append(q.Suggestions, p.Name)
		}
		q.Hint = "tab completes the name of a platform"
	}
	m.d.Ask(q)
}

// setField checks a value before it is kept.
func (m *Model) setField(t title.Title, field, v string) tea.Cmd {
	p := m.d.Set.Platform(t.Platform)
	switch {
	case field == "platform" && v != "" && m.d.Set.Platform(v) == nil:
		m.d.Notice = fmt.Sprintf("There is no platform %q; the nearest is %s.", v, m.d.Set.NearestPlatform(v))
		return nil
	case field == "ID" && v != "" && p != nil && p.Fields.ID.Pattern.Regexp != nil &&
		!p.Fields.ID.Pattern.MatchString(v):
		m.d.Notice = fmt.Sprintf("%q is not an ID of the %s: those are like %s.", v, p.Shown, p.Fields.ID.Pattern)
		return nil
	case v == *t.Value(field):
		return nil
	}
	return m.d.SetField(t, field, v)
}
