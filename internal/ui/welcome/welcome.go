// Package welcome is what an empty bench shows: it asks where the games are and
// what shall be filled, and nothing else.
package welcome

import (
	"os"
	"path/filepath"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/loader"
	"polytome/internal/target/folder"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// Model is the screen.
type Model struct {
	d       *state.State
	inputs  [3]textinput.Model
	asked   int // questions that are shown: the loader is asked for only when nothing tells it
	at      int
	problem string
}

var questions = [3]string{"Where are your games? A folder on this computer.",
	"What do you want to fill? The folder of a mounted stick, or ftp://… or smb://…",
	"Which loader reads it? Nothing on it shows which. (teach: none of these, learn it from what is on it)"}

// New makes the screen.
func New(d *state.State) *Model {
	m := &Model{d: d, asked: 2}
	for i := range m.inputs {
		m.inputs[i] = textinput.New()
		m.inputs[i].Prompt = ""
		m.inputs[i].ShowSuggestions = true
	}
	m.inputs[0].Focus()
	return m
}

// Key handles a key. It reports whether the bench has been set up.
func (m *Model) Key(msg tea.KeyPressMsg) (cmd tea.Cmd, done bool) {
	switch msg.String() {
	case "enter":
		return m.next()
	case "up", "shift+tab":
		m.focus(max(0, m.at-1))
		return nil, false
	case "down":
		m.focus(min(m.at+1, m.asked-1))
		return nil, false
	}
	in := &m.inputs[m.at]
	*in, cmd = in.Update(msg)
	if m.at == 2 {
		in.SetSuggestions(m.loaders())
	} else {
		in.SetSuggestions(folders(in.Value()))
	}
	m.problem = ""
	return cmd, false
}

// Paste handles pasted text.
func (m *Model) Paste(msg tea.PasteMsg) {
	m.inputs[m.at], _ = m.inputs[m.at].Update(msg)
}

// folders lists folders that complete what was typed.
func folders(typed string) []string {
	dir, _ := filepath.Split(typed)
	entries, err := os.ReadDir(state.Expand(orDot(dir)))
	if err != nil || len(entries) > 2000 {
		return nil
	}
	var out []string
	for _, e := range entries {
		if e.IsDir() && !strings.HasPrefix(e.Name(), ".") {
			out = append(out, dir+e.Name()+string(filepath.Separator))
		}
	}
	return out
}

func orDot(dir string) string {
	if dir == "" {
		return "."
	}
	return dir
}

func (m *Model) focus(i int) {
	m.inputs[m.at].Blur()
	m.at = i
	m.inputs[i].Focus()
}

// loaders are the names that can be answered.
func (m *Model) loaders() []string {
	var out []string
	for _, p := range m.d.Set.Profiles {
		out = append(out, p.Name)
	}
	return append(out, teach)
}

// teach is the answer that no known loader reads it.
const teach = "teach"

func (m *Model) next() (tea.Cmd, bool) {
	if m.at == 2 && strings.EqualFold(strings.TrimSpace(m.inputs[2].Value()), teach) {
		return m.d.BeginTeaching(m.inputs[0].Value(), m.inputs[1].Value()), true
	}
	if m.at == 2 {
		p, err := m.d.Set.Profile(strings.ToLower(strings.TrimSpace(m.inputs[2].Value())))
		if err != nil {
			m.problem = err.Error()
			return nil, false
		}
		return m.begin(p), true
	}
	if at, isRemote, err := state.Address(m.inputs[m.at].Value()); m.at == 1 && isRemote {
		if err != nil {
			m.problem = err.Error()
			return nil, false
		}
		m.inputs[1].SetValue(at)
		m.asked = 3
		m.focus(2)
		m.inputs[2].SetSuggestions(m.loaders())
		return nil, false
	}
	path, err := filepath.Abs(state.Expand(strings.TrimSpace(m.inputs[m.at].Value())))
	if err == nil {
		var p *folder.Target
		if p, err = folder.Open(path, folder.Options{}); err == nil {
			err = p.Close()
		}
	}
	if err != nil || strings.TrimSpace(m.inputs[m.at].Value()) == "" {
		m.problem = "Type the path of a folder."
		if err != nil {
			m.problem = err.Error()
		}
		return nil, false
	}
	m.inputs[m.at].SetValue(path)
	if m.at == 0 {
		m.focus(1)
		return nil, false
	}
	if p := m.d.Set.Guess(near(path)); p != nil {
		return m.begin(p), true
	}
	m.asked = 3
	m.focus(2)
	m.inputs[2].SetSuggestions(m.loaders())
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

// begin sets the bench up for the answers.
func (m *Model) begin(p *loader.Profile) tea.Cmd {
	source, path := m.inputs[0].Value(), m.inputs[1].Value()
	return m.d.Begin(source, state.NewTarget(path, p))
}

// View draws the screen.
func (m *Model) View(t *style.Theme, w, h int) []string {
	lines := []string{"", "  " + t.Bold(t.Text, "This bench is empty. Answer two questions to start."), ""}
	for i, q := range questions[:m.asked] {
		fg := t.Dim
		if i == m.at {
			fg = t.Accent
		}
		m.inputs[i].SetWidth(max(10, w-8))
		lines = append(lines, "  "+t.Bold(fg, q), "  "+t.Paint(fg, t.Glyph("▸"))+" "+m.inputs[i].View(), "")
	}
	if m.problem != "" {
		for _, l := range t.Wrap(m.problem, w-4) {
			lines = append(lines, "  "+t.Paint(t.Bad, l))
		}
		lines = append(lines, "")
	}
	lines = append(lines, "  "+t.Paint(t.Dim,
		t.Clip("The answers are kept in "+m.d.Bench.File()+". Nothing is written to the drive until you say so.", w-4)),
		"  "+t.Paint(t.Dim, "enter OK · tab completes · ctrl+c quits"))
	return t.Block(lines, w, h)
}
