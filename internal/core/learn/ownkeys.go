package learn

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"polytome/internal/core/infer"
	"polytome/internal/core/settings"
)

// An ownKey is a key in settings whose values nothing explains: it is the player's own.
type ownKey struct {
	key, usual string
	distinct   int // values that it has
}

// settingKey is how settings are named: what is only numbered is a list of something.
var settingKey = regexp.MustCompile(`^\pL[\pL\pN _.-]*$`)

// withUsual takes the values of keys that nothing explains for the player's own: it gives the texts with the usual
// value of each, and how they are written. The rows are those of the texts. There are no keys where nothing is so.
func withUsual(rows []infer.Row, o infer.Options) (usual []string, keys []ownKey, syntax settings.Syntax) {
	syntax = settings.KeyValue
	lines := make([][]string, len(rows))
	for i, r := range rows {
		lines[i] = strings.SplitAfter(r.Text, "\n")
		if len(lines[i]) != len(lines[0]) {
			return nil, nil, ""
		}
	}
	for k := range lines[0] {
		of := make([]infer.Row, len(rows))
		counts := map[string]int{}
		key, _, is := strings.Cut(lines[0][k], "=")
		key = strings.TrimSpace(key)
		for i := range rows {
			other, _, _ := strings.Cut(lines[i][k], "=")
			is = is && strings.EqualFold(strings.TrimSpace(other), key)
			of[i] = infer.Row{Values: rows[i].Values, Text: lines[i][k]}
			counts[lines[i][k]]++
		}
		if strings.HasPrefix(strings.TrimSpace(lines[0][k]), "[") {
			syntax = settings.INI
		}
		if len(counts) == 1 {
			continue
		}
		if _, ok := infer.Template(of, o); ok {
			continue
		}
		most := ""
		for _, r := range of { // the first of those that are the most
			if counts[r.Text] > counts[most] {
				most = r.Text
			}
		}
		// what is another value in each is no setting that anybody has chosen
		if !is || !settingKey.MatchString(key) || counts[most] < 2 || len(counts)*2 > len(rows) {
			return nil, nil, ""
		}
		_, value, _ := strings.Cut(most, "=")
		keys = append(keys, ownKey{key, strings.TrimSpace(value), len(counts)})
		for i := range rows {
			lines[i][k] = most
		}
	}
	if len(keys) == 0 {
		return nil, nil, ""
	}
	for _, l := range lines {
		usual = append(usual, strings.Join(l, ""))
	}
	if syntax == settings.KeyValue && slices.ContainsFunc(keys, func(k ownKey) bool {
		return strings.HasPrefix(k.usual, `"`)
	}) {
		syntax = settings.TOML
	}
	return usual, keys, syntax
}

// takeOwnKeys has a companion leave the player's own keys as they are.
func (s *student) takeOwnKeys(c *Companion, keys []ownKey, syntax settings.Syntax, such string) {
	c.Syntax = string(syntax)
	for _, k := range keys {
		c.Keep = append(c.Keep, k.key)
		s.find(Likely, fmt.Sprintf("%s in %s is the player's own: %s to begin with, and left as it is later", k.key,
			c.Path, k.usual), "it has %d values that nothing explains, such as in %s", k.distinct, such)
		s.made(c.Path)
	}
}
