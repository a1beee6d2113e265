package scancache

import (
	"database/sql"
	"errors"
)

// A Target is what was on a target when it was looked at last.
type Target struct {
	Name  string // what tells it from others
	Stamp string // of its folders; see the targets themselves
	At    int64  // Unix time in seconds
	Data  []byte
}

// Target is what was on the target of that name; ok is false for one that was never looked at.
func (s *Store) Target(name string) (p Target, ok bool, err error) {
	p.Name = name
	err = s.do(func(db *sql.DB) error {
		err := db.QueryRow("SELECT stamp, at, data FROM target WHERE name = ?", name).Scan(&p.Stamp, &p.At, &p.Data)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		ok = err == nil
		return err
	})
	return p, ok, err
}

// PutTarget remembers what is on a target.
func (s *Store) PutTarget(p Target) error {
	return s.do(func(db *sql.DB) error {
		_, err := db.Exec("INSERT INTO target (name, stamp, at, data) VALUES (?, ?, ?, ?) ON CONFLICT (name) DO "+
			"UPDATE SET stamp = excluded.stamp, at = excluded.at, data = excluded.data", p.Name, p.Stamp, p.At, p.Data)
		return err
	})
}
