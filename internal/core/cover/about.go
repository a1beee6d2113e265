package cover

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"unicode"
)

// aboutKind stands for a description where kinds of pictures do.
const aboutKind = "about"

// longestAbout is how many bytes a description has at most.
const longestAbout = 64 << 10

// aboutFields are what a description may tell, by the key in it.
var aboutFields = []string{"text", "year", "players", "publisher"}

// parseAbout reads a description: a JSON object with text, year, players and publisher, each a string or a number.
// Other keys are skipped.
func parseAbout(data []byte) (map[string]string, error) {
	var raw map[string]any
	if err := json.Unmarshal(data, &raw); err != nil {
		return nil, fmt.Errorf("it is not a description: %w", err)
	}
	out := map[string]string{}
	for _, f := range aboutFields {
		switch v := raw[f].(type) {
		case nil:
		case string:
			if v = tidy(v); v != "" {
				out[f] = v
			}
		case float64:
			out[f] = strings.TrimSuffix(fmt.Sprintf("%.1f", v), ".0")
		default:
			return nil, fmt.Errorf("its %s is neither a text nor a number", f)
		}
	}
	if len(out) == 0 {
		return nil, errors.New("it has none of: " + strings.Join(aboutFields, ", "))
	}
	return out, nil
}

// tidy is a text in one paragraph, without what steers a terminal.
func tidy(s string) string {
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || unicode.IsSpace(r) || r == unicode.ReplacementChar {
			return ' '
		}
		if unicode.Is(unicode.Cf, r) {
			return -1
		}
		return r
	}, s)
	return strings.Join(strings.Fields(s), " ")
}
