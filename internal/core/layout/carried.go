package layout

import (
	"slices"
	"strings"
)

// OnlyCovers is a tree in which titles consist of their covers alone, where the whole tree has them: what is carried to
// a console apart from its games. A title without a picture has no place in it.
func (t *Tree) OnlyCovers() *Tree {
	out := *t
	out.onlyCovers = true
	out.Placements = slices.Clone(t.Placements)
	taken := map[string]bool{} // two titles may have one ID: their covers are one file
	for i := range out.Placements {
		p := &out.Placements[i]
		if p.Refusal != nil {
			continue
		}
		p.Items, p.Rivals, p.Rule = nil, nil, nil
		for _, c := range t.Companions(i) {
			if c.Is != "cover" || c.Source.Path == "" || taken[strings.ToUpper(c.Path)] {
				continue
			}
			taken[strings.ToUpper(c.Path)] = true
			p.Items = append(p.Items, c.Item)
		}
		if len(p.Items) == 0 {
			p.Refusal = &Refusal{Say: "no picture of it was found",
				Ways: []string{"download covers, or choose a picture (C)"}, NoPicture: true}
		}
	}
	return &out
}
