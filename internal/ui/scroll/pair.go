package scroll

// A Pair is two lists beside one another, of which the right one says more of what is under the cursor of the left one.
// In a narrow window only one of them is shown.
type Pair struct {
	Left, Right List
	Side        bool // the cursor is in the right one
	split       int  // where the right one begins; 0 while they are not beside one another
}

// wide is from how many cells on both have room.
const wide = 110

// Active is the list with the cursor.
func (p *Pair) Active() *List {
	if p.Side {
		return &p.Right
	}
	return &p.Left
}

// Leave goes back from the right list; it reports whether the cursor was there.
func (p *Pair) Leave() bool {
	had := p.Side
	p.Side = false
	return had
}

// Click moves the cursor to what was clicked, in lists that begin below so many rows.
func (p *Pair) Click(x, y, above int) {
	if p.split > 0 {
		p.Side = x > p.split
	}
	p.Active().Click(y - above)
}

// Wheel scrolls the list with the cursor.
func (p *Pair) Wheel(by int) { p.Active().Move(by) }

// Draw draws both, or the one with the cursor; the left one takes so many hundredths of the width.
func (p *Pair) Draw(w, h, hundredths int, between string, left, right func(w, h int) []string) []string {
	if p.split = 0; w < wide {
		if p.Side {
			return right(w, h)
		}
		return left(w, h)
	}
	p.split = w * hundredths / 100
	l, r := left(p.split, h), right(w-p.split-1, h)
	for y := range l {
		l[y] += between + r[y]
	}
	return l
}
