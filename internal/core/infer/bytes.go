package infer

import (
	"bytes"
	"cmp"
	"slices"
	"strconv"

	"polytome/internal/core/loader"
)

// A Field is a value at a fixed place of a record, as a profile has it.
type Field struct {
	Offset, Length int
	Value          string // a template
	Encoding       string
	Fill           byte // behind a short value
}

// encodings are those of texts in records, the usual first.
var encodings = []string{"ascii", "utf-8", "latin-1", "shift-jis", "utf-16le", "utf-16be"}

// Encoded is a text in an encoding; ok is false where that lacks a character.
func Encoded(text, as string) (b []byte, ok bool) {
	for i := range len(text) {
		if as == "ascii" && text[i] >= 0x80 {
			return nil, false
		}
	}
	b, err := loader.TextEncoding(as).NewEncoder().Bytes([]byte(text))
	return b, err == nil
}

// Bytes finds of what records of one length are made: each is a row's. What is alike in all of them stands as it is. ok
// is false where bytes are left that nothing explains.
func Bytes(records [][]byte, rows []loader.Values, fields []loader.Field) (out []Field, ok bool) {
	length := len(records[0])
	if slices.ContainsFunc(records, func(r []byte) bool { return len(r) != length }) {
		return nil, false
	}
	b := &layouter{records: records, rows: rows, covered: make([]bool, length)}
	b.texts(fields)
	b.numbers(fields)
	if !b.constants() {
		return nil, false
	}
	slices.SortFunc(b.out, func(a, c Field) int { return a.Offset - c.Offset })
	return b.out, true
}

type layouter struct {
	records [][]byte
	rows    []loader.Values
	covered []bool
	out     []Field
}

func (b *layouter) free(from, to int) bool {
	return to <= len(b.covered) && !slices.Contains(b.covered[from:to], true)
}

func (b *layouter) take(f Field) {
	for i := f.Offset; i < f.Offset+f.Length; i++ {
		b.covered[i] = true
	}
	b.out = append(b.out, f)
}

// texts finds values in any encoding, the longest first.
func (b *layouter) texts(fields []loader.Field) {
	type candidate struct {
		Field
		least, cost int
	}
	var all []candidate
	for _, f := range fields {
		for _, c := range []change{{"", 0}, {"|upper", 2}, {"|lower", 2}} {
			t, ok := templateOf("{" + f.String() + c.text + "}")
			if !ok {
				continue
			}
			for n, as := range encodings {
				values, least, most, same := make([][]byte, len(b.rows)), 1<<20, 0, true
				for i := range b.rows {
					v, ok := Encoded(t.Fill(&b.rows[i]), as)
					if !ok {
						least = 0
						break
					}
					values[i] = v
					least, most = min(least, len(v)), max(most, len(v))
					same = same && bytes.Equal(v, values[0])
				}
				if least < 2 || same && len(b.rows) > 1 {
					continue
				}
				for at := 0; at+least <= len(b.covered); at++ {
					if fill, length, ok := b.field(values, at, most); ok {
						all = append(all, candidate{Field{at, length, t.String(), as, fill}, least,
							fieldCost(f) + c.cost + n})
					}
				}
			}
		}
	}
	slices.SortStableFunc(all, func(x, y candidate) int {
		if x.least != y.least {
			return y.least - x.least
		}
		return x.cost - y.cost
	})
	for _, c := range all {
		if b.free(c.Offset, c.Offset+c.Length) {
			b.take(c.Field)
		}
	}
}

// field reports whether values stand at a place of all records, each cut to what there is, or with one byte behind it
// up to the longest.
func (b *layouter) field(values [][]byte, at, most int) (fill byte, length int, ok bool) {
	some := false
	for i, v := range values {
		rest := b.records[i][at:]
		if len(v) > len(rest) || !bytes.HasPrefix(rest, v) {
			return 0, 0, false
		}
		if len(v) < most && len(rest) > len(v) {
			if some && rest[len(v)] != fill {
				return 0, 0, false
			}
			some, fill = true, rest[len(v)]
		}
	}
	length = most
	for i, v := range values {
		if at+most > len(b.records[i]) {
			return 0, 0, false
		}
		for _, c := range b.records[i][at+len(v) : at+most] {
			if c != fill {
				return 0, 0, false
			}
		}
	}
	if !some {
		return 0, length, true
	}
	for at+length < len(b.covered) && !b.covered[at+length] && !slices.ContainsFunc(b.records, func(r []byte) bool {
		return r[at+length] != fill
	}) {
		length++
	}
	return fill, length, true
}

// numbers finds values that are numbers: those that differ the most between records count first, as few numbers that
// hardly differ may be anything, and of these the simplest and widest.
func (b *layouter) numbers(fields []loader.Field) {
	type candidate struct {
		Field
		distinct, cost int
	}
	var all []candidate
	for _, width := range []int{8, 4, 3, 2, 1} {
		for at := 0; at+width <= len(b.covered); at++ {
			if !b.free(at, at+width) || b.alike(at, at+width) {
				continue
			}
			distinct := map[string]bool{}
			for _, r := range b.records {
				distinct[string(r[at:at+width])] = true
			}
			if f, cost, ok := b.number(fields, at, width); ok {
				all = append(all, candidate{f, len(distinct), cost})
			}
		}
	}
	slices.SortStableFunc(all, func(x, y candidate) int {
		return cmp.Or(y.distinct-x.distinct, x.cost-y.cost, y.Length-x.Length)
	})
	for _, c := range all {
		if b.free(c.Offset, c.Offset+c.Length) {
			b.take(c.Field)
		}
	}
}

func (b *layouter) alike(from, to int) bool {
	return !slices.ContainsFunc(b.records, func(r []byte) bool {
		return !bytes.Equal(r[from:to], b.records[0][from:to])
	})
}

// number is the simplest number that stands at a place of all records.
func (b *layouter) number(fields []loader.Field, at, width int) (best Field, cost int, ok bool) {
	for _, f := range fields {
		all := []change{{"", 0}}
		if slices.Contains(Numbers, f) {
			all = numberChanges()
		}
		for _, c := range all {
			t, is := templateOf("{" + f.String() + c.text + "}")
			if n := fieldCost(f) + c.cost; !is || ok && n >= cost {
				continue
			}
			for _, as := range []string{"number-le", "number-be"} {
				if (width > 1 || as == "number-le") && b.counts(t, as, at, width) {
					best, cost, ok = Field{at, width, t.String(), as, 0}, fieldCost(f)+c.cost, true
					break
				}
			}
		}
	}
	return best, cost, ok
}

// counts reports whether a number stands at a place of all records.
func (b *layouter) counts(t loader.Text, as string, at, width int) bool {
	for i := range b.rows {
		v := t.Fill(&b.rows[i])
		n, err := strconv.ParseUint(v, 10, 64)
		if v != "" && err != nil || n != Number(b.records[i][at:at+width], as) {
			return false
		}
	}
	return true
}

// Number is an unsigned number in bytes, as number-le or number-be say.
func Number(b []byte, as string) (n uint64) {
	for i := range b {
		k := i
		if as == "number-le" {
			k = len(b) - 1 - i
		}
		n = n<<8 | uint64(b[k])
	}
	return n
}

// constants has what is the same in all records, and is not zero, stand as it is; ok is false where something differs.
func (b *layouter) constants() bool {
	for at := 0; at < len(b.covered); {
		if b.covered[at] {
			at++
			continue
		}
		if !b.alike(at, at+1) {
			return false
		}
		c := b.records[0][at]
		if c == 0 {
			at++
			continue
		}
		end := at
		printable := func(c byte) bool { return c > ' ' && c <= '~' }
		for end < len(b.covered) && !b.covered[end] && b.alike(end, end+1) && b.records[0][end] != 0 &&
			printable(b.records[0][end]) == printable(c) && (printable(c) || end < at+8) {
			end++
		}
		f := Field{Offset: at, Length: end - at, Encoding: "ascii", Value: Literal(string(b.records[0][at:end]))}
		if !printable(c) {
			f.Encoding, f.Value = "number-be", strconv.FormatUint(Number(b.records[0][at:end], "number-be"), 10)
		}
		b.out = append(b.out, f)
		at = end
	}
	return true
}

// Header finds of what the bytes in front of records are made: what is alike, and the number of entries.
func Header(heads [][]byte, counts []loader.Values) ([]Field, bool) {
	b := &layouter{records: heads, rows: counts, covered: make([]bool, len(heads[0]))}
	for _, width := range []int{8, 4, 2, 1} {
		for at := 0; at+width <= len(b.covered); at++ {
			for _, as := range []string{"number-le", "number-be"} {
				t, _ := templateOf("{discs}")
				if b.free(at, at+width) && b.counts(t, as, at, width) && (width == 1 || heads[0][at] != 0 ||
					as == "number-be") {
					b.take(Field{at, width, t.String(), as, 0})
				}
			}
		}
	}
	ok := b.constants()
	return b.out, ok
}
