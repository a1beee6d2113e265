package scan

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"polytome/internal/core/title"
)

// groupKey is what discs of one game share.
type groupKey struct {
	platform, name, region, id, set string
	of                              int
}

// group joins the discs of one game, gives every title its key, notes what titles have in common, and puts them in
// order. Its input is one title for each file, and is not changed. They are put in order before they are copied, once:
// with 50,000 of them, copying is what takes the time.
func group(found []*title.Title) []title.Title {
	order := make([]*title.Title, 0, len(found))
	var several []*title.Title // discs that may belong to others; their order decides
	for _, t := range found {
		if t.Of == 1 && t.Set == "" {
			order = append(order, t)
		} else {
			several = append(several, t)
		}
	}
	joined := join(several)
	for i := range joined {
		t := &joined[i]
		if len(t.Discs) > 1 {
			t.Discs = slices.Clone(t.Discs)
			slices.SortFunc(t.Discs, func(a, b title.Disc) int { return a.Number - b.Number })
			t.ID = t.Discs[0].ID
		}
		order = append(order, t)
	}
	out := sorted(order)
	ids := make(map[[2]string]int, len(out)) // platform and ID -> the title that keeps them
	twins := map[string]int{}                // content -> the title that keeps it
	inside := map[string]int{}               // keys of titles in archives with others
	for i := range out {
		t := &out[i]
		if t.Of == 0 { // nothing says how many there are, but the last one that is here
			t.Of = t.Discs[len(t.Discs)-1].Number
		}
		if t.ID != "" {
			keepFirst(ids, [2]string{t.Platform, t.ID}, i, out)
		}
		if c := content(&t.Discs[0]); c != "" && t.Among == 0 {
			keepFirst(twins, c, i, out)
		}
	}
	for i := range out {
		t := &out[i]
		own := false
		find := func(f title.Finding) {
			if !own {
				t.Findings, own = slices.Clone(t.Findings), true
			}
			t.Findings = append(t.Findings, f)
		}
		if len(t.Discs) < t.Of {
			find(title.Finding{
				Grade: title.Fault, Say: fmt.Sprintf("only %s of %d found", discList(t.Discs), t.Of),
				Remedy: "add the missing disc's image to a source folder",
			})
		}
		twin := -1
		if c := content(&t.Discs[0]); c != "" && t.Among == 0 && twins[c] != i {
			twin = twins[c]
			check := "by samples of both; verify compares them fully"
			if strings.Contains(c, ":") {
				check = "their checksums agree"
			}
			find(title.Finding{Grade: title.Note, Say: fmt.Sprintf("it has the same content as %s: %s",
				reported(&out[twin], t), check),
				Remedy: "keep one of the two"})
		}
		if t.ID == "" {
			t.Key = t.Where()
			if t.Among > 1 { // one entry may hold several
				if inside[t.Key]++; inside[t.Key] > 1 {
					t.Key += title.EntryMark + fmt.Sprint(inside[t.Key])
				}
			}
			continue
		}
		if first := ids[[2]string{t.Platform, t.ID}]; first == i {
			t.Key = t.ID
		} else {
			t.Key = t.Where()
			if first != twin {
				find(title.Finding{
					Grade: title.Note, Say: fmt.Sprintf("%s has the ID %s too", reported(&out[first], t), t.ID),
					Remedy: "keep the one you want",
				})
			}
		}
	}
	return out
}

// join puts discs together that belong to one title.
func join(several []*title.Title) (out []title.Title) {
	slices.SortFunc(several, title.CompareSource)
	sets := map[groupKey]int{} // -> index in out
	for _, t := range several {
		key := groupKey{platform: t.Platform, name: t.Name, region: t.Region, of: t.Of}
		if t.Of == 0 && t.Form != title.Tracks {
			key.id = t.ID // discs that do not report how many there are share their ID
		}
		if t.Set != "" {
			key = groupKey{set: t.Set}
		}
		i, ok := sets[key]
		if ok && !slices.ContainsFunc(out[i].Discs, func(d title.Disc) bool { return d.Number == t.Discs[0].Number }) {
			first := &out[i]
			if t.Set != "" && t.Discs[0].Number < first.Discs[0].Number { // the first disc names a set
				first.Name, first.ID, first.Region, first.Platform, first.Form = t.Name, t.ID, t.Region, t.Platform,
					t.Form
			}
			first.Discs = append(slices.Clone(first.Discs), t.Discs...)
			first.Findings = slices.Clone(first.Findings)
			for _, f := range t.Findings {
				if !slices.Contains(first.Findings, f) {
					first.Findings = append(first.Findings, f)
				}
			}
			continue
		}
		sets[key] = len(out)
		out = append(out, *t)
	}
	return out
}

// keepFirst notes which of the titles with something in common is the first by its files.
func keepFirst[K comparable](m map[K]int, key K, i int, all []title.Title) {
	if first, ok := m[key]; !ok || title.CompareSource(&all[i], &all[first]) < 0 {
		m[key] = i
	}
}

// reported is how another title is named in a sentence about t.
func reported(other, t *title.Title) string {
	name := filepath.Base(other.Source())
	if name == filepath.Base(t.Source()) {
		return filepath.Join(filepath.Base(filepath.Dir(other.Source())), name)
	}
	return name
}

// content tells two files with the same content by: a checksum of all of it, or samples.
func content(d *title.Disc) string {
	for s := range strings.FieldsSeq(d.Sums) {
		if strings.HasPrefix(s, "sha1:") || strings.HasPrefix(s, "sha256:") {
			return fmt.Sprintf("%d %s", d.Size(), s)
		}
	}
	if d.Deep == "" {
		return ""
	}
	return fmt.Sprintf("%d %s", d.Size(), d.Deep)
}

// sorted copies titles in the order of [title.Compare].
func sorted(all []*title.Title) []title.Title {
	type keyed struct {
		platform, label string
		t               *title.Title
	}
	order := make([]keyed, len(all))
	for i := range all {
		order[i] = keyed{all[i].Platform, strings.ToLower(all[i].Label()), all[i]}
	}
	compare := func(a, b keyed) int {
		if a.platform == b.platform && a.label != b.label {
			return strings.Compare(a.label, b.label)
		}
		return title.Compare(a.t, b.t)
	}
	// Two halves at the same time, as this is what a second scan spends most of its time on.
	half := len(order) / 2
	var left sync.WaitGroup
	left.Go(func() { slices.SortFunc(order[:half], compare) })
	slices.SortFunc(order[half:], compare)
	left.Wait()
	out := make([]title.Title, 0, len(all))
	a, b := order[:half], order[half:]
	for len(a) > 0 && len(b) > 0 {
		if compare(b[0], a[0]) < 0 {
			out, b = append(out, *b[0].t), b[1:]
		} else {
			out, a = append(out, *a[0].t), a[1:]
		}
	}
	for _, k := range append(a[:len(a):len(a)], b...) {
		out = append(out, *k.t)
	}
	return out
}

func discList(discs []title.Disc) string {
	var s []string
	for _, d := range discs {
		s = append(s, fmt.Sprint(d.Number))
	}
	return "disc " + strings.Join(s, ", ")
}
