package intake

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/title"
)

// groupKey is what discs of one game share.
type groupKey struct {
	platform, name, region, id, set string
	of                              int
}

// Group joins the discs of one game, gives every title its key, notes what
// titles have in common, and puts them in order. Its input is one title for each file, and is
// not changed.
func Group(found []title.Title) []title.Title {
	order := make([]*title.Title, len(found))
	for i := range found {
		order[i] = &found[i]
	}
	slices.SortFunc(order, title.CompareSource)
	out := make([]title.Title, 0, len(found))
	sets := map[groupKey]int{} // -> index in out
	for _, t := range order {
		if t.Of == 1 && t.Set == "" {
			out = append(out, *t)
			continue
		}
		key := groupKey{platform: t.Platform, name: t.Name, region: t.Region, of: t.Of}
		if t.Of == 0 && t.Form != title.Tracks {
			key.id = t.ID // discs that do not tell how many there are share their ID
		}
		if t.Set != "" {
			key = groupKey{set: t.Set}
		}
		i, ok := sets[key]
		if ok && !slices.ContainsFunc(out[i].Discs, func(d title.Disc) bool { return d.Number == t.Discs[0].Number }) {
			first := &out[i]
			first.Discs = append(slices.Clone(first.Discs), t.Discs...)
			first.Findings = append(slices.Clone(first.Findings), t.Findings...)
			if t.Set != "" && t.Discs[0].Number < first.Discs[0].Number { // the first disc names a set
				first.Name, first.ID, first.Region, first.Platform, first.Form = t.Name, t.ID, t.Region, t.Platform, t.Form
			}
			continue
		}
		sets[key] = len(out)
		out = append(out, *t)
	}
	ids := make(map[[2]string]int, len(out)) // platform and ID -> first title that has them
	twins := map[string]int{}                // content -> first title that has it
	shared := map[string]bool{}
	for i := range out {
		t := &out[i]
		own := false
		find := func(f title.Finding) {
			if !own {
				t.Findings, own = slices.Clone(t.Findings), true
			}
			t.Findings = append(t.Findings, f)
		}
		if len(t.Discs) > 1 {
			slices.SortFunc(t.Discs, func(a, b title.Disc) int { return a.Number - b.Number })
			t.ID = t.Discs[0].ID
		}
		if t.Of == 0 { // nothing says how many there are, but the last one that is here
			t.Of = t.Discs[len(t.Discs)-1].Number
		}
		if len(t.Discs) < t.Of {
			find(title.Finding{
				Grade: title.Fault, Say: fmt.Sprintf("only %s of %d found", discList(t.Discs), t.Of),
				Remedy: "add the missing disc's image to a source folder",
			})
		}
		twin := -1
		if c := content(&t.Discs[0]); c != "" && t.Among == 0 {
			if first, ok := twins[c]; ok {
				twin = first
				proof := "as far as samples of both tell; verify proves it"
				if strings.Contains(c, ":") {
					proof = "their checksums agree"
				}
				find(title.Finding{Grade: title.Note, Say: fmt.Sprintf("it has the same content as %s: %s", told(&out[first], t), proof),
					Remedy: "keep one of the two, and drop the other"})
			} else {
				twins[c] = i
			}
		}
		t.Key = filepath.Clean(t.Where())
		if t.ID == "" {
			if shared[t.Key] { // several titles in one archive
				t.Key += title.EntryMark + t.Name
			}
			shared[t.Key] = true
			continue
		}
		key := [2]string{t.Platform, t.ID}
		if first, taken := ids[key]; taken {
			if first != twin {
				find(title.Finding{
					Grade: title.Note, Say: fmt.Sprintf("%s has the ID %s too", told(&out[first], t), t.ID),
					Remedy: "keep the one that you want, and drop the other",
				})
			}
			continue
		}
		ids[key] = i
		t.Key = t.ID
	}
	sortTitles(out)
	return out
}

// told is how another title is named in a sentence about t.
func told(other, t *title.Title) string {
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
			return fmt.Sprintf("%d %s", d.File.Size, s)
		}
	}
	if d.Deep == "" {
		return ""
	}
	return fmt.Sprintf("%d %s", d.File.Size, d.Deep)
}

// sortTitles puts titles in the order of [title.Compare].
func sortTitles(all []title.Title) {
	type keyed struct {
		label string
		t     *title.Title
	}
	order := make([]keyed, len(all))
	for i := range all {
		order[i] = keyed{strings.ToLower(all[i].Label()), &all[i]}
	}
	slices.SortFunc(order, func(a, b keyed) int {
		if a.t.Platform == b.t.Platform && a.label != b.label {
			return strings.Compare(a.label, b.label)
		}
		return cmp.Or(title.Compare(a.t, b.t))
	})
	sorted := make([]title.Title, len(all))
	for i := range order {
		sorted[i] = *order[i].t
	}
	copy(all, sorted)
}

func discList(discs []title.Disc) string {
	var s []string
	for _, d := range discs {
		s = append(s, fmt.Sprint(d.Number))
	}
	return "disc " + strings.Join(s, ", ")
}
