package survey_test

import (
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/survey"
	"polytome/internal/testkit/coretest"
)

// TestALookDoesNotChangeWhatOthersHaveOfIt has the owner of a survey set the target up otherwise, choose and judge
// again, while others try out what would be different and plan for what they have: they get what they got before.
func TestALookDoesNotChangeWhatOthersHaveOfIt(t *testing.T) {
	games := map[string][]byte{}
	for i := range 6 {
		games[fmt.Sprintf("%d.iso", i)] = coretest.Image(t, coretest.Inf(fmt.Sprintf("VSP-0000%d", i), "Copper Tide",
			"1/1",
			"full"))
	}
	w := newWorkshop(t, games, bench.Target{Name: "Stick", Loader: "rowan", Via: "usb", As: "fat32",
		Capacity: 8 << 20, Everything: true})
	coretest.Write(t, w.at("Stick", ""), "FULL/VSP-00001 - Copper Tide.iso", games["1.iso"])
	coretest.Write(t, w.at("Stick", ""), "OLD/VSP-00002.iso", games["2.iso"])
	s := w.look(0)
	theirs := *s
	theirs.Sheet = s.Sheet.Clone()
	seen := func(s *survey.Survey) string {
		p := s.MakePlan(s.Sheet)
		text := fmt.Sprintln(s.Notes, s.Conflicts, s.There, s.Facts, p.Notes)
		for i := range p.Steps {
			text += fmt.Sprintln(p.Steps[i].Kind, p.Steps[i].From, p.Steps[i].Path)
		}
		return text
	}
	before := seen(&theirs)
	require.Contains(t, before, "OLD/VSP-00002.iso")

	var others sync.WaitGroup
	b := w.bench.Clone()
	for range 2 {
		others.Go(func() {
			other, err := theirs.With(t.Context(), b, 0, func(p *bench.Target) { p.As, p.Via = "exfat", "usb" })
			if assert.NoError(t, err) {
				seen(other)
			}
			assert.Equal(t, before, seen(&theirs))
		})
	}
	p := &w.bench.Targets[0]
	for _, way := range []string{"smb", "usb"} {
		p.Via, p.DeleteOthers, p.Removing = way, way == "smb", []string{"OLD"}
		require.NoError(t, s.Rejudge(t.Context(), w.bench, 0))
		p.Everything, p.Titles = false, nil
		s.Choose(w.bench, 0)
		s.Put(w.bench, 0, 3)
		assert.NotEqual(t, before, seen(s))
	}
	others.Wait()
	assert.Equal(t, before, seen(&theirs))
}
