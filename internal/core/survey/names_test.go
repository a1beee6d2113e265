package survey_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
)

// TestTitlesKeepTheirNames adds a game of the same name to one that is on the target, and to
// one that the bench remembers.
func TestTitlesKeepTheirNames(t *testing.T) {
	ctx := context.Background()
	games, stick := t.TempDir(), t.TempDir()
	first, second := demo.Cartridge("HERN", "Tollbridge"), append(demo.Cartridge("HERN", "Tollbridge"), 1, 2, 3)
	coretest.Write(t, games, "a-new.h16", first)
	coretest.Write(t, games, "z-old.h16", second)
	coretest.Write(t, stick, "Carts/heron16/Tollbridge.h16", second)
	set := coretest.Set(t)
	scanned, err := scan.Scan(ctx, []string{games}, scan.Options{Set: set})
	require.NoError(t, err)
	require.Len(t, scanned.Titles, 2)
	b := bench.New("")
	b.Targets = []bench.Target{{Name: "Stick", At: stick, Loader: "bellows", As: "fat32", Everything: true}}
	look := func() map[string]string {
		s, err := survey.Take(ctx, b, 0, scanned.Titles, survey.Options{Set: set})
		require.NoError(t, err)
		assert.Equal(t, "usb", s.Config.Via, "the loader's usual connection")
		out := map[string]string{}
		for i := range scanned.Titles {
			out[scanned.Titles[i].Source()[len(games)+1:]] = s.Sheet.Loaders()[0].Tree.Placements[i].Items[0].Path
		}
		b.Targets[0].Remember(s.Sheet.Loaders()[0].Tree.Contested())
		return out
	}
	want := map[string]string{"a-new.h16": "Carts/heron16/Tollbridge (2).h16",
		"z-old.h16": "Carts/heron16/Tollbridge.h16"}
	assert.Equal(t, want, look(), "what lies on the target keeps its name, though the other comes first")
	assert.Equal(t, map[string]string{scanned.Titles[0].Key: b.Targets[0].Names[scanned.Titles[0].Key],
		scanned.Titles[1].Key: b.Targets[0].Names[scanned.Titles[1].Key]}, b.Targets[0].Names)
	b.Targets[0].At = t.TempDir()
	assert.Equal(t, want, look(), "and on an empty target the bench remembers")
	assert.False(t, b.Targets[0].Remember(b.Targets[0].Names), "nothing new")
	b.Targets[0].Names = nil
	swapped := look()
	assert.Equal(t, "Carts/heron16/Tollbridge.h16", swapped["a-new.h16"], "without either, the first by key has it")
}
