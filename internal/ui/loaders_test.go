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
	"polytome/internal/ui/loadersview"
)

func TestThePanelShowsRulesAndTree(t *testing.T) {
	a, _ := demoApp(t, Options{})
	press(a, "L")
	s := text(a)
	for _, want := range []string{"▸L Loaders", "Rowan for the Vesper: its rules",
		"your titles on the stick, usb, FAT32", "split", "Rowan does not use 35 of 59 titles"} {
		assert.Contains(t, s, want)
	}
	assert.NotContains(t, s, "▸1 Games", "one thing is marked as shown")
	press(a, "right")
	assert.Contains(t, text(a), "Trellis for the Meridian")
	press(a, "right")
	assert.Contains(t, text(a), "Bellows for the Pipit Mini", "round and round")
	assert.Contains(t, text(a), "Heron's Watch.cue")
	press(a, "/", "m3u", "enter")
	s = text(a)
	assert.Contains(t, s, "Two Tides.m3u")
	assert.NotContains(t, s, "Ropewalk.w8")
	press(a, "esc")
	assert.Contains(t, text(a), "Ropewalk.w8")
	press(a, "tab", "down", "down", "down")
	assert.Contains(t, text(a), "Cartridges go into a folder per platform")
	a.Update(tea.MouseClickMsg{X: 5, Y: 8, Button: tea.MouseLeft})
	assert.Contains(t, text(a), "it ships with Polytome")
	a.Update(tea.MouseClickMsg{X: 120, Y: 9, Button: tea.MouseLeft})
	assert.Contains(t, text(a), "Carts/")
	a.Update(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	press(a, "esc")
	assert.Contains(t, text(a), "▸1 Games")
	press(a, "L", "3")
	assert.Contains(t, text(a), "▸3 Tree", "a stage leaves the panel")
}

func TestThePanelSaysWhatCannotBeDone(t *testing.T) {
	a, _ := demoApp(t, Options{})
	press(a, "L", "e")
	assert.Contains(t, text(a), "ships with Polytome and cannot be edited")
	press(a, "c")
	assert.Contains(t, text(a), "There is no folder for your own profiles")
	press(a, "n")
	assert.Contains(t, text(a), "There is no target to learn from")

	own := filepath.Join(t.TempDir(), "own")
	a, w := demoApp(t, Options{OwnDir: own})
	press(a, "L", "c")
	assert.Contains(t, text(a), "Your copy is")
	press(a, "c")
	assert.Contains(t, text(a), "Rowan is already yours")
	press(a, "1", "L", "right", "p")
	assert.Contains(t, text(a), "North stick is now filled for Trellis")
	assert.Equal(t, "trellis", a.state.Bench.Targets[0].Loader)
	press(a, "u")
	assert.Equal(t, "rowan", a.state.Bench.Targets[0].Loader)
	require.NoError(t, os.RemoveAll(w.Stick))
	press(a, "n")
	assert.Contains(t, text(a), "No folder")
	_, cmd := a.Update(loadersview.EditedMsg{Err: os.ErrNotExist})
	assert.Contains(t, text(a), "Set the variable EDITOR to your editor")
	pump(a, cmd)
}

func TestAMistakeIsShownAtItsLine(t *testing.T) {
	own := t.TempDir()
	a, _ := demoApp(t, Options{OwnDir: own})
	p, err := a.state.Set.Profile("bellows")
	require.NoError(t, err)
	file, err := p.Copy(own)
	require.NoError(t, err)
	good, err := os.ReadFile(file)
	require.NoError(t, err)
	reload := func(text string) {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		pump(a, a.state.Reload())
	}
	reload(string(good))
	press(a, "L", "right", "right")
	assert.Contains(t, text(a), "bellows*")
	reload(strings.Replace(string(good), "overflow-after = 60", "overflow-after = 61", 1))
	s := text(a)
	for _, want := range []string{"overflow-after = 61", "The stick shows only 60 entries in a folder, not 61",
		"the tree as it was before the mistake", "bellows is left out.", "bellows!"} {
		assert.Contains(t, s, want)
	}
	press(a, "p")
	assert.Contains(t, text(a), "A profile with a mistake cannot be used")
	reload("no toml at all")
	assert.Contains(t, text(a), "bellows is left out.")
	reload(strings.Replace(string(good), "Carts/{platform}", "CARTS/{platform|upper}", 1))
	assert.Contains(t, text(a), "CARTS/")
	require.NoError(t, os.Remove(file))
	pump(a, a.state.Reload())
	assert.Contains(t, text(a), "Carts/", "without a file of one's own, what ships is back")
	for _, size := range [][2]int{{80, 24}, {60, 16}, {240, 70}} {
		a.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		assert.Contains(t, text(a), "its rules")
		press(a, "tab")
		assert.Contains(t, text(a), "your titles on")
		press(a, "tab")
	}
}

func TestFitLeavesOutWhatNoTargetTakes(t *testing.T) {
	a, _ := demoApp(t, Options{})
	press(a, "2")
	s := text(a)
	assert.Contains(t, s, "35 more titles that this loader does not use: / finds them")
	assert.NotContains(t, s, "Ropewalk")
	press(a, "/", "Ropewalk", "enter")
	s = text(a)
	assert.Contains(t, s, "no loader")
	assert.Contains(t, s, "Rowan does not read Wren 8 titles")
	assert.NotContains(t, s, "▫ not for it", "and it is not missed")
}

func TestAnEmptyBenchAsksForTheLoaderOnlyWhenNothingReports(t *testing.T) {
	empty := t.TempDir()
	a, w := demoApp(t, Options{})
	for dir, asked := range map[string]bool{empty: true, w.Stick: false} {
		b := newApp(t.Context(), bench.New(""), a.state.Set, Options{})
		b.Update(tea.WindowSizeMsg{Width: 100, Height: 30})
		write(b, w.Games)
		write(b, dir)
		assert.Equal(t, asked, strings.Contains(text(b), "Which loader reads "), dir)
		if asked {
			write(b, "bellow")
			assert.Contains(t, flat(b), `did you mean "bellows"?`)
			write(b, "s")
			assert.Equal(t, "bellows", b.state.Bench.Targets[0].Loader)
		} else {
			assert.Equal(t, "rowan", b.state.Bench.Targets[0].Loader)
		}
	}
}

// write answers a question.
func write(a *app, answer string) {
	a.Update(tea.PasteMsg{Content: answer})
	press(a, "enter")
}
