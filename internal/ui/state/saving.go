package state

import (
	"sync"

	tea "charm.land/bubbletea/v2"
)

// SavedMsg says that the bench was saved, or why not.
type SavedMsg struct {
	Err    error
	number int
}

// SetSaved takes over how saving went.
func (d *State) SetSaved(m SavedMsg) {
	d.saved, d.saveFailed = max(d.saved, m.number), m.Err != nil
	if m.Err != nil {
		d.Notice = m.Err.Error()
	}
}

// SaveState says in a word whether the bench is on disk.
func (d *State) SaveState() string {
	switch {
	case d.Bench.File() == "":
		return "not kept"
	case d.Bench.ReadOnly() != "":
		return "READ-ONLY"
	case d.saveFailed:
		return "NOT SAVED"
	case d.saved < d.saver.number:
		return "saving"
	case d.fresh && d.saved == 0:
		return "new"
	}
	return "saved"
}

// saver writes benches in the order in which they were changed.
type saver struct {
	mu      sync.Mutex
	number  int // of the newest change
	written int // of the newest one on disk
}

func (d *State) save() tea.Cmd {
	d.saver.number++
	b, n, s := d.Bench.Clone(), d.saver.number, d.saver
	return func() tea.Msg {
		s.mu.Lock()
		defer s.mu.Unlock()
		if n <= s.written {
			return SavedMsg{number: n}
		}
		s.written = n
		return SavedMsg{b.Save(), n}
	}
}

// Reread reads the bench file again. What was chosen here and not saved is dropped.
func (d *State) Reread() tea.Cmd {
	if d.Running() {
		d.Notice = "A run is in progress: stop it first."
		return nil
	}
	if err := d.Bench.Reread(); err != nil {
		d.Notice = err.Error()
		return nil
	}
	d.undo, d.redo, d.saveFailed = nil, nil, false
	d.saved = d.saver.number
	d.resize()
	d.moved()
	d.Notice = "The bench was reloaded."
	return tea.Batch(d.StartScan(), d.Survey())
}
