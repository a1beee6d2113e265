package loadersview

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime/pprof"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
)

// An EditedMsg is that the editor was left.
type EditedMsg struct{ Err error }

// edit opens the profile in the user's editor.
func (m *Model) edit() tea.Cmd {
	file := m.file()
	if file == "" {
		m.d.Notice = "This profile ships with Polytome and cannot be edited: c makes your own copy."
		return nil
	}
	words := strings.Fields(editor())
	cmd := exec.Command(words[0], append(words[1:], file)...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	return tea.Exec(editing{cmd}, func(err error) tea.Msg { return EditedMsg{err} })
}

// edited reads the loaders again after the editor was left.
func (m *Model) edited(msg EditedMsg) tea.Cmd {
	var ended *exec.ExitError
	switch {
	case errors.As(msg.Err, &ended):
		m.d.Notice = fmt.Sprintf("The editor ended with an error: %v.", msg.Err)
	case msg.Err != nil:
		m.d.Notice = fmt.Sprintf("The editor could not be started: %v. Set the variable EDITOR to your editor.",
			msg.Err)
	}
	return m.d.Reload()
}

// editor is the command that the user edits with.
func editor() string {
	for _, name := range []string{"VISUAL", "EDITOR"} {
		if e := strings.TrimSpace(os.Getenv(name)); e != "" {
			return e
		}
	}
	for _, e := range []string{"nano", "vi", "notepad"} {
		if _, err := exec.LookPath(e); err == nil {
			return e
		}
	}
	return "vi"
}

// editing is an editor that has the terminal to itself until it ends.
type editing struct{ *exec.Cmd }

// Run waits, before it starts the editor, until the goroutine that draws has ended. Bubble Tea (2.1.1) only tells it to
// stop, and starts the clock of the next one when the editor ends: an editor that ends at once, or cannot be started,
// let the old goroutine stop that clock afterwards, and nothing was drawn any more.
func (e editing) Run() error {
	for drawing() {
		time.Sleep(time.Millisecond)
	}
	return e.Cmd.Run()
}

// drawing reports whether Bubble Tea's goroutine that draws is still there.
func drawing() bool {
	var stacks bytes.Buffer
	return pprof.Lookup("goroutine").WriteTo(&stacks, 1) == nil &&
		bytes.Contains(stacks.Bytes(), []byte("bubbletea/v2.(*Program).startRenderer.func1"))
}

// The editor has the terminal of the program already.

func (editing) SetStdin(io.Reader)  {}
func (editing) SetStdout(io.Writer) {}
func (editing) SetStderr(io.Writer) {}
