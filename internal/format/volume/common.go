package volume

import (
	"fmt"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// Follow follows a chain from its first cluster on. next tells the cluster behind one, or that the chain ends there.
// What could be followed is returned besides an error.
func Follow(first, clusters uint32, next func(c uint32) (n uint32, end bool, err error)) ([]Run, error) {
	var runs []Run
	steps := uint32(0)
	for c := first; ; {
		if c < 2 || c >= clusters+2 {
			return runs, &ChainError{fmt.Sprintf("its chain leads to cluster %d, which there is not", c)}
		}
		runs = Append(runs, Run{c, 1})
		if steps++; steps > clusters {
			return untilTwice(runs, clusters), &ChainError{"its chain goes in a circle"}
		}
		n, end, err := next(c)
		if end || err != nil {
			return runs, err
		}
		c = n
	}
}

// untilTwice is what comes before the first cluster that is there a second time.
func untilTwice(runs []Run, clusters uint32) (out []Run) {
	seen := make(bitmap, (uint64(clusters)+2+63)/64)
	for _, r := range runs {
		for c := r.First; c < r.End(); c++ {
			if seen.add(Run{c, 1}) != 0 {
				return out
			}
			out = Append(out, Run{c, 1})
		}
	}
	return out
}

// Append adds a run to others, joined with the last of them where it lies right behind.
func Append(runs []Run, r Run) []Run {
	if k := len(runs); k > 0 && runs[k-1].End() == r.First {
		runs[k-1].Count += r.Count
		return runs
	}
	return append(runs, r)
}

// CheckName says why there can be no file of a name on a filesystem that is named so, "" for one that there can be (FAT
// specification, "Long Directory Entries"; exFAT specification, 7.7.3).
func CheckName(filesystem, name string) string {
	units := len(utf16.Encode([]rune(name)))
	switch {
	case name == "" || name == "." || name == "..":
		return fmt.Sprintf("%q is not a name for a file", name)
	case !utf8.ValidString(name):
		return "the name is not valid Unicode"
	case units > 255:
		return fmt.Sprintf("the name has %d UTF-16 units, and %s takes 255", units, filesystem)
	}
	for _, r := range name {
		if r < ' ' || strings.ContainsRune(`"*/:<>?\|`, r) {
			return fmt.Sprintf("%s does not allow the character %q in a name", filesystem, r)
		}
	}
	if last := name[len(name)-1]; last == '.' || last == ' ' {
		return fmt.Sprintf("%s does not allow a name to end in %q", filesystem, last)
	}
	return ""
}
