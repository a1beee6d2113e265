package sanitize_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"polytome/internal/core/sanitize"
)

func TestOtherScriptsAreWrittenInASCII(t *testing.T) {
	for from, want := range map[string]string{
		"Copper Tide": "Copper Tide", "Été à la Mer": "Ete a la Mer", "Straße": "Strasse", "Łódź": "Lodz",
		"Œuvre":    "OEuvre",
		"Καλημέρα": "Kalemera", "Тихая гавань": "Tikhaia gavan'", "“Reed” – Runner…": "'Reed' - Runner",
		"a/b\\c:d": "a-b-c:d", "tab\there": "tab here", "": "", "   ": "", "e\u0301te\u0301": "ete", "x\u202Ey": "x y",
		"\xff\xfe": "",
	} {
		assert.Equal(t, want, sanitize.ASCII(from), "%q", from)
	}
	assert.Equal(t, "ete-a-la-mer-2", sanitize.Slug("  Été: à la Mer (2)!"))
	assert.Equal(t, "", sanitize.Slug("…"))
	assert.Equal(t, "Été", sanitize.Write("Été", func(rune) bool { return true }), "what is permitted stays")
	assert.Equal(t, "À", sanitize.Write("A?\u0300", func(r rune) bool { return r != '?' }),
		"an accent joins the letter that it comes to stand behind")
	assert.Equal(t, "A", sanitize.Write("A?\u0300", func(r rune) bool { return r != '?' && r != 'À' }))
	assert.Equal(t, "Ét", sanitize.Write("Été", func(r rune) bool { return r == 'É' || r == 't' }),
		"a letter that is permitted by itself keeps its accent")
}

func TestOnlyWhatIsPermittedIsWritten(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.OneOf(rapid.String(), rapid.StringMatching(`[A-Ca-cé?:. \x{300}\x{301}\x{327}]{0,12}`)).Draw(t, "s")
		letters := rapid.StringMatching(`[A-Za-z0-9éжÀ\x{300}\x{327}]{1,20}`).Draw(t, "permitted")
		permitted := func(r rune) bool { return r == ' ' || strings.ContainsRune(letters, r) }
		got := sanitize.Write(s, permitted)
		for _, r := range got {
			if !permitted(r) {
				t.Fatalf("%q holds %q", got, r)
			}
		}
		if strings.Contains(got, "  ") || strings.TrimSpace(got) != got {
			t.Fatalf("%q has spaces too many", got)
		}
		if again := sanitize.Write(got, permitted); again != got {
			t.Fatalf("%q becomes %q", got, again)
		}
		for _, r := range sanitize.ASCII(s) {
			if r < ' ' || r > '~' {
				t.Fatalf("%q is no ASCII", sanitize.ASCII(s))
			}
		}
	})
}
