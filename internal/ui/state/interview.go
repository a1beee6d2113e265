package state

import (
	"fmt"
	"os"
	"os/exec"

	tea "charm.land/bubbletea/v2"
)

// An InterviewMsg is that the questions about a new loader were answered, or given up.
type InterviewMsg struct{ Err error }

// Interview leaves the screen for the questions of "polytome loaders new", and comes back then.
func (d *State) Interview() tea.Cmd {
	self, err := os.Executable()
	if err != nil {
		d.Notice = Sentence(err.Error())
		return nil
	}
	return tea.ExecProcess(exec.CommandContext(d.Ctx, self, "loaders", "new"),
		func(err error) tea.Msg { return InterviewMsg{err} })
}

// SetInterview reads the loaders again.
func (d *State) SetInterview(m InterviewMsg) tea.Cmd {
	d.Notice = "L lists the loader that your answers made; P adds what it fills."
	if m.Err != nil {
		d.Notice = fmt.Sprintf("The questions ended early (%v). What you answered is kept, and it goes on there.",
			m.Err)
	}
	return d.Reload()
}
