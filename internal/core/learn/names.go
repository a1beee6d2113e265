package learn

import (
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/target"
)

// longestTried is the longest limit to a title that is looked for: filesystems take no
// longer names.
const longestTried = 255

// names finds out how titles are written: which characters are left out, and how long
// they may be. A limit is learnt where names were cut, by trying which limits cut them so.
func (s *student) names(r *Rule, all []*sample) {
	all = slices.DeleteFunc(slices.Clone(all),
		func(x *sample) bool { return x.written == "" || strings.Contains(r.Path, "{title|") })
	if len(all) == 0 {
		return
	}
	var lost []rune
	foreign, kept := 0, 0
	for _, x := range all {
		for _, c := range x.t.Name {
			switch {
			case c > '~':
				foreign++
				if strings.ContainsRune(x.written, c) {
					kept++
				}
			case c < ' ' || c == '.' || c == '/' || c == '\\' || strings.ContainsRune(x.written, c) ||
				slices.Contains(lost, c):
			default:
				lost = append(lost, c)
			}
		}
	}
	// What the target's own filesystem cannot hold is no rule of the loader's.
	lost = slices.DeleteFunc(lost, func(c rune) bool {
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == ' ' {
			return true // words that were cut off
		}
		if strings.ContainsRune(s.look.Facts.Filesystem.Forbidden, c) {
			return true
		}
		return slices.ContainsFunc(all, func(x *sample) bool { return strings.ContainsRune(x.written, c) })
	})
	r.ASCII = foreign > 0 && kept == 0
	r.Forbidden = string(lost)
	for {
		limits := s.limits(r, all)
		if len(limits) == 0 && len(lost) > 0 { // a character may only have been cut off
			r.Forbidden = strings.ReplaceAll(r.Forbidden, string(lost[len(lost)-1]), "")
			lost = lost[:len(lost)-1]
			continue
		}
		if len(limits) == 0 {
			s.d.Open = append(s.d.Open, fmt.Sprintf(
				"how are titles of %s written? No single rule makes all of their names, such as %q from %q",
				r.Platforms[0], odd(all).written, odd(all).t.Name))
			return
		}
		r.Longest = limits[len(limits)-1]
		break
	}
	if r.ASCII {
		s.find(Likely, "titles are written in ASCII",
			"%d letters of other scripts in the games' own names were replaced", foreign)
	}
	if len(lost) > 0 {
		s.find(Likely, "titles hold none of "+string(lost), "the games' own names do, and the files' names do not")
	}
	if r.Longest > 0 {
		s.find(Likely, fmt.Sprintf("a title has at most %d characters", r.Longest),
			"names were cut, such as %q from %q", cut(all).written, cut(all).t.Name)
	}
}

// limits are those under which all samples would be written as they are; 0 alone stands
// for none.
func (s *student) limits(r *Rule, all []*sample) []int {
	permits := func(c rune) bool {
		return !(r.ASCII && c > '~') && !strings.ContainsRune(r.Forbidden, c) &&
			!strings.ContainsRune(s.look.Facts.Filesystem.Forbidden, c)
	}
	fits := func(longest int) bool {
		for _, x := range all {
			n := layout.Naming{Permits: permits, Units: target.Characters, Longest: longest}
			if longest > 0 && r.Discs != "" && x.discs != "" {
				n.Longest -= len(strings.ReplaceAll(x.discs, "{disc}", "1"))
			}
			if longest > 0 && n.Longest < 1 {
				return false
			}
			if name, _ := n.Name(x.t.Name); name != x.written && !strings.HasPrefix(x.written, name+" ") {
				return false
			}
		}
		return true
	}
	if fits(0) {
		return []int{0}
	}
	var out []int
	for longest := 1; longest <= longestTried; longest++ {
		if fits(longest) {
			out = append(out, longest)
		}
	}
	return out
}

// cut is the sample whose name lost the most.
func cut(all []*sample) *sample {
	return slices.MaxFunc(all, func(a, b *sample) int {
		return len(a.t.Name) - len(a.written) - len(b.t.Name) + len(b.written)
	})
}

// odd is a sample that is written otherwise than it is named.
func odd(all []*sample) *sample {
	if i := slices.IndexFunc(all, func(x *sample) bool { return x.written != x.t.Name }); i >= 0 {
		return all[i]
	}
	return all[0]
}
