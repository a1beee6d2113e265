package layout

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// spelled replaces letters and marks that have no accent to strip.
var spelled = strings.NewReplacer(
	"ß", "ss", "æ", "ae", "Æ", "AE", "œ", "oe", "Œ", "OE", "ø", "o", "Ø", "O", "ł", "l", "Ł", "L", "đ", "d", "Đ", "D", "þ", "th", "Þ", "Th",
	"‘", "'", "’", "'", "“", "'", "”", "'", "–", "-", "—", "-", "…", "", ":", " -", "/", "-", "\\", "-",
)

// Name writes a title as a loader permits it: accents are dropped where they
// are not permitted, other characters give way to a space, and a name over
// longest characters is cut between words where that keeps at least half of it. It returns
// the name, which may be empty, and in words what was changed by shortening. Where
// limited is false, longest is not looked at.
func Name(s string, permitted func(rune) bool, longest int, limited bool) (name, how string) {
	s = strings.ToValidUTF8(s, " ")
	var b strings.Builder
	b.Grow(len(s))
	for _, r := range s {
		switch {
		case permitted(r) && r != '/' && !unicode.IsControl(r):
			b.WriteRune(r)
		default:
			b.WriteString(substitute(r, permitted))
		}
	}
	name = strings.Join(strings.Fields(b.String()), " ")
	name = strings.TrimRight(name, " .-_,")
	name = strings.TrimLeft(name, " -_,")
	whole := utf8.RuneCountInString(name)
	if !limited || whole <= longest {
		return name, ""
	}
	name = shorten(name, longest)
	return name, fmt.Sprintf("the title was shortened from %d to %d characters", whole, utf8.RuneCountInString(name))
}

// substitute finds permitted characters that stand for r, a space at worst.
func substitute(r rune, permitted func(rune) bool) string {
	var out strings.Builder
	for _, c := range norm.NFKD.String(spelled.Replace(string(r))) {
		for _, c := range spelled.Replace(string(c)) {
			if permitted(c) && c != '/' && !unicode.IsControl(c) {
				out.WriteRune(c)
			} else if !unicode.Is(unicode.Mn, c) && c != '.' && c != '?' {
				out.WriteByte(' ')
			}
		}
	}
	return out.String()
}

// shorten cuts a name to at most n characters.
func shorten(s string, n int) string {
	r := []rune(s)
	cut := max(n, 0)
	if r[cut] != ' ' {
		for i := cut; i*2 > n; i-- {
			if r[i] == ' ' {
				cut = i
				break
			}
		}
	}
	s = string(r[:cut])
	if open := strings.LastIndexByte(s, '('); open > 0 && !strings.Contains(s[open:], ")") {
		s = s[:open]
	}
	return strings.TrimRight(s, " .-_,&('")
}
