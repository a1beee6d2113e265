// Package settings reads and sets single values in the small text files of
// loaders, and leaves everything else in them as a person wrote it.
package settings

import (
	"fmt"
	"iter"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// Syntax is how a file is written.
type Syntax string

const (
	KeyValue Syntax = "key=value" // lines key=value; also what "" stands for
	INI      Syntax = "ini"       // the same under [section] lines; ; and # begin comments
	TOML     Syntax = "toml"      // TOML 1.0
)

// line is what one line of a file says.
type line struct {
	text       string // with its end
	section    string
	key, value string
	comment    string // behind the value, with the space before it
}

// maxLines bounds how many lines are looked at: a longer file is no settings file.
const maxLines = 100_000

// parse divides a text into lines.
func parse(text string, syntax Syntax) ([]line, error) {
	var out []line
	section, open := "", ""
	for t := range linesOf(text) {
		if len(out) == maxLines {
			return nil, fmt.Errorf("it has more than %d lines", maxLines)
		}
		l := line{text: t, section: section}
		bare := strings.TrimSpace(strings.TrimPrefix(t, "\uFEFF"))
		switch {
		case open != "": // inside a long text of TOML
			if strings.Contains(bare, open) {
				open = ""
			}
		case bare == "" || bare[0] == '#' || (bare[0] == ';' && syntax != TOML):
		case syntax != KeyValue && syntax != "" && bare[0] == '[':
			name := bare
			if i := strings.LastIndexByte(bare, ']'); i > 0 {
				name = bare[:i+1]
			}
			section = strings.TrimSpace(strings.Trim(name, "[]"))
			l.section = section
		default:
			k, v, ok := strings.Cut(bare, "=")
			if !ok {
				break
			}
			l.key = strings.Trim(strings.TrimSpace(k), `"'`)
			l.value = strings.TrimSpace(v)
			if syntax == TOML {
				for _, long := range []string{`"""`, `'''`} {
					if strings.HasPrefix(l.value, long) && !strings.Contains(l.value[3:], long) {
						open = long
					}
				}
			}
			if syntax == TOML || syntax == INI {
				l.value, l.comment = cutComment(l.value, syntax)
			}
		}
		out = append(out, l)
	}
	return out, nil
}

// linesOf are the lines of a text with their ends: LF, CR LF or CR alone.
func linesOf(text string) iter.Seq[string] {
	return func(yield func(string) bool) {
		for text != "" {
			end := strings.IndexAny(text, "\r\n")
			switch {
			case end < 0:
				end = len(text)
			case strings.HasPrefix(text[end:], "\r\n"):
				end += 2
			default:
				end++
			}
			if !yield(text[:end]) {
				return
			}
			text = text[end:]
		}
	}
}

// cutComment takes a comment off a value.
func cutComment(v string, syntax Syntax) (value, comment string) {
	quote := byte(0)
	for i := range len(v) {
		c := v[i]
		switch {
		case quote != 0:
			if c == quote && (quote == '\'' || v[i-1] != '\\') {
				quote = 0
			}
		case c == '"' || c == '\'':
			if syntax == TOML {
				quote = c
			}
		case c == '#' || (c == ';' && syntax == INI):
			if i == 0 || v[i-1] == ' ' || v[i-1] == '\t' {
				value = strings.TrimRight(v[:i], " \t")
				return value, v[len(value):]
			}
		}
	}
	return v, ""
}

// same compares keys and sections: letter case counts in TOML only.
func same(a, b string, syntax Syntax) bool {
	if syntax == TOML {
		return a == b
	}
	return strings.EqualFold(a, b)
}

// Get reads the value of a key; the first one counts. In TOML, the value of a text is given
// without its quotes. Found is false where there is no such key.
func Get(text string, syntax Syntax, section, key string) (value string, found bool, err error) {
	lines, err := parse(text, syntax)
	if err != nil {
		return "", false, err
	}
	for _, l := range lines {
		if l.key != "" && same(l.key, key, syntax) && same(l.section, section, syntax) {
			return plain(l.value, syntax), true, nil
		}
	}
	return "", false, nil
}

// Text is the value of a key where it is a text: in TOML, what is no text of TOML is none. It is "" where there is
// none.
func Text(text string, syntax Syntax, section, key string) string {
	value, found, err := Raw(text, syntax, section, key)
	if !found || err != nil || syntax != TOML {
		return value
	}
	var one struct{ V string }
	if toml.Unmarshal([]byte("V = "+value), &one) != nil {
		return ""
	}
	return one.V
}

// plain takes the quotes off a text of TOML.
func plain(v string, syntax Syntax) string {
	if syntax != TOML {
		return v
	}
	var one struct{ V any }
	if toml.Unmarshal([]byte("V = "+v), &one) == nil {
		if s, ok := one.V.(string); ok {
			return s
		}
	}
	return v
}

// Set gives a key a value, and returns the text with nothing else changed. In TOML the
// value is written as it is when it is one (true, 3, "a"), and in quotes otherwise. A
// key that is not there is added at the end of its section, which is added too where it
// is missing.
func Set(text string, syntax Syntax, section, key, value string) (string, error) {
	lines, err := parse(text, syntax)
	if err != nil {
		return "", err
	}
	if strings.ContainsAny(value, "\r\n") {
		return "", fmt.Errorf("the value of %s has several lines", key)
	}
	if syntax == TOML {
		value = quoted(value)
	}
	end := "\n"
	for l := range linesOf(text) { // as the first one
		if e := ext(l); e != "" {
			end = e
		}
		break
	}
	var out strings.Builder
	done, after := false, -1
	for i, l := range lines {
		if same(l.section, section, syntax) && strings.TrimSpace(l.text) != "" {
			after = i
		}
		if !done && l.key != "" && same(l.key, key, syntax) && same(l.section, section, syntax) {
			done = true
			if plain(l.value, syntax) == plain(value, syntax) {
				continue
			}
			head := l.text[:strings.IndexByte(l.text, '=')+1]
			rest := l.text[len(head):]
			lines[i].text = head + rest[:len(rest)-len(strings.TrimLeft(rest, " \t"))] + value + l.comment + ext(l.text)
		}
	}
	said := key + "=" + value
	if syntax == TOML {
		said = key + " = " + value
	}
	if !done && section == "" && after < 0 { // before the first section
		out.WriteString(said + end)
	}
	for i, l := range lines {
		out.WriteString(l.text)
		if !done && i == after {
			if ext(l.text) == "" {
				out.WriteString(end)
			}
			out.WriteString(said + end)
		}
	}
	if !done && section != "" && after < 0 {
		if len(lines) > 0 && ext(lines[len(lines)-1].text) == "" {
			out.WriteString(end)
		}
		if len(lines) > 0 {
			out.WriteString(end)
		}
		out.WriteString("[" + section + "]" + end + said + end)
	}
	return out.String(), nil
}

// extension is the end of a line.
func ext(l string) string { return l[len(strings.TrimRight(l, "\r\n")):] }

// quoted writes a value as TOML.
func quoted(v string) string {
	var one struct{ V any }
	if toml.Unmarshal([]byte("V = "+v), &one) == nil {
		return v
	}
	b, _ := toml.Marshal(map[string]string{"v": v})
	return strings.TrimSpace(strings.TrimPrefix(string(b), "v = "))
}

// Keep carries what a person owns in an old text over into a fresh one: the keys that are
// theirs, in whatever sections, and those that a list in the old text names as locked, which
// stands outside of any section. What the text was when it was last written, "" where no one knows, tells whose locks
// these are: those that were written then lock nothing here.
func Keep(fresh, old, last string, syntax Syntax, keys []string, lockedBy string) (string, error) {
	all := append([]string(nil), keys...)
	if lockedBy != "" {
		locks := func(text string) (out []string) {
			if v, ok, err := Get(text, syntax, "", lockedBy); err == nil && ok {
				out = strings.FieldsFunc(v, func(r rune) bool { return strings.ContainsRune(`[]"', `, r) })
			}
			return out
		}
		ours := locks(last)
		theirs := slices.DeleteFunc(locks(old), func(k string) bool { return slices.Contains(ours, k) })
		if all = append(all, theirs...); last == "" || len(theirs) > 0 {
			all = append(all, lockedBy)
		}
	}
	lines, err := parse(old, syntax)
	if err != nil {
		return "", err
	}
	var done []line // the first of two counts
	for _, l := range lines {
		if l.key == "" || slices.ContainsFunc(done, func(d line) bool {
			return same(d.key, l.key, syntax) && same(d.section, l.section, syntax)
		}) || !slices.ContainsFunc(all, func(k string) bool { return same(l.key, k, syntax) }) {
			continue
		}
		done = append(done, l)
		if fresh, err = Set(fresh, syntax, l.section, l.key, l.value); err != nil {
			return "", err
		}
	}
	return fresh, nil
}
