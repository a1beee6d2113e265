package settings

import (
	"fmt"
	"slices"
	"strings"
)

// A Conflict is what a person and a rule have both changed, to different things.
type Conflict struct {
	Key    string `json:"key,omitempty"` // "" for lines of a plain text
	Was    string `json:"was"`
	Theirs string `json:"theirs"` // what stands there now
	Wanted string `json:"wanted"`
}

// Say tells the conflict in words.
func (c Conflict) Say() string {
	if c.Key == "" {
		return fmt.Sprintf("the lines %q were changed by hand to %q, and would become %q", short(c.Was),
			short(c.Theirs), short(c.Wanted))
	}
	return fmt.Sprintf("%s was %q, was changed by hand to %q, and would become %q", c.Key, c.Was, c.Theirs, c.Wanted)
}

func short(s string) string {
	s = strings.TrimSpace(s)
	if r := []rune(s); len(r) > 40 {
		return string(r[:39]) + "…"
	}
	return s
}

// Merge brings what is newly wanted into a text that a person may have edited since it was last written: what only one
// of the two has changed is taken from it, and all else in the person's text stays as it is. What both have
// changed is a conflict, in which the person's side stays, unless ours is to win. Without a syntax, texts are
// merged by their lines.
func Merge(last, theirs, wanted string, syntax Syntax, win bool) (merged string, conflicts []Conflict, err error) {
	switch {
	case last == wanted || theirs == wanted:
		return theirs, nil, nil
	case theirs == last:
		return wanted, nil, nil
	case syntax == "":
		merged, conflicts = mergeLines(last, theirs, wanted, win)
		return merged, conflicts, nil
	}
	type place struct{ section, key string }
	var keys []place
	for _, text := range []string{wanted, last} {
		lines, err := parse(text, syntax)
		if err != nil {
			return theirs, nil, err
		}
		for _, l := range lines {
			if l.key != "" && !slices.ContainsFunc(keys,
				func(k place) bool { return same(k.key, l.key, syntax) && same(k.section, l.section, syntax) }) {
				keys = append(keys, place{l.section, l.key})
			}
		}
	}
	merged = theirs
	for _, k := range keys {
		was, had, err := Raw(last, syntax, k.section, k.key)
		if err != nil {
			return theirs, nil, err
		}
		is, has, err := Raw(theirs, syntax, k.section, k.key)
		if err != nil {
			return theirs, nil, err
		}
		want, wants, err := Raw(wanted, syntax, k.section, k.key)
		if err != nil {
			return theirs, nil, err
		}
		switch {
		case wants == had && want == was, wants == has && want == is: // nothing new, or there already
			continue
		case has == had && is == was: // the person left it alone
		default:
			conflicts = append(conflicts, Conflict{strings.TrimPrefix(k.section+"."+k.key, "."), was, is, want})
			if !win {
				continue
			}
		}
		if wants {
			merged, err = Set(merged, syntax, k.section, k.key, want)
		} else {
			merged, err = Unset(merged, syntax, k.section, k.key)
		}
		if err != nil {
			return theirs, nil, err
		}
	}
	return merged, conflicts, nil
}

// Raw is the value of a key as it is written, with quotes; the first one counts. Found is false where there is no such
// key.
func Raw(text string, syntax Syntax, section, key string) (value string, found bool, err error) {
	lines, err := parse(text, syntax)
	if err != nil {
		return "", false, err
	}
	for _, l := range lines {
		if l.key != "" && same(l.key, key, syntax) && same(l.section, section, syntax) {
			return l.value, true, nil
		}
	}
	return "", false, nil
}

// Unset takes a key out, and leaves the rest of the text.
func Unset(text string, syntax Syntax, section, key string) (string, error) {
	lines, err := parse(text, syntax)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	for _, l := range lines {
		if l.key == "" || !same(l.key, key, syntax) || !same(l.section, section, syntax) {
			out.WriteString(l.text)
		}
	}
	return out.String(), nil
}

// mergeLines merges three texts by their lines: where last and theirs agree, wanted's lines are taken, and the other
// way round.
func mergeLines(last, theirs, wanted string, win bool) (string, []Conflict) {
	o, a, b := slices.Collect(strings.Lines(last)), slices.Collect(strings.Lines(theirs)),
		slices.Collect(strings.Lines(wanted))
	inA, inB := matches(o, a), matches(o, b)
	var out strings.Builder
	var conflicts []Conflict
	i, x, y := 0, 0, 0 // where in last, theirs and wanted
	for {
		for i < len(o) && inA[i] == x && inB[i] == y { // the same in all three
			out.WriteString(o[i])
			i, x, y = i+1, x+1, y+1
		}
		next := i // the next line that all three have
		for next < len(o) && (inA[next] < 0 || inB[next] < 0) {
			next++
		}
		toX, toY := len(a), len(b)
		if next < len(o) {
			toX, toY = inA[next], inB[next]
		}
		was, is, want := strings.Join(o[i:next], ""), strings.Join(a[x:toX], ""), strings.Join(b[y:toY], "")
		switch {
		case is == was:
			out.WriteString(want)
		case want == was || want == is:
			out.WriteString(is)
		default:
			conflicts = append(conflicts, Conflict{Was: was, Theirs: is, Wanted: want})
			if win {
				is = want
			}
			out.WriteString(is)
		}
		if i, x, y = next, toX, toY; i >= len(o) {
			return out.String(), conflicts
		}
	}
}

// matches finds for every line of a text which line of another one it is, -1 for none: a longest common
// subsequence. Texts are short; of long ones only the beginning and the end that they share are matched.
func matches(o, b []string) []int {
	out := make([]int, len(o))
	for i := range out {
		out[i] = -1
	}
	start := 0
	for start < len(o) && start < len(b) && o[start] == b[start] {
		out[start] = start
		start++
	}
	endO, endB := len(o), len(b)
	for endO > start && endB > start && o[endO-1] == b[endB-1] {
		endO, endB = endO-1, endB-1
		out[endO] = endB
	}
	n, m := endO-start, endB-start
	if n == 0 || m == 0 || n*m > 4<<20 {
		return out
	}
	best := make([][]int32, n+1)
	for i := range best {
		best[i] = make([]int32, m+1)
	}
	for i := n - 1; i >= 0; i-- {
		for j := m - 1; j >= 0; j-- {
			if o[start+i] == b[start+j] {
				best[i][j] = best[i+1][j+1] + 1
			} else {
				best[i][j] = max(best[i+1][j], best[i][j+1])
			}
		}
	}
	for i, j := 0, 0; i < n && j < m; {
		switch {
		case o[start+i] == b[start+j]:
			out[start+i] = start + j
			i, j = i+1, j+1
		case best[i+1][j] >= best[i][j+1]:
			i++
		default:
			j++
		}
	}
	return out
}
