package ui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"polytome/internal/core/fit"
	"polytome/internal/ui/rack"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// The smallest window in which the program can be used.
const minWidth, minHeight = 60, 16

// frame is how the window is distributed, in cells.
type frame struct {
	top, width, height int // of the stage
	rack               int // width of the rack; 0 where it has no space
	why                int // lines of the why line
}

func (a *app) frame() frame {
	f := frame{top: 2, why: 4}
	if a.h >= 36 {
		f.why = 5
	}
	switch {
	case a.w >= 120:
		f.rack = 34
	case a.w >= 100:
		f.rack = 28
	case a.w >= 70:
		f.rack = 12
	}
	if a.panel != nil || a.folded {
		f.rack = 0 // its two sides need the width
	} else if n := len(a.state.Bench.Targets); n > 1 && a.w >= 120 {
		f.rack = min(a.w/3, max(f.rack, n*14))
	}
	f.width = a.w
	if f.rack > 0 {
		f.width -= f.rack + 1
	}
	f.height = a.h - f.top - f.why - 1
	return f
}

// View draws the window.
func (a *app) View() tea.View {
	lines := a.lines()
	if g := a.shows.gallery; g != nil {
		g.Find(lines)
	}
	v := tea.NewView(strings.Join(lines, "\n"))
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "polytome " + style.Clean(a.state.Bench.Name)
	return v
}

// lines draws the window, a string for each line.
func (a *app) lines() []string {
	t := a.theme
	if a.w < minWidth || a.h < minHeight {
		return t.Block(t.Wrap(fmt.Sprintf(
			"The window is %d x %d. Polytome needs at least %d x %d. Make the window larger.", a.w, a.h, minWidth,
			minHeight), a.w), a.w, a.h)
	}
	if a.welcome != nil {
		return append([]string{a.topLine(), t.Rule("", a.w)}, a.welcome.View(t, a.w, a.h-2)...)
	}
	if a.mode == helping {
		return append([]string{a.topLine(), t.Rule("", a.w)}, a.help(a.w, a.h-2)...)
	}
	f := a.frame()
	line := t.Glyph("─")
	rule := func(tee string) string {
		if f.rack == 0 || a.palette != nil {
			return t.Rule("", a.w)
		}
		return t.Paint(t.Faint, strings.Repeat(line, f.width)+t.Glyph(tee)+strings.Repeat(line, f.rack))
	}
	out := []string{a.topLine(), rule("┬")}
	var body []string
	if a.palette != nil {
		body = a.palette.view(t, a.w, f.height)
	} else {
		body = t.Block(a.stage().View(t, f.width, f.height), f.width, f.height)
	}
	if f.rack > 0 && a.palette == nil {
		side := rack.Draw(t, a.volumes(), f.rack, f.height)
		for y := range body {
			body[y] += t.Paint(t.Faint, t.Glyph("│")) + side[y]
		}
	}
	out = append(out, body...)
	out = append(out, rule("┴"))
	return append(out, t.Block(a.foot(a.w, f.why), a.w, f.why)...)
}

// topLine is the stage rail.
func (a *app) topLine() string {
	t := a.theme
	base := t.Style(t.Dim).Background(t.Bar)
	left := base.Bold(true).Foreground(t.Accent).Render(" polytome ")
	if a.w < 90 && a.welcome == nil { // the stages and panels need the space
		left = base.Render(" ")
	}
	name := style.Clean(a.state.Bench.Name)
	wide := a.w >= 110
	if wide {
		left += base.Render(" " + t.Clip(name, 24) + "    ")
	}
	a.rail, a.rails = a.rail[:0], a.rails[:0]
	if a.welcome != nil { // nothing of what follows is there yet
		return left + base.Render(strings.Repeat(" ", max(0, a.w-style.Width(left))))
	}
	for i, s := range a.stages {
		a.rail = append(a.rail, style.Width(left))
		a.rails = append(a.rails, func() tea.Cmd { return a.show(i) })
		text := fmt.Sprintf("%d %s", i+1, s.Name())
		number := " " + s.Number()
		if i == a.at && a.welcome == nil && a.panel == nil {
			left += base.Bold(true).Foreground(t.Accent).Render(t.Glyph("▸")+text) + base.Foreground(t.Text).
				Render(number)
		} else {
			left += base.Render(" " + text + number)
		}
		gap := 1
		if a.w >= 140 {
			gap = 3
		}
		left += base.Render(strings.Repeat(" ", gap))
	}
	right := ""
	if n := a.state.Bad + len(a.state.Scan.Problems); n > 0 {
		right += base.Foreground(t.Bad).Render(fmt.Sprintf("%d to fix", n))
	}
	if a.w >= 90 {
		if right != "" {
			right += base.Render(" " + t.Glyph("·") + " ")
		}
		right += base.Render(a.state.SaveState())
	}
	right += base.Render(" ")
	for _, named := range []bool{true, false} { // with their keys alone where there is no space for the names
		all := left + a.railPanels(base, named, style.Width(left))
		if style.Width(all)+style.Width(right) <= a.w || !named && a.panel != nil {
			left = all
			break
		}
	}
	gap := a.w - style.Width(left) - style.Width(right)
	if gap < 0 {
		return t.Block([]string{left}, a.w, 1)[0]
	}
	return left + base.Render(strings.Repeat(" ", gap)) + right
}

// railPanels are the panels on the rail: their keys and, where asked for, their names. The one that is open has its
// name in any case.
func (a *app) railPanels(base lipgloss.Style, named bool, from int) (out string) {
	t := a.theme
	a.rail, a.rails = a.rail[:len(a.stages)], a.rails[:len(a.stages)]
	for _, p := range a.panels {
		a.rail = append(a.rail, from+style.Width(out))
		a.rails = append(a.rails, func() tea.Cmd { return a.open(p.panel) })
		mark := base.Render(" ")
		if c, ok := p.panel.(interface{ Calls() bool }); ok && c.Calls() {
			mark = base.Bold(true).Foreground(t.Warn).Render("!")
		}
		switch {
		case a.panel == p.panel:
			out += base.Bold(true).Foreground(t.Accent).Render(t.Glyph("▸") + p.key + " " + p.Name())
			if a.w >= 90 { // else the stages leave no space
				out += base.Foreground(t.Text).Render(" " + p.Number() + " ")
			}
		case named:
			out += mark + base.Render(p.key+" "+p.Name()+" ")
		case a.w >= 100:
			out += mark + base.Render(p.key+" ")
		case a.panel == nil:
			out += mark + base.Render(p.key)
		}
	}
	return out
}

// volumes are the targets as the rack shows them, with the ghost of the title
// under the cursor.
func (a *app) volumes() []rack.Volume {
	var out []rack.Volume
	i, has := a.stage().Title()
	for n, p := range a.state.Bench.Targets {
		v := rack.Volume{Name: p.Name, Current: n == a.state.Target}
		s := a.state.Targets[n].Survey
		if s == nil {
			v.Detail = "not connected"
			out = append(out, v)
			continue
		}
		v.Detail, v.Capacity, v.Unknown = s.Facts.Filesystem.Shown, s.Facts.Capacity, s.Facts.Unknown
		v.Kept, v.Planned = s.Sheet.Kept-s.Sheet.Released, s.Sheet.Planned
		if s.Away != nil {
			v.Detail = "not connected"
		}
		if a.state.Targets[n].Running() {
			v.Written = min(a.state.Targets[n].Lane.Total, v.Planned)
			v.Planned -= v.Written
		}
		verdict, chosen, ok := a.state.Verdict(n, i)
		switch {
		case !has || !ok || verdict.Kind == fit.Present || verdict.Kind == fit.Foreign || v.Written > 0:
		case chosen && verdict.Kind.Goes():
			v.Ghost, v.Share = max(0, min(verdict.Need, v.Planned)), true
			v.Planned -= v.Ghost
		default:
			v.Ghost, v.Over = verdict.Need, !verdict.Kind.Goes()
		}
		out = append(out, v)
	}
	return out
}

// help lists the keys of this screen, made from the actions, over the whole width.
func (a *app) help(w, h int) []string {
	t := a.theme
	left := w * 11 / 20
	l := a.helpColumn(a.stage().Name(), a.stage().Actions(), left)
	if len(l) > h { // names alone, and one line for all that moves
		l = a.helpColumn(a.stage().Name(), brief(a.stage().Actions()), left)
	}
	r := a.helpColumn("everywhere. Any key closes this.", a.actions(), w-left)
	if len(r) > h {
		r = a.helpColumn("everywhere. Any key closes this.", a.fewLines(), w-left)
	}
	if own, _ := a.opts.Settings.Get("keys"); own != "" {
		for _, l := range t.Wrap("your own: "+own, w-left-2) {
			r = append(r, " "+t.Paint(t.Dim, l))
		}
	}
	rows := max(len(l), len(r))
	l, r = t.Block(l, left, rows), t.Block(r, w-left, rows)
	out := make([]string, 0, h)
	for y := range rows {
		out = append(out, l[y]+r[y])
	}
	return t.Block(out, w, h)
}

// fewLines are the keys of every screen in as few lines as can be: one for all stages, one for two panels, and the
// names alone.
func (a *app) fewLines() []state.Action {
	all := []state.Action{state.Do(fmt.Sprintf("1-%d", len(a.stages)), "the stages, in their order", nil)}
	var panel *state.Action // that has its line to itself yet
	for _, x := range a.actions()[len(a.stages):] {
		x.More = ""
		key, name := x.Key.Help().Key, x.Key.Help().Desc
		if !slices.ContainsFunc(a.panels, func(p opened) bool { return p.key == key }) {
			all = append(all, x)
			continue
		}
		if panel != nil {
			*panel = state.Do(panel.Key.Help().Key, fmt.Sprintf("%-8s %s %s", panel.Key.Help().Desc, key, name), nil)
			panel = nil
			continue
		}
		all = append(all, x)
		panel = &all[len(all)-1]
	}
	return all
}

// brief are actions without what their names do not say, and with one in place of those that move.
func brief(all []state.Action) []state.Action {
	out := []state.Action{state.Do("arrows", "move; also pgup, pgdown, home, end", nil)}
	for _, x := range all {
		if !slices.Contains(moves, x.Key.Help().Key) {
			x.More = ""
			out = append(out, x)
		}
	}
	return out
}

// helpColumn lists actions in w cells. Where there is little space, only the first
// key of each is shown.
func (a *app) helpColumn(name string, actions []state.Action, w int) []string {
	t := a.theme
	keys := func(x state.Action) string {
		shown := x.Key.Help().Key
		if all := x.Key.Keys(); w >= 60 && len(all) > 1 {
			shown += " " + all[1]
		}
		return shown
	}
	column := 0
	for _, x := range actions {
		column = max(column, style.Width(keys(x))+2)
	}
	out := []string{" " + t.Bold(t.Accent, name)}
	for _, x := range actions {
		say := x.Key.Help().Desc
		if x.More != "" {
			say += ": " + x.More
		}
		for k, l := range t.Wrap(say, w-column-2) {
			shown := ""
			if k == 0 {
				shown = keys(x)
			}
			out = append(out, " "+t.Bold(t.Text, t.Pad(shown, column))+t.Paint(t.Dim, l))
		}
	}
	return out
}
