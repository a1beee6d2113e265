package draw

import (
	"fmt"
	"path"

	"polytome/internal/core/blockmap"
	"polytome/internal/core/prepare"
	"polytome/internal/draw/scene"
	"polytome/internal/draw/typeface"
	"polytome/internal/drives"
	"polytome/internal/format/volume"
	"polytome/internal/size"
)

// A VolumeMap is what is where on a volume, and what will lie where after something that is planned.
type VolumeMap struct {
	Target string
	Now    *blockmap.Map
	// After is the volume as it will be, nil for nothing planned; Planned says what, and NotFixed which files stay
	// fragmented, and why.
	After    *blockmap.Map
	Planned  string
	NotFixed []string
	// Ready is a drive that is to be prepared; nil for none. Its volumes are drawn before and after.
	Ready *prepare.Plan
}

// mapRowsTall is how many rows a map has, mapRowsShort one of two that stand below each other; mapCell is how wide a
// part is that can be distinguished, in points.
const (
	mapRowsTall  = 30
	mapRowsShort = 14
	mapCell      = 1.6
	mapRow       = 12.0
)

// Draw draws the map.
func (m VolumeMap) Draw(o Options) *scene.Drawing {
	s := scene.Begin(o.paper(), "What is stored where on "+m.Target, o.sub(m.Planned), o.Date)
	if m.Ready != nil {
		preparing(s, m.Ready)
	}
	if m.Now == nil {
		if m.Ready == nil {
			nothing(s, "There is no volume to draw.")
		}
		return s.End()
	}
	if m.After == nil {
		volumeOf(s, "", m.Now, mapRowsTall)
	} else {
		volumeOf(s, "Now", m.Now, mapRowsShort)
		volumeOf(s, "Afterwards", m.After, mapRowsShort)
		for _, n := range m.NotFixed {
			paragraph(s, body, 0, n)
		}
		s.Y += 6
	}
	pieces(s, m.Now)
	holes(s, m.Now)
	return s.End()
}

func volumeOf(s *scene.Sheet, when string, m *blockmap.Map, high int) {
	need := float64(high)*mapRow + 90 // with the lines above and below
	if len(m.Fragmented()) > 0 {
		need += 82 // the arcs, the strip below them and a line
	}
	s.Need(need)
	if when != "" {
		section(s, when, 0)
	}
	info := &m.Info
	name := info.Label
	if name == "" {
		name = "without a name"
	}
	torn := len(m.Fragmented())
	unit := "clusters"
	if info.Filesystem == drives.Slab {
		unit = "slabs"
	}
	say := fmt.Sprintf("%s, %s, %s, %s of %s", name, drives.FilesystemShown(info.Filesystem), size.Format(info.Size),
		unit,
		size.Format(info.Cluster))
	paragraph(s, body, 0, say)
	pieces := "every file is contiguous"
	if torn > 0 {
		pieces = size.Exact(int64(torn)) + " " + plural(torn, "file") + " fragmented"
	}
	paragraph(s, body, 0, fmt.Sprintf("%s free, the largest run %s; %s", size.Format(m.FreeBytes()),
		size.Format(m.Largest()), pieces))
	s.Y += 4
	mapLegend(s)
	look := shading{}
	arcs(s, m, look)
	rows(s, m, high, look)
	s.Y += 14
}

// fillOf draws what a kind of cluster looks like.
func fillOf(p *scene.Page, x, y, w, h float64, kind blockmap.Kind, odd bool) {
	switch kind {
	case blockmap.File:
		ink := scene.Ink(190)
		if odd {
			ink = 160
		}
		p.Fill(x, y, w, h, ink)
	case blockmap.Fragmented:
		p.Fill(x, y, w, h, scene.Black)
	case blockmap.Folder:
		p.Hatch(x, y, w, h, 3, 0.6, scene.Black, false)
	case blockmap.System:
		p.Fill(x, y, w, h, scene.Grey)
	}
}

func mapLegend(s *scene.Sheet) {
	x := s.Left
	for _, l := range []struct {
		kind blockmap.Kind
		say  string
	}{{blockmap.File, "contiguous file"}, {blockmap.Fragmented, "fragmented file, fragments joined by arcs"},
		{blockmap.Folder, "a folder"}, {blockmap.System, "the volume's own"}, {blockmap.Free, "free"}} {
		fillOf(s.Page, x, s.Y, 14, 8, l.kind, false)
		s.Rect(x, s.Y, 14, 8, 0.5, scene.Black, nil)
		x += 18
		x += s.Write(small, x, s.Y+7, l.say) + 13
	}
	s.Y += 16
}

// mostArcs is of how many files the bows are drawn: those in the most pieces.
const mostArcs, mostBows = 40, 1500

// arcs draws the volume as one strip, with bows between the pieces of a file.
func arcs(s *scene.Sheet, m *blockmap.Map, look shading) {
	torn := m.Fragmented()
	if len(torn) == 0 {
		return
	}
	wide := s.Wide()
	at := func(r volume.Run) float64 {
		return s.Left + wide*(float64(r.First-2)+float64(r.Count)/2)/float64(max(1, m.Info.Clusters))
	}
	type bow struct{ from, to, rise float64 }
	var bows []bow
	highest := 0.0
	for i, f := range torn {
		if i >= mostArcs || len(bows) >= mostBows {
			break
		}
		for k := 1; k < len(f.Runs) && len(bows) < mostBows; k++ {
			a, b := at(f.Runs[k-1]), at(f.Runs[k])
			if b < a {
				a, b = b, a
			}
			bows = append(bows, bow{a, b, min(44, 4+(b-a)*0.35)})
			highest = max(highest, bows[len(bows)-1].rise)
		}
	}
	base := s.Y + highest + 2
	for _, b := range bows {
		s.Arc(b.from, b.to, base, b.rise, 0.6, scene.Dark)
	}
	strip(s.Page, m.Cells(int(wide/mapCell)), s.Left, base, wide/float64(int(wide/mapCell)), 12, look)
	s.Rect(s.Left, base, wide, 12, 0.6, scene.Black, nil)
	s.Y = base + 18
	if len(torn) > mostArcs {
		paragraph(s, quiet, 0, fmt.Sprintf("arcs for the %d most fragmented files", mostArcs))
	}
	s.Y += 6
}

// shading distinguishes neighbours: every other file that is met is darker.
type shading map[int]bool

func (l shading) odd(file int) bool {
	odd, known := l[file]
	if !known {
		odd = len(l)%2 == 1
		l[file] = odd
	}
	return odd
}

// strip draws cells beside each other: those of one file as one.
func strip(p *scene.Page, cells []blockmap.Cell, x, y, each, h float64, look shading) {
	for i := 0; i < len(cells); {
		c, from := cells[i], i
		for i < len(cells) && cells[i].Kind == c.Kind && cells[i].File == c.File {
			i++
		}
		if c.Kind != blockmap.Free {
			fillOf(p, x+float64(from)*each, y, float64(i-from)*each, h, c.Kind, look.odd(c.File))
		}
	}
}

// rows draws the volume in rows, with the names of files that are large enough.
func rows(s *scene.Sheet, m *blockmap.Map, high int, look shading) {
	each := int(s.Wide() / mapCell)
	wide := s.Wide() / float64(each)
	cells := m.Cells(each * high)
	name := scene.Pen{Size: 6.5, Ink: scene.Black}
	for r := range high {
		row := cells[r*each : (r+1)*each]
		strip(s.Page, row, s.Left, s.Y, wide, mapRow, look)
		for i := 0; i < each; {
			from := i
			for i < each && row[i].File == row[from].File && row[i].Kind == row[from].Kind {
				i++
			}
			space := float64(i-from)*wide - 6
			if f := row[from].File; f >= 0 && space > 50 && row[from].Kind != blockmap.Folder &&
				(r == 0 || cells[r*each-1].File != f || from > 0) {
				pen := name
				if row[from].Kind == blockmap.Fragmented {
					pen.Ink, pen.Weight = scene.White, typeface.Bold
				}
				s.PathIn(pen, s.Left+float64(from)*wide+3, s.Y+8.3, space, path.Base(m.Files[f].Path))
			}
		}
		s.Rect(s.Left, s.Y, s.Wide(), mapRow, 0.35, scene.Rule, nil)
		s.Y += mapRow
	}
	s.Rect(s.Left, s.Y-float64(high)*mapRow, s.Wide(), float64(high)*mapRow, 0.9, scene.Black, nil)
	s.Y += 4
	part := m.Info.Size / int64(len(cells))
	s.Write(smaller, s.Left, s.Y+6, fmt.Sprintf("from left to right and from row to row; a row is %s",
		size.Format(part*int64(each))))
	s.Y += 12
}

// mostFragments is how many files fragmented are listed.
const mostFragments = 200

// pieces lists the files that are in more than one.
func pieces(s *scene.Sheet, m *blockmap.Map) {
	torn := m.Fragmented()
	if len(torn) == 0 {
		return
	}
	section(s, "Fragmented", 60)
	t := newTable(s, column{name: "file", path: true}, column{name: "fragments", width: 50, right: true},
		column{name: "size", width: 70, right: true})
	for _, f := range torn[:min(len(torn), mostFragments)] {
		t.row(body, f.Path, size.Exact(int64(len(f.Runs))), size.Format(f.Size))
	}
	t.end()
	if more := len(torn) - mostFragments; more > 0 {
		paragraph(s, quiet, 0, fmt.Sprintf("and %s more", size.Exact(int64(more))))
	}
}

// holes lists the largest free runs.
func holes(s *scene.Sheet, m *blockmap.Map) {
	runs := m.LargestFree(8)
	if len(runs) == 0 {
		section(s, "Free runs", 20)
		paragraph(s, body, 0, "Nothing is free.")
		return
	}
	section(s, "The largest free runs", 40)
	t := newTable(s, column{name: "begins at", width: 110, right: true}, column{name: "size", width: 90, right: true},
		column{name: ""})
	for _, r := range runs {
		t.row(body, size.Format(m.Info.Heap+int64(r.First-2)*m.Info.Cluster),
			size.Format(int64(r.Count)*m.Info.Cluster), "")
	}
	t.end()
}

// preparing draws a drive before and after it is prepared.
func preparing(s *scene.Sheet, p *prepare.Plan) {
	d := p.Drive
	paragraph(s, body, 0, fmt.Sprintf("%s, %s", d.Name(), size.Format(d.Size)))
	if p.Loses != "" {
		paragraph(s, strong, 0, "This will be lost: "+p.Loses)
	}
	s.Y += 8
	for _, part := range []struct {
		name   string
		slices []prepare.Slice
	}{{"Now", p.Before}, {"Afterwards", p.After}} {
		s.Need(80)
		s.Mark(0, part.name)
		s.Write(heading, s.Left, s.Y+9, part.name)
		s.Y += 16
		slicesOf(s, part.slices, d.Size)
	}
	if len(p.Reasons) > 0 {
		s.Y += 4
		section(s, "Why", 40)
		for _, r := range p.Reasons {
			paragraph(s, body, 0, r.What+": "+r.Why)
			s.Y += 3
		}
	}
	if len(p.Steps) > 0 {
		s.Y += 8
		section(s, "Steps", 40)
		for i, l := range p.Steps {
			paragraph(s, body, 0, fmt.Sprintf("%d. %s", i+1, l))
			s.Y += 3
		}
	}
	for _, n := range p.Notes {
		paragraph(s, quiet, 0, n)
	}
	s.Y += 10
}

// slicesOf draws the parts of a drive to scale, each with its words below.
func slicesOf(s *scene.Sheet, parts []prepare.Slice, whole int64) {
	const high = 26.0
	wide := s.Wide()
	x := func(at int64) float64 { return s.Left + wide*float64(at)/float64(max(1, whole)) }
	for _, p := range parts {
		left, w := x(p.Start), max(1, wide*float64(p.Size)/float64(max(1, whole)))
		switch p.Kind {
		case "lost":
			s.Fill(left, s.Y, w, high, scene.Pale)
			s.Line(0.6, scene.Black, nil, scene.Point{X: left, Y: s.Y}, scene.Point{X: left + w, Y: s.Y + high})
			s.Line(0.6, scene.Black, nil, scene.Point{X: left, Y: s.Y + high}, scene.Point{X: left + w, Y: s.Y})
		case "kept":
			s.Fill(left, s.Y, w, high, 150)
		case "new":
			s.Hatch(left, s.Y, w, high, 4, 0.6, scene.Grey, false)
		case "table":
			s.Fill(left, s.Y, w, high, scene.Dark)
		}
		s.Rect(left, s.Y, w, high, 0.8, scene.Black, nil)
	}
	s.Rect(s.Left, s.Y, wide, high, 1, scene.Black, nil)
	s.Y += high + 4
	for _, p := range parts {
		s.Need(11)
		say := p.Say
		if say == "" {
			say = "something unknown"
		}
		word := map[string]string{"lost": "is lost", "kept": "stays", "new": "is made", "table": "partition table",
			"free": ""}[p.Kind]
		s.WriteRight(small, s.Left+70, s.Y+7, 68, size.Format(p.Start))
		s.WriteRight(small, s.Left+140, s.Y+7, 66, size.Format(p.Size))
		s.WriteIn(small, s.Left+150, s.Y+7, 80, word)
		s.WriteIn(small, s.Left+235, s.Y+7, wide-235, say)
		s.Y += 10.5
	}
	s.Y += 10
}
