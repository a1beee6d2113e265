package ui

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/arrange"
	"polytome/internal/core/check"
)

// sections are those of the list that is foreseen, in its order.
func sections(a *app) (out []string) {
	for _, l := range a.state.At(0).Foreseen.Listed {
		if l.Section != "" {
			out = append(out, l.Section+": "+l.Name)
		}
	}
	return out
}

// TestTheListOfTheConsoleIsArranged: divided, a title put into a section and moved, seen as the console pages it, and
// undone.
func TestTheListOfTheConsoleIsArranged(t *testing.T) {
	a, _ := atPocket(t)
	press(a, "M", "2", "n")
	for i, title := range a.state.Scan.Titles {
		if title.Platform == "lapwing" {
			pump(a, a.state.Want(0, []int{i}))
		}
	}
	press(a, "5")
	press(a, "o")
	write(a, "nonsense")
	assert.Contains(t, flat(a), "Unknown way to divide the list")
	press(a, "o")
	write(a, "letters")
	assert.Contains(t, flat(a), "The console's list: a section for each letter. u undoes.")
	require.Equal(t, []string{"H: Heron's Watch", "S: Saltmarsh Symphony", "T: Two Tides"}, sections(a))
	assert.Contains(t, flat(a), "after the run", "what comes of it is shown at once")
	assert.Contains(t, flat(a), "page 1 of 3", "as the console shows 12 lines at a time")
	assert.Contains(t, line(a, "Heron's Watch"), "Heron's Watch")
	assert.Contains(t, flat(a), "H: 1 title")

	press(a, "o")
	write(a, "none")
	assert.Empty(t, sections(a))
	for !strings.Contains(line(a, "Two Tides"), "▌") || a.state.Notice != "" {
		press(a, "down")
	}
	press(a, "f")
	write(a, "Sea")
	assert.Contains(t, flat(a), "Two Tides will stand in the section Sea. u undoes.")
	require.Equal(t, []string{"Sea: Two Tides"}, sections(a))
	press(a, "esc")
	assert.Contains(t, flat(a), "It is in the section Sea.")
	press(a, "*")
	assert.Contains(t, line(a, "Two Tides"), "♥")
	press(a, "u", "u")
	assert.Empty(t, sections(a))
	assert.NotContains(t, line(a, "Two Tides"), "♥")

	place := func(name string) int {
		l := a.state.At(0).Foreseen.Listed
		return slices.IndexFunc(l, func(l check.Listed) bool { return l.Name == name && !l.BuiltIn })
	}
	require.Less(t, place("Heron's Watch"), place("Two Tides"))
	press(a, "[", "[")
	assert.Less(t, place("Two Tides"), place("Heron's Watch"))
	assert.Contains(t, line(a, "19 Two Tides"), "▌", "the cursor goes with it")
	press(a, "[")
	assert.Contains(t, flat(a), "Two Tides stands at the end of its section.")
	press(a, "]", "]")
	assert.Less(t, place("Heron's Watch"), place("Two Tides"))
	assert.Equal(t, arrange.None, a.state.Bench.Targets[0].List.Sections)
}

// TestPartsFollowWhatIsSelected: sections of so many titles are of those that are wanted, also when that changes.
func TestPartsFollowWhatIsSelected(t *testing.T) {
	a, _ := atPocket(t)
	press(a, "M", "2", "n")
	var mine []int
	for i, title := range a.state.Scan.Titles {
		if title.Platform == "lapwing" {
			mine = append(mine, i)
		}
	}
	pump(a, a.state.Want(0, mine))
	press(a, "5", "o")
	write(a, "parts:2")
	require.Equal(t, []string{"Titles 001-002: Heron's Watch", "Titles 001-002: Saltmarsh Symphony",
		"Titles 003-004: Two Tides"}, sections(a))
	for _, i := range mine {
		if a.state.Scan.Titles[i].Name == "Heron's Watch" {
			pump(a, a.state.Want(0, []int{i}))
		}
	}
	press(a, "5")
	assert.Empty(t, sections(a), "two of them need no sections")
	press(a, "u")
	assert.Len(t, sections(a), 3)
	look := a.state.SurveyTarget(0) // begun, and its answer is late
	for _, i := range mine {
		if a.state.Scan.Titles[i].Name == "Heron's Watch" {
			a.state.Bench.Targets[0].Want(false, a.state.Scan.Titles[i].Key)
		}
	}
	pump(a, look)
	assert.Empty(t, sections(a), "titles that were chosen meanwhile count")
}
