package loader

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/nearest"
	"polytome/internal/size"
)

// A Condition holds or does not hold for the values of a title or a situation:
// "region", "not id", "region is North", "discs over 1", "size under 4GiB", "id matches ^PL", "kind in a, b", joined by
// "and", and those by "or". The zero value always holds.
type Condition struct {
	text string
	any  [][]term // one of them must hold whole
}

type term struct {
	field   Field
	not     bool
	is      comparison
	limit   int64
	wanted  []string
	matches *regexp.Regexp
}

// comparison is how a value is compared.
type comparison int

const (
	given   comparison = iota // it has a value
	equal                     // it is one of those that are wanted
	over                      // it is a number above the limit
	under                     // it is a number below it
	matches                   // the expression is found in it
)

// conditionForms are what a condition can be.
const conditionForms = "FIELD, not FIELD, FIELD is VALUE, FIELD is not VALUE, FIELD in VALUE, VALUE, FIELD over " +
	"NUMBER, " +
	"FIELD under NUMBER, FIELD matches PATTERN"

// UnmarshalText parses a condition as written in a file.
func (c *Condition) UnmarshalText(b []byte) (err error) {
	*c, err = parseCondition(string(b))
	return err
}

// String is the condition as it was written.
func (c Condition) String() string { return c.text }

// Empty reports whether the condition always holds.
func (c Condition) Empty() bool { return len(c.any) == 0 }

func parseCondition(text string) (Condition, error) {
	c := Condition{text: text}
	for part := range strings.SplitSeq(text, " or ") {
		var all []term
		for part := range strings.SplitSeq(part, " and ") {
			t, err := parseTerm(text, part)
			if err != nil {
				return c, err
			}
			all = append(all, t)
		}
		c.any = append(c.any, all)
	}
	return c, nil
}

func parseTerm(text, part string) (t term, err error) {
	words := strings.Fields(part)
	if len(words) > 0 && words[0] == "not" {
		t.not, words = true, words[1:]
	}
	if len(words) == 0 {
		return t, fmt.Errorf("the condition %q is empty; write one such as %q", text, "discs over 1")
	}
	if slices.Contains(Situations, words[0]) && len(words) == 1 {
		t.field, t.is, t.wanted = FieldSituation, equal, words[:1]
		return t, nil
	}
	var ok bool
	if t.field, ok = FieldNamed(words[0]); !ok {
		return t, nearest.Unknown("field", words[0], append(slices.Clone(fieldNames[:]), Situations...))
	}
	if len(words) == 1 {
		return t, nil
	}
	rest := strings.Join(words[2:], " ")
	switch how := words[1]; {
	case rest == "":
		return t, fmt.Errorf("the condition %q must be one of: %s", text, conditionForms)
	case how == "is":
		if positive, not := strings.CutPrefix(rest, "not "); not {
			t.not, rest = !t.not, positive
		}
		t.is, t.wanted = equal, []string{rest}
	case how == "in":
		t.is = equal
		for word := range strings.SplitSeq(rest, ",") {
			t.wanted = append(t.wanted, strings.TrimSpace(word))
		}
	case how == "over" || how == "under":
		t.is = over
		if how == "under" {
			t.is = under
		}
		var err error
		if t.limit, err = size.Parse(rest); err != nil {
			return t, fmt.Errorf("the condition %q: %q is not a number", text, rest)
		}
	case how == "matches":
		if len(rest) > longestPattern {
			return t, fmt.Errorf("a pattern has at most %d characters", longestPattern)
		}
		t.is = matches
		if t.matches, err = regexp.Compile("(?i)" + rest); err != nil {
			return t, fmt.Errorf("the condition %q: %w", text, err)
		}
	default:
		return t, fmt.Errorf("the condition %q must be one of: %s", text, conditionForms)
	}
	return t, nil
}

// Holds reports whether the condition holds. The fields of situations and tags may hold several words.
func (c Condition) Holds(v *Values) bool {
	_, must := c.Known(v, func(Field) bool { return true })
	return must
}

// Known reports whether the condition may hold, and whether it must, for values of which only some are known.
func (c Condition) Known(v *Values, known func(Field) bool) (may, must bool) {
	if len(c.any) == 0 {
		return true, true
	}
	for _, terms := range c.any {
		can, sure := true, true
		for i := range terms {
			switch t := &terms[i]; {
			case !known(t.field):
				sure = false
			case !t.holds(v):
				can, sure = false, false
			}
		}
		may, must = may || can, must || sure
	}
	return may, must
}

func (t *term) holds(v *Values) bool {
	value := v[t.field]
	var yes bool
	switch t.is {
	case over, under:
		n, err := strconv.ParseInt(value, 10, 64)
		yes = err == nil && (t.is == over && n > t.limit || t.is == under && n < t.limit)
	case equal:
		values := []string{value}
		switch t.field {
		case FieldSituation:
			values = strings.Fields(value)
		case FieldTags:
			values = strings.Split(value, "\n")
		}
		yes = slices.ContainsFunc(t.wanted, func(want string) bool {
			return slices.ContainsFunc(values, func(value string) bool { return strings.EqualFold(value, want) })
		})
	case matches:
		yes = t.matches.MatchString(value)
	default:
		yes = value != ""
	}
	return yes != t.not
}

// terms are all single conditions.
func (c Condition) terms() []term { return slices.Concat(c.any...) }

// fields are those that the condition asks for.
func (c Condition) fields() []Field {
	var out []Field
	for _, t := range c.terms() {
		out = append(out, t.field)
	}
	return out
}

// Asks reports whether the condition depends on a field.
func (c Condition) Asks(f Field) bool { return slices.Contains(c.fields(), f) }

// words puts a condition into a clause for people: "when …", "" for none.
func (c Condition) words() string {
	var any []string
	for _, terms := range c.any {
		var out []string
		for i := range terms {
			out = append(out, terms[i].words())
		}
		any = append(any, strings.Join(out, " and "))
	}
	return strings.Join(any, ", or ")
}

// Words puts a condition into a clause for people, "" for none.
func (c Condition) Words() string { return c.words() }

func (t *term) words() string {
	not := ""
	if t.not {
		not = "not "
	}
	limit := strconv.FormatInt(t.limit, 10)
	if t.field == FieldSize || t.field == FieldCapacity {
		limit = amount(t.limit)
	}
	than := map[comparison]string{over: "over ", under: "under "}[t.is]
	switch {
	case than != "" && t.field == FieldSize:
		return "when it is " + not + than + limit
	case than != "" && t.field == FieldCapacity:
		return "when the volume has " + not + than + limit
	case than != "":
		return fmt.Sprintf("when the number of %s is %s%s%s", t.field, not, than, limit)
	case t.is == matches:
		return fmt.Sprintf("when the %s is %slike %s", t.field, not, strings.TrimPrefix(t.matches.String(), "(?i)"))
	case t.is == equal && t.field == FieldSituation:
		return "when " + not + map[string]string{
			"added": "something was added", "removed": "something was removed",
			"direct-cable": "connected by a direct cable",
			"covers":       "covers were copied", "first-time": "filled for the first time",
			"several-discs": "a title has several discs",
		}[t.wanted[0]]
	case t.is == equal && t.field == FieldVia:
		return fmt.Sprintf("when the connection is %s%s", not, all(t.wanted, "or"))
	case t.is == equal && t.field == FieldTags:
		return fmt.Sprintf("when its file's name %shas (%s)", map[bool]string{true: "never "}[t.not],
			all(t.wanted, "or"))
	case t.is == equal:
		return fmt.Sprintf("when the %s is %s%s", t.field, not, all(t.wanted, "or"))
	case t.field == FieldDiscs && t.not:
		return "when it is on one disc"
	case t.field == FieldDiscs:
		return "when it has several discs"
	case t.not:
		return fmt.Sprintf("when there is no %s", t.field)
	}
	return fmt.Sprintf("when there is a %s", t.field)
}
