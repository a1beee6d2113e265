package scan

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/title"
	"polytome/internal/core/titlelist"
)

// fixer makes the titles that the user sees out of what the files tell: with what was set by
// hand, what the lists know, and what was checked.
type fixer struct {
	edits  []title.Edit
	list   *titlelist.List
	checks checks
}

// byHand is the evidence of a value that the user has set.
const byHand = "set by hand"

// assemble joins the discs of one game and completes the titles. Its input is one title for each
// file, and is not changed.
func (m *fixer) assemble(found []*title.Title) (titles, dropped []title.Title) {
	edits := m.find(found)
	kept := make([]*title.Title, 0, len(found))
	for i, t := range found {
		if e := edits[i]; e != nil {
			changed := edited(*t, e)
			if e.Drop {
				dropped = append(dropped, changed)
				continue
			}
			t = &changed
		}
		if len(m.checks.all) > 0 {
			t = m.checked(t)
		}
		kept = append(kept, t)
	}
	titles = group(kept)
	if m.list != nil && len(m.list.Rows) > 0 {
		for i := range titles {
			m.listed(&titles[i])
		}
		again := make([]*title.Title, len(titles))
		for i := range titles {
			again[i] = &titles[i]
		}
		titles = sorted(again)
	}
	for i := range dropped {
		dropped[i].Key = dropped[i].Where()
	}
	return titles, dropped
}

// find matches the edits to what was found: by the file, or by the signature of one that was
// moved. The result is by index in found; nil when there are no edits.
func (m *fixer) find(found []*title.Title) map[int]*title.Edit {
	if len(m.edits) == 0 {
		return nil
	}
	at := map[string]int{}
	signed := map[string][]int{}
	for i := range found {
		at[found[i].Where()] = i
		if s := found[i].Discs[0].Sign; s != "" && found[i].Among == 0 {
			signed[s] = append(signed[s], i)
		}
	}
	out := map[int]*title.Edit{}
	var lost []*title.Edit
	for k := range m.edits {
		e := &m.edits[k]
		if i, ok := at[e.File]; ok {
			out[i] = e
		} else {
			lost = append(lost, e)
		}
	}
	for _, e := range lost {
		if all := signed[e.Sign]; e.Sign != "" && len(all) == 1 && out[all[0]] == nil {
			out[all[0]] = e
		}
	}
	return out
}

// edited is a title with what was set by hand.
func edited(t title.Title, e *title.Edit) title.Title {
	t.Discs = slices.Clone(t.Discs)
	t.Findings = slices.Clone(t.Findings)
	d := &t.Discs[0]
	d.Evidence = slices.Clone(d.Evidence)
	set := func(field, value string) {
		d.Evidence = slices.DeleteFunc(d.Evidence, func(v title.Evidence) bool { return v.Field == field })
		from := byHand
		if slices.Contains(e.Locked, field) {
			from = "set by hand, locked"
		}
		d.Evidence = append(d.Evidence, title.Evidence{Field: field, Value: value, From: from})
	}
	for _, field := range title.Editable {
		if v := *e.Value(field); v != "" {
			*t.Value(field) = v
			set(field, v)
		}
	}
	if e.ID != "" {
		d.ID = e.ID
	}
	// what could not be reported is reported now
	t.Findings = slices.DeleteFunc(t.Findings, func(f title.Finding) bool {
		v := e.Value(f.Wants)
		return v != nil && *v != "" && (f.Wants != "platform" || t.Name != "")
	})
	t.Locked = e.Locked
	d.Chosen = e.Pictures
	switch {
	case e.Alone:
		d.Number, t.Of, t.Set = 1, 1, ""
	case e.Set != "":
		t.Set = e.Set
		if e.Disc > 0 {
			d.Number = e.Disc
			set("disc", fmt.Sprint(e.Disc))
		}
		t.Of = 0
	case e.Disc > 0:
		d.Number = e.Disc
		set("disc", fmt.Sprint(e.Disc))
	}
	return t
}

// checked is the title with what reading its files from end to end has shown.
func (m *fixer) checked(was *title.Title) *title.Title {
	t := was
	d := &t.Discs[0]
	files := []*title.File{&d.File}
	for i := range d.Parts {
		if d.Parts[i].File.Entry == "" {
			files = append(files, &d.Parts[i].File)
		}
	}
	for i := range d.Volumes {
		files = append(files, &d.Volumes[i])
	}
	own := false
	for n, f := range files {
		sign := ""
		if n == 0 {
			sign = d.Sign
		}
		c, ok := m.checks.of(f.Path, f.Size, modified(f.Modified), sign)
		if !ok {
			continue
		}
		if !own {
			changed := *was
			t = &changed
			t.Discs = slices.Clone(t.Discs)
			d = &t.Discs[0]
			d.Evidence, t.Findings, own = slices.Clone(d.Evidence), slices.Clone(t.Findings), true
		}
		if n == 0 {
			d.Sums = c.Sums
			from := "reading it all on " + time.Unix(c.At, 0).Format("2 Jan 2006")
			for s := range strings.FieldsSeq(c.Sums) {
				if a, v, ok := strings.Cut(s, ":"); ok {
					d.Evidence = append(d.Evidence, title.Evidence{Field: a, Value: v, From: from})
				}
			}
		}
		if c.Finding != "" {
			t.Findings = append(t.Findings, fault(base(f.Path)+": "+c.Finding, "get or copy it again"))
		}
		if c.Doubt != "" {
			t.Findings = append(t.Findings, title.Finding{Grade: title.Suspicion, Say: base(f.Path) + ": " + c.Doubt,
				Remedy: "compare it with another copy, or with a published checksum"})
		}
	}
	return t
}

// listed takes over what a list of titles tells. What the user has set by hand stays.
func (m *fixer) listed(t *title.Title) {
	var known []string
	for s := range strings.FieldsSeq(t.Discs[0].Sums) {
		if _, v, ok := strings.Cut(s, ":"); ok {
			known = append(known, v)
		}
	}
	row, by := m.list.Find(t, known)
	if row == nil {
		return
	}
	d := &t.Discs[0]
	hand := func(field string) bool {
		return slices.ContainsFunc(d.Evidence, func(v title.Evidence) bool {
			return v.Field == field && strings.HasPrefix(v.From, byHand)
		}) || slices.Contains(t.Locked, field)
	}
	var ev []title.Evidence
	for _, f := range []struct {
		field, value string
	}{{"name", row.Name}, {"ID", row.ID}, {"region", row.Region}, {"year", row.Year}, {"players", row.Players},
		{"publisher", row.Publisher}, {"text", row.Text}} {
		into := t.Value(f.field)
		if f.value == "" || hand(f.field) || f.field == "ID" && t.ID != "" {
			continue
		}
		*into = f.value
		ev = append(ev, title.Evidence{Field: f.field, Value: f.value, From: fmt.Sprintf("%s, line %d, found by %s",
			row.File, row.Line, by)})
	}
	if len(ev) == 0 {
		return
	}
	t.Discs = slices.Clone(t.Discs)
	d = &t.Discs[0]
	old := slices.DeleteFunc(slices.Clone(d.Evidence), func(v title.Evidence) bool {
		return slices.ContainsFunc(ev, func(n title.Evidence) bool { return n.Field == v.Field })
	})
	d.Evidence = append(old, ev...)
	if d.ID == "" && t.ID != "" {
		d.ID = t.ID
		t.Key = keyOf(t)
	}
}

// readList reads a list of titles; what is wrong with it is a problem.
func (s *scan) readList(file string) {
	f, err := os.Open(file)
	if err != nil {
		s.problem(file, err)
		return
	}
	defer f.Close()
	if err := s.list.Read(file, f); err != nil {
		for _, e := range split(err) {
			s.problems = append(s.problems, Problem{file, strings.TrimPrefix(strings.TrimPrefix(e.Error(), file),
				": ")})
		}
	}
}

// split takes joined errors apart.
func split(err error) []error {
	if j, ok := err.(interface{ Unwrap() []error }); ok {
		return j.Unwrap()
	}
	return []error{err}
}

// keyOf is how the title is named on a bench when no one else has its ID.
func keyOf(t *title.Title) string {
	if t.ID != "" {
		return t.ID
	}
	return t.Where()
}
