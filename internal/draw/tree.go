package draw

import (
	"cmp"
	"math"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/survey"
	"polytome/internal/draw/scene"
	"polytome/internal/size"
)

// A Tree is what a target holds and will hold.
type Tree struct {
	Target, Detail string
	Lines          []survey.Line // what is in a folder right behind it, as [survey.Survey.Lines] gives them
	Titles         []TreeTitle   // where every title is
	// Whole draws every line; else folders with very much in them are folded, so that the tree has some pages.
	Whole bool
}

// A TreeTitle is a title and the file or folder that it has.
type TreeTitle struct {
	Name, Path string
	State      survey.State
}

// node is a file or folder, or several that were folded into one line.
type node struct {
	name   string
	folder bool
	state  survey.State
	from   string // its path before, of one that is renamed
	kids   []*node

	// of all files in it, or of itself
	files, folders int
	bytes          int64
	states         map[survey.State]int

	folded int // how many nodes it stands for, 0 for itself
}

// grow makes a tree of lines.
func grow(lines []survey.Line) *node {
	root := &node{folder: true}
	byPath := map[string]*node{"": root}
	var under func(dir string) *node
	under = func(dir string) *node {
		if dir == "." {
			dir = ""
		}
		if n := byPath[dir]; n != nil {
			return n
		}
		n := &node{name: path.Base(dir), folder: true, state: survey.Kept}
		byPath[dir] = n
		up := under(path.Dir(dir))
		up.kids = append(up.kids, n)
		return n
	}
	for i := range lines {
		l := &lines[i]
		if l.Folder {
			n := under(l.Path)
			n.state, n.from = l.State, l.From
			continue
		}
		up := under(path.Dir(l.Path))
		up.kids = append(up.kids, &node{name: path.Base(l.Path), state: l.State, from: l.From, files: 1, bytes: l.Size,
			states: map[survey.State]int{l.State: 1}})
	}
	root.sum()
	return root
}

// sum counts what is in a folder. What leaves takes no space.
func (n *node) sum() {
	if !n.folder {
		if n.state == survey.Removing || n.state == survey.Leftover {
			n.bytes = 0
		}
		return
	}
	n.states = map[survey.State]int{}
	for _, k := range n.kids {
		k.sum()
		n.add(k)
	}
}

func (n *node) add(k *node) {
	n.files += k.files
	n.folders += k.folders
	if k.folder && k.folded == 0 {
		n.folders++
	}
	n.bytes += k.bytes
	for s, c := range k.states {
		n.states[s] += c
	}
}

// lines is how many lines a tree has.
func (n *node) lines() int {
	all := 1
	for _, k := range n.kids {
		all += k.lines()
	}
	return all
}

// foldedPages is about how many pages a tree has that was folded.
const foldedPages = 2

// fold folds folders that have too much in them, as little as it takes for a tree to have no more than most lines. It
// reports whether it did.
func (n *node) fold(most int) bool {
	if n.lines() <= most {
		return false
	}
	for _, limit := range []int{200, 120, 80, 60, 40, 30, 20, 14, 10, 7, 5, 3} {
		if copied := n.folding(limit); copied.lines() <= most || limit == 3 {
			*n = *copied
			return true
		}
	}
	return true
}

// folding is a copy in which no folder has more than limit lines of one sort, files or folders.
func (n *node) folding(limit int) *node {
	out := *n
	out.kids = nil
	var files, folders []*node
	for _, k := range n.kids {
		if k.folder {
			folders = append(folders, k)
		} else {
			files = append(files, k)
		}
	}
	if len(folders) > limit {
		out.kids = append(out.kids, groups(folders, limit)...)
	} else {
		for _, k := range folders {
			out.kids = append(out.kids, k.folding(limit))
		}
	}
	if len(files) > limit {
		out.kids = append(out.kids, groups(files, limit)...)
	} else {
		out.kids = append(out.kids, files...)
	}
	return &out
}

// groups makes one line of each so many neighbours: about as many lines as neighbours in each of them.
func groups(all []*node, limit int) (out []*node) {
	lines := max(1, min(limit/2, int(math.Sqrt(float64(len(all))))))
	for i := range lines {
		part := all[len(all)*i/lines : len(all)*(i+1)/lines]
		g := &node{folder: part[0].folder, folded: len(part), states: map[survey.State]int{}}
		for _, k := range part {
			g.add(k)
		}
		g.name = part[0].name
		if len(part) > 1 {
			g.name += "\x00" + part[len(part)-1].name
		}
		out = append(out, g)
	}
	return out
}

// stateOrder is that in which states are counted.
var stateOrder = []survey.State{survey.New, survey.Written, survey.Renamed, survey.Replaced, survey.Kept,
	survey.InTheWay, survey.Contested, survey.Removing, survey.Leftover}

// words tell the states of what is in a folder; one that all have alone.
func (n *node) words() string {
	var parts []string
	for _, s := range stateOrder {
		if c := n.states[s]; c > 0 {
			if c == n.files {
				return string(s)
			}
			parts = append(parts, size.Exact(int64(c))+" "+string(s))
		}
	}
	return strings.Join(parts, ", ")
}

const treeSize, treeState, treeIndent, treeRow = 58.0, 104.0, 13.0, 11.5

// Draw draws the tree.
func (t Tree) Draw(o Options) *scene.Drawing {
	root := grow(t.Lines)
	s := scene.Begin(o.paper(), "The tree of "+t.Target,
		o.sub(t.Detail, counted(some(root.files, plural(root.files, "file")),
			some(root.folders, plural(root.folders, "folder")), size.Format(root.bytes))), o.Date)
	if len(t.Lines) == 0 {
		nothing(s, "Nothing is on this target, and nothing is selected for it yet.")
		return s.End()
	}
	s.WriteIn(small, s.Left, s.Y+7, s.Wide(), "now and after the next run: "+root.words())
	s.Y += 14
	treeMarks(s)
	folded := !t.Whole && root.fold(int((s.Bottom-s.Top-20)/treeRow)*foldedPages)
	d := &treeDrawer{s: s}
	head := func() {
		in := "path"
		if len(d.trail) > 0 { // the page begins in the middle of a folder
			in = "in " + strings.Join(d.trail, "/") + "/"
		}
		s.PathIn(small, s.Left, s.Y+7, s.Wide()-treeState-treeSize-20, in)
		s.WriteRight(small, s.Right-treeState-12, s.Y+7, treeSize, "size")
		s.Write(small, s.Right-treeState, s.Y+7, "what happens to it")
		s.Across(s.Left, s.Y+10, s.Wide(), 0.5, scene.Rule)
		s.Y += 15
	}
	head()
	s.Head = head
	d.kids(root, nil)
	s.Head = nil
	if folded {
		s.Y += 8
		d.links = append(d.links, treeLink{s.Here(), s.Left, s.Y, s.Wide()})
		paragraph(s, quiet, 0, "Lines with a bar stand for several neighbours and name the first and last. Behind "+
			"the tree is a list of where every title is.")
	}
	if folded || t.Whole && len(t.Titles) > 0 {
		t.index(s, d)
	}
	return s.End()
}

// treeMarks explains the marks.
func treeMarks(s *scene.Sheet) {
	x := s.Left
	for _, l := range []struct {
		state survey.State
		say   string
	}{{survey.New, "new"}, {survey.Written, "written for you"}, {survey.Renamed, "renamed, replaced"},
		{survey.Kept, "kept"}, {survey.InTheWay, "in the way, yours"}, {survey.Removing, "removed"}} {
		mark(s.Page, x+3, s.Y+4, l.state)
		x += 10
		x += s.Write(small, x, s.Y+7, l.say) + 14
	}
	s.Y += 18
}

// mark draws the mark of a state around a point.
func mark(p *scene.Page, x, y float64, state survey.State) {
	at := func(dx, dy float64) scene.Point { return scene.Point{X: x + dx, Y: y + dy} }
	switch state {
	case survey.Kept:
		p.Circle(x, y, 1.3, 0, scene.Black, inkOf(scene.Rule))
	case survey.New:
		p.Line(1.1, scene.Black, nil, at(-3, 0), at(3, 0))
		p.Line(1.1, scene.Black, nil, at(0, -3), at(0, 3))
	case survey.Written:
		p.Line(0.9, scene.Black, nil, at(-3, 2.2), at(3, 2.2))
		p.Line(0.9, scene.Black, nil, at(-3, -0.2), at(3, -0.2))
		p.Line(0.9, scene.Black, nil, at(-3, -2.6), at(1, -2.6))
	case survey.Renamed, survey.Replaced:
		p.Line(0.9, scene.Black, nil, at(-3, 0), at(2, 0))
		p.Polygon(scene.Black, at(1, -2.2), at(3.6, 0), at(1, 2.2))
	case survey.Removing, survey.Leftover:
		p.Line(1.1, scene.Black, nil, at(-2.5, -2.5), at(2.5, 2.5))
		p.Line(1.1, scene.Black, nil, at(-2.5, 2.5), at(2.5, -2.5))
	default:
		p.Polygon(scene.Black, at(0, -3.2), at(3.2, 2.4), at(-3.2, 2.4))
	}
}

// treeLink is a part of a page that leads to the list of titles.
type treeLink struct {
	at   scene.Spot
	x, y float64
	w    float64
}

type treeDrawer struct {
	s     *scene.Sheet
	links []treeLink
	trail []string // the folders above the line that is drawn
}

// kids draws what is in a folder. bars tells for each folder above whether more of it comes.
func (d *treeDrawer) kids(n *node, bars []bool) {
	for i, k := range n.kids {
		last := i == len(n.kids)-1
		d.line(k, bars, last)
		if len(k.kids) > 0 {
			d.trail = append(d.trail, k.name)
			d.kids(k, append(slices.Clone(bars), !last))
			d.trail = d.trail[:len(d.trail)-1]
		}
	}
}

// line draws one file or folder.
func (d *treeDrawer) line(n *node, bars []bool, last bool) {
	s := d.s
	s.Need(treeRow)
	if len(bars) == 0 && n.folder && n.folded == 0 {
		s.Mark(0, n.name)
	}
	y, mid := s.Y, s.Y+treeRow/2-1
	indent := min(treeIndent, (s.Wide()-treeSize-treeState-160)/float64(max(1, len(bars)+1)))
	x := s.Left
	for _, more := range bars {
		if more {
			s.Line(0.5, scene.Rule, nil, scene.Point{X: x + 3, Y: y}, scene.Point{X: x + 3, Y: y + treeRow})
		}
		x += indent
	}
	stem := y + treeRow
	if last {
		stem = mid
	}
	s.Line(0.5, scene.Rule, nil, scene.Point{X: x + 3, Y: y}, scene.Point{X: x + 3, Y: stem})
	s.Line(0.5, scene.Rule, nil, scene.Point{X: x + 3, Y: mid}, scene.Point{X: x + indent - 2, Y: mid})
	x += indent
	state := n.state
	switch {
	case n.folded > 0:
		s.Fill(x, y+1, 2.4, treeRow-3, scene.Black)
	case !n.folder:
		mark(s.Page, x+2, mid, state)
	}
	x += 8
	space := s.Right - treeState - treeSize - 20 - x
	base := s.Y + 8
	pen := scene.Pen{Size: 8.5, Ink: scene.Black}
	if n.folder && n.folded == 0 {
		pen = strong
	}
	end, ends := 0.0, s.Right-treeState-12-small.Width(size.Format(n.bytes))-4
	switch {
	case n.folded > 0:
		end = d.several(n, x, base, space)
		d.links = append(d.links, treeLink{s.Here(), s.Left, y, s.Wide()})
	case n.folder:
		w := s.PathIn(pen, x, base, space*0.7, n.name+"/")
		end = x + w + 6 + s.WriteIn(quiet, x+w+6, base, space-w-6, some(n.files, plural(n.files, "file")))
	default:
		end = x + s.PathIn(pen, x, base, space, n.name)
	}
	if n.files > 0 {
		if ends > end+12 { // leads the eye
			s.Line(0.5, scene.Pale, []float64{0.8, 2.4}, scene.Point{X: end + 5, Y: base - 0.5},
				scene.Point{X: ends, Y: base - 0.5})
		}
		s.WriteRight(small, s.Right-treeState-12, base, treeSize, size.Format(n.bytes))
	}
	words := n.words()
	if n.folder && n.files == 0 {
		words = string(n.state)
	}
	if n.state == survey.Renamed && n.from != "" {
		words = "was " + n.from
	}
	s.PathIn(small, s.Right-treeState, base, treeState, words)
	s.Y += treeRow
}

// several writes the line of nodes that were folded, and returns where it ends.
func (d *treeDrawer) several(n *node, x, y, space float64) float64 {
	s := d.s
	x, space = x+3, space-3
	what := "file"
	if n.folder {
		what = "folder"
	}
	w := s.WriteIn(label, x, y, space, size.Exact(int64(n.folded))+" "+plural(n.folded, what)) + 5
	first, last, both := strings.Cut(n.name, "\x00")
	if !both {
		return x + w + s.PathIn(small, x+w, y, space-w, first)
	}
	half := (space - w - 14) / 2
	if half < 10 {
		return x + w
	}
	w += s.PathIn(small, x+w, y, half, first) + 3
	w += s.Write(small, x+w, y, "…") + 3
	return x + w + s.PathIn(small, x+w, y, space-w, last)
}

// index reports where every title is.
func (t *Tree) index(s *scene.Sheet, d *treeDrawer) {
	if len(t.Titles) == 0 {
		return
	}
	all := slices.Clone(t.Titles)
	slices.SortStableFunc(all, func(a, b TreeTitle) int {
		return cmp.Or(cmp.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), cmp.Compare(a.Path, b.Path))
	})
	s.Next()
	s.Mark(0, "Where every title is")
	to := s.Here()
	s.Write(heading, s.Left, s.Y+9, "Where every title is")
	s.Y += 18
	name, where := scene.Pen{Size: 7.5, Ink: scene.Black}, smaller
	tab := newTable(s, column{name: "title", width: s.Wide() * 0.42}, column{name: "file or folder"},
		column{name: "", width: 44})
	tab.height = 10
	for i := range all {
		for k, l := range name.Wrap(all[i].Name, tab.columns[0].width) {
			if k > 0 {
				tab.row(name, l, "", "")
				continue
			}
			s.Need(tab.height)
			y := s.Y + 7.5
			s.Write(name, s.Left, y, l)
			x := s.Left + tab.columns[0].width + columnGap
			s.PathIn(where, x, y, tab.columns[1].width, all[i].Path)
			s.WriteRight(where, s.Right, y, 44, string(all[i].State))
			s.Y += tab.height
		}
	}
	tab.end()
	for _, l := range d.links {
		p := s.D.Pages[l.at.Page]
		p.Items = append(p.Items, &scene.Link{X: l.x, Y: l.y, W: l.w, H: treeRow, To: to})
	}
}
