package teach

import (
	"encoding/json"
	"html"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"polytome/internal/core/infer"
	"polytome/internal/core/reading"
	"polytome/internal/target"
)

// said are the words that small files on a target have: names of lists and of files beside games. What stands in a game
// and in such a file too is worth something.
type said map[string]bool // as they are, and in capital letters

// longestSaid is how many bytes a file has at most that is looked into for words, and mostSaid how many files are.
const (
	longestSaid = 64 << 10
	mostSaid    = 200
)

// A saying is a small file with its words.
type saying struct {
	path string
	said
	text string // all of it in capital letters, in every encoding that it may have
	as   string // the text as it is written; "" for none
}

// sayings collects the words of small files.
func sayings(dir string, entries []target.Entry) (out []saying) {
	for _, e := range entries {
		if e.Folder || e.Size == 0 || e.Size > longestSaid || target.IsTemporary(e.Path) || target.OfSystem(e.Path) {
			continue
		}
		if len(out) >= mostSaid {
			break
		}
		x := saying{path: e.Path, said: said{}}
		base := path.Base(e.Path)
		x.add(strings.TrimSuffix(base, path.Ext(base)))
		b, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(e.Path)))
		if err != nil {
			continue // it is said where the target is checked
		}
		if as, text := EncodingOf([][]byte{b}); text {
			x.as = reading.Decode(b, as)
			x.text = strings.ToUpper(x.as)
			x.take(x.as)
			out = append(out, x)
			continue
		}
		for _, as := range []string{"latin-1", "utf-16le", "utf-16be", "shift-jis"} {
			text := decodeAll(b, as)
			x.text += strings.ToUpper(text)
			for _, word := range strings.FieldsFunc(text,
				func(r rune) bool { return unicode.IsControl(r) || r == unicode.ReplacementChar }) {
				if legible(word) && !misread(word) {
					x.add(word)
				}
			}
		}
		out = append(out, x)
	}
	return out
}

// hear has the words of files that are none of the class's own.
func (c *class) hear(all []saying) {
	c.said, c.besides = said{}, nil
	for i := range all {
		own := slices.ContainsFunc(c.all, func(s *sample) bool {
			return s.path == all[i].path || strings.HasPrefix(all[i].path, s.path+"/")
		})
		if own || slices.Contains(c.exts, strings.ToLower(path.Ext(all[i].path))) {
			continue
		}
		c.besides = append(c.besides, all[i])
		for w := range all[i].said {
			c.said[w] = true
		}
	}
}

// legible reports whether bytes that were taken for text are some: mostly letters and spaces.
func legible(word string) bool {
	good, all := 0, 0
	for _, r := range word {
		if all++; unicode.IsLetter(r) && (r < 0x80 || r > 0xFF) || r == ' ' || r >= '0' && r <= '9' {
			good++
		}
	}
	return good*10 >= all*7
}

// misread reports whether a word looks like letters of ASCII that were taken for wide ones, two at a time: each half of
// all its wide characters is one, and they are no kana, whose upper half is a digit (The Unicode Standard, 18.4).
func misread(word string) bool {
	pairs, kana := 0, true
	for i, r := range word {
		if r < 0x2000 {
			continue
		}
		high, low := r>>8, r&0xFF
		if high > '~' || low > '~' || low < ' ' && (low != 0 || i > 0) { // they may begin in the middle of the first
			return false
		}
		pairs++
		kana = kana && high == 0x30
	}
	return pairs > 0 && !kana
}

// decodeAll is bytes as text, also behind zeros.
func decodeAll(b []byte, as string) string {
	var out strings.Builder
	zero := "\x00"
	if strings.HasPrefix(as, "utf-16") {
		zero = "\x00\x00"
	}
	for len(b) > 0 {
		text := reading.Decode(b, as)
		out.WriteString(text + "\n")
		step := 0
		for at := 0; at+len(zero) <= len(b); at += len(zero) {
			if string(b[at:at+len(zero)]) == zero {
				step = at + len(zero)
				break
			}
		}
		if step == 0 {
			break
		}
		b = b[step:]
	}
	return out.String()
}

// beside are the words that stand behind a name in the line that has it first; nil for none.
func (x *saying) beside(name string) []string {
	for line := range strings.Lines(x.as) {
		if at := infer.WordIn(strings.ToUpper(line), name); at >= 0 && at+len(name) <= len(line) {
			return strings.FieldsFunc(line[at+len(name):],
				func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
		}
	}
	return nil
}

var quoted = regexp.MustCompile(`"(?:[^"\\]|\\.)*"`)

// take takes the words of a text: lines, what stands between quotes, and what separators divide.
func (s said) take(text string) {
	for _, q := range quoted.FindAllString(text, -1) {
		var word string
		if json.Unmarshal([]byte(q), &word) == nil {
			s.add(word)
		}
	}
	for line := range strings.Lines(text) {
		s.add(line)
		for _, word := range strings.FieldsFunc(line,
			func(r rune) bool { return strings.ContainsRune("\"'<>|;\t=,:{}[]()/", r) }) {
			s.add(html.UnescapeString(word))
			for _, w := range strings.Fields(word) {
				s.add(w)
			}
		}
	}
}

func (s said) add(word string) {
	if word = strings.TrimSpace(word); len(word) > 2 && len(word) < 200 {
		s[word], s[strings.ToUpper(word)] = true, true
	}
}

// has reports whether a value is one of the words.
func (s said) has(value string) bool {
	return len(value) > 2 && s[strings.ToUpper(strings.TrimSpace(value))]
}
