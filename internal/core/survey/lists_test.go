package survey_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/plan"
	"polytome/internal/core/scancache"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
)

// listing has the loader read a list of its games.
const listing = `
[accept.title]
longest = 40
ascii = true

[[list]]
path = "games.lst"
platforms = ["wren8"]
header = "games {discs}\n"
line = "{title}|{file}\n"
footer = "end\n"
order = ["title"]
why = "the loader lists what stands here"
`

// harbour is a stick with such a list, and the games of this computer.
func harbour(t *testing.T, games ...string) *workshop {
	files := map[string][]byte{}
	for _, name := range games {
		files[name+".w8"] = demo.Cartridge("WREN", name)
	}
	w := newWorkshop(t, files, bench.Target{Name: "stick", Via: "usb", As: "fat32", Everything: true})
	coretest.Write(t, w.dir, "wharf.toml", []byte(coretest.WharfHouse("GAMES/{title}{ext}", `"Wharf House"`, listing)))
	w.bench.Targets[0].Loader = filepath.Join(w.dir, "wharf.toml")
	var err error
	w.o.Cache, err = scancache.Open(filepath.Join(t.TempDir(), "seen.sqlite"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = w.o.Cache.Close() })
	return w
}

func (w *workshop) list() []string {
	b, err := os.ReadFile(w.at("stick", "games.lst"))
	require.NoError(w.t, err)
	return strings.Split(strings.TrimSuffix(string(b), "\n"), "\n")
}

// only leaves these games on this computer.
func (w *workshop) only(games ...string) {
	require.NoError(w.t, os.RemoveAll(filepath.Join(w.dir, "games")))
	for _, name := range games {
		coretest.Write(w.t, filepath.Join(w.dir, "games"), name+".w8", demo.Cartridge("WREN", name))
	}
	w.scanned()
}

// TestAListNamesEveryGameThatIsThere: also those whose files are not on this computer any longer.
func TestAListNamesEveryGameThatIsThere(t *testing.T) {
	w := harbour(t, "Mosswick", "Gannet Patrol", "Tin Harbour")
	w.fill(0)
	assert.Equal(t, []string{"games 3", "Gannet Patrol|Gannet Patrol.w8", "Mosswick|Mosswick.w8",
		"Tin Harbour|Tin Harbour.w8", "end"}, w.list())
	w.only("Underbough")
	p, _ := w.fill(0)
	assert.Zero(t, p.Loses(), "nothing is lost, so nobody is asked")
	assert.Equal(t, []string{"games 4", "Gannet Patrol|Gannet Patrol.w8", "Mosswick|Mosswick.w8",
		"Tin Harbour|Tin Harbour.w8", "Underbough|Underbough.w8", "end"}, w.list())
	require.NoError(t, os.Remove(w.at("stick", "games.lst"))) // it is made again of what lies there
	w.fill(0)
	assert.Equal(t, []string{"games 4", "Gannet Patrol|Gannet Patrol.w8", "Mosswick|Mosswick.w8",
		"Tin Harbour|Tin Harbour.w8", "Underbough|Underbough.w8", "end"}, w.list())
	require.NoError(t, os.Remove(w.at("stick", "GAMES/Mosswick.w8"))) // what is gone is reported no more
	w.only("Underbough", "Paper Falcons")
	w.fill(0)
	assert.Equal(t, []string{"games 4", "Gannet Patrol|Gannet Patrol.w8", "Paper Falcons|Paper Falcons.w8",
		"Tin Harbour|Tin Harbour.w8", "Underbough|Underbough.w8", "end"}, w.list())
	p, _ = w.fill(0)
	assert.True(t, p.Empty(), "and then there is nothing to do")
}

// TestWhatOthersWroteIntoAListStays: built-in games without files, and what a person has changed.
func TestWhatOthersWroteIntoAListStays(t *testing.T) {
	w := harbour(t, "Mosswick", "Gannet Patrol")
	w.fill(0)
	text := "games 4\nA game that is built in|\nGannet Patrol (my favourite)|Gannet " +
		"Patrol.w8\nMosswick|Mosswick.w8\n# the hall's own words, and no row\nend\n"
	require.NoError(t, os.WriteFile(w.at("stick", "games.lst"), []byte(text), 0o644))
	coretest.Write(t, filepath.Join(w.dir, "games"), "Tin Harbour.w8", demo.Cartridge("WREN", "Tin Harbour"))
	w.scanned()
	p, _ := w.fill(0)
	assert.Zero(t, p.Loses())
	assert.Equal(t, []string{"games 5", "A game that is built in|", "Gannet Patrol (my favourite)|Gannet Patrol.w8",
		"# the hall's own words, and no row", "Mosswick|Mosswick.w8", "Tin Harbour|Tin Harbour.w8", "end"}, w.list())
	p, _ = w.fill(0)
	assert.True(t, p.Empty())
}

// TestAListThatIsNoneIsNotWrittenOver without being asked for.
func TestAListThatIsNoneIsNotWrittenOver(t *testing.T) {
	w := harbour(t, "Mosswick")
	require.NoError(t, os.WriteFile(w.at("stick", "games.lst"), []byte("something that the console wrote"), 0o644))
	p := w.look(0).Plan()
	assert.Equal(t, 1, p.Loses(), "it is a loss like any other")
	w.bench.Targets[0].BackupTo = filepath.Join(w.dir, "kept")
	p = w.look(0).Plan()
	assert.Contains(t, []plan.Kind{p.Steps[0].Kind, p.Steps[1].Kind}, plan.Backup,
		"and is backed up first, where that is wanted")
}

// TestWhatSystemsLeaveIsNoGame: files that systems put beside others are neither listed, nor reported, nor counted,
// whatever they are named.
func TestWhatSystemsLeaveIsNoGame(t *testing.T) {
	w := harbour(t, "Mosswick", "Gannet Patrol")
	w.fill(0)
	check := func() *check.Report {
		r, err := w.look(0).Check(t.Context(), check.Inside)
		require.NoError(t, err)
		return r
	}
	before := check()
	require.Len(t, before.Listed, 2)
	for _, name := range []string{"GAMES/._Mosswick.w8", "GAMES/Thumbs.db", "GAMES/.DS_Store",
		"__MACOSX/GAMES/._Mosswick.w8", "System Volume Information/x.w8"} {
		coretest.Write(t, filepath.Join(w.dir, "stick"), name, []byte("x"))
	}
	after := check()
	assert.Equal(t, [3]any{before.Listed, before.Findings, before.Others}, [3]any{after.Listed, after.Findings,
		after.Others})
	assert.Equal(t, before.Files, after.Files)
	assert.True(t, w.look(0).Plan().Empty())
}
