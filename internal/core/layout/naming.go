package layout

import (
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"polytome/internal/core/loader"
	"polytome/internal/core/sanitize"
	"polytome/internal/target"
)

// A Naming is how names must be written at a target.
type Naming struct {
	Permits func(rune) bool
	Longest int // 0 for no limit
	Units   target.Units
}

// NamingOf is how a rule wants titles written, whatever the target allows.
func NamingOf(r *loader.TitleRule) Naming {
	return Naming{Longest: r.Longest, Units: loader.Units(r.Count), Permits: r.Permits}
}

// Name writes a title as it is permitted: letters lose accents and scripts are
// transliterated where that is needed, and other characters give way to a
// space. A name that is too long loses its edition tags, then its article, then
// words at its end, and is cut within a word only where that would lose more than half
// of it. The name is never that of a device, and ends in no dot or space. It
// returns the name, which is empty when no character of it is permitted, and in words
// what was changed by shortening.
func (n Naming) Name(s string) (name, how string) {
	name = trim(sanitize.Write(s, n.Permits))
	if n.Longest > 0 && n.Units.Count(name) > n.Longest {
		whole := n.Units.Count(name)
		for bare := withoutTag(s); bare != s && n.Units.Count(name) > n.Longest; bare = withoutTag(s) {
			written := trim(sanitize.Write(bare, n.Permits))
			if written == "" {
				break
			}
			s, name = bare, written
		}
		name = n.shorten(name)
		how = "the title was shortened from " + strconv.Itoa(whole) + " to " + strconv.Itoa(n.Units.Count(name)) + " " +
			string(n.Units)
	}
	return n.noDevice(name), how
}

// With writes a name with something behind it that tells it from others.
func (n Naming) With(name, mark string) string {
	mark = " " + trim(sanitize.Write(mark, n.Permits))
	if !n.Permits(' ') {
		mark = mark[1:]
	}
	whole := n
	n.Longest -= n.Units.Count(mark)
	if whole.Longest > 0 {
		if n.Longest < 1 {
			return ""
		}
		name = n.shorten(name)
	}
	return name + mark
}

// trim takes off what looks lost at the ends of a name, and what some systems do not
// keep there.
func trim(s string) string {
	for {
		was := s
		s = strings.TrimLeft(strings.TrimRight(s, " .-_,"), " -_,")
		if s == was {
			return s
		}
	}
}

var articles = []string{"The ", "A ", "An "}

// shorten cuts a name to what is allowed.
func (n Naming) shorten(s string) string {
	fits := func() bool { return n.Units.Count(s) <= n.Longest }
	for _, a := range articles {
		if rest, ok := strings.CutPrefix(s, a); ok && !fits() && trim(rest) != "" {
			s = trim(rest)
			break
		}
	}
	if fits() {
		return s
	}
	cut, used := 0, 0
	for i, r := range s {
		used += n.Units.Count(string(r))
		if used > n.Longest {
			break
		}
		cut = i + utf8.RuneLen(r)
	}
	if s[cut] != ' ' {
		if i := strings.LastIndexByte(s[:cut], ' '); i*2 >= cut {
			cut = i
		}
	}
	s = s[:cut]
	if open := strings.LastIndexByte(s, '('); open > 0 && !strings.Contains(s[open:], ")") {
		s = s[:open]
	}
	s = trim(strings.TrimRight(s, " .-_,&('"))
	for { // a name does not end well in a small word
		head, last, ok := cutLast(s)
		if !ok || !slices.Contains(smallWords, strings.ToLower(last)) {
			return s
		}
		s = trim(head)
	}
}

var smallWords = []string{"a", "an", "and", "at", "by", "for", "from", "in", "of", "on", "or", "the", "to", "with"}

// cutLast divides a name before its last word.
func cutLast(s string) (head, last string, ok bool) {
	i := strings.LastIndexByte(s, ' ')
	if i <= 0 || trim(s[:i]) == "" {
		return s, "", false
	}
	return s[:i], s[i+1:], true
}

// withoutTag drops the last tag in brackets from a name's end.
func withoutTag(s string) string {
	s = strings.TrimSpace(s)
	for _, pair := range []string{"()", "[]"} {
		if s != "" && s[len(s)-1] == pair[1] {
			if i := strings.LastIndexByte(s, pair[0]); i > 0 {
				return strings.TrimSpace(s[:i])
			}
		}
	}
	return s
}

// noDevice changes a name that some computers take for a device.
func (n Naming) noDevice(name string) string {
	base, rest, _ := strings.Cut(name, ".")
	if !target.IsDevice(strings.ToUpper(strings.TrimRight(base, " "))) {
		return name
	}
	i := slices.IndexFunc([]rune("xX0_"), n.Permits)
	if i < 0 {
		return ""
	}
	mark := "xX0_"[i : i+1]
	if n.Longest > 0 && n.Units.Count(name)+1 > n.Longest {
		base = base[:len(base)-1]
	}
	if rest != "" {
		rest = "." + rest
	}
	return base + mark + rest
}
