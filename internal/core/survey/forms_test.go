package survey_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/run"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/demo"
	"polytome/internal/sim"
	"polytome/internal/testkit/coretest"
)

// TestOtherFormsAreFilledAndChecked goes the whole way with cartridges, tracks and folders, for every
// loader that can be filled with them: what is planned is written, a second look has nothing to
// do, and the check and the simulator list the same.
func TestOtherFormsAreFilledAndChecked(t *testing.T) {
	ctx := context.Background()
	w, err := demo.Open(filepath.Join(t.TempDir(), "world"), demo.Seed)
	require.NoError(t, err)
	set := coretest.Set(t)
	scanned, err := scan.Scan(ctx, []string{w.Shelf}, scan.Options{Set: set})
	require.NoError(t, err)
	for _, c := range []struct {
		loader, as string
		files      int // written
		left       int // titles that cannot go: bad ones, and those in a shape that cannot be made
	}{{"bellows", "fat32", 26, 5}, {"gantry", "exfat", 21, 3}, {"oxbow", "exfat", 52, 5}, {"trellis", "exfat", 12, 6},
		{"plover", "fat32", 13, 2}, {"mica", "fat32", 5, 2}} {
		t.Run(c.loader, func(t *testing.T) {
			stick := t.TempDir()
			b := bench.New("")
			b.Targets = []bench.Target{{Name: "Place", At: stick, Loader: c.loader, As: c.as, Capacity: 1 << 34,
				Everything: true}}
			look := func() *survey.Survey {
				s, err := survey.Take(ctx, b, 0, scanned.Titles, survey.Options{Set: set})
				require.NoError(t, err)
				return s
			}
			s := look()
			p := s.Plan()
			assert.Equal(t, c.files, p.Files)
			var left []string
			for _, l := range p.Left {
				left = append(left, l.Label+": "+l.Why.Say)
			}
			assert.Len(t, p.Left, c.left, "%q", left)
			to, err := s.Open(t.Context())
			require.NoError(t, err)
			report := run.Run(ctx, p, to, run.Options{}, func(run.Event) {})
			require.NoError(t, to.Close())
			require.Empty(t, report.Failed)

			again := look()
			assert.True(t, again.Plan().Empty(), "%v", again.Plan().Steps)
			if c.loader == "mica" { // of packed images only the most is known before
				assert.Greater(t, again.Facts.Free, s.Sheet.Free())
			} else {
				assert.Equal(t, again.Facts.Free, s.Sheet.Free(), "the space is what was foretold")
			}
			// what the user supplies
			for _, own := range []string{"bellows/start.bin", "gantry/start.bin", "tools/mica/start.app",
				"tools/mica/about.xml", "tools/mica/badge.png"} {
				coretest.Write(t, stick, own, []byte("the loader's own"))
			}
			coretest.Write(t, stick, "system/images/dulcimer-one.rom", demo.SystemImage(1, 256<<10))
			audit, err := again.Check(ctx, check.Inside)
			require.NoError(t, err)
			for _, f := range audit.Findings {
				assert.Equal(t, check.Remark, f.Grade, "%s: %s", f.Path, f.Say)
			}
			listing, err := sim.Loaders[c.loader].List(os.DirFS(stick))
			require.NoError(t, err)
			assert.Empty(t, listing.Passed)
			var promised, listed []string
			for _, l := range audit.Listed {
				assert.True(t, l.Starts)
				at := strings.ToUpper(l.Path)
				if c.loader == "bellows" && strings.HasSuffix(at, ".CUE") {
					at = at[:strings.LastIndexByte(at, '/')] // it lists the folder, not each disc
				}
				promised = append(promised, at)
			}
			for _, g := range listing.Games {
				assert.True(t, g.Starts, "%s: %s", g.Path, g.Why)
				listed = append(listed, strings.ToUpper(g.Path))
			}
			slices.Sort(promised)
			slices.Sort(listed)
			assert.Equal(t, slices.Compact(promised), listed)
		})
	}
}
