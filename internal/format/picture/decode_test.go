package picture_test

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"image"
	"image/color"
	"image/gif"
	"image/jpeg"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/image/draw"
	"pgregory.net/rapid"

	"polytome/internal/format/picture"
)

func encoded(t testing.TB, format string, m image.Image) []byte {
	var b bytes.Buffer
	var err error
	switch format {
	case "png":
		err = png.Encode(&b, m)
	case "jpg":
		err = jpeg.Encode(&b, m, nil)
	case "gif":
		err = gif.Encode(&b, m, nil)
	}
	require.NoError(t, err)
	return b.Bytes()
}

// chunk is one of a PNG.
func chunk(kind string, data []byte) []byte {
	out := binary.BigEndian.AppendUint32(nil, uint32(len(data)))
	out = append(append(out, kind...), data...)
	return binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(out[4:]))
}

// header is a PNG that says how large it is, and holds nothing.
func header(w, h uint32) []byte {
	ihdr := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, w), h)
	return append([]byte("\x89PNG\r\n\x1a\n"), chunk("IHDR", append(ihdr, 8, 6, 0, 0, 0))...)
}

func TestWhatIsNoPictureIsRefusedInWords(t *testing.T) {
	still := encoded(t, "png", noisy(20, 20))
	moving := &gif.GIF{Delay: []int{1, 1}}
	for range 2 {
		moving.Image = append(moving.Image, image.NewPaletted(image.Rect(0, 0, 4, 4), color.Palette{color.Black,
			color.White}))
	}
	var gifs bytes.Buffer
	require.NoError(t, gif.EncodeAll(&gifs, moving))
	apng := append(append(append([]byte{}, still[:33]...), chunk("acTL", []byte{0, 0, 0, 2, 0, 0, 0, 0})...),
		still[33:]...)
	webp, err := base64.StdEncoding.DecodeString(webP)
	require.NoError(t, err)
	vp8x := append([]byte{}, webp[:12]...)
	vp8x = append(vp8x, "VP8X\x0a\x00\x00\x00\x02\x00\x00\x00\x03\x00\x00\x03\x00\x00"...)
	vp8x = append(vp8x, webp[12:]...)
	binary.LittleEndian.PutUint32(vp8x[4:], uint32(len(vp8x)-8))
	jpg := encoded(t, "jpg", noisy(200, 200))
	for name, c := range map[string]struct {
		data []byte
		says string
	}{
		"a web page":         {[]byte("\n <!DOCTYPE html><html><body>not found</body></html>"), "web page"},
		"a page with a mark": {[]byte("\uFEFF<html>"), "web page"},
		"an error in XML":    {[]byte(`<?xml version="1.0"?><Error/>`), "web page"},
		"a text":             {[]byte("no such thing"), "not a readable picture"},
		"nothing":            {nil, "empty"},
		"a huge one":         {header(30000, 30000), "30000 x 30000 pixels, which is too large"},
		"one of no width":    {header(0, 10), "not a readable picture"},
		"a JPEG cut short":   {jpg[:len(jpg)/2], "cut short"},
		"a PNG cut short":    {still[:len(still)-40], "cut short"},
		"a damaged PNG": {append(append([]byte{}, still[:60]...), bytes.Repeat([]byte{7}, len(still)-60)...),
			"damaged"},
		"a GIF that moves":     {gifs.Bytes(), "animated picture"},
		"a PNG that moves":     {apng, "animated picture"},
		"a WebP that moves":    {vp8x, "animated picture"},
		"a PNG without chunks": {header(10, 10), "cut short"},
	} {
		_, err := picture.Fit(bytes.NewReader(c.data), picture.Rule{Width: 8, Height: 8, Fit: "cut", Format: "png"})
		assert.ErrorContains(t, err, c.says, name)
		_, err = picture.Check(bytes.NewReader(c.data))
		assert.ErrorContains(t, err, c.says, name)
	}
	assert.True(t, errors.Is(func() error { _, _, err := picture.Decode(bytes.NewReader(apng)); return err }(),
		picture.ErrAnimated))
	for name, data := range map[string][]byte{"png": still, "gif": encoded(t, "gif", noisy(20, 20)), "jpg": jpg,
		"webp": webp} {
		s, err := picture.Check(bytes.NewReader(data))
		require.NoError(t, err, name)
		assert.Equal(t, name, s.Format)
	}
}

func TestWhatIsCutOffIsNotSeen(t *testing.T) {
	m := image.NewRGBA(image.Rect(0, 0, 100, 50))
	for y := range 50 {
		for x := range 100 {
			m.Set(x, y, color.RGBA{R: uint8(2 * x), G: uint8(4 * y), A: 255})
		}
	}
	data := encoded(t, "png", m)
	fit := func(c picture.Crop, fit string) image.Image {
		b, err := picture.Fit(bytes.NewReader(data), picture.Rule{Width: 40, Height: 40, Fit: fit, Format: "png",
			Crop: c})
		require.NoError(t, err)
		out, err := png.Decode(bytes.NewReader(b))
		require.NoError(t, err)
		return out
	}
	assert.Equal(t, image.Pt(40, 20), fit(picture.Crop{}, "inside").Bounds().Size())
	half := fit(picture.Crop{500, 0, 0, 0}, "inside")
	assert.Equal(t, image.Pt(40, 40), half.Bounds().Size(), "what is left is square")
	r, _, _, _ := half.At(0, 20).RGBA()
	assert.InDelta(t, 100, float64(r>>8), 6, "it begins in the middle")
	middle := fit(picture.Crop{450, 450, 450, 450}, "exact")
	r, g, _, _ := middle.At(20, 20).RGBA()
	assert.InDelta(t, 100, float64(r>>8), 8)
	assert.InDelta(t, 100, float64(g>>8), 8)
	for _, bad := range []picture.Crop{{600, 0, 600, 0}, {0, -1, 0, 0}, {0, 1000, 0, 0}} {
		assert.False(t, bad.Keeps())
		assert.Equal(t, image.Pt(40, 20), fit(bad, "inside").Bounds().Size(), "what would leave nothing cuts nothing")
	}
	assert.True(t, picture.Crop{499, 0, 500, 0}.Keeps())
}

// TestShrinkingIsNotSeen compares with a slow filter, for every kind of picture that is read, at any size.
func TestShrinkingIsNotSeen(t *testing.T) {
	smooth := func(w, h int) image.Image {
		m := image.NewNRGBA(image.Rect(0, 0, w, h))
		for y := range h {
			for x := range w {
				m.Set(x, y, color.NRGBA{R: uint8(255 * x / w), G: uint8(255 * y / h), B: 90, A: 255})
			}
		}
		return m
	}
	kinds := map[string]func(image.Image) []byte{
		"png": func(m image.Image) []byte { return encoded(t, "png", m) },
		"jpg": func(m image.Image) []byte { return encoded(t, "jpg", m) },
		"grey": func(m image.Image) []byte {
			g := image.NewGray(m.Bounds())
			draw.Draw(g, g.Rect, m, image.Point{}, draw.Src)
			return encoded(t, "jpg", g)
		},
		"rgba": func(m image.Image) []byte {
			g := image.NewRGBA(m.Bounds())
			draw.Draw(g, g.Rect, m, image.Point{}, draw.Src)
			return encoded(t, "png", g)
		},
		"deep": func(m image.Image) []byte {
			g := image.NewNRGBA64(m.Bounds())
			draw.Draw(g, g.Rect, m, image.Point{}, draw.Src)
			return encoded(t, "png", g)
		},
		"paletted": func(m image.Image) []byte { return encoded(t, "gif", m) },
	}
	names := []string{"png", "jpg", "grey", "rgba", "deep", "paletted"}
	rapid.Check(t, func(t *rapid.T) {
		kind := rapid.SampledFrom(names).Draw(t, "kind")
		w, h := rapid.IntRange(64, 400).Draw(t, "w"), rapid.IntRange(64, 400).Draw(t, "h")
		data := kinds[kind](smooth(w, h))
		to := rapid.IntRange(16, 40).Draw(t, "to")
		b, err := picture.Fit(bytes.NewReader(data), picture.Rule{Width: to, Height: to, Fit: "cut", Format: "png"})
		if err != nil {
			t.Fatal(err)
		}
		got, _ := png.Decode(bytes.NewReader(b))
		from, _, _ := image.Decode(bytes.NewReader(data))
		r := from.Bounds()
		if w > h {
			r.Min.X = (w - h) / 2
			r.Max.X = r.Min.X + h
		} else {
			r.Min.Y = (h - w) / 2
			r.Max.Y = r.Min.Y + w
		}
		want := image.NewRGBA(image.Rect(0, 0, to, to))
		draw.CatmullRom.Scale(want, want.Rect, from, r, draw.Src, nil)
		for y := range to {
			for x := range to {
				for i, d := range difference(got.At(x, y), want.At(x, y)) {
					if d > 24 {
						t.Fatalf("%s %d x %d to %d: at %d, %d channel %d differs by %d", kind, w, h, to, x, y, i, d)
					}
				}
			}
		}
	})
}

func difference(a, b color.Color) (out [3]int) {
	r1, g1, b1, _ := a.RGBA()
	r2, g2, b2, _ := b.RGBA()
	for i, d := range [3]int{int(r1>>8) - int(r2>>8), int(g1>>8) - int(g2>>8), int(b1>>8) - int(b2>>8)} {
		out[i] = max(d, -d)
	}
	return out
}

func FuzzCheck(f *testing.F) {
	f.Add(encoded(f, "gif", noisy(8, 8)))
	f.Add(encoded(f, "png", noisy(8, 8)))
	f.Add(encoded(f, "jpg", noisy(8, 8)))
	f.Add(header(1<<31-1, 1<<31-1))
	f.Add([]byte(strings.Repeat("<", 600)))
	f.Fuzz(func(t *testing.T, data []byte) {
		if s, err := picture.Check(bytes.NewReader(data)); err == nil && (s.Width < 1 || s.Height < 1 ||
			s.Width*s.Height > picture.MaxPixels) {
			t.Fatal(s)
		}
	})
}
