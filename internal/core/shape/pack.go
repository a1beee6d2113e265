package shape

import (
	"context"
	"errors"
	"fmt"
	"io"

	"polytome/internal/core/title"
	"polytome/internal/format/packed"
	"polytome/internal/target"
)

// pack is a packed image, or a part of one that is too large for one file. How large it gets is known
// when the image has been read: until then the size is the most that it can be.
var pack = Kind{
	Name: Pack, Word: "pack", From: title.Image,
	Rule:     "images are packed: what the disc does not use is left out",
	Reported: "packed while copying from %s",
	Says: func(l, form string) string {
		return l + " starts packed images: what the " + form + " does not use is left out"
	},
	Rate: func(s *Spec) int64 {
		if s.With != nil && s.With.Compress {
			return 45 << 20
		}
		return 0
	},
	Open: func(ctx context.Context, w SourceOpener, s *Spec) (target.Content, error) {
		begin := func() (interface{ Close() error }, error) { return beginPack(ctx, w, s) }
		of := "pack " + s.Source.Called()
		v, err := w.Ongoing().Take(of, begin)
		if err != nil {
			return nil, err
		}
		p := v.(*packing)
		if p.at != s.Offset && (s.Offset == 0 || p.at > s.Offset || p.err != nil) { // from the beginning again
			w.Ongoing().Drop()
			if v, err = w.Ongoing().Take(of, begin); err != nil {
				return nil, err
			}
			p = v.(*packing)
		}
		if err := p.skipTo(s.Offset); err != nil {
			return nil, err
		}
		return &packedPart{p: p, from: p.at, size: s.Size}, nil
	},
}

// ErrNotNeeded reports a part that a packed image turned out not to need.
var ErrNotNeeded = errors.New("it is not needed: the packed image ends before it")

// packing is the stream of one packed image, over all its parts.
type packing struct {
	src    target.Content
	stream *packed.Stream
	at     int64 // read so far
	err    error // that ended it
}

func beginPack(ctx context.Context, w SourceOpener, s *Spec) (*packing, error) {
	c, err := w.Open(&s.Source)
	if err != nil {
		return nil, err
	}
	used, err := UsedBlocks(c, s.With.Used)
	if err != nil {
		_ = c.Close()
		return nil, &SourceError{s.Source.Called(), err}
	}
	// The stream goes on over several parts: it is ended by closing it, not by the context of one.
	stream, err := packed.NewStream(context.WithoutCancel(ctx), c, packed.Options{Compress: s.With.Compress,
		Used: used})
	if err != nil {
		_ = c.Close()
		return nil, err
	}
	return &packing{src: c, stream: stream}, nil
}

func (p *packing) Close() error { return errors.Join(p.stream.Close(), p.src.Close()) }

func (p *packing) Read(b []byte) (int, error) {
	if p.err != nil {
		return 0, p.err
	}
	n, err := p.stream.Read(b)
	p.at += int64(n)
	p.err = err
	return n, err
}

// skipTo reads on to where a part begins.
func (p *packing) skipTo(off int64) error {
	if p.at < off {
		if _, err := io.CopyN(io.Discard, p, off-p.at); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
	}
	if p.at < off || off > 0 && errors.Is(p.err, io.EOF) {
		return ErrNotNeeded
	}
	if off == 0 {
		return nil
	}
	return p.peek()
}

// peek finds out whether there is anything left to read.
func (p *packing) peek() error {
	if p.stream.Done() {
		p.err = io.EOF
		return ErrNotNeeded
	}
	return nil
}

// packedPart is a part of the stream as content that is read once, in order.
type packedPart struct {
	p          *packing
	from, size int64
	done       int64
	ended      bool
}

// Size is the most that the part can have, until it has been read to its end.
func (c *packedPart) Size() int64 {
	if c.ended {
		return c.done
	}
	return c.size
}

// AtMost reports that the size is not known yet.
func (c *packedPart) AtMost() bool { return !c.ended }

// Close leaves the stream to the next part.
func (c *packedPart) Close() error { return nil }

// Data is all of it.
func (c *packedPart) Data(off int64) (start, end int64) { return min(off, c.Size()), c.Size() }

func (c *packedPart) ReadAt(b []byte, off int64) (int, error) {
	if off != c.done || c.p.at != c.from+c.done {
		return 0, fmt.Errorf("a packed image is made in order: byte %d was asked for, and %d is next", off, c.done)
	}
	short := int64(len(b)) > c.size-off
	if short {
		b = b[:c.size-off]
	}
	n, err := io.ReadFull(c.p, b)
	c.done += int64(n)
	if errors.Is(err, io.ErrUnexpectedEOF) && errors.Is(c.p.err, io.EOF) {
		err = io.EOF // the image ends here
	}
	if err == nil && (short || c.done == c.size) {
		err = io.EOF
	}
	if errors.Is(err, io.EOF) {
		c.ended = true
		return n, io.EOF
	}
	return n, err
}

// UsedBlocks reads the bitmap in which a disc says which of its sectors it uses; nil where it says
// nothing.
func UsedBlocks(c io.ReaderAt, u title.Used) (func(off, length int64) bool, error) {
	if u.Unit == 0 {
		return nil, nil
	}
	bits := make([]byte, (u.Sectors+7)/8)
	if n, err := c.ReadAt(bits, u.Bitmap); n < len(bits) {
		return nil, fmt.Errorf("its bitmap of used sectors cannot be read: %w", errors.Join(err, io.ErrUnexpectedEOF))
	}
	ends := u.Bitmap + int64(len(bits))
	return func(off, length int64) bool {
		if off < ends {
			return true
		}
		for n := off / u.Unit; n < (off+length+u.Unit-1)/u.Unit; n++ {
			if n >= u.Sectors || bits[n/8]&(1<<(n%8)) != 0 {
				return true
			}
		}
		return false
	}, nil
}

// UsedOf reads how much of a disc is used, where its bitmap begins at a byte and its sectors have so many.
func UsedOf(c io.ReaderAt, size, bitmap, sector int64) (title.Used, error) {
	u := title.Used{Bitmap: bitmap, Unit: sector, Sectors: (size + sector - 1) / sector}
	if most := size - bitmap; (u.Sectors+7)/8 > most {
		return title.Used{}, errors.New("the image ends in its bitmap of used sectors")
	}
	used, err := UsedBlocks(c, u)
	if err != nil {
		return title.Used{}, err
	}
	u.Blocks = CountUsed(used, size, packed.DefaultBlock)
	return u, nil
}

// CountUsed is how many blocks, of so many bytes each, have a used byte in them.
func CountUsed(used func(off, length int64) bool, size, block int64) (n int64) {
	for off := int64(0); off < size; off += block {
		if used(off, min(block, size-off)) {
			n++
		}
	}
	return n
}

// PackOf is the packed image of a disc. Its size is the most that it can have, as far as the disc reports what it uses.
func PackOf(d *title.Disc, compress bool) Spec {
	kept := d.File.Size
	if d.Used.Unit > 0 {
		kept = min(kept, d.Used.Blocks*packed.DefaultBlock)
	}
	return Spec{Shape: Pack, Source: d.File, Size: packed.AtMost(d.File.Size, kept, 0), AtMost: true,
		With: &With{Compress: compress, Used: d.Used}}
}
