package demo

import (
	"bytes"
	"fmt"
	"hash/fnv"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"sync"
)

// Artwork draws a picture of a title: of its front, its disc, a screen of it, or its logo. One name always gives the
// same picture, in colours, a landscape and a light of its own, so that a shelf of them looks like one.
func Artwork(of, name string) image.Image {
	h := fnv.New64a()
	h.Write([]byte(name))
	p := painter{seed: mix(h.Sum64())}
	hue := p.part(0)
	p.sky, p.glow = hsv(hue, 0.55, 0.45+0.3*p.part(1)), hsv(hue+0.08+0.1*p.part(2), 0.35, 0.95)
	p.land, p.light = hsv(hue+0.45+0.2*p.part(3), 0.6, 0.35), hsv(hue+0.55, 0.25, 1)
	switch of {
	case "disc":
		return p.disc(300)
	case "screen":
		return p.draw(320, 240)
	case "logo":
		return p.logo(300, 100)
	}
	return p.draw(500, 700)
}

// painter paints from a seed.
type painter struct {
	seed                   uint64
	sky, glow, land, light color.RGBA
}

// part is the n-th number of the seed, from 0 to 1.
func (p *painter) part(n uint64) float64 { return float64(mix(p.seed+n)%1000) / 1000 }

// draw is a landscape: a sky, a light in it, hills behind one another, and something that stands there.
func (p *painter) draw(w, h int) image.Image {
	m := image.NewRGBA(image.Rect(0, 0, w, h))
	sunX, sunY, sunR := (0.2+0.6*p.part(4))*float64(w), (0.15+0.25*p.part(5))*float64(h),
		(0.08+0.1*p.part(6))*float64(w)
	mast, wide := (0.15+0.7*p.part(7))*float64(w), (0.03+0.07*p.part(8))*float64(w)
	top := (0.3 + 0.25*p.part(9)) * float64(h)
	kind := mix(p.seed+10) % 3
	var hills [3][]float64 // how high each is in every column
	for k := range hills {
		hills[k] = make([]float64, w)
		for x := range hills[k] {
			bend := math.Sin(float64(x)/float64(w)*(4+5*p.part(uint64(11+k))) + 7*p.part(uint64(14+k)))
			hills[k][x] = (0.62+0.12*float64(k))*float64(h) + bend*float64(h)*0.05
		}
	}
	for y := range h {
		fy := float64(y) / float64(h)
		air := blend(p.sky, p.glow, fy*fy)
		for x := range w {
			fx := float64(x)
			c := air
			if dx, dy := fx-sunX, float64(y)-sunY; dx*dx+dy*dy < sunR*sunR*3.24 {
				c = blend(p.light, c, (math.Hypot(dx, dy)/sunR-1)/0.8)
			}
			if dx := math.Abs(fx - mast); float64(y) > top {
				switch {
				case kind == 0 && dx < wide*(0.6+0.4*fy), kind == 1 && dx < wide*0.2, kind == 1 && fx > mast &&
					fx < mast+wide*4*(float64(y)-top)/float64(h)*2, kind == 2 &&
					dx < wide*1.6*(float64(y)-top)/(float64(h)-top)*2:
					c = blend(p.land, color.RGBA{0, 0, 0, 255}, 0.45)
				}
			}
			for hill := range hills {
				if float64(y) > hills[hill][x] {
					c = blend(p.land, p.glow, 0.35-0.16*float64(hill))
				}
			}
			m.SetRGBA(x, y, c)
		}
	}
	return m
}

// disc is a round picture with a hole.
func (p *painter) disc(n int) image.Image {
	from := p.draw(n, n).(*image.RGBA)
	m := image.NewRGBA(from.Rect)
	for y := range n {
		for x := range n {
			if d := math.Hypot(float64(x-n/2), float64(y-n/2)) / float64(n); d < 0.49 && d > 0.08 {
				m.SetRGBA(x, y, from.RGBAAt(x, y))
			}
		}
	}
	return m
}

// logo is a row of bars.
func (p *painter) logo(w, h int) image.Image {
	m := image.NewRGBA(image.Rect(0, 0, w, h))
	for x := range w {
		bar := uint64(x * 12 / w)
		tall := int((0.3 + 0.7*p.part(20+bar)) * float64(h))
		for y := h - tall; y < h && x*12%w > w/5; y++ {
			m.SetRGBA(x, y, blend(p.glow, p.sky, p.part(40+bar)))
		}
	}
	return m
}

func blend(a, b color.RGBA, t float64) color.RGBA {
	t = min(max(t, 0), 1)
	mix := func(x, y uint8) uint8 { return uint8(float64(x)*(1-t) + float64(y)*t) }
	return color.RGBA{mix(a.R, b.R), mix(a.G, b.G), mix(a.B, b.B), 255}
}

// hsv is a colour by its hue, saturation and value, each from 0 to 1.
func hsv(h, s, v float64) color.RGBA {
	h = (h - math.Floor(h)) * 6
	part := func(n float64) uint8 {
		k := math.Mod(n+h, 6)
		return uint8(255 * v * (1 - s*max(0, min(k, 4-k, 1))))
	}
	return color.RGBA{part(5), part(3), part(1), 255}
}

// drawn are pictures that were drawn as files: drawing takes long where many demos are made, as in tests.
var drawn sync.Map

// asPNG and asJPEG are the artwork of a title as a file.
func asPNG(of, name string) []byte {
	return once(of+"\x00png\x00"+name, func(b *bytes.Buffer) error {
		return (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(b, Artwork(of, name))
	})
}

func asJPEG(of, name string) []byte {
	return once(of+"\x00jpg\x00"+name,
		func(b *bytes.Buffer) error { return jpeg.Encode(b, Artwork(of, name), &jpeg.Options{Quality: 88}) })
}

func once(key string, draw func(*bytes.Buffer) error) []byte {
	if data, ok := drawn.Load(key); ok {
		return data.([]byte)
	}
	var b bytes.Buffer
	if err := draw(&b); err != nil {
		panic(fmt.Sprint("encoding a drawn picture: ", err)) // it is written to memory
	}
	drawn.Store(key, b.Bytes())
	return b.Bytes()
}
