package survey_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/intake"
	"polytome/internal/core/survey"
	"polytome/internal/coretest"
	"polytome/internal/demo"
)

// TestTitlesKeepTheirNames adds a game of the same name to one that is on the place, and to
// one that the bench remembers.
func TestTitlesKeepTheirNames(t *testing.T) {
	ctx := context.Background()
	games, stick := t.TempDir(), t.TempDir()
	first, second := demo.Cartridge("HERN", "Tollbridge"), append(demo.Cartridge("HERN", "Tollbridge"), 1, 2, 3)
	coretest.Write(t, games, "a-new.h16", first)
	coretest.Write(t, games, "z-old.h16", second)
	coretest.Write(t, stick, "Carts/heron16/Tollbridge.h16", second)
	set := coretest.Set(t)
	scan, err := intake.Scan(ctx, []string{games}, intake.Options{Set: set})
	require.NoError(t, err)
	require.Len(t, scan.Titles, 2)
	b := bench.New("")
	b.Places = []bench.Place{{Name: "Stick", At: stick, Loader: "bellows", As: "fat32", Everything: true}}
	look := func() map[string]string {
		s, err := survey.Take(ctx, b, 0, scan.Titles, survey.Options{Set: set})
		require.NoError(t, err)
		assert.Equal(t, "usb", s.Config.Road, "the loader's usual road")
		out := map[string]string{}
		for i := range scan.Titles {
			out[scan.Titles[i].Source()[len(games)+1:]] = s.Sheet.Loaders()[0].Tree.Placements[i].Items[0].Path
		}
		b.Places[0].Remember(s.Sheet.Loaders()[0].Tree.Contested())
		return out
	}
	want := map[string]string{"a-new.h16": "Carts/heron16/Tollbridge (2).h16", "z-old.h16": "Carts/heron16/Tollbridge.h16"}
	assert.Equal(t, want, look(), "what lies on the place keeps its name, though the other comes first")
	assert.Equal(t, map[string]string{scan.Titles[0].Key: b.Places[0].Names[scan.Titles[0].Key], scan.Titles[1].Key: b.Places[0].Names[scan.Titles[1].Key]}, b.Places[0].Names)
	b.Places[0].At = t.TempDir()
	assert.Equal(t, want, look(), "and on an empty place the bench remembers")
	assert.False(t, b.Places[0].Remember(b.Places[0].Names), "nothing new")
	b.Places[0].Names = nil
	swapped := look()
	assert.Equal(t, "Carts/heron16/Tollbridge.h16", swapped["a-new.h16"], "without either, the first by key has it")
}
