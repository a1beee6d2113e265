package layout_test

import (
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/japanese"
	"pgregory.net/rapid"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
)

// narrow permits what the strictest of the shipped loaders does.
func narrow(t testing.TB) func(rune) bool { return coretest.Rowan(t).Accepts[0].Title.Permits }

func TestNames(t *testing.T) {
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
		"Тихая гавань":                           "Tikhaia gavan'",
		"Λιμάνι":                                 "Limani",
		"ひかり":                                    "hikari",
		"Nine Bells to Marrowby (Ferry Edition)": "Nine Bells to Marrowby",
		"The Ferry Halls of Saint Ebb [E]":       "The Ferry Halls of Saint Ebb",
		"The Lighthouse Keepers of Ebb":          "Lighthouse Keepers of Ebb",
		"Supercalibrationalisticallymade!":       "Supercalibrationalisticallym",
		"The Uncommonly Patient Lighthouse Keeper of Farther Saint Ebb, Part II": "Uncommonly Patient",
		"CON":      "CONx",
		"aux.data": "auxdata",
		"...":      "",
		"😀😀":       "",
	} {
		n := layout.Naming{Permits: narrow(t), Longest: 28, Units: target.Characters}
		got, how := n.Name(from)
		assert.Equal(t, want, got, from)
		if strings.Contains(how, "shortened") {
			assert.Greater(t, len([]rune(from)), len([]rune(got)))
		}
	}
	all := func(rune) bool { return true }
	bytes := layout.Naming{Permits: all, Longest: 10, Units: target.Bytes}
	got, _ := bytes.Name("ひかりひかり")
	assert.Equal(t, "ひかり", got, "3 bytes each: three fit into 10")
	units := layout.Naming{Permits: all, Longest: 3, Units: target.UTF16}
	got, _ = units.Name("😀😀")
	assert.Equal(t, "😀", got, "2 units each: one fits into 3")
}

func TestAnyNameBecomesLegal(t *testing.T) {
	narrow := narrow(t)
	sets := map[string]func(rune) bool{
		"narrow": narrow, "anything": func(rune) bool { return true },
		"ascii":    func(r rune) bool { return r >= ' ' && r <= '~' },
		"capitals": func(r rune) bool { return unicode.IsUpper(r) || r == ' ' },
	}
	fat, err := target.FilesystemNamed("fat32")
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.OneOf(rapid.String(), rapid.StringMatching(`[A-Za-z0-9 .,:;!?/\\()'"éüßñжω–-]{0,80}`),
			rapid.StringMatching(`[Aa?:. ()\x{300}\x{327}À]{0,12}`), rapid.SampledFrom([]string{"con", "NUL.x", "com1",
				"LPT9 .a", "..", "The (A)"})).Draw(t, "name")
		n := layout.Naming{
			Permits: sets[rapid.SampledFrom([]string{"narrow", "anything", "ascii", "capitals"}).Draw(t, "set")],
			Longest: rapid.IntRange(1, 60).Draw(t, "longest"),
			Units:   rapid.SampledFrom([]target.Units{target.Characters, target.Bytes, target.UTF16}).Draw(t, "units"),
		}
		fit := n.Permits
		n.Permits = func(r rune) bool { return fit(r) && !strings.ContainsRune(fat.Forbidden, r) }
		name, _ := n.Name(s)
		if got := n.Units.Count(name); got > n.Longest {
			t.Fatalf("%q has %d %s, more than %d", name, got, n.Units, n.Longest)
		}
		for _, r := range name {
			if !n.Permits(r) {
				t.Fatalf("%q holds %q", name, r)
			}
		}
		if again, _ := n.Name(name); again != name {
			t.Fatalf("%q is not stable: it becomes %q", name, again)
		}
		if why := fat.CheckName(name); name != "" && why != "" {
			t.Fatalf("%q: %s", name, why)
		}
	})
}

// TestNamesInBytesOfAnEncoding: a console that keeps names in Shift-JIS has two bytes for most characters, and one for
// ASCII and half-width katakana; the judge is the encoding itself.
func TestNamesInBytesOfAnEncoding(t *testing.T) {
	any := func(rune) bool { return true }
	n := layout.Naming{Longest: 12, Units: loader.Units("shift-jis"), Permits: any}
	for _, s := range []string{"カモメの海と山の話", "ｶﾓﾒ on the long sea", "Alder カモメ Lane カモメ", "短い"} {
		name, _ := n.Name(s)
		b, err := japanese.ShiftJIS.NewEncoder().String(name)
		require.NoError(t, err)
		assert.LessOrEqual(t, len(b), 12, name)
		assert.Equal(t, len(b), loader.Units("shift-jis").Count(name))
		assert.NotEmpty(t, name)
	}
}
