package fit

import (
	"strings"
	"unicode/utf8"

	"polytome/internal/core/shape"
	"polytome/internal/target"
)

// A Text is a file that is written from a rule.
type Text struct {
	Title    int // index; -1 for one of the loader's own
	Path     string
	Text     string
	Syntax   string // "" for lines
	Encoding string // "" for UTF-8
	Keep     []string
	LockedBy string
	Places   string // key with the place in the loader's list, "" for none
	Sections string // key with the section of that list
	Why      string
	Bytes    bool // it is none to be merged with what somebody made of it
}

// EachText goes through the texts that there may be on the target: playlists and launchers, settings, and the loader's
// start files.
func (s *Sheet) EachText(each func(Text)) {
	for i := range s.of.Titles {
		if !s.base[i].Kind.Goes() {
			continue
		}
		pl := s.Placement(i)
		for k := range pl.Items {
			if it := &pl.Items[k]; it.Shape == shape.Written && len(it.Sums) == 0 {
				each(Text{Title: i, Path: it.Path, Text: string(it.Text), Why: it.Rule,
					Bytes: !utf8.ValidString(string(it.Text))})
			}
		}
		extras := s.extra(i)
		for k := range extras {
			if extras[k].Spec.Is == "cover" {
				continue
			}
			if c := s.of.Loaders[s.by[i]].Tree.Companion(i, &extras[k]); c.Shape == shape.Written {
				each(Text{Title: i, Path: c.Path, Text: string(c.Text), Syntax: c.From.Syntax,
					Encoding: c.From.Encoding, Keep: c.From.Kept(), LockedBy: c.From.LockedBy,
					Places: c.From.Places, Sections: c.From.Sections, Why: c.Rule,
					Bytes: !c.From.IsText()})
			}
		}
	}
	s.eachStart(each)
}

// EachCover goes through the pictures that are on the target where a title has one of its own: its number, the rule,
// what makes the picture, and what is there.
func (s *Sheet) EachCover(each func(i int, why string, make func() *shape.Spec, there target.Entry)) {
	for i := range s.of.Titles {
		if !s.base[i].Kind.Goes() {
			continue
		}
		if s.of.Carried {
			items := s.Placement(i).Items
			for k := range items {
				if e, ok := s.present[s.fold(items[k].Path)]; ok && !e.Folder {
					each(i, items[k].Rule, func() *shape.Spec { return &items[k].Spec }, e)
				}
			}
			continue
		}
		extras := s.extra(i)
		for k := range extras {
			if extras[k].Spec.Is != "cover" {
				continue
			}
			if e, ok := s.present[s.fold(extras[k].Path)]; ok && !e.Folder {
				each(i, extras[k].Spec.Why, func() *shape.Spec {
					c := s.Loader(i).Tree.Companion(i,
						&extras[k])
					return &c.Spec
				}, e)
			}
		}
	}
}

// eachStart goes through the loader's start files.
func (s *Sheet) eachStart(each func(Text)) {
	if s.of.Carried {
		return
	}
	for k := range s.of.Loaders {
		p := s.of.Loaders[k].Profile
		for _, f := range p.Kit.Files {
			if f.Text == "" || !s.of.Loaders[k].Tree.Here().Needs(&f) {
				continue
			}
			t := Text{Title: -1, Path: f.To, Text: strings.TrimPrefix(f.Text, "\n"), Why: f.Why}
			for _, set := range p.Settings {
				if set.File == f.To {
					t.Syntax = set.Syntax
				}
			}
			each(t)
		}
	}
}

// StartFiles are the loader's own files that are written where there are none.
func (s *Sheet) StartFiles() (out []Text) {
	s.eachStart(func(t Text) {
		if _, there := s.present[s.fold(t.Path)]; !there {
			out = append(out, t)
		}
	})
	return out
}

// estimateStart is the space that the loader's start files will take, with their names and folders.
func (s *Sheet) estimateStart() (bytes int64) {
	if s.of.Carried {
		return 0
	}
	for _, f := range s.StartFiles() {
		bytes += s.of.Facts.SpaceFor(f.Path, int64(len(f.Text))) + s.names.reserve(f.Path, s.fold)
	}
	return bytes
}
