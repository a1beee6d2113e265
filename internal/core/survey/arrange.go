package survey

import (
	"context"
	"fmt"
	"slices"

	"polytome/internal/core/arrange"
	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/plan"
	"polytome/internal/core/settings"
)

// slots are where titles stand in the list of a loader, by their keys. Sections of so many titles are of those that are
// wanted.
func (s *Survey) slots(p *loader.Profile) map[string]arrange.Slot {
	wishes := &s.Config.List
	if wishes.Empty() || p.Arranges().None() || s.carries != nil {
		return nil
	}
	at := s.attachedBy(p)
	var all []arrange.Title
	for i := range s.Titles {
		t := &s.Titles[i]
		list, sectioned := p.ListOf(t, at, s.Facts.Filesystem.Name)
		if wishes.Sections == arrange.Parts && (!sectioned || !s.Config.Wants(t.Key) || s.going == nil ||
			!s.going.Fits(i).Kind.Goes() || s.going.Loader(i).Profile != p) {
			continue
		}
		all = append(all, arrange.Title{Key: t.Key, Name: t.Name, List: list})
	}
	return wishes.Slots(all)
}

// arranged distinguishes trees by what a profile makes of lists.
func (s *Survey) arranged(p *loader.Profile, slots map[string]arrange.Slot) (key string) {
	if len(slots) > 0 {
		key = fmt.Sprint(slots)
	}
	if p.Arranges().Favourites {
		key += fmt.Sprint(s.favourites)
	}
	return key
}

// ListChanged reports whether the console's list would be another one than when the target was looked at, as titles are
// chosen now: it has to be looked at again.
func (s *Survey) ListChanged(b *bench.Bench, n int) bool {
	can, now := s.Arranges(), &b.Targets[n]
	return can.Favourites && !slices.Equal(s.favourites, b.Favourites) ||
		can.Sections && now.List.Sections == arrange.Parts && !now.WantLike(&s.wanted)
}

// Arranges is what of the console's list can be arranged by any of the target's loaders.
func (s *Survey) Arranges() (a loader.Arranging) {
	for _, p := range s.Profiles {
		x := p.Arranges()
		a.Places, a.Sections, a.Favourites = a.Places ||
			x.Places, a.Sections ||
			x.Sections, a.Favourites ||
			x.Favourites
	}
	return a
}

// arrangeOthers has titles whose texts someone else has written, or another computer, stand in the list as it is
// wished: nothing else in those texts changes.
func (s *Survey) arrangeOthers(ctx context.Context, r *textReader) {
	if s.Config.List.Empty() {
		return
	}
	s.Sheet.EachText(func(t fit.Text) {
		e, there := s.Sheet.At(t.Path)
		if _, known := s.last[e.Path]; t.Places+t.Sections == "" || !there || known || ctx.Err() != nil {
			return
		}
		theirs, e, ok := r.read(ctx, t.Path)
		if !ok {
			return
		}
		text, syntax := layout.Decoded(t.Encoding, theirs), settings.Syntax(t.Syntax)
		fresh, slot := layout.Decoded(t.Encoding, t.Text), s.Sheet.Loader(t.Title).Tree.Slot(t.Title)
		for key, none := range map[string]bool{t.Places: slot.Place == 0, t.Sections: slot.Section == ""} {
			want, has, err := settings.Raw(fresh, syntax, "", key)
			is, had, failed := settings.Raw(text, syntax, "", key)
			if key == "" || err != nil || failed != nil || !has || had && is == want || !had && none {
				continue
			}
			if changed, err := settings.Set(text, syntax, "", key, want); err == nil {
				text = changed
			}
		}
		if text != layout.Decoded(t.Encoding, theirs) {
			s.updates = append(s.updates, plan.Update{Title: t.Title, Path: e.Path,
				Text: string(
					layout.Encoded(t.Encoding, []byte(text)),
				), Why: t.Why + "; only its place in the list changes"})
		}
	})
}
