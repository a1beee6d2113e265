package desk

import tea "charm.land/bubbletea/v2"

// A Question asks for a line of text at the foot of the screen.
type Question struct {
	Prompt string
	Value  string // what stands there at first
	Hint   string // what may be written, and what happens
	// Suggestions are what tab completes.
	Suggestions []string
	// Done takes the answer.
	Done func(answer string) tea.Cmd
}

// Ask shows a question. The answer comes when the user has written one; esc takes it back.
func (d *Desk) Ask(q Question) { d.Question = &q }

// An AskMsg is a question that was made in the background.
type AskMsg struct{ Question Question }
