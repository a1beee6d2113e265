// Package writeback has the system bring what is written to a file or device to the medium while more is written,
// rather than all of it when the file is flushed: then the medium is busy while more is read and hashed, progress
// describes what is on the medium, and whoever stops does not wait for what the system still keeps in memory.
package writeback

import (
	"os"
	"sync"
	"time"
)

const (
	// piece is after how many bytes the system is asked to begin with them.
	piece = 2 << 20
	// most is how many pieces may be under way at the most.
	most = 32
	// long is for how long the medium may still be busy with what is under way.
	long = 400 * time.Millisecond
	// blink is what it takes to find out that nothing has to be waited for.
	blink = 200 * time.Microsecond
	// few is from how many pieces on they tell the medium's pace.
	few = 4
)

// A Queue knows what of a file is on its way to the medium. No more is let onto it than the medium takes in less than
// half a second, as far as its last pieces tell: who writes more waits. Its methods are safe for several goroutines.
type Queue struct {
	system

	mu     sync.Mutex
	next   span
	n      int64     // bytes of next that were written; there may be gaps
	under  []span    // oldest first
	window int       // how many pieces may be under way
	last   time.Time // when it was last learnt how fast the medium is
	since  int       // how many pieces are there since
}

// span is the bytes from one on up to another.
type span struct{ from, to int64 }

// system is what is asked to write, and the clock that shows how long that takes.
type system interface {
	// begin has it begin to write bytes, and does not wait for that.
	begin(from, n int64)
	// await waits until bytes that it began to write are on the medium; n is 0 for all from there on.
	await(from, n int64) error
	now() time.Time
}

// Of is the queue of a file that is written.
func Of(f *os.File) *Queue { return on(file{f}) }

func on(s system) *Queue { return &Queue{system: s, window: 1} }

// Wrote is to be called when n bytes were written at a byte of the file. Its error is one that the medium had with
// bytes that were written earlier. It must be reported: flushing the file does not report it once more.
func (q *Queue) Wrote(at, n int64) error {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.n == 0 {
		q.next = span{at, at + n}
	}
	q.next = span{min(q.next.from, at), max(q.next.to, at+n)}
	if q.n += n; q.n < piece {
		return nil
	}
	q.begin(q.next.from, q.next.to-q.next.from)
	q.under = append(q.under, q.next)
	q.n = 0
	for len(q.under) > q.window {
		oldest, began := q.under[0], q.now()
		err := q.await(oldest.from, oldest.to-oldest.from)
		q.under = q.under[1:]
		if err != nil {
			return err
		}
		q.learn(began, q.now())
	}
	return nil
}

// learn takes in when it was begun to wait for a piece, and when that was there. Only where it was really waited for is
// the medium known to be busy; a few pieces together tell its pace, as it may finish several at once.
func (q *Queue) learn(began, done time.Time) {
	q.since++
	if q.since < few || done.Sub(began) < blink {
		return
	}
	each := done.Sub(q.last) / time.Duration(q.since)
	q.last, q.since = done, 0
	switch all := each * time.Duration(q.window+1); { // and what is gathered
	case all > long:
		q.window = max(1, q.window/2)
	case all < long/4:
		q.window = min(most, 2*q.window)
	}
}

// Flushed is to be called when everything is on the medium.
func (q *Queue) Flushed() {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.under, q.n = nil, 0
}

// Failed is an error that the medium had with bytes of a file, where the whole filesystem was flushed and not the file:
// what the system wrote by itself before that is told of to the file alone.
func Failed(f *os.File) error { return file{f}.await(0, 0) }

// file is a file of this computer.
type file struct{ *os.File }

func (file) now() time.Time { return time.Now() }
