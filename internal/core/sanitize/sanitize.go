// Package sanitize writes names with the characters that a target permits: letters
// lose their accents, other scripts are transliterated, and what has no
// counterpart gives way to a space.
package sanitize

import (
	"strings"
	"unicode"

	"github.com/mozillazg/go-unidecode"
	"golang.org/x/text/unicode/norm"
)

// marks are written otherwise than a transliteration would have it, so that a
// title still reads well.
var marks = map[rune]string{
	'‘': "'", '’': "'", '“': "'", '”': "'", '–': "-", '—': "-", '…': "", ':': " -", '/': "-", '\\': "-", '"': "'",
	'?': "", '.': "",
}

// Legal reports whether a character may stand in any name at all.
func Legal(r rune) bool {
	return r != '/' && r != '\\' && r != unicode.ReplacementChar && !unicode.IsControl(r) && !unicode.Is(unicode.Cf, r)
}

// Write writes s with permitted characters only, with single spaces between its
// words.
func Write(s string, permitted func(rune) bool) string {
	if plain(s, permitted) {
		return s
	}
	s = strings.ToValidUTF8(s, " ")
	for {
		written := once(s, permitted)
		if written == s {
			return s
		}
		s = written
	}
}

// once writes s over. Where a character was left out, an accent behind it may now stand
// behind a letter that it joins, so that writing takes more than one turn.
func once(s string, permitted func(rune) bool) string {
	var b strings.Builder
	b.Grow(len(s))
	for _, r := range norm.NFC.String(s) {
		if Legal(r) && permitted(r) {
			b.WriteRune(r)
		} else {
			b.WriteString(substitute(r, permitted))
		}
	}
	return strings.Join(strings.Fields(b.String()), " ")
}

// plain reports whether s is ASCII that needs no change, as most names are.
func plain(s string, permitted func(rune) bool) bool {
	last := byte(' ')
	for i := range len(s) {
		c := s[i]
		if c < ' ' || c > '~' || c == '/' || c == '\\' || (c == ' ' && last == ' ') || !permitted(rune(c)) {
			return false
		}
		last = c
	}
	return last != ' ' || s == ""
}

// substitute finds permitted characters that stand for r, a space at worst.
func substitute(r rune, permitted func(rune) bool) string {
	stands, ok := marks[r]
	if !ok {
		if unicode.Is(unicode.Mn, r) {
			return ""
		}
		if bare := []rune(norm.NFKD.String(string(r))); bare[0] != r && Legal(bare[0]) && permitted(bare[0]) &&
			unicode.Is(unicode.Mn, bare[len(bare)-1]) {
			return string(bare[0]) // the letter without its accents
		}
		stands = unidecode.Unidecode(string(r))
	}
	var out strings.Builder
	for _, c := range stands {
		switch {
		case Legal(c) && permitted(c):
			out.WriteRune(c)
		case c == '\'' || c == '?' || c == '.':
		default:
			out.WriteByte(' ')
		}
	}
	if stands == "" && !ok {
		return " "
	}
	return out.String()
}

// ASCII writes s in printable ASCII.
func ASCII(s string) string {
	return Write(s, func(r rune) bool { return r >= ' ' && r <= '~' })
}

// Slug writes s in lower-case letters and digits, with hyphens between its words.
func Slug(s string) string {
	words := strings.FieldsFunc(strings.ToLower(ASCII(s)), func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9')
	})
	return strings.Join(words, "-")
}
