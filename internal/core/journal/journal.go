// Package journal writes down every run, before and after each step, so that one that was killed can be resumed, and
// those that are over can be looked at. It is one SQLite file in the user's state folder.
package journal

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/klauspost/compress/zstd"

	"polytome/internal/core/bench"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/lockfile"
	"polytome/internal/sqlitefile"
)

// migrations bring a file to each version from the one before.
var migrations = []string{
	`CREATE TABLE run (id INTEGER PRIMARY KEY AUTOINCREMENT, began INTEGER NOT NULL,
	   ended INTEGER NOT NULL DEFAULT 0, target TEXT NOT NULL, at TEXT NOT NULL, bench TEXT NOT NULL,
	   config BLOB NOT NULL, plan BLOB NOT NULL, verify TEXT NOT NULL, after INTEGER NOT NULL,
	   followed INTEGER NOT NULL DEFAULT 0, steps INTEGER NOT NULL, files INTEGER NOT NULL,
	   bytes INTEGER NOT NULL, report BLOB NOT NULL DEFAULT '', speeds BLOB NOT NULL DEFAULT '',
	   course BLOB NOT NULL DEFAULT '');
	 CREATE TABLE step (run INTEGER NOT NULL, n INTEGER NOT NULL, state TEXT NOT NULL, bytes INTEGER NOT NULL,
	   sum TEXT NOT NULL, say TEXT NOT NULL, PRIMARY KEY (run, n)) WITHOUT ROWID;`,
}

// errNewer reports a journal that a newer Polytome has written.
var errNewer = errors.New("it belongs to a newer Polytome, and is left alone")

// A Journal is an opened one. A nil one writes nothing down.
type Journal struct {
	file *sqlitefile.File
	dir  string // where runs that go on have their locks
}

// Open opens a journal, and begins one where there is none. One that is damaged is put aside; [Journal.Note] says so.
func Open(file string) (*Journal, error) {
	f, err := sqlitefile.Open(file, sqlitefile.Kind{Migrations: migrations, Newer: errNewer,
		Damaged: "the journal of runs %s was damaged; it was set aside and a new one created. Earlier interrupted " +
			"runs are no longer offered: filling the target again completes them anyway"})
	if err != nil {
		return nil, fmt.Errorf("the journal of runs %s cannot be used: %w", file, err)
	}
	return &Journal{f, filepath.Dir(file)}, nil
}

// Note says what happened to the journal, "" for nothing.
func (j *Journal) Note() string {
	if j == nil {
		return ""
	}
	return j.file.Note()
}

// Close closes the journal.
func (j *Journal) Close() error {
	if j == nil {
		return nil
	}
	return j.file.Close()
}

// A State is how a run stands.
type State string

const (
	Resuming State = "going on"
	// the program or the computer ended in the middle of it, or the target went away and did not come back
	Broken   State = "interrupted"
	Stopped  State = "stopped"
	NotAll   State = "not all" // something failed
	Complete State = "complete"
	Followed State = "resumed" // by a later run
)

// A Run is what is known of one.
type Run struct {
	ID      int64        `json:"id"`
	Target  string       `json:"target"` // its name
	At      string       `json:"at"`     // its address
	Bench   string       `json:"bench,omitempty"`
	Config  bench.Target `json:"-"`
	State   State        `json:"state"`
	Began   time.Time    `json:"began"`
	Ended   time.Time    `json:"ended,omitzero"`
	Verify  run.Verify   `json:"verify"`
	After   int64        `json:"after,omitempty"`   // the run that it resumes
	TakenUp int64        `json:"resumed,omitempty"` // by which run
	Steps   int          `json:"steps"`
	Files   int          `json:"files"`
	Bytes   int64        `json:"bytes"` // that were to be written
	Done    int          `json:"done"`  // steps
	Written int64        `json:"written"`
	Report  *run.Report  `json:"report,omitempty"`
	// Speeds are bytes a second, one for each fiftieth of a second; of longer runs, for each of a few hundred equal
	// parts: see [Course.Span].
	Speeds []int64 `json:"speeds,omitempty"`
	// Course is what happened on the way.
	Course Course `json:"course,omitzero"`
}

// A Course is how a run went, without its steps.
type Course struct {
	Span    time.Duration `json:"span"`    // that each of [Run.Speeds] is of
	Elapsed time.Duration `json:"elapsed"` // until the last thing that was written down
	Moments []Moment      `json:"moments,omitempty"`
	More    int           `json:"more,omitempty"` // moments that were too many to be kept
}

// A Moment is something out of the ordinary in a run: a failure, a wait, a pause, a file that is resumed.
type Moment struct {
	At   time.Duration `json:"at"` // since the run began, without pauses
	Kind run.EventKind `json:"event"`
	Path string        `json:"path,omitempty"`
	Say  string        `json:"say,omitempty"`
}

// Open reports whether there is something left to do that can be resumed.
func (r *Run) Open() bool { return r.State == Broken || r.State == Stopped || r.State == NotAll }

var (
	packer, _   = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(1<<30))
)

func pack(v any) ([]byte, error) {
	b, err := json.Marshal(v)
	return packer.EncodeAll(b, nil), err
}

func unpack(b []byte, v any) error {
	if len(b) == 0 {
		return nil
	}
	b, err := unpacker.DecodeAll(b, nil)
	if err == nil {
		err = json.Unmarshal(b, v)
	}
	return err
}

// keepBytes is how much the journal remembers, in bytes: a run of 50,000 files takes as much as thousands of small
// ones.
var keepBytes int64 = 64 << 20

// stepBytes is what a step takes of it, in bytes, as a rule.
const stepBytes = 120

// forget removes the oldest runs beyond what is remembered, but for those that go on.
func (j *Journal) forget(tx *sql.Tx) error {
	rows, err := tx.Query("SELECT id, length(config) + length(plan) + length(report) + length(speeds) + "+
		"length(course) + steps * ? FROM run ORDER BY id DESC", stepBytes)
	if err != nil {
		return err
	}
	defer rows.Close()
	var old []int64
	var sum int64
	for n := 0; rows.Next(); n++ {
		var id, bytes int64
		if err := rows.Scan(&id, &bytes); err != nil {
			return err
		}
		if sum += bytes; n > 0 && sum > keepBytes && !j.alive(id) {
			old = append(old, id)
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, id := range old {
		for _, table := range []string{"step WHERE run", "run WHERE id"} {
			if _, err := tx.Exec("DELETE FROM "+table+" = ?", id); err != nil {
				return err
			}
		}
	}
	return nil
}

// A Beginning is what is written down before a run.
type Beginning struct {
	Config bench.Target // as the bench has it; no password stands in it
	At     string       // its address, whole
	Bench  string       // the file
	Plan   *plan.Plan
	Verify run.Verify
	After  int64 // the run that it resumes; 0 for none
}

// Begin writes down that a run begins. A journal that cannot be written to costs its record only: the error is for a
// note, and the record that is returned does nothing.
func (j *Journal) Begin(b Beginning) (*Record, error) {
	if j == nil {
		return nil, nil
	}
	config, err := json.Marshal(b.Config)
	if err != nil {
		return nil, err
	}
	steps, err := pack(b.Plan)
	if err != nil {
		return nil, err
	}
	var id int64
	err = j.file.Do(func(db *sql.DB) error {
		tx, err := db.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback()
		r, err := tx.Exec("INSERT INTO run (began, target, at, bench, config, plan, verify, after, steps, files, "+
			"bytes) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
			time.Now().UnixMilli(), b.Config.Name, b.At, b.Bench, config, steps, string(b.Verify), b.After,
			len(b.Plan.Steps), b.Plan.Files, b.Plan.Bytes)
		if err != nil {
			return err
		}
		if id, err = r.LastInsertId(); err != nil {
			return err
		}
		if b.After > 0 {
			if _, err := tx.Exec("UPDATE run SET followed = ? WHERE id = ?", id, b.After); err != nil {
				return err
			}
		}
		if err := j.forget(tx); err != nil {
			return err
		}
		return tx.Commit()
	})
	if err != nil {
		return nil, fmt.Errorf("the run cannot be recorded: %w", err)
	}
	rec := &Record{j: j, id: id, plan: b.Plan, pending: map[int]entry{}}
	if f, err := os.OpenFile(j.lock(id), os.O_RDWR|os.O_CREATE, 0o600); err == nil {
		if taken, err := lockfile.Take(f); taken || err != nil {
			_ = f.Close()
		} else {
			rec.lock = f
		}
	}
	return rec, nil
}

func (j *Journal) lock(id int64) string { return filepath.Join(j.dir, fmt.Sprintf("run-%d.lock", id)) }

// alive reports whether the process of a run still goes on.
func (j *Journal) alive(id int64) bool {
	f, err := os.OpenFile(j.lock(id), os.O_RDWR, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	taken, err := lockfile.Take(f)
	return taken && err == nil
}

const columns = "id, began, ended, target, at, bench, config, verify, after, followed, steps, files, bytes, report, " +
	"speeds, course, (SELECT count(*) FROM step WHERE run = id AND state = 'done'), (SELECT coalesce(sum(bytes), 0) " +
	"FROM step WHERE run = id AND state = 'done')"

func (j *Journal) read(scan func(...any) error) (r Run, err error) {
	var began, ended int64
	var config, report, speeds, course []byte
	var verify string
	if err = scan(&r.ID, &began, &ended, &r.Target, &r.At, &r.Bench, &config, &verify, &r.After, &r.TakenUp, &r.Steps,
		&r.Files, &r.Bytes, &report, &speeds, &course, &r.Done, &r.Written); err != nil {
		return r, err
	}
	r.Began, r.Verify = time.UnixMilli(began), run.Verify(verify)
	if err := json.Unmarshal(config, &r.Config); err != nil {
		return r, fmt.Errorf("the target of run %d: %w", r.ID, err)
	}
	if len(report) > 0 {
		r.Ended, r.Report = time.UnixMilli(ended), &run.Report{}
		if err := unpack(report, r.Report); err != nil {
			return r, fmt.Errorf("the report of run %d: %w", r.ID, err)
		}
	}
	if err := errors.Join(unpack(speeds, &r.Speeds), unpack(course, &r.Course)); err != nil {
		return r, fmt.Errorf("the course of run %d: %w", r.ID, err)
	}
	switch {
	case r.TakenUp > 0:
		r.State = Followed
	case r.Report == nil && j.alive(r.ID):
		r.State = Resuming
	case r.Report == nil:
		r.State = Broken
	case r.Report.Stopped:
		r.State = Stopped
	case r.Report.Untried > 0:
		r.State = Broken
	case !r.Report.All():
		r.State = NotAll
	default:
		r.State = Complete
	}
	return r, nil
}

// Runs are the newest runs, the last one first.
func (j *Journal) Runs(n int) (out []Run, err error) {
	if j == nil {
		return nil, nil
	}
	err = j.file.Do(func(db *sql.DB) error {
		out = nil
		rows, err := db.Query("SELECT "+columns+" FROM run ORDER BY id DESC LIMIT ?", n)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			r, err := j.read(rows.Scan)
			if err != nil {
				return err
			}
			out = append(out, r)
		}
		return rows.Err()
	})
	return out, err
}

// ErrNotFound reports that there is no run with that number.
var ErrNotFound = errors.New("no run with that number")

// Run is one run, with its plan.
func (j *Journal) Run(id int64) (r Run, p *plan.Plan, err error) {
	err = j.file.Do(func(db *sql.DB) error {
		var steps []byte
		r, err = j.read(db.QueryRow("SELECT "+columns+" FROM run WHERE id = ?", id).Scan)
		if err == nil {
			err = db.QueryRow("SELECT plan FROM run WHERE id = ?", id).Scan(&steps)
		}
		if errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("%w: %d", ErrNotFound, id)
		}
		if err != nil {
			return err
		}
		p = &plan.Plan{}
		return unpack(steps, p)
	})
	return r, p, err
}

// A Step is what became of one.
type Step struct {
	State string `json:"state"` // began, done, failed or skipped
	Bytes int64  `json:"bytes,omitempty"`
	Sum   string `json:"sum,omitempty"`
	Say   string `json:"say,omitempty"`
}

// Steps are those of a run's steps that were begun, by their numbers.
func (j *Journal) Steps(id int64) (map[int]Step, error) {
	out := map[int]Step{}
	err := j.file.Do(func(db *sql.DB) error {
		clear(out)
		rows, err := db.Query("SELECT n, state, bytes, sum, say FROM step WHERE run = ?", id)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var n int
			var s Step
			if err := rows.Scan(&n, &s.State, &s.Bytes, &s.Sum, &s.Say); err != nil {
				return err
			}
			out[n] = s
		}
		return rows.Err()
	})
	return out, err
}

// Rest is what is left of a run's plan: all that was not done. What was begun may have been done; see [run.Options].
func (j *Journal) Rest(id int64) (Run, *plan.Plan, error) {
	r, p, err := j.Run(id)
	if err != nil {
		return r, nil, err
	}
	steps, err := j.Steps(id)
	if err != nil {
		return r, nil, err
	}
	return r, p.Without(func(n int) bool { return steps[n].State == doneState }), nil
}
