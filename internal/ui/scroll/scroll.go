// Package scroll is a cursor in a long list of which a window is shown.
package scroll

// A List is a cursor among N rows. The zero value is an empty list.
type List struct {
	N      int // rows
	Cursor int // index of the row under the cursor
	Top    int // index of the first row shown
	height int
	// Stops reports whether the cursor may rest on a row; nil for all.
	Stops func(i int) bool
}

// Resize sets the number of rows and how many are shown, and keeps the cursor
// in sight.
func (l *List) Resize(n, height int) {
	l.N, l.height = n, max(1, height)
	l.Cursor = max(0, min(l.Cursor, n-1))
	l.settle(1)
	l.show()
}

// Move moves the cursor by rows.
func (l *List) Move(by int) {
	l.Cursor = max(0, min(l.Cursor+by, l.N-1))
	if by < 0 {
		l.settle(-1)
	} else {
		l.settle(1)
	}
	l.show()
}

// Page moves by a screenful, forwards or backwards.
func (l *List) Page(dir int) { l.Move(dir * max(1, l.height-1)) }

// Home goes to the first row.
func (l *List) Home() { l.Cursor = 0; l.settle(1); l.Top = 0; l.show() }

// End goes to the last row.
func (l *List) End() { l.Cursor = l.N - 1; l.Move(0) }

// Click puts the cursor on the row shown at line y. It reports whether it was
// there before.
func (l *List) Click(y int) (again bool) {
	i := l.Top + y
	if y < 0 || y >= l.height || i >= l.N || (l.Stops != nil && !l.Stops(i)) {
		return false
	}
	again = i == l.Cursor
	l.Cursor = i
	return again
}

// Window returns the range of rows that is shown.
func (l *List) Window() (from, to int) { return l.Top, min(l.N, l.Top+l.height) }

// settle moves the cursor off rows where it may not rest.
func (l *List) settle(dir int) {
	if l.Stops == nil || l.N == 0 {
		return
	}
	for _, d := range []int{dir, -dir} {
		for i := l.Cursor; i >= 0 && i < l.N; i += d {
			if l.Stops(i) {
				l.Cursor = i
				return
			}
		}
	}
}

func (l *List) show() {
	if l.Cursor <= l.Top {
		l.Top = l.Cursor
		if l.Stops != nil && l.Top > 0 && l.height > 1 && !l.Stops(l.Top-1) {
			l.Top-- // show the heading over the first row too
		}
	}
	if l.Cursor >= l.Top+l.height {
		l.Top = l.Cursor - l.height + 1
	}
	l.Top = max(0, min(l.Top, l.N-l.height))
}
