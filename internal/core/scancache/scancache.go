// Package scancache keeps what scans have found out, so that nothing is looked at twice: a SQLite
// file in the user's cache folder. Nothing in it is the user's own work, and it may be
// deleted at any time.
//
// Several processes may use one file at the same time.
package scancache

import (
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/zeebo/xxh3"

	"polytome/internal/sqlitefile"
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
	`CREATE TABLE folder (path TEXT PRIMARY KEY, stamp INTEGER NOT NULL, sign INTEGER NOT NULL,
	   known INTEGER NOT NULL, sum INTEGER NOT NULL, data BLOB NOT NULL);
	 CREATE INDEX folder_sign ON folder (sign);
	 CREATE TABLE checked (path TEXT PRIMARY KEY, size INTEGER NOT NULL, modified INTEGER NOT NULL,
	   sign TEXT NOT NULL, sums TEXT NOT NULL, finding TEXT NOT NULL, doubt TEXT NOT NULL, at INTEGER NOT NULL);
	 CREATE INDEX checked_sign ON checked (sign, size);
	 CREATE TABLE target (name TEXT PRIMARY KEY, stamp TEXT NOT NULL, at INTEGER NOT NULL, data BLOB NOT NULL);
	 CREATE TABLE written (target TEXT NOT NULL, path TEXT NOT NULL, text TEXT NOT NULL, PRIMARY KEY (target,
	   path)) WITHOUT ROWID;`,
}

// Version is the version of the file's tables.
var Version = len(migrations)

// A Store is an opened cache. A nil one keeps nothing and finds nothing.
type Store struct{ file *sqlitefile.File }

// ErrNewer reports a cache that a newer Polytome has written. It is not changed.
var ErrNewer = errors.New("the cache belongs to a newer Polytome; it is left alone, and this scan is not cached")

// Open opens the cache file, and makes it where there is none. One that is damaged is made
// again; [Store.Note] says so.
func Open(file string) (*Store, error) {
	f, err := sqlitefile.Open(file, sqlitefile.Kind{Migrations: migrations, Newer: ErrNewer,
		Damaged: "the cache %s was damaged and has been rebuilt; no data of yours was in it, and this scan reads " +
			"every file"})
	if err != nil {
		return nil, fmt.Errorf("the cache %s cannot be used: %w", file, err)
	}
	return &Store{f}, nil
}

// Note says what happened to the cache, "" for nothing.
func (s *Store) Note() string {
	if s == nil {
		return ""
	}
	return s.file.Note()
}

// Close closes the file.
func (s *Store) Close() error {
	if s == nil {
		return nil
	}
	return s.file.Close()
}

// do runs a use of the database; when that finds it damaged, the file is made again and the
// use finds nothing.
func (s *Store) do(use func(db *sql.DB) error) error {
	if s == nil {
		return nil
	}
	return s.file.Do(use)
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
		put, err := tx.Prepare("INSERT OR REPLACE INTO folder (path, stamp, sign, known, sum, data) VALUES (?, ?, ?, " +
			"?, ?, ?)")
		if err != nil {
			return err
		}
		for _, f := range all {
			if f.Data == nil {
				f.Data = []byte{}
			}
			if _, err := put.Exec(f.Path, int64(f.Stamp), int64(f.Sign), int64(f.Known), int64(xxh3.Hash(f.Data)),
				f.Data); err != nil {
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
	rows, err := db.Query("SELECT path, size, modified, sign, sums, finding, doubt, at FROM checked WHERE "+where,
		args...)
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
		_, err := db.Exec("INSERT OR REPLACE INTO checked (path, size, modified, sign, sums, finding, doubt, at) "+
			"VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
			c.Path, c.Size, c.Modified, c.Sign, c.Sums, c.Finding, c.Doubt, c.At)
		return err
	})
}
