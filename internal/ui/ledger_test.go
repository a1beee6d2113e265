package ui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/ledger"
)

// withLedger is the demo with a ledger, in which a stick stands that is not connected.
func withLedger(t *testing.T) (*app, ledger.Store) {
	store := ledger.Store{Dir: filepath.Join(t.TempDir(), "ledger")}
	require.NoError(t, store.Note(ledger.Volume{ID: "vol-0badcafe", Kind: ledger.Drive, Label: "HOLIDAY",
		Filesystem: "fat32", Capacity: 8 << 30, Free: 3 << 30, Address: "/media/holiday", Loaders: []string{"rowan"},
		Seen: time.Date(2026, 8, 2, 10, 0, 0, 0, time.UTC), Print: "x", Titles: []ledger.Title{
			{ID: "VSP-20417", Key: "VSP-20417", Name: "Copper Tide", Platform: "vesper", Loader: "rowan", Starts: true},
			{ID: "VSP-99999", Name: "Marsh Opera", Platform: "vesper", Loader: "rowan"}}}, false))
	a, _ := demoWith(t, Options{Ledger: store}, 2)
	return a, store
}

// TestTheLedgerShowsWhatLiesInTheDrawer: also what is connected, where a title is, what is nowhere and once only, with
// names and places.
func TestTheLedgerShowsWhatLiesInTheDrawer(t *testing.T) {
	a, store := withLedger(t)
	press(a, "I")
	s := flat(a)
	assert.Contains(t, s, "3 volumes")
	assert.Contains(t, line(a, "HOLIDAY"), "2026-08-02")
	assert.Regexp(t, `North stick +1 +42.00 GiB +here now +[0-9]+ behind`, text(a))
	assert.Contains(t, s, "titles nowhere")
	assert.Contains(t, s, "titles once only")

	press(a, "/")
	write(a, "marsh opera")
	assert.NotContains(t, flat(a), "North stick 0")
	press(a, "home")
	assert.Contains(t, line(a, "Marsh Opera"), "does not start")
	assert.Contains(t, flat(a), "HOLIDAY: Nobody has said where it is kept. Seen last 2 August 2026 at /media/holiday.")
	press(a, "p")
	write(a, "drawer 2")
	press(a, "n")
	write(a, "Hall 3")
	assert.Contains(t, flat(a), "Its name is Hall 3.")
	assert.Contains(t, line(a, "drawer 2"), "Hall 3")
	all, err := store.All()
	require.NoError(t, err)
	v, err := ledger.Find(all, "hall 3")
	require.NoError(t, err)
	assert.Equal(t, "drawer 2", v.Place)
	press(a, "tab", "home")
	assert.Contains(t, flat(a), "Marsh Opera: It is not among your games on this computer. It does not start there.")

	press(a, "esc", "esc", "end", "up", "tab", "home") // what is nowhere
	assert.Contains(t, flat(a), "It is on no volume that was looked at.")
	press(a, "esc", "home")
	for range 5 {
		if a.state.Notice = ""; a.stage().Name() == "Ledger" &&
			strings.Contains(flat(a), "Hall 3: It is kept in drawer 2") {
			break
		}
		press(a, "down")
	}
	assert.Contains(t, flat(a), "Hall 3: It is kept in drawer 2. Seen last 2 August 2026")
	press(a, "x", "enter")
	assert.Contains(t, flat(a), "Hall 3 is forgotten.")
	assert.NoFileExists(t, filepath.Join(store.Dir, "vol-0badcafe.json"))
	assert.Contains(t, flat(a), "2 volumes")
}

// TestTheLedgerKnowsWhoWrote: a run of ours is no change elsewhere, and what somebody else copies there is one.
func TestTheLedgerKnowsWhoWrote(t *testing.T) {
	a, store := withLedger(t)
	stick := func() ledger.Volume {
		all, err := store.All()
		require.NoError(t, err)
		v, err := ledger.Find(all, "North stick")
		require.NoError(t, err)
		return *v
	}
	before := len(stick().Titles)
	press(a, "4", "W", "enter")
	v := stick()
	assert.Greater(t, len(v.Titles), before)
	assert.Zero(t, v.Changed)
	assert.False(t, v.Written.IsZero())
	require.NotNil(t, v.Check)
	assert.Equal(t, len(v.Titles), v.Check.Listed)
	pump(a, a.state.Survey())
	assert.Zero(t, stick().Changed)
	at := a.state.Bench.Resolve(a.state.Bench.Targets[0].At)
	require.NoError(t, os.WriteFile(filepath.Join(at, "FULL", "VSP-12345 - Somebody.iso"), make([]byte, 4096), 0o644))
	pump(a, a.state.Survey())
	assert.False(t, stick().Changed.IsZero())
	press(a, "I", "home")
	for range 3 {
		if strings.Contains(flat(a), "North stick: It is here") {
			break
		}
		press(a, "down")
	}
	assert.Contains(t, flat(a), "Something else wrote to it")
}

// TestAStickOutOfTheLedgerIsMadeAgain: t has another one get its titles.
func TestAStickOutOfTheLedgerIsMadeAgain(t *testing.T) {
	a, _ := withLedger(t)
	press(a, "I")
	for range 3 {
		if strings.Contains(flat(a), "HOLIDAY: Nobody has said") {
			break
		}
		press(a, "down")
	}
	press(a, "t")
	assert.Contains(t, flat(a), "Stick that gets the titles of HOLIDAY: ")
	write(a, t.TempDir())
	assert.Contains(t, flat(a), "HOLIDAY is now a target with 1 title; your games lack 1 title that it had, such as "+
		"Marsh Opera.")
	n := len(a.state.Bench.Targets) - 1
	assert.Equal(t, "HOLIDAY", a.state.Bench.Targets[n].Name)
	assert.Equal(t, bench.Keys{"VSP-20417"}, a.state.Bench.Targets[n].Titles)
	press(a, "u")
	assert.Len(t, a.state.Bench.Targets, n)
}
