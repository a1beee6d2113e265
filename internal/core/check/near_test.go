package check

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/core/loader"
	"polytome/internal/nearest"
)

func TestNamesThatAreNearlyRight(t *testing.T) {
	for _, c := range []struct{ got, want, how string }{
		{"VSP-20417.jpg", "VSP-20417.jpg", ""},
		{"vsp-20417.JPG", "VSP-20417.jpg", "only letter case differs"},
		{"VSP-20417 (1).jpg", "VSP-20417.jpg", "it looks like a second copy"},
		{"VSP-20417.jpg (1)", "VSP-20417.jpg", "it looks like a second copy"},
		{"VSP-20417 - Copy.jpg", "VSP-20417.jpg", "it looks like a second copy"},
		{"VSP-20417.png", "VSP-20417.jpg", "only the extension differs"},
		{"VSP-20417.jpg.png", "VSP-20417.jpg", "only the extension differs"},
		{"VSP-20417 (2).png", "VSP-20417.jpg", "only the extension differs"},
		{"VPS-20417.jpg", "VSP-20417.jpg", "one letter differs"},
		{"VSP-2041.jpg", "VSP-20417.jpg", "one letter differs"},
		{"VSP-20418.jpg", "VSP-20417.jpg", ""}, // another number, and no slip
		{"VSP-20471.jpg", "VSP-20417.jpg", ""},
		{"Herons Watch.bin", "Heron's Watch.bin", "one letter differs"},
		{"Herons_Watch_.bin", "Heron's Watch.bin", "only spaces and punctuation differ"},
		{"abc.jpg", "abd.jpg", ""}, // too short to be sure
		{"Copper Tide.iso", "Saffron Circuit.iso", ""},
		{"", "x.jpg", ""}, {"...", "-.-", ""},
	} {
		assert.Equal(t, c.how, nearly(c.got, c.want), "%q for %q", c.got, c.want)
	}
}

// FuzzASlipIsOneLetter holds the quick comparison against the slow one that is certain.
func FuzzASlipIsOneLetter(f *testing.F) {
	for _, s := range [][2]string{{"Copper Tide", "Coper Tide"}, {"VSP-20417", "VPS-20417"}, {"aaaa", "aaaaa"},
		{"été en mer", "ete en mer"}, {"", ""}, {"abcd", "badc"}} {
		f.Add(s[0], s[1])
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		if len(a) > 60 || len(b) > 60 {
			return
		}
		_ = nearly(a, b)
		if slip(a, b) != slip(b, a) {
			t.Fatalf("%q and %q: it makes a difference which comes first", a, b)
		}
		if !onlyASCII(a + b) {
			return
		}
		x, y := strings.ToLower(a), strings.ToLower(b)
		far := nearest.Distance(x, y)
		digits := func(r rune) bool { return r >= '0' && r <= '9' }
		switch is := slip(a, b); {
		case is && far != 1:
			t.Fatalf("%q is no slip of %q: %d letters differ", a, b, far)
		case far == 1 && !is && min(len(x), len(y)) >= shortest && !strings.ContainsFunc(a+b, digits):
			t.Fatalf("%q is a slip of %q", a, b)
		}
	})
}

func onlyASCII(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool { return r > 0x7F })
}

// FuzzAListOfPartsIsRead reads lists of parts that strangers wrote.
func FuzzAListOfPartsIsRead(f *testing.F) {
	f.Add("title = \"x\"\nkind = \"full\"\n\n[[part]]\nfile = \"001.rwn\"\nlength = 5\ncrc32 = \"00000000\"\n")
	f.Add("title = \"")
	f.Add(strings.Repeat("[[part]]\n", 100))
	set := shippedSet(f)
	profile, err := set.Profile("rowan")
	if err != nil {
		f.Fatal(err)
	}
	rule := &profile.Accepts[0]
	y := &loaderAudit{audit: &audit{tree: newTree(&audit{}, nil, strings.ToUpper)}, at: &profile.Attachments[0]}
	f.Fuzz(func(t *testing.T, text string) {
		title := anyTitle(rule, text)
		if strings.Contains(title, "\n") {
			t.Fatalf("%q goes over lines", title)
		}
		v, ok := y.reported(rule, &noValues, nil, text, nil)
		if ok && strings.Contains(v[1], "\n") {
			t.Fatalf("%q goes over lines", v[1])
		}
	})
}

var noValues loader.Values

func shippedSet(f *testing.F) *loader.Set {
	set, err := loader.Shipped()
	if err != nil {
		f.Fatal(err)
	}
	return set
}
