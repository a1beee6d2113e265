package infer

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"polytome/internal/core/loader"
)

// An atom is a field with what is made of it, and what that is in each row.
type atom struct {
	text   string
	cost   int
	values []string
}

// A change is what may be made of a value, as it stands behind a field, with what it costs.
type change struct {
	text string
	cost int
}

// The changes that are tried on texts and on numbers.
var (
	textChanges   = sync.OnceValue(func() []change { return changes(false) })
	numberChanges = sync.OnceValue(func() []change { return changes(true) })
)

func changes(number bool) (out []change) {
	add := func(text string, cost int) { out = append(out, change{text, cost}) }
	cases := func(text string, cost int) {
		add(text, cost)
		add(text+"|upper", cost+2)
		add(text+"|lower", cost+2)
	}
	add("", 0)
	if number {
		cases("|letters", 5)
		for n := 2; n <= 8; n++ {
			add("|pad:"+strconv.Itoa(n), 2)
		}
		for n := 1; n <= 8; n++ {
			cases("|hex:"+strconv.Itoa(n), 4)
		}
		for _, unit := range []string{"KiB", "MiB", "GiB", "MB"} {
			add("|unit:"+unit, 4)
		}
		for _, n := range []int{512, 1024, 2048, 4096, 8192, 16384, 32768, 65536} {
			add("|blocks:"+strconv.Itoa(n), 5)
		}
		for _, k := range []int{-1, 1, -2, 2, 3, 4, 5, 9, 10, 49, 50, 99, 100, 999, 1000} {
			more := "|add:" + strconv.Itoa(k)
			cost := 6 + min(4, max(k, -k))
			add(more, cost)
			cases(more+"|letters", cost+5)
			for n := 2; n <= 4; n++ {
				add(more+"|pad:"+strconv.Itoa(n), cost+2)
				cases(more+"|hex:"+strconv.Itoa(n), cost+4)
			}
		}
		return out
	}
	add("|upper", 2)
	add("|lower", 2)
	add("|ascii", 4)
	add("|slug", 4)
	cases("|letter", 3)
	for n := 2; n <= 13; n++ {
		cases("|group:"+strconv.Itoa(n), 4)
	}
	for n := 1; n <= 8; n++ {
		cases("|sub:0:"+strconv.Itoa(n), 6)
		cases("|sub:-"+strconv.Itoa(n), 6)
		cases("|sub:"+strconv.Itoa(n), 6)
	}
	for _, pair := range []string{" :_", " :-", " :", " :.", "-:", "-:_", "_:", "_:-", "-:."} {
		cases("|replace:"+pair, 5)
	}
	for n := 4; n <= 40; n++ {
		cases("|max:"+strconv.Itoa(n), 7)
	}
	for _, sum := range []string{"crc16", "crc32", "md5", "sha1", "sha256"} {
		add("|hash:"+sum, 9)
		add("|hash:"+sum+"|upper", 10)
	}
	return out
}

// Numbers are the fields that are numbers.
var Numbers = []loader.Field{loader.FieldDisc, loader.FieldDiscs, loader.FieldIndex, loader.FieldPage,
	loader.FieldNumber, loader.FieldSize, loader.FieldParts, loader.FieldYear, loader.FieldOffset}

// fieldCost is what a field costs: those that names are made of are the likeliest.
func fieldCost(f loader.Field) int {
	switch f {
	case loader.FieldID, loader.FieldTitle, loader.FieldFile, loader.FieldNumber:
		return 3
	case loader.FieldPage, loader.FieldDisc, loader.FieldDiscs: // even where there is a second one only
		return 1
	case loader.FieldName, loader.FieldIndex, loader.FieldBase, loader.FieldExt, loader.FieldFolder:
		return 4
	}
	return 5
}

// parsed are the templates of fields with changes, which are needed again and again.
var parsed sync.Map // of the template's text -> loader.Text

func templateOf(text string) (loader.Text, bool) {
	if t, ok := parsed.Load(text); ok {
		return t.(loader.Text), true
	}
	var t loader.Text
	if t.UnmarshalText([]byte(text)) != nil {
		return t, false
	}
	parsed.Store(text, t)
	return t, true
}

// atomsOf are all that may stand in the texts: what is the same in all rows is not worth a field, and of two that are
// the same everywhere the simpler one counts.
func atomsOf(rows []Row, o *Options, fold func(string) string) (out []atom) {
	seen := map[string]int{}
	alone := ofOneTitle(rows)
	for _, f := range o.Fields {
		some := slices.ContainsFunc(rows, func(r Row) bool { return r.Values[f] != "" })
		if !some {
			continue
		}
		all := textChanges()
		if slices.Contains(Numbers, f) {
			all = numberChanges()
		}
		for _, c := range all {
			if o.Simple && (strings.Contains(c.text, "hash") || strings.Contains(c.text, "add:") ||
				strings.Contains(c.text, "blocks")) {
				continue
			}
			a := atom{text: "{" + f.String() + c.text + "}", cost: fieldCost(f) + c.cost}
			if f == loader.FieldDisc && c.text == "|letters" {
				a.cost = 2
			}
			t, ok := templateOf(a.text)
			if !ok {
				continue
			}
			fits, same, stands := true, len(rows) > 1, false
			for i := range rows {
				v := ""
				if rows[i].Values[f] != "" {
					if v = fold(t.FillEscaped(&rows[i].Values, nil, o.Escape)); v == "" {
						fits = false
						break
					}
				}
				a.values = append(a.values, v)
				same = same && a.values[0] == v
				stands = stands || v != "" && strings.Contains(fold(rows[i].Text), v)
			}
			if fits && same && alone && names(f) && len(a.values[0]) > 3 && len(c.text) < len("|upper")+1 {
				same = false
			}
			if c.text == "" && slices.Contains(o.Said, f) {
				same = false
			}
			if !fits || same || !stands {
				continue
			}
			key := strings.Join(a.values, "\x01")
			if k, ok := seen[key]; ok {
				if out[k].cost > a.cost {
					out[k] = a
				}
				continue
			}
			seen[key] = len(out)
			out = append(out, a)
		}
	}
	slices.SortStableFunc(out, func(a, b atom) int { return a.cost - b.cost })
	return out
}

// ofOneTitle reports whether all rows are of one title: its names are then the same in all of them, and worth a field
// nevertheless. Files of several titles may well have one name (`a/game.bin`, `b/game.bin`), which tells nothing.
func ofOneTitle(rows []Row) bool {
	for i := range rows {
		for _, f := range []loader.Field{loader.FieldID, loader.FieldTitle, loader.FieldName} {
			if rows[i].Values[f] != rows[0].Values[f] {
				return false
			}
		}
	}
	return true
}

// names reports whether a field is another one in each title.
func names(f loader.Field) bool {
	return f == loader.FieldID || f == loader.FieldTitle || f == loader.FieldName || f == loader.FieldBase ||
		f == loader.FieldFile
}

// mostMeanings is how many values a table has.
const mostMeanings = 8

// tableWord is what values stand for: words, without what rules write around them.
var tableWord = regexp.MustCompile(`^[\p{L}\p{N}]([\p{L}\p{N} _+-]*[\p{L}\p{N}+])?$`)

// table takes what stands next for the few values of a field, where each has its own text.
func (s *search) table(x *state, f loader.Field, active []bool, next func(*state)) {
	if f != loader.FieldKind && f != loader.FieldRegion && f != loader.FieldPlatform {
		return
	}
	for _, ends := range []string{"/", "/ ._-()[]{}+#,;|\t\r\n"} {
		means, rows := map[string]string{}, 0
		at := slices.Clone(x.at)
		ok := true
		for i, on := range active {
			if !on {
				continue
			}
			rest := s.texts[i][x.at[i]:]
			if n := strings.IndexAny(rest, ends); n >= 0 {
				rest = rest[:n]
			}
			v := s.rows[i].Values[f]
			if was, seen := means[v]; v == "" || seen && was != rest || strings.ContainsAny(v, ":=|{}") ||
				!tableWord.MatchString(rest) {
				ok = false
				break
			}
			means[v] = rest
			at[i] += uint16(len(rest))
			rows++
		}
		texts := map[string]bool{}
		for _, text := range means {
			texts[text] = true
		}
		if !ok || len(texts) < 2 || len(means) > mostMeanings || rows < len(means)*2 {
			continue
		}
		var pairs []string
		plain := true
		for v, to := range means {
			pairs = append(pairs, v+"="+to)
			plain = plain && s.fold(v) == to
		}
		if plain {
			continue
		}
		slices.Sort(pairs)
		next(&state{at: at, branch: x.branch, cost: x.cost + fieldCost(f) + 4 + 4*len(pairs), from: x,
			add: "{" + f.String() + "|table:" + strings.Join(pairs, ":") + "}"})
	}
}
