package layout_test

import (
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/layout"
	"polytome/internal/core/title"
	"polytome/internal/coretest"
	"polytome/internal/place"
)

func vesper(number int, name, kind string) title.Title { return coretest.Vesper(number, name, kind, 1) }

func TestNames(t *testing.T) {
	permitted := coretest.Rowan(t).Accepts[0].Title.Permits
	for from, want := range map[string]string{
		"Copper Tide":                            "Copper Tide",
		"Quarry & Sons":                          "Quarry & Sons",
		"Paper Falcons: Second Flight":           "Paper Falcons - Second",
		"Grebe Lake Rally – Été Édition":         "Grebe Lake Rally - Ete",
		"  Tin\tHarbour  ":                       "Tin Harbour",
		"Straße nach Œre":                        "Strasse nach OEre",
		"What? No!":                              "What No!",
		"a/b\\c":                                 "a-b-c",
		"Mosswick…":                              "Mosswick",
		"“Underbough”":                           "'Underbough'",
		"ひかり":                                    "",
		"ひかり Line":                               "Line",
		"Supercalibrationalisticallymade!":       "Supercalibrationalistically",
		"Nine Bells to Marrowby (Ferry Edition)": "Nine Bells to Marrowby",
		"The Uncommonly Patient Lighthouse Keeper of Farther Saint Ebb, Part II": "The Uncommonly Patient",
	} {
		longest := 28
		if from == "Supercalibrationalisticallymade!" {
			longest = 27
		}
		got, how := layout.Name(from, permitted, longest, true)
		assert.Equal(t, want, got, from)
		assert.Equal(t, how != "", utf8.RuneCountInString(got) < utf8.RuneCountInString(want) || strings.Contains(how, "shortened"), from)
	}
}

func TestAnyNameBecomesLegal(t *testing.T) {
	p := coretest.Rowan(t)
	permitted := p.Accepts[0].Title.Permits
	fat, err := place.FilesystemNamed("fat32")
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.OneOf(rapid.String(), rapid.StringMatching(`[A-Za-z0-9 .,:;!?/\\()'"éüßñ–-]{0,80}`)).Draw(t, "name")
		longest := rapid.IntRange(1, 60).Draw(t, "longest")
		name, _ := layout.Name(s, permitted, longest, true)
		if n := utf8.RuneCountInString(name); n > longest {
			t.Fatalf("%q has %d characters, more than %d", name, n, longest)
		}
		for _, r := range name {
			if !permitted(r) {
				t.Fatalf("%q holds %q", name, r)
			}
		}
		if again, _ := layout.Name(name, permitted, longest, true); again != name {
			t.Fatalf("%q is not stable: it becomes %q", name, again)
		}
		whole := layout.Lay([]title.Title{vesper(20417, s, "full")}, p).Placements[0]
		if len(whole.Items) != 1 {
			t.Fatalf("%q is refused: %v", s, whole.Refusal)
		}
		if why := fat.CheckName(strings.TrimPrefix(whole.Items[0].Path, "FULL/")); why != "" {
			t.Fatalf("%q: %s", whole.Items[0].Path, why)
		}
	})
}

func TestPaths(t *testing.T) {
	two := vesper(21410, "The Clockwork Ferry of Tin Harbour", "full")
	two.Of = 2
	two.Discs = append(two.Discs, title.Disc{Number: 2, ID: "VSP-21411", Kind: "short"})
	titles := []title.Title{vesper(20417, "Copper Tide", "full"), vesper(21002, "Saffron Circuit", "short"), two, vesper(1, "ひかり", "full")}
	tree := layout.Lay(titles, coretest.Rowan(t))
	var got []string
	for _, pl := range tree.Placements {
		for _, item := range pl.Items {
			got = append(got, item.Path)
			assert.NotEmpty(t, item.Rule)
		}
	}
	assert.Equal(t, []string{
		"FULL/VSP-20417 - Copper Tide.iso", "SHORT/VSP-21002 - Saffron Circuit.iso",
		"FULL/VSP-21410 - The Clockwork Ferry (Disc 1).iso", "SHORT/VSP-21411 - The Clockwork Ferry (Disc 2).iso", "FULL/VSP-00001 - VSP-00001.iso",
	}, got)
	assert.Contains(t, tree.Placements[2].Items[0].Rule, "shortened from 34 to 19 characters")
}

func TestRefusalsAndRivals(t *testing.T) {
	noID := vesper(3, "No ID", "full")
	noID.Discs[0].ID = ""
	titles := []title.Title{
		vesper(1, "Same", "full"), vesper(1, "same", "full"), vesper(2, "Same", "full"),
		noID, {Platform: "", Of: 1, Discs: []title.Disc{{}}}, {Platform: "lapwing", Form: title.Image, Of: 1, Discs: []title.Disc{{}}},
	}
	tree := layout.Lay(titles, coretest.Rowan(t))
	assert.Equal(t, []int{1}, tree.Placements[0].Rivals, "letter case makes no difference")
	assert.Equal(t, []int{0}, tree.Placements[1].Rivals)
	assert.Empty(t, tree.Placements[2].Rivals)
	for i, say := range map[int]string{3: "needs the id", 4: "not known what this file is", 5: "does not read lapwing"} {
		require.NotNil(t, tree.Placements[i].Refusal, i)
		assert.Contains(t, tree.Placements[i].Refusal.Say, say)
	}
}

func BenchmarkLay50000(b *testing.B) {
	titles := make([]title.Title, 50_000)
	for i := range titles {
		titles[i] = vesper(i, fmt.Sprintf("The Uncommonly Patient Keeper, Part %d", i), "full")
	}
	p := coretest.Rowan(b)
	for b.Loop() {
		layout.Lay(titles, p)
	}
}
