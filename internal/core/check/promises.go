package check

import (
	"fmt"
	"strings"

	"polytome/internal/core/fit"
	"polytome/internal/core/fix"
	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/size"
)

// fewPromises is up to how many titles that are not there are reported one by one.
const fewPromises = 6

// promises looks for what was promised and is not there whole.
func (y *loaderAudit) promises() {
	if y.o.Promises == nil {
		return
	}
	type lost struct {
		f     Finding
		files int // of the title that are not there
		of    int
	}
	titles := map[string]*lost{} // a title of many files is reported once
	var order []string
	for _, p := range y.o.Promises(y.profile) {
		key := p.Key
		if key == "" {
			key = p.Path
		}
		t := titles[key]
		if t == nil {
			t = &lost{}
			titles[key] = t
			order = append(order, key)
		}
		t.of++
		e, ok := y.tree.file(p.Path)
		if ok && (p.Size < 0 || e.Size == p.Size) {
			continue
		}
		if t.files++; t.files > 1 {
			continue
		}
		t.f = Finding{Kind: Promised, Grade: Fault, Path: p.Path, Title: p.Label,
			Remedy: "run again: only what is missing is copied"}
		if p.Key != "" {
			t.f.Fixes = []fix.Fix{{Do: fix.Copy, Path: p.Path, Title: p.Key}}
		}
		if t.f.Say = p.Label + " should be here but is not"; ok {
			t.f.Say = fmt.Sprintf("%s should have %s but has %s", p.Label, size.Format(p.Size), size.Format(e.Size))
			t.f.Remedy = "copy it here again: what is there is replaced"
		}
	}
	var missing []*lost
	for _, key := range order {
		if t := titles[key]; t.files > 0 {
			missing = append(missing, t)
		}
	}
	if len(missing) > fewPromises { // most likely nothing was written yet
		var names []string
		var fixes []fix.Fix
		for _, t := range missing {
			if len(names) < 3 {
				names = append(names, t.f.Title)
			}
			fixes = append(fixes, t.f.Fixes...)
		}
		y.report(Finding{Kind: Promised, Grade: Fault, Title: missing[0].f.Title,
			Say: fmt.Sprintf("%s selected here are missing or incomplete: %s, …", size.Count(len(missing), "title"),
				strings.Join(names, ", ")), Remedy: "run again: only what is missing is copied", Fixes: fixes})
		return
	}
	for _, t := range missing {
		if t.files > 0 {
			if t.files > 1 || t.files < t.of {
				t.f.Say += fmt.Sprintf(": %d of its %s", t.files, size.Count(t.of, "file"))
			}
			y.report(t.f)
		}
	}
}

// Promises lists what a sheet says will be on the target for one of its loaders.
func Promises(sheet *fit.Sheet, of *loader.Profile) []Promise {
	var out []Promise
	for i := range sheet.Titles() {
		if !sheet.Chosen[i] || sheet.Loader(i).Profile != of || !sheet.Verdict(i).Kind.Goes() {
			continue
		}
		for _, item := range sheet.Placement(i).Items {
			if item.AtMost && item.Offset > 0 {
				continue // a part that there may be nothing for
			}
			p := Promise{sheet.Titles()[i].Label(), item.Path, item.Size, sheet.Titles()[i].Key}
			if item.Shape == shape.Written || item.Shape == shape.Patched || item.AtMost {
				p.Size = -1
			}
			out = append(out, p)
		}
	}
	return out
}
