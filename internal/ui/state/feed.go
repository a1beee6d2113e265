package state

import (
	tea "charm.land/bubbletea/v2"

	"polytome/internal/parallel"
)

// A feed brings what work in the background tells to the interface, which takes one message after another. It is closed
// when the work has ended.
type feed[M any] chan M

// newest is a feed in which only the newest of the messages that no one has taken yet is kept: each says how far it has
// come by then.
func newest[M any]() feed[M] { return make(feed[M], 1) }

// tell is for the one who works; it never waits.
func (f feed[M]) emit(m M) {
	select {
	case <-f:
	default:
	}
	f <- m
}

// start does the work. A mistake in it ends the work and not the program, and is reported as its last message.
func (f feed[M]) start(work func(), mistake func(error) M) {
	go func() {
		defer close(f)
		if err := parallel.Safely(func() error { work(); return nil }); err != nil {
			f.emit(mistake(err))
		}
	}()
}

// next waits for the next message.
func (f feed[M]) next() tea.Msg {
	if m, ok := <-f; ok {
		return m
	}
	return nil
}
