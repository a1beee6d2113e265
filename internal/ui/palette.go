package ui

import (
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/sahilm/fuzzy"

	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// A palette is a list of things that can be done, of which one is found by a few letters of its name and done.
type palette struct {
	heading string
	input   textinput.Model
	all     []entry
	shown   []int // numbers of those that are shown, the best first
	list    scroll.List
	// titles finds further entries by what was typed; nil for none.
	titles func(typed string) []entry
	found  []entry // by titles
	top    int     // the line of the window in which the list begins
}

// An entry is a line of a palette.
type entry struct {
	name, more, key, where string
	do                     func() tea.Cmd
}

func newPalette(heading string, all []entry) *palette {
	p := &palette{heading: heading, all: all, input: textinput.New()}
	p.input.Prompt = ""
	p.input.Focus()
	p.find()
	return p
}

// near is how near what was typed is to an entry's name, the nearest first: letters here and there come last.
func (e *entry) near(typed string) int {
	name, typed := strings.ToLower(e.name), strings.ToLower(typed)
	switch {
	case name == typed:
		return 0
	case strings.HasPrefix(name, typed):
		return 1
	case strings.Contains(name, typed):
		return 2
	}
	return 3
}

// at is line n of what is shown.
func (p *palette) at(n int) entry {
	if i := p.shown[n]; i < len(p.all) {
		return p.all[i]
	}
	return p.found[p.shown[n]-len(p.all)]
}

// String and Len are what is searched; see [fuzzy.Source].
func (p *palette) String(i int) string { return p.all[i].name + " " + p.all[i].where }

// Len counts the entries.
func (p *palette) Len() int { return len(p.all) }

// fewLetters is from how many on titles are searched, too.
const fewLetters = 2

// find looks for what was typed.
func (p *palette) find() {
	p.shown, p.found = p.shown[:0], nil
	typed := strings.TrimSpace(p.input.Value())
	if typed == "" {
		for i := range p.all {
			p.shown = append(p.shown, i)
		}
	} else {
		for _, m := range fuzzy.FindFrom(typed, p) {
			p.shown = append(p.shown, m.Index)
		}
		for i := range p.all { // and what is said of it
			if !slices.Contains(p.shown, i) && strings.Contains(strings.ToLower(p.all[i].more),
				strings.ToLower(typed)) {
				p.shown = append(p.shown, i)
			}
		}
		slices.SortStableFunc(p.shown, func(x, y int) int { // of those as near, what is here
			near := p.all[x].near(typed)
			if by := near - p.all[y].near(typed); by != 0 || near > 2 {
				return by
			}
			return x - y
		})
		if p.titles != nil && len(typed) >= fewLetters {
			p.found = p.titles(typed)
			for i := range p.found {
				p.shown = append(p.shown, len(p.all)+i)
			}
		}
	}
	p.list.Home()
	p.list.N = len(p.shown)
}

// key takes a key in. An entry that was chosen is handed out; over is set when the palette closes.
func (p *palette) key(msg tea.KeyPressMsg) (chosen *entry, over bool, cmd tea.Cmd) {
	switch msg.String() {
	case "esc", "ctrl+c":
		return nil, true, nil
	case "enter":
		if p.list.Cursor >= len(p.shown) {
			return nil, false, nil
		}
		e := p.at(p.list.Cursor)
		return &e, true, nil
	case "up", "ctrl+p":
		p.list.Move(-1)
	case "down", "ctrl+n":
		p.list.Move(1)
	case "pgup":
		p.list.Page(-1)
	case "pgdown":
		p.list.Page(1)
	default:
		was := p.input.Value()
		p.input, cmd = p.input.Update(msg)
		if p.input.Value() != was {
			p.find()
		}
	}
	return nil, false, cmd
}

// view draws the palette in w by h cells.
func (p *palette) view(t *style.Theme, w, h int) []string {
	p.input.SetWidth(max(10, w-8))
	out := []string{t.Rule(p.heading, w), "  " + t.Paint(t.Accent, t.Glyph("▸")) + " " + p.input.View(), ""}
	p.top = len(out)
	p.list.Resize(len(p.shown), h-len(out))
	key, where := 11, 16
	if w < 90 {
		where = 12
	}
	from, to := p.list.Window()
	for i := from; i < to; i++ {
		e := p.at(i)
		name := e.name
		if e.more != "" {
			name += ": " + e.more
		}
		out = append(out, t.Row(w, i == p.list.Cursor, style.Cell{Text: e.key, Width: key, FG: t.Accent, Bold: true},
			style.Cell{Text: name, Width: w - key - where - 5}, style.Cell{Text: e.where, Width: where, FG: t.Dim}))
	}
	if len(p.shown) == 0 {
		out = append(out, "  "+t.Paint(t.Dim, "Nothing has this name. esc closes the list."))
	}
	return t.Block(out, w, h)
}

// openPalette lists every action of every screen, the targets, and titles by their names. What was done last comes
// first, then what can be done here.
func (a *app) openPalette() {
	var all []entry
	here := a.stage()
	add := func(x state.Action, where string, do func() tea.Cmd) {
		h := x.Key.Help()
		if !slices.Contains(moves, h.Key) {
			all = append(all, entry{h.Desc, x.More, h.Key, where, do})
		}
	}
	for _, x := range here.Actions() {
		add(x, here.Name(), func() tea.Cmd { return a.do(x) })
	}
	for _, x := range a.actions() {
		add(x, "everywhere", func() tea.Cmd { return a.do(x) })
	}
	for n, p := range a.state.Bench.Targets {
		all = append(all, entry{"go to " + p.Name, "", "", "target", state.Just(func() { a.state.Target = n })})
	}
	for s, show := range a.screens() {
		if s == here {
			continue
		}
		for _, x := range s.Actions() {
			add(x, s.Name(), func() tea.Cmd { return tea.Batch(show(), a.named(x.Key.Help().Desc)) })
		}
	}
	all = append(all, a.settings()...)
	slices.SortStableFunc(all, func(x, y entry) int { return a.lately(&y) - a.lately(&x) })
	a.palette = newPalette("do something by its name", all)
	a.palette.titles = a.findTitles
}

// mostFound is how many titles are listed.
const mostFound = 50

// findTitles are the titles with the words that were typed; one that is chosen is shown in Games.
func (a *app) findTitles(typed string) (out []entry) {
	words := strings.Fields(strings.ToLower(typed))
	for i := range a.state.Scan.Titles {
		t := &a.state.Scan.Titles[i]
		name := strings.ToLower(t.Name)
		if slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(name, w) }) {
			continue
		}
		key := t.Key
		out = append(out, entry{"show " + t.Label(), "", "", "title", func() tea.Cmd {
			cmd := a.show(0)
			if s, ok := a.stages[0].(interface{ Select(key string) }); ok {
				s.Select(key)
			}
			return cmd
		}})
		if len(out) == mostFound {
			break
		}
	}
	return out
}

// openHistory lists the choices that can be undone, and goes back to before the one that is chosen.
func (a *app) openHistory() {
	var all []entry
	for n, say := range a.state.Changed() {
		if say == "" {
			say = "a choice"
		}
		all = append(all, entry{say, "", fmt.Sprintf("%d", n+1), "undo to here", func() tea.Cmd {
			return a.state.UndoTo(n + 1)
		}})
	}
	if len(all) == 0 {
		a.state.Notice = "Nothing was chosen yet that could be undone."
		return
	}
	a.palette = newPalette("what was chosen, the last first: enter undoes everything down to it", all)
}

// named does the action of the screen that is shown that has a name.
func (a *app) named(name string) tea.Cmd {
	for _, x := range a.stage().Actions() {
		if x.Key.Help().Desc == name {
			return a.do(x)
		}
	}
	a.state.Notice = "That cannot be done here now: " + name + "."
	return nil
}

// lately is how lately an entry was done, 0 for never.
func (a *app) lately(e *entry) int { return slices.Index(a.recent, e.name) + 1 }

// chose does what was chosen from a palette, and remembers it.
func (a *app) chose(e *entry) tea.Cmd {
	a.recent = append(slices.DeleteFunc(a.recent, func(n string) bool { return n == e.name }), e.name)
	a.state.Notice, a.state.Touched = "", true
	cmd := e.do()
	a.settled()
	return cmd
}
