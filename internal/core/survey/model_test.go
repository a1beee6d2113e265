package survey_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
)

// TestAModelHasItsEditionAndItsRoom: the kit's edition that is for it is taken where nobody names another one, and what
// it does not use of a volume stays free.
func TestAModelHasItsEditionAndItsRoom(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"Ropewalk.w8": demo.Cartridge("WREN", "Ropewalk"),
		"Tide Mill.w8": demo.Cartridge("WREN", "Tide Mill")}, bench.Target{Name: "pipit", Loader: "bellows", Via: "usb",
		As: "fat32", Capacity: 1 << 30, Everything: true})
	kit := t.TempDir()
	for _, edition := range []string{"north", "east"} {
		coretest.Write(t, kit, "bellows-"+edition+".bin", []byte(edition+" add-on"))
	}
	_, _, err := w.look(0).KitFixes(kit, nil)
	assert.ErrorContains(t, err, "comes in editions")
	w.bench.Targets[0].Model = "east"
	fixes, _, err := w.look(0).KitFixes(kit, nil)
	require.NoError(t, err)
	require.Len(t, fixes, 1)
	assert.Contains(t, fixes[0].Source, "bellows-east.bin")
	fixes, _, err = w.look(0).KitFixes(kit, []string{"north"})
	require.NoError(t, err)
	assert.Contains(t, fixes[0].Source, "bellows-north.bin", "what somebody names comes first")

	free := w.look(0).Sheet.Free()
	w.bench.Targets[0].Rules = map[string]string{"model.2.room": "1MiB"}
	s := w.look(0)
	assert.Less(t, s.Sheet.Space(), free/100)
	assert.Equal(t, fit.Copy, s.Sheet.Verdict(0).Kind)
	w.bench.Targets[0].Rules = map[string]string{"model.2.room": "8KiB"}
	assert.Equal(t, fit.NoSpace, w.look(0).Sheet.Verdict(0).Kind)
	w.bench.Targets[0].Model = "north"
	assert.Equal(t, fit.Copy, w.look(0).Sheet.Verdict(0).Kind)
}
