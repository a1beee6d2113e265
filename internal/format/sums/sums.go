// Package sums reads checksum lists: SFV (a name and a CRC-32 on each line), and the lists of
// md5sum, sha1sum and sha256sum, plain or tagged (BSD style).
package sums

import (
	"encoding/hex"
	"fmt"
	"path"
	"regexp"
	"strings"
)

// An Algorithm is a kind of checksum.
type Algorithm string

const (
	CRC32  Algorithm = "crc32"
	MD5    Algorithm = "md5"
	SHA1   Algorithm = "sha1"
	SHA256 Algorithm = "sha256"
)

// Extensions are those of checksum lists, with what is in them.
var Extensions = map[string]Algorithm{".sfv": CRC32, ".md5": MD5, ".sha1": SHA1, ".sha256": SHA256}

// lengths are the hexadecimal digits of each kind.
var lengths = map[int]Algorithm{8: CRC32, 32: MD5, 40: SHA1, 64: SHA256}

// Of tells the algorithm by the number of hexadecimal digits; "" for none.
func Of(sum string) Algorithm {
	if _, err := hex.DecodeString(sum); err != nil {
		return ""
	}
	return lengths[len(sum)]
}

// A Line is one file's checksum.
type Line struct {
	Name      string // as written, with slashes
	Algorithm Algorithm
	Sum       string // in lower-case hexadecimal
	Number    int    // of the line, from 1
}

// A SyntaxError reports a line that cannot be parsed. The others are read.
type SyntaxError struct {
	Number int // of the line, from 1
	Text   string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("line %d is no checksum with a file's name: %q", e.Number, e.Text)
}

// MaxBytes is the longest list that is read.
const MaxBytes = 16 << 20

var tagged = regexp.MustCompile(`^(?i)(CRC32|MD5|SHA1|SHA256) ?\((.+)\) ?= ?([0-9a-fA-F]+)$`)

// Parse reads a list; its name tells by its extension how lines are written. Names that lead out
// of the list's folder are an error of their line.
func Parse(name, text string) (out []Line, errs []error) {
	sfv := strings.EqualFold(path.Ext(name), ".sfv")
	for i, raw := range strings.Split(strings.TrimPrefix(text, "\uFEFF"), "\n") {
		line := strings.TrimSpace(raw)
		if line == "" || line[0] == ';' || line[0] == '#' {
			continue
		}
		l, ok := parse(line, sfv)
		if !ok {
			errs = append(errs, &SyntaxError{i + 1, clip(line)})
			continue
		}
		l.Number = i + 1
		out = append(out, l)
	}
	return out, errs
}

func parse(line string, sfv bool) (l Line, ok bool) {
	var name, sum string
	switch m := tagged.FindStringSubmatch(line); {
	case m != nil:
		name, sum = m[2], m[3]
	case sfv:
		i := strings.LastIndexAny(line, " \t")
		if i < 0 {
			return l, false
		}
		name, sum = strings.TrimSpace(line[:i]), line[i+1:]
	default:
		i := strings.IndexAny(line, " \t")
		if i < 0 {
			return l, false
		}
		sum, name = line[:i], strings.TrimPrefix(strings.TrimSpace(line[i:]), "*")
	}
	l = Line{Name: path.Clean(strings.ReplaceAll(name, `\`, "/")), Algorithm: Of(sum), Sum: strings.ToLower(sum)}
	if l.Algorithm == "" || name == "" || path.IsAbs(l.Name) || l.Name == ".." || l.Name == "." ||
		strings.HasPrefix(l.Name, "../") || len(l.Name) > 1 && l.Name[1] == ':' {
		return l, false
	}
	return l, true
}

func clip(s string) string {
	if r := []rune(s); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return s
}
