package ui

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/core/check"
	"polytome/internal/core/fix"
	"polytome/internal/testkit/coretest"
)

func TestTheModelOfATargetIsChosen(t *testing.T) {
	a, _ := atPocket(t)
	assert.NotContains(t, flat(a), "built in")
	press(a, "M") // the kit gets its name, so that there is a list
	assert.Equal(t, fix.Rename, a.state.Bench.Targets[0].Fixes[0].Do)
	press(a, "2", "n")
	assert.Contains(t, flat(a),
		"Hall pocket is for the Pipit Mini North, with 18 titles built in. n tries the next one")
	assert.Equal(t, "north", a.state.Bench.Targets[0].Model)
	press(a, "5", "v")
	assert.Contains(t, flat(a), "lists 5 + 18")
	assert.Contains(t, line(a, "Alder Weir"), "built in")
	press(a, "tab", "tab")
	assert.Contains(t, flat(a), "Alder Weir is built into the console. It takes no room, and cannot be removed.")
	r := a.state.At(0).Foreseen.Report
	assert.Equal(t, 18, r.BuiltIn())
	assert.NotEqual(t, check.Stops, r.Findings[0].Grade)
	press(a, "2", "n")
	assert.Equal(t, "east", a.state.Bench.Targets[0].Model)
	press(a, "n")
	assert.Contains(t, flat(a), "Hall pocket is for any model of its console")
	press(a, "u")
	assert.Equal(t, "east", a.state.Bench.Targets[0].Model)

	b, _ := demoApp(t, Options{})
	press(b, "2", "?")
	assert.NotContains(t, text(b), "n        model")
}

// TestWhatIsBuiltInStandsInGamesAndFit: below the titles, with what hides it, and a double is reported.
func TestWhatIsBuiltInStandsInGamesAndFit(t *testing.T) {
	a, dir := atPocket(t)
	coretest.Write(t, dir, "bellows/own.lst", []byte("LAP_05060 Harbour Lights\n"))
	press(a, "2", "n", "end")
	assert.Contains(t, flat(a), "PIPIT MINI NORTH 19 titles built in")
	assert.Contains(t, line(a, "LAP_05060"), "built in")
	for range 30 {
		if strings.Contains(line(a, "Saltmarsh Symphony"), "built in") ||
			strings.Contains(line(a, "LAP_04420"), "▌") {
			break
		}
		press(a, "up")
	}
	assert.Contains(t, flat(a), "Saltmarsh Symphony is built into the Pipit Mini North. It takes no room")
	press(a, "space", "*", "x")
	assert.Empty(t, a.state.Bench.Targets[0].Titles, "nothing can be done with it")

	press(a, "1", "/")
	write(a, "harbour lights")
	assert.Contains(t, flat(a), "came to the Pipit Mini North later")
	press(a, "esc", "/")
	write(a, "saltmarsh")
	press(a, "home")
	assert.Contains(
		t,
		flat(a),
		"Saltmarsh Symphony is built into the Pipit Mini North with this ID: on a target for it, yours hides that.",
	)
}
