package ui

import (
	"context"
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/draw"
	"polytome/internal/ui/coversview"
	"polytome/internal/ui/desk"
	"polytome/internal/ui/drivesview"
	"polytome/internal/ui/fitview"
	"polytome/internal/ui/hookview"
	"polytome/internal/ui/intakeview"
	"polytome/internal/ui/loadersview"
	"polytome/internal/ui/proofview"
	"polytome/internal/ui/runview"
	"polytome/internal/ui/style"
	"polytome/internal/ui/treeview"
	"polytome/internal/ui/welcome"
)

// A stage is one of the five screens.
type stage interface {
	Name() string
	Number() string
	Refresh()
	SetFilter(string)
	Escape() bool
	Title() (index int, ok bool)
	Drawing() draw.Request
	Actions() []desk.Action
	Click(x, y int) tea.Cmd
	Wheel(by int)
	Why() desk.Why
	View(t *style.Theme, w, h int) []string
}

// A panel is a screen that is reached from every stage.
type panel interface {
	stage
	Open() tea.Cmd
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
	desk    *desk.Desk
	theme   *style.Theme
	opts    Options
	dark    bool
	colours colorprofile.Profile
	w, h    int
	stages  []stage
	at      int
	tree    *treeview.Model
	proof   *proofview.Model
	loaders *loadersview.Model
	drives  *drivesview.Model
	hook    *hookview.Model
	covers  *coversview.Model
	panel   panel          // what is shown instead of the stage, nil for nothing
	welcome *welcome.Model // nil once the bench is set up
	mode    mode
	input   textinput.Model
	rail    []int // where each stage begins in the top line
}

func newApp(ctx context.Context, b *bench.Bench, set *loader.Set, o Options) *app {
	d := desk.New(ctx, b, set, o.Rate)
	d.OwnDir, d.CacheFile = o.OwnDir, o.CacheFile
	d.SetCoversDir(o.CoversDir)
	a := &app{desk: d, opts: o, dark: true, colours: colorprofile.TrueColor, w: 80, h: 24}
	a.tree = treeview.New(d)
	a.proof = proofview.New(d)
	a.stages = []stage{intakeview.New(d), fitview.New(d), a.tree, runview.New(d), a.proof}
	a.loaders, a.drives, a.hook, a.covers = loadersview.New(d), drivesview.New(d), hookview.New(d), coversview.New(d)
	if len(b.Sources) == 0 && len(b.Places) == 0 {
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
	return tea.Batch(tea.RequestBackgroundColor, a.desk.StartScan(), a.desk.Survey(), a.desk.LookBack())
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
	if cmd, ok := a.desk.Changed(msg); ok {
		return a, cmd
	}
	if cmd, ok := a.desk.Plugged(msg); ok {
		return a, cmd
	}
	if cmd, ok := a.drives.Update(msg); ok {
		return a, cmd
	}
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		a.w, a.h = msg.Width, msg.Height
		return a, nil
	case tea.BackgroundColorMsg:
		a.dark = msg.IsDark()
		a.setTheme()
		return a, nil
	case tea.ColorProfileMsg:
		a.colours = msg.Profile
		a.setTheme()
		return a, nil
	case tea.KeyPressMsg:
		cmd := a.key(msg)
		return a, cmd
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
		return a, nil
	case tea.MouseClickMsg:
		return a, a.click(msg.X, msg.Y)
	case tea.MouseWheelMsg:
		a.wheel(msg)
		return a, nil
	case desk.ScanMsg:
		cmd := a.desk.SetScan(msg)
		a.stage().Refresh()
		return a, cmd
	case desk.SurveyMsg:
		a.desk.SetSurvey(msg)
		a.stage().Refresh()
		if a.mode == normal {
			a.putQuestion()
		}
		return a, nil
	case desk.AskMsg:
		if a.mode == normal {
			a.desk.Ask(msg.Question)
			a.putQuestion()
		}
		return a, nil
	case desk.PlanMsg:
		a.desk.SetPlan(msg)
		return a, nil
	case treeview.LinesMsg:
		a.tree.SetLines(msg)
		return a, nil
	case desk.SharingMsg:
		a.desk.SetSharing(msg)
		return a, nil
	case desk.SupposingMsg:
		return a, a.desk.SetSupposing(msg)
	case desk.RunMsg:
		return a, a.desk.SetRun(msg)
	case desk.MovedMsg:
		return a, a.desk.SetMoved(msg)
	case desk.HistoryMsg:
		a.desk.SetHistory(msg)
		if a.mode == normal {
			a.putQuestion()
		}
		return a, nil
	case desk.ProofMsg:
		a.desk.SetProof(msg)
		a.stage().Refresh()
		return a, nil
	case desk.CoverMsg:
		a.proof.SetCover(msg)
		return a, nil
	case desk.FetchMsg:
		return a, a.desk.SetFetch(msg)
	case desk.SeenMsg:
		return a, a.desk.SetSeen(msg)
	case desk.CoverStatesMsg:
		a.covers.SetStates(msg)
		return a, nil
	case desk.LargeMsg:
		a.covers.SetLarge(msg)
		return a, nil
	case desk.DrawnMsg:
		a.desk.SetDrawn(msg)
		return a, nil
	case desk.HookUpMsg:
		return a, a.desk.SetHookUp(msg)
	case desk.LinkMsg:
		a.desk.SetLink(msg)
		return a, nil
	case desk.LookAgainMsg:
		return a, a.desk.LookNow(a.panel == a.hook)
	case desk.LoadersMsg:
		cmd := a.desk.SetLoaders(msg)
		a.loaders.Refresh()
		a.stage().Refresh()
		return a, cmd
	case loadersview.TreeMsg:
		a.loaders.SetTree(msg)
		return a, nil
	case loadersview.EditedMsg:
		return a, a.loaders.Edited(msg)
	case loadersview.LearntMsg:
		return a, a.loaders.Learnt(msg)
	case desk.VerifyMsg:
		return a, a.desk.SetVerify(msg)
	case desk.SavedMsg:
		a.desk.SetSaved(msg)
		return a, nil
	}
	return a, nil
}

// actions are those of every screen.
func (a *app) actions() []desk.Action {
	var out []desk.Action
	for i, s := range a.stages {
		out = append(out, desk.Do(fmt.Sprint(i+1), s.Name(), func() tea.Cmd { return a.show(i) }))
	}
	return append(out,
		desk.Do("/", "find: show only what has these words", desk.Just(func() { a.ask(finding, "find ", nil) })),
		desk.Do("esc", "back: drop the filter, leave the panel", desk.Just(a.back)),
		desk.Do("D", "Drives: what is plugged in, block map, ready, check, eject", func() tea.Cmd { return a.open(a.drives) }),
		desk.Do("C", "Covers: all pictures; fetch, compare, choose, crop", func() tea.Cmd { return a.open(a.covers) }),
		desk.Do("L", "Loaders: their rules, and the tree that they make", func() tea.Cmd { return a.open(a.loaders) }),
		desk.Do("H", "Hook-up: what is joined to what, tests, direct cable", func() tea.Cmd { return a.open(a.hook) }),
		desk.Do("O", "On paper: draw what is shown, or the rest, as PDF or SVG", desk.Just(func() { a.desk.AskDrawing(a.stage().Drawing()) })),
		desk.Do("P", "Place: add one, by its folder, image or address", desk.Just(a.desk.AskPlace)),
		desk.Do("u", "undo the last choice", a.desk.Undo),
		desk.Do("U", "redo it", a.desk.Redo),
		desk.Do(":", "do anything by its name", desk.Just(func() { a.ask(commanding, ": ", a.names()) })),
		desk.Do("ctrl+r", "read the bench file anew, after another program changed it", a.desk.Reread),
		desk.Do("?", "these keys", desk.Just(func() { a.mode = helping })),
		desk.Do("q ctrl+c", "quit", a.quit),
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
	a.desk.Notice = ""
	a.stage().Refresh()
	if i == len(a.stages)-1 && a.desk.Place < len(a.desk.Proofs) && a.desk.Proofs[a.desk.Place].Report == nil && !a.desk.Running() {
		return a.desk.StartProof(a.desk.Place, "")
	}
	return nil
}

// quit asks while a run goes on.
func (a *app) quit() tea.Cmd {
	if a.drives.Readying() {
		a.desk.Notice = "A drive is being readied. That is over in a moment, and breaking it off would leave it unusable."
		return nil
	}
	if a.desk.Running() {
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
func (a *app) all() []desk.Action { return append(a.stage().Actions(), a.actions()...) }

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
			a.desk.StopRuns()
			return tea.Quit
		}
		return nil
	case finding, commanding, answering:
		return a.typed(msg)
	}
	for _, x := range a.all() {
		if key.Matches(msg, x.Key) {
			a.desk.Notice = ""
			return a.do(x)
		}
	}
	return nil
}

// do does an action, and puts the question that it may have.
func (a *app) do(x desk.Action) tea.Cmd {
	cmd := x.Do()
	a.putQuestion()
	return cmd
}

// putQuestion shows the question that the desk has, if it has one.
func (a *app) putQuestion() {
	if q := a.desk.Question; q != nil {
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
		a.mode, a.desk.Question = normal, nil
		return nil
	case "enter":
		was := a.mode
		a.mode = normal
		switch was {
		case commanding:
			return a.command(a.input.Value())
		case answering:
			q := a.desk.Question
			a.desk.Question = nil
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

// command does the action of that name, or the only one that begins so.
func (a *app) command(name string) tea.Cmd {
	var fits []desk.Action
	for _, x := range a.all() {
		desc := x.Key.Help().Desc
		if desc == name {
			return a.do(x)
		}
		if len(name) > 0 && len(desc) >= len(name) && desc[:len(name)] == name {
			fits = append(fits, x)
		}
	}
	if len(fits) == 1 {
		return a.do(fits[0])
	}
	a.desk.Notice = fmt.Sprintf("There is no action %q here; tab completes a name.", name)
	if len(fits) > 1 {
		a.desk.Notice = fmt.Sprintf("%q begins several actions; write more of it, or let tab complete it.", name)
	}
	return nil
}

func (a *app) click(x, y int) tea.Cmd {
	if a.welcome != nil || a.mode != normal {
		a.mode, a.desk.Question = normal, nil
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
