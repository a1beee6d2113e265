package layout

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
	"polytome/internal/core/settings"
)

// A listMake is how a list of texts is written: what values look like in it, and where its entries end.
type listMake struct {
	escape   func(v string) string
	unescape func(v string) string
	// entries takes apart what stands between header and footer, without what stands between them; the footer is what
	// is left. ok is false for what is no such list.
	entries func(text string) (entries []string, rest string, ok bool)
	// key is the value that an entry is known by; "" for none.
	key func(entry, key string) string
}

// makes are all makes of lists of texts, by their names in profiles.
var makes = map[string]*listMake{
	"":     {escape: oneLine, unescape: as, entries: lines},
	"csv":  {escape: hidden.Replace, unescape: shown.Replace, entries: records, key: column},
	"json": {escape: inJSON, unescape: ofJSON, entries: elementsOfJSON, key: reading.InJSON},
	"xml":  {escape: inXML, unescape: ofXML, entries: elementsOfXML, key: reading.InXML},
	"ini":  {escape: oneLine, unescape: as, entries: sections, key: inSection},
}

func makeOf(l *loader.List) *listMake { return makes[l.Make] }

func as(v string) string { return v }

// oneLine keeps a value from ending its line.
func oneLine(v string) string { return strings.NewReplacer("\r", " ", "\n", " ").Replace(v) }

// A column of a CSV file may be made of several values. What would separate or quote columns in a value is hidden
// behind characters for private use (Unicode 23.5) until a line is whole, and while it is read.
var (
	hidden = strings.NewReplacer(",", "\uE000", ";", "\uE001", "\t", "\uE002", `"`, "\uE003", "\r", "\uE004", "\n",
		"\uE005")
	shown = strings.NewReplacer("\uE000", ",", "\uE001", ";", "\uE002", "\t", "\uE003", `"`, "\uE004", "\r", "\uE005",
		"\n")
)

const hiddenRunes = "\uE000\uE001\uE002\uE003\uE004\uE005"

// inColumns is a line of a CSV file (RFC 4180, 2) whose values are hidden: columns that need it are quoted.
func inColumns(line string) string {
	var b, column strings.Builder
	end := func() {
		c := shown.Replace(column.String())
		if strings.ContainsAny(column.String(), hiddenRunes) {
			c = `"` + strings.ReplaceAll(c, `"`, `""`) + `"`
		}
		b.WriteString(c)
		column.Reset()
	}
	for _, r := range line {
		if strings.ContainsRune(",;\t\r\n", r) {
			end()
			b.WriteRune(r)
			continue
		}
		column.WriteRune(r)
	}
	end()
	return b.String()
}

// outOfColumns hides what is quoted in a line of a CSV file.
func outOfColumns(line string) string {
	var b strings.Builder
	in := false
	for i := 0; i < len(line); i++ {
		switch {
		case line[i] != '"' && in:
			b.WriteString(hidden.Replace(line[i : i+1]))
		case line[i] != '"':
			b.WriteByte(line[i])
		case in && i+1 < len(line) && line[i+1] == '"':
			b.WriteString(hidden.Replace(`"`))
			i++
		default:
			in = !in
		}
	}
	return b.String()
}

func unquoted(v string) string {
	if len(v) >= 2 && v[0] == '"' && v[len(v)-1] == '"' {
		return strings.ReplaceAll(v[1:len(v)-1], `""`, `"`)
	}
	return v
}

// Escape is how a value is written in lists and texts of a make, such as json; nil for as it is.
func Escape(of string) func(string) string { return makes[of].escape }

// inJSON is what stands between the quotes of a string (RFC 8259, 7).
func inJSON(v string) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	_ = e.Encode(v) // a string
	return strings.TrimSuffix(strings.TrimPrefix(strings.TrimSuffix(b.String(), "\n"), `"`), `"`)
}

func ofJSON(v string) string {
	var out string
	if json.Unmarshal([]byte(`"`+v+`"`), &out) != nil {
		return v
	}
	return out
}

func inXML(v string) string {
	var b bytes.Buffer
	_ = xml.EscapeText(&b, []byte(v)) // to memory
	return b.String()
}

func ofXML(v string) string {
	var out string
	if xml.Unmarshal([]byte("<v>"+v+"</v>"), &out) != nil {
		return v
	}
	return out
}

// lines are entries that are a line each.
func lines(text string) (out []string, rest string, ok bool) {
	return slices.Collect(strings.Lines(text)), "", true
}

// records are entries that are a line each, in which a quoted value may have lines of its own.
func records(text string) (out []string, rest string, ok bool) {
	begin, in := 0, false
	for i := range len(text) {
		switch {
		case text[i] == '"':
			in = !in
		case text[i] == '\n' && !in:
			out, begin = append(out, text[begin:i+1]), i+1
		}
	}
	if begin < len(text) {
		out = append(out, text[begin:])
	}
	return out, "", !in
}

// column is the value in a column of a CSV file, counted from 1.
func column(entry, key string) string {
	n, in := 1, false
	var b strings.Builder
	for _, c := range strings.TrimRight(entry, "\r\n") {
		switch {
		case c == '"':
			in = !in
			b.WriteRune(c)
		case !in && strings.ContainsRune(",;\t", c):
			if n == number(key) {
				return unquoted(b.String())
			}
			n++
			b.Reset()
		default:
			b.WriteRune(c)
		}
	}
	if n == number(key) {
		return unquoted(b.String())
	}
	return ""
}

func number(s string) (n int) {
	for _, c := range s {
		if c < '0' || c > '9' || n > 1000 {
			return 0
		}
		n = n*10 + int(c-'0')
	}
	return n
}

// elementsOfJSON are the values of an array.
func elementsOfJSON(text string) (out []string, rest string, ok bool) {
	for {
		trimmed := strings.TrimLeft(text, " \t\r\n")
		if trimmed == "" || trimmed[0] == ']' || trimmed[0] == '}' {
			return out, text, true
		}
		if trimmed[0] == ',' {
			text = trimmed[1:]
			continue
		}
		d := json.NewDecoder(strings.NewReader(trimmed))
		var raw json.RawMessage
		if d.Decode(&raw) != nil {
			return nil, "", false
		}
		at := d.InputOffset()
		out, text = append(out, trimmed[:at]), trimmed[at:]
	}
}

// elementsOfXML are elements, one behind another. A remark goes with the element behind it.
func elementsOfXML(text string) (out []string, rest string, ok bool) {
	for {
		trimmed := strings.TrimLeft(text, " \t\r\n")
		if trimmed == "" || strings.HasPrefix(trimmed, "</") {
			return out, text, true
		}
		d := xml.NewDecoder(strings.NewReader(trimmed))
		d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
		for depth := 0; ; {
			token, err := d.RawToken()
			if err != nil {
				return nil, "", false
			}
			if _, is := token.(xml.StartElement); is {
				depth++
			}
			if _, is := token.(xml.EndElement); is {
				if depth--; depth <= 0 {
					break
				}
			}
			if _, is := token.(xml.CharData); is && depth == 0 {
				if c := token.(xml.CharData); len(bytes.TrimSpace(c)) > 0 {
					return nil, "", false
				}
			}
		}
		at := d.InputOffset()
		out, text = append(out, trimmed[:at]), trimmed[at:]
	}
}

// sections are those of an INI file.
func sections(text string) (out []string, rest string, ok bool) {
	for line := range strings.Lines(text) {
		begins := strings.HasPrefix(strings.TrimSpace(line), "[")
		switch {
		case begins:
			out = append(out, line)
		case len(out) > 0:
			out[len(out)-1] += line
		case strings.TrimSpace(line) != "":
			return nil, "", false
		}
	}
	return out, "", true
}

// inSection is the value of a key in a section, or with "[]" the section's own name.
func inSection(entry, key string) string {
	first, _, _ := strings.Cut(strings.TrimLeft(entry, " \t\r\n"), "\n")
	name := strings.TrimSpace(strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(first), "["), "]"))
	if key == "[]" {
		return name
	}
	value, _, err := settings.Get(entry, settings.INI, name, key)
	if err != nil {
		return ""
	}
	return value
}

// line is an entry of a list of texts.
func line(l *loader.List, r *Row) string {
	out := l.Line.FillEscaped(&r.Values, r.Discs, makeOf(l).escape)
	if l.Make == "csv" {
		out = inColumns(out)
	}
	if l.Encoding != "" { // what that lacks is not there when the list is read again
		out = Decoded(l.Encoding, string(Encoded(l.Encoding, []byte(out))))
	}
	return out
}

// readLine reads the values of an entry that the list's template could have made.
func readLine(l *loader.List, entry string) (v loader.Values, ok bool) {
	m := makeOf(l)
	if l.Make == "csv" {
		entry = outOfColumns(entry)
	}
	if v, ok = l.Line.Read(entry); ok {
		for f := range v {
			if v[f] != "" {
				v[f] = m.unescape(v[f])
			}
		}
	}
	return v, ok
}

// around is the space that stands before and behind every entry, as the template has it.
func around(line string) (lead, trail string) {
	lead = line[:len(line)-len(strings.TrimLeft(line, " \t\r\n"))]
	trail = line[len(strings.TrimRight(line, " \t\r\n")):]
	return lead, trail
}

// errNoList is that a text is no list of the make.
var errNoList = errors.New("it is no such list")

// taken takes a list of texts apart.
func taken(l *loader.List, text string) (head string, rows [][]byte, foot string, err error) {
	head, text, ok := l.Header.Begins(text)
	if !ok {
		return "", nil, "", errNoList
	}
	m := makeOf(l)
	if l.Make == "" || l.Make == "csv" || l.Make == "ini" { // nothing but the footer tells where these end
		if text, foot, ok = l.Footer.Ends(text); !ok {
			return "", nil, "", errNoList
		}
	}
	entries, rest, ok := m.entries(text)
	if !ok {
		return "", nil, "", errNoList
	}
	lead, trail := around(l.Line.String())
	for _, e := range entries {
		if l.Make != "" {
			e = lead + strings.Trim(e, " \t\r\n") + trail
		} else if !strings.HasSuffix(e, "\n") { // somebody ended it without
			e += "\n"
		}
		rows = append(rows, []byte(e))
	}
	if l.Make == "json" || l.Make == "xml" {
		foot = strings.TrimPrefix(rest, trail)
	}
	return head, rows, foot, nil
}
