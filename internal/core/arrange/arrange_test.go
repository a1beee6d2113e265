package arrange_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/arrange"
)

func titles(names ...string) (out []arrange.Title) {
	for _, n := range names {
		out = append(out, arrange.Title{Key: "K-" + n, Name: n})
	}
	return out
}

func TestAListIsDividedAsItIsWished(t *testing.T) {
	all := titles("Tin Harbour", "alder weir", "Copper Tide", "4 Bells", "Clockwork Ferry", "Örn")
	for _, tc := range []struct {
		wish string
		want map[string]string
	}{
		{"none", nil},
		{"letters", map[string]string{"K-Tin Harbour": "T", "K-alder weir": "A", "K-Copper Tide": "C",
			"K-4 Bells": "0-9", "K-Clockwork Ferry": "C", "K-Örn": "Ö"}},
		{"parts:4", map[string]string{"K-4 Bells": "Titles 001-004", "K-alder weir": "Titles 001-004",
			"K-Clockwork Ferry": "Titles 001-004", "K-Copper Tide": "Titles 001-004", "K-Tin Harbour": "Titles 005-008",
			"K-Örn": "Titles 005-008"}},
		{"parts:6", map[string]string{}}, // they are no more than one section
		{"one:New here", map[string]string{"K-Tin Harbour": "New here", "K-alder weir": "New here",
			"K-Copper Tide": "New here", "K-4 Bells": "New here", "K-Clockwork Ferry": "New here",
			"K-Örn": "New here"}},
	} {
		w, err := arrange.ParseSections(tc.wish)
		require.NoError(t, err, tc.wish)
		got := w.Slots(all)
		assert.Len(t, got, len(tc.want), tc.wish)
		for key, section := range tc.want {
			assert.Equal(t, arrange.Slot{Section: section}, got[key], "%s: %s", tc.wish, key)
		}
	}
	w, err := arrange.ParseSections("one")
	require.NoError(t, err)
	assert.Equal(t, "Added", w.Slots(all)["K-4 Bells"].Section)
	assert.Equal(t, "all in Added", w.String())
}

func TestWhatCannotBeASectionIsSaid(t *testing.T) {
	for wish, says := range map[string]string{
		"leters": `did you mean "letters"`, "parts:0": "no number of titles", "parts:4x": "no number of titles",
		"one:a/b": "cannot have /", "one:" + strings.Repeat("x", 25): "more than 24 characters",
		"letters:3": "nothing behind",
		"one:.x":    "cannot begin or end",
	} {
		_, err := arrange.ParseSections(wish)
		assert.ErrorContains(t, err, says, wish)
	}
}

func TestAPersonPutsTitlesWhereTheyWant(t *testing.T) {
	var w arrange.Wishes
	all := titles("Anchor", "Bell", "Crane", "Dune")
	shown := []string{"K-Anchor", "K-Bell", "K-Crane", "K-Dune"}
	assert.False(t, w.Move("K-Anchor", -1, shown), "nothing is before the first")
	assert.False(t, w.Move("K-Other", 1, shown))
	require.True(t, w.Move("K-Dune", -3, shown))
	slots := w.Slots(all)
	assert.Equal(t, 1, slots["K-Dune"].Place)
	assert.Equal(t, 2, slots["K-Anchor"].Place)
	assert.Equal(t, 4, slots["K-Crane"].Place)

	slots = w.Slots(append(all, titles("Aardvark")...))
	assert.Zero(t, slots["K-Aardvark"], "one that came later is sorted by the console, behind them")

	require.NoError(t, w.Put("K-Bell", "Sea"))
	assert.Equal(t, arrange.Slot{Place: 3, Section: "Sea"}, w.Slots(all)["K-Bell"])
	before := w
	require.NoError(t, w.Put("K-Crane", "Sea"))
	assert.NotContains(t, before.In, "K-Crane", "earlier choices stay as they were")
	require.True(t, w.Move("K-Crane", -1, []string{"K-Bell", "K-Crane"}))
	slots = w.Slots(all)
	assert.Less(t, slots["K-Crane"].Place, slots["K-Bell"].Place)
	assert.Less(t, slots["K-Dune"].Place, slots["K-Anchor"].Place, "the others keep their order")

	require.NoError(t, w.Put("K-Bell", ""))
	require.NoError(t, w.Put("K-Crane", ""))
	assert.Nil(t, w.In)
	w.Sections = arrange.Letters
	require.NoError(t, w.Put("K-Bell", ""))
	assert.Equal(t, "", w.Slots(all)["K-Bell"].Section, "it stands in the list itself, whatever is said of others")
	assert.Equal(t, "A", w.Slots(all)["K-Anchor"].Section)
	assert.Error(t, w.Put("K-Bell", "a:b"))
}

// No section has more titles than it may, none is lost, and parts are in the order of the list.
func TestPartsHoldWhatTheyMay(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		most := rapid.IntRange(1, 30).Draw(r, "most")
		n := rapid.IntRange(0, 200).Draw(r, "titles")
		var all []arrange.Title
		for i := range n {
			all = append(all, arrange.Title{Key: fmt.Sprint("K", i),
				Name: rapid.StringMatching(`[A-Za-z0-9 ]{1,6}`).Draw(r, "name")})
		}
		w := arrange.Wishes{Sections: arrange.Parts, Most: most}
		slots := w.Slots(all)
		in := map[string][]string{}
		for _, t := range all {
			in[slots[t.Key].Section] = append(in[slots[t.Key].Section], strings.ToLower(t.Name))
		}
		if n <= most {
			assert.Empty(r, slots)
			return
		}
		var names []string
		for s, of := range in {
			assert.NotEmpty(r, s)
			assert.LessOrEqual(r, len(of), most)
			names = append(names, s)
		}
		slices.Sort(names)
		assert.Len(r, names, (n+most-1)/most)
		for i := 1; i < len(names); i++ {
			assert.LessOrEqual(r, slices.Max(in[names[i-1]]), slices.Min(in[names[i]]), "sections sort as titles do")
		}
	})
}
