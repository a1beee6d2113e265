package check

import (
	"path"
	"regexp"
	"strings"
	"unicode"
)

// copied is what a browser or file manager puts behind the name of a second copy.
var copied = regexp.MustCompile(`(?i)( ?\([0-9]+\)| - copy( \([0-9]+\))?|_copy)$`)

// withoutMark is a name without the mark of a second copy.
func withoutMark(name string) string {
	ext := path.Ext(name)
	return copied.ReplaceAllString(strings.TrimSuffix(name, ext), "") + ext
}

// nearly says in what a name differs from the one that is wanted, when it all but is that one; "" when it is another
// name, or the same. A digit that differs makes another number, and no slip.
func nearly(got, want string) string {
	if got == want {
		return ""
	}
	base := func(s string) string { return strings.TrimSuffix(s, path.Ext(s)) }
	same := strings.EqualFold
	switch {
	case same(got, want):
		return "only letter case differs"
	case same(withoutMark(got), want), same(copied.ReplaceAllString(got, ""), want):
		return "it looks like a second copy"
	case same(path.Ext(got), path.Ext(want)) && slip(base(got), base(want)):
		return "one letter differs"
	case same(base(got), base(want)) || same(base(got), want) || same(base(withoutMark(got)), base(want)):
		return "only the extension differs"
	case same(letters(got), letters(want)) && letters(want) != "":
		return "only spaces and punctuation differ"
	}
	return ""
}

// letters are the letters and digits of a name.
func letters(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return r
		}
		return -1
	}, s)
}

// shortest is how many characters a name has at least for one of them to be a slip.
const shortest = 4

// slip reports whether two names differ by one letter: another one, one more, one less, or two that changed places.
func slip(a, b string) bool {
	x, y := []rune(strings.ToLower(a)), []rune(strings.ToLower(b))
	if len(x) < len(y) {
		x, y = y, x
	}
	if len(y) < shortest || len(x)-len(y) > 1 {
		return false
	}
	i := 0
	for i < len(y) && x[i] == y[i] {
		i++
	}
	if len(x) == len(y) {
		if i == len(y) {
			return false
		}
		if i+1 < len(y) && x[i] == y[i+1] && x[i+1] == y[i] && string(x[i+2:]) == string(y[i+2:]) {
			return !unicode.IsDigit(x[i]) || !unicode.IsDigit(x[i+1])
		}
		return string(x[i+1:]) == string(y[i+1:]) && (!unicode.IsDigit(x[i]) || !unicode.IsDigit(y[i]))
	}
	return string(x[i+1:]) == string(y[i:])
}
