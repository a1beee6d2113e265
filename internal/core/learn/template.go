package learn

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"polytome/internal/core/infer"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/target"
)

// found is a template, how titles are written in it, and which samples it makes.
type found struct {
	text    string
	naming  naming
	numbers string
	order   string // of the list, where numbers follow it
	made    []bool
	chance  bool // a folder may be named after what its titles have in common by chance
}

// naming is how titles are written.
type naming struct {
	ascii     bool
	forbidden string
	longest   int
}

func (s *student) naming(n naming) layout.Naming {
	return layout.Naming{Units: target.Characters, Longest: n.longest, Permits: func(c rune) bool {
		return !(n.ascii && c > '~') && !strings.ContainsRune(n.forbidden, c) &&
			!strings.ContainsRune(s.look.Facts.Filesystem.Forbidden, c)
	}}
}

// pathFields are what paths are made of, the likeliest first.
var pathFields = []loader.Field{loader.FieldTitle, loader.FieldID, loader.FieldDisc, loader.FieldDiscs,
	loader.FieldNumber,
	loader.FieldKind, loader.FieldRegion, loader.FieldPage, loader.FieldExt, loader.FieldPlatform, loader.FieldSize}

// template finds the path of samples: with the names as they are first, then as a rule may write them, then with
// running numbers, and last the one that makes the most.
func (s *student) template(all []*sample) found {
	page := pages(all)
	o := infer.Options{Fields: pathFields, Whole: true, Fold: s.fold}
	rows := func(n naming, numbers []string) (out []infer.Row) {
		how := s.naming(n)
		for i, x := range all {
			v := x.values
			v[loader.FieldTitle], _ = how.Name(x.t.Name)
			v[loader.FieldPage] = page[i]
			if numbers != nil {
				v[loader.FieldNumber] = numbers[i]
			}
			out = append(out, infer.Row{Values: v, Text: x.path})
		}
		return out
	}
	whole := make([]bool, len(all))
	for i := range whole {
		whole[i] = true
	}
	usual := s.usual(all)
	paged := o
	o.Fields = slices.DeleteFunc(slices.Clone(pathFields), func(f loader.Field) bool { return f == loader.FieldPage })
	plain, ok := infer.Template(rows(usual, nil), o)
	if p, is := infer.Template(rows(usual, nil), paged); is && strings.Contains(p.Text, "{page") &&
		(!ok || p.Cost < plain.Cost) {
		plain, ok, o = p, true, paged
	}
	ok = ok && !constant(plain.Text, all)
	if m := cutTitle.FindStringSubmatch(plain.Text); ok && m != nil {
		// where paths cut titles, so does all else
		short := usual
		short.longest, _ = strconv.Atoi(m[1])
		if again, same := infer.Template(rows(short, nil), o); same && again.Cost < plain.Cost {
			usual, plain = short, again
		}
	}
	if ok && !begin(all) {
		return found{text: plain.Text, naming: usual, made: whole}
	}
	for _, h := range numberings(all, s.split) {
		m, is := infer.Template(rows(usual, h.numbers), o)
		if is && strings.Contains(m.Text, "{number") && (!ok || m.Cost < plain.Cost) {
			return found{text: m.Text, naming: usual, numbers: h.how, order: h.order, made: whole}
		}
		if ok && h.how == "in-order" { // no number in front of names explains more
			break
		}
	}
	if ok {
		return found{text: plain.Text, naming: usual, made: whole}
	}
	longest := 0
	for _, x := range all {
		longest = max(longest, len([]rune(x.t.Name)))
	}
	for n := min(longest, 64) - 1; n >= 4; n-- {
		short := usual
		short.longest = n
		if m, ok := infer.Template(rows(short, nil), o); ok {
			return found{text: m.Text, naming: short, made: whole}
		}
	}
	if f, ok := s.clustered(all); ok {
		return f
	}
	o.Simple = true
	m, made := infer.Most(rows(usual, nil), o)
	if made == nil {
		made = make([]bool, len(all))
	}
	return found{text: m.Text, naming: usual, made: made}
}

var cutTitle = regexp.MustCompile(`\{title\|max:([0-9]+)\}`)

// clusterings are ways to divide paths of several rules: by their first folder, by their first two, and by how the name
// at their end begins.
var clusterings = []func(p string) string{
	func(p string) string { return upTo(p, "/") },
	func(p string) string { return fmt.Sprintf("%s %d", upTo(p, "/"), strings.Count(p, "/")) },
	func(p string) string {
		parts := strings.Split(p, "/")
		return strings.Join(parts[:min(2, len(parts)-1)], "/") + strconv.Itoa(len(parts))
	},
	func(p string) string { return infer.Shape(path.Base(p)) + strconv.Itoa(strings.Count(p, "/")) },
	func(p string) string { return strconv.Itoa(strings.Count(p, "/")) + byNumber(path.Base(p)) },
	func(p string) string { return strconv.Itoa(strings.Count(p, "/")) + signs(path.Base(p)) },
	func(p string) string { return strconv.Itoa(strings.Count(p, "/")) + signs(path.Base(path.Dir(p))) },
	func(p string) string {
		parts := strings.Split(p, "/")
		return infer.Shape(parts[max(0, len(parts)-2)]) + strconv.Itoa(len(parts))
	},
}

// byNumber tells names that begin with a number from others.
func byNumber(name string) string {
	return strconv.FormatBool(leading.MatchString(name))
}

// signs are the characters of a name that are neither letters nor digits nor what stands between words, each once:
// those that rules write.
func signs(name string) string {
	var out []rune
	for _, r := range name {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune(" _-&',!", r) && !slices.Contains(out,
			r) {
			out = append(out, r)
		}
	}
	slices.Sort(out)
	return string(out)
}

// clustered finds a template for those samples that lie in one of several folders, or whose names begin alike: for the
// most of them.
func (s *student) clustered(all []*sample) (best found, ok bool) {
	most := 0
	for _, key := range clusterings {
		of := map[string][]*sample{}
		var keys []string
		for _, x := range all {
			k := key(x.path)
			if of[k] == nil {
				keys = append(keys, k)
			}
			of[k] = append(of[k], x)
		}
		if len(of) < 2 {
			continue
		}
		slices.SortStableFunc(keys, func(a, b string) int { return len(of[b]) - len(of[a]) })
		for _, k := range keys {
			if len(of[k]) < 2 || len(of[k]) <= most {
				break
			}
			f := s.template(of[k])
			if f.text == "" || slices.Contains(f.made, false) || constant(f.text, of[k]) {
				continue
			}
			f.made = make([]bool, len(all))
			for i, x := range all {
				f.made[i] = key(x.path) == k
			}
			best, most, ok = f, len(of[k]), true
			break
		}
	}
	return best, ok
}

// upTo is a text up to the first of a character.
func upTo(text, char string) string {
	before, _, _ := strings.Cut(text, char)
	return before
}

// begin reports whether all paths have a name that begins with a digit.
func begin(all []*sample) bool {
	return !slices.ContainsFunc(all, func(x *sample) bool { return !digitFirst.MatchString(x.path) })
}

var digitFirst = regexp.MustCompile(`(^|/)[0-9]`)

// constant reports whether a template makes one path for several titles.
func constant(text string, all []*sample) bool {
	return len(all) > 1 && !distinguishes.MatchString(strings.ReplaceAll(text, "{{", ""))
}

// distinguishes finds a field that is another one in each title.
var distinguishes = regexp.MustCompile(`\{(id|title|name|base|number)\b`)

// letterGroup is how folders are named that hold titles by their first letters, and shared what they may be named after
// that several titles have in common by chance.
var (
	letterGroup = regexp.MustCompile(`^[A-Z0-9]-[A-Z0-9]$`)
	shared      = func() (out []loader.Text) {
		texts := []string{"{title|letter}"}
		for n := 1; n <= 8; n++ {
			texts = append(texts, fmt.Sprintf("{id|sub:0:%d}", n))
		}
		for n := 2; n <= 13; n++ {
			texts = append(texts, fmt.Sprintf("{title|group:%d}", n))
		}
		for _, text := range texts {
			var t loader.Text
			if err := t.UnmarshalText([]byte(text)); err != nil {
				panic(err) // it is one of those above
			}
			out = append(out, t)
		}
		return out
	}()
)

// grouped is a template in which folders are named after the first letters of their titles that look so, though all
// titles are in one of them; chance is set where another folder's name may have come about like that.
func (s *student) grouped(f found, all []*sample) (out string, chance bool) {
	parts := strings.Split(f.text, "/")
	for i, part := range parts[:len(parts)-1] {
		if strings.Contains(part, "{") {
			continue
		}
		for _, t := range shared {
			if slices.ContainsFunc(all, func(x *sample) bool {
				v := x.values
				v[loader.FieldTitle], _ = s.naming(f.naming).Name(x.t.Name)
				return !strings.EqualFold(t.Fill(&v), part)
			}) {
				continue
			}
			if chance = true; letterGroup.MatchString(part) {
				parts[i] = t.String()
				break
			}
		}
	}
	return strings.Join(parts, "/"), chance
}

// usual is how names are written as far as the names in the games and the paths tell at once: characters that the first
// have and the others never.
func (s *student) usual(all []*sample) (n naming) {
	foreign, kept := 0, 0
	for _, x := range all {
		for _, c := range x.t.Name {
			switch {
			case c > '~':
				foreign++
				if strings.ContainsRune(x.path, c) {
					kept++
				}
			case c < ' ' || c == '.' || c == '/' || c == '\\' || c == ' ' || c >= '0' && c <= '9' ||
				c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || strings.ContainsRune(n.forbidden, c) ||
				strings.ContainsRune(s.look.Facts.Filesystem.Forbidden, c):
			case !slices.ContainsFunc(all, func(x *sample) bool { return strings.ContainsRune(x.path, c) }):
				n.forbidden += string(c)
			}
		}
	}
	n.ascii = foreign > 0 && kept == 0
	return n
}
