package ui

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/ledger"
	"polytome/internal/testkit/judge"
)

// TestAnotherStickHasTheSameTitles: i in Fit adds it, what is selected for one is for both, the run writes to it, and
// the ledger says which of them is up to date.
func TestAnotherStickHasTheSameTitles(t *testing.T) {
	a, first := atPocket(t)
	a.state.Ledger = ledger.Store{Dir: t.TempDir()}
	press(a, "M")
	stick := judge.NewStick(t, 64, "HALL", "22220002")
	at := filepath.Join(t.TempDir(), "media", "HALL")
	stick.Plug(at)
	press(a, "2", "i")
	assert.Contains(t, flat(a), "Another stick like Hall pocket: ")
	write(a, first)
	assert.Contains(t, flat(a), "is not a volume that is plugged in")
	changes := len(a.state.Changed())
	require.Len(t, a.state.Bench.Targets, 1)
	press(a, "i")
	write(a, at)
	assert.Contains(t, flat(a), "Hall pocket 2 is like Hall pocket: what you select for one of them is for all.")
	pump(a, a.state.Declare(1, "fat32"))
	assert.NotZero(t, a.state.Bench.Targets[0].Capacity, "how large a stick is, it says itself")
	assert.Zero(t, a.state.Bench.Targets[1].Capacity)
	require.Len(t, a.state.Changed(), changes+2, "what was refused cannot be undone")
	require.Len(t, a.state.Bench.Targets, 2)
	for i, title := range a.state.Scan.Titles {
		if title.Name == "Ropewalk" {
			pump(a, a.state.Want(1, []int{i}))
		}
	}
	for n := range a.state.Bench.Targets {
		assert.False(t, a.state.Plan(n).Empty(), "selected for both")
	}
	press(a, "l", "4", "W", "enter")
	assert.Contains(t, flat(a), "W write to the other targets too: 1 title to Hall pocket")
	press(a, "W", "enter")
	assert.FileExists(t, filepath.Join(at, "Carts", "wren8", "Ropewalk.w8"))
	assert.FileExists(t, filepath.Join(first, "Carts", "wren8", "Ropewalk.w8"))
	press(a, "I")
	assert.Regexp(t, `Hall pocket 2 +1 .*here now +[0-9]+ problems`, text(a))
	for i, title := range a.state.Scan.Titles {
		if title.Name == "Lamplighter" {
			pump(a, a.state.Want(0, []int{i}))
		}
	}
	assert.Regexp(t, `Hall pocket 2 +1 .*here now +1 behind`, text(a))
	for range a.state.Changed() {
		pump(a, a.state.Undo())
	}
	assert.Len(t, a.state.Bench.Targets, 1)
}
