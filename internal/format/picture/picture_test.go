package picture_test

import (
	"bytes"
	"encoding/base64"
	"image"
	"image/color"
	"image/gif"
	"image/jpeg"
	"image/png"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/image/bmp"

	"polytome/internal/format/picture"
)

// noisy is a picture that compresses badly: left half red, right half blue, with noise.
func noisy(w, h int) image.Image {
	m := image.NewRGBA(image.Rect(0, 0, w, h))
	rng := rand.New(rand.NewPCG(1, 5))
	for x := range w {
		for y := range h {
			c := color.RGBA{A: 255, G: uint8(rng.Uint32() % 120)}
			if x < w/2 {
				c.R = 200
			} else {
				c.B = 200
			}
			m.Set(x, y, c)
		}
	}
	return m
}

// webP is a lossless picture of 4 x 4 green pixels, which no library here writes.
const webP = "UklGRhwAAABXRUJQVlA4TA8AAAAvA8AAAAcQEf0PRET/Aw=="

func TestEveryKindIsRead(t *testing.T) {
	sources := map[string]func(w io.Writer) error{
		"png":  func(w io.Writer) error { return png.Encode(w, noisy(60, 40)) },
		"jpeg": func(w io.Writer) error { return jpeg.Encode(w, noisy(60, 40), nil) },
		"gif":  func(w io.Writer) error { return gif.Encode(w, noisy(60, 40), nil) },
		"bmp":  func(w io.Writer) error { return bmp.Encode(w, noisy(60, 40)) },
		"webp": func(w io.Writer) error {
			b, err := base64.StdEncoding.DecodeString(webP)
			if err == nil {
				_, err = w.Write(b)
			}
			return err
		},
	}
	for name, write := range sources {
		var b bytes.Buffer
		require.NoError(t, write(&b), name)
		for _, format := range []string{"png", "jpg"} {
			got, err := picture.Fit(bytes.NewReader(b.Bytes()), picture.Rule{Width: 30, Height: 30, Fit: "exact",
				Format: format})
			require.NoError(t, err, name)
			m, kind, err := image.Decode(bytes.NewReader(got))
			require.NoError(t, err, name)
			assert.Equal(t, map[string]string{"png": "png", "jpg": "jpeg"}[format], kind)
			assert.Equal(t, image.Pt(30, 30), m.Bounds().Size())
			if name != "webp" { // not stretched: red to the left, blue to the right, bars above and below
				r, _, bl, _ := m.At(5, 15).RGBA()
				assert.Greater(t, r, bl, name)
				r, _, bl, _ = m.At(25, 15).RGBA()
				assert.Greater(t, bl, r, name)
				r, g, bl, _ := m.At(15, 1).RGBA()
				assert.Less(t, r+g+bl, uint32(3*0x2000), name)
			}
		}
	}
}

func TestAPictureHasAsFewBytesAsAreAllowed(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, noisy(400, 300)))
	for _, format := range []string{"png", "jpg"} {
		last := image.Pt(256, 192)
		for _, most := range []int64{0, 60_000, 20_000, 8_000, 2_500} {
			got, err := picture.Fit(bytes.NewReader(b.Bytes()), picture.Rule{Width: 256, Height: 256, Fit: "inside",
				Format: format, Largest: most})
			require.NoError(t, err, "%s %d", format, most)
			if most > 0 {
				assert.LessOrEqual(t, int64(len(got)), most, format)
			}
			m, _, err := image.DecodeConfig(bytes.NewReader(got))
			require.NoError(t, err)
			assert.InDelta(t, 4.0/3, float64(m.Width)/float64(m.Height), 0.06, "not stretched")
			assert.LessOrEqual(t, m.Width, last.X, "only smaller where nothing else helps")
			last = image.Pt(m.Width, m.Height)
		}
		_, err := picture.Fit(bytes.NewReader(b.Bytes()), picture.Rule{Width: 256, Height: 256, Fit: "exact",
			Format: format, Largest: 300})
		var large *picture.TooLarge
		require.ErrorAs(t, err, &large)
		assert.ErrorContains(t, err, "and 300 are allowed")
	}
}

func FuzzFit(f *testing.F) {
	var b bytes.Buffer
	require.NoError(f, gif.Encode(&b, noisy(8, 8), nil))
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		_, _ = picture.Fit(bytes.NewReader(data), picture.Rule{Width: 8, Height: 8, Fit: "cut", Format: "png",
			Largest: 2000})
	})
}
