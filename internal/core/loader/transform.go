package loader

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"polytome/internal/core/sanitize"
	"polytome/internal/format/crcs"
	"polytome/internal/nearest"
	"polytome/internal/size"
)

// A transform makes another value of one.
type transform struct {
	name   string
	do     func(string) string
	makes  []string // texts that it puts in the place of others
	number int64    // that it adds
}

// transforms are all there are, by their names, with what makes one of what stands behind the colon.
var transforms = map[string]func(arg string, has bool) (func(string) string, error){
	"upper": plainly(strings.ToUpper), "lower": plainly(strings.ToLower), "ascii": plainly(sanitize.ASCII),
	"slug": plainly(sanitize.Slug), "trim": plainly(strings.TrimSpace), "letter": plainly(firstLetter),
	"letters": plainly(inLetters),
	"max":     numbered(1, longestValue, "a number of characters, such as max:8", atMost),
	"pad":     numbered(1, 20, "a number of digits from 1 to 20, such as pad:3", padded),
	"hex":     numbered(1, 16, "a number of digits from 1 to 16, such as hex:2", inHex),
	"add":     numbered(-1<<31, 1<<31, "a number, such as add:-1", added),
	"group":   numbered(1, 26, "how many letters make a group, such as group:3", letterGroup),
	"blocks":  blocks,
	"sub":     sliced, "replace": replaced, "default": defaulted, "table": looked, "hash": hashed, "unit": inUnits,
}

// transformNames are the names of all transforms, in order.
var transformNames = slices.Sorted(func(yield func(string) bool) {
	for name := range transforms {
		if !yield(name) {
			return
		}
	}
})

func parseTransform(text string) (t transform, err error) {
	name, arg, has := strings.Cut(text, ":")
	make, ok := transforms[name]
	if !ok {
		return t, nearest.Unknown("transform", name, transformNames)
	}
	if t.do, err = make(arg, has); err != nil {
		return t, fmt.Errorf("the transform %s %w", name, err)
	}
	t.name = name
	switch name {
	case "add":
		t.number, _ = strconv.ParseInt(arg, 10, 64) // it was read before
	case "blocks":
		t.number, _ = size.Parse(arg)
	case "default":
		t.makes = []string{arg}
	case "replace":
		_, to, _ := strings.Cut(arg, ":")
		t.makes = []string{to}
	case "table":
		for pair := range strings.SplitSeq(arg, ":") {
			_, to, _ := strings.Cut(pair, "=")
			t.makes = append(t.makes, to)
		}
	}
	return t, nil
}

type maker = func(arg string, has bool) (func(string) string, error)

// plainly is a transform that takes no value.
func plainly(do func(string) string) maker {
	return func(arg string, has bool) (func(string) string, error) {
		if has {
			return nil, fmt.Errorf("takes no value, but has %q", arg)
		}
		return do, nil
	}
}

// numbered is a transform that takes a number.
func numbered(least, most int64, takes string, do func(n int64, s string) string) maker {
	return func(arg string, _ bool) (func(string) string, error) {
		n, err := strconv.ParseInt(arg, 10, 64)
		if err != nil || n < least || n > most {
			return nil, fmt.Errorf("takes %s, but has %q", takes, arg)
		}
		return func(s string) string { return do(n, s) }, nil
	}
}

func atMost(n int64, s string) string {
	if utf8.RuneCountInString(s) <= int(n) {
		return s
	}
	return strings.TrimRight(string([]rune(s)[:n]), " .-_")
}

func padded(n int64, s string) string {
	return strings.Repeat("0", max(0, int(n)-utf8.RuneCountInString(s))) + s
}

// inHex writes a number with so many digits at least; what is none stays.
func inHex(n int64, s string) string {
	if v, err := strconv.ParseUint(s, 10, 64); err == nil {
		return fmt.Sprintf("%0*x", int(n), v)
	}
	return s
}

func added(n int64, s string) string {
	if v, err := strconv.ParseInt(s, 10, 64); err == nil {
		return strconv.FormatInt(v+n, 10)
	}
	return s
}

// inLetters counts a, b, … z, aa, ab, … for 1, 2, …; what is no such number stays.
func inLetters(s string) string {
	n, err := strconv.ParseUint(s, 10, 32)
	if err != nil || n == 0 {
		return s
	}
	out := ""
	for ; n > 0; n = (n - 1) / 26 {
		out = string(rune('a'+(n-1)%26)) + out
	}
	return out
}

// The groups of names that begin with no letter.
const (
	digitGroup = "0-9"
	otherGroup = "other"
)

// firstLetter is the letter that a name begins with, without its accent; 0-9 for digits, other for all else.
func firstLetter(s string) string {
	s = strings.ToUpper(sanitize.ASCII(s))
	switch {
	case s != "" && s[0] >= 'A' && s[0] <= 'Z':
		return s[:1]
	case s != "" && s[0] >= '0' && s[0] <= '9':
		return digitGroup
	}
	return otherGroup
}

// letterGroup is the group of so many letters that a name belongs to: A-C for Beacon and 3.
func letterGroup(n int64, s string) string {
	letter := firstLetter(s)
	if len(letter) > 1 || n == 1 {
		return letter
	}
	first := (int64(letter[0]-'A') / n) * n
	last := min(first+n-1, 25)
	if first == last {
		return string(rune('A' + first))
	}
	return string(rune('A'+first)) + "-" + string(rune('A'+last))
}

// sliced takes so many characters from one on: sub:0:4, or sub:-3 for the last three.
func sliced(arg string, _ bool) (func(string) string, error) {
	from, count, two := strings.Cut(arg, ":")
	at, err := strconv.Atoi(from)
	n, err2 := strconv.Atoi(count)
	if err != nil || two && (err2 != nil || n < 1) {
		return nil, fmt.Errorf("takes the first character, from 0 or from the end, and how many: sub:0:4 or sub:-3, "+
			"but "+
			"has %q", arg)
	}
	return func(s string) string {
		all, from := []rune(s), at
		if from < 0 {
			from = max(0, from+len(all))
		}
		all = all[min(from, len(all)):]
		if two {
			all = all[:min(n, len(all))]
		}
		return string(all)
	}, nil
}

func replaced(arg string, _ bool) (func(string) string, error) {
	from, to, two := strings.Cut(arg, ":")
	if !two || from == "" {
		return nil, fmt.Errorf("takes two texts, such as replace:-:_, but has %q", arg)
	}
	return func(s string) string { return strings.ReplaceAll(s, from, to) }, nil
}

// defaulted is another text where there is no value.
func defaulted(arg string, _ bool) (func(string) string, error) {
	if arg == "" {
		return nil, fmt.Errorf("takes the text where there is no value, such as default:none")
	}
	return func(s string) string {
		if s == "" {
			return arg
		}
		return s
	}, nil
}

// looked is what a table says: table:North=N:East=E; what is not in it stays.
func looked(arg string, _ bool) (func(string) string, error) {
	table := map[string]string{}
	for pair := range strings.SplitSeq(arg, ":") {
		from, to, ok := strings.Cut(pair, "=")
		if !ok {
			return nil, fmt.Errorf("takes pairs, such as table:North=N:East=E, but has %q", pair)
		}
		table[from] = to
	}
	return func(s string) string {
		if to, ok := table[s]; ok {
			return to
		}
		return s
	}, nil
}

// hashed is a sum of the value's bytes, in small hexadecimal digits.
func hashed(arg string, _ bool) (func(string) string, error) {
	sums := map[string]func(b []byte) string{
		"crc16":  func(b []byte) string { return fmt.Sprintf("%04x", crcs.ARC(0, b)) },
		"crc32":  func(b []byte) string { return fmt.Sprintf("%08x", crc32.ChecksumIEEE(b)) },
		"md5":    func(b []byte) string { s := md5.Sum(b); return hex.EncodeToString(s[:]) },
		"sha1":   func(b []byte) string { s := sha1.Sum(b); return hex.EncodeToString(s[:]) },
		"sha256": func(b []byte) string { s := sha256.Sum256(b); return hex.EncodeToString(s[:]) },
	}
	sum, ok := sums[arg]
	if !ok {
		return nil, fmt.Errorf("takes one of crc16 (CRC-16/ARC), crc32, md5, sha1 and sha256, but has %q", arg)
	}
	return func(s string) string { return sum([]byte(s)) }, nil
}

// blocks counts blocks of so many bytes, rounded up.
func blocks(arg string, _ bool) (func(string) string, error) {
	n, err := size.Parse(arg)
	if err != nil || n < 1 || n > mostAlign {
		return nil, fmt.Errorf("takes the bytes of a block, such as blocks:2048, but has %q", arg)
	}
	return func(s string) string { return inBlocks(s, n) }, nil
}

// inBlocks is a number of bytes in blocks, rounded up; what is no number stays.
func inBlocks(s string, block int64) string {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 0 {
		return s
	}
	whole := n / block
	if n%block > 0 {
		whole++
	}
	return strconv.FormatInt(whole, 10)
}

// inUnits is a number of bytes in a unit, rounded up: unit:MiB.
func inUnits(arg string, _ bool) (func(string) string, error) {
	unit, err := size.Parse("1" + arg)
	if err != nil || unit < 2 || unicode.IsDigit(rune(arg[0])) {
		return nil, fmt.Errorf("takes a unit, such as unit:MiB, but has %q", arg)
	}
	return func(s string) string { return inBlocks(s, unit) }, nil
}

// undo is the number that a field had before its transforms; ok is false where it cannot be known.
func (n *node) undo(text string) (number string, ok bool) {
	v, base := strings.ToUpper(text), 10
	for _, t := range slices.Backward(n.transforms) {
		switch t.name {
		case "upper", "lower", "pad":
		case "hex":
			base = 16
		case "letters":
			base = 26
		case "blocks":
			i, err := parsed(v, base)
			if err != nil || i < 0 || i > 1<<62/t.number {
				return "", false
			}
			v, base = strconv.FormatInt(i*t.number, 10), 10
		case "add":
			i, err := parsed(v, base)
			if err != nil {
				return "", false
			}
			v, base = strconv.FormatInt(i-t.number, 10), 10
		default:
			return "", false
		}
	}
	i, err := parsed(v, base)
	return strconv.FormatInt(i, 10), err == nil
}

// parsed reads a number in decimal or hexadecimal digits, or in letters (base 26: A is 1).
func parsed(text string, base int) (n int64, err error) {
	if base != 26 {
		return strconv.ParseInt(text, base, 64)
	}
	for i := range len(text) {
		if text[i] < 'A' || text[i] > 'Z' || i > 8 {
			return 0, strconv.ErrSyntax
		}
		n = n*26 + int64(text[i]-'A') + 1
	}
	return n, nil
}

// Is reports whether the text is made of one field alone.
func (t Text) Is(f Field) bool {
	return len(t.nodes) == 1 && t.nodes[0].literal == "" && t.nodes[0].when == nil && !t.nodes[0].each &&
		t.nodes[0].field == f
}

// Undo is the number that a field had from which the text was made; ok is false for a text of something else.
func (t Text) Undo(f Field, text string) (number string, ok bool) {
	if !t.Is(f) {
		return "", false
	}
	return t.nodes[0].undo(strings.TrimSpace(text))
}

// Block is of how many bytes the blocks are that the text counts; 1 where it counts none.
func (t Text) Block() int64 {
	block := int64(1)
	t.any(func(n *node) bool {
		for _, x := range n.transforms {
			if x.name == "blocks" {
				block = x.number
			}
		}
		return false
	})
	return block
}
