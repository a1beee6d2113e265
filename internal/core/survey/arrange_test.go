package survey_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/arrange"
	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/scancache"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/sim"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

var arrangedNames = []string{
	"Anchor Row",
	"Bell Buoy",
	"Copper Tide",
	"Crab Line",
	"Dune Post",
	"Eel Weir",
	"Ferry Bell",
	"Gull Watch",
}

// arrangedSticks are a stick of the Pipit Mini, and one of the Tanager, with eight games of each kind.
func arrangedSticks(t *testing.T) *workshop {
	files := map[string][]byte{}
	for i, name := range arrangedNames {
		files[name+".w8"] = demo.Cartridge("WREN", name)
		files[name+"/game.cue"] = []byte("FILE \"game.bin\" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n")
		files[name+"/game.bin"] = coretest.Volume(t, fmt.Sprintf("LAP_0%d", 6100+i))
	}
	w := newWorkshop(
		t,
		files,
		bench.Target{Name: "pipit", Loader: "bellows", Via: "usb", As: "fat32", Everything: true},
		bench.Target{Name: "tanager", Loader: "oxbow", Via: "usb", As: "exfat", Everything: true},
	)
	for i := range w.titles {
		if t := &w.titles[i]; t.Form == title.Tracks {
			t.Name = filepath.Base(filepath.Dir(t.Source()))
		}
	}
	for _, p := range []string{"wren8", "lapwing"} { // as the device made them
		require.NoError(t, os.MkdirAll(w.at("tanager", "oxbow/play/"+p), 0o755))
	}
	var err error
	w.o.Cache, err = scancache.Open(filepath.Join(t.TempDir(), "seen.sqlite"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = w.o.Cache.Close() })
	return w
}

// consoleList is what the simulated console lists, with the sections that it shows.
func (w *workshop) consoleList(n int, only string) (out []string) {
	target := &w.bench.Targets[n]
	l, err := sim.Loaders[target.Loader].List(os.DirFS(target.At))
	require.NoError(w.t, err)
	for _, g := range l.Games {
		if strings.HasPrefix(g.Path, only) {
			assert.True(w.t, g.Starts, g.Path)
			out = append(out, strings.TrimPrefix(g.Section+"/"+g.Title, "/"))
		}
	}
	return out
}

// checkedList is the same as a check reads it.
func (w *workshop) checkedList(n int, only string) (out []string) {
	r, err := w.look(n).Check(w.t.Context(), check.Inside)
	require.NoError(w.t, err)
	for _, l := range r.Listed {
		if strings.HasPrefix(l.Path, only) {
			out = append(out, strings.TrimPrefix(l.Section+"/"+l.Name, "/"))
		}
	}
	return out
}

// TestTheConsoleShowsItsListAsItIsWished, in whatever order wishes come: the simulated consoles and the check agree on
// it, what is there is only renamed, or its text changed, and a second run has nothing to do.
func TestTheConsoleShowsItsListAsItIsWished(t *testing.T) {
	w := arrangedSticks(t)
	keys := map[string]string{}
	for i := range w.titles {
		keys[string(w.titles[i].Form)+w.titles[i].Name] = w.titles[i].Key
	}
	list := func(n int) *arrange.Wishes { return &w.bench.Targets[n].List }
	see := func(n int, only string, want ...string) {
		t.Helper()
		if rest, ok := strings.CutPrefix(want[len(want)-1], "and "); ok {
			var names []string
			for _, name := range arrangedNames {
				if !slices.ContainsFunc(want, func(w string) bool { return strings.HasSuffix(w, name) }) {
					names = append(names, rest+name)
				}
			}
			want = append(want[:len(want)-1], names...)
		}
		assert.Equal(t, want, w.consoleList(n, only))
		assert.Equal(t, want, w.checkedList(n, only))
		assert.True(t, w.look(n).Plan().Empty(), "and then there is nothing to do")
	}
	w.fill(0)
	w.fill(1)
	see(0, "Titles/", arrangedNames...)
	see(1, "oxbow/play/wren8", arrangedNames...)

	w.bench.Targets[0].List, _ = arrange.ParseSections("letters")
	w.bench.Targets[1].List, _ = arrange.ParseSections("parts:3")
	for n := range 2 {
		p, _ := w.fill(n)
		for _, s := range p.Steps {
			assert.NotEqual(t, "copy", string(s.Kind), "nothing is copied again: %s", s.Path)
		}
		assert.Zero(t, p.Loses())
	}
	see(0, "Titles/", "A/Anchor Row", "B/Bell Buoy", "C/Copper Tide", "C/Crab Line", "D/Dune Post", "E/Eel Weir",
		"F/Ferry Bell", "G/Gull Watch")
	see(1, "oxbow/play/wren8", "Titles 001-003/Anchor Row", "Titles 001-003/Bell Buoy", "Titles 001-003/Copper Tide",
		"Titles 004-006/Crab Line", "Titles 004-006/Dune Post", "Titles 004-006/Eel Weir", "Titles 007-009/Ferry Bell",
		"Titles 007-009/Gull Watch")

	*list(0), _ = arrange.ParseSections("none")
	require.True(t, list(0).Move(keys["tracksGull Watch"], -1, []string{keys["tracksAnchor Row"],
		keys["tracksGull Watch"]}))
	require.NoError(t, list(0).Put(keys["tracksEel Weir"], "Sea"))
	*list(1), _ = arrange.ParseSections("none")
	require.NoError(t, list(1).Put(keys["cartridgeDune Post"], "Sea"))
	w.fill(0)
	w.fill(1)
	see(0, "Titles/", "Sea/Eel Weir", "Gull Watch", "Anchor Row", "and ")
	see(1, "oxbow/play/wren8", "Sea/Dune Post", "and ")
	_, err := os.Stat(w.at("tanager", "oxbow/play/wren8/Titles 001-003"))
	assert.ErrorIs(t, err, os.ErrNotExist, "no empty section stays behind")
}

// TestAFavouriteIsShownAtTheConsole, until it is none, and one that was chosen at the console stays.
func TestAFavouriteIsShownAtTheConsole(t *testing.T) {
	w := arrangedSticks(t)
	at := func(name string) string { return w.at("pipit", "Titles/"+name+"/title.toml") }
	favourites := func() (out []string) {
		l, err := sim.Bellows{}.List(os.DirFS(w.bench.Targets[0].At))
		require.NoError(t, err)
		for _, g := range l.Games {
			if g.Favour {
				out = append(out, g.Title)
			}
		}
		return out
	}
	key := func(name string) string {
		for i := range w.titles {
			if w.titles[i].Name == name && w.titles[i].Form == title.Tracks {
				return w.titles[i].Key
			}
		}
		t.Fatal(name)
		return ""
	}
	w.bench.Favour(true, key("Crab Line"))
	w.fill(0)
	assert.Equal(t, []string{"Crab Line"}, favourites())
	b, err := os.ReadFile(at("Dune Post"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at("Dune Post"),
		[]byte(strings.Replace(string(b), "favourite = false", "favourite = true", 1)), 0o644))
	w.bench.Favour(false, key("Crab Line"))
	w.bench.Favour(true, key("Bell Buoy"))
	w.fill(0)
	assert.Equal(t, []string{"Bell Buoy", "Dune Post"}, favourites())
}

// TestLockedFieldsAreLockedAtTheConsole, and what is changed on the bench later still comes there.
func TestLockedFieldsAreLockedAtTheConsole(t *testing.T) {
	w := arrangedSticks(t)
	file := filepath.Join("Crab Line", "game.cue")
	w.edit(file, func(e *title.Edit) {
		e.Name, e.Players = "Crab Line", "1-2"
		e.Lock("name", true)
		e.Lock("players", true)
	})
	w.fill(0)
	text := func() string {
		b, err := os.ReadFile(w.at("pipit", "Titles/Crab Line/title.toml"))
		require.NoError(t, err)
		return string(b)
	}
	assert.Contains(t, text(), "locked = [\"name\", \"players\", ]\n")
	w.edit(file, func(e *title.Edit) { e.Players = "1-4" })
	w.fill(0)
	assert.Contains(t, text(), "players = \"1-4\"\n")
	require.NoError(t, os.WriteFile(w.at("pipit", "Titles/Crab Line/title.toml"),
		[]byte(strings.Replace(text(), "\"players\", ", "\"players\", \"year\"", 1)), 0o644))
	w.edit(file, func(e *title.Edit) { e.Year, e.Players = "1999", "2" })
	w.fill(0)
	assert.Contains(t, text(), "players = \"2\"\n")
	assert.Contains(t, text(), "year = \"\"\n", "what a person locked there stays")
}

// TestWhatSomeoneElseWroteIsArrangedToo, and nothing else in it changes: this computer has never written to the stick.
func TestWhatSomeoneElseWroteIsArrangedToo(t *testing.T) {
	w := arrangedSticks(t)
	w.fill(0)
	mine := "# ours\nname = \"The Crab Line!\"\nfavourite = true # always\nsection = \"Old\"\n"
	coretest.Write(t, w.at("pipit", "Titles/Crab Line"), "title.toml", []byte(mine))
	require.NoError(t, w.o.Cache.Close())
	var err error
	w.o.Cache, err = scancache.Open(filepath.Join(t.TempDir(), "new.sqlite"))
	require.NoError(t, err)
	assert.True(t, w.look(0).Plan().Empty(), "nobody wished anything")
	w.bench.Targets[0].List, _ = arrange.ParseSections("letters")
	w.fill(0)
	b, err := os.ReadFile(w.at("pipit", "Titles/Crab Line/title.toml"))
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(mine, "Old", "C", 1), string(b))
	w.bench.Targets[0].List, _ = arrange.ParseSections("none")
	w.fill(0)
	b, err = os.ReadFile(w.at("pipit", "Titles/Crab Line/title.toml"))
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(mine, `"Old"`, `""`, 1), string(b))
}

// TestAnyArrangementIsSeenAlike: whatever is wished one after another, on folders or in texts, the console shows what
// the check says, and no game is lost or written twice.
func TestAnyArrangementIsSeenAlike(t *testing.T) {
	judge.Times(t, 6, func(r *rapid.T) {
		w := arrangedSticks(t)
		for range rapid.IntRange(1, 4).Draw(r, "rounds") {
			for n := range w.bench.Targets {
				l := &w.bench.Targets[n].List
				way := rapid.SampledFrom([]string{"none", "letters", "parts:2", "parts:5", "one", "hand"}).
					Draw(r, "way")
				if way == "hand" {
					key := w.titles[rapid.IntRange(0, len(w.titles)-1).Draw(r, "title")].Key
					require.NoError(t, l.Put(key, rapid.SampledFrom([]string{"", "Sea", "Hall"}).Draw(r, "section")))
					l.Sequence = append([]string{key}, slices.DeleteFunc(slices.Clone(l.Sequence),
						func(k string) bool { return k == key })...)
				} else {
					wish, err := arrange.ParseSections(way)
					require.NoError(t, err)
					*l = wish
				}
				w.bench.Targets[n].Want(rapid.Bool().Draw(r, "wanted"),
					w.titles[rapid.IntRange(0, len(w.titles)-1).Draw(r, "of")].Key)
				w.fill(n)
				assert.Equal(t, w.consoleList(n, ""), w.checkedList(n, ""))
				assert.True(t, w.look(n).Plan().Empty())
			}
		}
	})
}
