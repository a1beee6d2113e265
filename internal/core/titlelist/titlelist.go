// Package titlelist reads the user's own lists of titles: CSV files that tell proper names,
// regions, years, players and publishers, and finds the row for a title.
package titlelist

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"unicode"

	"polytome/internal/core/title"
	"polytome/internal/format/sums"
)

// Columns are the columns that a list may have, in any order; those with other names are
// skipped. checksum holds any kind of sum, known by its length.
var Columns = []string{"id", "name", "region", "year", "players", "publisher", "text", "platform", "checksum", "crc32",
	"md5", "sha1", "sha256"}

// A Row is one title of a list.
type Row struct {
	ID, Name, Region, Year, Players, Publisher, Text, Platform string

	Sums []string // in lower-case hexadecimal
	File string   // base name of the list
	Line int
}

// A List is the rows of one or more files. The zero value is empty.
type List struct {
	Rows []Row

	byID, bySum, byName map[string][]int
	kinds               map[sums.Algorithm]bool
}

// maxBytes is the longest list that is read.
const maxBytes = 64 << 20

// Read adds the rows of a file. Lines that cannot be used are errors which name the file and
// line; the others are added.
func (l *List) Read(file string, r io.Reader) error {
	text, err := io.ReadAll(io.LimitReader(r, maxBytes+1))
	if err != nil {
		return err
	}
	if len(text) > maxBytes {
		return fmt.Errorf("%s: it is too long for a list of titles", file)
	}
	body := strings.TrimPrefix(string(text), "\uFEFF")
	first, _, _ := strings.Cut(body, "\n")
	c := csv.NewReader(strings.NewReader(body))
	c.FieldsPerRecord, c.TrimLeadingSpace, c.LazyQuotes = -1, true, true
	for _, comma := range []rune{';', '\t'} {
		if strings.Count(first, string(comma)) > strings.Count(first, string(c.Comma)) {
			c.Comma = comma
		}
	}
	head, err := c.Read()
	if err != nil {
		return fmt.Errorf("%s: its first line must name the columns: %s", file, strings.Join(Columns, ", "))
	}
	column := map[string]int{}
	for i, h := range head {
		if h = strings.ToLower(strings.TrimSpace(h)); slices.Contains(Columns, h) {
			column[h] = i
		}
	}
	_, id := column["id"]
	_, name := column["name"]
	if !id && !name {
		return fmt.Errorf("%s: the first line has no column id or name; columns are: %s", file,
			strings.Join(Columns, ", "))
	}
	var all []error
	for {
		rec, err := c.Read()
		if err == io.EOF {
			break
		}
		var syntax *csv.ParseError
		if errors.As(err, &syntax) {
			all = append(all, fmt.Errorf("%s:%d: %w", file, syntax.Line, syntax.Err))
			continue
		}
		if err != nil {
			return err
		}
		line, _ := c.FieldPos(0)
		get := func(name string) string {
			if i, ok := column[name]; ok && i < len(rec) {
				return strings.TrimSpace(rec[i])
			}
			return ""
		}
		row := Row{ID: get("id"), Name: get("name"), Region: get("region"), Year: get("year"), Players: get("players"),
			Publisher: get("publisher"), Text: get("text"),
			Platform: strings.ToLower(get("platform")), File: filepath.Base(file), Line: line}
		bad := false
		for _, k := range []string{"checksum", "crc32", "md5", "sha1", "sha256"} {
			s := strings.ToLower(get(k))
			if s == "" {
				continue
			}
			if sums.Of(s) == "" || k != "checksum" && sums.Of(s) != sums.Algorithm(k) {
				all = append(all, fmt.Errorf("%s:%d: %q is not a checksum of the column %s", file, line, s, k))
				bad = true
				continue
			}
			row.Sums = append(row.Sums, s)
		}
		if row.ID == "" && row.Name == "" && len(row.Sums) == 0 {
			if !bad && len(rec) > 1 {
				all = append(all, fmt.Errorf("%s:%d: the line has neither an ID, a name nor a checksum", file, line))
			}
			continue
		}
		l.add(row)
	}
	return errors.Join(all...)
}

func (l *List) add(r Row) {
	if l.byID == nil {
		l.byID, l.bySum, l.byName, l.kinds = map[string][]int{}, map[string][]int{}, map[string][]int{},
			map[sums.Algorithm]bool{}
	}
	n := len(l.Rows)
	l.Rows = append(l.Rows, r)
	if r.ID != "" {
		k := strings.ToLower(r.ID)
		l.byID[k] = append(l.byID[k], n)
	}
	for _, s := range r.Sums {
		l.bySum[s] = append(l.bySum[s], n)
		l.kinds[sums.Of(s)] = true
	}
	if k := Fold(r.Name); k != "" {
		l.byName[k] = append(l.byName[k], n)
	}
}

// Wants reports the kinds of checksums by which rows are found.
func (l *List) Wants() (out []sums.Algorithm) {
	for _, a := range []sums.Algorithm{sums.CRC32, sums.MD5, sums.SHA1, sums.SHA256} {
		if l.kinds[a] {
			out = append(out, a)
		}
	}
	return out
}

// HasID reports whether some row has a title's ID.
func (l *List) HasID(t *title.Title) bool {
	return t.ID != "" && l.pick(l.byID[strings.ToLower(t.ID)], t) != nil
}

// Find returns the row for a title, by its ID, by one of its checksums, or by its name, and
// which it was; nil for none. A row for another platform is none, and neither is a name
// that several rows have.
func (l *List) Find(t *title.Title, checksums []string) (row *Row, by string) {
	if t.ID != "" {
		if r := l.pick(l.byID[strings.ToLower(t.ID)], t); r != nil {
			return r, "its ID"
		}
	}
	for _, s := range checksums {
		if r := l.pick(l.bySum[strings.ToLower(s)], t); r != nil {
			return r, "its checksum"
		}
	}
	if all := l.byName[Fold(t.Name)]; t.Name != "" && len(all) > 0 {
		var fits []int
		for _, i := range all {
			if r := &l.Rows[i]; l.pick([]int{i}, t) != nil && (r.ID == "" || t.ID == "") &&
				(r.Region == "" || t.Region == "" || strings.EqualFold(r.Region, t.Region)) {
				fits = append(fits, i)
			}
		}
		if len(fits) == 1 {
			return &l.Rows[fits[0]], "its name"
		}
	}
	return nil, ""
}

// pick is the first of the rows that may be about the title's platform.
func (l *List) pick(rows []int, t *title.Title) *Row {
	for _, i := range rows {
		if p := l.Rows[i].Platform; p == "" || t.Platform == "" || p == t.Platform {
			return &l.Rows[i]
		}
	}
	return nil
}

// Fold brings a name into a form in which spellings of it are equal: letters and digits
// only, in lower case.
func Fold(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, name)
}
