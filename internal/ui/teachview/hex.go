package teachview

import (
	"fmt"
	"path"
	"strings"
	"unicode"
	"unicode/utf16"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// hexBytes is how much of a game's beginning is shown.
const hexBytes = 4096

// perRow is how many bytes a row has.
const perRow = 16

// hexView is the beginning of a game, byte by byte.
type hexView struct {
	path       string
	data       []byte
	cursor     int
	from       int // where what is pointed at begins; -1 for nothing
	top, shown int // rows
}

// openHex shows the bytes of the file under the cursor, from its first text on.
func (m *Model) openHex() tea.Cmd {
	r, ok := m.current()
	if !ok || m.session == nil {
		return nil
	}
	if r.folder {
		m.d.Notice = "A folder has no bytes: put the cursor on a file in it."
		return nil
	}
	look, of := m.session.look, m.session
	return func() tea.Msg {
		c, err := look.Open(r.path)
		if err != nil {
			return BytesMsg{of: of, err: err}
		}
		defer c.Close() // which was read from
		b := make([]byte, min(hexBytes, c.Size()))
		n, _ := c.ReadAt(b, 0) // as far as it goes
		return BytesMsg{of, &hexView{path: r.path, data: b[:n], from: -1}, nil}
	}
}

// A BytesMsg is the beginning of a file.
type BytesMsg struct {
	of  *session
	hex *hexView
	err error
}

// setBytes shows the beginning of a file of what is learnt from now.
func (m *Model) setBytes(msg BytesMsg) {
	switch {
	case msg.of != m.session: // of another stick
	case msg.err != nil:
		m.d.Notice = state.Sentence(msg.err.Error())
	default:
		m.hex = msg.hex
	}
}

// move goes so many bytes on.
func (h *hexView) move(by int) func() {
	return func() {
		h.cursor = max(0, min(h.cursor+by, len(h.data)-1))
		row := h.cursor / perRow
		h.top = max(min(h.top, row), row-h.shown+1)
	}
}

// mark begins what is pointed at under the cursor, or drops it.
func (h *hexView) mark() {
	if h.from >= 0 {
		h.from = -1
	} else {
		h.from = h.cursor
	}
}

// marked is the range that is pointed at: from its beginning to the cursor, or the text that the cursor is in.
func (h *hexView) marked() (from, to int) {
	if h.from >= 0 {
		return min(h.from, h.cursor), max(h.from, h.cursor) + 1
	}
	text := func(i int) bool { return i >= 0 && i < len(h.data) && h.data[i] >= ' ' && h.data[i] < 0x7F }
	for from = h.cursor; text(from - 1); from-- {
	}
	for to = h.cursor; text(to); to++ {
	}
	return from, to
}

// text is what is pointed at, in the encoding that it seems to have.
func (h *hexView) text() string {
	from, to := h.marked()
	b := h.data[from:to]
	if wide := len(b) > 3 && b[1] == 0; wide {
		var units []uint16
		for i := 0; i+1 < len(b); i += 2 {
			units = append(units, uint16(b[i])|uint16(b[i+1])<<8)
		}
		return strings.TrimRight(string(utf16.Decode(units)), "\x00 ")
	}
	return strings.TrimRight(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return -1
		}
		return r
	}, string(b)), " ")
}

// pointed says that what is pointed at is a field.
func (m *Model) pointed(field, word string) func() tea.Cmd {
	return func() tea.Cmd {
		h := m.hex
		p := m.platform(h.path)
		text := h.text()
		if p == nil || text == "" {
			m.d.Notice = "Put the cursor into a text of a game of an unknown platform."
			return nil
		}
		m.hex = nil
		m.d.Notice = fmt.Sprintf("The %s of %s is %s: looking for it in the others …", word, path.Base(h.path), text)
		return m.answer(field+" "+p.Name, h.path+": "+text)
	}
}

func (m *Model) hexActions() []state.Action {
	h := m.hex
	return []state.Action{
		state.Do("i", "this is the ID", m.pointed("id", "ID")),
		state.Do("m", "this is the name", m.pointed("name", "name")),
		state.Do("n", "this is the region", m.pointed("region", "region")),
		state.Do("d", "this is the kind", m.pointed("kind", "kind")),
		state.Do("space", "mark from here", state.Just(h.mark)),
		state.Do("right l", "the next byte", state.Just(h.move(1))),
		state.Do("left h", "the byte before", state.Just(h.move(-1))),
		state.Do("down j", "a row down", state.Just(h.move(perRow))),
		state.Do("up k", "a row up", state.Just(h.move(-perRow))),
		state.Do("pgdown", "a screen down", state.Just(h.move(perRow*max(1, h.shown-1)))),
		state.Do("pgup", "a screen up", state.Just(h.move(-perRow*max(1, h.shown-1)))),
		state.Do("b", "back", state.Just(func() { m.hex = nil })),
	}
}

// hexSide draws the bytes.
func (m *Model) hexSide(t *style.Theme, w, height int) []string {
	h := m.hex
	h.shown = max(1, height-2)
	h.move(0)()
	from, to := h.marked()
	said := t.Clip(fmt.Sprintf("%s: %q", style.Clean(h.path), style.Clean(h.text())), w-2)
	out := []string{" " + t.Bold(t.Accent, said)}
	for row := h.top; row*perRow < len(h.data) && row < h.top+h.shown; row++ {
		hex, text := "", ""
		for i := row * perRow; i < (row+1)*perRow; i++ {
			if i%8 == 0 {
				hex += " "
			}
			if i >= len(h.data) {
				hex += "   "
				continue
			}
			c := h.data[i]
			s, glyph := fmt.Sprintf("%02x", c), "."
			if c >= ' ' && c < 0x7F {
				glyph = string(rune(c))
			}
			switch {
			case i == h.cursor:
				s, glyph = t.Style(t.Accent).Bold(true).Reverse(true).Render(s), t.Style(t.Accent).Bold(true).
					Reverse(true).
					Render(glyph)
			case i >= from && i < to:
				s, glyph = t.Bold(t.Accent, s), t.Bold(t.Accent, glyph)
			case c == 0:
				s, glyph = t.Paint(t.Faint, s), t.Paint(t.Faint, glyph)
			default:
				s, glyph = t.Paint(t.Text, s), t.Paint(t.Text, glyph)
			}
			hex += s + " "
			text += glyph
		}
		out = append(out, fmt.Sprintf(" %s %s %s", t.Paint(t.Dim, fmt.Sprintf("%06x", row*perRow)), hex, text))
	}
	return t.Block(out, w, height)
}
