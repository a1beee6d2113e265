package picture

import (
	"image"
	"image/color"
)

// shrink brings the part r of a picture to w x h pixels, each the mean of the area that it stands for. It is for
// pictures that get smaller, and does there what slower filters do; nil where the picture would get larger.
func shrink(from image.Image, r image.Rectangle, w, h int) *image.RGBA {
	if w > r.Dx() || h > r.Dy() {
		return nil
	}
	b := from.Bounds()
	out := image.NewRGBA(image.Rect(0, 0, w, h))
	m, ok := from.(*image.YCbCr)
	if !ok {
		across, down := spans(r.Min.X-b.Min.X, r.Dx(), 1, w, b.Dx()), spans(r.Min.Y-b.Min.Y, r.Dy(), 1, h, b.Dy())
		area(rows(from), 4, across, down, func(x, y int, c []uint8) { copy(out.Pix[y*out.Stride+4*x:], c) })
		return out
	}
	// The three planes of a JPEG are shrunk by themselves, as most have few samples of colour.
	sx, sy := 1, 1
	switch m.SubsampleRatio {
	case image.YCbCrSubsampleRatio422:
		sx = 2
	case image.YCbCrSubsampleRatio420:
		sx, sy = 2, 2
	case image.YCbCrSubsampleRatio440:
		sy = 2
	case image.YCbCrSubsampleRatio411:
		sx = 4
	case image.YCbCrSubsampleRatio410:
		sx, sy = 4, 2
	}
	x0, y0 := b.Min.X/sx*sx, b.Min.Y/sy*sy // where the first sample of colour stands
	plane := func(pix []uint8, stride, sx, sy, x0, y0, channel int) {
		wide, high := (b.Max.X-x0+sx-1)/sx, (b.Max.Y-y0+sy-1)/sy
		across, down := spans(r.Min.X-x0, r.Dx(), sx, w, wide), spans(r.Min.Y-y0, r.Dy(), sy, h, high)
		area(func(y int) []uint8 { return pix[y*stride:][:wide] }, 1, across, down,
			func(x, y int, c []uint8) { out.Pix[y*out.Stride+4*x+channel] = c[0] })
	}
	plane(m.Y, m.YStride, 1, 1, b.Min.X, b.Min.Y, 0)
	plane(m.Cb, m.CStride, sx, sy, x0, y0, 1)
	plane(m.Cr, m.CStride, sx, sy, x0, y0, 2)
	for p := out.Pix; len(p) >= 4; p = p[4:] {
		p[0], p[1], p[2] = color.YCbCrToRGB(p[0], p[1], p[2])
		p[3] = 255
	}
	return out
}

// rows are the rows of a picture, with red, green, blue and alpha of each pixel, the colours multiplied by it. A row is
// good until the next is asked for.
func rows(from image.Image) func(y int) []uint8 {
	b := from.Bounds()
	row := make([]uint8, 4*b.Dx())
	switch m := from.(type) {
	case *image.RGBA:
		return func(y int) []uint8 { return m.Pix[y*m.Stride:][:4*b.Dx()] }
	case *image.NRGBA:
		return func(y int) []uint8 {
			pix := m.Pix[y*m.Stride:][:4*b.Dx()]
			if m.Opaque() {
				return pix
			}
			for i := 0; i+4 <= len(pix); i += 4 {
				a := uint32(pix[i+3])
				row[i], row[i+1], row[i+2], row[i+3] = uint8(uint32(pix[i])*a/255), uint8(uint32(pix[i+1])*a/255),
					uint8(uint32(pix[i+2])*a/255), pix[i+3]
			}
			return row
		}
	case *image.Paletted:
		var colours [256][4]uint8
		for i, c := range m.Palette[:min(256, len(m.Palette))] {
			colours[i] = eight(c)
		}
		return func(y int) []uint8 {
			for i, k := range m.Pix[y*m.Stride:][:b.Dx()] {
				copy(row[4*i:], colours[k][:])
			}
			return row
		}
	}
	return func(y int) []uint8 {
		for i := range b.Dx() {
			c := eight(from.At(b.Min.X+i, b.Min.Y+y))
			copy(row[4*i:], c[:])
		}
		return row
	}
}

// eight is a colour with eight bits a channel.
func eight(c color.Color) [4]uint8 {
	r, g, b, a := c.RGBA()
	return [4]uint8{uint8(r >> 8), uint8(g >> 8), uint8(b >> 8), uint8(a >> 8)}
}

// A span is the samples that one sample of the result is the mean of.
type span struct {
	first, last int // indexes
	// how much of the first and of the last one belongs to it, in 256ths; those between belong to it wholly
	begin, end uint32
	whole      uint32 // the sum
}

// spans divides size pixels from one on into n, on a plane with a sample for every so many pixels, and so many samples.
func spans(from, size, every, n, samples int) []span {
	out := make([]span, n)
	for k := range out {
		a, b := (from*n+size*k)*256/(n*every), (from*n+size*(k+1))*256/(n*every)
		b = max(b, a+1)
		s := span{first: min(a>>8, samples-1), last: min((b-1)>>8, samples-1)}
		if s.first == s.last {
			s.begin = 256
			s.whole = 256
		} else {
			s.begin, s.end = uint32(256-a&255), uint32(min(b-s.last<<8, 256))
			s.whole = s.begin + s.end + uint32(s.last-s.first-1)*256
		}
		out[k] = s
	}
	return out
}

// area shrinks rows of samples with so many channels.
func area(row func(y int) []uint8, channels int, across, down []span, put func(x, y int, c []uint8)) {
	n := channels * len(across)
	line, sums, c := make([]uint32, n), make([]uint64, n), make([]uint8, channels)
	at := -1 // the row that line is of
	for y, d := range down {
		clear(sums)
		for k := d.first; k <= d.last; k++ {
			if k != at {
				narrow(row(k), channels, across, line)
				at = k
			}
			weight := uint64(256)
			switch k {
			case d.first:
				weight = uint64(d.begin)
			case d.last:
				weight = uint64(d.end)
			}
			for i, v := range line {
				sums[i] += uint64(v) * weight
			}
		}
		for x := range across {
			whole := uint64(across[x].whole) * uint64(d.whole)
			for i := range c {
				c[i] = uint8((sums[channels*x+i] + whole/2) / whole)
			}
			put(x, y, c)
		}
	}
}

// narrow shrinks one row; the sums are weighted.
func narrow(row []uint8, channels int, across []span, line []uint32) {
	if channels == 1 {
		for x := range across {
			s := &across[x]
			sum := uint32(row[s.first]) * s.begin
			if s.last > s.first {
				inner := uint32(0)
				for _, v := range row[s.first+1 : s.last] {
					inner += uint32(v)
				}
				sum += inner<<8 + uint32(row[s.last])*s.end
			}
			line[x] = sum
		}
		return
	}
	for x := range across {
		s := &across[x]
		to := line[4*x:][:4]
		p := row[4*s.first:][:4]
		var inner [4]uint32
		for in := row[4*s.first+4 : max(4*s.first+4, 4*s.last)]; len(in) >= 4; in = in[4:] {
			inner[0], inner[1], inner[2], inner[3] = inner[0]+uint32(in[0]), inner[1]+uint32(in[1]),
				inner[2]+uint32(in[2]), inner[3]+uint32(in[3])
		}
		for i := range to {
			to[i] = uint32(p[i])*s.begin + inner[i]<<8
		}
		if s.last > s.first {
			p = row[4*s.last:][:4]
			for i := range to {
				to[i] += uint32(p[i]) * s.end
			}
		}
	}
}
