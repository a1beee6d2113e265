package ui

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/core/check"
	"polytome/internal/core/fix"
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
