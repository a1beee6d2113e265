package survey_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
	"polytome/internal/core/run"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/testkit/coretest"
)

// TestATrackOfAnotherTitleIsNoStranger has two games whose tracks are named alike go where all tracks lie in one
// folder: once one is there, the other is refused because of that title, and not of a file that could be replaced.
func TestATrackOfAnotherTitleIsNoStranger(t *testing.T) {
	games, stick := t.TempDir(), t.TempDir()
	for game, more := range map[string]int{"Heron": 0, "Lamp": 2048} {
		coretest.Write(t, games, game+"/"+game+".cue",
			[]byte("FILE \"track.bin\" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n"))
		coretest.Write(t, games, game+"/track.bin", append(coretest.Volume(t, "LAP_0000"+map[string]string{"Heron": "1",
			"Lamp": "2"}[game]), make([]byte, more)...))
	}
	set := coretest.Set(t)
	scanned, err := scan.Scan(t.Context(), []string{games}, scan.Options{Set: set})
	require.NoError(t, err)
	b := bench.New("")
	b.Targets = []bench.Target{{Name: "stick", At: stick, Loader: "oxbow", Via: "usb", As: "exfat", Capacity: 1 << 30,
		Everything: true}}
	take := func() *survey.Survey {
		s, err := survey.Take(t.Context(), b, 0, scanned.Titles, survey.Options{Set: set})
		require.NoError(t, err)
		return s
	}
	s := take()
	to, err := s.Open(t.Context())
	require.NoError(t, err)
	defer to.Close()
	require.Empty(t, run.Run(t.Context(), s.Plan(), to, run.Options{}, func(run.Event) {}).Failed)
	s = take()
	kinds := map[fit.Kind]int{}
	for i := range s.Titles {
		kinds[s.Sheet.Verdict(i).Kind]++
		if s.Sheet.Verdict(i).Kind == fit.Clash {
			e := s.Sheet.Explain(i)
			assert.Contains(t, e.Say, "would get the same path as Heron (Heron.cue): oxbow/play/lapwing/track.bin")
			assert.NotContains(t, e.Say, "replaced")
		}
	}
	assert.Equal(t, map[fit.Kind]int{fit.Present: 1, fit.Clash: 1}, kinds)
}
