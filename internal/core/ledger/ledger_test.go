package ledger_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/ledger"
	"polytome/internal/core/title"
)

func day(n int) time.Time { return time.Date(2026, 11, n, 9, 0, 0, 0, time.UTC) }

func volume(id string, seen int, names ...string) ledger.Volume {
	v := ledger.Volume{ID: id, Kind: ledger.Drive, Label: "GULL", Filesystem: "fat32", Capacity: 1 << 30, Free: 1 << 20,
		Address: "/media/gull", Loaders: []string{"rowan"}, Seen: day(seen), Print: strings.Join(names, ",")}
	for _, n := range names {
		id, name, _ := strings.Cut(n, " ")
		v.Titles = append(v.Titles, ledger.Title{Key: id, ID: id, Name: name, Platform: "vesper", Loader: "rowan",
			Path: "FULL/" + n + ".iso", Size: 1 << 20, Starts: true})
	}
	return v
}

func TestWhatLiesInTheDrawerIsFound(t *testing.T) {
	s := ledger.Store{Dir: filepath.Join(t.TempDir(), "ledger")}
	all, err := s.All()
	require.NoError(t, err)
	assert.Empty(t, all, "an empty ledger is none")
	require.NoError(t, s.Note(volume("vol-1", 3, "VSP-1 Copper Tide", "VSP-2 Mosswick"), false))
	require.NoError(t, s.Note(volume("vol-2", 5, "VSP-1 Copper Tide"), true))
	require.NoError(t, s.Note(ledger.Volume{}, false), "what has no identity is not remembered")
	name, place := "Hall 3", "drawer 2"
	require.NoError(t, s.Name("vol-1", &name, nil))
	require.NoError(t, s.Name("vol-1", nil, &place))
	all, err = s.All()
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "vol-2", all[0].ID, "the newest look first")

	hits := ledger.Where(all, "tide copper")
	require.Len(t, hits, 2)
	assert.Equal(t, "GULL", hits[0].Volume.Called())
	assert.Equal(t, "Hall 3", hits[1].Volume.Called())
	assert.Equal(t, "in drawer 2", hits[1].Volume.Where())
	assert.Len(t, ledger.Where(all, "vsp-2"), 1)
	assert.Empty(t, ledger.Where(all, " "))

	x := ledger.NewIndex(all)
	assert.Len(t, x.On(&title.Title{Key: "other", ID: "vsp-1", Platform: "vesper"}), 2)
	assert.Empty(t, x.On(&title.Title{Key: "other", ID: "VSP-1", Platform: "siskin"}))
	assert.Len(t, x.On(&title.Title{Key: "VSP-2", ID: "VSP-2", Name: "Mosswick", Platform: "vesper"}), 1)
	assert.Len(t, x.On(&title.Title{Key: "file", Name: "mosswick", Platform: "vesper"}), 1,
		"one without an ID, by name")

	for _, word := range []string{"hall 3", "VOL-1"} {
		v, err := ledger.Find(all, word)
		require.NoError(t, err)
		assert.Equal(t, "vol-1", v.ID)
	}
	_, err = ledger.Find(all, "gull")
	assert.ErrorContains(t, err, "2 volumes have the name gull: use the ID, such as vol-2")
	_, err = ledger.Find(all, "nothing")
	assert.ErrorIs(t, err, ledger.ErrUnknown)

	fits := ledger.Room(all, func(*ledger.Volume) bool { return true }, 1<<20)
	assert.Len(t, fits, 2)
	assert.Empty(t, ledger.Room(all, func(*ledger.Volume) bool { return true }, 1<<21))

	require.NoError(t, s.Forget("vol-1"))
	assert.ErrorIs(t, s.Forget("vol-1"), ledger.ErrUnknown)
	require.NoError(t, s.Note(volume("vol-1", 9), false))
	all, err = s.All()
	require.NoError(t, err)
	assert.Equal(t, "Hall 3", all[0].Name, "its name is its owner's, and stays")
	none := ""
	require.NoError(t, s.Name("vol-1", &none, &none))
	b, err := os.ReadFile(filepath.Join(s.Dir, "names.toml"))
	require.NoError(t, err)
	assert.NotContains(t, string(b), "vol-1")
}

// TestWhatChangedElsewhereIsNoticed, and a run of our own is none of that; and another stick at the same address is
// another stick.
func TestWhatChangedElsewhereIsNoticed(t *testing.T) {
	s := ledger.Store{Dir: t.TempDir()}
	get := func() ledger.Volume {
		all, err := s.All()
		require.NoError(t, err)
		return all[0]
	}
	first := volume("vol-1", 1, "VSP-1 Copper Tide")
	first.Check = &ledger.Check{Taken: day(1), Listed: 1, Starts: 1}
	require.NoError(t, s.Note(first, true))
	assert.Equal(t, day(1), get().Written)
	require.NoError(t, s.Note(volume("vol-1", 2, "VSP-1 Copper Tide"), false))
	assert.Zero(t, get().Changed)
	assert.NotNil(t, get().Check, "how it was found stays known")
	require.NoError(t, s.Note(volume("vol-1", 3, "VSP-2 Mosswick"), false))
	assert.Equal(t, day(3), get().Changed)
	require.NoError(t, s.Note(volume("vol-1", 4, "VSP-2 Mosswick"), false))
	assert.Equal(t, day(3), get().Changed, "since then")
	require.NoError(t, s.Note(volume("vol-1", 5, "VSP-1 Copper Tide"), true))
	assert.Zero(t, get().Changed)
	assert.Equal(t, day(5), get().Written)

	require.NoError(t, s.Note(volume("vol-2", 6), false))
	all, err := s.All()
	require.NoError(t, err)
	require.NotNil(t, ledger.Before(all, &all[0]))
	assert.Equal(t, "vol-1", ledger.Before(all, &all[0]).ID)
	assert.Nil(t, ledger.Before(all, &all[1]))
}

// TestABrokenFileOfTheLedgerHidesNoOther.
func TestABrokenFileOfTheLedgerHidesNoOther(t *testing.T) {
	s := ledger.Store{Dir: t.TempDir()}
	require.NoError(t, s.Note(volume("vol-1", 1, "VSP-1 Copper Tide"), false))
	require.NoError(t, s.Note(volume("../../vol:2", 2), false))
	require.NoError(t, os.WriteFile(filepath.Join(s.Dir, "vol-3.json"), []byte("{"), 0o600))
	entries, err := os.ReadDir(s.Dir)
	require.NoError(t, err)
	assert.Len(t, entries, 3, "a strange identity leads nowhere else")
	all, err := s.All()
	assert.ErrorContains(t, err, "vol-3.json is no file of the ledger")
	assert.Len(t, all, 2)
	require.NoError(t, s.Note(volume("vol-3", 3), false), "it is written again")
	_, err = s.All()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(s.Dir, "names.toml"), []byte("[["), 0o600))
	all, err = s.All()
	assert.ErrorContains(t, err, "names.toml")
	assert.Len(t, all, 3)
	assert.Error(t, s.Name("vol-1", nil, nil), "and it is not written over")
}

// TestAReformattedVolumeIsForgotten, and the new one in its place has the name that stands on the stick.
func TestAReformattedVolumeIsForgotten(t *testing.T) {
	s := ledger.Store{Dir: t.TempDir()}
	for _, id := range []string{"vol-0001", "vol-0002", "vol-0003"} {
		require.NoError(t, s.Note(ledger.Volume{ID: id, Kind: ledger.Drive, Seen: time.Now(), Print: "x"}, false))
	}
	name, place := "Hall 3", "drawer 2"
	require.NoError(t, s.Name("vol-0001", &name, &place))
	require.NoError(t, s.Reformatted([]string{"0001", "0002", "0009"}, "000a"))
	require.NoError(t, s.Note(ledger.Volume{ID: "vol-000a", Kind: ledger.Drive, Seen: time.Now(), Print: "y"}, false))
	all, err := s.All()
	require.NoError(t, err)
	require.Len(t, all, 2)
	for _, v := range all {
		want := ""
		if v.ID == "vol-000a" {
			want = "Hall 3"
		}
		assert.Equal(t, want, v.Name, v.ID)
	}
	require.NoError(t, s.Reformatted([]string{"000a"}, "000a"), "it was given the number that it had")
	all, err = s.All()
	require.NoError(t, err)
	assert.Len(t, all, 2)
}

// TestOnlyWhatChangedIsReadAgain spoils a file without a trace, which another reading then cannot notice, and replaces
// others as people and programs do, which it does.
func TestOnlyWhatChangedIsReadAgain(t *testing.T) {
	s := ledger.Store{Dir: filepath.Join(t.TempDir(), "ledger")}
	for _, id := range []string{"vol-1", "vol-2", "vol-3"} {
		require.NoError(t, s.Note(volume(id, 3, "VSP-1 Copper Tide"), false))
	}
	first, err := s.Read(nil)
	require.NoError(t, err)
	require.Len(t, first.Volumes, 3)

	name := filepath.Join(s.Dir, "vol-1.json")
	info, err := os.Stat(name)
	require.NoError(t, err)
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(name, []byte(strings.Repeat("x", len(data))), 0o600))
	require.NoError(t, os.Chtimes(name, info.ModTime(), info.ModTime()))
	require.NoError(t, s.Note(volume("vol-2", 4, "VSP-1 Copper Tide", "VSP-2 Mosswick"), true))
	require.NoError(t, os.Remove(filepath.Join(s.Dir, "vol-3.json")))
	called := "Hall 3"
	require.NoError(t, s.Name("vol-1", &called, nil))
	second, err := s.Read(first)
	require.NoError(t, err)
	require.Len(t, second.Volumes, 2, "one went")
	assert.Equal(t, "vol-2", second.Volumes[0].ID)
	assert.Len(t, second.Volumes[0].Titles, 2)
	assert.Equal(t, "Hall 3", second.Volumes[1].Called(), "names are read each time")
	assert.Equal(t, "Copper Tide", second.Volumes[1].Titles[0].Name, "what has not changed is not read")
	assert.Len(t, first.Volumes, 3, "the earlier reading stays")
	assert.Empty(t, first.Volumes[0].Name)

	require.NoError(t, os.Chtimes(name, time.Time{}, info.ModTime().Add(time.Second)))
	third, err := s.Read(second)
	require.ErrorContains(t, err, "vol-1.json is no file of the ledger")
	assert.Len(t, third.Volumes, 1)
}
