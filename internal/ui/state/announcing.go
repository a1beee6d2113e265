package state

import (
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/notify"
)

// longRun is from how long on the end of a run is announced to somebody who may look elsewhere.
const longRun = 30 * time.Second

// announce announces that a run has ended that took long.
func (d *State) announce(l *Lane) tea.Cmd {
	say := "stopped, or not all of it could be done"
	if l.Report.All() && !l.Report.Stopped {
		say = "done: " + countTitles(l) + " written"
	}
	return announceEnd(l.Name, say, l.Report.Elapsed)
}

// announceEnd announces, with the terminal's bell and with a notification, that something has ended that took long.
func announceEnd(name, say string, took time.Duration) tea.Cmd {
	if took < longRun {
		return nil
	}
	return tea.Batch(tea.Raw(notify.Terminal(name, say)), func() tea.Msg {
		_ = notify.Desktop(name, say) // without a desktop, the terminal's own has to do
		return nil
	})
}
