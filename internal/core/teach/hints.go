package teach

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"polytome/internal/core/infer"
	"polytome/internal/core/loader"
)

// A Hint is what a person has said of one game: the value that a field has there. Without a value the games have no
// such field.
type Hint struct {
	Field string // as [loader.FieldNames] have them
	Path  string // of the game, or of a file in it, on the target
	Value string
}

// hint is what was said of a field in a game of the class, and which game that is.
func (c *class) hint(field string) (h Hint, game int, ok bool) {
	for _, h := range slices.Backward(c.hints) {
		if h.Field != field {
			continue
		}
		i := slices.IndexFunc(c.all, func(
			s *sample) bool {
			return s.path == h.Path || strings.HasPrefix(h.Path, s.path+"/")
		})
		if i >= 0 {
			return h, i, true
		}
	}
	return Hint{}, 0, false
}

// byHint finds where a value stands that a person has pointed at: all of a place, a part of a text, or any bytes of the
// game's own file.
func (c *class) byHint(places []*place, h Hint, game int) (best Found, ok bool) {
	cost := 0
	take := func(p *place, values []string, pattern string) {
		if filled(values)*10 >= len(c.all)*8 && (!ok || p.cost < cost) {
			best = p.found(values, pattern, "", fmt.Sprintf("in %d of %d, %s; as was said of %s", filled(values),
				len(c.all), p.where, h.Path))
			best.Sure, cost, ok = true, p.cost, true
		}
	}
	for _, p := range places {
		if game >= len(p.values) || p.values[game] == "" {
			continue
		}
		if p.values[game] == h.Value {
			take(p, p.values, "")
			continue
		}
		at := strings.Index(p.values[game], h.Value)
		if at < 0 || !p.text {
			continue
		}
		if pattern := between(p.values[game], at, at+len(h.Value), h.Field); pattern != "" {
			if q := p.with(h.Field, pattern); q != nil {
				take(q, c.valuesAt(q, h.Field), pattern)
			}
		}
	}
	if ok {
		return best, ok
	}
	for _, as := range []string{"ascii", "utf-16le", "utf-16be", "shift-jis", "latin-1"} {
		b, is := infer.Encoded(h.Value, as)
		if !is {
			continue
		}
		for _, fromEnd := range []bool{false, true} {
			in, offset := c.all[game].head, int64(0)
			if fromEnd {
				in = c.all[game].tail
				offset = -int64(len(in))
			}
			at := bytes.Index(in, b)
			if at < 0 {
				continue
			}
			offset += int64(at)
			p := &place{marker: loader.Marker{Syntax: loader.Binary}, cost: 5,
				where: fmt.Sprintf("%s, %d bytes, %s", offsetWords(offset), len(b), as),
				read:  loader.Reading{Offset: &offset, Length: int64(len(b)), Encoding: as}}
			take(p, c.valuesAt(p, h.Field), "")
		}
	}
	return best, ok
}

func offsetWords(at int64) string {
	if at < 0 {
		return fmt.Sprintf("%d bytes before the end", -at)
	}
	return fmt.Sprintf("byte 0x%X", at)
}

// between is a pattern for what stands between the same texts as a part of a text does; "" where nothing stands on one
// of its sides but letters that belong to it.
func between(text string, from, to int, field string) string {
	left, right := last(text[:from], 8), firstOf(text[to:], 1)
	pattern := "^"
	if left != "" {
		pattern = regexp.QuoteMeta(left)
	}
	pattern += "(?P<" + field + ">"
	if right == "" {
		return pattern + ".+)$"
	}
	return pattern + "[^" + regexp.QuoteMeta(right) + "]+)" + regexp.QuoteMeta(right)
}
