package survey_test

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/estimate"
	"polytome/internal/core/fit"
	"polytome/internal/demo"
	"polytome/internal/format/container"
	"polytome/internal/size"
	"polytome/internal/testkit/coretest"
)

// TestShapesAProfileAsksFor fills targets by profiles that want titles in shapes which no shipped one asks for: a word
// in the profile is all that it takes.
func TestShapesAProfileAsksFor(t *testing.T) {
	data := demo.RawTrack(coretest.Volume(t, "LAP_04412"))
	song := bytes.Repeat([]byte{1, 2, 3, 4}, 588*80)
	sheet := "FILE \"data.bin\" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\nFILE \"song.bin\" BINARY\n  " +
		"TRACK 02 AUDIO\n    INDEX 01 00:00:00\n"
	games := map[string][]byte{"lap/Two Tides.cue": []byte(sheet), "lap/data.bin": data, "lap/song.bin": song}
	for n, name := range []string{"main.run", "art/title.dat", "art/Étude.dat"} {
		b := bytes.Repeat([]byte{byte(n + 1)}, 3000*(n+1))
		if n == 0 {
			b = demo.MainRun("CVN00117", "Hollow Lane", "N")
		}
		games["cvn/"+name] = b
	}
	check := func(name, loader, as, word string, rules map[string]string, verdict fit.Kind, look func(t *testing.T,
		w *workshop)) {
		t.Run(name, func(t *testing.T) {
			w := newWorkshop(t, games, bench.Target{Name: "stick", Loader: loader, As: as,
				Capacity: bench.Size(size.GiB), Everything: true, Rules: rules})
			s := w.look(0)
			found := false
			for i := range s.Titles {
				if v := s.Sheet.Verdict(i); v.Kind == verdict {
					found = true
					assert.Equal(t, word, v.Word())
					assert.NotContains(t, s.Sheet.Explain(i).Say, "%!")
				}
			}
			require.True(t, found, "no title has that verdict")
			before := s.Sheet.Free()
			w.fill(0)
			again := w.look(0)
			assert.True(t, again.Plan().Empty(), "%v", again.Plan().Steps)
			assert.GreaterOrEqual(t, again.Facts.Free, before, "the space that was accounted for was enough")
			look(t, w)
		})
	}
	read := func(t *testing.T, w *workshop, name string) string {
		b, err := os.ReadFile(w.at("stick", name))
		require.NoError(t, err)
		return string(b)
	}
	lap := func(n int) string { return fmt.Sprintf("accept.%d.", n) }
	bellows := 0
	for i, a := range coretest.Profile(t, "bellows").Accepts {
		if a.Platforms[0] == "lapwing" {
			bellows = i + 1
		}
	}
	gantry := 0
	for i, a := range coretest.Profile(t, "gantry").Accepts {
		if a.Platforms[0] == "corvane" && a.Takes("corvane", "folder") {
			gantry = i + 1
		}
	}
	check("one file", "bellows", "fat32", "one file", map[string]string{lap(bellows) + "tracks-as": "one-file",
		lap(bellows) + "tracks": "Titles/{title}/{title}.bin", lap(bellows) + "path": "Titles/{title}/{title}.cue",
		lap(bellows) + "overflow-after": ""}, fit.Converted, func(t *testing.T, w *workshop) {
		assert.Equal(t, string(data)+string(song), read(t, w, "Titles/Two Tides/Two Tides.bin"))
		assert.Contains(t, read(t, w, "Titles/Two Tides/Two Tides.cue"),
			"FILE \"Two Tides.bin\" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\n  TRACK 02 AUDIO")
	})
	check("plain", "bellows", "fat32", "plain", map[string]string{lap(bellows) + "tracks-as": "plain", lap(bellows) +
		"tracks": "", lap(bellows) + "path": "Titles/{title}.iso", lap(bellows) + "overflow-after": ""}, fit.Converted,
		func(t *testing.T, w *workshop) {
			assert.Equal(t, string(coretest.Volume(t, "LAP_04412")), read(t, w, "Titles/Two Tides.iso"))
		})
	check("renamed tracks", "trellis", "exfat", "copy", map[string]string{}, fit.Copy, func(t *testing.T, w *workshop) {
		assert.Equal(t, string(song), read(t, w, "IMG-L/Two Tides 02.bin"))
		assert.Contains(t, read(t, w, "IMG-L/Two Tides.cue"), "FILE \"Two Tides 02.bin\" BINARY")
	})
	check("build", "gantry", "exfat", "build", map[string]string{lap(gantry) + "folders": "build", lap(gantry) +
		"images": "", lap(gantry) + "path": "Games/{title}.iso"}, fit.Converted, func(t *testing.T, w *workshop) {
		for _, udf := range []bool{false, true} {
			c, err := container.Open(w.at("stick", "Games/Hollow Lane.iso"), container.Options{UDF: udf})
			require.NoError(t, err)
			for name, want := range games {
				if name, ok := strings.CutPrefix(name, "cvn/"); ok {
					got, err := fs.ReadFile(c, name)
					require.NoError(t, err)
					assert.True(t, bytes.Equal(want, got), name)
				}
			}
			require.NoError(t, c.Close())
		}
	})
}

// TestShapingTakesItsTime: where bringing a title into its shape is slower than the connection, that is what is
// reported.
func TestShapingTakesItsTime(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"water.skd": skuaDisc(t, "SKU-0007", 24<<20, 20<<20)},
		bench.Target{Name: "plain", Loader: "mica", As: "fat32", Capacity: bench.Size(size.GiB), Everything: true},
		bench.Target{Name: "compressed", Loader: "mica", As: "fat32", Capacity: bench.Size(size.GiB), Everything: true,
			Rules: map[string]string{"accept.1.compress": "true"}})
	for n := range w.bench.Targets {
		w.bench.Targets[n].Speed = &estimate.Learnt{Rate: 2 << 30, PerFile: 0.001, Runs: 3}
	}
	plain, compressed := w.look(0).Time(0), w.look(1).Time(0)
	assert.Greater(t, compressed.Least, 2*plain.Most, "%s, %s", compressed, plain)
}

// TestWhatIsTakenOutOfAnImageKeepsItsDate, and goes into a folder of the title.
func TestWhatIsTakenOutOfAnImageKeepsItsDate(t *testing.T) {
	image, err := demo.Volume("CORVANE", "MAIN.RUN", demo.MainRun("CVN00130", "Gorse Common", "E"))
	require.NoError(t, err)
	w := newWorkshop(t, map[string][]byte{"gorse.iso": image}, bench.Target{Name: "disk", Loader: "gantry", Via: "ftp",
		As: "exfat", Capacity: bench.Size(size.GiB), Everything: true})
	s := w.look(0)
	require.Equal(t, fit.Converted, s.Sheet.Verdict(0).Kind)
	assert.Equal(t, "extract", s.Sheet.Verdict(0).Word())
	assert.Contains(t, s.Sheet.Explain(0).Say, "Gantry does not read this image; it needs the folder in it")
	w.fill(0)
	info, err := os.Stat(w.at("disk", "Games/Gorse Common/MAIN.RUN"))
	require.NoError(t, err)
	assert.WithinDuration(t, demo.Season, info.ModTime(), 2*time.Second)
	assert.True(t, w.look(0).Plan().Empty())
}
