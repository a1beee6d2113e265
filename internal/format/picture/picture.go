// Package picture brings pictures to the size and format that a loader wants. It reads PNG, JPEG,
// GIF, BMP and WebP, and writes PNG and JPEG.
package picture

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/color/palette"
	stddraw "image/draw"
	_ "image/gif" // read
	"image/jpeg"
	"image/png"
	"io"
	"path"
	"slices"
	"strings"

	_ "golang.org/x/image/bmp" // read
	"golang.org/x/image/draw"
	_ "golang.org/x/image/webp" // read
)

// Extensions are those of the names of pictures that can be read.
var Extensions = []string{".png", ".jpg", ".jpeg", ".webp", ".gif", ".bmp"}

// Named reports whether a file's name ends as that of a picture does.
func Named(name string) bool {
	return slices.Contains(Extensions, strings.ToLower(path.Ext(name)))
}

// A Rule is how a picture is wanted.
type Rule struct {
	Width  int `toml:"width"`  // of the box, in pixels
	Height int `toml:"height"` // of the box, in pixels
	// inside: as large as the box allows; exact: fills the box, with bars; cut: fills it, cut at the sides
	Fit     string `toml:"fit"`
	Format  string `toml:"format"`            // jpg or png
	Largest int64  `toml:"largest,omitempty"` // bytes that the file may have; 0 for any number
	// Crop is what of the source is used.
	Crop Crop `toml:"crop,omitempty"`
}

// A Crop is what is cut off a picture at its left, top, right and bottom, in thousandths of its width or height. The
// zero value keeps it whole.
type Crop [4]int

// Keeps reports whether something of the picture is left.
func (c Crop) Keeps() bool {
	for _, n := range c {
		if n < 0 {
			return false
		}
	}
	return c[0]+c[2] < 1000 && c[1]+c[3] < 1000
}

// Of is the part of a picture that is kept: a pixel at least.
func (c Crop) Of(b image.Rectangle) image.Rectangle {
	if c == (Crop{}) || !c.Keeps() {
		return b
	}
	w, h := b.Dx(), b.Dy()
	r := image.Rect(b.Min.X+w*c[0]/1000, b.Min.Y+h*c[1]/1000, b.Max.X-w*c[2]/1000, b.Max.Y-h*c[3]/1000)
	if r.Empty() {
		return b
	}
	return r
}

// A Size is what a picture's file says of it.
type Size struct {
	Width, Height int    // in pixels
	Format        string // jpg, png, gif, bmp or webp
}

// Measure reads the size and format of a picture, and nothing else of it.
func Measure(source io.Reader) (Size, error) {
	head, format, err := header(source)
	if err != nil {
		return Size{}, err
	}
	if format == "jpeg" {
		format = "jpg"
	}
	return Size{head.Width, head.Height, format}, nil
}

// Off says in what a picture is not as the rule wants it, "" for nothing. It has so many bytes.
func (r *Rule) Off(s Size, bytes int64) string {
	switch {
	case s.Format != r.Format:
		return fmt.Sprintf("it is a %s picture, and %s is wanted", s.Format, r.Format)
	case r.Fit == "inside" && (s.Width > r.Width || s.Height > r.Height):
		return fmt.Sprintf("it has %d x %d pixels, and at most %d x %d are wanted", s.Width, s.Height, r.Width,
			r.Height)
	case r.Fit != "inside" && r.Width > 0 && r.Height > 0 && (s.Width != r.Width || s.Height != r.Height):
		return fmt.Sprintf("it has %d x %d pixels, and %d x %d are wanted", s.Width, s.Height, r.Width, r.Height)
	case r.Largest > 0 && bytes > r.Largest:
		return fmt.Sprintf("it has %d bytes, and at most %d are wanted", bytes, r.Largest)
	}
	return ""
}

// jpegQualities are tried one after another until the file is small enough.
var jpegQualities = []int{88, 80, 70, 60, 50, 40, 30, 20, 10}

// Fit reads a picture and writes it as the rule wants it. The same source and rule give the same
// bytes.
func Fit(source io.ReadSeeker, r Rule) ([]byte, error) {
	from, done, err := Decode(source)
	if err != nil {
		return nil, err
	}
	defer done()
	for { // a picture that cannot be made small enough otherwise gets fewer pixels, where its size is free
		out, err := encode(Resize(from, r), r)
		var large *TooLarge
		if !errors.As(err, &large) || r.Fit != "inside" || r.Width < 2*smallest || r.Height < 2*smallest {
			return out, err
		}
		r.Width, r.Height = r.Width*4/5, r.Height*4/5
	}
}

// smallest is how many pixels a side of the box has at least, when a picture is made smaller to have fewer bytes.
const smallest = 16

// TooLarge is a picture that has more bytes than allowed however it is written.
type TooLarge struct {
	Has, Allowed int64 // bytes
}

func (e *TooLarge) Error() string {
	return fmt.Sprintf("it has %d bytes at least, and %d are allowed", e.Has, e.Allowed)
}

// encode writes a picture with as few bytes as are allowed: a JPEG with less quality, a PNG with fewer colours.
func encode(to image.Image, r Rule) ([]byte, error) {
	least := int64(0)
	try := func(write func(w io.Writer) error) ([]byte, error) {
		var out bytes.Buffer
		if err := write(&out); err != nil {
			return nil, err
		}
		if n := int64(out.Len()); r.Largest > 0 && n > r.Largest {
			if least == 0 || n < least {
				least = n
			}
			return nil, nil
		}
		return out.Bytes(), nil
	}
	var ways []func(w io.Writer) error
	if r.Format == "png" {
		e := &png.Encoder{CompressionLevel: png.BestCompression}
		ways = append(ways, func(w io.Writer) error { return e.Encode(w, to) })
		for _, colours := range []color.Palette{palette.Plan9, palette.WebSafe} {
			ways = append(ways, func(w io.Writer) error {
				few := image.NewPaletted(to.Bounds(), colours)
				stddraw.FloydSteinberg.Draw(few, few.Bounds(), to, to.Bounds().Min)
				return e.Encode(w, few)
			})
		}
	} else {
		for _, q := range jpegQualities {
			ways = append(ways, func(w io.Writer) error { return jpeg.Encode(w, to, &jpeg.Options{Quality: q}) })
		}
	}
	for _, way := range ways {
		if out, err := try(way); out != nil || err != nil {
			return out, err
		}
	}
	return nil, &TooLarge{least, r.Largest}
}

// Resize brings a picture to the size that the rule wants, cropped as it says. Its format and bytes are not looked at.
// Transparent parts become black, which is what consoles show.
func Resize(from image.Image, r Rule) image.Image {
	b := r.Crop.Of(from.Bounds())
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
	if small := shrink(from, b, in.Dx(), in.Dy()); small != nil {
		draw.Draw(out, in, small, image.Point{}, draw.Over)
		return out
	}
	draw.CatmullRom.Scale(out, in, from, b, draw.Over, nil)
	return out
}
