// Package loadersview is the panel of the loaders: the rules of one in sentences, and
// beside them the tree that they make of the user's own titles.
package loadersview

import (
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/strict"
	"polytome/internal/draw"
	"polytome/internal/target"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
)

// Model is the panel.
type Model struct {
	d       *state.State
	at      int // the loader that is shown, an index into the list
	reach   int // how it is reached, an index into its ways
	onTree  bool
	rules   scroll.List
	ruleRow []ruleLine
	rows    int // width that the rules were broken for
	tree    scroll.List
	lines   []layout.Line // that are shown
	all     []layout.Line
	left    []leftOut
	filter  string
	made    request // what the tree was made of
	asked   request // what the tree under way is made of
	known   int     // reading of the loaders that is shown
	name    string  // of the loader that is shown, to find it again
	opened  bool
	paneTop int
	split   int // column at which the tree begins; 0 for one pane
}

// leftOut is a title that the loader does not take.
type leftOut struct {
	title int
	why   *layout.Refusal
}

// request is what a tree is made of.
type request struct {
	profile *loader.Profile
	reach   int
	titles  int
	scan    string
}

// entry is one loader of the list: one that works, or a file with a mistake.
type entry struct {
	profile *loader.Profile
	broken  *loader.Broken
}

func (e entry) name() string {
	if e.broken != nil {
		return strings.TrimSuffix(filepath.Base(e.broken.File), ".toml")
	}
	return e.profile.Name
}

// New makes the panel.
func New(d *state.State) *Model { return &Model{d: d} }

// list is every loader: those that work by name, then the broken ones.
func (m *Model) list() []entry {
	var out []entry
	for _, p := range m.d.Set.Profiles {
		out = append(out, entry{profile: p})
	}
	for i := range m.d.Set.Broken {
		out = append(out, entry{broken: &m.d.Set.Broken[i]})
	}
	return out
}

// Open shows the loader of the target that is shown.
func (m *Model) Open() tea.Cmd {
	if m.d.Target < len(m.d.Bench.Targets) && !m.opened && m.d.Learnt == "" {
		m.name = m.d.Bench.Targets[m.d.Target].Loader
	}
	m.opened = true
	m.Refresh()
	return m.d.WatchLoaders()
}

// Name is the panel's name.
func (m *Model) Name() string { return "Loaders" }

// Number is the number of loaders.
func (m *Model) Number() string { return fmt.Sprint(len(m.list())) }

// Refresh finds the loader that was shown again.
func (m *Model) Refresh() {
	all := m.list()
	m.at = max(0, min(m.at, len(all)-1))
	if name := m.d.Learnt; name != "" && slices.ContainsFunc(all, func(e entry) bool { return e.name() == name }) {
		m.name, m.d.Learnt, m.opened = name, "", true
	}
	for i, e := range all {
		if e.name() == m.name {
			m.at = i
		}
	}
	if len(all) > 0 {
		m.name = all[m.at].name()
	}
	if m.known != m.d.Loaders {
		m.known, m.rows = m.d.Loaders, 0
		if m.current().broken != nil {
			m.d.Notice = "" // what is wrong with the file matters now
		}
	}
}

// current is the loader that is shown.
func (m *Model) current() entry {
	all := m.list()
	if m.at >= len(all) {
		return entry{}
	}
	return all[m.at]
}

// way is one way of reaching the loader.
type way struct {
	at *loader.Attachment
	fs target.Filesystem
}

// ways are how the loader can be reached: each attachment with each of its filesystems.
func ways(p *loader.Profile) []way {
	var out []way
	for i := range p.Attachments {
		a := &p.Attachments[i]
		for _, name := range a.Filesystems {
			if name == "any" || name == "own" {
				name = a.DefaultFilesystem()
			}
			if fs, err := target.FilesystemNamed(name); err == nil {
				out = append(out, way{a, fs})
			}
		}
	}
	return out
}

func (m *Model) way(p *loader.Profile) way {
	all := ways(p)
	return all[m.reach%len(all)]
}

// wayShown is a way in words.
func wayShown(w way) string {
	fs := w.fs.Shown
	if !slices.Contains(w.at.Filesystems, w.fs.Name) {
		fs = "any filesystem"
		if slices.Contains(w.at.Filesystems, "own") {
			fs = "its own disk"
		}
	}
	return fmt.Sprintf("%s, %s, %s", w.at.Name, w.at.Via, fs)
}

// A TreeMsg is the tree that a loader makes of the titles.
type TreeMsg struct {
	of   request
	all  []layout.Line
	left []leftOut
}

// Work begins what the panel needs and has not: the tree of the loader that is shown.
func (m *Model) Work() tea.Cmd {
	e := m.current()
	if e.profile == nil {
		return nil
	}
	want := request{e.profile, m.reach, len(m.d.Scan.Titles), fmt.Sprintf("%d %t", m.d.Scan.Files, m.d.Scanning)}
	if want == m.made || want == m.asked {
		return nil
	}
	m.asked = want
	titles, p, w, set := m.d.Scan.Titles, e.profile, m.way(e.profile), m.d.Set
	return func() tea.Msg {
		t := layout.Lay(titles, p, layout.Destination{Attachment: w.at, Filesystem: w.fs, Set: set})
		msg := TreeMsg{of: want, all: t.Outline()}
		for i := range titles {
			if r := t.Placements[i].Refusal; r != nil {
				msg.left = append(msg.left, leftOut{i, r})
			}
		}
		return msg
	}
}

// Update takes over the profiles when they were read again, trees, and what came of editing and learning.
func (m *Model) Update(msg tea.Msg, _ bool) (t state.Taken, ok bool) {
	switch msg := msg.(type) {
	case state.LoadersMsg:
		t.Cmd, t.Refresh = m.d.SetLoaders(msg), true
		m.Refresh()
	case TreeMsg:
		m.setTree(msg)
	case EditedMsg:
		t.Cmd = m.edited(msg)
	default:
		return t, false
	}
	return t, true
}

// setTree takes over a tree; one that was made of something else meanwhile is dropped.
func (m *Model) setTree(msg TreeMsg) {
	if msg.of != m.asked {
		return
	}
	m.made, m.all, m.left = msg.of, msg.all, msg.left
	m.narrow()
}

// ready reports whether the tree is that of the loader that is shown.
func (m *Model) ready() bool {
	return m.made.profile == m.current().profile && m.made.reach == m.reach
}

func (m *Model) narrow() {
	m.lines = m.lines[:0]
	for _, l := range fold(m.all) {
		if state.HasWords(l.Path, m.filter) {
			m.lines = append(m.lines, l)
		}
	}
	from, to := m.tree.Window()
	m.tree.Resize(len(m.lines), max(1, to-from))
}

// manyPictures is from how many pictures in a folder on they are shown as one line.
const manyPictures = 3

// fold brings the pictures of a folder, which are many and all alike, into one line.
func fold(all []layout.Line) []layout.Line {
	var out []layout.Line
	for i := 0; i < len(all); {
		end := i
		for end < len(all) && all[end].Shape == shape.Fitted && path.Dir(all[end].Path) == path.Dir(all[i].Path) {
			end++
		}
		if end-i < manyPictures {
			end = max(i+1, end)
			out = append(out, all[i:end]...)
		} else {
			l := all[i]
			l.Path = path.Join(path.Dir(l.Path), fmt.Sprintf("%d pictures, %s …", end-i, l.Name()))
			l.Title = -1
			out = append(out, l)
		}
		i = end
	}
	return out
}

// SetFilter shows only paths that contain the words.
func (m *Model) SetFilter(f string) {
	m.filter = f
	m.narrow()
}

// Escape undoes what narrows the tree; it reports whether there was something.
func (m *Model) Escape() bool {
	had := m.filter != ""
	m.SetFilter("")
	return had
}

// Drawing is what paper shows of the panel.
func (m *Model) Drawing() draw.Request { return m.d.Drawn(draw.KindTree) }

// Title is the title under the cursor.
func (m *Model) Title() (int, bool) { return 0, false }

// Actions are the keys of the panel.
func (m *Model) Actions() []state.Action {
	list := &m.rules
	if m.onTree {
		list = &m.tree
	}
	shown, target := m.current().profile, m.d.Target < len(m.d.Bench.Targets)
	return append([]state.Action{
		state.Do("left h", "the loader before", state.Just(func() { m.turn(-1) })),
		state.Do("right l", "the next loader", state.Just(func() { m.turn(1) })),
		state.Do("tab", "the other side", state.Just(func() { m.onTree = !m.onTree })),
		state.Do("v", "another way to reach it", state.Just(m.nextWay)).
			When(shown != nil && len(ways(shown)) > 1),
		state.Do("e", "edit the profile", m.edit).When(m.file() != ""),
		state.Do("c", "copy it to your own", m.copy).
			When(shown != nil && !shown.Own && m.d.OwnDir != ""),
		state.Do("n", "teach: learn one from the target", m.learn).When(target),
		state.Do("p", "fill the target for this loader", m.use).When(target && shown != nil),
	}, state.Movement(list)...)
}

func (m *Model) turn(by int) {
	all := m.list()
	if len(all) == 0 {
		return
	}
	m.at = (m.at + by + len(all)) % len(all)
	m.name, m.reach, m.rows = all[m.at].name(), 0, 0
	m.rules.Home()
	m.tree.Home()
}

func (m *Model) nextWay() {
	if p := m.current().profile; p != nil {
		m.reach = (m.reach + 1) % len(ways(p))
		m.tree.Home()
	}
}

// file is that of the loader that is shown, "" for one that ships.
func (m *Model) file() string {
	e := m.current()
	switch {
	case e.broken != nil:
		return e.broken.File
	case e.profile != nil && e.profile.Own:
		return e.profile.File
	}
	return ""
}

func (m *Model) copy() tea.Cmd {
	p := m.current().profile
	switch {
	case p == nil:
		m.d.Notice = "This file is already yours: e edits it."
		return nil
	case m.d.OwnDir == "":
		m.d.Notice = "There is no folder for your own profiles."
		return nil
	}
	file, err := p.Copy(m.d.OwnDir)
	if err != nil {
		m.d.Notice = state.Sentence(err.Error())
		return nil
	}
	m.d.Notice = fmt.Sprintf("Your copy is %s and replaces the shipped one: e edits it.", file)
	return tea.Batch(m.d.Reload(), m.d.WatchLoaders())
}

// learn has a loader be learnt from the target that is shown.
func (m *Model) learn() tea.Cmd {
	d := m.d
	if d.Target >= len(d.Bench.Targets) || d.OwnDir == "" {
		d.Notice = "There is no target to learn from."
		return nil
	}
	c := d.Bench.Targets[d.Target]
	return d.Teach(state.Teaching{At: d.Bench.Resolve(c.At), Name: c.Name, Config: c})
}

func (m *Model) use() tea.Cmd {
	p := m.current().profile
	if p == nil {
		m.d.Notice = "A profile with a mistake cannot be used: e edits it."
		return nil
	}
	return m.d.UseLoader(m.d.Target, p)
}

// mistakes are the errors of a broken file, one by one.
func mistakes(err error) []*strict.Error {
	var one *strict.Error
	if many, ok := err.(interface{ Unwrap() []error }); ok {
		var out []*strict.Error
		for _, e := range many.Unwrap() {
			out = append(out, mistakes(e)...)
		}
		return out
	}
	if errors.As(err, &one) {
		return []*strict.Error{one}
	}
	return []*strict.Error{{Say: err.Error()}}
}

// Click moves the cursor to the side and row that was clicked.
func (m *Model) Click(x, y int) tea.Cmd {
	m.onTree = m.split > 0 && x >= m.split || m.split == 0 && m.onTree
	if m.onTree {
		m.tree.Click(y - m.paneTop)
	}
	return nil
}

// Wheel scrolls the side with the cursor.
func (m *Model) Wheel(by int) {
	if m.onTree {
		m.tree.Move(by)
	} else {
		m.rules.Move(by)
	}
}

// Why names the rule behind the path under the cursor, or what the panel is for.
func (m *Model) Why() state.Why {
	e := m.current()
	if e.broken != nil {
		all := mistakes(e.broken.Err)
		return state.Why{Lead: e.name() + " is left out.", Say: state.Sentence(all[0].Say),
			Ways: []string{"e opens it; it is reloaded when you save"}}
	}
	if e.profile == nil {
		return state.Why{}
	}
	if m.onTree && m.ready() && m.tree.Cursor < len(m.lines) && m.tree.Cursor >= 0 {
		l := m.lines[m.tree.Cursor]
		w := state.Why{Lead: l.Path + ".", Say: state.Sentence(l.Rule)}
		if l.Title >= 0 && l.Title < len(m.d.Scan.Titles) {
			w.Say = "Part of " + m.d.Scan.Titles[l.Title].Label() + ". " + w.Say
		}
		return w
	}
	own := "it ships with Polytome; c makes a copy of your own"
	if e.profile.Own {
		own = "it is yours: " + e.profile.File
	}
	target := ""
	if m.d.Target < len(m.d.Bench.Targets) {
		p := m.d.Bench.Targets[m.d.Target]
		target = fmt.Sprintf("%s is filled for %s", p.Name, p.Loader)
	}
	return state.Why{Lead: e.profile.Shown + ", " + e.profile.Console + ".", Say: state.Sentence(e.profile.About),
		Ways: slices.DeleteFunc([]string{own, target}, func(s string) bool { return s == "" })}
}
