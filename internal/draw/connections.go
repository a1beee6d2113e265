package draw

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"polytome/internal/core/connections"
	"polytome/internal/draw/scene"
	"polytome/internal/netcards"
	"polytome/internal/target/drive"
)

// A Connections is how this computer, the targets and the consoles are joined.
type Connections struct {
	connections.Connections
	// Sheets are what to set for direct cables, by the number of the link.
	Sheets map[int]*connections.Sheet
}

// ConnectionsOf draws everything that is joined, with the sheets of its direct cables.
func ConnectionsOf(h *connections.Connections) Connections {
	out := Connections{*h, map[int]*connections.Sheet{}}
	for i := range h.Links {
		l := &h.Links[i]
		if l.Cable == nil {
			continue
		}
		console := l.Console
		if console == "" {
			console = "the console"
		}
		if sheet, err := connections.SheetOf(l.Cable, h.System, console, l.At); err == nil {
			out.Sheets[i] = sheet
		}
	}
	return out
}

const (
	computerWide = 152.0
	targetWide   = 186.0
	consoleWide  = 150.0
	linkHeight   = 74.0 // at least
	linkGap      = 12.0
)

// Draw draws the diagram.
func (h Connections) Draw(o Options) *scene.Drawing {
	s := scene.Begin(o.paper().Across(), "What is plugged into what",
		o.sub(some(len(h.Links), plural(len(h.Links), "target"))), o.Date)
	if len(h.Links) == 0 {
		nothing(s, "The bench has no target yet, so nothing is connected to this computer.")
		return s.End()
	}
	for i := 0; i < len(h.Links); {
		n, space := 0, s.Space()
		for k := i; k < len(h.Links); k++ {
			if space -= h.height(&h.Links[k]); space < 0 && n > 0 {
				break
			}
			n++
		}
		h.rows(s, i, n)
		if i += n; i < len(h.Links) {
			s.Next()
		}
	}
	for _, r := range h.Reminder {
		s.Need(26)
		s.Y += 6
		for k, l := range body.Wrap(r+".", s.Wide()-24) {
			if k == 0 {
				box(s.Page, s.Left, s.Y, 9, false)
			}
			s.Write(body, s.Left+18, s.Y+8, l)
			s.Y += body.Leading()
		}
	}
	for i := range h.Links {
		if sheet := h.Sheets[i]; sheet != nil {
			h.cable(s, &h.Links[i], sheet)
		}
	}
	return s.End()
}

// rows draws n links below each other, beside one box for the computer.
func (h *Connections) rows(s *scene.Sheet, from, n int) {
	top := s.Y
	high := -linkGap
	for i := from; i < from+n; i++ {
		high += h.height(&h.Links[i])
	}
	s.Rect(s.Left, top, computerWide, high, 1.2, scene.Black, nil)
	s.WriteIn(heading, s.Left+8, top+15, computerWide-16, h.Computer)
	s.WriteIn(small, s.Left+8, top+26, computerWide-16, "this computer")
	ports := h.ports(from, n)
	y := top + 42
	for i, c := range ports {
		space := top + high - 4 - y
		if i < len(ports)-1 { // for how many more there are
			space -= 10
		}
		if 10+float64(len(c.lines))*8.5 > space {
			s.WriteIn(smaller, s.Left+8, top+high-5, computerWide-16, fmt.Sprintf("and %d more", len(ports)-i))
			break
		}
		s.WriteIn(label, s.Left+8, y, computerWide-16, c.name)
		y += 10
		for _, a := range c.lines {
			s.WriteIn(smaller, s.Left+8, y, computerWide-16, a)
			y += 8.5
		}
		y += 4
	}
	for i := from; i < from+n; i++ {
		s.Mark(0, h.Links[i].Name)
		h.link(s, &h.Links[i])
		s.Y += h.height(&h.Links[i])
	}
}

// port is an interface of the computer, and what is known of it.
type port struct {
	name  string
	lines []string
}

// ports are the interfaces behind which one of the links is, and those that are plugged in.
func (h *Connections) ports(from, n int) (out []port) {
	used := map[string]bool{}
	for i := from; i < from+n; i++ {
		used[h.Links[i].Card] = true
	}
	cards := slices.Clone(h.Cards)
	slices.SortStableFunc(cards, func(a, b netcards.Card) int {
		switch {
		case used[a.Name] == used[b.Name]:
			return 0
		case used[a.Name]:
			return -1
		}
		return 1
	})
	for _, c := range cards {
		if !used[c.Name] && (c.Loopback || !c.Plugged) {
			continue
		}
		p := port{name: c.Name}
		kind := ""
		switch {
		case c.Loopback:
			kind = "the computer itself"
		case c.Wireless:
			kind = "wireless"
		}
		if kind != "" {
			p.lines = append(p.lines, kind)
		}
		for _, a := range c.Addresses {
			if a.Addr().Is4() || len(c.Addresses) == 1 {
				p.lines = append(p.lines, a.String())
			}
		}
		out = append(out, p)
	}
	return out
}

// addressLines and mustLines are what stands in the boxes of a target and of its console.
func (h *Connections) addressLines(l *connections.Link) (out []string) {
	for _, line := range h.address(l) {
		out = append(out, small.WrapMost(line, targetWide-14, 3)...)
	}
	return out
}

func mustLines(l *connections.Link) (out [][]string) {
	for _, must := range l.Must {
		out = append(out, smaller.Wrap("on: "+must, consoleWide-14))
	}
	for _, note := range l.Notes {
		out = append(out, smaller.Wrap("note: "+note, consoleWide-14))
	}
	return out
}

// height is what a link takes, with the gap below it.
func (h *Connections) height(l *connections.Link) float64 {
	target, console := 30+float64(len(h.addressLines(l)))*small.Leading(), 38.0
	for _, lines := range mustLines(l) {
		console += float64(len(lines))*smaller.Leading() + 1.5
	}
	return max(linkHeight, target, console) + linkGap
}

// link draws one connection: from the computer to the target, and on to the console.
func (h *Connections) link(s *scene.Sheet, l *connections.Link) {
	y := s.Y
	high := h.height(l) - linkGap
	mid := y + 22
	targetAt := s.Left + computerWide + (s.Wide()-computerWide-targetWide-consoleWide)/2
	consoleAt := s.Right - consoleWide
	dash := []float64(nil)
	if !l.Remote() { // carried, not wired
		dash = []float64{5, 3}
	}
	width := 1.0
	if l.Cable != nil {
		width = 2
	}
	arrow(s.Page, s.Left+computerWide, targetAt, mid, width, dash)
	spaceLeft := targetAt - s.Left - computerWide - 16
	s.WriteCentre(label, s.Left+computerWide+spaceLeft/2+6, mid-5, spaceLeft, l.Via)
	via := l.Joined()
	if l.Card != "" && l.Cable == nil && l.Joined() != "this computer itself" {
		via += ", " + l.Card
	}
	for k, line := range smaller.WrapMost(via, spaceLeft, 3) {
		s.WriteCentre(smaller, s.Left+computerWide+spaceLeft/2+6, mid+10+float64(k)*smaller.Leading(), spaceLeft, line)
	}

	s.Rect(targetAt, y, targetWide, high, 1, scene.Black, nil)
	s.WriteIn(strong, targetAt+7, y+12, targetWide-14, l.Name)
	ty := y + 23
	for _, line := range h.addressLines(l) {
		s.PathIn(small, targetAt+7, ty, targetWide-14, line)
		ty += small.Leading()
	}

	if l.Console != "" || l.Loader != "" {
		back := []float64(nil)
		if l.Via == "usb" || l.Via == "adapter" {
			back = []float64{5, 3}
		}
		arrow(s.Page, targetAt+targetWide, consoleAt, mid, 1, back)
		gap := consoleAt - targetAt - targetWide - 16
		word := "is its own disk"
		switch {
		case l.Via == "usb":
			word = "plugged in"
		case l.Via == "adapter":
			word = "put back in"
		case l.ReadFrom():
			word = "reads it"
		}
		for k, line := range smaller.WrapMost(word, gap, 2) {
			s.WriteCentre(smaller, targetAt+targetWide+gap/2+6, mid-5-float64(k)*smaller.Leading(), gap, line)
		}
	}
	s.Rect(consoleAt, y, consoleWide, high, 1, scene.Black, nil)
	console := l.Console
	if console == "" {
		console = "console"
	}
	s.WriteIn(strong, consoleAt+7, y+12, consoleWide-14, console)
	s.WriteIn(small, consoleAt+7, y+22, consoleWide-14, "loader "+l.Loader)
	ty = y + 34
	for _, lines := range mustLines(l) {
		ty = s.Para(smaller, consoleAt+7, ty, lines) + 1.5
	}
}

// address is where a target is, in lines.
func (h *Connections) address(l *connections.Link) (out []string) {
	if l.Served != "" {
		return []string{"export " + l.Export, "served at " + l.Served}
	}
	if !l.Remote() {
		return []string{strings.TrimPrefix(l.At, drive.Scheme)}
	}
	out = append(out, fmt.Sprintf("%s, port %d", l.Host, l.Port))
	if inside := l.Inside(); inside != "" {
		out = append(out, inside)
	}
	switch {
	case l.Cable != nil:
		out = append(out, "computer: "+l.Cable.Computer+" on "+l.Cable.Interface,
			"console: "+l.Cable.Console+maskOf(l.Cable.Computer))
		if l.Cable.Was != "" {
			out = append(out, "afterwards again "+l.Cable.Was)
		}
	case l.Local != "":
		out = append(out, "this computer is "+l.Local+" there")
	}
	if l.Tried.State != connections.Unknown && l.Tried.State != "" {
		out = append(out, "tried: "+string(l.Tried.State))
	}
	return out
}

// maskOf is the mask of an address with a length, in words.
func maskOf(address string) string {
	p, err := netip.ParsePrefix(address)
	if err != nil {
		return ""
	}
	return ", mask " + connections.Mask(p)
}

// arrow draws a line with a head at its right end.
func arrow(p *scene.Page, from, to, y, width float64, dash []float64) {
	p.Line(width, scene.Black, dash, scene.Point{X: from, Y: y}, scene.Point{X: to - 5, Y: y})
	p.Polygon(scene.Black, scene.Point{X: to - 7, Y: y - 3.2}, scene.Point{X: to, Y: y}, scene.Point{X: to - 7,
		Y: y + 3.2})
}

// cable writes what to set for a direct cable, and what to set back.
func (h *Connections) cable(s *scene.Sheet, l *connections.Link, sheet *connections.Sheet) {
	s.Y += 8
	section(s, "The direct cable to "+l.Name, 80)
	for _, part := range []struct {
		name  string
		lines []string
	}{{"On the computer", sheet.Computer}, {"On the console", sheet.Console}, {"Then", sheet.Then},
		{"Afterwards, set back", sheet.Back}} {
		if len(part.lines) == 0 {
			continue
		}
		s.Need(32)
		s.Write(strong, s.Left, s.Y+9, part.name)
		s.Y += 15
		for _, l := range part.lines {
			lines := body.Wrap(strings.TrimSpace(l), s.Wide()-24)
			for k, line := range lines {
				s.Need(body.Leading())
				if k == 0 {
					box(s.Page, s.Left+3, s.Y+0.5, 8.5, false)
				}
				s.Write(body, s.Left+20, s.Y+8, line)
				s.Y += body.Leading()
			}
			s.Y += 3
		}
		s.Y += 4
	}
}
