package layout

import (
	"cmp"
	"fmt"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

// A Numbering is what the running numbers of a tree's titles depend on beside their order: titles that are no part of
// it get the number that they would have if they came, and rename nobody.
type Numbering struct {
	// Counts reports whether title i is or will be there; nil for all.
	Counts func(i int) bool
	// Held are the numbers that titles have on the target, by their indexes.
	Held map[int]int
	// Taken are numbers that nobody else gets, by the folder as in [Tree.NumberAt].
	Taken map[string]map[int]bool
}

func (n *Numbering) counts(i int) bool { return n.Counts == nil || n.Counts(i) }

// Numbered reports whether some title of the tree has a running number in its path.
func (t *Tree) Numbered() bool {
	return t.whole == nil && slices.ContainsFunc(t.l.p.Accepts, func(a loader.Accept) bool { return a.Numbered() })
}

// Number is a tree in which titles have the numbers that follow from what is on a target and will be there. The tree
// that it is made from stays as it is.
func (t *Tree) Number(n Numbering) *Tree {
	out := *t
	out.Own()
	out.numbering = n
	for i := range out.Placements {
		if p := &out.Placements[i]; p.shelf != nil {
			own := *p.shelf
			p.shelf, p.Items = &own, slices.Clone(p.Items)
		}
	}
	for _, g := range out.groups {
		for _, i := range out.turn(g) {
			out.l.turn(&out.titles[i], &out.Placements[i])
		}
	}
	return &out
}

// NumberOf is the running number of title i; 0 for none.
func (t *Tree) NumberOf(i int) int {
	if p := &t.Placements[i]; p.shelf != nil {
		return p.shelf.number
	}
	return 0
}

// Behind is how many titles that are there get another number when title i comes.
func (t *Tree) Behind(i int) (n int) {
	p := &t.Placements[i]
	if p.Rule == nil || !p.Rule.Numbered() || p.Rule.Appends() || t.numbering.counts(i) {
		return 0
	}
	for _, k := range t.groups[p.shelf.folder].members {
		if t.numbering.counts(k) && t.numbering.Held[k] > 0 && t.NumberOf(k) >= p.shelf.number {
			n++
		}
	}
	return n
}

// Renumbered reports whether title i is there under another number than it gets.
func (t *Tree) Renumbered(i int) bool {
	held := t.numbering.Held[i]
	return held > 0 && held != t.NumberOf(i)
}

// numbered is where a title is among those with running numbers.
func (l *layer) numbered(t *title.Title, p *Placement, v *loader.Values) *shelf {
	order := []string{fmt.Sprintf("%08d", cmp.Or(l.destination.Slots[t.Key].Place, math.MaxInt32))}
	for _, by := range append(slices.Clone(l.p.ListOrder), "title") {
		value := v[orderFields[by]]
		if by == "kind" {
			value = t.Discs[0].Kind
		}
		order = append(order, strings.ToUpper(value))
	}
	before, _ := p.Rule.Path.Before(loader.FieldNumber, v)
	s := &shelf{folder: strings.ToUpper(path.Dir(before + "x")), order: strings.Join(order, "\x00")}
	if len(t.Discs) > 1 { // discs in one folder that has the number share it
		within := strings.Count(before, "/") + 1
		first := ""
		for d := range t.Discs {
			of := l.valuesOf(t, p)
			l.disc(&of, t, p, d)
			at := upTo(p.Rule.Path.FillPath(&of), within)
			if d == 0 {
				first = at
			}
			s.apart = s.apart || at != first && !p.Rule.Joins()
		}
	}
	return s
}

// upTo is the beginning of a path with so many parts.
func upTo(p string, parts int) string {
	all := strings.SplitN(p, "/", parts+1)
	return strings.Join(all[:min(parts, len(all))], "/")
}

// number gives a disc of a placed title its running number.
func (l *layer) number(v *loader.Values, p *Placement, disc int) {
	n := l.unnumbered
	if s := p.shelf; s != nil && s.number > 0 {
		if n = s.number; s.apart {
			n += disc
		}
	}
	v[loader.FieldNumber] = strconv.Itoa(n)
}

// count gives the titles of a group their numbers: those that hold one and keep it, the others in their order. It
// returns those that have to be laid again for it.
func (t *Tree) count(g *group) (moved []int) {
	n := &t.numbering
	taken := map[int]bool{}
	most := 0
	take := func(i, number int) {
		p := &t.Placements[i]
		for d := range p.shelf.takes(&t.titles[i]) {
			taken[number+d] = true
			most = max(most, number+d)
		}
		if p.shelf.number != number {
			p.shelf.number = number
			moved = append(moved, i)
		}
	}
	for number := range n.Taken[t.folderOf(g)] {
		taken[number] = true
		most = max(most, number)
	}
	keeps := func(i int) bool {
		return n.Held[i] > 0 && (t.Placements[i].Rule.Appends() || !n.counts(i))
	}
	for _, i := range g.members {
		if keeps(i) {
			take(i, n.Held[i])
		}
	}
	next := 1
	var others []int
	for _, i := range g.members {
		switch {
		case keeps(i):
		case !n.counts(i):
			others = append(others, i)
		case t.Placements[i].Rule.Appends():
			take(i, most+1)
		default:
			next = free(taken, next, t.Placements[i].shelf.takes(&t.titles[i]))
			take(i, next)
		}
	}
	t.suppose(g, others, taken, most, &moved)
	return moved
}

// suppose gives titles that do not come the numbers that they would have.
func (t *Tree) suppose(g *group, others []int, taken map[int]bool, most int, moved *[]int) {
	at, next := 0, 1
	for _, i := range others {
		s := t.Placements[i].shelf
		number := most + 1
		if !t.Placements[i].Rule.Appends() {
			for ; at < len(g.members) && g.members[at] != i; at++ {
				if k := g.members[at]; t.numbering.counts(k) {
					next = t.Placements[k].shelf.number + t.Placements[k].shelf.takes(&t.titles[k])
				}
			}
			number = next
			for t.numbering.Taken[s.folder][number] {
				number++
			}
		}
		if s.number != number {
			s.number = number
			*moved = append(*moved, i)
		}
	}
}

// takes is how many numbers a title has.
func (s *shelf) takes(t *title.Title) int {
	if s.apart {
		return len(t.Discs)
	}
	return 1
}

// free is the first of so many free numbers in a row, from one on.
func free(taken map[int]bool, from, n int) int {
	for at := from; ; at++ {
		ok := true
		for k := range n {
			ok = ok && !taken[at+k]
		}
		if ok {
			return at
		}
	}
}

// Takes is how many numbers title i has.
func (t *Tree) Takes(i int) int {
	if s := t.Placements[i].shelf; s != nil {
		return s.takes(&t.titles[i])
	}
	return 0
}

// FolderOf is the folder in which the number of title i counts.
func (t *Tree) FolderOf(i int) string { return t.Placements[i].shelf.folder }

func (t *Tree) folderOf(g *group) string { return t.Placements[g.members[0]].shelf.folder }

// A Numbered is a path of the target that has a running number: of which title it is, whatever the number, and -1 for
// one that no title of the tree has.
type Numbered struct {
	Path   string
	Title  int
	Number int
	Folder string
}

// NumbersAt finds the running numbers in paths of the target.
func (t *Tree) NumbersAt(paths []string) (out []Numbered) {
	of := map[string][2]int{} // what a path says without its number -> the title and disc
	for i := range t.Placements {
		p := &t.Placements[i]
		if p.Refusal != nil || !p.Rule.Numbered() {
			continue
		}
		for k := range p.Items {
			if key, _, ok := t.unnumbered(p.Items[k].Path, p.Rule); ok {
				if _, known := of[key]; !known {
					of[key] = [2]int{i, p.Items[k].Disc}
				}
			}
		}
	}
	for _, file := range paths {
		for k := range t.l.p.Accepts {
			rule := &t.l.p.Accepts[k]
			if !rule.Numbered() {
				continue
			}
			key, v, ok := t.unnumbered(file, rule)
			number, err := strconv.Atoi(v[loader.FieldNumber])
			if !ok || err != nil || number < 1 || !t.likely(rule, &v) {
				continue
			}
			x := Numbered{Path: file, Title: -1, Number: number}
			before, _ := rule.Path.Before(loader.FieldNumber, &v)
			x.Folder = strings.ToUpper(path.Dir(before + "x"))
			if at, known := of[key]; known {
				x.Title = at[0]
				if t.Placements[at[0]].shelf.apart {
					x.Number -= at[1]
				}
			}
			out = append(out, x)
			break
		}
	}
	return out
}

// likely reports whether what a path says can be so of a title of one of the rule's platforms: others the loader passes
// over, and their numbers are free.
func (t *Tree) likely(rule *loader.Accept, v *loader.Values) bool {
	return t.l.destination.Set == nil || slices.ContainsFunc(rule.Platforms, func(platform string) bool {
		return Unlikely(t.l.destination.Set, rule, rule.Path, platform, v) == ""
	})
}

// unnumbered is what a path says that one of a rule's templates could have made, but for its number.
func (t *Tree) unnumbered(file string, rule *loader.Accept) (key string, v loader.Values, ok bool) {
	for k, tpl := range []loader.Template{rule.Path, rule.Tracks, rule.TooLarge.Parts, rule.TooLarge.Manifest} {
		if tpl.Empty() {
			continue
		}
		at := file
		if k == 0 && FolderTitles(rule) {
			at = upTo(file, strings.Count(rule.Path.String(), "/")+1)
			if at == file && len(rule.Forms) == 1 {
				continue // a file beside folders, such as settings of one
			}
		}
		if v, ok = tpl.Match(at); ok {
			rest, _ := tpl.Without(loader.FieldNumber, at)
			return strings.ToUpper(strconv.Itoa(k) + "\x00" + rest + strings.TrimPrefix(file, at)), v, true
		}
	}
	return "", v, false
}
