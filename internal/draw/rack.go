package draw

import (
	"cmp"
	"fmt"
	"slices"

	"polytome/internal/draw/scene"
	"polytome/internal/size"
)

// A Rack is all targets as upright volumes, filled to scale.
type Rack struct {
	Targets []Volume
	Shown   Shown
}

// A Volume is one target. Amounts are bytes.
type Volume struct {
	Name, Detail string
	Away         string // why it cannot be looked at, "" for one that can
	Capacity     int64
	Kept         int64 // what is there and stays, the filesystem's own structures included
	Planned      int64 // what is chosen and not there yet
	Unknown      bool  // no one reports how much space there is: the capacity is none
	Reserve      int64 // what is to stay free
	Over         int64 // what is wanted and does not go
	OverTitles   int
	Shares       []Share
}

// A Share is what the titles of one platform take of a target.
type Share struct {
	Platform              string
	Kept, Planned         int64 // bytes
	KeptTitles, NewTitles int
}

// seen is which part of a volume is seen in its drawing: one of so many.
const seen = 120

// Free is what is left when all that is planned is there.
func (v *Volume) Free() int64 { return max(0, v.Capacity-v.Kept-v.Planned) }

// share is a part of the space in words.
func (v *Volume) share(bytes int64) string {
	if v.Unknown {
		return "–"
	}
	return percentOf(bytes, v.Capacity)
}

// space is an amount of the space in words.
func (v *Volume) space(bytes int64) string {
	if v.Unknown {
		return "not reported"
	}
	return size.Format(bytes)
}

// slice is a part of a volume as it is drawn.
type slice struct {
	name    string
	bytes   int64
	titles  int
	planned bool
	other   bool
}

// slices are the parts of a volume from its bottom up: what is kept, then what is planned, the largest platforms first.
func (v *Volume) slices(shown Shown) (out []slice) {
	shares := slices.Clone(v.Shares)
	part := func(bytes func(*Share) int64, count func(*Share) int, whole int64, planned bool, rest string) {
		slices.SortStableFunc(shares, func(a, b Share) int { return cmp.Compare(bytes(&b), bytes(&a)) })
		left := whole
		var few []slice // too little to be seen
		for i := range shares {
			n := min(bytes(&shares[i]), left)
			if n <= 0 {
				continue
			}
			left -= n
			part := slice{name: shown.of(shares[i].Platform), bytes: n, titles: count(&shares[i]), planned: planned}
			if n < v.Capacity/seen {
				few = append(few, part)
			} else {
				out = append(out, part)
			}
		}
		if len(few) > 2 {
			one := slice{name: fmt.Sprintf("%d platforms", len(few)), planned: planned}
			for _, f := range few {
				one.bytes, one.titles = one.bytes+f.bytes, one.titles+f.titles
			}
			few = []slice{one}
		}
		out = append(out, few...)
		if left > 0 {
			out = append(out, slice{name: rest, bytes: left, planned: planned, other: true})
		}
	}
	part(func(s *Share) int64 { return s.Kept }, func(s *Share) int { return s.KeptTitles }, v.Kept, false,
		"other files, tables")
	part(func(s *Share) int64 { return s.Planned }, func(s *Share) int { return s.NewTitles }, v.Planned, true,
		"covers, folders")
	return out
}

// widest and narrowest are how wide the column of a target is.
const widest, narrowest = 190.0, 126.0

// Draw draws the rack.
func (r Rack) Draw(o Options) *scene.Drawing {
	s := scene.Begin(o.paper().Across(), "The rack", o.sub(some(len(r.Targets), plural(len(r.Targets), "target")),
		"each to its own scale"), o.Date)
	if len(r.Targets) == 0 {
		nothing(s, "The bench has no target yet. Add one with P on the screen, or in the bench file.")
		return s.End()
	}
	r.legend(s)
	per := min(len(r.Targets), max(1, int(s.Wide()/narrowest)))
	if pages := (len(r.Targets) + per - 1) / per; pages > 1 { // as many on each page
		per = (len(r.Targets) + pages - 1) / pages
	}
	each := min(widest, s.Wide()/float64(per))
	for from := 0; from < len(r.Targets); from += per {
		if from > 0 {
			s.Next()
		}
		for i, n := from, min(from+per, len(r.Targets)); i < n; i++ {
			r.volume(s, &r.Targets[i], s.Left+float64(i-from)*each, each)
		}
		s.Y = s.Bottom
	}
	s.Next()
	r.oneScale(s)
	r.totals(s)
	r.platforms(s)
	return s.End()
}

// The fills of the rack.
func keptFill(p *scene.Page, x, y, w, h float64, odd, other bool) {
	ink := scene.Ink(120)
	if odd {
		ink = 158
	}
	if other {
		ink = scene.Dark
	}
	p.Fill(x, y, w, h, ink)
}

func plannedFill(p *scene.Page, x, y, w, h float64, odd bool) {
	p.Fill(x, y, w, h, scene.White)
	p.Hatch(x, y, w, h, 3.6, 0.7, scene.Dark, odd)
}

func (r *Rack) legend(s *scene.Sheet) {
	x, y := s.Left, s.Y
	swatch := func(draw func(x float64), say string) {
		draw(x)
		s.Rect(x, y, 14, 9, 0.5, scene.Black, nil)
		x += 19
		x += s.Write(small, x, y+7.5, say) + 16
	}
	swatch(func(x float64) {
		keptFill(s.Page, x, y, 7, 9, false, false)
		keptFill(s.Page, x+7, y, 7, 9, true, false)
	}, "kept, by platform")
	swatch(func(x float64) { keptFill(s.Page, x, y, 14, 9, false, true) }, "kept, other")
	swatch(func(x float64) { plannedFill(s.Page, x, y, 14, 9, false) }, "planned")
	swatch(func(float64) {}, "free")
	s.Line(0.8, scene.Black, []float64{2.5, 2}, scene.Point{X: x, Y: y + 4.5}, scene.Point{X: x + 14, Y: y + 4.5})
	s.Write(small, x+19, y+7.5, "above it: the reserve, kept free")
	s.Y += 22
}

// volume draws one target in a column.
func (r *Rack) volume(s *scene.Sheet, v *Volume, x, w float64) {
	y := s.Y
	const bar = 46.0
	inner := w - 12
	for _, l := range strong.WrapMost(v.Name, inner, 2) {
		s.Write(strong, x, y+8, l)
		y += strong.Leading()
	}
	y = s.Y + 2*strong.Leading()
	for k, l := range smaller.WrapMost(v.Detail, inner, 2) {
		s.Write(smaller, x, y+6+float64(k)*smaller.Leading(), l)
	}
	y += 2*smaller.Leading() + 4
	if v.OverTitles > 0 {
		s.Rect(x, y, bar, 13, 0.8, scene.Black, nil)
		s.Line(0.8, scene.Black, nil, scene.Point{X: x, Y: y}, scene.Point{X: x + bar, Y: y + 13})
		s.WriteIn(smaller, x+bar+5, y+5.5, w-bar-17, "does not fit:")
		s.WriteIn(smaller, x+bar+5, y+12.5, w-bar-17, fmt.Sprintf("%s, %s", titles(v.OverTitles), size.Format(v.Over)))
	}
	y += 17
	bottom := s.Bottom - 30
	high := bottom - y
	s.WriteCentre(label, x+bar/2, bottom+11, bar+14, v.share(v.Kept+v.Planned))
	s.WriteIn(smaller, x, bottom+20, w-8, "of "+v.space(v.Capacity))
	if v.Away != "" {
		lines := smaller.WrapMost("away: "+v.Away, w-bar-17, 8)
		s.Para(smaller, x+bar+5, y+8, lines)
	}
	if v.Capacity > 0 {
		r.fills(s, v, x, y, bar, high, w)
	}
	s.Rect(x, y, bar, high, 1.1, scene.Black, nil)
}

func percentOf(n, of int64) string {
	if of <= 0 {
		return "-"
	}
	return fmt.Sprintf("%.0f %%", 100*float64(n)/float64(of))
}

// note is the text beside a part of a volume.
type note struct {
	at    float64 // the height of the part's middle
	y     float64 // where the text is
	lines [2]string
}

// noteHeight is what a note takes.
const noteHeight = 17.0

// fills fills a volume, and writes beside it what is what.
func (r *Rack) fills(s *scene.Sheet, v *Volume, x, y, bar, high, w float64) {
	bottom := y + high
	scale := high / float64(v.Capacity)
	at := bottom
	var notes []note
	parts := v.slices(r.Shown)
	for i, p := range parts {
		h := min(float64(p.bytes)*scale, at-y)
		top := at - h
		if p.planned {
			plannedFill(s.Page, x, top, bar, h, i%2 == 1)
		} else {
			keptFill(s.Page, x, top, bar, h, i%2 == 1, p.other)
		}
		if h > 3 {
			s.Across(x, top, bar, 0.5, scene.Black)
		}
		what := p.name
		if p.titles > 0 {
			what += " · " + fmt.Sprint(p.titles)
		}
		say := size.Format(p.bytes)
		if p.planned {
			say += " planned"
		}
		if away := v.Away != "" && p.planned; !away {
			notes = append(notes, note{at: top + h/2, lines: [2]string{what, say}})
		}
		at = top
	}
	if free := v.Free(); free > 0 {
		notes = append(notes, note{at: (y + at) / 2, lines: [2]string{"free", v.space(free)}})
	}
	if v.Reserve > 0 && v.Reserve < v.Capacity {
		line := y + float64(v.Reserve)*scale
		s.Line(0.8, scene.Black, []float64{2.5, 2}, scene.Point{X: x, Y: line}, scene.Point{X: x + bar, Y: line})
	}
	if v.Away != "" {
		y += 8 * smaller.Leading() // what is said of it stands there
	}
	notes = settle(notes, y, bottom)
	for _, n := range notes {
		s.Line(0.4, scene.Rule, nil, scene.Point{X: x + bar, Y: n.at}, scene.Point{X: x + bar + 4, Y: n.at},
			scene.Point{X: x + bar + 9, Y: n.y + 4}, scene.Point{X: x + bar + 11, Y: n.y + 4})
		s.WriteIn(small, x+bar+13, n.y+6, w-bar-21, n.lines[0])
		s.WriteIn(smaller, x+bar+13, n.y+13.5, w-bar-21, n.lines[1])
	}
}

// settle gives every note a target of its own between two heights, as near to its part as can be. Notes come from the
// bottom up; where there are too many, those in the middle become one.
func settle(notes []note, top, bottom float64) []note {
	if most := int((bottom - top) / noteHeight); len(notes) > most && most > 1 {
		merged := notes[most-2 : len(notes)-1]
		one := note{at: merged[len(merged)/2].at, lines: [2]string{fmt.Sprintf("%d more", len(merged)),
			"see the tables"}}
		notes = append(append(slices.Clone(notes[:most-2]), one), notes[len(notes)-1])
	}
	floor := bottom
	for i := range notes { // upwards, none below its neighbour
		notes[i].y = min(notes[i].at-noteHeight/2, floor-noteHeight)
		floor = notes[i].y
	}
	ceiling := top
	for i := len(notes) - 1; i >= 0; i-- { // and down again, where that went over the edge
		notes[i].y = max(notes[i].y, ceiling)
		ceiling = notes[i].y + noteHeight
	}
	return notes
}

// oneScale draws all targets to one scale.
func (r *Rack) oneScale(s *scene.Sheet) {
	var largest int64
	for i := range r.Targets {
		largest = max(largest, r.Targets[i].Capacity)
	}
	if largest <= 0 {
		return
	}
	section(s, "All to one scale", 40)
	const nameWidth, sizeWidth = 130.0, 60.0
	wide := s.Wide() - nameWidth - sizeWidth - 16
	for i := range r.Targets {
		v := &r.Targets[i]
		s.Need(15)
		s.WriteIn(body, s.Left, s.Y+9, nameWidth, v.Name)
		x := s.Left + nameWidth + 8
		w := max(0.6, wide*float64(v.Capacity)/float64(largest))
		kept, planned := wide*float64(v.Kept)/float64(largest), wide*float64(v.Planned)/float64(largest)
		kept = min(kept, w)
		planned = min(planned, w-kept)
		if kept > 0 {
			keptFill(s.Page, x, s.Y+1.5, kept, 9, false, false)
		}
		if planned > 0 {
			plannedFill(s.Page, x+kept, s.Y+1.5, planned, 9, false)
		}
		s.Rect(x, s.Y+1.5, w, 9, 0.6, scene.Black, nil)
		s.WriteRight(small, s.Right, s.Y+9, sizeWidth, v.space(v.Capacity))
		s.Y += 15
	}
	s.Y += 12
}

// totals is the table of all targets.
func (r *Rack) totals(s *scene.Sheet) {
	section(s, "Totals", 60)
	t := newTable(s, column{name: "target"}, column{name: "space", width: 66, right: true},
		column{name: "kept", width: 66, right: true}, column{name: "planned", width: 66, right: true},
		column{name: "free", width: 66, right: true}, column{name: "titles there", width: 52, right: true},
		column{name: "to come", width: 46, right: true}, column{name: "do not fit", width: 46, right: true})
	var sum Volume
	there, come, not := 0, 0, 0
	for i := range r.Targets {
		v := &r.Targets[i]
		a, b := 0, 0
		for _, sh := range v.Shares {
			a, b = a+sh.KeptTitles, b+sh.NewTitles
		}
		t.row(body, v.Name, v.space(v.Capacity), size.Format(v.Kept), size.Format(v.Planned), v.space(v.Free()),
			fmt.Sprint(a), fmt.Sprint(b), fmt.Sprint(v.OverTitles))
		sum.Capacity, sum.Kept, sum.Planned, sum.Unknown = sum.Capacity+v.Capacity, sum.Kept+v.Kept,
			sum.Planned+v.Planned, sum.Unknown || v.Unknown
		there, come, not = there+a, come+b, not+v.OverTitles
	}
	if len(r.Targets) > 1 {
		t.total("together", sum.space(sum.Capacity), size.Format(sum.Kept), size.Format(sum.Planned),
			sum.space(sum.Free()), fmt.Sprint(there), fmt.Sprint(come), fmt.Sprint(not))
	}
	t.end()
}

// platforms is the table of all platforms.
func (r *Rack) platforms(s *scene.Sheet) {
	var all []Share
	for i := range r.Targets {
		for _, sh := range r.Targets[i].Shares {
			k := slices.IndexFunc(all, func(a Share) bool { return a.Platform == sh.Platform })
			if k < 0 {
				k = len(all)
				all = append(all, Share{Platform: sh.Platform})
			}
			a := &all[k]
			a.Kept, a.Planned, a.KeptTitles, a.NewTitles = a.Kept+sh.Kept, a.Planned+sh.Planned,
				a.KeptTitles+sh.KeptTitles, a.NewTitles+sh.NewTitles
		}
	}
	if len(all) == 0 {
		return
	}
	slices.SortFunc(all, func(a, b Share) int { return cmp.Compare(r.Shown.of(a.Platform), r.Shown.of(b.Platform)) })
	section(s, "By platform, over all targets", 60)
	t := newTable(s, column{name: "platform"}, column{name: "titles there", width: 70, right: true},
		column{name: "take", width: 80, right: true}, column{name: "titles to come", width: 70, right: true},
		column{name: "add", width: 80, right: true})
	for _, a := range all {
		t.row(body, r.Shown.of(a.Platform), size.Exact(int64(a.KeptTitles)), size.Format(a.Kept),
			size.Exact(int64(a.NewTitles)), size.Format(a.Planned))
	}
	t.end()
}
