package layout

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/arrange"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/parallel"
)

// A Tree is where all titles go, in the order in which they were given. [Tree.Change]
// and [Tree.Append] keep it up to date without laying everything again.
type Tree struct {
	Placements []Placement

	l      *layer
	titles []title.Title    // those of whoever laid the tree, who does not change them
	owners map[string]int   // folded path -> the title that has it
	rivals map[string][]int // folded path -> all titles that want it, where there are several
	groups map[string]*group
	// whole is set where titles consist of what is carried of them: see [Tree.Carried].
	whole *Tree
	// numbers are those to try next behind a name that many want: lower ones are taken.
	numbers map[string]int
	// numbering is what running numbers depend on; see [Tree.Number].
	numbering Numbering
	// common is the tree whose placements these are, where they are shared; see [Shelf].
	common *Tree
	// dressed and bare are what is beside its titles with covers and without, where others have this tree in common.
	dressed, bare func() [][]Beside
}

// A group is the titles that are in one folder and its further pages, in the order of
// their names.
type group struct{ members []int }

// Lay targets every title by the profile's rules.
//
// Names are unique without regard to letter case. Where several titles would get one
// name, those that hold a name keep it, and after them the first by key; the others
// get their region, their ID or a number behind theirs. So a tree that is laid again with
// the [Tree.Names] of an earlier one, and more titles, gives every old title its old
// name. Titles with one ID are taken for copies of each other: they stay rivals.
func Lay(titles []title.Title, p *loader.Profile, destination Destination) *Tree {
	t := &Tree{
		Placements: make([]Placement, len(titles)), titles: titles, l: newLayer(p, destination),
		owners: make(map[string]int, len(titles)), rivals: map[string][]int{}, groups: map[string]*group{},
		numbers: map[string]int{},
	}
	t.l.unnumbered = max(1, len(titles))
	t.placeAll()
	contested := make([]bool, len(titles))
	any := false
	for i := range t.Placements {
		for _, claim := range t.Placements[i].claims {
			if j, taken := t.owners[claim]; taken {
				contested[i], contested[j], any = true, true, true
				continue
			}
			t.owners[claim] = i
		}
	}
	if any {
		t.settle(contested)
	}
	for i := range t.Placements {
		t.join(i)
	}
	var moved []int
	for _, g := range t.groups {
		if !slices.IsSortedFunc(g.members, t.byOrder) {
			slices.SortFunc(g.members, t.byOrder)
		}
		moved = append(moved, t.turn(g)...)
	}
	parallel.Each(len(moved), func(k int) { t.l.turn(&t.titles[moved[k]], &t.Placements[moved[k]]) })
	t.emitRivals()
	return t
}

// Here is where the loader's own files are, at what the tree was laid for.
func (t *Tree) Here() loader.Here { return t.l.here() }

// Slot is where title i stands in the loader's list.
func (t *Tree) Slot(i int) arrange.Slot { return t.l.destination.Slots[t.titles[i].Key] }

// Target is what the tree was laid for.
func (t *Tree) Destination() *Destination { return &t.l.destination }

// placeAll gives every title the path that it would have if it were alone. Titles
// do not depend on one another here, so several are placed at once.
func (t *Tree) placeAll() {
	parallel.Each(len(t.titles), func(i int) {
		t.Placements[i] = t.l.place(&t.titles[i], t.l.destination.Held[t.titles[i].Key])
	})
}

// settle gives contested names to one title each, and others to the rest.
func (t *Tree) settle(contested []bool) {
	var order []int
	for i := range contested {
		if !contested[i] {
			continue
		}
		order = append(order, i)
		for _, claim := range t.Placements[i].claims {
			if t.owners[claim] == i {
				delete(t.owners, claim)
			}
		}
	}
	held := func(i int) int {
		if len(t.l.destination.Held) == 0 {
			return 0
		}
		if name, ok := t.l.destination.Held[t.titles[i].Key]; ok && name == t.Placements[i].Name {
			return 0
		}
		return 1
	}
	slices.SortFunc(order, func(a, b int) int {
		return cmp.Or(cmp.Compare(held(a), held(b)), strings.Compare(t.titles[a].Key, t.titles[b].Key),
			cmp.Compare(a, b))
	})
	for _, i := range order {
		t.claim(i)
	}
}

// claim gives title i its paths, under another name where they are taken.
func (t *Tree) claim(i int) {
	other, taken := t.taken(i)
	if taken && !t.copies(i, other) && t.Placements[i].Rule.Path.Uses(loader.FieldTitle) {
		if p, ok := t.rename(i, other); ok {
			t.Placements[i] = p
			t.Placements[i].contested, t.Placements[other].contested = true, true
		}
	}
	for _, claim := range t.Placements[i].claims {
		if j, has := t.owners[claim]; has && j != i {
			if len(t.rivals[claim]) == 0 {
				t.rivals[claim] = []int{j}
			}
			t.rivals[claim] = append(t.rivals[claim], i)
			continue
		}
		t.owners[claim] = i
	}
}

// taken reports which other title has one of title i's paths.
func (t *Tree) taken(i int) (other int, taken bool) {
	for _, claim := range t.Placements[i].claims {
		if j, has := t.owners[claim]; has && j != i {
			return j, true
		}
	}
	return 0, false
}

// copies reports whether two titles are the same game, so that there is no point in having
// both.
func (t *Tree) copies(i, j int) bool {
	a, b := &t.titles[i], &t.titles[j]
	return a.ID != "" && a.Platform == b.Platform && strings.EqualFold(a.ID, b.ID)
}

// rename finds a name for title i that no one has.
func (t *Tree) rename(i, other int) (Placement, bool) {
	tt := &t.titles[i]
	first := t.Placements[i].Name
	var marks []string
	if tt.Region != "" && tt.Region != t.titles[other].Region {
		marks = append(marks, " ("+tt.Region+")")
	}
	if tt.ID != "" {
		marks = append(marks, " "+tt.ID)
	}
	wanted := t.Placements[i].claims[0]
	number := max(2, t.numbers[wanted])
	for n := 0; n < len(marks)+len(t.titles)+2; n++ {
		mark := ""
		if n < len(marks) {
			mark = marks[n]
		} else {
			mark = fmt.Sprintf(" (%d)", number)
			number++
		}
		p := t.l.targetMarked(tt, &t.Placements[i], mark)
		if p.Refusal != nil || p.Name == first {
			continue
		}
		if !slices.ContainsFunc(p.claims, func(c string) bool { j, has := t.owners[c]; return has && j != i }) {
			t.numbers[wanted] = number
			p.How = joinHow(p.How, fmt.Sprintf("%s has that name too, so this one got%s added", t.titles[other].Label(),
				mark))
			return p, true
		}
	}
	return Placement{}, false
}

func joinHow(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// byOrder orders the titles of a folder as the console does.
func (t *Tree) byOrder(a, b int) int {
	return cmp.Or(
		strings.Compare(t.Placements[a].shelf.order, t.Placements[b].shelf.order),
		strings.Compare(t.titles[a].Key, t.titles[b].Key), cmp.Compare(a, b))
}

// join puts title i into the group of its folder, at its end.
func (t *Tree) join(i int) *group {
	p := &t.Placements[i]
	if p.shelf == nil {
		return nil
	}
	g := t.groups[p.shelf.folder]
	if g == nil {
		g = &group{}
		t.groups[p.shelf.folder] = g
	}
	g.members = append(g.members, i)
	return g
}

// turn gives every title of a group its page or number. It returns those that have to be laid
// again for it.
func (t *Tree) turn(g *group) (moved []int) {
	if len(g.members) > 0 && t.Placements[g.members[0]].Rule.Numbered() {
		return t.count(g)
	}
	page, entries := 1, 0
	for _, i := range g.members {
		p := &t.Placements[i]
		n := p.shelf.entries
		if entries > 0 && entries+n > p.Rule.OverflowAfter {
			page, entries = page+1, 0
		}
		entries += n
		if was := p.shelf.page; was != page {
			p.shelf.page = page
			if page > 1 || was > 1 { // one that has no page yet is as on the first
				moved = append(moved, i)
			}
		}
	}
	return moved
}

// emitRivals writes down who wants the same path as whom.
func (t *Tree) emitRivals() {
	for _, all := range t.rivals {
		for _, i := range all {
			for _, j := range all {
				if i != j && !slices.Contains(t.Placements[i].Rivals, j) {
					t.Placements[i].Rivals = append(t.Placements[i].Rivals, j)
				}
			}
		}
	}
	for i := range t.Placements {
		slices.Sort(t.Placements[i].Rivals)
	}
}

// Alone is where title i would go if there were no others.
func (t *Tree) Alone(i int) Placement { return t.l.place(&t.titles[i], "") }

// Names are the names of all titles that go, by their keys: what a later tree must
// hold to.
func (t *Tree) Names() map[string]string {
	out := make(map[string]string, len(t.titles))
	for i := range t.titles {
		if p := &t.Placements[i]; p.Refusal == nil {
			out[t.titles[i].Key] = p.Name
		}
	}
	return out
}

// Contested are the names in the tree over which titles had to be made distinct, by the
// keys of the titles.
func (t *Tree) Contested() map[string]string {
	out := map[string]string{}
	for i := range t.titles {
		p := &t.Placements[i]
		if p.contested {
			out[t.titles[i].Key] = p.Name
		}
	}
	return out
}
