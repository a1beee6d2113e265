package ui

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// spot is a part of a line at the foot that can be clicked.
type spot struct {
	y, from, to int
	do          func() tea.Cmd
}

// hint is a key and what it does, in a line at the foot.
type hint struct {
	key, name string
	do        func() tea.Cmd
}

func (h hint) width() int { return style.Width(h.key) + style.Width(h.name) + 3 }

// foot are the lines at the foot: what holds and why, the ways out, the next step, and the keys that act here.
func (a *app) foot(w, h int) []string {
	t := a.theme
	a.spots = a.spots[:0]
	bottom := a.h - 1
	switch {
	case a.palette != nil:
		return a.asked([]string{""}, []hint{{"enter", "do it", a.press("enter")}, {"esc", "close", a.press("esc")}}, h)
	case a.mode == finding, a.mode == answering:
		return a.question(w, h)
	case a.mode == quitting:
		say, way := "A run is in progress. Quitting stops it; what is finished stays, and you can resume later.",
			"stop the run and quit"
		if !a.state.Running() && a.state.Reading() {
			say, way = "A disc is being read. What was read stays, and it goes on another time.", "stop and quit"
		}
		if a.state.Dock != nil {
			say, way = "The dock is open. Quitting closes it; what is being written stops, and you can resume later.",
				"close the dock and quit"
		}
		if burning := a.state.Burning(); burning != "" {
			say, way = style.Clean(burning)+" is being burnt: quitting spoils the disc.", "spoil it and quit"
		}
		if playing := a.state.Playing(); playing != "" {
			say, way = style.Clean(playing)+": quitting ends that.", "end it and quit"
		}
		return a.asked([]string{" " + t.Bold(t.Warn, t.Clip(say, w-2))},
			[]hint{{"q", way, a.press("q")}, {"esc", "stay", a.press("esc")}}, h)
	}
	lines := a.whyLines(w, h-2)
	return append(lines, a.nextLine(w, bottom-1), " "+a.hints(a.keyHints(w-2), bottom))
}

// press does what a key does that is not typed.
func (a *app) press(name string) func() tea.Cmd {
	code := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape}[name]
	msg := tea.KeyPressMsg{Code: code}
	if code == 0 {
		msg = tea.KeyPressMsg{Text: name, Code: []rune(name)[0]}
	}
	return func() tea.Cmd { return a.key(msg) }
}

// asked are lines that ask something, with the keys that answer below.
func (a *app) asked(lines []string, keys []hint, h int) []string {
	for len(lines) < h-1 {
		lines = append(lines, "")
	}
	return append(lines[:h-1], " "+a.hints(keys, a.h-1))
}

// question is what is asked at the foot, or looked for.
func (a *app) question(w, h int) []string {
	t := a.theme
	if a.mode == finding {
		say := "words, or name:tide  size>4G  year<2000  bad  -region:north"
		if s, ok := a.stage().(interface{ Trouble() string }); ok && s.Trouble() != "" {
			say = s.Trouble()
		}
		a.input.SetWidth(max(10, w-12))
		return a.asked([]string{" " + a.input.View(), " " + t.Paint(t.Dim, t.Clip(say, w-2))},
			[]hint{{"enter", "keep the filter", a.press("enter")}, {"esc", "clear it", a.press("esc")}}, h)
	}
	q := a.state.Question
	if q.Agree {
		var lines []string
		for _, l := range t.Wrap(style.Clean(q.Prompt), w-2) {
			lines = append(lines, " "+t.Bold(t.Text, l))
		}
		for _, l := range t.Wrap(style.Clean(q.Hint), w-2) {
			lines = append(lines, " "+t.Paint(t.Dim, l))
		}
		keys := []hint{{"enter", "yes", a.press("enter")}}
		for _, x := range q.Other {
			keys = append(keys, hint{x.Key.Help().Key, x.Key.Help().Desc, a.press(x.Key.Help().Key)})
		}
		return a.asked(lines, append(keys, hint{"esc", "no", a.press("esc")}), h)
	}
	a.input.SetWidth(max(10, w-style.Width(q.Prompt)-4))
	keys := []hint{{"enter", "OK", a.press("enter")}, {"esc", "cancel", a.press("esc")}}
	if len(q.Suggestions) > 0 || q.Paths {
		keys = append(keys, hint{"tab", "completes", nil})
	}
	lines := []string{" " + a.input.View()}
	for _, l := range t.Wrap(style.Clean(q.Hint), w-2) {
		lines = append(lines, " "+t.Paint(t.Dim, l))
	}
	return a.asked(lines, keys, h)
}

// whyLines say what holds for what is under the cursor, why, and the ways out, in h lines.
func (a *app) whyLines(w, h int) []string {
	t := a.theme
	why := a.stage().Why()
	if a.state.Notice != "" {
		why = state.Why{Say: a.state.Notice}
	}
	text := strings.TrimSpace(style.Clean(why.Lead + " " + why.Say))
	for k, way := range why.Ways {
		lead := " " + t.Glyph("→") + " "
		if k == 0 {
			lead = "  " + t.Glyph("→") + " "
		}
		text += lead + style.Clean(way) + "."
	}
	lines := t.Wrap(text, w-2)
	if len(lines) > h {
		if cut := t.Clip(lines[h-1], w-5); strings.HasSuffix(cut, t.Glyph("…")) {
			lines[h-1] = cut
		} else {
			lines[h-1] = cut + " " + t.Glyph("…")
		}
		lines = lines[:h]
	}
	for y := range lines {
		lines[y] = " " + a.paintWhy(lines[y], y, why)
	}
	for len(lines) < h {
		lines = append(lines, "")
	}
	return lines
}

// paintWhy sets the subject of the why line off.
func (a *app) paintWhy(line string, y int, why state.Why) string {
	lead := style.Clean(why.Lead)
	if y == 0 && lead != "" && strings.HasPrefix(line, lead) {
		return a.theme.Bold(a.theme.Accent, lead) + a.theme.Paint(a.theme.Text, line[len(lead):])
	}
	return a.theme.Paint(a.theme.Text, line)
}

// nextLine is the step that brings the job forward, with its key.
func (a *app) nextLine(w, y int) string {
	t := a.theme
	n := a.next()
	if n.Say == "" {
		return ""
	}
	key, do := a.wayTo(n)
	line := " " + t.Bold(t.Accent, "Next:") + " "
	if key != "" {
		line += t.Bold(t.Text, key) + " "
	}
	line += t.Paint(t.Text, t.Clip(style.Clean(n.Say), w-2-style.Width(line)))
	if do != nil {
		a.spots = append(a.spots, spot{y, 0, style.Width(line), do})
	}
	return line
}

// next is the next step: that of the screen, where it knows one of its own, else that of the job.
func (a *app) next() state.Next {
	if s, ok := a.stage().(interface{ Next() (state.Next, bool) }); ok {
		if n, ok := s.Next(); ok {
			return n
		}
	}
	return a.state.Next()
}

// wayTo is how one gets to a step from here: the keys to press, and what a click does.
func (a *app) wayTo(n state.Next) (keys string, do func() tea.Cmd) {
	if n.Key == "" {
		return "", nil
	}
	act := func() tea.Cmd { return a.press(n.Key)() }
	if n.Screen == "" && n.Key == "W" && slices.ContainsFunc(a.stage().Actions(),
		func(x state.Action) bool { return slices.Contains(x.Key.Keys(), n.Key) }) {
		n.Screen = state.OnRun // here the key writes something else
	}
	if n.Screen == "" || n.Screen == a.stage().Name() {
		return n.Key, act
	}
	for s, show := range a.screens() {
		if s.Name() == n.Screen {
			return a.keyOf(s) + " " + s.Name() + ", " + n.Key, show
		}
	}
	return n.Key, act
}

// keyOf is the key that shows a screen.
func (a *app) keyOf(s stage) string {
	if i := slices.Index(a.stages, s); i >= 0 {
		return string(rune('1' + i))
	}
	for _, p := range a.panels {
		if stage(p.panel) == s {
			return p.key
		}
	}
	return ""
}

// keyHints are the keys that matter here, as many as have space.
func (a *app) keyHints(w int) []hint {
	var parts []hint
	for _, x := range a.stage().Actions() {
		h := x.Key.Help()
		if !x.Off && (len(h.Key) == 1 || slices.Contains([]string{"space", "enter", "tab", "delete"}, h.Key)) {
			parts = append(parts, hint{h.Key, h.Desc, func() tea.Cmd { a.state.Notice = ""; return a.do(x) }})
		}
	}
	tail := []hint{{"/", "find", a.press("/")}, {"O", "paper", a.press("O")}, {":", "do", a.press(":")},
		{"?", "keys", a.press("?")},
		{"q", "quit", a.press("q")}}
	width := 0
	for _, p := range tail {
		width += p.width()
	}
	var shown []hint
	for i, p := range append(parts, tail...) {
		if i < len(parts) {
			if width+p.width() > w {
				continue
			}
			width += p.width()
		}
		shown = append(shown, p)
	}
	return shown
}

// hints draws keys and what they do in line y, where each can be clicked.
func (a *app) hints(all []hint, y int) string {
	t := a.theme
	out, at := "", 1
	for i, p := range all {
		if i > 0 {
			out, at = out+"  ", at+2
		}
		out += t.Bold(t.Text, p.key) + " " + t.Paint(t.Dim, p.name)
		if p.do != nil {
			a.spots = append(a.spots, spot{y, at, at + p.width() - 2, p.do})
		}
		at += p.width() - 2
	}
	return out
}
