// Package treeview is the third stage: what a place will hold, every path with
// the rule that made it.
package treeview

import (
	"fmt"
	"path"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/layout"
	"polytome/internal/place"
	"polytome/internal/size"
	"polytome/internal/ui/desk"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/style"
)

// Model is the stage.
type Model struct {
	d      *desk.Desk
	list   scroll.List
	lines  []line
	filter string
	fresh  int
}

// line is one file or folder of the tree.
type line struct {
	path   string
	folder bool
	size   int64
	state  string // new, kept
	rule   string // why it is there
	title  string
	order  string // by which the tree is sorted
}

// New makes the stage.
func New(d *desk.Desk) *Model { return &Model{d: d} }

// Name is the stage's name on the rail.
func (m *Model) Name() string { return "Tree" }

// Number is the number of new titles.
func (m *Model) Number() string {
	s := m.d.Current()
	if s == nil {
		return "0"
	}
	return fmt.Sprintf("+%d", s.Sheet.New)
}

// SetFilter shows only paths that contain the words.
func (m *Model) SetFilter(f string) {
	m.filter = f
	m.Refresh()
}

// Escape undoes what narrows the list; it reports whether there was something.
func (m *Model) Escape() bool {
	had := m.filter != ""
	m.SetFilter("")
	return had
}

// Title is the title under the cursor; the tree shows files, so there is none.
func (m *Model) Title() (int, bool) { return 0, false }

// Refresh makes the tree anew.
func (m *Model) Refresh() {
	s := m.d.Current()
	m.lines, m.fresh = m.lines[:0], 0
	if s == nil {
		m.list.Resize(0, 1)
		return
	}
	fold := s.Facts.Filesystem.Fold
	byPath := make(map[string]line, len(s.There)+s.Sheet.New)
	for _, e := range s.There {
		l := line{path: e.Path, folder: e.Folder, size: e.Size, state: "kept", rule: "was there before, and stays"}
		if place.IsTemporary(e.Path) {
			l.state, l.rule = "leftover", "half a file from a broken-off run; the next run clears it"
		}
		byPath[fold(e.Path)] = l
	}
	for i, v := range s.Sheet.Verdicts {
		if !s.Sheet.Chosen[i] || !v.Kind.Goes() {
			continue
		}
		pl := &s.Tree.Placements[i]
		for k := range pl.Items {
			item := &pl.Items[k]
			l := line{path: item.Path, size: item.Size, state: "new", rule: pl.Because(item), title: s.Titles[i].Label()}
			if was, ok := byPath[fold(item.Path)]; ok {
				l.path, l.state = was.path, "kept"
			} else {
				m.fresh++
			}
			byPath[fold(item.Path)] = l
			for _, dir := range layout.Folders(item.Path) {
				if _, ok := byPath[fold(dir)]; !ok {
					byPath[fold(dir)] = line{path: dir, folder: true, state: "new", rule: item.Rule}
				}
			}
		}
	}
	for folded, l := range byPath {
		if desk.HasWords(l.path, m.filter) {
			l.order = strings.ReplaceAll(folded, "/", "\x00") // what is in a folder comes right behind it
			m.lines = append(m.lines, l)
		}
	}
	slices.SortFunc(m.lines, func(a, b line) int { return strings.Compare(a.order, b.order) })
	from, to := m.list.Window()
	m.list.Resize(len(m.lines), max(1, to-from))
}

// Actions are the keys of the stage.
func (m *Model) Actions() []desk.Action { return desk.Movement(&m.list) }

// Click moves the cursor.
func (m *Model) Click(_, y int) tea.Cmd {
	m.list.Click(y - 1)
	return nil
}

// Wheel scrolls.
func (m *Model) Wheel(by int) { m.list.Move(by) }

// Why names the rule behind the path under the cursor.
func (m *Model) Why() desk.Why {
	if m.list.Cursor >= len(m.lines) || m.list.Cursor < 0 {
		return desk.Why{Lead: "Nothing", Say: "is there, and nothing is planned."}
	}
	l := m.lines[m.list.Cursor]
	w := desk.Why{Lead: l.path + ": " + l.state + ".", Say: strings.ToUpper(l.rule[:1]) + l.rule[1:] + "."}
	if l.title != "" {
		w.Say = "It is " + l.title + ". " + w.Say
	}
	return w
}

// View draws the stage.
func (m *Model) View(t *style.Theme, w, h int) []string {
	pathWidth := w - 1 - 12 - 10 - 2
	out := []string{t.Row(w, false, style.Cell{Text: m.heading(), Width: pathWidth, FG: t.Dim},
		style.Cell{Text: "size", Width: 11, Right: true, FG: t.Dim}, style.Cell{Text: "", Width: 9})}
	m.list.Resize(len(m.lines), h-1)
	from, to := m.list.Window()
	for i := from; i < to; i++ {
		l := m.lines[i]
		depth := strings.Count(l.path, "/")
		name := strings.Repeat("   ", depth) + style.Clean(path.Base(l.path))
		bytes := size.Column(l.size)
		if l.folder {
			name, bytes = name+"/", ""
		}
		state, fg := l.state, t.Dim
		if l.state == "new" {
			fg = t.Good
		} else if l.state != "kept" {
			fg = t.Warn
		}
		c := style.Cell{Text: name, Width: pathWidth, Bold: l.folder}
		if l.state == "kept" {
			c.FG = t.Dim
		}
		out = append(out, t.Row(w, i == m.list.Cursor, c, style.Cell{Text: bytes, Width: 11, Right: true, FG: c.FG}, style.Cell{Text: state, Width: 9, FG: fg}))
	}
	return t.Block(out, w, h)
}

func (m *Model) heading() string {
	s := m.d.Current()
	if s == nil {
		return "the place has not been looked at yet"
	}
	return fmt.Sprintf("%s: %s, nothing leaves", style.Clean(s.Config.Name), size.Count(m.fresh, "new file"))
}
