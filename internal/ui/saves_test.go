package ui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/config"
	"polytome/internal/core/saves"
)

// withSaves is the program on a demo with all saves and an empty vault, in the panel of saves.
func withSaves(t *testing.T, o Options) (a *app, dir string, v saves.Vault) {
	v = saves.Vault{Dir: filepath.Join(t.TempDir(), "vault")}
	o.Settings.Saves = v.Dir
	a, w := demoWith(t, o, 2)
	press(a, "S")
	return a, w.Dir, v
}

// line is the one that has all of the words.
func line(a *app, words ...string) string {
	for l := range strings.SplitSeq(text(a), "\n") {
		all := true
		for _, w := range words {
			all = all && strings.Contains(l, w)
		}
		if all {
			return l
		}
	}
	return ""
}

func TestSavesAreKeptPutBackAndCopied(t *testing.T) {
	a, dir, v := withSaves(t, Options{})
	assert.Contains(t, text(a), "saves: 2 in one place only")
	assert.Contains(t, line(a, "Thimble Kings", "Ferry share"), "only here")
	assert.Contains(t, line(a, "Mosswick", "North stick"), "not kept yet")

	assert.Contains(t, text(a), "Next: v keep what is on Ferry share: the save of card shared-1 is nowhere else")
	press(a, "v") // the card on the Ferry share is the first
	assert.Contains(t, text(a), "Ferry share: 3 saves kept, 3 of them new or changed")
	assert.Contains(t, line(a, "Thimble Kings", "Ferry share"), "newest")
	assert.Contains(t, line(a, "Mosswick", "North stick"), "not kept yet", "only one target was meant")
	press(a, "down", "up")
	assert.Contains(t, text(a), "Used by Thimble Kings.")
	press(a, "v")
	assert.Contains(t, text(a), "Ferry share: 3 saves, all kept already.")
	press(a, "b")
	assert.Contains(t, text(a), "Number 3 is what is on Ferry share already.")
	press(a, "down", "v") // the North stick
	assert.Contains(t, line(a, "Mosswick", "North stick"), "played on in two")
	all, err := v.Versions()
	require.NoError(t, err)
	require.Len(t, all, 4)

	// the one of the North stick goes to the Ferry share
	card := func(name string) string {
		b, err := os.ReadFile(filepath.Join(dir, name, "ROWAN/cards/VSP-21377.crd"))
		require.NoError(t, err)
		return strings.TrimRight(string(b), "\x00")
	}
	require.NotEqual(t, card("north-stick"), card("ferry-share"))
	press(a, "/", "North", "enter", "c")
	assert.Contains(t, text(a), "Copy the save to: Ferry share")
	press(a, "enter")
	assert.Contains(t, text(a), "The save is on Ferry share, read back.")
	assert.Equal(t, "Mosswick: chapter 5\n", card("ferry-share"))
	assert.Contains(t, line(a, "Mosswick", "North stick"), "newest")

	// and the old one comes back
	press(a, "esc", "/", "Ferry", "enter", "down", "tab")
	assert.NotEmpty(t, line(a, "5", "Ferry share", "newest", "6.00 MiB"))
	for range 4 {
		if strings.Contains(text(a), "Number 2:") || strings.Contains(text(a), "Number 1:") {
			break
		}
		press(a, "down")
	}
	press(a, "b")
	assert.Contains(t, text(a), "what is there now is kept first")
	press(a, "enter")
	assert.Contains(t, text(a), "read back")
	assert.Equal(t, "Mosswick: chapter 2\n", card("ferry-share"))
	assert.Equal(t, "Mosswick: chapter 5\n", card("north-stick"))
}

func TestATitleIsLinkedWithACard(t *testing.T) {
	a, dir, _ := withSaves(t, Options{})
	press(a, "/", "Thimble", "enter", "l")
	assert.Contains(t, text(a), "Card for Thimble Kings: shared-1")
	for range len("shared-1") {
		press(a, "backspace")
	}
	press(a, "shared-4", "enter")
	assert.Contains(t, text(a),
		"Thimble Kings uses the card shared-4, which was made and begins with what was reached in it")
	tune, err := os.ReadFile(filepath.Join(dir, "ferry-share/TUNE/VSP-21762.tune"))
	require.NoError(t, err)
	assert.Equal(t, "timing=a\ntray=shut\ncard=shared-4\n", string(tune))
	b, err := os.ReadFile(filepath.Join(dir, "ferry-share/ROWAN/cards/shared-4.crd"))
	require.NoError(t, err)
	assert.Len(t, b, 6<<20)
	assert.True(t, strings.HasPrefix(string(b), "Thimble Kings: the third hill"))
	press(a, "esc")
	assert.Contains(t, text(a), "card shared-4")
	press(a, "/", "Thimble", "enter", "l")
	for range len("shared-4") {
		press(a, "backspace")
	}
	press(a, "mine", "enter")
	assert.Contains(t, text(a), `is no name for such a card`)
}

func TestALookNoticesSaves(t *testing.T) {
	a, _, v := withSaves(t, Options{})
	press(a, "1")
	assert.Contains(t, text(a), "!S", "the rail says so, and nothing else is covered by it")
	all, err := v.Versions()
	require.NoError(t, err)
	assert.Empty(t, all, "nothing is kept unasked")
	for range 40 { // to the title
		if strings.Contains(text(a), "evidence for Mosswick") {
			break
		}
		press(a, "down")
	}
	assert.Contains(t, line(a, "save", "North stick"), "not kept")

	a, _, v = withSaves(t, Options{Settings: config.Config{KeepSaves: true}})
	press(a, "1")
	assert.NotContains(t, text(a), "!S")
	all, err = v.Versions()
	require.NoError(t, err)
	assert.Len(t, all, 4, "of both targets")
}

// TestTheCardIsOfTheTitleThatWasAskedFor although the titles have other places in the list by the time of the answer.
func TestTheCardIsOfTheTitleThatWasAskedFor(t *testing.T) {
	a, dir, _ := withSaves(t, Options{})
	press(a, "/", "Thimble", "enter", "l")
	require.Contains(t, text(a), "Card for Thimble Kings")
	answer := a.state.Question.Done
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "shelf")))
	pump(a, a.state.StartScan())
	pump(a, answer("shared-5"))
	assert.Contains(t, a.state.Notice, "Thimble Kings uses the card shared-5")
	tune, err := os.ReadFile(filepath.Join(dir, "ferry-share/TUNE/VSP-21762.tune"))
	require.NoError(t, err)
	assert.Contains(t, string(tune), "card=shared-5")

	a.state.AskCopySave(1, a.state.At(1).Survey.Saves()[0])
	answer = a.state.Question.Done
	a.state.Bench.Targets = a.state.Bench.Targets[:1]
	pump(a, a.state.Survey())
	pump(a, answer("North stick"))
	assert.Contains(t, a.state.Notice, "Ferry share is no longer a target, so nothing was done.")
}

func TestNothingElseIsBegunWhileSavesAreWritten(t *testing.T) {
	a, _, _ := withSaves(t, Options{})
	under := a.state.KeepSaves(0)
	press(a, "W")
	assert.Contains(t, text(a), "Saves on North stick are being written: wait for that to end.")
	assert.Nil(t, a.state.Question)
	assert.Nil(t, a.state.Eject(0))
	assert.Contains(t, a.state.Notice, "Saves on it are being written")
	pump(a, under)
	press(a, "W")
	assert.Contains(t, text(a), "Write to North stick?")
}
