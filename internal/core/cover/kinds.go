package cover

import (
	"slices"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

// Kinds reports which pictures of a title are wanted.
type Kinds func(*title.Title) []string

// Only wants some kinds of pictures of every title.
func Only(kinds ...string) Kinds { return func(*title.Title) []string { return kinds } }

// Shown wants the front of every title, and of others what the loaders of a bench's targets show of its platform.
func Shown(b *bench.Bench, set *loader.Set) Kinds {
	wanted := map[string]map[string]bool{} // by kind: platforms; "" for all
	for i := range b.Targets {
		for _, name := range b.Targets[i].Loaders() {
			if loader.IsFile(name) {
				name = b.Resolve(name)
			}
			p, err := set.Profile(name)
			if err != nil {
				continue // it is reported where the target is looked at
			}
			for _, c := range p.Companions {
				if c.Is != "cover" {
					continue
				}
				if wanted[c.Picture.Of] == nil {
					wanted[c.Picture.Of] = map[string]bool{}
				}
				for _, platform := range c.Platforms {
					wanted[c.Picture.Of][platform] = true
				}
				if len(c.Platforms) == 0 {
					wanted[c.Picture.Of][""] = true
				}
			}
		}
	}
	return func(t *title.Title) (out []string) {
		for k, of := range title.PictureKinds {
			if k == 0 || wanted[of][""] || wanted[of][t.Platform] {
				out = append(out, of)
			}
		}
		return out
	}
}

// About are the needs for descriptions, where a server has some: of titles of which something is not known.
func (f *Finder) About(titles []title.Title, which []int) (out []Need) {
	if !slices.ContainsFunc(f.servers, func(s *Server) bool { return s.has(aboutKind) }) {
		return nil
	}
	for _, i := range which {
		if t := &titles[i]; t.Text == "" || t.Year == "" || t.Players == "" || t.Publisher == "" {
			out = append(out, Need{i, 0, aboutKind})
		}
	}
	return out
}
