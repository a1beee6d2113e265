package ui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
)

// flat is the screen as one line of words.
func flat(a *app) string { return strings.Join(strings.Fields(text(a)), " ") }

// verdict is what holds for a title of that name at a target.
func verdict(t *testing.T, a *app, target int, name string) fit.Kind {
	t.Helper()
	for i := range a.state.Scan.Titles {
		if a.state.Scan.Titles[i].Label() == name {
			v, _, ok := a.state.Verdict(target, i)
			require.True(t, ok)
			return v.Kind
		}
	}
	require.Fail(t, "no such title", name)
	return 0
}

func TestDistributingOnTheScreen(t *testing.T) {
	a, w := demoWith(t, Options{}, 4)
	press(a, "2")
	find(a, "vesper")
	press(a, "s")
	s := flat(a)
	assert.Contains(t, s, "Distribute: 1 already there, 18 to copy, 2 fit nowhere")
	assert.Contains(t, s, "already there under another name: it is renamed")
	press(a, "down")
	assert.Contains(t, flat(a), "Velvet Ballast nowhere North stick: bad; Ferry share: bad")
	before, err := os.ReadFile(w.Bench)
	require.NoError(t, err)
	press(a, "esc")
	assert.NotContains(t, flat(a), "Distribute:")
	after, err := os.ReadFile(w.Bench)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after), "nothing is kept unless it is taken over")
	press(a, "s", "enter")
	assert.Contains(t, flat(a), "Distributed: 19 titles have a home, 2 have none")
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	assert.True(t, b.Targets[1].Wants("VSP-21344"))
	assert.False(t, b.Targets[0].Wants("VSP-21344"))
	press(a, "u")
	b, err = bench.Load(w.Bench)
	require.NoError(t, err)
	assert.True(t, b.Targets[0].Wants("VSP-21344"), "and it can be taken back")
}

func TestWhatIfOnTheScreen(t *testing.T) {
	a, w := demoWith(t, Options{}, 1)
	press(a, "2", "w")
	s := flat(a)
	assert.Contains(t, s, "What if North stick were ... a preview: enter applies it")
	assert.Contains(t, s, "formatted with exFAT 0 -15")
	assert.Contains(t, s, "Clockwork Ferry copy → unsup")
	assert.Contains(t, s, "The drive would have to be reformatted")
	for !strings.Contains(flat(a), "North stick twice the space (116.00 GiB):") {
		press(a, "down")
	}
	assert.Contains(t, flat(a), "19 of the selected titles fit instead of 15")
	press(a, "enter")
	assert.Contains(t, flat(a), "North stick: twice the space (116.00 GiB). u undoes")
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	assert.EqualValues(t, 116<<30, b.Targets[0].Capacity)
	assert.Equal(t, "19/24", a.stages[1].Number())
	press(a, "u")
	assert.Equal(t, "15/24", a.stages[1].Number())

	press(a, "w", "end", "enter")
	answer(a, "capacity=116GiB,rule:accept.1.title.longest=20")
	assert.Contains(t, flat(a), "North stick capacity=116GiB,rule:accept.1.title.longest=20: 19 of the selected "+
		"titles fit instead of 15")
	press(a, "down", "enter")
	answer(a, "capcity=116GiB")
	assert.Contains(t, flat(a), `did you mean "capacity"?`)
	press(a, "up", "enter")
	assert.Equal(t, map[string]string{"accept.1.title.longest": "20"}, a.state.Bench.Targets[0].Rules)
	assert.Equal(t, "19/24", a.stages[1].Number())
	press(a, "u", "w")
	assert.Contains(t, flat(a), "something else ...")
	press(a, "end", "up", "enter")
	assert.Empty(t, a.state.Bench.Targets, "without this target")
	press(a, "u")
	assert.Len(t, a.state.Bench.Targets, 1)
	assert.Equal(t, "15/24", a.stages[1].Number())
}

func TestFavouritesGetTheSpace(t *testing.T) {
	a, _ := demoWith(t, Options{}, 1)
	press(a, "2")
	require.Equal(t, fit.NoSpace, verdict(t, a, 0, "Underbough"))
	find(a, "Underbough")
	press(a, "*")
	assert.Contains(t, flat(a), "Underbough is a favourite: it gets space before all others")
	assert.Contains(t, text(a), "♥")
	assert.Equal(t, fit.Copy, verdict(t, a, 0, "Underbough"))
	press(a, "esc")
	find(a, "favourite")
	assert.Contains(t, flat(a), "1 title")
	press(a, "u")
	assert.Equal(t, fit.NoSpace, verdict(t, a, 0, "Underbough"))
	press(a, "esc")
	find(a, "Underbough")
	press(a, "+", "+")
	assert.Contains(t, flat(a), "Underbough has priority +2")
	assert.Equal(t, fit.Copy, verdict(t, a, 0, "Underbough"))
}

func TestTitlesAreFoundAndListedByWhatHoldsAtTheTarget(t *testing.T) {
	a, _ := demoWith(t, Options{}, 1)
	press(a, "2")
	find(a, "verdict:split")
	assert.Contains(t, flat(a), "VESPER 2 titles")
	press(a, "A")
	assert.Contains(t, flat(a), "2 titles deselected on North stick")
	press(a, "u", "esc")
	for range 6 {
		press(a, "o")
	}
	assert.Contains(t, flat(a), "BY VERDICT")
	assert.Equal(t, map[string]string{"fit": "by verdict"}, a.state.Bench.Orders)
	b := newApp(t.Context(), a.state.Bench, a.state.Set, Options{})
	b.Update(tea.WindowSizeMsg{Width: 158, Height: 46})
	pump(b, b.Init())
	press(b, "2")
	assert.Contains(t, flat(b), "BY VERDICT", "the order is kept")
	press(a, "1")
	press(a, "/")
	a.Update(tea.PasteMsg{Content: "goes"})
	assert.Contains(t, flat(a), "use them in Fit")
}

func TestAWideBenchScrollsSideways(t *testing.T) {
	a, _ := demoWith(t, Options{}, 1)
	p := a.state.Bench.Targets[0]
	for i := range 7 {
		p.Name = "Stick " + string(rune('B'+i))
		a.state.Bench.Targets = append(a.state.Bench.Targets, p)
	}
	b := a.state.Bench
	set := a.state.Set
	a = newApp(t.Context(), b, set, Options{})
	for _, window := range [][2]int{{80, 24}, {158, 46}, {240, 70}} {
		a.Update(tea.WindowSizeMsg{Width: window[0], Height: window[1]})
		pump(a, a.Init())
		press(a, "2")
		for n := range b.Targets {
			s := text(a)
			assert.Contains(t, strings.SplitN(s, "\n", 4)[2], b.Targets[n].Name,
				"%v: the target of the cursor is shown", window)
			assert.Contains(t, s, "Clockwork Ferry", "the titles stay")
			press(a, "right")
		}
		for range b.Targets {
			press(a, "left")
		}
	}
	a.Update(tea.WindowSizeMsg{Width: 158, Height: 46})
	assert.Contains(t, text(a), "targets 1 to ")
}

func TestMarkingInTheTree(t *testing.T) {
	a, w := demoWith(t, Options{}, 1)
	press(a, "3")
	find(a, "spare.iso")
	assert.Contains(t, flat(a), "SHORT/spare.iso: kept.")
	press(a, "x")
	assert.Contains(t, flat(a), "The next run will remove SHORT/spare.iso from North stick")
	assert.Contains(t, flat(a), "1 removed")
	press(a, "x")
	assert.Contains(t, flat(a), "SHORT/spare.iso stays on North stick")
	press(a, "x")

	find(a, "Mosswick") // a title's files go together, and it is no longer wanted
	press(a, "x")
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	assert.False(t, b.Targets[0].Wants("VSP-21377"))
	assert.Equal(t, []string{"SHORT/VSP-21377 - Mosswick.iso", "SHORT/spare.iso"}, b.Targets[0].Removing)
	press(a, "u")

	press(a, "esc", "esc")
	find(a, "HALL-VIDEO")
	press(a, "x")
	assert.Contains(t, flat(a), "4 files, 15.58 GiB, will be removed. Type the folder's name to confirm:")
	answer(a, "yes")
	assert.Contains(t, flat(a), "so nothing was marked")
	press(a, "x")
	answer(a, "hall-video")
	assert.Contains(t, flat(a), "The next run will remove 4 files from North stick")
	press(a, "u")

	press(a, "4", "W") // what is lost is named, and the target's name has to be written
	assert.Contains(t, flat(a), "1 file, 31 bytes, will be removed on North stick. Type its name to continue:")
	answer(a, "y")
	assert.Contains(t, flat(a), "Nothing was started")
	assert.FileExists(t, filepath.Join(w.Stick, "SHORT", "spare.iso"))
	press(a, "enter")
	answer(a, "north stick")
	assert.NoFileExists(t, filepath.Join(w.Stick, "SHORT", "spare.iso"))
	assert.FileExists(t, filepath.Join(w.Stick, "FERRY-ROTA.txt"), "nothing else goes")
}

func TestDeleteOthers(t *testing.T) {
	a, w := demoWith(t, Options{}, 1)
	press(a, "2")
	find(a, "Mosswick")
	press(a, "space")
	assert.Contains(t, flat(a), "Mosswick is deselected on North stick, but its files stay there. Mark them in Tree "+
		"to remove them")
	press(a, "3")
	assert.Contains(t, flat(a), "none removed")
	press(a, "X")
	assert.Contains(t, flat(a), "1 file, 412.00 MiB, would be removed from North stick. Type its name to confirm:")
	answer(a, "north stick")
	assert.Contains(t, flat(a), "1 removed")
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	assert.True(t, b.Targets[0].DeleteOthers)
	press(a, "X")
	assert.Contains(t, flat(a), "none removed")
}

func TestASecondInstanceOnlyLooks(t *testing.T) {
	a, w := demoWith(t, Options{}, 1)
	status := t.TempDir()
	require.NoError(t, a.state.Bench.Hold(status))
	defer a.state.Bench.Release()
	before, err := os.ReadFile(w.Bench)
	require.NoError(t, err)
	second, err := bench.Load(w.Bench)
	require.NoError(t, err)
	require.NoError(t, second.Hold(status))
	b := newApp(t.Context(), second, a.state.Set, Options{})
	b.Update(tea.WindowSizeMsg{Width: 158, Height: 46})
	pump(b, b.Init())
	assert.Contains(t, text(b), "READ-ONLY")
	press(b, "2")
	find(b, "Mosswick")
	for _, key := range []string{"space", "a", "*", "+", "f", "c"} {
		press(b, key)
		assert.Contains(t, flat(b), "has this bench open, so this one is read-only", key)
	}
	press(b, "1", "d")
	after, err := os.ReadFile(w.Bench)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))
}

func TestABenchThatAnotherProgramChanged(t *testing.T) {
	a, w := demoWith(t, Options{}, 1)
	text, err := os.ReadFile(w.Bench)
	require.NoError(t, err)
	mine := strings.Replace(string(text), "name = 'North stick'", "name = 'Blue stick'", 1)
	require.NoError(t, os.WriteFile(w.Bench, []byte(mine), 0o644))
	press(a, "2")
	find(a, "Mosswick")
	press(a, "space")
	assert.Contains(t, flat(a), "another program changed the file s")
	assert.Contains(t, flat(a), "NOT SAVED")
	now, err := os.ReadFile(w.Bench)
	require.NoError(t, err)
	assert.Equal(t, mine, string(now), "it is not written over")
	_, cmd := a.Update(tea.KeyPressMsg{Code: 'r', Mod: tea.ModCtrl})
	pump(a, cmd)
	assert.Contains(t, flat(a), "Blue stick")
	assert.Contains(t, flat(a), "saved")
	press(a, "space")
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	assert.False(t, b.Targets[0].Wants("VSP-21377"))
}

func TestATargetThatIsPulledIsShownAsItWas(t *testing.T) {
	a, w := demoWith(t, Options{}, 1)
	a.state.CacheFile = filepath.Join(t.TempDir(), "seen.sqlite")
	pump(a, a.state.Survey())
	require.NoError(t, os.Rename(w.Stick, w.Stick+"-pulled"))
	pump(a, a.state.Survey())
	press(a, "2")
	find(a, "Mosswick")
	s := flat(a)
	assert.Contains(t, s, "offline ")
	assert.Contains(t, s, "The target is not connected; this is what was on it at")
	assert.Contains(t, s, "Is already there, as SHORT/VSP-21377 - Mosswick.iso")
	press(a, "4", "W", "enter")
	assert.Contains(t, flat(a), "North stick is not connected, so nothing can be written")
}

// TestARunOfPackedTitlesEndsAtItsEnd: what turned out smaller than it might have been is not waited for.
func TestARunOfPackedTitlesEndsAtItsEnd(t *testing.T) {
	a, _ := demoWith(t, Options{}, 3)
	press(a, "2", "right", "right", "4", "W", "enter")
	s := flat(a)
	assert.Contains(t, s, "Hall pocket done, read back")
	lane := a.state.Targets[2].Lane
	assert.Equal(t, lane.Total, lane.Bytes())
	assert.Less(t, lane.Total, lane.Plan.Bytes/2, "of the large disc little was kept")
	press(a, "3")
	assert.Contains(t, flat(a), "Long Water.pkd")
}
