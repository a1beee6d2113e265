package state

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

// TestTheCursorStandsAtTheTopUntilAPersonMovesIt: what a scan finds later comes before what it found first.
func TestTheCursorStandsAtTheTopUntilAPersonMovesIt(t *testing.T) {
	found := func(names ...string) (out []title.Title) {
		for _, n := range names {
			out = append(out, title.Title{Key: n, Name: n})
		}
		return out
	}
	for _, touched := range []bool{false, true} {
		d := &State{Set: &loader.Set{}}
		r := NewTitleRows(d)
		d.Scan.Titles = found("Mosswick")
		r.Refresh()
		d.Touched = touched
		d.Scan.Titles = found("Copper Tide", "Lamplighter", "Mosswick")
		r.Refresh()
		i, ok := r.Title()
		assert.True(t, ok)
		want := "Copper Tide"
		if touched {
			want = "Mosswick"
		}
		assert.Equal(t, want, d.Scan.Titles[i].Key)
	}
}
