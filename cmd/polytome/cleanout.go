package main

import (
	"io"
	"os"
	"strings"
	"unicode"
	"unicode/utf8"
)

// cleaner is the last door to the terminal: what comes from files and servers cannot steer it, nor write over what
// stands there, nor turn the order of what is read.
type cleaner struct {
	to   io.Writer
	rest []byte // of a letter whose other bytes are still to come
}

func (c *cleaner) Write(b []byte) (int, error) {
	all := append(c.rest, b...)
	end := len(all)
	for k := 1; k < utf8.UTFMax && k <= len(all); k++ { // a letter may be cut between two writes
		if r := all[len(all)-k]; utf8.RuneStart(r) {
			if !utf8.FullRune(all[len(all)-k:]) {
				end = len(all) - k
			}
			break
		}
	}
	c.rest = append([]byte(nil), all[end:]...)
	_, err := io.WriteString(c.to, harmless(string(all[:end])))
	return len(b), err
}

// harmless replaces what steers terminals in a text of several lines.
func harmless(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' {
			return r
		}
		if unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == utf8.RuneError {
			return '?'
		}
		return r
	}, s)
}

// stderr is where messages for people go.
func stderr() io.Writer { return &cleaner{to: os.Stderr} }
