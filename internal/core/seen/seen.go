// Package seen keeps what scans have found out, so that nothing is looked at twice: a SQLite
// file in the user's cache folder. Nothing in it is the user's own work, and it may be
// deleted at any time.
//
// Several processes may use one file at the same time.
package seen

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

	"github.com/zeebo/xxh3"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// A Folder is what was found in one folder.
type Folder struct {
	Path  string
	Stamp uint64 // of the listing: names, lengths, dates, inodes
	Sign  uint64 // of what a folder takes along when it is moved: names, lengths, dates
	Known uint64 // of the descriptions that it was looked at with
	Data  []byte
}

// A Check is a file that was read from end to end.
type Check struct {
	Path     string
	Size     int64
	Modified int64 // Unix time in nanoseconds
	Sign     string
	Sums     string // such as "crc32:0abc1234 sha1:…"
	Finding  string // what was found wrong, "" for nothing
	Doubt    string // what is suspicious
	At       int64  // Unix time in seconds
}

// migrations bring a file to each version from the one before.
var migrations = []string{
	`CREATE TABLE folder (path TEXT PRIMARY KEY, stamp INTEGER NOT NULL, sign INTEGER NOT NULL, known INTEGER NOT NULL, sum INTEGER NOT NULL, data BLOB NOT NULL);
	 CREATE INDEX folder_sign ON folder (sign);`,
	`CREATE TABLE checked (path TEXT PRIMARY KEY, size INTEGER NOT NULL, modified INTEGER NOT NULL, sign TEXT NOT NULL, sums TEXT NOT NULL, finding TEXT NOT NULL, doubt TEXT NOT NULL, at INTEGER NOT NULL);
	 CREATE INDEX checked_sign ON checked (sign, size);`,
	`CREATE TABLE place (name TEXT PRIMARY KEY, stamp TEXT NOT NULL, at INTEGER NOT NULL, data BLOB NOT NULL);`,
	`CREATE TABLE written (place TEXT NOT NULL, path TEXT NOT NULL, text TEXT NOT NULL, PRIMARY KEY (place, path)) WITHOUT ROWID;`,
}

// Version is the version of the file's tables.
var Version = len(migrations)

// A Store is an opened cache. A nil one keeps nothing and finds nothing.
type Store struct {
	file string
	mu   sync.Mutex // held to replace db
	db   *sql.DB
	note string
}

// ErrNewer is a cache that a newer Polytome has written. It is left as it is.
var ErrNewer = errors.New("the cache was written by a newer Polytome; it is left alone, and this scan remembers nothing")

// Open opens the cache file, and makes it where there is none. One that is damaged is made
// anew; [Store.Note] says so.
func Open(file string) (*Store, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return nil, fmt.Errorf("the cache cannot be kept: %w", err)
	}
	s := &Store{file: file}
	err := patiently(s.open)
	if damaged(err) {
		err = s.rebuild()
	}
	if err != nil {
		return nil, fmt.Errorf("the cache %s cannot be used: %w", file, err)
	}
	return s, nil
}

func (s *Store) open() error {
	dsn := "file:" + strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(filepath.ToSlash(s.file)) +
		"?_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)&_pragma=temp_store(MEMORY)&_txlock=immediate"
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return err
	}
	var version int
	if err = db.QueryRow("PRAGMA user_version").Scan(&version); err == nil && version > Version {
		err = ErrNewer
	}
	if err == nil && version < Version {
		err = migrate(db)
	}
	if err != nil {
		_ = db.Close()
		return err
	}
	s.db = db
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
		if !errors.As(err, &e) || e.Code()&0xFF != sqlite3.SQLITE_BUSY && e.Code()&0xFF != sqlite3.SQLITE_LOCKED || time.Since(begun) > patience {
			return err
		}
		time.Sleep(wait)
	}
}

// migrate brings the tables up to date, in one transaction; another process may have been
// quicker.
func migrate(db *sql.DB) error {
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var version int
	if err := tx.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return err
	}
	for ; version < Version; version++ {
		if _, err := tx.Exec(migrations[version]); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", Version)); err != nil {
		return err
	}
	return tx.Commit()
}

// damaged reports whether an error says that the file is no cache any more.
func damaged(err error) bool {
	var e *sqlite.Error
	if errors.As(err, &e) {
		switch e.Code() & 0xFF {
		case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_ERROR: // the last: a table is not as it should be
			return true
		}
	}
	return false
}

// rebuild puts the damaged file aside and begins a new one.
func (s *Store) rebuild() error {
	if s.db != nil {
		_ = s.db.Close()
		s.db = nil
	}
	err := os.Rename(s.file, s.file+".damaged")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, tail := range []string{"-wal", "-shm"} {
		_ = os.Remove(s.file + tail)
	}
	s.note = fmt.Sprintf("the cache %s was damaged and is made anew; nothing of yours was in it, and this scan looks at every file", s.file)
	return patiently(s.open)
}

// Note says what happened to the cache, "" for nothing.
func (s *Store) Note() string {
	if s == nil {
		return ""
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.note
}

// Close closes the file.
func (s *Store) Close() error {
	if s == nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.db.Close()
}

// do runs a use of the database; when that finds it damaged, the file is made anew and the
// use finds nothing.
func (s *Store) do(use func(db *sql.DB) error) error {
	if s == nil {
		return nil
	}
	s.mu.Lock()
	db := s.db
	s.mu.Unlock()
	err := patiently(func() error { return use(db) })
	if !damaged(err) {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.db != db {
		return nil // somebody has done it
	}
	return s.rebuild()
}

// below is the range of paths in and under a folder.
func below(dir string) (from, to string) {
	if !strings.HasSuffix(dir, string(filepath.Separator)) {
		dir += string(filepath.Separator)
	}
	return dir, dir[:len(dir)-1] + string(filepath.Separator+1)
}

// Folders reads what is known of a folder and all below it, and hands over each.
func (s *Store) Folders(dir string, each func(Folder)) error {
	return s.do(func(db *sql.DB) error {
		dir := filepath.Clean(dir)
		from, to := below(dir)
		return folders(db, each, "path = ? OR (path >= ? AND path < ?)", dir, from, to)
	})
}

// Signed reads the folders that have a sign, wherever they were.
func (s *Store) Signed(sign uint64) (out []Folder, err error) {
	err = s.do(func(db *sql.DB) error {
		return folders(db, func(f Folder) { out = append(out, f) }, "sign = ?", int64(sign))
	})
	return out, err
}

func folders(db *sql.DB, each func(Folder), where string, args ...any) error {
	rows, err := db.Query("SELECT path, stamp, sign, known, sum, data FROM folder WHERE "+where, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var f Folder
		var stamp, sign, known, sum int64
		var data sql.RawBytes
		if err := rows.Scan(&f.Path, &stamp, &sign, &known, &sum, &data); err != nil {
			return err
		}
		if xxh3.Hash(data) != uint64(sum) {
			continue // damage that the database does not see
		}
		f.Stamp, f.Sign, f.Known, f.Data = uint64(stamp), uint64(sign), uint64(known), append([]byte(nil), data...)
		each(f)
	}
	return rows.Err()
}

// Put keeps folders, and forgets those that are gone.
func (s *Store) Put(all []Folder, gone []string) error {
	if len(all) == 0 && len(gone) == 0 {
		return nil
	}
	return s.do(func(db *sql.DB) error {
		tx, err := db.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback()
		put, err := tx.Prepare("INSERT OR REPLACE INTO folder (path, stamp, sign, known, sum, data) VALUES (?, ?, ?, ?, ?, ?)")
		if err != nil {
			return err
		}
		for _, f := range all {
			if f.Data == nil {
				f.Data = []byte{}
			}
			if _, err := put.Exec(f.Path, int64(f.Stamp), int64(f.Sign), int64(f.Known), int64(xxh3.Hash(f.Data)), f.Data); err != nil {
				return err
			}
		}
		for _, p := range gone {
			if _, err := tx.Exec("DELETE FROM folder WHERE path = ?", p); err != nil {
				return err
			}
		}
		return tx.Commit()
	})
}

// Checks reads which files in and under a folder were checked.
func (s *Store) Checks(dir string, each func(Check)) error {
	return s.do(func(db *sql.DB) error {
		dir := filepath.Clean(dir)
		from, to := below(dir)
		return checks(db, each, "path = ? OR (path >= ? AND path < ?)", dir, from, to)
	})
}

// Moved reads the checks of files with a sign and length, wherever they were.
func (s *Store) Moved(sign string, size int64) (out []Check, err error) {
	err = s.do(func(db *sql.DB) error {
		return checks(db, func(c Check) { out = append(out, c) }, "sign = ? AND size = ?", sign, size)
	})
	return out, err
}

func checks(db *sql.DB, each func(Check), where string, args ...any) error {
	rows, err := db.Query("SELECT path, size, modified, sign, sums, finding, doubt, at FROM checked WHERE "+where, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var c Check
		if err := rows.Scan(&c.Path, &c.Size, &c.Modified, &c.Sign, &c.Sums, &c.Finding, &c.Doubt, &c.At); err != nil {
			return err
		}
		each(c)
	}
	return rows.Err()
}

// PutCheck keeps the result of a check.
func (s *Store) PutCheck(c Check) error {
	return s.do(func(db *sql.DB) error {
		_, err := db.Exec("INSERT OR REPLACE INTO checked (path, size, modified, sign, sums, finding, doubt, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
			c.Path, c.Size, c.Modified, c.Sign, c.Sums, c.Finding, c.Doubt, c.At)
		return err
	})
}
