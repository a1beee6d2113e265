package scancache

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func open(t testing.TB, file string) *Store {
	s, err := Open(file)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func paths(t testing.TB, s *Store, dir string) (out []string) {
	require.NoError(t, s.Folders(dir, func(f Folder) { out = append(out, f.Path) }))
	slices.Sort(out)
	return out
}

func TestFoldersAreFoundBelowAFolderOnly(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "sub", "seen.sqlite"))
	var all []Folder
	for _, p := range []string{"/games", "/games/a", "/games/a/b", "/games2", "/games-old/x", "/game", "/games/ä",
		"/games/a b'\"%_", "/other"} {
		all = append(all, Folder{Path: p, Stamp: 1<<64 - 1, Sign: uint64(len(p)), Known: 7, Data: []byte(p)})
	}
	require.NoError(t, s.Put(all, nil))
	assert.Equal(t, []string{"/games", "/games/a", "/games/a b'\"%_", "/games/a/b", "/games/ä"}, paths(t, s, "/games"))
	assert.Equal(t, []string{"/games", "/games/a", "/games/a b'\"%_", "/games/a/b", "/games/ä"}, paths(t, s, "/games/"))
	require.NoError(t, s.Folders("/games/a", func(f Folder) {
		assert.Equal(t, []any{uint64(1<<64 - 1), uint64(7), f.Path}, []any{f.Stamp, f.Known, string(f.Data)})
	}))
	require.NoError(t, s.Put([]Folder{{Path: "/games/a", Data: []byte("new")}}, []string{"/games/a/b", "/never"}))
	assert.NotContains(t, paths(t, s, "/games"), "/games/a/b")
	signed, err := s.Signed(uint64(len("/other")))
	require.NoError(t, err)
	require.Len(t, signed, 2, "of equal signs, all")
	assert.Contains(t, []string{"/other", "/games"}, signed[0].Path)
}

func TestChecksAreKept(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "seen.sqlite"))
	c := Check{Path: "/games/a.iso", Size: 5, Modified: 6, Sign: "sign", Sums: "crc32:00000000 sha1:ff", Finding: "bad",
		Doubt: "zeros", At: 7}
	require.NoError(t, s.PutCheck(c))
	c.At = 8
	require.NoError(t, s.PutCheck(c))
	var got []Check
	require.NoError(t, s.Checks("/games", func(c Check) { got = append(got, c) }))
	assert.Equal(t, []Check{c}, got)
	moved, err := s.Moved("sign", 5)
	require.NoError(t, err)
	assert.Equal(t, []Check{c}, moved)
	moved, err = s.Moved("sign", 6)
	require.NoError(t, err)
	assert.Empty(t, moved)
}

// TestOlderCachesAreBroughtUpToDate begins with each older version, with something in it.
func TestOlderCachesAreBroughtUpToDate(t *testing.T) {
	for version := range Version {
		file := filepath.Join(t.TempDir(), "seen.sqlite")
		db, err := sql.Open("sqlite", file)
		require.NoError(t, err)
		for _, m := range migrations[:version] {
			_, err = db.Exec(m)
			require.NoError(t, err)
		}
		if version > 0 {
			_, err = db.Exec("INSERT INTO folder VALUES ('/games', 1, 2, 3, 4, x'05')")
			require.NoError(t, err)
		}
		_, err = db.Exec(fmt.Sprintf("PRAGMA user_version = %d", version))
		require.NoError(t, err)
		require.NoError(t, db.Close())
		s := open(t, file)
		assert.Empty(t, s.Note())
		require.NoError(t, s.PutCheck(Check{Path: "/games/x"}))
		assert.Empty(t, paths(t, s, "/games"), "a row whose checksum is wrong is skipped")
		require.NoError(t, s.Put([]Folder{{Path: "/games", Data: []byte("x")}}, nil))
		assert.Equal(t, []string{"/games"}, paths(t, s, "/games"))
	}
}

func TestWithoutAStoreNothingIsKept(t *testing.T) {
	var s *Store
	require.NoError(t, s.Put([]Folder{{Path: "/x"}}, nil))
	require.NoError(t, s.PutCheck(Check{}))
	assert.Empty(t, paths(t, s, "/"))
	assert.Empty(t, s.Note())
	require.NoError(t, s.Close())
}

// TestATableThatIsGone is damage that shows itself only when the table is used.
func TestATableThatIsGone(t *testing.T) {
	file := filepath.Join(t.TempDir(), "seen.sqlite")
	s := open(t, file)
	require.NoError(t, s.Put([]Folder{{Path: "/games"}}, nil))
	require.NoError(t, s.Close())
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	_, err = db.Exec("DROP TABLE checked")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	s = open(t, file)
	require.NoError(t, s.PutCheck(Check{Path: "/games/x"}))
	assert.Contains(t, s.Note(), "has been rebuilt")
	require.NoError(t, s.PutCheck(Check{Path: "/games/x"}))
	var got []Check
	require.NoError(t, s.Checks("/games", func(c Check) { got = append(got, c) }))
	assert.Len(t, got, 1)
}

// TestTheStoreIsAMap does what a map does, with paths of all kinds.
func TestTheStoreIsAMap(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "seen.sqlite"))
	model := map[string]string{}
	rapid.Check(t, func(t *rapid.T) {
		path := "/" + rapid.StringMatching(`[a-c\x{e4}\x{ff} %_'/.-]{0,6}`).Draw(t, "path")
		if rapid.Bool().Draw(t, "forget") {
			if err := s.Put(nil, []string{path}); err != nil {
				t.Fatalf("%v", err)
			}
			delete(model, path)
		} else {
			data := rapid.String().Draw(t, "data")
			if err := s.Put([]Folder{{Path: path, Data: []byte(data)}}, nil); err != nil {
				t.Fatalf("%v", err)
			}
			model[path] = data
		}
		got := map[string]string{}
		if err := s.Folders("/", func(f Folder) { got[f.Path] = string(f.Data) }); err != nil {
			t.Fatalf("%v", err)
		}
		if fmt.Sprint(got) != fmt.Sprint(model) {
			t.Fatalf("%v instead of %v", got, model)
		}
	})
}
