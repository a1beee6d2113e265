package sim_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/slab"
	"polytome/internal/sim"
	"polytome/internal/testkit/volumetest"
)

// TestTheVesperReadsItsDisk: a second reader, which was written from the document alone, lists what was written, after
// each of many changes, and says which title is damaged.
func TestTheVesperReadsItsDisk(t *testing.T) {
	for _, sector := range []int64{512, 4096} {
		m := &volumetest.Disk{B: make([]byte, 14*slab.Slab)}
		d, err := slab.Format(m, int64(len(m.B)), slab.Options{Label: "FERRY", Sector: sector})
		require.NoError(t, err)
		r := rand.New(rand.NewSource(sector))
		for n := range 30 {
			id := fmt.Sprintf("VSP-%05d", r.Intn(6))
			b := make([]byte, r.Intn(slab.Slab*3/2))
			_, _ = r.Read(b)
			_, there := d.Content(id)
			switch k := r.Intn(6); {
			case k < 3:
				_, err = d.Add(context.Background(), slab.New{ID: id, Name: fmt.Sprint("Title ", n), Kind: "full",
					Cover:    "faces/a",
					Settings: map[string]string{"timing": "b", "tray": "shut"}}, int64(len(b)), bytes.NewReader(b),
					true, nil)
			case k == 3 && there == nil:
				err = d.Remove(id)
			case k == 4:
				err = d.PutFile(context.Background(), fmt.Sprint("faces/", n%3), b[:min(len(b), 9000)],
					slab.Options{}.Now)
			default:
				_, err = d.Compact(context.Background(), nil)
			}
			if err != nil {
				require.ErrorIs(t, err, slab.ErrNoSpace)
			}
			got, err := sim.ReadSlab(m, int64(len(m.B)))
			require.NoError(t, err)
			assert.Equal(t, "FERRY", got.Label)
			require.Len(t, got.Games, len(d.Titles()))
			for _, x := range d.Titles() {
				found := false
				for _, g := range got.Games {
					if g.ID == x.ID {
						found = true
						assert.True(t, g.Starts, "%s: %s", g.ID, g.Why)
						assert.Equal(t, [3]string{x.Name, "timing=b\ntray=shut\n", "faces/a"},
							[3]string{g.Name, g.Settings, g.Cover})
					}
				}
				assert.True(t, found, x.ID)
			}
			require.Len(t, got.Files, len(d.Files()))
			for _, f := range d.Files() {
				is, err := d.ReadFile(f.Name)
				require.NoError(t, err)
				assert.True(t, bytes.Equal(is, got.Files[f.Name]), f.Name)
			}
		}
		titles := d.Titles()
		require.NotEmpty(t, titles)
		m.B[titles[0].Extents[0].First*sector+4096+min(5, titles[0].Size-1)] ^= 4
		got, err := sim.ReadSlab(m, int64(len(m.B)))
		require.NoError(t, err)
		for _, g := range got.Games {
			assert.Equal(t, g.ID != titles[0].ID, g.Starts)
		}
		m.B[2] ^= 1
		_, err = sim.ReadSlab(m, int64(len(m.B)))
		assert.NoError(t, err, "the copy of the header counts")
		_, err = sim.ReadSlab(m, 3*slab.Slab)
		assert.ErrorContains(t, err, "cut short")
	}
}
