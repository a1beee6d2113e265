package ui

import (
	"context"
	"fmt"
	"iter"
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/draw"
	"polytome/internal/nearest"
	"polytome/internal/ui/checkview"
	"polytome/internal/ui/connectionsview"
	"polytome/internal/ui/coversview"
	"polytome/internal/ui/drivesview"
	"polytome/internal/ui/fitview"
	"polytome/internal/ui/gamesview"
	"polytome/internal/ui/loadersview"
	"polytome/internal/ui/runview"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
	"polytome/internal/ui/teachview"
	"polytome/internal/ui/treeview"
	"polytome/internal/ui/welcome"
)

// A stage is one of the five screens. It may also have
//
//   - Open() tea.Cmd, called when it is shown
//   - Work() tea.Cmd, the slow work that needs doing for what is shown now
//   - Stays() string, why the program must not end now, "" for no reason
type stage interface {
	Name() string
	Number() string
	Refresh()
	SetFilter(string)
	Escape() bool
	Title() (index int, ok bool)
	Drawing() draw.Request
	Actions() []state.Action
	Click(x, y int) tea.Cmd
	Wheel(by int)
	Why() state.Why
	View(t *style.Theme, w, h int) []string
}

// A panel is a screen that is reached from every stage.
type panel interface {
	stage
	Open() tea.Cmd
}

// An opened panel is one with the key that opens it, and what the help says of it.
type opened struct {
	panel
	key, say string
}

// A waiting screen takes in what its own slow work reports; ok is false for a message that is not for it. It gets them
// also while it is not shown.
type waiting interface {
	stage
	Update(msg tea.Msg, shown bool) (t state.Taken, ok bool)
}

// mode is what keys are for at the moment.
type mode int

const (
	normal mode = iota
	finding
	commanding
	answering
	helping
	quitting
)

// app is the root model.
type app struct {
	state   *state.State
	theme   *style.Theme
	opts    Options
	dark    bool
	colours colorprofile.Profile
	w, h    int
	stages  []stage
	at      int
	panels  []opened
	panel   panel          // what is shown instead of the stage, nil for nothing
	welcome *welcome.Model // nil once the bench is set up
	mode    mode
	input   textinput.Model
	rail    []int // where each stage begins in the top line
}

func newApp(ctx context.Context, b *bench.Bench, set *loader.Set, o Options) *app {
	d := state.New(ctx, b, set, o.Rate)
	d.OwnDir, d.CacheFile = o.OwnDir, o.CacheFile
	d.SetCoversDir(o.CoversDir)
	a := &app{state: d, opts: o, dark: true, colours: colorprofile.TrueColor, w: 80, h: 24}
	a.stages = []stage{gamesview.New(d), fitview.New(d), treeview.New(d), runview.New(d), checkview.New(d)}
	a.panels = []opened{
		{coversview.New(d), "C", "all pictures; download, compare, choose, crop"},
		{drivesview.New(d), "D", "what is plugged in; prepare, block map, check, eject"},
		{loadersview.New(d), "L", "their rules, and the tree that they make"},
		{connectionsview.New(d), "H", "links, their tests, direct cable"},
		{teachview.New(d), "N", "an unknown console, learnt from a stick that it reads"},
	}
	if len(b.Sources) == 0 && len(b.Targets) == 0 {
		a.welcome = welcome.New(d)
	}
	a.input = textinput.New()
	a.input.ShowSuggestions = true
	a.setTheme()
	return a
}

func (a *app) setTheme() { a.theme = style.New(a.dark, a.opts.ASCII, a.colours) }

// Init starts the first scan.
func (a *app) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, a.state.StartScan(), a.state.Survey(), a.state.LookBack())
}

func (a *app) stage() stage {
	if a.panel != nil {
		return a.panel
	}
	return a.stages[a.at]
}

// Update takes a message in. Everything slow is a command.
func (a *app) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	m, cmd := a.update(msg)
	if w, ok := a.stage().(interface{ Work() tea.Cmd }); ok && a.welcome == nil {
		cmd = tea.Batch(cmd, w.Work())
	}
	return m, cmd
}

func (a *app) update(msg tea.Msg) (tea.Model, tea.Cmd) {
	if t, ok := a.routed(msg); ok {
		if t.Refresh {
			a.stage().Refresh()
		}
		if t.Ask && a.mode == normal {
			a.putQuestion()
		}
		return a, t.Cmd
	}
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		a.w, a.h = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		a.dark = msg.IsDark()
		a.setTheme()
	case tea.ColorProfileMsg:
		a.colours = msg.Profile
		a.setTheme()
	case tea.KeyPressMsg:
		return a, a.key(msg)
	case tea.PasteMsg:
		switch {
		case a.welcome != nil:
			a.welcome.Paste(msg)
		case a.mode == finding, a.mode == commanding, a.mode == answering:
			a.input, _ = a.input.Update(msg)
			if a.mode == finding {
				a.stage().SetFilter(a.input.Value())
			}
		}
	case tea.MouseClickMsg:
		return a, a.click(msg.X, msg.Y)
	case tea.MouseWheelMsg:
		a.wheel(msg)
	case state.TeachMsg:
		for _, p := range a.panels {
			if x, ok := p.panel.(*teachview.Model); ok {
				return a, a.open(x)
			}
		}
	case state.AskMsg:
		if a.mode == normal {
			a.state.Ask(msg.Question)
			a.putQuestion()
		}
	}
	return a, nil
}

// routed gives a message to whom it is for: the state, or a screen that waits for it.
func (a *app) routed(msg tea.Msg) (t state.Taken, ok bool) {
	if t, ok = a.state.Update(msg); ok {
		return t, true
	}
	for s := range a.screens() {
		if w, waits := s.(waiting); waits {
			if t, ok = w.Update(msg, a.stage() == s); ok {
				return t, true
			}
		}
	}
	return t, false
}

// screens are all stages and panels.
func (a *app) screens() iter.Seq[stage] {
	return func(yield func(stage) bool) {
		for _, s := range a.stages {
			if !yield(s) {
				return
			}
		}
		for _, p := range a.panels {
			if !yield(p.panel) {
				return
			}
		}
	}
}

// actions are those of every screen.
func (a *app) actions() []state.Action {
	var out []state.Action
	for i, s := range a.stages {
		out = append(out, state.Do(fmt.Sprint(i+1), s.Name(), func() tea.Cmd { return a.show(i) }))
	}
	out = append(out,
		state.Do("/", "find", state.Just(func() { a.ask(finding, "find ", nil) })).
			Saying("show only what has these words"),
		state.Do("esc", "back", state.Just(a.back)).Saying("clear the filter, close the panel"))
	for _, p := range a.panels {
		out = append(out, state.Do(p.key, p.Name(), func() tea.Cmd { return a.open(p.panel) }).Saying(p.say))
	}
	return append(out,
		state.Do("O", "On paper", state.Just(func() { a.state.AskDrawing(a.stage().Drawing()) })).
			Saying("draw this screen, or something else, as PDF or SVG"),
		state.Do("P", "add a target", state.Just(a.state.AskTarget)).Saying("a folder, image or address"),
		state.Do("u", "undo the last choice", a.state.Undo),
		state.Do("U", "redo it", a.state.Redo),
		state.Do(":", "do it by name", state.Just(func() { a.ask(commanding, ": ", a.names()) })),
		state.Do("ctrl+r", "reload the bench", a.state.Reread).Saying("after another program changed its file"),
		state.Do("?", "these keys", state.Just(func() { a.mode = helping })),
		state.Do("q ctrl+c", "quit", a.quit),
	)
}

// back drops what narrows the list, or leaves the panel.
func (a *app) back() {
	if !a.stage().Escape() && a.panel != nil {
		a.panel = nil
		a.stage().Refresh()
	}
}

// open shows a panel.
func (a *app) open(p panel) tea.Cmd {
	a.panel = p
	return p.Open()
}

func (a *app) show(i int) tea.Cmd {
	a.at, a.panel = i, nil
	a.state.Notice = ""
	a.stage().Refresh()
	if s, ok := a.stages[i].(interface{ Open() tea.Cmd }); ok {
		return s.Open()
	}
	return nil
}

// quit asks while a run goes on.
func (a *app) quit() tea.Cmd {
	for s := range a.screens() {
		if w, ok := s.(interface{ Stays() string }); ok && w.Stays() != "" {
			a.state.Notice = w.Stays()
			return nil
		}
	}
	if a.state.Running() || a.state.Playing() != "" {
		a.mode = quitting
		return nil
	}
	return tea.Quit
}

func (a *app) ask(m mode, prompt string, suggestions []string) {
	a.mode = m
	a.input.Reset()
	a.input.EchoMode = textinput.EchoNormal
	a.input.Prompt = prompt
	a.input.SetSuggestions(suggestions)
	a.input.Focus()
}

// all are the actions that can be done now, the stage's own first.
func (a *app) all() []state.Action { return append(a.stage().Actions(), a.actions()...) }

func (a *app) names() []string {
	var out []string
	for _, x := range a.all() {
		out = append(out, x.Key.Help().Desc)
	}
	return out
}

// key handles a key press.
func (a *app) key(msg tea.KeyPressMsg) tea.Cmd {
	k := msg.String()
	if a.welcome != nil {
		if k == "ctrl+c" || k == "esc" {
			return tea.Quit
		}
		cmd, done := a.welcome.Key(msg)
		if done {
			a.welcome = nil
			a.at = 0
		}
		return cmd
	}
	switch a.mode {
	case helping:
		a.mode = normal
		return nil
	case quitting:
		a.mode = normal
		if k == "q" || k == "ctrl+c" {
			a.state.StopRuns()
			return tea.Quit
		}
		return nil
	case finding, commanding, answering:
		return a.typed(msg)
	}
	for _, x := range a.all() {
		if key.Matches(msg, x.Key) {
			a.state.Notice = ""
			return a.do(x)
		}
	}
	return nil
}

// do does an action, and puts the question that it may have.
func (a *app) do(x state.Action) tea.Cmd {
	cmd := x.Do()
	a.putQuestion()
	return cmd
}

// putQuestion shows the question that the desk has, if it has one.
func (a *app) putQuestion() {
	if q := a.state.Question; q != nil {
		a.ask(answering, q.Prompt, q.Suggestions)
		if q.Secret {
			a.input.EchoMode = textinput.EchoPassword
		}
		a.input.SetValue(q.Value)
		a.input.CursorEnd()
	}
}

// typed handles keys while something is typed at the foot.
func (a *app) typed(msg tea.KeyPressMsg) tea.Cmd {
	switch msg.String() {
	case "esc", "ctrl+c":
		if a.mode == finding {
			a.stage().SetFilter("")
		}
		a.mode, a.state.Question = normal, nil
		return nil
	case "enter":
		was := a.mode
		a.mode = normal
		switch was {
		case commanding:
			return a.command(a.input.Value())
		case answering:
			q := a.state.Question
			a.state.Question = nil
			return q.Done(strings.TrimSpace(a.input.Value()))
		}
		return nil
	}
	var cmd tea.Cmd
	a.input, cmd = a.input.Update(msg)
	if a.mode == finding {
		a.stage().SetFilter(a.input.Value())
	}
	return cmd
}

// command does the action of that name, or the only one that begins so; letter case does not matter.
func (a *app) command(name string) tea.Cmd {
	var fits []state.Action
	var words []string
	for _, x := range a.all() {
		desc := x.Key.Help().Desc
		if strings.EqualFold(desc, name) {
			return a.do(x)
		}
		if name != "" && strings.HasPrefix(strings.ToLower(desc), strings.ToLower(name)) {
			fits = append(fits, x)
		}
		first, _, _ := strings.Cut(desc, " ")
		words = append(words, desc, strings.TrimSuffix(first, ":"))
	}
	switch near := nearest.Word(name, words); {
	case len(fits) == 1:
		return a.do(fits[0])
	case len(fits) > 1:
		a.state.Notice = fmt.Sprintf("Several actions start with %q: type more of it, or press tab to complete it.",
			name)
	case near != "":
		a.state.Notice = fmt.Sprintf("There is no action %q here: did you mean %q?", name, near)
	default:
		a.state.Notice = fmt.Sprintf("There is no action %q here: press tab to complete a name, ? for all of them.",
			name)
	}
	return nil
}

func (a *app) click(x, y int) tea.Cmd {
	if a.welcome != nil || a.mode != normal {
		a.mode, a.state.Question = normal, nil
		return nil
	}
	if y == 0 {
		for i := len(a.rail) - 1; i >= 0; i-- {
			if x >= a.rail[i] {
				return a.show(i)
			}
		}
		return nil
	}
	f := a.frame()
	if y >= f.top && y < f.top+f.height && x < f.width {
		return a.stage().Click(x, y-f.top)
	}
	return nil
}

// wheelRows is how far one notch of the wheel goes.
const wheelRows = 3

func (a *app) wheel(msg tea.MouseWheelMsg) {
	if a.welcome != nil || a.mode != normal {
		return
	}
	switch msg.Button {
	case tea.MouseWheelUp:
		a.stage().Wheel(-wheelRows)
	case tea.MouseWheelDown:
		a.stage().Wheel(wheelRows)
	}
}
