package picture

import (
	"image"
	"image/color"
)

// reduce averages blocks of n x n pixels of the part r of a picture into one each: a filter that is much quicker than one that takes
// its samples from anywhere, and loses nothing where the result is still at least as large as wanted. What is left over at the right and at
// the bottom of r is left out: less than a pixel of the result. It is nil where there is nothing to reduce.
func reduce(from image.Image, r image.Rectangle, n int) *image.RGBA {
	if n < 2 || r.Dx() < n || r.Dy() < n {
		return nil
	}
	w, h := r.Dx()/n, r.Dy()/n
	r.Max.X = r.Min.X + w*n
	add := adder(from, r)
	_, differences := from.(*image.YCbCr)
	out := image.NewRGBA(image.Rect(0, 0, w, h))
	sums := make([]uint32, 4*r.Dx()) // of a column of a block, in each of four channels
	count := uint32(n * n)
	for y := range h {
		clear(sums)
		for k := range n {
			add(r.Min.Y+y*n+k, sums)
		}
		for x := range w {
			var c [4]uint32
			for block := sums[4*x*n : 4*(x+1)*n]; len(block) >= 4; block = block[4:] {
				c[0], c[1], c[2], c[3] = c[0]+block[0], c[1]+block[1], c[2]+block[2], c[3]+block[3]
			}
			p := out.Pix[y*out.Stride+4*x:][:4]
			p[0], p[1], p[2], p[3] = uint8(c[0]/count), uint8(c[1]/count), uint8(c[2]/count), uint8(c[3]/count)
			if differences { // ITU-T T.871, 7, is linear but for what lies outside, so that it is enough to do it here
				p[0], p[1], p[2] = color.YCbCrToRGB(p[0], p[1], p[2])
				p[3] = 255
			}
		}
	}
	return out
}

// adder adds a row of the part r of a picture to sums, four channels for each pixel: red, green, blue and alpha, with the colours
// multiplied by it; or brightness and the two differences of colour.
func adder(from image.Image, r image.Rectangle) func(y int, sums []uint32) {
	x, w := r.Min.X, r.Dx()
	switch m := from.(type) {
	case *image.YCbCr:
		shift := 0
		switch m.SubsampleRatio {
		case image.YCbCrSubsampleRatio422, image.YCbCrSubsampleRatio420:
			shift = 1
		case image.YCbCrSubsampleRatio411, image.YCbCrSubsampleRatio410:
			shift = 2
		}
		return func(y int, sums []uint32) {
			light := m.Y[m.YOffset(x, y):][:w]
			at := m.COffset(x, y)
			first := x >> shift
			cb, cr := m.Cb[at:], m.Cr[at:]
			for i, l := range light {
				s, k := sums[4*i:][:3], (x+i)>>shift-first
				s[0], s[1], s[2] = s[0]+uint32(l), s[1]+uint32(cb[k]), s[2]+uint32(cr[k])
			}
		}
	case *image.RGBA:
		return func(y int, sums []uint32) {
			for i, v := range m.Pix[m.PixOffset(x, y):][:4*w] {
				sums[i] += uint32(v)
			}
		}
	case *image.NRGBA:
		return func(y int, sums []uint32) {
			for row := m.Pix[m.PixOffset(x, y):][:4*w]; len(row) >= 4; row, sums = row[4:], sums[4:] {
				a := uint32(row[3])
				sums[0], sums[1], sums[2], sums[3] = sums[0]+uint32(row[0])*a/255, sums[1]+uint32(row[1])*a/255, sums[2]+uint32(row[2])*a/255, sums[3]+a
			}
		}
	case *image.Paletted:
		var colours [256][4]uint32
		for i, c := range m.Palette[:min(256, len(m.Palette))] {
			colours[i] = eight(c)
		}
		return func(y int, sums []uint32) {
			for i, k := range m.Pix[m.PixOffset(x, y):][:w] {
				c, s := &colours[k], sums[4*i:][:4]
				s[0], s[1], s[2], s[3] = s[0]+c[0], s[1]+c[1], s[2]+c[2], s[3]+c[3]
			}
		}
	}
	return func(y int, sums []uint32) {
		for i := range w {
			c, s := eight(from.At(x+i, y)), sums[4*i:][:4]
			s[0], s[1], s[2], s[3] = s[0]+c[0], s[1]+c[1], s[2]+c[2], s[3]+c[3]
		}
	}
}

// eight is a colour with eight bits a channel.
func eight(c color.Color) [4]uint32 {
	r, g, b, a := c.RGBA()
	return [4]uint32{r >> 8, g >> 8, b >> 8, a >> 8}
}
