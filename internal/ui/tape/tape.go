// Package tape shows a volume as a measuring tape: what lies where from its beginning to its end, the title under the
// cursor pulled out above it.
package tape

import (
	"image/color"
	"slices"

	"polytome/internal/core/blockmap"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/style"
)

// A Tape is a map as it is shown, and a cursor among its lengths.
type Tape struct {
	Map     *blockmap.Map
	Lengths []blockmap.Length
	List    scroll.List

	platforms []string      // in the order in which they come, for their colours
	parts     map[int][]int // the lengths of each owner that has several
	longest   uint32        // clusters of the longest length that is not free
	lanes     [][lanes]lane
	top       int // the line of the first row, when it was last drawn
	left      int // the column where the strip begins
	wide      int // the columns of the strip
}

// lanes is how many titles at most are joined beside the rows, each in a lane of its own.
const lanes = 3

// lane is what a lane holds beside a row.
type lane byte

const (
	none lane = iota
	first
	between // nothing of the title is here
	member
	last
)

// New makes a tape of a map, with the cursor at its beginning.
func New(m *blockmap.Map) *Tape {
	t := &Tape{Map: m, Lengths: m.Lengths(m.Least()), parts: map[int][]int{}}
	t.List.N = len(t.Lengths)
	for i, l := range t.Lengths {
		if l.Parts > 1 {
			t.parts[l.Owner] = append(t.parts[l.Owner], i)
		}
		if l.Kind != blockmap.Free {
			t.longest = max(t.longest, l.Count)
		}
		if p := m.Platform(l); p != "" && !slices.Contains(t.platforms, p) {
			t.platforms = append(t.platforms, p)
		}
	}
	t.join()
	return t
}

// join gives each title that lies in several lengths a lane, as long as there is one.
func (t *Tape) join() {
	t.lanes = make([][lanes]lane, len(t.Lengths))
	var free [lanes]int // the row from which a lane is free
	for i, l := range t.Lengths {
		if l.Parts < 2 || l.Owner != i {
			continue
		}
		rows := t.parts[i]
		k := slices.IndexFunc(free[:], func(row int) bool { return row <= i })
		if k < 0 {
			continue
		}
		end := rows[len(rows)-1]
		free[k] = end + 1
		for r := i; r <= end; r++ {
			t.lanes[r][k] = between
		}
		for _, r := range rows {
			t.lanes[r][k] = member
		}
		t.lanes[i][k], t.lanes[end][k] = first, last
	}
}

// Together are the lengths of the title, or of the file, that a length is of: itself where it is of none.
func (t *Tape) Together(i int) []int {
	if i < 0 || i >= len(t.Lengths) {
		return nil
	}
	if t.Lengths[i].Parts < 2 {
		return []int{i}
	}
	return t.parts[t.Lengths[i].Owner]
}

// Under is the length under the cursor.
func (t *Tape) Under() (l blockmap.Length, ok bool) {
	if t.List.Cursor < 0 || t.List.Cursor >= len(t.Lengths) {
		return l, false
	}
	return t.Lengths[t.List.Cursor], true
}

// Next moves to the next length for which something holds, from the end to the beginning again. It reports whether
// there is one; the one under the cursor counts last.
func (t *Tape) Next(want func(l blockmap.Length) bool) bool {
	n := len(t.Lengths)
	for i := range n {
		if k := (t.List.Cursor + 1 + i) % n; want(t.Lengths[k]) {
			t.Go(k)
			return true
		}
	}
	return false
}

// Part moves to the next part of the title under the cursor, or to the one before.
func (t *Tape) Part(by int) {
	l, ok := t.Under()
	if !ok || l.Parts < 2 {
		return
	}
	want := (l.Part + by + l.Parts) % l.Parts
	for _, k := range t.Together(t.List.Cursor) {
		if t.Lengths[k].Part == want {
			t.Go(k)
		}
	}
}

// Go puts the cursor on a length.
func (t *Tape) Go(i int) { t.List.Move(i - t.List.Cursor) }

// Find goes to the first length for which something holds.
func (t *Tape) Find(want func(l blockmap.Length) bool) {
	if i := slices.IndexFunc(t.Lengths, want); i >= 0 {
		t.Go(i)
	}
}

// Click puts the cursor on the length at a spot of what was drawn last.
func (t *Tape) Click(x, y int) {
	if y < t.top {
		if x -= t.left; x >= 0 && x < t.wide {
			t.Go(t.Map.Strip(t.Lengths, t.wide)[x])
		}
		return
	}
	t.List.Click(y - t.top)
}

// look is the colour and the sign of a length: the colour tells the platform, the sign how it lies.
func (t *Tape) look(th *style.Theme, l blockmap.Length) (color.Color, string) {
	fg := th.Kept
	if p := t.Map.Platform(l); p != "" && len(th.Hues) > 0 {
		fg = th.Hues[slices.Index(t.platforms, p)%len(th.Hues)]
	} else if _, titled := t.titled(l); titled {
		fg = th.Planned
	}
	switch l.Kind {
	case blockmap.Fragmented:
		return fg, th.Glyph("▓")
	case blockmap.Folder:
		return th.Kept, th.Glyph("▪")
	case blockmap.System:
		return th.Dim, th.Glyph("▒")
	case blockmap.Free:
		return th.Faint, th.Glyph("·")
	}
	if l.Files > 1 && l.Parts == 1 {
		if _, titled := t.titled(l); !titled {
			return th.Kept, th.Glyph("░")
		}
	}
	return fg, th.Glyph("█")
}

// titled is the title that a length belongs to.
func (t *Tape) titled(l blockmap.Length) (name string, ok bool) {
	if l.File < 0 {
		return "", false
	}
	x, ok := t.Map.Titles[t.Map.Files[l.File].Path]
	return x.Name, ok
}
