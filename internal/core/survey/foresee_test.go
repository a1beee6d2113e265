package survey_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/shape"
	"polytome/internal/core/survey"
	"polytome/internal/format/exfat"
	"polytome/internal/format/fat"
	"polytome/internal/medium"
	"polytome/internal/size"
	"polytome/internal/testkit/coretest"
)

// foresees are the findings that are reported before anything is written, by their paths and kinds.
func foresees(t *testing.T, s *survey.Survey) map[string]string {
	all, _, err := s.Foresee(t.Context(), s.Plan())
	require.NoError(t, err)
	out := map[string]string{}
	for _, f := range all {
		out[f.Path] += string(f.Kind)
	}
	return out
}

// TestWhatKeepsAllFromShowingIsForeseen: missing files of the loader, and settings, are reported before anything is
// written, and not when it is done; those that the plan writes itself are not reported.
func TestWhatKeepsAllFromShowingIsForeseen(t *testing.T) {
	game := coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full"))
	w := newWorkshop(t, map[string][]byte{"a.iso": game}, bench.Target{Name: "stick", Loader: "rowan", Via: "usb",
		As: "fat32", Everything: true})
	s := w.look(0)
	require.False(t, s.Plan().Empty())
	assert.Equal(t, map[string]string{"ROWAN/rowan.cfg": "setting", "ROWAN/rowan.run": "kit"}, foresees(t, s))
	coretest.Write(t, filepath.Join(w.dir, "stick"), "ROWAN/rowan.run", []byte("x"))
	coretest.Write(t, filepath.Join(w.dir, "stick"), "ROWAN/rowan.cfg", []byte("look=stick\nfaces=on\n"))
	assert.Empty(t, foresees(t, w.look(0)))
	coretest.Write(t, filepath.Join(w.dir, "stick"), "ROWAN/rowan.cfg", []byte("look=share\n"))
	assert.Equal(t, map[string]string{"ROWAN/rowan.cfg": "setting"}, foresees(t, w.look(0)))

	s = w.look(0)
	p := *s.Plan()
	p.Steps = append(p.Steps, plan.Step{Kind: plan.Replace, Path: "ROWAN/ROWAN.CFG", Size: 20,
		Make: &shape.Spec{Shape: shape.Written, Text: "look=stick\nfaces=on\n", Size: 20}})
	all, _, err := s.Foresee(t.Context(), &p)
	require.NoError(t, err)
	assert.Empty(t, all, "what is written is not missing")
}

// TestAVolumeOfAnotherKindIsForeseen: a drive that the loader will not look at.
func TestAVolumeOfAnotherKindIsForeseen(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"a.iso": coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1",
		"full"))})
	img := filepath.Join(w.dir, "stick.img")
	require.NoError(t, os.WriteFile(img, nil, 0o600))
	require.NoError(t, os.Truncate(img, 64*size.MiB))
	f, err := os.OpenFile(img, os.O_RDWR, 0)
	require.NoError(t, err)
	m, err := medium.Of(f)
	require.NoError(t, err)
	require.NoError(t, exfat.Format(m, m.Size(), exfat.Options{Cluster: 4096}))
	require.NoError(t, f.Close())
	w.bench.Targets = []bench.Target{{Name: "stick", At: "drive:" + img, Loader: "rowan", Via: "usb", Everything: true}}
	reported := foresees(t, w.look(0))
	assert.Contains(t, reported[""], "filesystem")
}

// TestWhatFindsNoPlaceInOnePieceIsForeseen: there is enough space in all, and the run comes to the same.
func TestWhatFindsNoPlaceInOnePieceIsForeseen(t *testing.T) {
	big := coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full")
	w := newWorkshop(t, map[string][]byte{"a.iso": append(coretest.Image(t, big), make([]byte, 12<<20)...),
		"b.iso": coretest.Image(t, coretest.Inf("VSP-20431", "The Ninth Orchard", "1/1", "full"))})
	img := filepath.Join(w.dir, "stick.img")
	require.NoError(t, os.WriteFile(img, nil, 0o600))
	require.NoError(t, os.Truncate(img, 64*size.MiB))
	f, err := os.OpenFile(img, os.O_RDWR, 0)
	require.NoError(t, err)
	m, err := medium.Of(f)
	require.NoError(t, err)
	require.NoError(t, fat.Format(m, m.Size(), fat.Options{Bits: 32, Cluster: 512}))
	require.NoError(t, f.Close())
	w.bench.Targets = []bench.Target{{Name: "stick", At: "drive:" + img, Loader: "rowan", Via: "usb", Everything: true}}
	to, err := w.look(0).Open(t.Context())
	require.NoError(t, err)
	for n := 0; ; n++ { // full of files, of which every second goes
		dst, err := to.Create(t.Context(), fmt.Sprintf("f%d", n), 4<<20)
		if err != nil {
			break
		}
		_, err = dst.Write(make([]byte, 4<<20))
		require.NoError(t, err)
		require.NoError(t, dst.Commit())
	}
	for n := 0; n < 12; n += 2 {
		require.NoError(t, to.Remove(t.Context(), fmt.Sprintf("f%d", n)))
	}
	require.NoError(t, to.Close())

	s := w.look(0)
	all, _, err := s.Foresee(t.Context(), s.Plan())
	require.NoError(t, err)
	var lack []string
	for _, f := range all {
		if f.Kind == check.Fragmented {
			lack = append(lack, f.Path+": "+f.Say)
		}
	}
	require.Len(t, lack, 1)
	assert.Contains(t, lack[0], "FULL/VSP-20417 - Copper Tide.iso: it needs 12.")
	assert.Contains(t, lack[0], "and the largest free one will have ")
	to, err = s.Open(t.Context())
	require.NoError(t, err)
	defer to.Close()
	r := run.Run(t.Context(), s.Plan(), to, run.Options{}, func(run.Event) {})
	require.NotEmpty(t, r.Failed)
	assert.Equal(t, "FULL/VSP-20417 - Copper Tide.iso", r.Failed[0].Path)
}
