// Package picture brings pictures to the size and format that a loader wants. It reads PNG, JPEG,
// GIF, BMP and WebP, and writes PNG and JPEG.
package picture

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/color"
	_ "image/gif" // read
	"image/jpeg"
	"image/png"
	"io"

	_ "golang.org/x/image/bmp" // read
	"golang.org/x/image/draw"
	_ "golang.org/x/image/webp" // read
)

// A Rule is how a picture is wanted.
type Rule struct {
	Width, Height int    // of the box, in pixels
	Fit           string // inside: as large as the box allows; exact: fills the box, with bars; cut: fills it, cut at the sides
	Format        string // jpg or png
	Largest       int64  // bytes that the file may have; 0 for any number
}

// maxPixels is how many pixels a source may have: what is larger is no cover, and would take
// gigabytes to decode.
const maxPixels = 64 << 20

// jpegQualities are tried one after another until the file is small enough.
var jpegQualities = []int{88, 80, 70, 60, 50, 40, 30, 20, 10}

// Fit reads a picture and writes it as the rule wants it. The same source and rule give the same
// bytes.
func Fit(source io.ReadSeeker, r Rule) ([]byte, error) {
	head, _, err := image.DecodeConfig(source)
	if err != nil {
		return nil, fmt.Errorf("it is no picture that can be read: %w", err)
	}
	if head.Width <= 0 || head.Height <= 0 || head.Width > maxPixels/head.Height {
		return nil, fmt.Errorf("it has %d x %d pixels, and that is too many", head.Width, head.Height)
	}
	if _, err := source.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	from, _, err := image.Decode(source)
	if err != nil {
		return nil, fmt.Errorf("the picture is damaged: %w", err)
	}
	to := resize(from, r)
	var out bytes.Buffer
	if r.Format == "png" {
		err = (&png.Encoder{CompressionLevel: png.BestCompression}).Encode(&out, to)
		if err == nil && r.Largest > 0 && int64(out.Len()) > r.Largest {
			err = fmt.Errorf("as PNG it has %d bytes, and %d are allowed", out.Len(), r.Largest)
		}
		return out.Bytes(), err
	}
	for _, q := range jpegQualities {
		out.Reset()
		if err := jpeg.Encode(&out, to, &jpeg.Options{Quality: q}); err != nil {
			return nil, err
		}
		if r.Largest == 0 || int64(out.Len()) <= r.Largest {
			return out.Bytes(), nil
		}
	}
	return nil, errors.New("it cannot be made small enough")
}

// resize brings a picture to the size that the rule wants. Transparent parts become black, which is
// what consoles show.
func resize(from image.Image, r Rule) image.Image {
	b := from.Bounds()
	w, h := max(r.Width, 1), max(r.Height, 1)
	wide := b.Dx()*h > b.Dy()*w // wider than the box
	in := image.Rect(0, 0, w, h)
	if r.Fit == "cut" {
		if keep := b.Dy() * w / h; wide {
			b.Min.X += (b.Dx() - keep) / 2
			b.Max.X = b.Min.X + keep
		} else {
			keep = b.Dx() * h / w
			b.Min.Y += (b.Dy() - keep) / 2
			b.Max.Y = b.Min.Y + keep
		}
	} else if wide {
		in.Max.Y = max(1, b.Dy()*w/b.Dx())
	} else {
		in.Max.X = max(1, b.Dx()*h/b.Dy())
	}
	frame := image.Rect(0, 0, w, h)
	if r.Fit == "inside" {
		frame = in
	} else {
		in = in.Add(image.Pt((w-in.Dx())/2, (h-in.Dy())/2))
	}
	out := image.NewRGBA(frame)
	draw.Draw(out, frame, image.NewUniform(color.Black), image.Point{}, draw.Src)
	draw.CatmullRom.Scale(out, in, from, b, draw.Over, nil)
	return out
}
