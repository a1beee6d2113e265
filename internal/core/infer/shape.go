package infer

import (
	"strings"
	"unicode"
)

// Shape is how a name begins: digits by their number, and what stands behind them.
func Shape(name string) string {
	out := ""
	for _, r := range name {
		c := string(r)
		switch {
		case r >= '0' && r <= '9':
			c = "0"
		case unicode.IsLetter(r):
			c = "a"
		}
		if c != "a" || !strings.HasSuffix(out, "a") {
			out += c
		}
		if len(out) > 4 {
			break
		}
	}
	return out
}
