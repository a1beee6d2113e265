package ui

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/demo"
	"polytome/internal/ui/state"
)

// places are ways to every screen, and to what is on it.
var places = [][]string{{"1"}, {"1", "e"}, {"2"}, {"2", "w"}, {"2", "s"}, {"3"}, {"3", "s"}, {"4"}, {"4", "tab"},
	{"4", "tab", "tab"}, {"5"}, {"5", "tab"}, {"5", "tab", "tab"}, {"C"}, {"C", "enter"}, {"C", "enter", "c"}, {"D"},
	{"D", "enter"}, {"D", "c"}, {"D", "right", "right", "enter"}, {"L"}, {"L", "tab"}, {"H"}, {"H", "tab"}, {"N"}}

// everywhere is a program on the demo in which all screens have something to show.
func everywhere(t *testing.T) (*app, demo.World) {
	a, w := demoWith(t, Options{OwnDir: t.TempDir()}, 2)
	a.state.System = bare(t)
	pump(a, a.state.FindDrives())
	press(a, "5")
	return a, w
}

// goTo shows a place, from wherever the program is.
func goTo(a *app, keys []string) {
	a.palette, a.mode, a.state.Question = nil, normal, nil
	press(a, "esc", "esc", "esc")
	a.state.Target = 0
	press(a, keys...)
}

// TestAKeyMeansTheSameOnEveryScreen: keys of the table mean one thing, and one that writes somewhere is harmless
// nowhere.
func TestAKeyMeansTheSameOnEveryScreen(t *testing.T) {
	a, _ := everywhere(t)
	table := map[string][]string{
		"/": {"find"}, "?": {"these keys"}, ":": {"do it by name"}, "q": {"quit"}, "esc": {"back"},
		"r":      {"look again", "scan again", "check again"},
		"space":  {"mark", "select/deselect", "tick off", "fix", "turn it on", "mark from here"},
		"delete": {"remove/keep", "remove", "use the file's", "use what is found", "the whole picture"},
		"W": {"write", "write the profile", "write the switches", "write switches", "compact", "defragment",
			"prepare", "prepare it", "repair all", "repair it"},
		"u": {"undo the last choice", "undo the last answer"}, "U": {"redo it"},
		"tab": {"part", "next part", "the other side", "details", "switches", "next file", "back to the titles"},
	}
	writes, harmless := map[string]string{}, map[string]string{}
	for _, place := range places {
		goTo(a, place)
		taken := map[string]bool{}
		for _, x := range a.all() {
			for _, key := range x.Key.Keys() {
				if taken[key] {
					continue // the screen's own comes first
				}
				taken[key] = true
				what := fmt.Sprintf("%s on %s", x.Key.Help().Desc, a.stage().Name())
				if means, ok := table[key]; ok {
					assert.Contains(t, means, x.Key.Help().Desc, "%s: %s", key, what)
				}
				if x.Writes {
					writes[key] = what
				} else {
					harmless[key] = what
				}
			}
		}
	}
	for key, what := range writes {
		if key != "delete" { // marks for removal, or asks
			assert.NotContains(t, harmless, key, "%s writes: %s", key, what)
		}
	}
	assert.Contains(t, writes, "W")
}

// print is what is on everything that could be written to: names, lengths, and the bytes of what is small.
func print(t *testing.T, w demo.World) string {
	h := sha256.New()
	for _, dir := range []string{w.Games, w.Shelf, w.Stick, filepath.Join(w.Dir, "drives"),
		filepath.Join(w.Dir, "ferry-share"), filepath.Join(w.Dir, "vesper")} {
		require.NoError(t, filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			info, err := e.Info()
			if err != nil {
				return err
			}
			fmt.Fprintln(h, p, info.Size(), info.ModTime())
			if e.Type().IsRegular() && info.Size() < 1<<16 {
				b, err := os.ReadFile(p)
				if err != nil {
					return err
				}
				_, _ = h.Write(b)
			}
			return nil
		}))
	}
	return fmt.Sprintf("%x", h.Sum(nil))
}

// keyboard are the keys that a person may press.
func keyboard() (out []string) {
	for r := '!'; r <= '~'; r++ {
		out = append(out, string(r))
	}
	return append(out, "space", "tab", "enter", "esc", "up", "down", "left", "right", "end", "delete")
}

// TestNoKeyWritesWithoutAgreement: every key that does something is pressed on every screen, and where W has asked
// every key of the keyboard but those that agree.
func TestNoKeyWritesWithoutAgreement(t *testing.T) {
	a, w := everywhere(t)
	before := print(t, w)
	slow := []string{"V", "v", "F"} // they read all of every game, and have tests of their own
	pressed := map[string]bool{}    // what keys do that is the same on every screen is done once
	for _, place := range places {
		goTo(a, place)
		for _, x := range a.all() {
			all := x.Key.Keys()
			name := a.stage().Name() + x.Key.Help().Desc
			if i := slices.IndexFunc(a.actions(), func(g state.Action) bool { return g.Key.Help() == x.Key.Help() }); i >= 0 {
				name = x.Key.Help().Desc
			}
			if pressed[name] || slices.Contains(slow, all[0]) {
				continue
			}
			pressed[name] = true
			goTo(a, place)
			press(a, all[0])
			if q := a.state.Question; q != nil && !q.Agree {
				typeIn(a, "x")
			}
			require.False(t, a.state.Running(), "%v %s", place, name)
		}
		require.Equal(t, before, print(t, w), "%v", place)
	}
	for _, key := range keyboard() {
		goTo(a, []string{"2"})
		press(a, "W")
		if q := a.state.Question; q == nil || key == "enter" || slices.ContainsFunc(q.Other,
			func(x state.Action) bool { return x.Key.Help().Key == key }) {
			continue
		}
		press(a, key)
		require.False(t, a.state.Running(), "W %s", key)
	}
	assert.Equal(t, before, print(t, w))
}
