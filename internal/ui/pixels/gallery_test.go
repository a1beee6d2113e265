package pixels_test

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"regexp"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/ansi/sixel"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/ui/pixels"
)

// painted is a picture that is red on the left and blue on the right.
func painted(w, h int) image.Image {
	im := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			c := color.RGBA{200, 0, 0, 255}
			if x >= w/2 {
				c = color.RGBA{0, 0, 200, 255}
			}
			im.Set(x, y, c)
		}
	}
	return im
}

// shown makes the pictures of a screen, and returns what the terminal is sent.
func shown(g *pixels.Gallery) string {
	jobs := g.Jobs()
	for _, j := range jobs {
		j.Do()
	}
	g.Done(jobs)
	return g.Draw()
}

// screen is lines with a picture at a spot.
func screen(w, h, x, y int, pic []string) []string {
	out := make([]string, h)
	for i := range out {
		out[i] = strings.Repeat(".", w)
		if k := i - y; k >= 0 && k < len(pic) {
			wide := len([]rune(pic[k]))
			out[i] = strings.Repeat(".", x) + pic[k] + strings.Repeat(".", w-x-wide)
		}
	}
	return out
}

// look checks that a picture is the painted one.
func look(t *testing.T, im image.Image) {
	t.Helper()
	b := im.Bounds()
	for _, x := range []struct {
		at   int
		r, b uint32
	}{{b.Dx() / 4, 200, 0}, {b.Dx() * 3 / 4, 0, 200}} {
		r, _, bl, _ := im.At(b.Min.X+x.at, b.Min.Y+b.Dy()/2).RGBA()
		assert.InDelta(t, x.r, r>>8, 6)
		assert.InDelta(t, x.b, bl>>8, 6)
	}
}

func TestPicturesAreDrawnAsTheTerminalTakesThem(t *testing.T) {
	for _, p := range []pixels.Protocol{pixels.Sixel, pixels.Kitty, pixels.Inline} {
		t.Run(fmt.Sprint(p), func(t *testing.T) {
			g := pixels.NewGallery(p, image.Pt(8, 16))
			pic := g.Hang(painted(400, 400), 20, 30)
			assert.Len(t, pic, 10, "as wide as may be, and square: a cell is twice as high as wide")
			lines := screen(40, 20, 5, 3, pic)
			g.Find(lines)
			assert.Equal(t, strings.Repeat(".", 5)+strings.Repeat(" ", 20)+strings.Repeat(".", 15), lines[3])
			require.True(t, g.Changed())
			out := shown(g)
			assert.False(t, g.Changed())
			assert.Contains(t, out, "\x1b[4;6H", "where it belongs")
			assert.True(t, strings.HasPrefix(out, "\x1b7") && strings.HasSuffix(out, "\x1b8"), "the cursor stays")
			switch p {
			case pixels.Sixel:
				data := regexp.MustCompile(`(?s)\x1bP0;1q(.*)\x1b\\`).FindStringSubmatch(out)[1]
				im, err := (&sixel.Decoder{}).Decode(strings.NewReader(data))
				require.NoError(t, err)
				assert.Equal(t, image.Pt(160, 160), im.Bounds().Size())
				look(t, im)
			case pixels.Inline:
				m := regexp.MustCompile(`\x1b]1337;File=([^:]*):([^\x07]*)\x07`).FindStringSubmatch(out)
				assert.Contains(t, m[1], "inline=1;width=20;height=10")
				look(t, decoded(t, m[2]))
			case pixels.Kitty:
				var data strings.Builder
				all := regexp.MustCompile(`\x1b_G([^;\x1b]*);?([^\x1b]*)\x1b\\`).FindAllStringSubmatch(out, -1)
				for i, m := range all[:len(all)-1] {
					assert.LessOrEqual(t, len(m[2]), 4096)
					assert.Equal(t, i == len(all)-2, strings.Contains(m[1], "m=0"), "the last piece says so")
					data.WriteString(m[2])
				}
				assert.Contains(t, all[0][1], "a=t,f=100,i=1")
				assert.Contains(t, all[len(all)-1][1], "a=p,q=2,C=1,i=1")
				assert.Contains(t, all[len(all)-1][1], "c=20,r=10")
				look(t, decoded(t, data.String()))
			}
			// It goes to another place, and then away.
			g.Find(screen(40, 20, 0, 0, g.Hang(painted(400, 400), 20, 30)))
			g.Find(screen(40, 20, 6, 3, pic))
			assert.Equal(t, p != pixels.Kitty, g.Wipes(), "what lies in the cells stays there")
			if g.Wipes() {
				g.Wiped()
			}
			out = shown(g)
			assert.Contains(t, out, "\x1b[4;7H")
			if p == pixels.Kitty {
				assert.Contains(t, out, "a=d,d=i,q=2,i=1,p=3006")
				assert.NotContains(t, out, "a=t", "it is known")
			}
		})
	}
}

func decoded(t *testing.T, text string) image.Image {
	b, err := base64.StdEncoding.DecodeString(text)
	require.NoError(t, err)
	im, err := png.Decode(bytes.NewReader(b))
	require.NoError(t, err)
	return im
}

// TestAPictureThatIsCutOffIsNotShown: it would be drawn over something else.
func TestAPictureThatIsCutOffIsNotShown(t *testing.T) {
	g := pixels.NewGallery(pixels.Sixel, image.Pt(8, 16))
	pic := g.Hang(painted(100, 100), 20, 20)
	lines := screen(40, 8, 0, 0, pic[:5])
	g.Find(lines)
	assert.False(t, g.Changed())
	assert.NotContains(t, strings.Join(lines, ""), "\U000F0000")
}

// TestEveryPictureIsFoundWhereItIs on any screen, also the same one twice.
func TestEveryPictureIsFoundWhereItIs(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g := pixels.NewGallery(pixels.Kitty, image.Pt(8, 16))
		one, other := g.Hang(painted(80, 80), 6, 6), g.Hang(painted(80, 40), 6, 6)
		var lines []string
		want := map[string]int{}
		for range rapid.IntRange(1, 4).Draw(t, "bands") {
			for range rapid.IntRange(0, 2).Draw(t, "between") {
				lines = append(lines, "\x1b[31m銅 é"+strings.Repeat("-", 30)+"\x1b[m")
			}
			x := rapid.IntRange(0, 9).Draw(t, "x")
			pic := one
			if rapid.Bool().Draw(t, "other") {
				pic = other
			}
			want[ansi.CursorPosition(x+1, len(lines)+1)]++
			for _, row := range pic {
				lines = append(lines, "\x1b[1m"+strings.Repeat("銅", x/2)+strings.Repeat("a", x%2)+"\x1b[m"+row+"| tail")
			}
		}
		g.Find(lines)
		out := shown(g)
		for at, n := range want {
			if strings.Count(out, at) != n {
				t.Fatalf("%q is there %d times, not %d", at, strings.Count(out, at), n)
			}
		}
		if n := strings.Count(out, "a=p"); n != len(want) {
			t.Fatalf("%d pictures of %d are drawn", n, len(want))
		}
	})
}
