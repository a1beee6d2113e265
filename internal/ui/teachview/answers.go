package teachview

import (
	"path"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/learn"
	"polytome/internal/core/teach"
	"polytome/internal/target/drive"
	"polytome/internal/ui/state"
)

// answer takes an answer in, and learns again.
func (m *Model) answer(key, answer string) tea.Cmd {
	m.answers = append(m.answers, learn.Answer{Key: key, Answer: answer})
	m.undone = nil
	return tea.Batch(m.keep(), m.learn())
}

func (m *Model) undo() tea.Cmd {
	return m.turnBack(&m.answers, &m.undone, "Nothing has been answered yet.")
}

func (m *Model) redo() tea.Cmd { return m.turnBack(&m.undone, &m.answers, "There is nothing to redo.") }

// turnBack has the last answer of one list be the last of another, and learns again.
func (m *Model) turnBack(from, to *learn.Answers, none string) tea.Cmd {
	n := len(*from)
	if n == 0 {
		m.d.Notice = none
		return nil
	}
	*to = append(*to, (*from)[n-1])
	*from = (*from)[:n-1]
	return tea.Batch(m.keep(), m.learn())
}

// accept takes what is proposed.
func (m *Model) accept() tea.Cmd {
	q := m.question()
	if q == nil {
		m.d.Notice = "Nothing is open: W writes the profile."
		return nil
	}
	usual := q.Usual
	if usual == "" && len(q.Choices) > 0 {
		usual = q.Choices[0]
	}
	return m.answer(q.Key, usual)
}

// other asks for another answer.
func (m *Model) other() tea.Cmd {
	q := m.question()
	if q == nil {
		m.d.Notice = "Nothing is open: W writes the profile."
		return nil
	}
	hint := "esc leaves it open"
	if len(q.Choices) > 0 {
		hint = "one of: " + strings.Join(q.Choices, ", ")
	}
	key := q.Key
	m.d.Ask(state.Question{Prompt: "Your answer: ", Value: q.Usual, Hint: hint, Suggestions: q.Choices,
		Done: func(answer string) tea.Cmd { return m.answer(key, answer) }})
	return nil
}

// platform is the one that was worked out, of which a file is a game; nil for none.
func (m *Model) platform(file string) *teach.Platform {
	if m.draft == nil || len(m.draft.Taught) == 0 {
		return nil
	}
	ext := strings.ToLower(path.Ext(file))
	for _, p := range m.draft.Taught {
		if slices.Contains(p.Exts, ext) {
			return p
		}
	}
	return m.draft.Taught[0]
}

// point says which value of the game under the cursor is its ID, or its name: a part of its path to begin with.
func (m *Model) point(field, word string) func() tea.Cmd {
	return func() tea.Cmd {
		r, ok := m.current()
		if !ok {
			m.d.Notice = "Put the cursor on a game first."
			return nil
		}
		p := m.platform(r.path)
		if p == nil {
			m.d.Notice = "These games are of a platform that is known: there is nothing to say."
			return nil
		}
		base := path.Base(r.path)
		if !r.folder {
			base = strings.TrimSuffix(base, path.Ext(base))
		}
		m.d.Ask(state.Question{Prompt: "The " + word + " of this game: ", Value: base,
			Hint: "leave only the " + word + "; it is looked for in the game, and in the others at the same place",
			Done: func(answer string) tea.Cmd {
				if answer == "" {
					return nil
				}
				return m.answer(field+" "+p.Name, r.path+": "+answer)
			}})
		return nil
	}
}

// another asks for something else to learn from.
func (m *Model) another() tea.Cmd {
	m.d.Ask(state.Question{Prompt: "Learn from: ",
		Hint: "a folder, an image, or an address such as ftp://…; nothing on it changes",
		Done: func(answer string) tea.Cmd {
			at, _, err := state.Address(answer)
			if err != nil {
				m.d.Notice = state.Sentence(err.Error())
				return nil
			}
			at = drive.AddressOf(at)
			name := path.Base(strings.TrimRight(filepath.ToSlash(at), "/"))
			return m.d.Teach(state.Teaching{At: at, Name: name, Config: bench.Target{Name: name, At: at}})
		}})
	return nil
}

// leaveOut has nothing be learnt from the file under the cursor.
func (m *Model) leaveOut() tea.Cmd {
	r, ok := m.current()
	if !ok {
		return nil
	}
	return m.answer("file "+r.path, learn.Ignored)
}
