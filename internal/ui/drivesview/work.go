package drivesview

import (
	"context"

	tea "charm.land/bubbletea/v2"
)

// idle reports, and says, that something has to come to its end first.
func (m *Model) idle() bool {
	if m.busy != "" {
		m.d.Notice = "One moment: " + m.busy + "."
		return false
	}
	if m.d.Running() {
		m.d.Notice = "A run is in progress: wait for it to end, or stop it."
		return false
	}
	return true
}

// A doneMsg is that something in the background came to its end.
type doneMsg struct {
	say    string
	err    error
	change bool // a drive is another one now
	take   func(m *Model)
	then   func(m *Model) tea.Cmd // what else is to be done; nil for nothing
}

// do does something in the background.
func (m *Model) do(what string, work func(ctx context.Context) doneMsg) tea.Cmd {
	ctx, cancel := context.WithCancel(m.d.Ctx)
	m.busy, m.cancel = what, cancel
	return func() tea.Msg {
		defer cancel()
		return work(ctx)
	}
}

// A countedMsg is how many bytes something in the background is through.
type countedMsg struct {
	bytes int64
	next  <-chan int64
}

// counting does something in the background that says how far it is.
func (m *Model) counting(what string, work func(ctx context.Context, count func(n int64)) doneMsg) tea.Cmd {
	bytes := make(chan int64, 1)
	m.counted = 0
	cmd := m.do(what, func(ctx context.Context) doneMsg {
		defer close(bytes)
		var sum int64
		return work(ctx, func(n int64) {
			sum += n
			select {
			case bytes <- sum:
			default: // what is shown is not that far yet
			}
		})
	})
	return tea.Batch(cmd, count(bytes))
}

// count waits for the next number of bytes.
func count(bytes <-chan int64) tea.Cmd {
	return func() tea.Msg {
		n, ok := <-bytes
		if !ok {
			return nil
		}
		return countedMsg{n, bytes}
	}
}
