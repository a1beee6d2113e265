package layout

import (
	"slices"
	"strings"
)

// apart reports whether lists and covers are on a stick of the console's own, and not where the tree is laid for.
func (t *Tree) apart() bool {
	a := t.l.destination.Attachment
	return a != nil && a.Apart
}

// Carried is a tree in which titles consist of what is carried of them to somewhere else: their covers, where the whole
// tree has them, to be merged with what the console holds. A title that has none is refused. Where lists and covers lie
// apart from the titles, the lists are carried too, and no title is refused.
func (t *Tree) Carried() *Tree {
	out := *t
	out.whole = t
	out.Placements = slices.Clone(t.Placements)
	taken := map[string]bool{} // two titles may have one ID: their covers are one file
	for i := range out.Placements {
		p := &out.Placements[i]
		if p.Refusal != nil {
			continue
		}
		p.Items, p.Rivals, p.Rule = nil, nil, nil
		for _, c := range t.companions(i) {
			if c.Is != "cover" || c.Source.Path == "" || taken[strings.ToUpper(c.Path)] {
				continue
			}
			taken[strings.ToUpper(c.Path)] = true
			p.Items = append(p.Items, c.Item)
		}
		if len(p.Items) == 0 && !t.apart() {
			p.Refusal = &Refusal{Say: "no picture of it was found",
				Ways: []string{"download covers, or choose a picture (C)"}, NoPicture: true}
		}
	}
	return &out
}
