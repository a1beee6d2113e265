package seen

import (
	"database/sql"
	"errors"
)

// A Place is what was on a place when it was looked at last.
type Place struct {
	Name  string // what tells it from others
	Stamp string // of its folders; see the places themselves
	At    int64  // Unix time in seconds
	Data  []byte
}

// Place is what was on the place of that name; ok is false for one that was never looked at.
func (s *Store) Place(name string) (p Place, ok bool, err error) {
	p.Name = name
	err = s.do(func(db *sql.DB) error {
		err := db.QueryRow("SELECT stamp, at, data FROM place WHERE name = ?", name).Scan(&p.Stamp, &p.At, &p.Data)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		ok = err == nil
		return err
	})
	return p, ok, err
}

// PutPlace remembers what is on a place.
func (s *Store) PutPlace(p Place) error {
	return s.do(func(db *sql.DB) error {
		_, err := db.Exec("INSERT INTO place (name, stamp, at, data) VALUES (?, ?, ?, ?) ON CONFLICT (name) DO UPDATE SET stamp = excluded.stamp, at = excluded.at, data = excluded.data", p.Name, p.Stamp, p.At, p.Data)
		return err
	})
}
