package shape

import (
	"context"

	"polytome/internal/core/title"
	"polytome/internal/format/dump"
	"polytome/internal/target"
)

// straight is the game in a dump, as the console has it.
var straight = Kind{
	Name: Straight, Word: "straight",
	Rule:     "dumps lose a copier's header, and have their bytes in order",
	Reported: "put straight from %s",
	Says:     func(l, form string) string { return l + " needs the " + form + " as the console has it" },
	Open: func(ctx context.Context, w SourceOpener, s *Spec) (target.Content, error) {
		c, err := fromSource(ctx, w, s)
		if err != nil {
			return nil, err
		}
		r := dump.New(c, c.Size(), s.With.Dump)
		return window(&full{r, r.Size(), c.Close}, s)
	},
}

// StraightOf is the game in a dump that lies as the source of a spec does.
func StraightOf(f title.File, as dump.Layout) Spec {
	return Spec{Shape: Straight, Source: f, Size: as.Size(f.Size), With: &With{Dump: as}}
}
