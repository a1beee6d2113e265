package learn

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/size"
)

// A numbering is one way in which samples may have got running numbers.
type numbering struct {
	numbers []string // by sample
	how     string   // in-order, append
	order   string   // of the list, where they follow it
}

// numberings are those to try: the numbers that stand in front of names, and the place that each title has in its
// folder, in the orders that lists have. Split are titles whose own path is nowhere to be seen.
func numberings(all, split []*sample) (out []numbering) {
	depth := 0
	for _, x := range all {
		depth = max(depth, strings.Count(x.path, "/"))
	}
	for k := -2; k <= depth; k++ {
		if n, ok := readNumbers(all, k); ok {
			out = append(out, n)
		}
	}
	all = append(slices.Clone(all), split...)
	for _, order := range orders {
		for k := range depth + 1 {
			for _, perDisc := range []bool{false, true} {
				if n := ranks(all, k, order, perDisc); !slices.ContainsFunc(out, func(o numbering) bool {
					return slices.Equal(o.numbers, n)
				}) {
					out = append(out, numbering{n, "in-order", order})
				}
			}
		}
	}
	return out
}

// readNumbers takes the numbers that stand in front of names so deep in the paths, -1 for the last name; how they came
// about shows in the order of the titles in each folder.
func readNumbers(all []*sample, k int) (numbering, bool) {
	n := numbering{numbers: make([]string, len(all)), how: "append"}
	at := make([]string, len(all))
	same := map[string]string{}
	for i, x := range all {
		parts := strings.Split(x.path, "/")
		depth := min(k, len(parts)-1)
		if k < 0 {
			depth = max(0, len(parts)+k)
		}
		part := parts[depth]
		m := leading.FindString(part)
		if m == "" || len(m) == len(part) {
			return n, false
		}
		v, _ := strconv.Atoi(m)
		n.numbers[i], at[i] = strconv.Itoa(v), strings.ToUpper(strings.Join(parts[:depth], "/"))
		if was, ok := same[at[i]+"\x00"+n.numbers[i]]; ok && was != x.t.Key { // two titles have one number
			return n, false
		}
		same[at[i]+"\x00"+n.numbers[i]] = x.t.Key
	}
	for _, order := range orders {
		follows := true
		for i := range all {
			for j := range all {
				a, _ := strconv.Atoi(n.numbers[i])
				b, _ := strconv.Atoi(n.numbers[j])
				if at[i] == at[j] && a < b && strings.Compare(sortedBy(all[i], order), sortedBy(all[j], order)) > 0 {
					follows = false
				}
			}
		}
		if follows {
			n.how, n.order = "in-order", order
			break
		}
	}
	return n, true
}

// orders are those of lists that numbers may follow.
var orders = []string{"title", "id", "kind"}

// sortedBy is by what a list in that order sorts a title.
func sortedBy(x *sample, order string) string {
	v := strings.ToUpper(x.t.Name)
	switch order {
	case "id":
		v = strings.ToUpper(x.t.ID) + "\x00" + v
	case "kind":
		v = strings.ToUpper(x.t.Discs[0].Kind) + "\x00" + v
	}
	return v + "\x00" + x.t.Key
}

var leading = regexp.MustCompile(`^[0-9]{1,4}`)

// ranks counts titles, or their discs, in each of the folders that lie so deep, in the order of a list.
func ranks(all []*sample, depth int, order string, perDisc bool) []string {
	sorted := slices.Clone(all)
	slices.SortStableFunc(sorted, func(a, b *sample) int {
		if n := strings.Compare(sortedBy(a, order), sortedBy(b, order)); n != 0 {
			return n
		}
		return cmp.Compare(a.disc, b.disc)
	})
	count, last := map[string]int{}, map[string]string{}
	number := map[*sample]int{}
	for _, x := range sorted {
		parts := strings.Split(x.where(), "/")
		at := strings.ToUpper(strings.Join(parts[:min(depth, len(parts)-1)], "/"))
		if perDisc || last[at] != x.t.Key {
			count[at]++
		}
		last[at] = x.t.Key
		number[x] = count[at]
	}
	out := make([]string, len(all))
	for i, x := range all {
		out[i] = strconv.Itoa(number[x])
	}
	return out
}

var numbered = regexp.MustCompile(`^(.*[^0-9]|)([0-9]{1,4})$`)

// pages are the numbers of the further folders in which samples lie, "" for none: folders that are alike but for their
// number, and that some samples do without.
func pages(all []*sample) []string {
	out := make([]string, len(all))
	least := strings.Count(all[0].where(), "/")
	for _, x := range all {
		least = min(least, strings.Count(x.where(), "/"))
	}
	stem, none := "", 0
	for i, x := range all {
		parts := strings.Split(x.where(), "/")
		if len(parts)-1 == least {
			none++
			continue
		}
		found := false
		for _, part := range parts[:len(parts)-1] {
			if m := numbered.FindStringSubmatch(part); m != nil && m[2] != "1" && m[1] != "" &&
				(stem == "" || stem == m[1]) {
				stem, out[i], found = m[1], m[2], true
				break
			}
		}
		if !found {
			return make([]string, len(all))
		}
	}
	if none == 0 || stem == "" {
		return make([]string, len(all))
	}
	return out
}

// paged finds out whether folders go on in numbered ones, and how many titles one takes.
func (s *student) paged(r *Rule, all []*sample) {
	if !strings.Contains(r.Path, "{page") {
		return
	}
	page := pages(all)
	entries := map[string]map[string]bool{}
	for i, x := range all {
		parts := strings.Split(x.where(), "/")
		at := len(parts) - 1
		for k, part := range parts[:len(parts)-1] {
			if m := numbered.FindStringSubmatch(part); page[i] != "" && m != nil && m[2] == page[i] {
				at = k + 1
				break
			}
		}
		if page[i] == "" { // the folder that has the pages
			at = s.before(r, x)
		}
		dir := strings.Join(parts[:at], "/")
		if entries[dir] == nil {
			entries[dir] = map[string]bool{}
		}
		entries[dir][x.t.Key] = true
	}
	for _, e := range entries {
		r.Overflow = max(r.Overflow, len(e))
	}
	s.find(Likely, fmt.Sprintf("a folder takes %s, and more go to further ones", size.Count(r.Overflow, "title")),
		"the fullest folder of %s holds that many, and there are further ones", r.Platforms[0])
}

// before is how many folders of a sample's path stand in front of that of its page.
func (s *student) before(r *Rule, x *sample) int {
	var t loader.Template
	if t.UnmarshalText([]byte(r.Path)) != nil {
		return strings.Count(x.where(), "/")
	}
	v := x.values
	v[loader.FieldTitle], _ = s.naming(r.naming).Name(x.t.Name)
	v[loader.FieldPage] = "2"
	text, _ := t.Before(loader.FieldPage, &v)
	return strings.Count(path.Clean(text+"x"), "/")
}

// where is the path of a sample, or of its first part.
func (x *sample) where() string {
	if x.path == "" && len(x.parts) > 0 {
		return x.parts[0]
	}
	return x.path
}
