package learn

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/settings"
	"polytome/internal/core/title"
)

// remake lays the titles by the whole draft, and compares what would lie there with what does: paths, lists and files
// beside the games. What is not made again is no certain rule, and is said.
func (s *student) remake() {
	c, ok := s.compare()
	if !ok {
		return // it is said when the draft is saved
	}
	for _, platform := range s.platforms() {
		if say := c.astray[platform]; say != "" {
			s.contradict("%s", say)
			s.doubt(platform + " ")
		}
	}
	for _, say := range c.lists {
		s.contradict("%s", say)
		s.doubt("titles are listed in ")
	}
	for _, at := range slices.Sorted(maps.Keys(c.texts)) {
		if !slices.ContainsFunc(s.d.Open, func(q Question) bool { return q.Key == "file "+at }) {
			s.contradict("%s", c.texts[at])
		}
		for i := range s.d.Findings {
			if f := &s.d.Findings[i]; f.Rule != "" && f.Rule == s.by[at] && f.Confidence == Certain {
				f.Confidence = Likely
			}
		}
	}
}

// comparison is how what lies on a target differs from what a draft would make of it.
type comparison struct {
	same, all int               // titles, and lists
	astray    map[string]string // by platform: one that would lie elsewhere
	lists     []string          // those that would say something else
	texts     map[string]string // by path: files beside games that would say something else
}

// compare lays the titles by the whole draft; ok is false for a draft that cannot be used.
func (s *student) compare() (c comparison, ok bool) {
	p, err := loader.ParseProfile("draft.toml", []byte(s.d.TOML()))
	if err == nil {
		err = s.set.Check(p)
	}
	if err != nil {
		return c, false
	}
	titles, where := s.titles()
	fs := s.look.Facts.Filesystem
	tree := layout.Lay(titles, p, layout.Destination{Attachment: &p.Attachments[0], Filesystem: fs, Set: s.set})
	there := map[string]bool{}
	for _, e := range s.look.Entries {
		if !e.Folder {
			there[fs.Fold(e.Path)] = true
		}
	}
	c.astray, c.texts = map[string]string{}, map[string]string{}
	placed := make([]bool, len(titles))
	c.all = len(titles)
	for i := range titles {
		t, pl := &titles[i], &tree.Placements[i]
		is := where[t.Key]
		wrong := ""
		switch {
		case pl.Refusal != nil:
			wrong = fmt.Sprintf("%s is there, but by these rules %s", is, pl.Refusal.Say)
		case fs.Fold(pl.Items[0].Path) != fs.Fold(is) && !strings.HasPrefix(fs.Fold(pl.Items[0].Path), fs.Fold(is)+"/"):
			wrong = fmt.Sprintf("%s is there, but by these rules it would go to %s", is, pl.Items[0].Path)
		default:
			placed[i] = true
			for k := range pl.Items {
				if it := &pl.Items[k]; !there[fs.Fold(it.Path)] {
					wrong = fmt.Sprintf("by these rules there would be %s, but there is not", it.Path)
				}
			}
		}
		if wrong == "" {
			c.same++
			s.compareTexts(&c, tree, i)
		} else {
			c.astray[t.Platform] = wrong
		}
	}
	for _, l := range tree.Lists(func(i int) bool { return placed[i] }) {
		c.all++
		if b, ok := s.read(s.spelt(l.Path)); ok && string(b) == string(l.Data) {
			c.same++
		} else {
			c.lists = append(c.lists, fmt.Sprintf("%s says something else than by these rules", l.Path))
		}
	}
	return c, true
}

// compareTexts compares the texts that a title would have beside it with those that are there. What is not there at all
// was asked for.
func (s *student) compareTexts(c *comparison, tree *layout.Tree, i int) {
	differs := func(it *layout.Item, of *loader.Companion) {
		at := s.spelt(it.Path)
		b, ok := s.read(at)
		if it.Text == "" || !ok {
			return
		}
		want := string(it.Text)
		if of != nil && len(of.Kept()) > 0 {
			plain := func(text string) string { return layout.Decoded(of.Encoding, text) }
			kept, err := settings.Keep(plain(want), plain(string(b)), "", settings.Syntax(of.Syntax), of.Kept(),
				of.LockedBy)
			if err == nil {
				want = string(layout.Encoded(of.Encoding, []byte(kept)))
			}
		}
		if string(b) != want {
			c.texts[at] = fmt.Sprintf("%s says something else than by these rules", at)
		}
	}
	for k := range tree.Placements[i].Items {
		differs(&tree.Placements[i].Items[k], nil)
	}
	for _, x := range tree.Companions(i) {
		differs(&x.Item, x.From)
	}
}

// spelt is a path as it is written on the target.
func (s *student) spelt(p string) string {
	fold := s.look.Facts.Filesystem.Fold
	for _, e := range s.look.Entries {
		if fold(e.Path) == fold(p) {
			return e.Path
		}
	}
	return p
}

// titles are all that are on the target, and where the first file of each is.
func (s *student) titles() (out []title.Title, where map[string]string) {
	where = map[string]string{}
	all := append(slices.Clone(s.all), s.split...)
	slices.SortStableFunc(all, func(a, b *sample) int { return a.disc - b.disc })
	for _, x := range all {
		if _, ok := where[x.t.Key]; !ok {
			out = append(out, *x.t)
			where[x.t.Key] = x.where()
		}
	}
	return out, where
}

// platforms are those of the draft's rules.
func (s *student) platforms() (out []string) {
	for _, r := range s.d.Rules {
		for _, name := range r.Platforms {
			if !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

// doubt takes back that findings which begin so are certain.
func (s *student) doubt(begin string) {
	for i := range s.d.Findings {
		if f := &s.d.Findings[i]; strings.HasPrefix(f.Say, begin) && f.Confidence == Certain {
			f.Confidence = Likely
		}
	}
}
