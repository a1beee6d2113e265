package survey

import (
	"encoding/json"
	"fmt"
	"maps"
	"strings"
	"time"

	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/scancache"
	"polytome/internal/size"
	"polytome/internal/target"
)

// Titles that were on a target and are gone from it were deleted at the console, or by somebody else: that is reported,
// and they are not put back by themselves. What was there is remembered for each volume by its serial number, so that
// one stick is not taken for another; where that is not known, nothing is reported.

// hadName is what the memory of a volume's titles is kept under.
func (s *Survey) hadName() string {
	if s.Facts.Volume == "" || s.carries != nil {
		return ""
	}
	return "had\x00" + s.memory()
}

// recallHad finds out which titles were on the volume when it was looked at last, by their keys, with a path of each.
func (s *Survey) recallHad(cache *scancache.Store) {
	s.had = nil
	if name := s.hadName(); name != "" && cache != nil {
		if t, ok, err := cache.Target(name); err == nil && ok && json.Unmarshal(t.Data, &s.had) != nil {
			s.had = nil
		}
	}
	s.hadStored = s.had
}

// findDeleted finds the titles that are wanted, were there, and of which nothing is there any longer. A volume on which
// nothing is as it was is taken for one that was emptied.
func (s *Survey) findDeleted(b *bench.Bench, n int) {
	s.deleted = nil
	if len(s.Problems) > 0 || len(s.had) == 0 {
		return
	}
	is := func(file string) bool { _, there := s.Sheet.At(file); return there }
	some := false
	for _, file := range s.had {
		some = some || is(file)
	}
	files := false
	for i := range s.There {
		files = files || !s.There[i].Folder && !target.OfSystem(s.There[i].Path)
	}
	if !some && (len(s.had) > 1 || !files) {
		s.had = nil
		return
	}
	if s.copyDeleted {
		return
	}
	for i := range s.Titles {
		file, was := s.had[s.Titles[i].Key]
		if !was || is(file) || !b.Wants(n, s.Titles[i].Key) || s.there(i) != "" {
			continue
		}
		if s.deleted == nil {
			s.deleted = map[int]bool{}
		}
		s.deleted[i] = true
	}
}

// there is a path at which title i, or some of it, is on the target; "" for none.
func (s *Survey) there(i int) string {
	for _, file := range s.found[i] {
		if file != "" {
			return file
		}
	}
	items := s.Sheet.Placement(i).Items
	for k := range items {
		if e, there := s.Sheet.At(items[k].Path); there {
			return e.Path
		}
	}
	return ""
}

// rememberHad keeps which of the wanted titles are on the volume now, and which were deleted there.
func (s *Survey) rememberHad(cache *scancache.Store, b *bench.Bench, n int) {
	name := s.hadName()
	if name == "" || cache == nil || !s.Fresh || len(s.Problems) > 0 {
		return
	}
	now, known := map[string]string{}, map[string]bool{}
	for i := range s.Titles {
		key := s.Titles[i].Key
		known[key] = true
		switch kind := s.Sheet.Fits(i).Kind; {
		case !b.Wants(n, key):
		case kind == fit.Present, kind == fit.Renamed:
			now[key] = s.there(i)
		case s.had[key] != "": // it was deleted, or it is only half there
			now[key] = s.had[key]
		}
	}
	for key, file := range s.had { // of games that are not on this computer now
		if !known[key] && b.Wants(n, key) {
			now[key] = file
		}
	}
	s.putHad(cache, name, now)
}

func (s *Survey) putHad(cache *scancache.Store, name string, now map[string]string) {
	if maps.Equal(now, s.hadStored) {
		return
	}
	if data, err := json.Marshal(now); err == nil {
		_ = cache.PutTarget(scancache.Target{Name: name, At: time.Now().Unix(), Data: data})
	}
}

// Ran remembers what a run has written and put there; see [Survey.Wrote].
func (s *Survey) Ran(cache *scancache.Store, p *plan.Plan, r *run.Report) {
	s.Wrote(cache, r.Wrote)
	name := s.hadName()
	if name == "" || cache == nil || len(s.Problems) > 0 {
		return
	}
	undone := map[string]bool{}
	for i := range p.Steps {
		undone[p.Steps[i].Title] = undone[p.Steps[i].Title] || r.Undone[i]
	}
	now := maps.Clone(s.had)
	if now == nil {
		now = map[string]string{}
	}
	for i := range s.Titles {
		items := s.Sheet.Placement(i).Items
		if key := s.Titles[i].Key; s.Sheet.Chosen[i] && s.Sheet.Verdict(i).Kind.Goes() && len(items) > 0 &&
			!undone[key] {
			now[key] = items[0].Path
		}
	}
	s.putHad(cache, name, now)
}

// Gone reports whether title i was deleted on the target and is not to be put back.
func (s *Survey) Gone(i int) bool {
	return s.deleted[i] && !s.Config.CopyAgain.Has(s.Titles[i].Key)
}

// Back are the titles that are there again after they were to be put back, by their keys.
func (s *Survey) Back() (keys []string) {
	if len(s.Config.CopyAgain) == 0 {
		return nil
	}
	for i := range s.Titles {
		if k := s.Sheet.Fits(i).Kind; s.Config.CopyAgain.Has(s.Titles[i].Key) &&
			(k == fit.Present || k == fit.Renamed) {
			keys = append(keys, s.Titles[i].Key)
		}
	}
	return keys
}

// DeletedNote says which titles were deleted, in a sentence; "" for none.
func (s *Survey) DeletedNote() string {
	var names []string
	n := 0
	for i := range s.Titles {
		if s.Gone(i) {
			if n++; n <= 3 {
				names = append(names, s.Titles[i].Label())
			}
		}
	}
	if n == 0 {
		return ""
	}
	more := ""
	if n > len(names) {
		more = ", …"
	}
	were := "were"
	if n == 1 {
		were = "was"
	}
	return fmt.Sprintf("%s %s deleted on %s, and %s not copied again: %s%s. "+
		"Select what you want back, or use --copy-deleted.",
		size.Count(n, "title"), were, s.Config.Name, map[bool]string{true: "is", false: "are"}[n == 1],
		strings.Join(names, ", "), more)
}
