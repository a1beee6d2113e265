package scroll_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"polytome/internal/ui/scroll"
)

func TestTheCursorIsAlwaysInSight(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		headings := rapid.IntRange(2, 9).Draw(t, "a heading every")
		l := scroll.List{Stops: func(i int) bool { return i%headings != 0 }}
		for range rapid.IntRange(1, 40).Draw(t, "moves") {
			switch rapid.IntRange(0, 5).Draw(t, "move") {
			case 0:
				l.Resize(rapid.IntRange(0, 50).Draw(t, "rows"), rapid.IntRange(1, 20).Draw(t, "height"))
			case 1:
				l.Move(rapid.IntRange(-10, 10).Draw(t, "by"))
			case 2:
				l.Page(rapid.SampledFrom([]int{-1, 1}).Draw(t, "page"))
			case 3:
				l.Home()
			case 4:
				l.End()
			case 5:
				l.Click(rapid.IntRange(-2, 25).Draw(t, "line"))
			}
			from, to := l.Window()
			if l.N == 0 {
				continue
			}
			if l.Cursor < 0 || l.Cursor >= l.N {
				t.Fatalf("the cursor is at %d of %d", l.Cursor, l.N)
			}
			if to > from && (l.Cursor < from || l.Cursor >= to) {
				t.Fatalf("the cursor %d is outside of %d to %d", l.Cursor, from, to)
			}
			if l.N > 1 && !l.Stops(l.Cursor) {
				t.Fatalf("the cursor rests on the heading %d of %d", l.Cursor, l.N)
			}
		}
	})
}

func TestTheFirstHeadingStaysInSight(t *testing.T) {
	l := scroll.List{Stops: func(i int) bool { return i != 0 }}
	l.Resize(30, 5)
	l.End()
	assert.Equal(t, 25, l.Top)
	l.Home()
	assert.Equal(t, []int{1, 0}, []int{l.Cursor, l.Top})
	assert.True(t, l.Click(1))
	assert.False(t, l.Click(0), "a heading cannot be clicked")
}
