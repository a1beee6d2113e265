package cover

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"polytome/internal/core/title"
	"polytome/internal/sqlitefile"
)

// State is what became of asking a server for a picture.
type State string

const (
	got     State = "got"
	missing State = "missing" // the server has none
	refused State = "refused" // what it has cannot be used
)

// A fetch is what is known of one picture or description of a server.
type fetch struct {
	Want     string // what was asked for, see [Server.want]
	URL      string
	ETag     string
	Modified string // as the server says it
	Hash     string // of the picture: SHA-256 in hexadecimal
	Ext      string
	Size     int64
	Text     string // of a description
	State    State
	Say      string
	At       int64 // Unix time in seconds
}

var migrations = []string{
	`CREATE TABLE fetched (want TEXT PRIMARY KEY, url TEXT NOT NULL, etag TEXT NOT NULL, modified TEXT NOT NULL,
	   hash TEXT NOT NULL, extension TEXT NOT NULL, size INTEGER NOT NULL, text TEXT NOT NULL,
	   state TEXT NOT NULL, say TEXT NOT NULL, at INTEGER NOT NULL) WITHOUT ROWID;
	 CREATE TABLE looked (file TEXT PRIMARY KEY, say TEXT NOT NULL, width INTEGER NOT NULL,
	   height INTEGER NOT NULL, small BLOB NOT NULL);`,
}

// ErrNewer reports a store that a newer Polytome has written. It is not changed.
var ErrNewer = errors.New("the cover store belongs to a newer Polytome; it is left alone, and downloaded covers are " +
	"not used")

// A Store keeps what was fetched from servers, and how pictures look when they are small. It is in a folder of the
// user's cache, and may be deleted at any time. A nil one holds nothing and keeps nothing. It may be used by several
// goroutines.
type Store struct {
	dir  string
	file *sqlitefile.File

	mu      sync.RWMutex
	fetches map[string]fetch
	bad     map[string]string // what was looked at and cannot be used, by the file
}

// pictureDate is the date of all pictures that are kept: they never change, as they are named by what is in them.
var pictureDate = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

// OpenStore opens the store in a folder, and makes it where there is none.
func OpenStore(dir string) (*Store, error) {
	f, err := sqlitefile.Open(filepath.Join(dir, "covers.sqlite"), sqlitefile.Kind{Migrations: migrations,
		Newer: ErrNewer,
		Damaged: "the list of downloaded covers %s was damaged and has been rebuilt; download the covers again when " +
			"you like"})
	if err != nil {
		return nil, fmt.Errorf("the cover store in %s cannot be used: %w", dir, err)
	}
	s := &Store{dir: dir, file: f, fetches: map[string]fetch{}, bad: map[string]string{}}
	if err := s.load(); err != nil {
		return nil, errors.Join(fmt.Errorf("the cover store in %s cannot be read: %w", dir, err), f.Close())
	}
	return s, nil
}

// load reads what is known. Pictures whose files have gone are not.
func (s *Store) load() error {
	there := map[string]bool{}
	folders, _ := os.ReadDir(filepath.Join(s.dir, "pictures"))
	for _, d := range folders {
		files, _ := os.ReadDir(filepath.Join(s.dir, "pictures", d.Name()))
		for _, f := range files {
			there[f.Name()] = true
		}
	}
	return s.file.Do(func(db *sql.DB) error {
		rows, err := db.Query("SELECT want, url, etag, modified, hash, extension, size, text, state, say, at FROM " +
			"fetched")
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var f fetch
			if err := rows.Scan(&f.Want, &f.URL, &f.ETag, &f.Modified, &f.Hash, &f.Ext, &f.Size, &f.Text, &f.State,
				&f.Say, &f.At); err != nil {
				return err
			}
			if f.State != got || f.Hash == "" || there[f.Hash+f.Ext] {
				s.fetches[f.Want] = f
			}
		}
		if err := rows.Err(); err != nil {
			return err
		}
		bad, err := db.Query("SELECT file, say FROM looked WHERE say <> ''")
		if err != nil {
			return err
		}
		defer bad.Close()
		for bad.Next() {
			var file, say string
			if err := bad.Scan(&file, &say); err != nil {
				return err
			}
			s.bad[file] = say
		}
		return bad.Err()
	})
}

// Close closes the store.
func (s *Store) Close() error {
	if s == nil {
		return nil
	}
	return s.file.Close()
}

// Note says what happened to the store, "" for nothing.
func (s *Store) Note() string {
	if s == nil {
		return ""
	}
	return s.file.Note()
}

// Empty reports whether nothing was ever fetched.
func (s *Store) Empty() bool {
	if s == nil {
		return true
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	return len(s.fetches) == 0
}

func (s *Store) got(want string) (fetch, bool) {
	if s == nil {
		return fetch{}, false
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	f, ok := s.fetches[want]
	return f, ok
}

// picture is where a picture that was fetched lies.
func (s *Store) picture(f fetch) title.File {
	return title.File{Path: s.path(f.Hash, f.Ext), Size: f.Size, Modified: pictureDate}
}

func (s *Store) path(hash, ext string) string {
	return filepath.Join(s.dir, "pictures", hash[:2], hash+ext)
}

// keep keeps a picture by what is in it, and returns its name.
func (s *Store) keep(data []byte, ext string) (hash string, err error) {
	sum := sha256.Sum256(data)
	hash = hex.EncodeToString(sum[:])
	file := s.path(hash, ext)
	if info, err := os.Stat(file); err == nil && info.Size() == int64(len(data)) {
		return hash, nil
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return "", err
	}
	f, err := os.CreateTemp(filepath.Dir(file), ".fetched-*")
	if err != nil {
		return "", err
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Close())
	if err == nil {
		err = os.Chtimes(f.Name(), pictureDate, pictureDate)
	}
	if err == nil {
		err = os.Rename(f.Name(), file)
	}
	if err != nil {
		_ = os.Remove(f.Name())
		return "", err
	}
	return hash, nil
}

// put remembers what became of asking for something.
func (s *Store) put(f fetch) error {
	s.mu.Lock()
	s.fetches[f.Want] = f
	s.mu.Unlock()
	return s.file.Do(func(db *sql.DB) error {
		_, err := db.Exec("INSERT OR REPLACE INTO fetched (want, url, etag, modified, hash, extension, size, text, "+
			"state, say, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
			f.Want, f.URL, f.ETag, f.Modified, f.Hash, f.Ext, f.Size, f.Text, string(f.State), f.Say, f.At)
		return err
	})
}

// fileKey tells a picture from others, and from itself when it was changed.
func fileKey(f *title.File) string {
	return fmt.Sprintf("%d %d %s", f.Size, f.Modified.UnixNano(), f.Called())
}

// Bad is why a picture cannot be used, as far as it was looked at; "" for nothing.
func (s *Store) Bad(f *title.File) string {
	if s == nil {
		return ""
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	if len(s.bad) == 0 {
		return ""
	}
	return s.bad[fileKey(f)]
}

// A Look is a picture as it was looked at.
type Look struct {
	Say           string // why it cannot be used, "" for nothing
	Width, Height int    // of the picture itself, in pixels
	Small         []byte // as a JPEG; empty where only its header was looked at
}

// Looked is how a picture was when it was looked at; ok is false for one that never was.
func (s *Store) Looked(f *title.File) (l Look, ok bool) {
	if s == nil {
		return l, false
	}
	err := s.file.Do(func(db *sql.DB) error {
		return db.QueryRow("SELECT say, width, height, small FROM looked WHERE file = ?", fileKey(f)).
			Scan(&l.Say, &l.Width, &l.Height, &l.Small)
	})
	return l, err == nil && (l.Width > 0 || l.Say != "")
}

// putLook remembers how a picture looks.
func (s *Store) putLook(f *title.File, l Look) {
	if s == nil {
		return
	}
	if l.Small == nil {
		l.Small = []byte{}
	}
	if l.Say != "" {
		s.mu.Lock()
		s.bad[fileKey(f)] = l.Say
		s.mu.Unlock()
	}
	_ = s.file.Do(func(db *sql.DB) error { // without it, it is looked at again
		_, err := db.Exec("INSERT OR REPLACE INTO looked (file, say, width, height, small) VALUES (?, ?, ?, ?, ?)",
			fileKey(f), l.Say, l.Width, l.Height, l.Small)
		return err
	})
}
