package svg_test

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/draw/pdf"
	"polytome/internal/draw/scene"
	"polytome/internal/draw/svg"
	"polytome/internal/testkit/judge"
)

// blue is a picture of one colour.
func blue(t *testing.T) []byte {
	im := image.NewRGBA(image.Rect(0, 0, 40, 20))
	for i := range im.Pix {
		im.Pix[i] = []uint8{20, 40, 220, 255}[i%4]
	}
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, im, &jpeg.Options{Quality: 100}))
	return b.Bytes()
}

// sample has one of each kind of item, at targets that are looked at below.
func sample(t *testing.T) *scene.Drawing {
	grey, white := scene.Ink(120), scene.White
	p := &scene.Page{Width: 200, Height: 100}
	p.Rect(10, 10, 30, 20, 0, scene.Black, &grey)
	p.Rect(50, 10, 30, 20, 4, scene.Black, &white)
	p.Circle(110, 20, 10, 0, scene.Black, &grey)
	p.Polygon(scene.Black, scene.Point{X: 130, Y: 10}, scene.Point{X: 160, Y: 10}, scene.Point{X: 130, Y: 40})
	p.Line(6, scene.Black, []float64{10, 10}, scene.Point{X: 10, Y: 50}, scene.Point{X: 60, Y: 50})
	p.Arc(70, 110, 60, 20, 4, scene.Black)
	p.Items = append(p.Items, &scene.Picture{X: 130, Y: 50, W: 40, H: 20, JPEG: blue(t), Name: "a <blue> one"})
	p.Write(scene.Pen{Size: 24}, 10, 92, "█▌銅")
	return &scene.Drawing{Title: "Sample & \"more\"", Subject: "<all of it>", Pages: []*scene.Page{p}}
}

// spots are points of the sample, with what is seen there.
var spots = []struct {
	x, y int
	want color.Gray
}{
	{25, 20, color.Gray{Y: 120}}, {5, 5, color.Gray{Y: 255}}, {65, 20, color.Gray{Y: 255}}, {51, 20, color.Gray{}},
	{80, 20, color.Gray{}},
	{110, 20, color.Gray{Y: 120}}, {101, 12, color.Gray{Y: 255}}, {135, 15, color.Gray{}},
	{157, 37, color.Gray{Y: 255}},
	{15, 50, color.Gray{}}, {25, 50, color.Gray{Y: 255}}, {35, 50, color.Gray{}}, {90, 40, color.Gray{}},
	{90, 55, color.Gray{Y: 255}},
	{15, 85, color.Gray{}},
}

// TestEveryItemIsSeen has foreign programs draw both files of a sample, and looks at points of the pictures.
func TestEveryItemIsSeen(t *testing.T) {
	d := sample(t)
	base := filepath.Join(t.TempDir(), "x")
	for ext, write := range map[string]func(*os.File) error{".svg": func(f *os.File) error { return svg.Write(f, d) },
		".pdf": func(f *os.File) error { return pdf.Write(f, d) }} {
		f, err := os.Create(base + ext)
		require.NoError(t, err)
		require.NoError(t, write(f))
		require.NoError(t, f.Close())
	}
	judge.Run(t, "rsvg-convert", "-w", "800", "-h", "400", "-o", base+".s.png", base+".svg")
	judge.Run(t, "pdftoppm", "-png", "-singlefile", "-scale-to-x", "800", "-scale-to-y", "400", base+".pdf", base+".p")
	for _, name := range []string{base + ".s.png", base + ".p.png"} {
		f, err := os.Open(name)
		require.NoError(t, err)
		im, _, err := image.Decode(f)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		for _, s := range spots {
			got := color.GrayModel.Convert(im.At(s.x*4, s.y*4)).(color.Gray)
			assert.InDelta(t, s.want.Y, got.Y, 12, "%s at %d, %d", filepath.Ext(strings.TrimSuffix(name, ".png")), s.x,
				s.y)
		}
		r, g, b, _ := im.At(150*4, 60*4).RGBA()
		assert.True(t, b > 40000 && r < 20000 && g < 20000, "the picture keeps its colours: %d %d %d", r, g, b)
	}
}

func TestAFileNeedsNothingBesideItself(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, svg.Write(&b, sample(t)))
	s := b.String()
	for _, want := range []string{`<title>Sample &amp; &quot;more&quot;</title>`, `<desc>&lt;all of it&gt;</desc>`,
		`width="200pt" height="100pt" viewBox="0 0 200 100"`, `<title>a &lt;blue&gt; one</title>`, `>█▌銅</text>`,
		`href="data:image/jpeg;base64,/9j/`, `<view id="page1"`} {
		assert.Contains(t, s, want)
	}
	for _, never := range []string{"http://", "font-family", "@import", "<script", "NaN", "Inf", "-0 ", "url("} {
		assert.NotContains(t, strings.ReplaceAll(s, "http://www.w3.org/2000/svg", ""), never)
	}
}

func TestPagesSimulatorRows(t *testing.T) {
	for n, want := range map[int]string{1: "0 0 100 100", 2: "0 0 254 136", 4: "0 0 254 254", 5: "0 0 372 254",
		10: "0 0 490 372"} {
		d := &scene.Drawing{}
		for range n {
			d.Pages = append(d.Pages, &scene.Page{Width: 100, Height: 100})
		}
		var b bytes.Buffer
		require.NoError(t, svg.Write(&b, d))
		assert.Contains(t, b.String(), `viewBox="`+want+`">`, "%d pages", n)
		for i := range n {
			assert.Contains(t, b.String(), fmt.Sprintf(`<view id="page%d"`, i+1))
		}
	}
}

// broken takes some bytes, and then no more.
type broken struct{ left int }

var errBroken = errors.New("the disk is full")

func (b *broken) Write(p []byte) (int, error) {
	if b.left -= len(p); b.left < 0 {
		return 0, errBroken
	}
	return len(p), nil
}

func TestWhatCannotBeWrittenIsReported(t *testing.T) {
	for _, left := range []int{0, 100, 70_000} {
		d := sample(t)
		for range 300 {
			d.Pages[0].Write(scene.Pen{Size: 8}, 10, 92, strings.Repeat("long ", 40))
		}
		assert.ErrorIs(t, svg.Write(&broken{left}, d), errBroken)
		if left < 1000 {
			assert.ErrorIs(t, pdf.Write(&broken{left}, d), errBroken)
		}
	}
}
