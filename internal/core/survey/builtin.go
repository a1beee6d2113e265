package survey

import (
	"context"
	"fmt"
	"strings"

	"polytome/internal/core/loader"
)

// readBuiltIn finds out which titles are in the console itself: those of its model, and those that it got later and has
// written on the target.
func (s *Survey) readBuiltIn(ctx context.Context) {
	s.builtIn = nil
	m := s.Model()
	if m == nil {
		return
	}
	added := ""
	if m.Added != "" {
		r := &textReader{s: s}
		added, _, _ = r.read(ctx, m.Added)
		r.close()
	}
	s.builtIn, s.sameID = m.All(added), map[string][]int{}
	for i := range s.builtIn {
		s.sameID[strings.ToUpper(s.builtIn[i].ID)] = nil
	}
	for i := range s.Titles {
		t := &s.Titles[i]
		if all, is := s.sameID[strings.ToUpper(t.ID)]; is && t.Platform == m.Platform {
			s.sameID[strings.ToUpper(t.ID)] = append(all, i)
		}
	}
}

// BuiltIn are the titles that are in the console itself, in the order of its list; nil where the target is for no model
// of it.
func (s *Survey) BuiltIn() []loader.BuiltIn { return s.builtIn }

// Hides is the title that will be on the target and hides one that is in the console, by having its ID; ok is false for
// none.
func (s *Survey) Hides(b *loader.BuiltIn) (i int, ok bool) {
	for _, i := range s.sameID[strings.ToUpper(b.ID)] {
		if s.Sheet.Chosen[i] || s.there(i) != "" {
			return i, true
		}
	}
	return 0, false
}

// Double says that title i is in the console already, in a sentence; "" for one that is not.
func (s *Survey) Double(i int) string {
	t, m := &s.Titles[i], s.Model()
	if m == nil || t.Platform != m.Platform {
		return ""
	}
	for _, b := range s.builtIn {
		switch {
		case strings.EqualFold(t.ID, b.ID):
			return fmt.Sprintf(
				"%s is built into the %s with this ID: on a target for it, yours hides that.",
				b.Name,
				m.Shown,
			)
		case strings.EqualFold(t.Name, b.Name):
			return fmt.Sprintf("A game of this name is built into the %s, too: the console shows both.", m.Shown)
		}
	}
	return ""
}
