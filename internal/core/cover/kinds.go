package cover

import (
	"slices"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

// Kinds are the kinds of pictures that the loaders of a bench's places show, in the usual order; that of the front where none shows any.
func Kinds(b *bench.Bench, set *loader.Set) (out []string) {
	wanted := map[string]bool{}
	for i := range b.Places {
		for _, name := range b.Places[i].Loaders() {
			if loader.IsFile(name) {
				name = b.Resolve(name)
			}
			p, err := set.Profile(name)
			if err != nil {
				continue // it is told where the place is looked at
			}
			for _, c := range p.Companions {
				if c.Is == "cover" {
					wanted[c.Picture.Of] = true
				}
			}
		}
	}
	for _, of := range title.PictureKinds {
		if wanted[of] {
			out = append(out, of)
		}
	}
	if len(out) == 0 {
		out = []string{title.PictureKinds[0]}
	}
	return out
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
