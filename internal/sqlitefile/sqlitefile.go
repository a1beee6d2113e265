// Package sqlitefile keeps a SQLite file whose tables are brought up to date when it is opened, that several processes
// may use at the same time, and that is made again when it is damaged.
package sqlitefile

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// A Kind is what the file is for.
type Kind struct {
	// Migrations bring a file to each version from the one before.
	Migrations []string
	// Newer is the error for a file that a newer program has written; it is left as it is.
	Newer error
	// Damaged says that a damaged file was made again, with %s for its name.
	Damaged string
}

// A File is an opened one.
type File struct {
	kind Kind
	name string
	mu   sync.Mutex // held to replace db
	db   *sql.DB
	note string
}

// Open opens the file, and makes it where there is none. One that is damaged is put aside and made
// again; [File.Note] says so.
func Open(name string, k Kind) (*File, error) {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return nil, err
	}
	f := &File{kind: k, name: name}
	err := patiently(f.open)
	if damaged(err) {
		err = f.rebuild()
	}
	if err != nil {
		return nil, err
	}
	return f, nil
}

func (f *File) open() error {
	// what is kept beside it gets its mode
	if made, err := os.OpenFile(f.name, os.O_RDWR|os.O_CREATE, 0o600); err == nil {
		_ = made.Close()
	}
	dsn := "file:" + strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(filepath.ToSlash(f.name)) +
		"?_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)" +
		"&_pragma=temp_store(MEMORY)&_txlock=immediate"
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return err
	}
	var version int
	if err = db.QueryRow("PRAGMA user_version").Scan(&version); err == nil && version > len(f.kind.Migrations) {
		err = f.kind.Newer
	}
	if err == nil && version < len(f.kind.Migrations) {
		err = f.migrate(db)
	}
	if err != nil {
		_ = db.Close()
		return err
	}
	f.db = db
	return nil
}

// patience is how long another process is waited for.
const patience = 10 * time.Second

// patiently does again what another process stands in the way of: the database's own waiting
// does not cover changes of its journal.
func patiently(do func() error) error {
	for begun, wait := time.Now(), time.Millisecond; ; wait = min(2*wait, 100*time.Millisecond) {
		err := do()
		var e *sqlite.Error
		if !errors.As(err, &e) || e.Code()&0xFF != sqlite3.SQLITE_BUSY && e.Code()&0xFF != sqlite3.SQLITE_LOCKED ||
			time.Since(begun) > patience {
			return err
		}
		time.Sleep(wait)
	}
}

// migrate brings the tables up to date, in one transaction; another process may have been
// quicker.
func (f *File) migrate(db *sql.DB) error {
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var version int
	if err := tx.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return err
	}
	for ; version < len(f.kind.Migrations); version++ {
		if _, err := tx.Exec(f.kind.Migrations[version]); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", len(f.kind.Migrations))); err != nil {
		return err
	}
	return tx.Commit()
}

// damaged reports whether an error says that the file is not one of ours any longer.
func damaged(err error) bool {
	var e *sqlite.Error
	if errors.As(err, &e) {
		switch e.Code() & 0xFF {
		case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_ERROR:
			// the last: a table is not as it should be
			return true
		}
	}
	return false
}

// rebuild puts the damaged file aside and begins a new one.
func (f *File) rebuild() error {
	if f.db != nil {
		_ = f.db.Close()
		f.db = nil
	}
	err := os.Rename(f.name, f.name+".damaged")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, tail := range []string{"-wal", "-shm"} {
		_ = os.Remove(f.name + tail)
	}
	f.note = fmt.Sprintf(f.kind.Damaged, f.name)
	return patiently(f.open)
}

// Note says what happened to the file, "" for nothing.
func (f *File) Note() string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.note
}

// Close closes the file.
func (f *File) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.db.Close()
}

// Do runs a use of the database; when that finds it damaged, the file is made again and the
// use finds nothing.
func (f *File) Do(use func(db *sql.DB) error) error {
	f.mu.Lock()
	db := f.db
	f.mu.Unlock()
	err := patiently(func() error { return use(db) })
	if !damaged(err) {
		return err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.db != db {
		return nil // someone has done it
	}
	return f.rebuild()
}
