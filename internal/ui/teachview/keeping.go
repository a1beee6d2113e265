package teachview

import (
	"errors"
	"io/fs"
	"slices"
	"sync"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/learn"
	"polytome/internal/ui/state"
)

// keeper has the answers of targets written in the order in which they were given: what comes late never replaces what
// is newer. Writes are made on other goroutines, hence the lock.
type keeper struct {
	number int // of the newest answers; the screen's own

	mu      sync.Mutex
	written int
}

// A KeptMsg is that answers were written.
type KeptMsg struct{ err error }

// keep writes the answers of what is learnt from, so that they are there when the program is started again.
func (m *Model) keep() tea.Cmd {
	if m.d.OwnDir == "" || m.unread != "" {
		return nil
	}
	k := m.keeper
	k.number++
	n, file, at, all := k.number, learn.AnswersFile(m.d.OwnDir, m.from.At), m.from.At, slices.Clone(m.answers)
	return func() tea.Msg {
		k.mu.Lock()
		defer k.mu.Unlock()
		if n <= k.written {
			return KeptMsg{}
		}
		k.written = n
		return KeptMsg{learn.KeepAnswers(file, at, all)}
	}
}

// kept are the answers that were given of a target before; the sentence is why they could not be read.
func kept(own string, from state.Teaching) (learn.Answers, string) {
	if own == "" {
		return nil, ""
	}
	all, err := learn.ReadAnswers(learn.AnswersFile(own, from.At))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, state.Sentence("your earlier answers could not be read, and new ones are not kept: " + err.Error())
	}
	return all, ""
}
