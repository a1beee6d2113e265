// Package nearest finds the word that someone probably meant, and says so in one way everywhere.
package nearest

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Word returns the word that s was probably meant to be, or "" when none is near enough.
func Word(s string, words []string) string {
	best := slices.MinFunc(append([]string{""}, words...), func(a, b string) int {
		return cmp.Compare(Distance(s, a), Distance(s, b))
	})
	if Distance(s, best) > max(1, min(2, len(s)/2), len(s)/3) { // in short words, every other one is near
		return ""
	}
	return best
}

// Unknown is the error for a word that is not one of those known: with the one that was probably meant, or else with
// all of them.
func Unknown(what, word string, known []string) error {
	if meant := Word(word, known); meant != "" {
		return fmt.Errorf("unknown %s %q: did you mean %q?", what, word, meant)
	}
	if len(known) == 0 {
		return fmt.Errorf("unknown %s %q", what, word)
	}
	return errors.New(fmt.Sprintf("unknown %s %q; use one of: ", what, word) + strings.Join(known, ", "))
}

// Distance is the number of letters to insert, drop, change or swap with their
// neighbour to make b of a. Letters are bytes: text outside ASCII counts more.
func Distance(a, b string) int {
	d := make([][]int, len(a)+1)
	for i := range d {
		d[i] = make([]int, len(b)+1)
		d[i][0] = i
	}
	for j := range d[0] {
		d[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			d[i][j] = min(d[i-1][j]+1, d[i][j-1]+1, d[i-1][j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				d[i][j] = min(d[i][j], d[i-2][j-2]+1)
			}
		}
	}
	return d[len(a)][len(b)]
}
