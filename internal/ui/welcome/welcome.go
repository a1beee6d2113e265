// Package welcome is what a new bench shows: what was found of games and of what can be filled, of which a person
// chooses with arrows and enter. A path or address can be typed instead. Nothing is written but the bench.
package welcome

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/gamefolders"
	"polytome/internal/target/drive"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
)

// question is what is asked at the moment.
type question int

const (
	whereGames question = iota // where the games are
	whatToFill
	whichLoader
)

// Model is the screen.
type Model struct {
	d       *state.State
	at      question
	input   textinput.Model // what is typed instead of choosing
	list    scroll.List
	choices []choice
	top     int // the line in which the list begins
	problem string
	moved   bool // the cursor, by a person

	folders   []string // in which games are looked for, too
	games     []gamefolders.Folder
	looked    bool // for games
	drives    int  // how many looks at drives are shown
	source    string
	target    bench.Target   // without its loader
	typed     *drive.Address // of a drive or image that is being looked at, nil for none
	bare      *state.Found   // the drive that has to be prepared, nil for none
	preparing string         // its path, once the bench is set up
}

// choice is a line that can be chosen.
type choice struct {
	name, say string
	apart     bool // it is set off from what is above
	rank      int  // the highest comes first
	do        func() (cmd tea.Cmd, done bool)
}

// New makes the screen. Games are looked for in further folders besides the usual ones.
func New(d *state.State, folders []string) *Model {
	m := &Model{d: d, input: textinput.New()}
	for _, dir := range folders {
		m.folders = append(m.folders, state.Expand(dir))
	}
	m.input.Prompt = ""
	m.input.ShowSuggestions = true
	m.input.Focus()
	m.offer()
	return m
}

// A GamesMsg is the folders that are likely to hold games.
type GamesMsg struct{ found []gamefolders.Folder }

// patience is for how long it is looked for games: what was found by then is offered.
const patience = 3 * time.Second

// Init looks for games and drives.
func (m *Model) Init() tea.Cmd { return tea.Batch(m.findGames(nil), m.d.FindDrives()) }

// findGames looks for games in the home folder, the working folder, and further places.
func (m *Model) findGames(further []string) tea.Cmd {
	ctx, set, folders := m.d.Ctx, m.d.Set, m.folders
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(ctx, patience)
		defer cancel()
		roots := append(slices.Clone(further), folders...)
		for _, root := range []func() (string, error){os.UserHomeDir, os.Getwd} {
			if dir, err := root(); err == nil {
				roots = append(roots, dir)
			}
		}
		return GamesMsg{gamefolders.Find(ctx, roots, set)}
	}
}

// Update takes in what was found; ok is false for another message.
func (m *Model) Update(msg tea.Msg) (cmd tea.Cmd, ok bool) {
	if games, is := msg.(GamesMsg); is {
		m.games, m.looked = games.found, true
		m.offer()
		return nil, true
	}
	return nil, false
}

// Refresh takes over drives that came or went. It reports whether the bench has been set up with that.
func (m *Model) Refresh() (cmd tea.Cmd, done bool) {
	if m.d.DrivesSeen == m.drives {
		return nil, false
	}
	m.drives = m.d.DrivesSeen
	if m.typed != nil {
		return m.takeTyped()
	}
	var mounted []string
	for _, f := range m.d.Drives {
		if !ofSystem(&f) {
			for _, v := range f.Volumes {
				mounted = append(mounted, v.MountedAt...)
			}
		}
	}
	m.offer()
	if len(mounted) == 0 {
		return nil, false
	}
	return m.findGames(mounted), false
}

// takeTyped fills the drive or image that was typed, now that it has been looked at.
func (m *Model) takeTyped() (tea.Cmd, bool) {
	a := *m.typed
	m.typed, m.problem = nil, ""
	i := slices.IndexFunc(m.d.Drives, func(f state.Found) bool { return f.Path == a.Drive || f.Key() == a.Drive })
	if i < 0 {
		m.ask(whichLoader) // it is looked at again when it is filled
		return nil, false
	}
	f := &m.d.Drives[i]
	for k, c := range m.driveChoices(f) {
		if a.Part == 0 || k < len(f.Volumes) && f.Volumes[k].Number == a.Part {
			return c.do()
		}
	}
	m.problem = "Nothing of " + f.Name() + " can be filled."
	if r := f.Refusal(); r != nil {
		m.problem = state.Sentence(r.Say)
	}
	return nil, false
}

// offer lists what can be chosen, and keeps the cursor on what it was on.
func (m *Model) offer() {
	was := ""
	if m.moved && m.list.Cursor < len(m.choices) {
		was = m.choices[m.list.Cursor].name
	}
	switch m.at {
	case whereGames:
		m.choices = m.gamesChoices()
	case whatToFill:
		m.choices = m.fillChoices()
	case whichLoader:
		m.choices = m.loaderChoices()
	}
	m.list.N = len(m.choices)
	m.list.Cursor = max(0, slices.IndexFunc(m.choices, func(c choice) bool { return c.name == was }))
}

// ask goes to another question.
func (m *Model) ask(q question) {
	m.at, m.problem, m.choices, m.moved = q, "", nil, false
	m.input.Reset()
	m.offer()
	m.list.Home()
}

// Key handles a key. It reports whether the bench has been set up.
func (m *Model) Key(msg tea.KeyPressMsg) (cmd tea.Cmd, done bool) {
	switch msg.String() {
	case "ctrl+c":
		return tea.Quit, false
	case "esc":
		m.back()
		return nil, false
	case "enter":
		if m.input.Value() != "" {
			return m.take(strings.TrimSpace(m.input.Value()))
		}
		return m.choose()
	case "up", "shift+tab":
		m.move(-1)
		return nil, false
	case "down":
		m.move(1)
		return nil, false
	}
	m.input, cmd = m.input.Update(msg)
	m.input.SetSuggestions(m.suggestions())
	m.problem = ""
	return cmd, false
}

func (m *Model) move(by int) {
	m.list.Move(by)
	m.moved, m.problem = true, ""
}

// suggestions are what tab completes.
func (m *Model) suggestions() []string {
	if m.at == whichLoader {
		var out []string
		for _, p := range m.d.Set.Profiles {
			out = append(out, p.Name)
		}
		return out
	}
	return state.Completions(m.input.Value())
}

// back drops what was typed, or goes to the question before. Nothing is thrown away.
func (m *Model) back() {
	m.typed = nil
	switch {
	case m.input.Value() != "":
		m.input.Reset()
	case m.at > whereGames:
		if m.at == whatToFill {
			m.source = ""
		}
		m.ask(m.at - 1)
	default:
		m.problem = "There is nothing to go back to. ctrl+c quits; nothing has been written."
	}
}

// choose does what is under the cursor.
func (m *Model) choose() (tea.Cmd, bool) {
	if m.list.Cursor >= len(m.choices) {
		m.problem = "Type the path of a folder."
		return nil, false
	}
	return m.choices[m.list.Cursor].do()
}

// Paste handles pasted text.
func (m *Model) Paste(msg tea.PasteMsg) {
	m.input, _ = m.input.Update(msg)
	m.problem = ""
}

// Click chooses what was clicked.
func (m *Model) Click(_, y int) (tea.Cmd, bool) {
	line := m.top
	from, to := m.list.Window()
	for i := from; i < to; i++ {
		if m.choices[i].apart && i > from {
			line++
		}
		if line == y {
			m.list.Cursor = i
			return m.choices[i].do()
		}
		line++
	}
	return nil, false
}

// take takes what was typed.
func (m *Model) take(typed string) (tea.Cmd, bool) {
	switch m.at {
	case whereGames:
		path, err := state.Folder(typed)
		if err != nil {
			m.problem = state.Sentence(err.Error())
			return nil, false
		}
		return m.takeGames(path)
	case whatToFill:
		return m.takeTarget(typed)
	}
	p, err := m.d.Set.Profile(strings.ToLower(typed))
	if err != nil {
		m.problem = state.Sentence(err.Error())
		return nil, false
	}
	return m.begin(p)
}

// takeGames takes the folder with the games.
func (m *Model) takeGames(path string) (tea.Cmd, bool) {
	m.source = path
	m.ask(whatToFill)
	return nil, false
}

// takeTarget takes the address of what shall be filled.
func (m *Model) takeTarget(typed string) (tea.Cmd, bool) {
	at, remote, err := state.Address(typed)
	if err != nil {
		m.problem = state.Sentence(err.Error())
		return nil, false
	}
	m.target, m.bare = bench.Target{At: at}, nil
	if a, ok := drive.ParseAddress(at); ok && !a.Network() {
		m.typed, m.problem = &a, "Looking at it "+"…"
		return m.d.NameImage(a.Drive), false
	}
	if !remote {
		if p := m.d.Set.Guess(near(at)); p != nil {
			return m.begin(p)
		}
	}
	m.ask(whichLoader)
	return nil, false
}

// near lists what is in a folder and in those of the folders in it.
func near(dir string) []string {
	var out []string
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		out = append(out, e.Name())
		if e.IsDir() {
			inner, _ := os.ReadDir(filepath.Join(dir, e.Name()))
			for _, i := range inner {
				out = append(out, e.Name()+"/"+i.Name())
			}
		}
	}
	return out
}
