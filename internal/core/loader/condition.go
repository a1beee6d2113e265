package loader

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/nearest"
)

// A Condition holds or does not hold for the values of a title or a situation:
// "region", "not id", "region is North", "discs over 1", joined by "and". The
// zero value always holds.
type Condition struct {
	text  string
	terms []term
}

type term struct {
	field  Field
	not    bool
	over   bool // the value is a number above limit
	limit  int
	is     bool
	wanted string
}

// UnmarshalText parses a condition as written in a file.
func (c *Condition) UnmarshalText(b []byte) (err error) {
	*c, err = parseCondition(string(b))
	return err
}

// String is the condition as it was written.
func (c Condition) String() string { return c.text }

func parseCondition(text string) (Condition, error) {
	c := Condition{text: text}
	for part := range strings.SplitSeq(text, " and ") {
		var t term
		words := strings.Fields(part)
		if len(words) > 0 && words[0] == "not" {
			t.not, words = true, words[1:]
		}
		if len(words) == 0 {
			return c, fmt.Errorf("the condition %q is empty; write one such as %q", text, "discs over 1")
		}
		if slices.Contains(Situations, words[0]) && len(words) == 1 {
			t.field, t.is, t.wanted = FieldSituation, true, words[0]
			c.terms = append(c.terms, t)
			continue
		}
		var ok bool
		if t.field, ok = fieldNamed(words[0]); !ok {
			return c, nearest.Unknown("field", words[0], append(slices.Clone(fieldNames[:]), Situations...))
		}
		switch {
		case len(words) == 1:
		case len(words) >= 3 && words[1] == "is":
			t.is, t.wanted = true, strings.Join(words[2:], " ")
			if rest, not := strings.CutPrefix(t.wanted, "not "); not {
				t.not, t.wanted = !t.not, rest
			}
		case len(words) == 3 && words[1] == "over":
			n, err := strconv.Atoi(words[2])
			if err != nil {
				return c, fmt.Errorf("the condition %q: %q is not a number", text, words[2])
			}
			t.over, t.limit = true, n
		default:
			return c, fmt.Errorf("the condition %q must be one of: FIELD, not FIELD, FIELD is VALUE, FIELD is not "+
				"VALUE, FIELD over NUMBER", text)
		}
		c.terms = append(c.terms, t)
	}
	return c, nil
}

// Holds reports whether the condition holds. The field of situations may hold
// several words.
func (c Condition) Holds(v *Values) bool {
	for i := range c.terms {
		if !c.terms[i].holds(v) {
			return false
		}
	}
	return true
}

func (t *term) holds(v *Values) bool {
	value := v[t.field]
	var yes bool
	switch {
	case t.over:
		n, err := strconv.Atoi(value)
		yes = err == nil && n > t.limit
	case t.is && t.field == FieldSituation:
		yes = slices.Contains(strings.Fields(value), t.wanted)
	case t.is:
		yes = strings.EqualFold(value, t.wanted)
	default:
		yes = value != ""
	}
	return yes != t.not
}

// fields are those that the condition asks for.
func (c Condition) fields() []Field {
	var out []Field
	for _, t := range c.terms {
		out = append(out, t.field)
	}
	return out
}

// words puts a condition into a clause for people.
func (c Condition) words() string {
	var out []string
	for _, t := range c.terms {
		not := ""
		if t.not {
			not = "not "
		}
		switch {
		case t.over:
			out = append(out, fmt.Sprintf("when the number of %s is %sover %d", t.field, not, t.limit))
		case t.is && t.field == FieldSituation:
			out = append(out, "when "+not+map[string]string{
				"added": "something was added", "removed": "something was removed",
				"direct-cable": "connected by a direct cable",
				"covers":       "covers were copied", "first-time": "filled for the first time",
				"several-discs": "a title has several discs",
			}[t.wanted])
		case t.is && t.field == FieldVia:
			out = append(out, fmt.Sprintf("when the connection is %s%s", not, t.wanted))
		case t.is:
			out = append(out, fmt.Sprintf("when the %s is %s%s", t.field, not, t.wanted))
		case t.not:
			out = append(out, fmt.Sprintf("when there is no %s", t.field))
		default:
			out = append(out, fmt.Sprintf("when there is a %s", t.field))
		}
	}
	return strings.Join(out, " and ")
}
