package ui

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/fit"
)

// TestWhatWasDeletedAtTheConsoleIsReported in Fit, and selecting it copies it again.
func TestWhatWasDeletedAtTheConsoleIsReported(t *testing.T) {
	a, dir := atPocket(t)
	press(a, "M")
	for i, title := range a.state.Scan.Titles {
		if title.Name == "Ropewalk" || title.Name == "Lamplighter" {
			pump(a, a.state.Want(0, []int{i}))
		}
	}
	press(a, "4", "W", "enter")
	file := filepath.Join(dir, "Carts", "wren8", "Ropewalk.w8")
	require.FileExists(t, file)
	require.NoError(t, os.Remove(file))
	a.state.Notice = ""
	press(a, "2")
	pump(a, a.state.Survey())
	assert.Contains(t, flat(a), "1 title was deleted on Hall pocket, and is not copied again: Ropewalk")
	assert.Contains(t, line(a, "Ropewalk"), "deleted")
	press(a, "/")
	write(a, "verdict:deleted")
	press(a, "home", "down", "up")
	assert.Contains(
		t,
		flat(a),
		"Ropewalk on Hall pocket: deleted. Not selected. Was there and is gone: it was deleted at "+
			"the console, or elsewhere. It is not copied again by itself.",
	)
	i := a.state.At(0).Survey.Titles
	n := 0
	for k := range i {
		if i[k].Name == "Ropewalk" {
			n = k
		}
	}
	assert.True(t, a.state.Plan(0).Empty())
	press(a, "esc", "/")
	write(a, "ropewalk")
	press(a, "home", "space")
	v, chosen, _ := a.state.Verdict(0, n)
	assert.True(t, chosen)
	assert.Equal(t, fit.Copy, v.Kind)
	press(a, "u")
	v, chosen, _ = a.state.Verdict(0, n)
	assert.False(t, chosen)
	assert.Equal(t, fit.Deleted, v.Kind, "undone, it is as it was")
	press(a, "space", "4", "W", "enter")
	assert.FileExists(t, file)
	assert.Empty(t, a.state.Bench.Targets[0].CopyAgain, "it is there, and can be deleted again")
	press(a, "2")
	v, _, _ = a.state.Verdict(0, n)
	assert.Equal(t, fit.Present, v.Kind)
}
