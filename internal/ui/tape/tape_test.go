package tape_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"polytome/internal/core/blockmap"
	"polytome/internal/core/contents"
	"polytome/internal/format/volume"
	"polytome/internal/ui/style"
	"polytome/internal/ui/tape"
)

// laid is a volume on which files lie in n fragments each, turn and turn about.
func laid(files, n int) *blockmap.Map {
	all := make([]volume.Piece, files)
	at := uint32(2)
	titles := map[string]contents.Title{}
	for range n {
		for i := range all {
			all[i].Path = fmt.Sprintf("FULL/title %03d.iso", i)
			titles[all[i].Path] = contents.Title{Name: fmt.Sprintf("Title %03d", i), Platform: []string{"vesper",
				"wren8"}[i%2]}
			all[i].Runs = append(all[i].Runs, volume.Run{First: at, Count: 10})
			at += 10
		}
	}
	m := blockmap.Of(volume.Info{Clusters: at + 50, Cluster: 1 << 20, Heap: 1 << 20}, all,
		[]volume.Run{{First: at, Count: 52}})
	m.Titles = titles
	return m
}

// drawn is a tape without colours.
func drawn(x *tape.Tape, w, h int) []string {
	out := x.Draw(style.New(true, false, colorprofile.TrueColor), w, h, strings.ToUpper)
	for i := range out {
		out[i] = ansi.Strip(out[i])
	}
	return out
}

func TestTheTitleUnderTheCursorIsPulledOut(t *testing.T) {
	x := tape.New(laid(3, 2))
	lines := drawn(x, 112, 20)
	assert.Equal(t, "Title 000  20.00 MiB, fragment 1 of 2", strings.TrimSpace(lines[0]))
	at := func(line int, sign string) int { return len([]rune(strings.Split(lines[line], sign)[0])) }
	assert.Contains(t, lines[1], "╭──")
	assert.Equal(t, at(2, "▓"), at(3, "▓"), "over its place on the tape")
	assert.Contains(t, lines[8], "╭")
	assert.Contains(t, lines[11], "╰", "the other fragment, three rows below")
	assert.Contains(t, lines[8], "VESPER")
	assert.Contains(t, lines[9], "WREN8")
	x.Part(1)
	assert.Equal(t, 3, x.List.Cursor)
	x.Part(1)
	assert.Equal(t, 0, x.List.Cursor, "round and round")
	x.Click(1+110*25/112, 3) // on the third of six fragments
	assert.Equal(t, 2, x.List.Cursor)
	x.Click(5, 8+6)
	l, _ := x.Under()
	assert.Equal(t, blockmap.Free, l.Kind)
	assert.Contains(t, drawn(x, 112, 20)[2], "├──", "what is free is measured")
	assert.False(t, x.Next(func(l blockmap.Length) bool { return l.Kind == blockmap.System && l.Count > 1000 }))
}

// TestLanesDoNotCross: a title that goes on beside another has a lane of its own, as long as there is one.
func TestLanesDoNotCross(t *testing.T) {
	lines := drawn(tape.New(laid(5, 3)), 80, 40)[8 : 8+15]
	assert.Contains(t, lines[0], "  ╭")
	assert.Contains(t, lines[1], " ╭│")
	assert.Contains(t, lines[2], "╭││")
	assert.Contains(t, lines[3], "│││", "the fourth has none")
	assert.Contains(t, lines[5], "││├")
	assert.Contains(t, lines[14], "   ")
}

func TestATapeFitsEveryWindow(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		x := tape.New(laid(rapid.IntRange(1, 40).Draw(t, "files"), rapid.IntRange(1, 5).Draw(t, "fragments")))
		for range 3 {
			w, h := rapid.IntRange(12, 240).Draw(t, "wide"), rapid.IntRange(1, 60).Draw(t, "high")
			lines := drawn(x, w, h)
			if len(lines) != h {
				t.Fatalf("%d lines of %d", len(lines), h)
			}
			for _, l := range lines {
				if n := style.Width(l); n != w {
					t.Fatalf("%d cells of %d: %q", n, w, l)
				}
			}
			x.Click(rapid.IntRange(-1, w).Draw(t, "x"), rapid.IntRange(-1, h).Draw(t, "y"))
		}
	})
}

// BenchmarkDraw draws a tape with 60,000 lengths.
func BenchmarkDraw(b *testing.B) {
	x := tape.New(laid(20_000, 3))
	th := style.New(true, false, colorprofile.TrueColor)
	for b.Loop() {
		x.Draw(th, 158, 40, strings.ToUpper)
	}
}
