package learn

import (
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

// shapes are transforms that folders are often made by, with what each costs: the simplest that explains all counts.
var shapes = func() (out []string) {
	out = []string{"", "upper", "lower", "slug", "letter", "letter|lower"}
	for n := 2; n <= 13; n++ {
		out = append(out, "group:"+strconv.Itoa(n))
	}
	for n := 1; n <= 6; n++ {
		out = append(out, "sub:0:"+strconv.Itoa(n), "sub:"+strconv.Itoa(n), "sub:-"+strconv.Itoa(n))
	}
	return append(out, "replace: :_", "replace: :-", "replace: :", "lower|replace: :_", "upper|replace: :_")
}()

// made are templates of one field, parsed once.
var made = func() map[string]loader.Template {
	out := map[string]loader.Template{}
	for _, field := range []string{"id", "title", "region", "kind"} {
		for _, shape := range shapes {
			text := "{" + strings.TrimSuffix(field+"|"+shape, "|") + "}"
			if t, err := loader.ParseTemplate("x" + text); err == nil {
				out[text] = t
			}
		}
	}
	return out
}()

var leadingNumber = regexp.MustCompile(`^([0-9]{1,4})([ ._-]+)(.+)$`)

// ways are the templates that one part of a sample's path may have been made by, with what each costs.
func (s *student) ways(x *sample, part string, last bool, suffix string) map[string]int {
	out := s.plainWays(x, part, last)
	if !last || suffix == "" {
		return out
	}
	ext := ""
	if x.t.Form != title.Folder {
		ext = path.Ext(part)
	}
	base := strings.TrimSuffix(part, ext)
	if x.t.Of > 1 {
		cut, ok := strings.CutSuffix(base, strings.NewReplacer("{disc}", strconv.Itoa(x.of().Number), "{discs}",
			strconv.Itoa(x.t.Of)).Replace(suffix))
		if !ok {
			return out
		}
		base = cut
	}
	as := literal(ext)
	if x.t.Form == title.Cartridge || x.t.Form == title.Package {
		as = "{ext}"
	}
	for way, cost := range s.plainWays(x, base+ext, last) {
		before := strings.TrimSuffix(strings.ReplaceAll(way, discMark, ""), as)
		out[before+"{if disc}"+suffix+"{end}"+as] = cost + 3
	}
	return out
}

// suffixOf is what stands behind the names of a title's discs, as a template: the number in it is that of the disc.
func suffixOf(all []*sample) string {
	count := map[string]int{}
	for _, x := range all {
		for _, o := range all {
			if o.t != x.t || o.disc != x.disc+1 {
				continue
			}
			a, b := path.Base(x.path), path.Base(o.path)
			a, b = strings.TrimSuffix(a, path.Ext(a)), strings.TrimSuffix(b, path.Ext(b))
			at := 0
			for at < min(len(a), len(b)) && a[at] == b[at] {
				at++
			}
			number := strconv.Itoa(x.of().Number)
			if !strings.HasPrefix(a[at:], number) || !strings.HasPrefix(b[at:], strconv.Itoa(o.of().Number)) {
				continue
			}
			from := at
			for from > 0 && strings.ContainsRune(" -_.([{", rune(a[from-1])) {
				from--
			}
			if open := strings.LastIndexAny(a[:from], "(["); strings.ContainsAny(a[at:], ")]") && open > 0 &&
				!strings.ContainsAny(a[from:at], "([") { // a word stands between
				for from = open; from > 0 && strings.ContainsRune(" -_.", rune(a[from-1])); {
					from--
				}
			}
			if from == 0 || from == at && at == len(a)-1 {
				continue
			}
			behind := strings.Replace(literal(a[at+len(number):]), strconv.Itoa(x.t.Of), "{discs}", 1)
			count[literal(a[from:at])+"{disc}"+behind]++
		}
	}
	best := ""
	for s, n := range count {
		if n > count[best] || n == count[best] && s < best {
			best = s
		}
	}
	return best
}

// plainWays are those of a part in which no number of a disc is looked for.
func (s *student) plainWays(x *sample, part string, last bool) map[string]int {
	out := map[string]int{literal(part): 1}
	base, ext := part, ""
	if last && x.t.Form != title.Folder {
		ext = path.Ext(part)
		base = strings.TrimSuffix(part, ext)
		if x.t.Form == title.Cartridge || x.t.Form == title.Package {
			ext = "{ext}"
		}
		out = map[string]int{literal(base) + literal(ext): 1}
	}
	d := x.of()
	name, _ := layout.Naming{Permits: func(r rune) bool {
		return !strings.ContainsRune(s.look.Facts.Filesystem.Forbidden, r)
	}}.Name(x.t.Name)
	v := loader.Values{loader.FieldID: x.t.ID, loader.FieldTitle: name, loader.FieldRegion: x.t.Region,
		loader.FieldKind: d.Kind}
	if d.ID != "" {
		v[loader.FieldID] = d.ID
	}
	for _, field := range []loader.Field{loader.FieldID, loader.FieldTitle, loader.FieldKind, loader.FieldRegion} {
		if v[field] == "" {
			continue
		}
		for n, shape := range shapes {
			text := "{" + strings.TrimSuffix(field.String()+"|"+shape, "|") + "}"
			if made[text].Fill(&v) == "x"+base {
				out[text+literal(ext)] = 2 + n
			}
		}
	}
	out[s.part(x, part, last)] = 4
	if m := leadingNumber.FindStringSubmatch(base); m != nil {
		pad := ""
		if m[1][0] == '0' {
			pad = "|pad:" + strconv.Itoa(len(m[1]))
		}
		rest := s.part(x, m[3]+strings.TrimPrefix(part, base), last)
		if strings.Contains(rest, "{title") || strings.Contains(rest, "{id") {
			out["{number"+pad+"}"+literal(m[2])+rest] = 8
			if len(m[1]) > 1 {
				out["{number|pad:"+strconv.Itoa(len(m[1]))+"}"+literal(m[2])+rest] = 9
			}
		}
	}
	return out
}

// general finds one template for all samples: for each part of their paths the way that explains the most. It returns
// the samples that it explains.
func (s *student) general(all []*sample) (tpl string, agree []*sample) {
	depths := map[int]int{}
	for _, x := range all {
		depths[strings.Count(x.path, "/")]++
	}
	depth := 0
	for d, n := range depths {
		if n > depths[depth] || n == depths[depth] && d < depth {
			depth = d
		}
	}
	var of []*sample
	for _, x := range all {
		if strings.Count(x.path, "/") == depth {
			of = append(of, x)
		}
	}
	explained := make([]bool, len(of))
	for i := range explained {
		explained[i] = true
	}
	suffix := suffixOf(of)
	var parts []string
	for k := range depth + 1 {
		count, cost := map[string]int{}, map[string]int{}
		ways := make([]map[string]int, len(of))
		for i, x := range of {
			ways[i] = s.ways(x, strings.Split(x.path, "/")[k], k == depth, suffix)
			for w, c := range ways[i] {
				count[w]++
				cost[w] = max(cost[w], c)
			}
		}
		best := ""
		for w, n := range count {
			if best == "" || n > count[best] || n == count[best] && (cost[w] < cost[best] || cost[w] == cost[best] &&
				w < best) {
				best = w
			}
		}
		parts = append(parts, best)
		for i := range of {
			_, ok := ways[i][best]
			explained[i] = explained[i] && ok
		}
	}
	for i, x := range of {
		if explained[i] {
			agree = append(agree, x)
		}
	}
	return strings.Join(parts, "/"), agree
}

// numbersRun reports whether running numbers of samples follow the order of their titles, in each folder.
func numbersRun(all []*sample) bool {
	last := map[string]int{}
	sorted := slices.Clone(all)
	slices.SortFunc(sorted, func(a, b *sample) int {
		return strings.Compare(strings.ToUpper(a.t.Name), strings.ToUpper(b.t.Name))
	})
	for _, x := range sorted {
		for part := range strings.SplitSeq(x.path, "/") {
			m := leadingNumber.FindStringSubmatch(part)
			if m == nil {
				continue
			}
			n, _ := strconv.Atoi(m[1])
			dir := strings.SplitN(x.path, part, 2)[0]
			if n < last[dir] {
				return false
			}
			last[dir] = n
			break
		}
	}
	return true
}
