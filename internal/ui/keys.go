package ui

import (
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"polytome/internal/ui/state"
)

// moves are the keys that only move.
var moves = []string{"up", "down", "pgup", "pgdown", "home", "end", "left", "right"}

// key handles a key press.
func (a *app) key(msg tea.KeyPressMsg) tea.Cmd {
	k := msg.String()
	a.state.Pressed()
	if a.welcome != nil {
		cmd, done := a.welcome.Key(msg)
		if done {
			return tea.Batch(cmd, a.begun())
		}
		return cmd
	}
	if a.palette != nil {
		chosen, over, cmd := a.palette.key(msg)
		if over {
			a.palette = nil
		}
		if chosen != nil {
			return a.chose(chosen)
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
	case finding, answering:
		return a.typed(msg)
	}
	meant := pressed(k)
	if other, ok := a.opts.Settings.Keys[k]; ok {
		meant = pressed(other)
	}
	own := len(a.stage().Actions())
	for i, x := range a.all() {
		if key.Matches(meant, x.Key) {
			a.state.Touched = a.state.Touched || i < own
			a.state.Notice = ""
			return a.do(x)
		}
	}
	return nil
}

// pressed is the name of a key.
type pressed string

func (p pressed) String() string { return string(p) }

// do does an action.
func (a *app) do(x state.Action) tea.Cmd {
	cmd := x.Do()
	a.settled()
	return cmd
}

// settled follows whatever was done: it puts the question that there may be, and has what was chosen be known
// by what was said of it.
func (a *app) settled() {
	a.state.NameChoice()
	a.putQuestion()
}

// putQuestion shows the question that there is, if there is one.
func (a *app) putQuestion() {
	if q := a.state.Question; q != nil {
		a.ask(answering, q.Prompt, q.Suggestions)
		if q.Secret {
			a.input.EchoMode = textinput.EchoPassword
		}
		a.input.SetValue(q.Value)
		a.input.CursorEnd()
		a.complete()
	}
}

func (a *app) ask(m mode, prompt string, suggestions []string) {
	a.mode = m
	a.input.Reset()
	a.input.EchoMode = textinput.EchoNormal
	a.input.Prompt = prompt
	a.input.SetSuggestions(suggestions)
	a.input.Focus()
}

// complete offers the paths that what was typed may become.
func (a *app) complete() {
	if q := a.state.Question; q != nil && q.Paths {
		a.input.SetSuggestions(state.Completions(a.input.Value()))
	}
}

// typed handles keys while something is asked at the foot.
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
		if was == answering {
			return a.answered(func(q *state.Question) tea.Cmd { return q.Done(strings.TrimSpace(a.input.Value())) })
		}
		return nil
	}
	if q := a.state.Question; a.mode == answering && q.Agree {
		for _, x := range q.Other {
			if key.Matches(msg, x.Key) {
				a.mode = normal
				return a.answered(func(*state.Question) tea.Cmd { return x.Do() })
			}
		}
		return nil
	}
	var cmd tea.Cmd
	a.input, cmd = a.input.Update(msg)
	if a.mode == finding {
		a.state.Touched = true
		a.stage().SetFilter(a.input.Value())
	} else {
		a.complete()
	}
	return cmd
}

// answered does what comes of an answer. A question that follows is put.
func (a *app) answered(do func(q *state.Question) tea.Cmd) tea.Cmd {
	q := a.state.Question
	a.state.Question = nil
	cmd := do(q)
	a.settled()
	return cmd
}
