package draw

import (
	"fmt"

	"polytome/internal/core/blockmap"
	"polytome/internal/core/prepare"
	"polytome/internal/draw/scene"
	"polytome/internal/draw/typeface"
	"polytome/internal/drives"
	"polytome/internal/size"
)

// A VolumeMap is what is where on a volume, and what will lie where after something that is planned.
type VolumeMap struct {
	Target string
	Now    *blockmap.Map
	Shown  Shown
	// After is the volume as it will be, nil for nothing planned; Planned says what, and NotFixed which files stay
	// fragmented, and why.
	After    *blockmap.Map
	Planned  string
	NotFixed []string
	// Ready is a drive that is to be prepared; nil for none. Its volumes are drawn before and after.
	Ready *prepare.Plan
}

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
		volumeOf(s, "", m.Now)
	} else {
		volumeOf(s, "Now", m.Now)
		volumeOf(s, "Afterwards", m.After)
		for _, n := range m.NotFixed {
			paragraph(s, body, 0, n)
		}
		s.Y += 6
	}
	lengths(s, m.Now, m.Shown)
	return s.End()
}

func volumeOf(s *scene.Sheet, when string, m *blockmap.Map) {
	s.Need(170) // with the arcs, and the lines above and below
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
	tape(s, m)
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
	}{{blockmap.File, "contiguous, with the next one"}, {blockmap.Fragmented, "a fragment, joined by arcs"},
		{blockmap.Folder, "a folder"}, {blockmap.System, "the volume's own"}, {blockmap.Free, "free"}} {
		fillOf(s.Page, x, s.Y, 14, 8, l.kind, false)
		s.Rect(x, s.Y, 14, 8, 0.5, scene.Black, nil)
		x += 18
		x += s.Write(small, x, s.Y+7, l.say) + 13
	}
	s.Y += 16
}

// mostBows is how many arcs are drawn, tapeCell how wide a part of the tape is that can be distinguished, in points.
const (
	mostBows = 1500
	tapeCell = 0.8
	tapeHigh = 16.0
)

// tape draws the volume as a measuring tape, with arcs from part to part of what lies in several.
func tape(s *scene.Sheet, m *blockmap.Map) {
	all := m.Lengths(m.Least())
	wide := s.Wide()
	centre := func(l blockmap.Length) float64 {
		return s.Left + wide*(float64(l.First-2)+float64(l.Count)/2)/float64(max(1, m.Info.Clusters))
	}
	next := map[[2]int]blockmap.Length{} // by owner and part
	for _, l := range all {
		if l.Parts > 1 {
			next[[2]int{l.Owner, l.Part}] = l
		}
	}
	type bow struct{ from, to, rise float64 }
	var bows []bow
	highest := 0.0
	for _, l := range all {
		to, joined := next[[2]int{l.Owner, l.Part + 1}]
		if !joined || l.Parts < 2 || len(bows) == mostBows {
			continue
		}
		a, b := centre(l), centre(to)
		a, b = min(a, b), max(a, b)
		bows = append(bows, bow{a, b, min(44, 4+(b-a)*0.35)})
		highest = max(highest, bows[len(bows)-1].rise)
	}
	base := s.Y + highest + 2
	for _, b := range bows {
		s.Arc(b.from, b.to, base, b.rise, 0.6, scene.Dark)
	}
	n := int(wide / tapeCell)
	shown := m.Strip(all, n)
	for i, odd := 0, false; i < n; odd = !odd {
		from := i
		for i < n && shown[i] == shown[from] {
			i++
		}
		l := all[shown[from]]
		x, w := s.Left+float64(from)*wide/float64(n), float64(i-from)*wide/float64(n)
		fillOf(s.Page, x, base, w, tapeHigh, l.Kind, odd)
		if what, _ := m.Say(l); l.File >= 0 && l.Kind != blockmap.Folder && w > 40 {
			pen := scene.Pen{Size: 6.5, Ink: scene.Black}
			if l.Kind == blockmap.Fragmented {
				pen.Ink, pen.Weight = scene.White, typeface.Bold
			}
			s.WriteIn(pen, x+3, base+10.3, w-6, what)
		}
	}
	s.Rect(s.Left, base, wide, tapeHigh, 0.9, scene.Black, nil)
	s.Y = base + tapeHigh
	for _, mark := range m.Marks(int(wide / 60)) {
		x := s.Left + mark.At*wide
		s.Line(0.6, scene.Black, nil, scene.Point{X: x, Y: s.Y}, scene.Point{X: x, Y: s.Y + 4})
		s.WriteIn(smaller, x, s.Y+11, s.Left+wide-x, mark.Say)
	}
	s.Y += 18
}

// mostLengths is how many lengths are listed; with more of them, what is contiguous is left out.
const mostLengths = 600

// lengths lists the tape from its beginning to its end.
func lengths(s *scene.Sheet, m *blockmap.Map, shown Shown) {
	all := m.Lengths(m.Least())
	left := 0
	if len(all) > mostLengths {
		kept := all[:0:0]
		for _, l := range all {
			if l.Kind == blockmap.Free || l.Parts > 1 {
				kept = append(kept, l)
			}
		}
		left = len(all) - len(kept)
		if more := len(kept) - mostLengths; more > 0 {
			kept, left = kept[:mostLengths], left+more
		}
		all = kept
	}
	section(s, "From the beginning to the end", 60)
	t := newTable(s, column{name: "begins at", width: 70, right: true}, column{name: "length", width: 70, right: true},
		column{name: "what lies there", path: true}, column{name: "platform", width: 90},
		column{name: "how", width: 100})
	for _, l := range all {
		what, how := m.Say(l)
		platform := m.Platform(l)
		if platform != "" {
			platform = shown.of(platform)
		}
		pen := body
		if l.Kind == blockmap.Fragmented {
			pen = strong
		}
		t.row(pen, size.Format(m.Begins(l)), size.Format(m.Bytes(l)), what, platform, how)
	}
	t.end()
	if left > 0 {
		paragraph(s, quiet, 0, fmt.Sprintf("and %s more, most of them contiguous", size.Exact(int64(left))))
	}
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
