package survey

import (
	"encoding/json"
	"slices"
	"strings"

	"polytome/internal/core/check"
	"polytome/internal/core/fit"
	"polytome/internal/core/fix"
	"polytome/internal/core/scancache"
)

// A Wrong is a title that is wanted on the target and is there, and that does not start as it lies.
type Wrong struct {
	Title int    // index
	Say   string // what a check found
	Fixes []fix.Fix
}

// Wrong finds the titles that are wanted and of which a check says that they do not start.
func (s *Survey) Wrong(r *check.Report) (out []Wrong) {
	if s.carries != nil {
		return nil
	}
	fold := s.Facts.Filesystem.Fold
	lies := map[string]int{} // folded path of an item -> its title
	for i := range s.Sheet.Titles() {
		if s.Sheet.Chosen[i] && s.Sheet.Verdict(i).Kind.Goes() {
			for k := range s.Sheet.Placement(i).Items {
				lies[fold(s.Sheet.Placement(i).Items[k].Path)] = i
			}
		}
	}
	of := func(path string) (title int, ok bool) {
		if title, ok = lies[fold(path)]; ok {
			return title, ok
		}
		for item, i := range lies {
			if strings.HasPrefix(item, fold(path)+"/") {
				return i, true
			}
		}
		return 0, false
	}
	for _, l := range r.Listed {
		if l.Starts {
			continue
		}
		i, ok := of(l.Path)
		if !ok {
			continue
		}
		w := Wrong{Title: i}
		for k := range r.Findings {
			f := &r.Findings[k]
			if f.Path == "" || f.Grade != check.Fault || f.Loader != l.Loader || f.Kind == check.Cover ||
				f.Kind == check.Companion {
				continue
			}
			if f.Path == l.Path || strings.HasPrefix(fold(f.Path), fold(l.Path)+"/") || sameTitle(lies, fold(f.Path),
				i) {
				if w.Say == "" {
					w.Say = f.Say
				}
				w.Fixes = append(w.Fixes, f.Fixes...)
			}
		}
		if !slices.ContainsFunc(out, func(o Wrong) bool { return o.Title == i }) {
			out = append(out, w)
		}
	}
	return out
}

func sameTitle(lies map[string]int, path string, title int) bool {
	i, ok := lies[path]
	return ok && i == title
}

// KnownWrong are the titles of [Survey.Wrong] that the last check of the target found, as far as their files were not
// changed since, and that are taken for there.
func (s *Survey) KnownWrong(cache *scancache.Store) (out []Wrong) {
	if cache == nil {
		return nil
	}
	was, ok, err := cache.Target("check " + s.cacheName())
	var last check.Report
	if err != nil || !ok || json.Unmarshal(was.Data, &last) != nil {
		return nil
	}
	for _, w := range s.Wrong(&last) {
		same := len(w.Fixes) > 0
		for k := range w.Fixes {
			m := &w.Fixes[k]
			e, there := s.Sheet.At(m.Path)
			same = same && there && !m.Changed(e.Size, e.Modified)
		}
		if same && s.Sheet.Verdict(w.Title).Kind == fit.Present {
			out = append(out, w)
		}
	}
	return out
}
