package ui

import (
	"context"
	"fmt"
	"iter"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"polytome/internal/config"
	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/draw"
	"polytome/internal/logbook"
	"polytome/internal/ui/checkview"
	"polytome/internal/ui/connectionsview"
	"polytome/internal/ui/coversview"
	"polytome/internal/ui/dockview"
	"polytome/internal/ui/drivesview"
	"polytome/internal/ui/fitview"
	"polytome/internal/ui/gamesview"
	"polytome/internal/ui/ledgerview"
	"polytome/internal/ui/loadersview"
	"polytome/internal/ui/runview"
	"polytome/internal/ui/savesview"
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
	palette *palette       // nil while none is open
	recent  []string       // what was chosen from palettes, the last at the end
	mode    mode
	input   textinput.Model
	rail    []int // where each stage and panel begins in the top line
	rails   []func() tea.Cmd
	spots   []spot // what can be clicked in the lines at the foot
	folded  bool   // the rack is not shown
	shows   showing
	keeping keeping
}

func newApp(ctx context.Context, b *bench.Bench, set *loader.Set, o Options) *app {
	d := state.New(ctx, b, set, o.Rate)
	d.OwnDir, d.CacheFile = o.OwnDir, o.CacheFile
	d.DiscAccess, d.Ledger = o.Discs, o.Ledger
	if d.KeepAlways = o.Settings.KeepSaves; o.Settings.Saves != "" {
		d.Vault.Dir = state.Expand(o.Settings.Saves)
	}
	d.SetCoversDir(o.CoversDir)
	a := &app{state: d, opts: o, dark: true, colours: colorprofile.TrueColor, w: 80, h: 24}
	a.stages = []stage{gamesview.New(d), fitview.New(d), treeview.New(d), runview.New(d), checkview.New(d)}
	a.panels = []opened{
		{coversview.New(d), "C", "all pictures; download, compare, choose, crop"},
		{drivesview.New(d), "D", "what is plugged in; prepare, block map, check, eject"},
		{loadersview.New(d), "L", "their rules, and the tree that they make"},
		{connectionsview.New(d), "H", "links, their tests, direct cable"},
		{savesview.New(d), "S", "what players have reached: keep it, put it back, copy it"},
		{ledgerview.New(d), "I", "what lies on every stick and share, also on those in a drawer"},
		{dockview.New(d), "E", "each stick and console that comes is brought up to date"},
		{teachview.New(d), "N", "an unknown console, learnt from a stick that it reads"},
	}
	if len(b.Sources) == 0 && len(b.Targets) == 0 {
		a.welcome = welcome.New(d, o.Settings.Folders)
	}
	a.input = textinput.New()
	a.input.ShowSuggestions = true
	a.setTheme()
	return a
}

// setTheme has things look as the settings say, and else as suits the background.
func (a *app) setTheme() {
	dark := a.dark
	if a.opts.Settings.Theme == config.Dark || a.opts.Settings.Theme == config.Light {
		dark = a.opts.Settings.Theme == config.Dark
	}
	a.theme = style.New(dark, a.opts.ASCII || a.opts.Settings.ASCII, a.colours)
	switch a.opts.Settings.Theme {
	case config.Contrast:
		a.theme.Contrast(dark)
	case config.Safe:
		a.theme.Safe(dark)
	}
	a.hangPictures()
}

// Init starts the first scan.
func (a *app) Init() tea.Cmd {
	if a.welcome != nil {
		return tea.Batch(tea.RequestBackgroundColor, a.askForPictures(), a.welcome.Init(), a.state.WatchDrives())
	}
	return tea.Batch(tea.RequestBackgroundColor, a.askForPictures(), a.state.StartScan(),
		a.state.Survey(), a.state.LookBack(), a.state.FindDiscs())
}

func (a *app) stage() stage {
	if a.panel != nil {
		return a.panel
	}
	return a.stages[a.at]
}

// Update takes a message in. Everything slow is a command.
func (a *app) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	said := a.state.Notice
	if cmd, ok := a.picturesUpdate(msg); ok {
		return a, cmd
	}
	m, cmd := a.update(msg)
	cmd = tea.Batch(cmd, a.lookAtPictures())
	if n := a.state.Notice; n != "" && n != said {
		logbook.Note("shown", "text", n)
	}
	if a.welcome != nil {
		more, done := a.welcome.Refresh()
		if cmd = tea.Batch(cmd, more); done {
			cmd = tea.Batch(cmd, a.begun())
		}
		return m, cmd
	}
	if w, ok := a.stage().(interface{ Work() tea.Cmd }); ok {
		cmd = tea.Batch(cmd, w.Work())
	}
	return m, tea.Batch(cmd, a.state.Work(a.panel == nil && a.at >= runStage))
}

func (a *app) update(msg tea.Msg) (tea.Model, tea.Cmd) {
	if a.welcome != nil {
		if cmd, ok := a.welcome.Update(msg); ok {
			return a, cmd
		}
	}
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
		if g := a.shows.gallery; g != nil { // another size of letters, perhaps
			g.Wiped()
			return a, tea.Raw(askCell)
		}
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
		case a.palette != nil:
			a.palette.input, _ = a.palette.input.Update(msg)
			a.palette.find()
		case a.mode == finding, a.mode == answering && !a.state.Question.Agree:
			a.input, _ = a.input.Update(msg)
			if a.mode == finding {
				a.state.Touched = true
				a.stage().SetFilter(a.input.Value())
			}
		}
	case tea.MouseClickMsg:
		return a, a.click(msg.X, msg.Y)
	case tea.MouseWheelMsg:
		a.wheel(msg)
	case settingsMsg:
		return a, a.settingsKept(msg)
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

// screens are all stages and panels, with what shows each.
func (a *app) screens() iter.Seq2[stage, func() tea.Cmd] {
	return func(yield func(stage, func() tea.Cmd) bool) {
		for i, s := range a.stages {
			if !yield(s, func() tea.Cmd { return a.show(i) }) {
				return
			}
		}
		for _, p := range a.panels {
			if !yield(p.panel, func() tea.Cmd { return a.open(p.panel) }) {
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
		state.Do("W", "write", a.write).Saying("what is planned for the target; enter agrees").Writing(),
		state.Do("O", "On paper", state.Just(func() { a.state.AskDrawing(a.stage().Drawing()) })).
			Saying("draw this screen, or something else, as PDF or SVG"),
		state.Do("P", "add a target", state.Just(a.state.AskTarget)).Saying("a folder, image or address"),
		state.Do("u", "undo the last choice", a.state.Undo),
		state.Do("U", "redo it", a.state.Redo),
		state.Do("ctrl+u", "choices so far", state.Just(a.openHistory)).Saying("go back to any of them"),
		state.Do(":", "do it by name", state.Just(a.openPalette)).Saying("every action, target and title"),
		state.Do("r", "look again", a.lookAgain).Saying("at folders and targets"),
		state.Do("\\", "fold the rack", state.Just(func() { a.folded = !a.folded })).Saying("or unfold it"),
		state.Do("ctrl+r", "reload the bench", a.state.Reread).Saying("after another program changed its file"),
		state.Do("?", "these keys", state.Just(func() { a.mode = helping })),
		state.Do("q ctrl+c", "quit", a.quit),
	)
}

// write asks whether what is planned for the target shall be written, and shows the run.
func (a *app) write() tea.Cmd {
	var shown tea.Cmd
	if a.panel != nil || a.at != runStage {
		shown = a.show(runStage)
	}
	return tea.Batch(shown, a.state.AskWrite(a.state.Target))
}

// runStage is the number of the stage in which runs are shown.
const runStage = 3

// lookAgain looks at all folders and targets again.
func (a *app) lookAgain() tea.Cmd {
	a.state.Notice = "Looking again."
	return tea.Batch(a.state.StartScan(), a.state.Survey())
}

// welcomeTop is the line in which what a new bench shows begins.
const welcomeTop = 2

// begun shows the stages of a bench that was just set up; or the drive that has to be prepared for it.
func (a *app) begun() tea.Cmd {
	prepares := a.welcome.Prepares()
	a.welcome, a.at = nil, 0
	a.stage().Refresh()
	if prepares == "" {
		return nil
	}
	for _, p := range a.panels {
		if x, ok := p.panel.(*drivesview.Model); ok {
			return tea.Batch(a.open(x), x.PrepareFor(prepares, a.state.Bench.Targets[0].Loader))
		}
	}
	return nil
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
	if a.state.Running() || a.state.Playing() != "" || a.state.Burning() != "" || a.state.Reading() ||
		a.state.Dock != nil {
		a.mode = quitting
		return nil
	}
	return tea.Quit
}

// all are the actions that can be done now, the stage's own first.
func (a *app) all() []state.Action { return append(a.stage().Actions(), a.actions()...) }

func (a *app) click(x, y int) tea.Cmd {
	a.state.Pressed()
	if a.welcome != nil {
		cmd, done := a.welcome.Click(x, y-welcomeTop)
		if done {
			return tea.Batch(cmd, a.begun())
		}
		return cmd
	}
	for _, s := range a.spots {
		if y == s.y && x >= s.from && x < s.to {
			return s.do()
		}
	}
	if a.palette != nil {
		if p := a.palette; p.list.Click(y - a.frame().top - p.top) {
			e := p.at(p.list.Cursor)
			a.palette = nil
			return a.chose(&e)
		}
		return nil
	}
	if a.mode != normal {
		a.mode, a.state.Question = normal, nil
		return nil
	}
	if y == 0 {
		for i := len(a.rail) - 1; i >= 0; i-- {
			if x >= a.rail[i] {
				return a.rails[i]()
			}
		}
		return nil
	}
	f := a.frame()
	if y >= f.top && y < f.top+f.height && x < f.width {
		a.state.Touched = true
		return a.stage().Click(x, y-f.top)
	}
	return nil
}

// wheelRows is how far one notch of the wheel goes.
const wheelRows = 3

func (a *app) wheel(msg tea.MouseWheelMsg) {
	if a.palette != nil {
		switch msg.Button {
		case tea.MouseWheelUp:
			a.palette.list.Move(-wheelRows)
		case tea.MouseWheelDown:
			a.palette.list.Move(wheelRows)
		}
		return
	}
	if a.welcome != nil || a.mode != normal {
		return
	}
	a.state.Touched = true
	switch msg.Button {
	case tea.MouseWheelUp:
		a.stage().Wheel(-wheelRows)
	case tea.MouseWheelDown:
		a.stage().Wheel(wheelRows)
	}
}
