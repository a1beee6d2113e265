package ui

import (
	"image"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"

	"polytome/internal/ui/pixels"
)

// showing is what is known of the terminal's way to show pictures, and those that it shows.
type showing struct {
	sixel, kitty, inline bool        // what it answered that it takes
	cell                 image.Point // pixels of a cell, zero while unknown
	asked                bool        // for more than what every terminal answers
	gallery              *pixels.Gallery
	waits                bool // for the terminal to have come to what was sent before
	busy                 bool // pictures are being made
}

// Questions to the terminal. One that does not understand a question does not answer it.
const (
	// askCell is XTWINOPS 16: how many pixels a cell has.
	askCell = "\x1b[16t"
	// askKitty hands over a picture of one pixel that is not to be shown.
	askKitty = "\x1b_Gi=4242,s=1,v=1,a=q,t=d,f=24;AAAA\x1b\\"
	// askInline asks, as OSC 1337, for the size of a cell.
	askInline = "\x1b]1337;ReportCellSize\x1b\\"
)

// askForPictures asks the terminal what it is: who answers as a terminal of our time is asked for more.
func (a *app) askForPictures() tea.Cmd { return tea.Raw(ansi.RequestPrimaryDeviceAttributes) }

// modern is the least level of a terminal that is asked for pictures: VT220. Older ones may show the question.
const modern = 62

// A madeMsg are pictures in the bytes that the terminal takes.
type madeMsg struct {
	of   *pixels.Gallery
	jobs []*pixels.Job
}

// A shownMsg comes when the screen has been made that an update has led to.
type shownMsg struct{}

// picturesUpdate takes in what the terminal answers, and what has to do with pictures; ok is false for all else.
func (a *app) picturesUpdate(msg tea.Msg) (cmd tea.Cmd, ok bool) {
	s := &a.shows
	switch msg := msg.(type) {
	case uv.PrimaryDeviceAttributesEvent:
		if !s.asked {
			s.asked = true
			s.sixel = slices.Contains(msg, 4)
			if s.cell == (image.Point{}) {
				s.cell = cellSize()
			}
			a.setTheme()
			if len(msg) > 0 && msg[0] >= modern {
				return tea.Raw(askCell + askKitty + askInline), true
			}
			return nil, true
		}
		if s.waits { // everything that was sent before has been drawn
			s.waits = false
			return a.drawPictures(), true
		}
	case uv.CellSizeEvent:
		s.cell = image.Pt(msg.Width, msg.Height)
		a.setTheme()
	case uv.KittyGraphicsEvent:
		s.kitty = s.kitty || string(msg.Payload) == "OK"
		a.setTheme()
	case uv.UnknownOscEvent:
		s.inline = s.inline || strings.Contains(string(msg), "1337;ReportCellSize=")
		a.setTheme()
	case madeMsg:
		s.busy = false
		if msg.of == s.gallery {
			s.gallery.Done(msg.jobs)
		}
		return a.lookAtPictures(), true
	case shownMsg:
		return a.showPictures(), true
	default:
		return nil, false
	}
	return a.lookAtPictures(), true
}

// hangPictures has a gallery of its own for each theme, if the terminal takes pictures and they are wanted.
func (a *app) hangPictures() {
	s := &a.shows
	was := s.gallery
	s.gallery = nil
	set := &a.opts.Settings
	if a.opts.ASCII || set.ASCII || set.Blocks || a.theme.Plain || s.cell.X <= 0 || s.cell.Y <= 0 {
		return
	}
	for _, x := range []struct {
		can bool
		by  pixels.Protocol
	}{{s.kitty, pixels.Kitty}, {s.inline, pixels.Inline}, {s.sixel, pixels.Sixel}} {
		if x.can {
			s.gallery = pixels.NewGallery(x.by, s.cell)
			s.gallery.Follow(was)
			a.theme.Pictures = s.gallery
			return
		}
	}
}

// lookAtPictures looks, when the screen has been made, whether other pictures are to be shown.
func (a *app) lookAtPictures() tea.Cmd {
	if a.shows.gallery == nil {
		return nil
	}
	if a.shows.gallery.Full() {
		a.setTheme()
	}
	return func() tea.Msg { return shownMsg{} }
}

// showPictures makes the pictures of the screen that are not made yet; then it waits until the terminal has come to
// this screen.
func (a *app) showPictures() tea.Cmd {
	s := &a.shows
	if s.gallery == nil || s.waits || s.busy || !s.gallery.Changed() {
		return nil
	}
	if jobs := s.gallery.Jobs(); len(jobs) > 0 {
		s.busy = true
		of := s.gallery
		return func() tea.Msg {
			for _, j := range jobs {
				j.Do()
			}
			return madeMsg{of, jobs}
		}
	}
	s.waits = true
	// The question goes out behind what was drawn until now: when the answer is here, so is the screen.
	return tea.Raw(ansi.RequestPrimaryDeviceAttributes)
}

// drawPictures draws the pictures of the screen. Where others lie in the cells, the whole screen is drawn again first.
func (a *app) drawPictures() tea.Cmd {
	g := a.shows.gallery
	switch {
	case g == nil || !g.Changed():
		return nil
	case g.Wipes():
		g.Wiped()
		return tea.Sequence(tea.ClearScreen, a.lookAtPictures())
	case len(g.Jobs()) > 0:
		return a.showPictures()
	}
	return tea.Raw(g.Draw())
}
