package pixels

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"image"
	"image/png"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/ansi/sixel"
	"golang.org/x/image/draw"

	"polytome/internal/ui/style"
)

// A Protocol is how a terminal takes real pictures.
type Protocol byte

const (
	NoPictures Protocol = iota
	Sixel               // DEC STD 070, "Sixel Graphics"
	Kitty               // the terminal graphics protocol of Kitty
	Inline              // iTerm2's inline images, OSC 1337
)

// A Gallery shows pictures as such on a terminal that takes them. What draws a screen hangs them, and gets blank cells
// with a mark in each line; [Gallery.Find] finds the marks on the whole screen, and [Gallery.Draw] says what the
// terminal must be sent.
type Gallery struct {
	protocol Protocol
	cell     image.Point // pixels of a cell

	ids  map[hung]rune
	all  map[rune]*picture
	next rune

	placed []place // on the screen that was made last
	drawn  []place // on the terminal
}

// hung is a picture in a size.
type hung struct {
	im   image.Image
	w, h int // cells
}

type picture struct {
	hung
	data string // as the protocol wants it, "" until it is made
	sent bool   // the terminal keeps it, and knows it by its number
}

// place is where a picture is on the screen.
type place struct {
	id   rune
	x, y int
}

// The marks are private characters: one for each picture. Nothing that is shown has them, as texts are cleaned.
const (
	firstMark rune = 0xF0000
	lastMark  rune = 0xFFFFD
	// mostHung is how many pictures a gallery takes before it has to be a new one.
	mostHung = 2000
)

// NewGallery is a gallery for a terminal with cells of so many pixels.
func NewGallery(p Protocol, cell image.Point) *Gallery {
	return &Gallery{protocol: p, cell: cell, ids: map[hung]rune{}, all: map[rune]*picture{}, next: firstMark}
}

// Follow has the gallery take the place of another one: what that one shows goes, and its numbers are not used again
// soon.
func (g *Gallery) Follow(was *Gallery) {
	if was != nil && was.protocol == g.protocol {
		g.drawn, g.next = was.drawn, was.next
	}
}

// Full reports whether the gallery took so many pictures that it should be a new one.
func (g *Gallery) Full() bool { return g != nil && len(g.all) > mostHung }

// Hang has a picture shown as large as it fits into w x h cells, keeping its shape: the lines hold its place.
func (g *Gallery) Hang(im image.Image, w, h int) []string {
	b := im.Bounds()
	w, h = within(b.Dx()*g.cell.Y, b.Dy()*g.cell.X, w, h)
	k := hung{im, w, h}
	id, known := g.ids[k]
	if !known {
		id = g.next
		if g.next++; g.next > lastMark {
			g.next = firstMark
		}
		g.ids[k], g.all[id] = id, &picture{hung: k}
	}
	out := make([]string, h)
	for y := range out {
		out[y] = string(id) + strings.Repeat(" ", w-1)
	}
	return out
}

// within are the largest cells within w x h that have the shape of x to y.
func within(x, y, w, h int) (int, int) {
	tw, th := w, (w*y+x/2)/x
	if th > h {
		tw, th = (h*x+y/2)/y, h
	}
	return max(1, min(tw, w)), max(1, min(th, h))
}

// Find takes the marks out of a screen, and remembers where they were. A picture of which a part is cut off is not
// shown.
func (g *Gallery) Find(lines []string) {
	g.placed = g.placed[:0]
	seen := map[place]int{} // rows that are there of a picture, by its first one
	begun := map[[2]int]int{}
	for y, line := range lines {
		if strings.IndexByte(line, 0xF3) < 0 { // with which the marks begin in UTF-8
			continue
		}
		var b strings.Builder
		for i, r := range line {
			if r < firstMark || r > lastMark {
				_, n := utf8.DecodeRuneInString(line[i:])
				b.WriteString(line[i : i+n])
				continue
			}
			b.WriteByte(' ')
			x := ansi.StringWidth(line[:i])
			column := [2]int{int(r), x}
			first, going := begun[column]
			rows := seen[place{r, x, first}]
			if p := g.all[r]; !going || p == nil || y != first+rows || rows == p.h { // another one begins
				first = y
				begun[column] = y
			}
			seen[place{r, x, first}]++
		}
		lines[y] = b.String()
	}
	for at, rows := range seen {
		if p := g.all[at.id]; p != nil && rows == p.h {
			g.placed = append(g.placed, at)
		}
	}
	slices.SortFunc(g.placed, func(a, b place) int {
		return (a.y-b.y)*1000 + (a.x - b.x)
	})
}

// Changed reports whether the terminal shows other pictures than the screen that was made last has.
func (g *Gallery) Changed() bool { return g != nil && !slices.Equal(g.placed, g.drawn) }

// A Job makes the bytes of a picture, which is slow. It may run beside everything else.
type Job struct {
	id       rune
	of       hung
	protocol Protocol
	cell     image.Point
	Data     string
}

// Jobs are what has to be done before the pictures can be drawn; none where nothing has.
func (g *Gallery) Jobs() (out []*Job) {
	for _, at := range g.placed {
		p := g.all[at.id]
		if p.data == "" && !p.sent && !slices.ContainsFunc(out, func(j *Job) bool { return j.id == at.id }) {
			out = append(out, &Job{id: at.id, of: p.hung, protocol: g.protocol, cell: g.cell})
		}
	}
	return out
}

// Done takes over what jobs have made.
func (g *Gallery) Done(jobs []*Job) {
	for _, j := range jobs {
		if p := g.all[j.id]; p != nil && p.hung == j.of {
			p.data = j.Data
		}
	}
}

// Do makes the bytes.
func (j *Job) Do() {
	size := image.Rect(0, 0, j.of.w*j.cell.X, j.of.h*j.cell.Y)
	to := image.NewRGBA(size)
	draw.Draw(to, size, image.Black, image.Point{}, draw.Src) // what is transparent is before black
	draw.CatmullRom.Scale(to, size, j.of.im, j.of.im.Bounds(), draw.Over, nil)
	var b bytes.Buffer
	switch j.protocol {
	case Sixel:
		if (&sixel.Encoder{}).Encode(&b, to) == nil {
			j.Data = ansi.SixelGraphics(0, 1, 0, b.Bytes())
		}
	case Kitty, Inline:
		if png.Encode(&b, to) == nil {
			j.Data = base64.StdEncoding.EncodeToString(b.Bytes())
		}
	case NoPictures:
	}
}

// Wipes reports whether the screen has to be drawn again in whole before the pictures are: where they lie in the cells,
// and one that is there must go.
func (g *Gallery) Wipes() bool {
	gone := func(p place) bool { return !slices.Contains(g.placed, p) }
	return g.protocol != Kitty && slices.ContainsFunc(g.drawn, gone)
}

// Wiped says that the screen was drawn again: where pictures lie in the cells, they are gone.
func (g *Gallery) Wiped() {
	if g.protocol != Kitty {
		g.drawn = nil
	}
}

// Draw is what the terminal must be sent so that it shows the pictures where they belong. The cursor stays where it is.
func (g *Gallery) Draw() string {
	var b strings.Builder
	b.WriteString(ansi.SaveCursor)
	if g.protocol == Kitty {
		for _, at := range g.drawn {
			if !slices.Contains(g.placed, at) {
				b.WriteString(ansi.KittyGraphics(nil, "a=d", "d=i", "q=2", "i="+number(at.id), "p="+spot(at)))
			}
		}
	}
	for _, at := range g.placed {
		p := g.all[at.id]
		if slices.Contains(g.drawn, at) || p.data == "" && !p.sent {
			continue
		}
		b.WriteString(ansi.CursorPosition(at.x+1, at.y+1))
		switch g.protocol {
		case Sixel:
			b.WriteString(p.data)
		case Inline:
			fmt.Fprintf(&b, "\x1b]1337;File=inline=1;width=%d;height=%d;preserveAspectRatio=0;doNotMoveCursor=1:%s\x07",
				p.w, p.h, p.data)
		case Kitty:
			if !p.sent {
				send(&b, at.id, p.data)
				p.sent, p.data = true, ""
			}
			b.WriteString(ansi.KittyGraphics(nil, "a=p", "q=2", "C=1", "i="+number(at.id), "p="+spot(at),
				"c="+strconv.Itoa(p.w), "r="+strconv.Itoa(p.h)))
		case NoPictures:
		}
	}
	b.WriteString(ansi.RestoreCursor)
	g.drawn = slices.Clone(g.placed)
	return b.String()
}

// number is what a terminal knows a picture by, spot one of the places where it hangs: numbers that are not 0.
func number(id rune) string { return strconv.Itoa(int(id-firstMark) + 1) }

func spot(at place) string { return strconv.Itoa(at.y*1000 + at.x + 1) }

// mostSent is how many bytes of a picture one sequence has at most.
const mostSent = 4096

// send hands a picture over in pieces.
func send(b *strings.Builder, id rune, data string) {
	for first := true; first || data != ""; first = false {
		piece := data[:min(mostSent, len(data))]
		data = data[len(piece):]
		more := "m=0"
		if data != "" {
			more = "m=1"
		}
		options := []string{more, "q=2"}
		if first {
			options = []string{"a=t", "f=100", "i=" + number(id), more, "q=2"}
		}
		b.WriteString(ansi.KittyGraphics([]byte(piece), options...))
	}
}

// Clear takes all pictures off the terminal, at the end.
func (g *Gallery) Clear() string {
	if g == nil || g.protocol != Kitty {
		return ""
	}
	return ansi.KittyGraphics(nil, "a=d", "d=A", "q=2")
}

var _ style.Pictures = (*Gallery)(nil)
