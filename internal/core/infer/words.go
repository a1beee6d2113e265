package infer

import (
	"cmp"
	"maps"
	"slices"
	"strings"
)

// WordIn is where a text has a word that is no part of a longer one; -1 for nowhere.
func WordIn(text, word string) int {
	letter := func(c byte) bool {
		return c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= 0x80
	}
	for from := 0; ; {
		at := strings.Index(text[from:], word)
		if at < 0 {
			return -1
		}
		at += from
		end := at + len(word)
		if (at == 0 || !letter(text[at-1]) || !letter(word[0])) &&
			(end == len(text) || !letter(text[end]) || !letter(word[len(word)-1])) &&
			(end+1 >= len(text) || text[end] != ' ' || !digit(text[end+1])) {
			return at
		}
		from = at + 1
	}
}

func digit(c byte) bool { return c >= '0' && c <= '9' }

// A Context is what stands on both sides of words in a text: the beginning and the end of it count as ends of lines.
type Context struct{ Before, After byte }

// Within is the first place from a byte on where a text has a word in that context; -1 for none.
func (c Context) Within(text string, from int, word string) int {
	for {
		at := strings.Index(text[from:], word)
		if at < 0 {
			return -1
		}
		if at += from; contextOf(text, at, len(word)) == c {
			return at
		}
		from = at + 1
	}
}

func contextOf(text string, at, length int) Context {
	c := Context{'\n', '\n'}
	if at > 0 {
		c.Before = text[at-1]
	}
	if end := at + length; end < len(text) {
		if c.After = text[end]; c.After == '\r' {
			c.After = '\n'
		}
	}
	return c
}

// Contexts are those in which the most words stand in a text, the most frequent first.
func Contexts(text string, words []string) []Context {
	count := map[Context]int{}
	for _, w := range words {
		seen := map[Context]bool{}
		for from := 0; w != ""; {
			at := strings.Index(text[from:], w)
			if at < 0 {
				break
			}
			at += from
			if c := contextOf(text, at, len(w)); !seen[c] {
				seen[c] = true
				count[c]++
			}
			from = at + 1
		}
	}
	out := slices.Collect(maps.Keys(count))
	slices.SortFunc(out, func(a, b Context) int {
		return cmp.Or(count[b]-count[a], int(a.Before)-int(b.Before), int(a.After)-int(b.After))
	})
	return out
}

// Filled is the first place from a byte on where a word is all of its field: nothing else follows it but what fills
// that up; -1 for none.
func Filled(text string, from int, word string) int {
	for {
		at := strings.Index(text[from:], word)
		if at < 0 {
			return -1
		}
		at += from
		rest := text[at+len(word):]
		if rest == "" || rest[0] < ' ' || rest[0] > '~' || rest[0] == ' ' && (len(rest) == 1 || rest[1] == ' ' ||
			rest[1] == 0) {
			return at
		}
		from = at + 1
	}
}
