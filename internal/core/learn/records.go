package learn

import (
	"bytes"
	"slices"
	"strconv"

	"polytome/internal/core/infer"
	"polytome/internal/core/loader"
)

// records finds which title or disc each record of a list is of, by a field: at a distance that stays the same, and in
// an order; false where it names none, or in another order.
func (s *student) records(l *listing, f loader.Field, perTitle bool, order string) bool {
	all := s.listable(perTitle, order)
	at := map[int]string{} // the longest value at each place
	seen := map[string]bool{}
	for i := range all {
		v := all[i].values()[f]
		if len(v) < 2 || seen[v] {
			continue
		}
		seen[v] = true
		for _, as := range []string{"ascii", "utf-16le", "utf-16be", "shift-jis", "latin-1"} {
			b, ok := infer.Encoded(v, as)
			for from := 0; ok; {
				n := bytes.Index(l.raw[from:], b)
				if n < 0 {
					break
				}
				if from += n; len(v) > len(at[from]) {
					at[from] = v
				}
				from++
			}
		}
	}
	var places []int
	for p := range at {
		places = append(places, p)
	}
	slices.Sort(places)
	first, step := regular(places)
	if step < 2 {
		return false
	}
	l.lines = nil
	next := 0
	distinct := map[string]bool{}
	for p := first; at[p] != ""; p += step {
		i := slices.IndexFunc(all[next:], func(n line) bool { return n.values()[f] == at[p] })
		if i < 0 {
			return false // not in that order
		}
		next += i
		all[next].at = p
		l.lines = append(l.lines, all[next])
		distinct[at[p]] = true
		next++
	}
	return len(distinct) > 1
}

// regular finds the most places that are as far from each other: the first of them, and the step. A list begins with
// its first records, so these are tried.
func regular(places []int) (first, step int) {
	there := map[int]bool{}
	for _, p := range places {
		there[p] = true
	}
	most := 1
	for i, p := range places[:min(len(places), mostFirst)] {
		for _, q := range places[i+1 : min(len(places), i+1+mostFirst)] {
			n := 1
			for at := q; there[at]; at += q - p {
				n++
			}
			if n > most {
				first, step, most = p, q-p, n
			}
		}
	}
	return first, step
}

const mostFirst = 64

// recordList finds of what records are made, and how long they are: what is left in front of as many as there are
// titles is a header.
func (s *student) recordList(c *List, all []*listing) bool {
	step := 0
	for _, l := range all {
		for i := 1; i < len(l.lines); i++ {
			if d := l.lines[i].at - l.lines[i-1].at; step != 0 && d != step {
				return false
			} else if step = d; d < 2 {
				return false
			}
		}
	}
	if step == 0 {
		return false
	}
	var records, heads [][]byte
	var values, counts []loader.Values
	for _, l := range all {
		head := len(l.raw) - step*len(l.lines)
		if head < 0 || head > l.lines[0].at {
			return false
		}
		c.HeaderLength = head
		heads = append(heads, l.raw[:head])
		counts = append(counts, loader.Values{loader.FieldDiscs: strconv.Itoa(len(l.lines))})
		for i := range l.lines {
			v := l.lines[i].values()
			v[loader.FieldIndex] = strconv.Itoa(i + 1)
			records = append(records, l.raw[head+i*step:head+(i+1)*step])
			values = append(values, v)
		}
	}
	if slices.ContainsFunc(heads, func(h []byte) bool { return len(h) != c.HeaderLength }) {
		return false
	}
	fields, ok := infer.Bytes(records, values, textFields)
	if !ok {
		return false
	}
	c.Record, c.Fields, c.Encoding = step, fields, ""
	if c.HeaderLength > 0 {
		if c.HeaderFields, ok = infer.Header(heads, counts); !ok {
			return false
		}
	}
	return true
}
