package reading

import (
	"errors"
	"fmt"
	"path"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
)

// A Value is one that was read.
type Value struct {
	Text string
	From string // such as "VESPER.INF, line 1"
	// Found is false where there is none.
	Found bool
	// Odd is set where something stands at the place, but not such as the description's pattern wants; Text is that.
	Odd bool
}

// Read reads the value of a field; syntax and encoding are those of the marker's file. The first place of the reading
// that has a value such as the description wants holds. Of is the value of another field, for readings of that.
func (s *Source) Read(field string, f *loader.Reading, m *loader.Marker, of func(field string) string) (Value, error) {
	if !f.Reports() {
		return Value{}, nil
	}
	v, err := s.one(field, f, f.Required, m, of)
	for i := 0; i < len(f.Or) && (!v.Found || v.Odd || err != nil); i++ {
		next, nextErr := s.one(field, &f.Or[i], f.Required, m, of)
		if next.Found && !next.Odd && nextErr == nil || !v.Found && err == nil {
			v, err = next, nextErr
		}
	}
	return v, err
}

// one reads the value at one place.
func (s *Source) one(field string, f *loader.Reading, required bool, m *loader.Marker, of func(string) string) (Value,
	error) {
	if !f.Fits(m) {
		return Value{}, nil
	}
	at := s
	if f.File != "" {
		var err error
		if at, err = s.beside(f.File); at == nil || err != nil {
			return Value{}, err
		}
	}
	var v Value
	var err error
	if f.Search {
		v, err = at.searched(field, f, m)
	} else {
		v, err = at.placed(f, m, of)
		if err == nil && v.Found && v.Text != "" {
			v.take(field, f)
			if v.Odd && !required && f.Pattern.Captures() { // a text may have such a part, or not
				v = Value{}
			}
		}
	}
	if err != nil || !v.Found || v.Odd {
		return v, err
	}
	v.Text = f.As.Do(v.Text)
	if meant, ok := f.Values[v.Text]; ok {
		v.Text = meant
	}
	v.Found = v.Text != ""
	return v, nil
}

// take takes what the pattern captures.
func (v *Value) take(field string, f *loader.Reading) {
	if f.Pattern.Regexp == nil {
		return
	}
	text, ok := f.Pattern.Capture(field, v.Text)
	if v.Odd = !ok; ok {
		v.Text = text
	}
}

// placed is what stands at the place.
func (s *Source) placed(f *loader.Reading, m *loader.Marker, of func(string) string) (Value, error) {
	syntax, encoding := f.Written(m)
	switch {
	case f.Volume:
		return Value{Text: s.Volume, From: "volume identifier", Found: s.Volume != ""}, nil
	case f.FileName:
		name := strings.TrimSuffix(s.Called, path.Ext(s.Called))
		return Value{Text: name, From: s.CalledFrom, Found: name != ""}, nil
	case f.Of != "":
		text := of(f.Of)
		return Value{Text: text, From: "the " + f.Of, Found: text != ""}, nil
	case f.Offset != nil:
		b, err := s.at(*f.Offset, f.Length)
		if errors.Is(err, errShort) {
			return Value{}, nil
		}
		return Value{Decode(b, encoding), s.Name + ", " + byteAt(*f.Offset), err == nil, false}, err
	}
	text, err := s.text(encoding)
	if err != nil {
		return Value{}, err
	}
	var at place
	found := false
	switch syntax {
	case loader.Lines:
		lines := strings.Split(text, "\n")
		if found = f.Line >= 1 && f.Line <= len(lines); found {
			at = place{strings.TrimSpace(lines[f.Line-1]), f.Line}
		}
	case loader.JSON:
		at, found, err = ofJSON(text, f.Key)
	case loader.XML:
		at, found, err = ofXML(text, f.Key)
	default:
		at, found = keyValues(text, f.Section, f.Key)
	}
	from := s.Name + ", key " + f.Key
	if at.line > 0 {
		from = s.Name + ", line " + strconv.Itoa(at.line)
	}
	return Value{Text: at.value, From: from, Found: found}, err
}

// searched is the first text that the pattern finds: in bytes, or in the lines of a text.
func (s *Source) searched(field string, f *loader.Reading, m *loader.Marker) (Value, error) {
	_, encoding := f.Written(m)
	if f.Offset != nil {
		b, err := s.window(*f.Offset, f.Length)
		if err != nil {
			return Value{}, err
		}
		text, ok := f.Pattern.Capture(field, decodeText(b, encoding))
		return Value{Text: text, From: s.Name + ", behind " + byteAt(*f.Offset), Found: ok}, nil
	}
	text, err := s.text(encoding)
	if err != nil {
		return Value{}, err
	}
	n := 0
	for line := range strings.Lines(text) {
		n++
		if text, ok := f.Pattern.Capture(field, strings.TrimRight(line, "\r\n")); ok {
			return Value{Text: strings.TrimSpace(text), From: fmt.Sprintf("%s, line %d", s.Name, n), Found: true}, nil
		}
	}
	return Value{}, nil
}

func byteAt(offset int64) string {
	if offset < 0 {
		return fmt.Sprintf("byte 0x%X from the end", -offset)
	}
	return fmt.Sprintf("byte 0x%X", offset)
}

// Where is the place of a value in words, for one that is missing.
func Where(f *loader.Reading) string {
	switch {
	case f.Search:
		return fmt.Sprintf("text such as %s", f.Pattern)
	case f.Key != "" && f.Section != "":
		return f.Key + " in [" + f.Section + "]"
	case f.Key != "":
		return f.Key
	case f.Line > 0:
		return "line " + strconv.Itoa(f.Line)
	case f.Offset != nil:
		return "value at " + byteAt(*f.Offset)
	case f.Of != "":
		return f.Of
	case f.FileName:
		return "name"
	}
	return "volume identifier"
}
