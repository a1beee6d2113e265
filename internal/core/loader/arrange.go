package loader

import (
	"slices"

	"polytome/internal/core/title"
)

// An Arranging is what of a loader's list can be arranged.
type Arranging struct{ Places, Sections, Favourites bool }

// Arranges is what of the list can be arranged, by what the profile writes: the places of titles, by a text or by
// running numbers; sections, by folders or a text; favourites.
func (p *Profile) Arranges() (a Arranging) {
	uses := func(f Field) bool {
		return slices.ContainsFunc(p.Accepts, func(r Accept) bool { return r.Path.Uses(f) }) ||
			slices.ContainsFunc(p.Companions, func(c Companion) bool { return c.Text.Uses(f) }) ||
			slices.ContainsFunc(p.Lists, func(l List) bool { return l.Line.Uses(f) })
	}
	a.Sections, a.Favourites = uses(FieldSection), uses(FieldFavourite)
	a.Places = uses(FieldPlace) ||
		slices.ContainsFunc(p.Accepts, func(r Accept) bool { return r.Numbered() && !r.Appends() }) ||
		slices.ContainsFunc(p.Lists, func(l List) bool { return slices.Contains(l.Order, "place") })
	return a
}

// writes reports whether a value comes into what the loader reads of a title: its path, or a text beside it.
func (p *Profile) writes(f Field, t *title.Title, rule *Accept, attachment, filesystem string) bool {
	return rule != nil && (rule.Path.Uses(f) || slices.ContainsFunc(p.Companions, func(c Companion) bool {
		return c.Text.Uses(f) && c.Match(t.Platform, t.Form, attachment, filesystem)
	}))
}

// ListOf is which list of the console a title is in, of those that have sections of their own, as far as its platform
// and kind decide that; ok is false where a title like that can be in no section.
func (p *Profile) ListOf(t *title.Title, attachment, filesystem string) (list string, ok bool) {
	rule, _ := p.Accept(t.Platform, t.Form, attachment, filesystem, nil)
	if !p.writes(FieldSection, t, rule, attachment, filesystem) {
		return "", false
	}
	for _, by := range p.ListOrder {
		switch by {
		case "section":
			return list, true
		case "platform":
			list += t.Platform + "\x00"
		case "kind":
			list += t.Discs[0].Kind + "\x00"
		}
	}
	return list, true
}

// Placed reports whether a title like that can be put somewhere in the list by hand.
func (p *Profile) Placed(t *title.Title, attachment, filesystem string) bool {
	rule, _ := p.Accept(t.Platform, t.Form, attachment, filesystem, nil)
	return rule != nil && (rule.Numbered() && !rule.Appends() ||
		p.writes(FieldPlace, t, rule, attachment, filesystem) || slices.ContainsFunc(p.Lists, func(l List) bool {
		return slices.Contains(l.Order, "place") && l.Match(t.Platform, t.Form, attachment, filesystem)
	}))
}

// None reports whether the list is as the loader sorts it, whatever is wished.
func (a Arranging) None() bool { return !a.Places && !a.Sections }
