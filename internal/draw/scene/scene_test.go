package scene_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/draw/scene"
	"polytome/internal/draw/typeface"
	"polytome/internal/testkit/scenetest"
)

var season = time.Date(2026, 3, 14, 0, 0, 0, 0, time.UTC)

// texts are those of a page, from top to bottom.
func texts(p *scene.Page) (out []string) {
	for _, item := range p.Items {
		if t, ok := item.(*scene.Text); ok {
			out = append(out, t.S)
		}
	}
	return out
}

func TestEveryPageHasItsHeadings(t *testing.T) {
	s := scene.Begin(scene.Papers[0], "A long list", "of two hundred lines", season)
	pen := scene.Pen{Size: 9}
	s.Head = func() {
		s.Write(pen, s.Left, s.Y+8, "the head of the table")
		s.Y += 12
	}
	s.Head()
	for i := range 200 {
		s.Need(12)
		if i%50 == 0 {
			s.Mark(0, fmt.Sprintf("line %d", i))
		}
		s.Write(pen, s.Left, s.Y+8, fmt.Sprintf("line %d", i))
		s.Y += 12
	}
	d := s.End()
	require.Len(t, d.Pages, 4)
	seen := 0
	for i, p := range d.Pages {
		all := texts(p)
		assert.Contains(t, all, "the head of the table")
		assert.Contains(t, all, fmt.Sprintf("page %d of 4", i+1))
		assert.Contains(t, all, "polytome · 14 March 2026")
		if i == 0 {
			assert.Equal(t, "A long list", all[0])
			assert.Contains(t, all, "of two hundred lines")
		} else {
			assert.Equal(t, "A long list, continued", all[0])
		}
		for _, l := range all {
			if strings.HasPrefix(l, "line ") {
				assert.Equal(t, fmt.Sprintf("line %d", seen), l, "none is lost, and none comes twice")
				seen++
			}
		}
	}
	assert.Equal(t, 200, seen)
	require.Len(t, d.Marks, 4)
	for _, m := range d.Marks {
		assert.Contains(t, texts(d.Pages[m.At.Page]), m.Text, "an entry leads to the page that has it")
	}
	assert.Empty(t, scenetest.Wrong(d))
}

func TestAHatchStaysInItsRectangle(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := func(name string, least, most float64) float64 { return rapid.Float64Range(least, most).Draw(t, name) }
		x, y, w, h, gap := f("x", 0, 500), f("y", 0, 700), f("w", 0.1, 90), f("h", 0.1, 90), f("gap", 1, 9)
		p := &scene.Page{Width: 600, Height: 800}
		p.Hatch(x, y, w, h, gap, 0.5, scene.Dark, rapid.Bool().Draw(t, "falling"))
		lines := 0
		for _, item := range p.Items {
			for _, s := range item.(*scene.Shape).Path {
				require.True(t, s.To.X >= x-1e-6 && s.To.X <= x+w+1e-6 && s.To.Y >= y-1e-6 && s.To.Y <= y+h+1e-6,
					"%v is not in %f %f %f %f", s.To, x, y, w, h)
				if s.Op == scene.Line {
					lines++
				}
			}
		}
		require.GreaterOrEqual(t, float64(lines+1), (w+h)/gap-1, "they are as dense as was asked")
	})
}

func TestABowIsAsHighAsWasAsked(t *testing.T) {
	p := &scene.Page{Width: 600, Height: 800}
	p.Arc(100, 300, 500, 40, 1, scene.Black)
	s := p.Items[0].(*scene.Shape).Path
	require.Len(t, s, 2)
	highest := 500.0
	for i := range 101 { // B(t) of a cubic curve
		u := float64(i) / 100
		y := (1-u)*(1-u)*(1-u)*s[0].To.Y + 3*(1-u)*(1-u)*u*s[1].A.Y + 3*(1-u)*u*u*s[1].B.Y + u*u*u*s[1].To.Y
		highest = min(highest, y)
	}
	assert.InDelta(t, 460, highest, 0.01)
}

func TestTextsEndWhereTheySay(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		pen := scene.Pen{Size: rapid.Float64Range(6, 20).Draw(t, "size"),
			Weight: rapid.SampledFrom([]typeface.Weight{typeface.Regular, typeface.Bold}).Draw(t, "weight")}
		s := rapid.StringOfN(rapid.RuneFrom([]rune("aWi 亜あ/.")), 0, 50, -1).Draw(t, "s")
		width := rapid.Float64Range(10, 200).Draw(t, "width")
		p := &scene.Page{Width: 600, Height: 800}
		p.WriteIn(pen, 100, 100, width, s)
		p.WriteRight(pen, 500, 120, width, s)
		p.WriteCentre(pen, 300, 140, width, s)
		p.PathIn(pen, 100, 160, width, s)
		for _, item := range p.Items {
			v := item.(*scene.Text)
			require.LessOrEqual(t, v.Wide, width+1e-6)
			switch v.Y {
			case 120:
				require.InDelta(t, 500, v.X+v.Wide, 1e-6)
			case 140:
				require.InDelta(t, 300, v.X+v.Wide/2, 1e-6)
			default:
				require.InDelta(t, 100, v.X, 1e-6)
			}
		}
		most := rapid.IntRange(1, 4).Draw(t, "lines")
		lines := pen.WrapMost(s, width, most)
		require.LessOrEqual(t, len(lines), most)
		if whole := pen.Wrap(s, width); len(whole) > most {
			require.True(t, strings.HasSuffix(lines[most-1], "…") || pen.Width("…") > width, "%q of %q", lines, whole)
			require.Equal(t, whole[:most-1], lines[:most-1])
		}
	})
}

func TestPapers(t *testing.T) {
	for name, want := range map[string][2]float64{"": {595.28, 841.89}, "A4": {595.28, 841.89}, "letter": {612, 792},
		"Letter": {612, 792}} {
		p, err := scene.PaperNamed(name)
		require.NoError(t, err)
		assert.InDelta(t, want[0], p.Width, 0.01)
		assert.InDelta(t, want[1], p.Height, 0.01)
		assert.Equal(t, p.Height, p.Across().Width)
	}
	_, err := scene.PaperNamed("a3")
	assert.EqualError(t, err, `unknown paper "a3": did you mean "a4"?`)
}

// TestWhatIsWrongIsSeen spoils a drawing in each way that is looked for.
func TestWhatIsWrongIsSeen(t *testing.T) {
	pen := scene.Pen{Size: 9}
	for name, spoil := range map[string]func(d *scene.Drawing, p *scene.Page){
		"lies over":   func(_ *scene.Drawing, p *scene.Page) { p.Write(pen, 105, 103, "another") },
		"leaves":      func(_ *scene.Drawing, p *scene.Page) { p.Write(pen, 580, 300, "cut off") },
		"points high": func(_ *scene.Drawing, p *scene.Page) { p.Write(scene.Pen{Size: 3}, 100, 300, "dust") },
		"too pale": func(_ *scene.Drawing,
			p *scene.Page) {
			p.Write(scene.Pen{Size: 9, Ink: scene.Pale}, 100, 300, "pale")
		},
		"a line leaves": func(_ *scene.Drawing, p *scene.Page) { p.Across(500, 300, 200, 1, scene.Black) },
		"the picture": func(_ *scene.Drawing,
			p *scene.Page) {
			p.Items = append(p.Items, &scene.Picture{X: 590, W: 40, H: 10})
		},
		"a link leads": func(_ *scene.Drawing, p *scene.Page) {
			p.Items = append(p.Items, &scene.Link{To: scene.Spot{Page: 3}})
		},
		"of the contents": func(d *scene.Drawing, _ *scene.Page) {
			d.Marks = append(d.Marks, scene.Mark{Text: "x", At: scene.Spot{Page: 9}})
		},
		"there is no page": func(d *scene.Drawing, _ *scene.Page) { d.Pages = nil },
	} {
		p := &scene.Page{Width: 600, Height: 800}
		d := &scene.Drawing{Pages: []*scene.Page{p}}
		p.Write(pen, 100, 100, "something")
		require.Empty(t, scenetest.Wrong(d))
		spoil(d, p)
		wrong := scenetest.Wrong(d)
		require.NotEmpty(t, wrong, name)
		assert.Contains(t, wrong[0], name)
	}
}
