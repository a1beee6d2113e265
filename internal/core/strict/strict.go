// Package strict decodes the project's TOML files: every key must be known, and
// every mistake is reported with file, line, column and, where there is one, the
// key or value that was probably meant.
package strict

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"polytome/internal/nearest"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// An Error is one mistake in a file that a person wrote.
type Error struct {
	File         string `json:"file"`
	Line, Column int    // from 1; 0 when the mistake belongs to no place in the file
	Say          string `json:"say"`
	Meant        string `json:"meant,omitempty"` // the nearest thing that would be right
}

func (e *Error) Error() string {
	s := e.File
	if e.Line > 0 {
		s += fmt.Sprintf(":%d:%d", e.Line, e.Column)
	}
	s += ": " + e.Say
	if e.Meant != "" {
		s += fmt.Sprintf(": did you mean %q?", e.Meant)
	}
	return s
}

// A Source is a decoded file that can still report where each key stands.
type Source struct {
	file string
	data []byte
}

// Decode fills into, a pointer to a struct with toml tags, from the text of a
// file. The name is for messages only. The error joins an [*Error] for every
// mistake found.
func Decode(name string, data []byte, into any) (*Source, error) {
	if err := unknownTables(name, data, reflect.TypeOf(into)); err != nil {
		return nil, err
	}
	dec := toml.NewDecoder(strings.NewReader(string(data)))
	dec.DisallowUnknownFields()
	err := dec.Decode(into)
	var unknown *toml.StrictMissingError
	var wrong *toml.DecodeError
	switch {
	case err == nil:
		s := &Source{name, data}
		return s, s.look(reflect.TypeOf(into))
	case errors.As(err, &unknown):
		var all []error
		for _, e := range unknown.Errors {
			line, col := e.Position()
			key := e.Key()
			known := keysAt(reflect.TypeOf(into), key[:len(key)-1])
			all = append(all, &Error{name, line, col, fmt.Sprintf("unknown key %q", strings.Join(key, ".")),
				nearest.Word(key[len(key)-1], known)})
		}
		return nil, errors.Join(all...)
	case errors.As(err, &wrong):
		line, col := wrong.Position()
		if l, c, ok := misplaced(data, wrong, reflect.TypeOf(into)); ok {
			line, col = l, c
		}
		return nil, &Error{File: name, Line: line, Column: col, Say: plainly(wrong)}
	}
	return nil, &Error{File: name, Say: err.Error()}
}

// look finds keys that differ from a known one in letter case, which the decoder takes and [Source.Errorf] would not
// find, and texts that would steer a terminal or turn the order in which they are read. Texts that are written into
// files may hold anything.
func (s *Source) look(t reflect.Type) error {
	var all map[string]any
	if toml.Unmarshal(s.data, &all) != nil {
		return nil
	}
	var found []error
	var look func(at string, path []string, v any)
	look = func(at string, path []string, v any) {
		switch v := v.(type) {
		case string:
			if i := strings.IndexFunc(v, func(r rune) bool {
				return r != '\n' && r != '\t' && r != '\r' && (unicode.IsControl(r) ||
					unicode.Is(unicode.Bidi_Control, r))
			}); i >= 0 {
				r, _ := utf8.DecodeRuneInString(v[i:])
				found = append(found, s.Errorf(at, "the text has the control character U+%04X", r))
			}
		case map[string]any:
			known := keysAt(t, path)
			for _, key := range slices.Sorted(maps.Keys(v)) {
				at, path := strings.TrimPrefix(at+"."+key, "."), append(slices.Clone(path), key)
				if known != nil && !slices.Contains(known, key) {
					e := s.Errorf(at, "unknown key %q", strings.Join(path, "."))
					e.Meant = nearest.Word(strings.ToLower(key), known)
					found = append(found, e)
				} else if !slices.Contains(fileTexts, key) {
					look(at, path, v[key])
				}
			}
		case []any:
			for i := range v {
				look(fmt.Sprintf("%s.%d", at, i), path, v[i])
			}
		}
	}
	look("", nil, all)
	return errors.Join(found...)
}

// fileTexts are the keys of texts that are written into files as they stand.
var fileTexts = []string{"header", "line", "footer", "text", "value"}

// unknownTables finds tables whose names are not known. They are looked for first, because
// a misspelt one can make the tables below it look wrong.
func unknownTables(name string, data []byte, t reflect.Type) error {
	var all []error
	var p unstable.Parser
	p.Reset(data)
	for p.NextExpression() {
		e := p.Expression()
		if e.Kind != unstable.Table && e.Kind != unstable.ArrayTable {
			continue
		}
		var path []string
		for it := e.Key(); it.Next(); {
			part := string(it.Node().Data)
			known := keysAt(t, path)
			path = append(path, part)
			if known != nil && !slices.Contains(known, part) {
				at := p.Shape(p.Range(it.Node().Data)).Start
				all = append(all, &Error{name, at.Line, at.Column, fmt.Sprintf("unknown key %q",
					strings.Join(path, ".")), nearest.Word(part, known)})
				break
			}
		}
	}
	return errors.Join(all...) // mistakes of syntax are left to the decoder
}

// misplaced finds the key of a value of the wrong type, where the decoder does not know
// it: it tells the beginning of the file for lists of lists. Of several keys of that name,
// it is the first up to which the file does not decode.
func misplaced(data []byte, wrong *toml.DecodeError, t reflect.Type) (line, col int, ok bool) {
	if l, c := wrong.Position(); l != 1 || c != 1 {
		return 0, 0, false
	}
	type place struct {
		key  string
		at   unstable.Range
		line int
	}
	var places []place
	var p unstable.Parser
	p.Reset(data)
	prefix := ""
	for p.NextExpression() {
		e := p.Expression()
		parts, at := keyOf(&p, e)
		key := strings.Join(parts, ".")
		if e.Kind != unstable.KeyValue {
			prefix = key + "."
			key = ""
		} else {
			key = prefix + key
		}
		places = append(places, place{key, at, p.Shape(at).Start.Line})
	}
	lines := strings.SplitAfter(string(data), "\n")
	for i, x := range places {
		if x.key != strings.Join(wrong.Key(), ".") {
			continue
		}
		end := len(lines)
		if i+1 < len(places) {
			end = places[i+1].line - 1
		}
		into := reflect.New(t.Elem()).Interface()
		if err := toml.Unmarshal([]byte(strings.Join(lines[:end], "")), into); err != nil {
			start := p.Shape(x.at).Start
			return start.Line, start.Column, true
		}
	}
	return 0, 0, false
}

// keyOf is the key of an expression in its parts, and where it begins.
func keyOf(p *unstable.Parser, e *unstable.Node) (parts []string, at unstable.Range) {
	for it := e.Key(); it.Next(); {
		if len(parts) == 0 {
			at = p.Range(it.Node().Data)
		}
		parts = append(parts, string(it.Node().Data))
	}
	return parts, at
}

var mismatch = regexp.MustCompile(`cannot decode TOML (\w+) into .* of type (\S+)`)

// plainly says what is wrong with a value without naming our own types.
func plainly(e *toml.DecodeError) string {
	m := mismatch.FindStringSubmatch(e.Error())
	if m == nil {
		return strings.TrimPrefix(e.Error(), "toml: ")
	}
	wanted := "another kind of value"
	switch kind := strings.TrimLeft(m[2], "*"); {
	case strings.HasPrefix(kind, "int"):
		wanted = "a whole number"
	case kind == "string":
		wanted = "text in quotes"
	case kind == "bool":
		wanted = "true or false"
	case strings.HasPrefix(kind, "[]"):
		wanted = "a list"
	}
	return fmt.Sprintf("%s is a TOML %s, but must be %s", strings.Join(e.Key(), "."), m[1], wanted)
}

// Errorf makes an [*Error] that points at a key. The path names tables and
// keys; an element of an array of tables is followed by its index:
// "accept.0.path".
func (s *Source) Errorf(path, format string, args ...any) *Error {
	line, col := s.find(path)
	return &Error{File: s.file, Line: line, Column: col, Say: fmt.Sprintf(format, args...)}
}

// find looks a path up, and falls back to the longest part of it that exists.
func (s *Source) find(path string) (line, col int) {
	seen := map[string]unstable.Range{}
	count := map[string]int{}
	var p unstable.Parser
	p.Reset(s.data)
	prefix := ""
	for p.NextExpression() {
		e := p.Expression()
		parts, at := keyOf(&p, e)
		key := strings.Join(parts, ".")
		switch e.Kind {
		case unstable.Table:
			prefix = s.indexed(parts, count, false)
			seen[prefix] = at
		case unstable.ArrayTable:
			prefix = s.indexed(parts, count, true)
			seen[prefix] = at
		case unstable.KeyValue:
			full := key
			if prefix != "" {
				full = prefix + "." + key
			}
			seen[full] = at
		}
	}
	for ; path != ""; path = path[:max(0, strings.LastIndexByte(path, '.'))] {
		if at, ok := seen[path]; ok {
			shape := p.Shape(at)
			return shape.Start.Line, shape.Start.Column
		}
	}
	return 0, 0
}

// indexed turns the name of a table into a path with array indexes.
func (s *Source) indexed(parts []string, count map[string]int, next bool) string {
	path := ""
	for i, part := range parts {
		if path != "" {
			path += "."
		}
		path += part
		last := i == len(parts)-1
		if n, ok := count[path]; ok || (last && next) {
			if last && next {
				if ok {
					n++
				}
				count[path] = n
			}
			path += "." + strconv.Itoa(n)
		}
	}
	return path
}

// keysAt lists the keys of the struct that a path of keys leads to.
func keysAt(t reflect.Type, path []string) []string {
	for {
		switch t.Kind() {
		case reflect.Pointer, reflect.Slice, reflect.Map:
			if t.Kind() == reflect.Map {
				if len(path) == 0 {
					return nil // it may have any keys
				}
				path = path[1:]
			}
			t = t.Elem()
			continue
		case reflect.Struct:
		default:
			return nil
		}
		if len(path) == 0 {
			break
		}
		i := slices.IndexFunc(reflect.VisibleFields(t), func(f reflect.StructField) bool { return tag(f) == path[0] })
		if i < 0 {
			return nil
		}
		t, path = reflect.VisibleFields(t)[i].Type, path[1:]
	}
	var out []string
	for _, f := range reflect.VisibleFields(t) {
		if k := tag(f); k != "" && k != "-" {
			out = append(out, k)
		}
	}
	return out
}

func tag(f reflect.StructField) string {
	name, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
	return name
}
