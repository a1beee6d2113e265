package layout

import (
	"path"
	"slices"
	"strings"

	"polytome/internal/core/shape"
)

// A Line is one file or folder of a tree as it is shown.
type Line struct {
	Path   string     `json:"path"`
	Folder bool       `json:"folder,omitempty"`
	Size   int64      `json:"size"`
	AtMost bool       `json:"at-most,omitempty"`
	Shape  shape.Name `json:"shape,omitempty"`
	Rule   string     `json:"rule"`
	Title  int        `json:"title"` // index of the title that it is for, -1 for none

	order string
}

// Depth is how many folders lie above the line.
func (l *Line) Depth() int { return strings.Count(l.Path, "/") }

// Outline lists the whole tree: the files of all titles with their companions, the files
// in which titles are listed, the folders of a first start where they may be made, and the
// folders above all of them. What is in a folder comes right behind it.
func (t *Tree) Outline() []Line {
	byPath := map[string]Line{}
	add := func(l Line) {
		for _, dir := range Folders(l.Path) {
			if _, ok := byPath[strings.ToUpper(dir)]; !ok {
				byPath[strings.ToUpper(dir)] = Line{Path: dir, Folder: true, Rule: l.Rule, Title: -1}
			}
		}
		if was, ok := byPath[strings.ToUpper(l.Path)]; !ok || was.Folder {
			byPath[strings.ToUpper(l.Path)] = l
		}
	}
	if boot := &t.l.p.FirstBoot; boot.MayMake {
		for _, dir := range FirstBoot(t.l.p) {
			add(Line{Path: dir, Folder: true, Rule: boot.Why, Title: -1})
		}
	}
	for i := range t.Placements {
		p := &t.Placements[i]
		for k := range p.Items {
			item := &p.Items[k]
			add(Line{Path: item.Path, Folder: item.Folder, Size: item.Size, AtMost: item.AtMost, Shape: item.Shape,
				Rule: p.Because(item), Title: i})
		}
		for _, c := range t.Companions(i) {
			add(Line{Path: c.Path, Size: c.Size, Shape: c.Shape, Rule: c.Rule, Title: i})
		}
	}
	for _, l := range t.Lists(func(int) bool { return true }) {
		add(Line{Path: l.Path, Size: int64(len(l.Data)), Shape: shape.Written, Rule: l.Rule, Title: -1})
	}
	here := t.l.here()
	for _, f := range t.l.p.Kit.Files {
		if f.Text != "" && here.Needs(&f) {
			add(Line{Path: f.To, Size: int64(len(strings.TrimPrefix(f.Text, "\n"))), Shape: shape.Written, Rule: f.Why,
				Title: -1})
		}
	}
	out := make([]Line, 0, len(byPath))
	for key, l := range byPath {
		l.order = strings.ReplaceAll(key, "/", "\x00")
		out = append(out, l)
	}
	slices.SortFunc(out, func(a, b Line) int { return strings.Compare(a.order, b.order) })
	return out
}

// Name is the last part of the line's path.
func (l *Line) Name() string { return path.Base(l.Path) }
