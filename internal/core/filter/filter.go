// Package filter finds titles by words, fields and numbers, as users type them:
//
//	ferry                 the word is in the name, ID, platform, region or file
//	platform:vesper       the field begins with the text, or has it as a word in it
//	size>4G year<2000     numbers; sizes as 700M or 4.5GiB
//	bad suspect       what was found: see [States]
//	-region:north         all but these
//	name:"tin harbour"    quotes hold words together
//
// Where titles are seen at a target, these ask for what holds there:
//
//	verdict:split goes    the verdict's word; whether it can be there
//	wanted favourite      what was chosen
//	priority>0 time>10    how much it is wanted; minutes to bring it there
package filter

import (
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/title"
	"polytome/internal/nearest"
	"polytome/internal/size"
)

// States are the words that ask for what was found about a title.
var States = []string{"ok", "bad", "suspect", "noted", "encrypted", "packed", "edited", "locked", "incomplete",
	"verified"}

// PlacedStates are the further words that ask for what holds at a target.
var PlacedStates = []string{"goes", "wanted", "favourite"}

// Fields are the fields that can be asked for.
var Fields = []string{"platform", "name", "id", "region", "form", "size", "discs", "year", "players", "publisher",
	"file", "tag", "finding"}

// PlacedFields are the further fields that ask for what holds at a target.
var PlacedFields = []string{"verdict", "priority", "time"}

// A Placed is what holds for a title at a target.
type Placed struct {
	Verdict   string
	Goes      bool // it can be there
	Wanted    bool
	Favourite bool
	Priority  int
	Minutes   float64 // to bring it there
}

// A Filter is what the user asks for. The zero value lets everything through.
type Filter struct {
	terms []term
	// Trouble is what could not be understood, "" for nothing. It is taken for a word then.
	Trouble string
	// Placed is set when it asks for what holds at a target, so that it means nothing without one.
	Placed bool
}

type term struct {
	not   bool
	field string // "" for a word, "state" for a state
	op    byte   // ':', '<', '>' or '='
	text  string // in lower case
	num   float64
	isNum bool
}

// Parse reads a filter.
func Parse(text string) Filter {
	var f Filter
	for _, w := range words(text) {
		t := term{text: strings.ToLower(w)}
		if strings.HasPrefix(t.text, "-") && len(t.text) > 1 {
			t.not, t.text = true, t.text[1:]
		}
		if i := strings.IndexAny(t.text, ":<>="); i > 0 {
			field, value := t.text[:i], t.text[i+1:]
			switch {
			case !slices.Contains(Fields, field) && !slices.Contains(PlacedFields, field):
				f.Trouble = nearest.Unknown("field", field, append(slices.Clone(Fields), PlacedFields...)).Error()
			case value == "": // still being typed
				continue
			default:
				t.field, t.op, t.text = field, t.text[i], value
				t.num, t.isNum = number(field, value)
				if (t.op == '<' || t.op == '>') && !t.isNum {
					f.Trouble = fmt.Sprintf("%q is not a number to compare %s with", value, field)
				}
			}
		} else if slices.Contains(States, t.text) {
			t.field = "state"
		} else if slices.Contains(PlacedStates, t.text) {
			t.field = "placed"
		}
		f.Placed = f.Placed || t.field == "placed" || slices.Contains(PlacedFields, t.field)
		f.terms = append(f.terms, t)
	}
	return f
}

// words splits at spaces, but not inside quotes.
func words(s string) (out []string) {
	var b strings.Builder
	quoted := false
	end := func() {
		if b.Len() > 0 {
			out = append(out, b.String())
		}
		b.Reset()
	}
	for _, r := range s {
		switch {
		case r == '"':
			quoted = !quoted
		case r == ' ' && !quoted:
			end()
		default:
			b.WriteRune(r)
		}
	}
	end()
	return out
}

func number(field, s string) (float64, bool) {
	if field == "size" {
		if strings.HasSuffix(s, "k") || strings.HasSuffix(s, "m") || strings.HasSuffix(s, "g") || strings.HasSuffix(s,
			"t") {
			s += "ib"
		}
		n, err := size.Parse(s)
		return float64(n), err == nil
	}
	n, err := strconv.ParseFloat(s, 64)
	return n, err == nil
}

// Empty reports whether everything goes through.
func (f *Filter) Empty() bool { return len(f.terms) == 0 }

// Text is what words are looked for in: make it once for a title, as it is asked for with every
// key that is typed.
func Text(t *title.Title) string {
	return strings.ToLower(strings.Join([]string{t.Label(), t.ID, t.Platform, t.Region, t.Source()}, "\x00"))
}

// Match reports whether a title has all that is asked for; text is its [Text].
func (f *Filter) Match(t *title.Title, text string) bool { return f.MatchAt(t, text, Placed{}) }

// MatchAt is Match for a title at a target.
func (f *Filter) MatchAt(t *title.Title, text string, at Placed) bool {
	for i := range f.terms {
		x := &f.terms[i]
		if x.matchAt(t, text, &at) == x.not {
			return false
		}
	}
	return true
}

func (x *term) matchAt(t *title.Title, text string, at *Placed) bool {
	switch x.field {
	case "placed":
		return map[string]bool{"goes": at.Goes, "wanted": at.Wanted, "favourite": at.Favourite}[x.text] ||
			strings.Contains(text, x.text)
	case "verdict":
		if x.op == '=' {
			return at.Verdict == x.text
		}
		return strings.HasPrefix(at.Verdict, x.text)
	case "priority":
		return x.compare(float64(at.Priority))
	case "time":
		return x.compare(at.Minutes)
	}
	return x.match(t, text)
}

func (x *term) match(t *title.Title, text string) bool {
	switch x.field {
	case "":
		return strings.Contains(text, x.text)
	case "state":
		return state(t, x.text) || strings.Contains(text, x.text)
	case "size":
		return x.compare(float64(t.Size()))
	case "discs":
		return x.compare(float64(len(t.Discs)))
	}
	if x.op == '<' || x.op == '>' {
		n, err := strconv.ParseFloat(strings.SplitN(value(t, x.field), "-", 2)[0], 64)
		return err == nil && x.compare(n)
	}
	have := strings.ToLower(value(t, x.field))
	if x.op == '=' {
		return have == x.text
	}
	return strings.Contains(have, x.text)
}

func (x *term) compare(n float64) bool {
	if !x.isNum {
		return false
	}
	switch x.op {
	case '<':
		return n < x.num
	case '>':
		return n > x.num
	}
	return n == x.num
}

func value(t *title.Title, field string) string {
	switch field {
	case "platform":
		return t.Platform
	case "name":
		return t.Label()
	case "id":
		var ids []string
		for _, d := range t.Discs {
			ids = append(ids, d.ID)
		}
		return strings.Join(append(ids, t.ID), " ")
	case "region":
		return t.Region
	case "form":
		return string(t.Form) + " " + t.Archive
	case "year":
		return t.Year
	case "players":
		return t.Players
	case "publisher":
		return t.Publisher
	case "file":
		return filepath.ToSlash(t.Source())
	case "tag":
		return strings.Join(t.Tags, " ")
	case "finding":
		var all []string
		for _, f := range t.Findings {
			all = append(all, f.Say)
		}
		return strings.Join(all, " ")
	}
	return ""
}

// state reports whether the title is in a state.
func state(t *title.Title, name string) bool {
	grade := func(g title.Grade) bool {
		return slices.ContainsFunc(t.Findings, func(f title.Finding) bool { return f.Grade == g })
	}
	switch name {
	case "ok":
		return t.OK()
	case "bad":
		return !t.OK()
	case "suspect":
		return grade(title.Suspicion)
	case "noted":
		return grade(title.Note)
	case "encrypted":
		return t.Encrypted
	case "packed":
		return t.Archive != ""
	case "locked":
		return len(t.Locked) > 0
	case "incomplete":
		return len(t.Discs) < t.Of
	case "edited", "verified":
		from := map[string]string{"edited": "set by hand", "verified": "reading it all"}[name]
		for _, d := range t.Discs {
			for _, e := range d.Evidence {
				if strings.HasPrefix(e.From, from) {
					return true
				}
			}
		}
	}
	return false
}
