package journal

import (
	"database/sql"
	"os"
	"sync"
	"time"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
)

// doneState is the state of steps that succeeded.
const doneState = "done"

// entry is what is to be written down of a step.
type entry struct {
	state    string
	bytes    int64
	sum, say string
}

// A Record writes down one run. A nil one does nothing.
type Record struct {
	j    *Journal
	id   int64
	plan *plan.Plan
	lock *os.File

	mu       sync.Mutex
	pending  map[int]entry // not written down yet
	since    time.Time     // of the oldest of them
	speeds   speeds
	course   Course
	reported time.Time // when the course was written down last
	Failed   error     // why something could not be written down
}

// ID is the run's number; 0 for none.
func (r *Record) ID() int64 {
	if r == nil {
		return 0
	}
	return r.id
}

// Small steps that come quickly one after another are written down together: at most so long after, and so many at
// once. What is lost of them in a crash is looked at again by the run that goes on.
const (
	writeWithin = 50 * time.Millisecond
	writeMost   = 512
)

// Event writes down what happened. It is named before a step is carried out, and before the next one is.
func (r *Record) Event(e run.Event) {
	if r == nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	now := false
	switch e.Kind {
	case run.Began, run.Failed, run.Skipped:
		r.pending[e.Step] = entry{state: string(e.Kind), say: e.Say}
		s := &r.plan.Steps[e.Step]
		now = e.Kind == run.Began && (s.Kind != plan.Copy || s.Size >= run.LargeFrom)
	case run.Done:
		r.pending[e.Step] = entry{state: doneState, bytes: e.Bytes, sum: e.Sum}
		now = e.Bytes >= run.LargeFrom
	case run.Waiting, run.PutOff, run.Ended, run.Paused:
		now = true
	}
	r.speeds.add(e)
	r.happened(e)
	if len(r.pending) == 0 {
		return
	}
	if r.since.IsZero() {
		r.since = time.Now()
	}
	if late := time.Since(r.since); now || len(r.pending) >= writeMost || late > writeWithin || late < 0 {
		r.write()
	}
}

// mostMoments is how many moments are kept of a run.
const mostMoments = 300

// happened keeps what is out of the ordinary.
func (r *Record) happened(e run.Event) {
	r.course.Elapsed = max(r.course.Elapsed, e.Elapsed)
	switch e.Kind {
	case run.Resuming, run.Rewriting, run.Failed, run.Skipped, run.PutOff, run.Waiting, run.Back, run.Paused,
		run.Resumed:
	default:
		return
	}
	if len(r.course.Moments) >= mostMoments {
		r.course.More++
		return
	}
	r.course.Moments = append(r.course.Moments, Moment{e.Elapsed, e.Kind, e.Path, e.Say})
}

// emitEvery is how often the course of a run is written down while it goes on, so that one that is killed has one.
const emitEvery = 5 * time.Second

// tell writes the course down.
func (r *Record) emit(tx interface {
	Exec(query string, args ...any) (sql.Result, error)
}) error {
	r.course.Span = r.speeds.span
	speeds, err := pack(r.speeds.even(r.course.Elapsed))
	if err != nil {
		return err
	}
	course, err := pack(r.course)
	if err != nil {
		return err
	}
	_, err = tx.Exec("UPDATE run SET speeds = ?, course = ? WHERE id = ?", speeds, course, r.id)
	return err
}

// write writes down what is pending; mu is held.
func (r *Record) write() {
	err := r.j.file.Do(func(db *sql.DB) error {
		tx, err := db.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if time.Since(r.reported) > emitEvery {
			r.reported = time.Now()
			if err := r.emit(tx); err != nil {
				return err
			}
		}
		put, err := tx.Prepare("INSERT OR REPLACE INTO step (run, n, state, bytes, sum, say) VALUES (?, ?, ?, ?, ?, ?)")
		if err != nil {
			return err
		}
		defer put.Close()
		for n, e := range r.pending {
			if _, err := put.Exec(r.id, n, e.state, e.bytes, e.sum, e.say); err != nil {
				return err
			}
		}
		return tx.Commit()
	})
	if err != nil && r.Failed == nil {
		r.Failed = err
	}
	clear(r.pending)
	r.since = time.Time{}
}

// End writes down how the run ended.
func (r *Record) End(report run.Report) error {
	if r == nil {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.pending) > 0 {
		r.write()
	}
	packed, err := pack(report)
	if err != nil {
		return err
	}
	r.course.Elapsed = report.Elapsed
	err = r.j.file.Do(func(db *sql.DB) error {
		if _, err := db.Exec("UPDATE run SET ended = ?, report = ? WHERE id = ?", time.Now().UnixMilli(), packed,
			r.id); err != nil {
			return err
		}
		return r.emit(db)
	})
	if r.lock != nil {
		_ = r.lock.Close()
		_ = os.Remove(r.j.lock(r.id))
		r.lock = nil
	}
	if err == nil {
		err = r.Failed
	}
	return err
}

// mostSpeeds is how many samples of the speed are kept of a run.
const mostSpeeds = 600

// speeds are bytes that were written in each of equal spans of time.
type speeds struct {
	span  time.Duration
	total int64
	bytes []int64
}

func (s *speeds) add(e run.Event) {
	if s.span == 0 {
		s.span = time.Second / 50
	}
	n := e.Total - s.total
	s.total = e.Total
	if e.Kind == run.Resuming || n <= 0 { // what was there was not written now
		return
	}
	for int(e.Elapsed/s.span) >= mostSpeeds { // pairs become one
		half := s.bytes[:0]
		for i := 0; i < len(s.bytes); i += 2 {
			sum := s.bytes[i]
			if i+1 < len(s.bytes) {
				sum += s.bytes[i+1]
			}
			half = append(half, sum)
		}
		s.bytes, s.span = half, 2*s.span
	}
	at := int(e.Elapsed / s.span)
	for len(s.bytes) <= at {
		s.bytes = append(s.bytes, 0)
	}
	s.bytes[at] += n
}

// even are the speeds in bytes a second; the last span may not be over.
func (s *speeds) even(whole time.Duration) []int64 {
	out := make([]int64, len(s.bytes))
	for i, n := range s.bytes {
		span := s.span
		if rest := whole - time.Duration(i)*s.span; rest > 0 && rest < span {
			span = rest
		}
		out[i] = int64(float64(n) / span.Seconds())
	}
	return out
}
