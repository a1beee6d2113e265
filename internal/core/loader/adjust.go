package loader

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"polytome/internal/core/strict"
	"polytome/internal/nearest"
)

// With is the profile with some of its keys set otherwise. A key is named by its path, such as
// "accept.1.too-large.part-size": tables of which there are several are counted from 1, or named where
// they have a name ("attachment.stick.largest-file"). Values are written as they stand in the file,
// without the quotes of texts; an empty one takes the key out.
func (p *Profile) With(rules map[string]string) (*Profile, error) {
	if len(rules) == 0 {
		return p, nil
	}
	text, err := p.Text()
	if err != nil {
		return nil, fmt.Errorf("reading the profile %s: %w", p.Name, err)
	}
	all := map[string]any{}
	if err := toml.Unmarshal(text, &all); err != nil {
		return nil, fmt.Errorf("reading the profile %s: %w", p.Name, err)
	}
	for _, key := range slices.Sorted(maps.Keys(rules)) {
		if err := set(all, strings.Split(key, "."), rules[key]); err != nil {
			return nil, fmt.Errorf("the rule %s: %w", key, err)
		}
	}
	var out bytes.Buffer
	if err := toml.NewEncoder(&out).Encode(all); err != nil {
		return nil, fmt.Errorf("setting rules of %s: %w", p.Name, err)
	}
	adjusted, err := ParseProfile(p.File, out.Bytes())
	if err != nil {
		return nil, fmt.Errorf("with these rules %s cannot work: %w", p.Shown, unplaced(err))
	}
	adjusted.Own = p.Own
	return adjusted, nil
}

// set sets one key below a table.
func set(in map[string]any, path []string, value string) error {
	key := path[0]
	if len(path) == 1 {
		if value == "" {
			delete(in, key)
			return nil
		}
		in[key] = valueLike(in[key], value)
		return nil
	}
	switch below := in[key].(type) {
	case map[string]any:
		return set(below, path[1:], value)
	case []any:
		if len(path) < 3 {
			return fmt.Errorf("there are several %s (%d): choose one and its key, such as %s.1.KEY", key, len(below),
				key)
		}
		for i := range below {
			table, ok := below[i].(map[string]any)
			if ok && (path[1] == strconv.Itoa(i+1) || path[1] == table["name"]) {
				return set(table, path[2:], value)
			}
		}
		return fmt.Errorf("there are several %s (%d), but %q is none of them", key, len(below), path[1])
	case nil:
		if _, tables := tablesWithin[key]; tables {
			table := map[string]any{}
			in[key] = table
			return set(table, path[1:], value)
		}
	}
	return nearest.Unknown("table", key, slices.Sorted(maps.Keys(in)))
}

// tablesWithin are those that a rule may lack and that may be begun.
var tablesWithin = map[string]bool{"title": true, "too-large": true, "package": true, "picture": true,
	"first-boot": true}

// valueLike reads a value: as a text where one stands now, else as what it looks like.
func valueLike(now any, value string) any {
	if _, text := now.(string); text {
		return value
	}
	var one struct{ V any }
	if toml.Unmarshal([]byte("V = "+value), &one) == nil {
		return one.V
	}
	return value
}

// unplaced takes the lines out of mistakes: they are of a text that no one has seen.
func unplaced(err error) error {
	var says []string
	var many interface{ Unwrap() []error }
	list := []error{err}
	if errors.As(err, &many) {
		list = many.Unwrap()
	}
	for _, e := range list {
		var s *strict.Error
		if errors.As(e, &s) {
			c := *s
			c.Line, c.Column = 0, 0
			says = append(says, strings.TrimPrefix(c.Error(), c.File+": "))
			continue
		}
		says = append(says, e.Error())
	}
	return errors.New(strings.Join(says, "; "))
}
