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
	"polytome/internal/core/check"
)

// next is the line that says what brings the job forward.
func next(a *app) string {
	for _, l := range strings.Split(text(a), "\n") {
		if strings.HasPrefix(l, " Next:") {
			return strings.TrimSpace(l)
		}
	}
	return ""
}

// TestTheNextStepInEveryState: from an empty bench to a drive that may be unplugged.
func TestTheNextStepInEveryState(t *testing.T) {
	a, w := demoApp(t, Options{})
	screens := []string{"1", "2", "3", "4", "5", "C", "D", "L", "H"}
	everywhere := func(want string) {
		t.Helper()
		for _, s := range screens {
			press(a, "esc", "esc", s)
			assert.Contains(t, next(a), want, s)
		}
		press(a, "esc", "esc", "1")
	}
	a.state.System = bare(t)
	everywhere("W write 15 titles to North stick: 41.32 GiB")
	press(a, "D")
	assert.Contains(t, next(a), "4 Run, W write 15 titles", "W prepares drives here")
	press(a, "esc")

	// nothing is selected
	press(a, "2", "A")
	if strings.Contains(next(a), "W") {
		press(a, "A")
	}
	assert.Contains(t, next(a), "Next: A select what shall go to North stick")
	press(a, "u")

	// a run: it is waited for, paused, done
	press(a, "4", "W")
	_, cmd := a.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
	l := newLoop(a)
	l.run(cmd)
	lane := a.state.Targets[0].Lane
	l.until(t, func() bool { return lane.Total > 0 })
	lane.Pause()
	l.until(t, func() bool { return lane.Paused })
	assert.Contains(t, next(a), "Next: p resume the run at North stick")
	lane.Pause()
	l.until(t, func() bool { return !lane.Paused })
	assert.Contains(t, next(a), "Next: wait")
	l.until(t, func() bool { return !lane.Running() && a.state.Targets[0].Check.Report != nil && !a.state.Looking(0) })
	assert.Contains(t, next(a), "5 Check, M have it fixed, as one of 2 problems on North stick")

	// the target goes, and games go
	require.NoError(t, os.Rename(w.Stick, w.Stick+"-away"))
	press(a, "r")
	pump(a, a.state.Survey())
	assert.Contains(t, next(a), "connect North stick, and look again")
	a.state.Bench.Targets = nil
	press(a, "ctrl+r") // from the file: it has the target
	b := newApp(t.Context(), bench.New(filepath.Join(t.TempDir(), "b.toml")), a.state.Set, Options{})
	b.Update(tea.WindowSizeMsg{Width: 158, Height: 46})
	b.welcome = nil
	assert.Contains(t, next(b), "Next: a add the folder with your games")
	press(b, "a")
	typeIn(b, t.TempDir())
	press(b, "enter")
	assert.Contains(t, next(b), "Next: P say what shall be filled")
	press(b, "P")
	typeIn(b, t.TempDir())
	press(b, "enter")
	typeIn(b, "rowan")
	press(b, "enter")
	assert.Contains(t, next(b), "add another folder: there is no game of a known platform")
}

// TestChoicesAreListedAndUndoneTo: what was chosen is known by what was said of it.
func TestChoicesAreListedAndUndoneTo(t *testing.T) {
	a, _ := demoApp(t, Options{})
	press(a, "ctrl+u")
	assert.Contains(t, text(a), "Nothing was chosen yet")
	for _, name := range []string{"Mistral", "Copper", "Mosswick"} {
		press(a, "2", "/", name, "enter", "space", "esc")
	}
	goes, _ := a.state.Chosen(0)
	press(a, "ctrl+u")
	s := text(a)
	for _, say := range []string{"Mistral Halt deselected on North stick.", "Copper Tide deselected on North stick."} {
		assert.Contains(t, s, say)
	}
	assert.Less(t, strings.Index(s, "Mosswick"), strings.Index(s, "Copper Tide deselected"), "the last is the first")
	press(a, "down", "enter")
	now, _ := a.state.Chosen(0)
	assert.Greater(t, now, goes)
	assert.Contains(t, text(a), "2 changes undone")
	press(a, "u")
	assert.Contains(t, text(a), "Undone: Mistral Halt deselected on North stick.")
	press(a, "U")
	assert.Contains(t, text(a), "Done again: Mistral Halt deselected on North stick.")
}

// TestTheFootIsClicked: keys and the next step are where they are shown.
func TestTheFootIsClicked(t *testing.T) {
	a, _ := demoApp(t, Options{})
	press(a, "2")
	click := func(label string) {
		t.Helper()
		for y, l := range strings.Split(text(a), "\n") {
			if x := strings.Index(l, label); x >= 0 && y > 30 {
				_, cmd := a.Update(tea.MouseClickMsg{X: len([]rune(l[:x])) + 1, Y: y, Button: tea.MouseLeft})
				pump(a, cmd)
				return
			}
		}
		require.Fail(t, "it is not shown: "+label)
	}
	click("? keys")
	assert.Contains(t, text(a), "Any key closes this")
	press(a, "esc")
	click("Next:")
	assert.Contains(t, text(a), "Write to North stick?")
	click("esc no")
	assert.NotContains(t, text(a), "Write to North stick?")
	click(": do")
	assert.Contains(t, text(a), "do something by its name")
	press(a, "esc", "\\")
	assert.NotContains(t, text(a), "free space", "the rack is folded")
	press(a, "\\")
	a.View()
	_, cmd := a.Update(tea.MouseClickMsg{X: a.rail[len(a.stages)] + 1, Y: 0, Button: tea.MouseLeft})
	pump(a, cmd)
	assert.Contains(t, text(a), "▸C Covers", "panels on the rail, too")
}

// TestWhatIsKnownBeforeStandsInFitAndTree: for the target, for each title and file, and M has it fixed.
func TestWhatIsKnownBeforeStandsInFitAndTree(t *testing.T) {
	a, w := demoApp(t, Options{})
	require.NoError(t, os.Remove(filepath.Join(w.Stick, "ROWAN", "rowan.cfg")))
	pump(a, a.state.Survey())
	for _, s := range []string{"2", "3", "4"} {
		press(a, "esc", s)
		assert.Contains(t, text(a), "Known before: the console will list nothing, M fixes", s)
		assert.Contains(t, text(a), "ROWAN/rowan.cfg: the file is missing", s)
	}
	press(a, "2")
	known := a.state.Targets[0].Foreseen
	var at int
	for i := range a.state.Scan.Titles {
		if a.state.Scan.Titles[i].Name == "Copper Tide" {
			at = i
		}
	}
	item := a.state.Targets[0].Survey.Sheet.Placement(at).Items[0].Path
	f := check.Finding{Grade: check.Fault, Path: item, Say: "its part is cut short", Remedy: "copy it again"}
	a.state.Targets[0].Foreseen.Report = &check.Report{Findings: append(known.Findings, f)}
	find(a, "copper tide")
	assert.Contains(t, text(a), "▪!split", "the title is marked")
	assert.Contains(t, flat(a), "Known before: its part is cut short.")
	assert.Contains(t, flat(a), "→ copy it again")
	press(a, "esc", "3", "/")
	a.Update(tea.PasteMsg{Content: filepath.Base(item)})
	press(a, "enter")
	assert.Contains(t, text(a), "!new")
	press(a, "esc", "esc", "2", "M")
	assert.Contains(t, flat(a), "marked: 3 shows them in the tree")
	assert.NotContains(t, text(a), "the console will list nothing", "as the run writes it")
	press(a, "M")
	assert.NotContains(t, text(a), "the console will list nothing")
}

// TestTheLoaderItselfIsAdded to a stick that lacks it, with a key, from where a person has it.
func TestTheLoaderItselfIsAdded(t *testing.T) {
	a, w := demoApp(t, Options{})
	require.NoError(t, os.Remove(filepath.Join(w.Stick, "ROWAN", "rowan.run")))
	pump(a, a.state.Survey())
	press(a, "3")
	assert.Contains(t, text(a), "K add the loader")
	assert.Contains(t, text(a), "M fixes 1 of 3, K adds the loader. ROWAN/rowan.run: missing")
	mine := t.TempDir()
	press(a, "K")
	assert.Contains(t, flat(a), "Where is Rowan's own folder ROWAN?")
	answer(a, mine)
	assert.Contains(t, flat(a), "nothing of Rowan itself is there")
	require.NoError(t, os.WriteFile(filepath.Join(mine, "rowan-4.1.run"), []byte("the loader"), 0o600))
	press(a, "K")
	answer(a, mine)
	assert.Contains(t, flat(a), "1 change marked")
	assert.NotContains(t, text(a), "K add the loader", "it goes along")
	press(a, "/")
	a.Update(tea.PasteMsg{Content: "rowan.run"})
	press(a, "enter")
	assert.Contains(t, text(a), "new")
	kept, err := bench.Load(w.Bench)
	require.NoError(t, err)
	require.Len(t, kept.Targets[0].Fixes, 1, "also when Polytome is started again")
	assert.Equal(t, a.state.Bench.Targets[0].Fixes[0].Dated.UnixNano(), kept.Targets[0].Fixes[0].Dated.UnixNano())
	press(a, "K")
	answer(a, mine)
	assert.Contains(t, flat(a), "goes along with the next run already")
	press(a, "esc", "esc", "u")
	assert.Empty(t, a.state.Bench.Targets[0].Fixes)
}
