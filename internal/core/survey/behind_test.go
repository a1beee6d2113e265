package survey_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/ledger"
	"polytome/internal/demo"
)

// TestHowFarAVolumeIsBehind: what is selected and not on it, and what is on it and shall go.
func TestHowFarAVolumeIsBehind(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"Ropewalk.w8": demo.Cartridge("WREN", "Ropewalk"),
		"Tide Mill.w8": demo.Cartridge("WREN", "Tide Mill")},
		bench.Target{Name: "Hall 1", Loader: "oxbow", As: "exfat", Capacity: 1 << 30, Everything: true})
	s := w.look(0)
	require.Len(t, s.Titles, 2)
	assert.Len(t, s.Missing(), 2)
	on := func(keys ...string) *ledger.Volume {
		v := &ledger.Volume{}
		for _, k := range keys {
			v.Titles = append(v.Titles, ledger.Title{Key: k, Name: "Name of " + k})
		}
		return v
	}
	missing, others := s.Behind(on(s.Titles[0].Key, "other"))
	assert.Equal(t, []int{1}, missing)
	assert.Empty(t, others, "what is not selected may stay")
	w.bench.Targets[0].DeleteOthers = true
	s = w.look(0)
	missing, others = s.Behind(on(s.Titles[0].Key, s.Titles[1].Key, "other"))
	assert.Empty(t, missing)
	assert.Equal(t, []string{"Name of other"}, others)
	w.fillOnce(0)
	assert.Empty(t, w.look(0).Missing())
}
