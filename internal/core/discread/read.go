package discread

import (
	"context"
	"errors"
	"fmt"
	"io"

	"polytome/internal/optical"
)

// Drive is what a reading needs of a drive; [optical.Drive] is one.
type Drive interface {
	Read(ctx context.Context, block int64, b []byte, size int64) error
	SetSpeed(ctx context.Context, rate int64) error
}

// Options are how hard it is tried.
type Options struct {
	Tries int // how often a bad block is tried in all; 0 for the usual number
	// Offset is by how many samples the drive gives sound too late.
	Offset int64
	// Twice reads everything a second time, and compares.
	Twice bool
	Rates []int64 // bytes a second at which bad blocks are tried, one after the other; none for the usual ones
	// Progress runs when blocks were read or tried.
	Progress func(b *Blocks, at int64)
	// Again runs while everything is read a second time.
	Again func(at, of int64)
	// Keep writes down, from time to time, how far the reading is.
	Keep func(b *Blocks) error
}

const (
	usualTries = 8
	// atOnce is how many blocks are read in one go where nothing is wrong.
	atOnce = 32
	// keepEvery is after how many reads it is written down how far the reading is.
	keepEvery = 2048
)

// usualRates are those of a DVD at 4, 2 and 1 times its speed.
var usualRates = []int64{5_540_000, 2_770_000, 1_385_000}

// A reading is one that goes on.
type reading struct {
	ctx   context.Context
	d     Drive
	to    io.WriterAt
	b     *Blocks
	o     Options
	buf   []byte
	reads int
}

// Read reads all blocks that are not good yet, and writes them to where they belong in an image. First everything is
// read from front to back, and past what cannot be read; then what is missing is tried in single blocks, from the front
// and from the back, slower each time. Blocks that stay bad are no error: the map says which. An error is that the
// reading could not go on: the context ended, the disc was taken out, the image cannot be written.
func Read(ctx context.Context, d Drive, to io.WriterAt, b *Blocks, o Options) error {
	if o.Tries == 0 {
		o.Tries = usualTries
	}
	if o.Rates == nil {
		o.Rates = usualRates
	}
	r := &reading{ctx: ctx, d: d, to: to, b: b, o: o, buf: make([]byte, atOnce*b.Size)}
	err := r.all()
	if o.Keep != nil {
		err = errors.Join(err, o.Keep(b))
	}
	return err
}

func (r *reading) all() error {
	if err := r.speed(0); err != nil {
		return err
	}
	for _, s := range r.b.Of(Unread) {
		if err := r.forwards(s); err != nil {
			return err
		}
	}
	for try := 0; try < r.o.Tries && !r.b.Whole(); try++ {
		if len(r.o.Rates) > 0 {
			if err := r.speed(r.o.Rates[min(try, len(r.o.Rates)-1)]); err != nil {
				return err
			}
		}
		for _, s := range r.b.Of(Bad) {
			if err := r.again(s, try%2 == 1); err != nil {
				return err
			}
		}
	}
	return r.speed(0)
}

// speed sets how fast the drive reads. A drive that does not know the command reads as fast as it likes.
func (r *reading) speed(rate int64) error {
	err := r.d.SetSpeed(r.ctx, rate)
	var s *optical.Sense
	if errors.As(err, &s) && s.Unknown() {
		return nil
	}
	return err
}

// forwards reads a span in large pieces. A piece in which something cannot be read is left for later as a whole, and
// behind it the next ones that fail are skipped in larger and larger steps: heads wear on scratches.
func (r *reading) forwards(s Span) error {
	skip := int64(atOnce)
	for at := s.First; at < s.End(); {
		n := min(atOnce, s.End()-at)
		good, err := r.read(at, n)
		switch {
		case err != nil:
			return err
		case good:
			at, skip = at+n, atOnce
		default:
			n = min(skip, s.End()-at)
			r.b.Set(at, n, Bad, 0)
			at, skip = at+n, min(skip*2, 64*atOnce)
		}
		r.progress(at)
	}
	return nil
}

// again tries a span that was bad in single blocks, from the front or from the back.
func (r *reading) again(s Span, back bool) error {
	for i := range s.Count {
		at := s.First + i
		if back {
			at = s.End() - 1 - i
		}
		good, err := r.read(at, 1)
		if err != nil {
			return err
		}
		if !good {
			r.b.Set(at, 1, Bad, s.Tries+1)
		}
		r.progress(at)
	}
	return nil
}

// read reads blocks and puts them where they belong. good is false where the disc does not give them.
func (r *reading) read(at, n int64) (good bool, err error) {
	if err := r.ctx.Err(); err != nil {
		return false, err
	}
	if r.reads++; r.reads%keepEvery == 0 && r.o.Keep != nil {
		if err := r.o.Keep(r.b); err != nil {
			return false, err
		}
	}
	buf := r.buf[:n*r.b.Size]
	err = r.d.Read(r.ctx, at, buf, r.b.Size)
	if unread(err) {
		return false, nil
	}
	if err != nil {
		return false, fmt.Errorf("reading block %d: %w", at, err)
	}
	if _, err := r.to.WriteAt(buf, at*r.b.Size); err != nil {
		return false, fmt.Errorf("writing the image: %w", err)
	}
	r.b.Set(at, n, Good, 0)
	return true, nil
}

func (r *reading) progress(at int64) {
	if r.o.Progress != nil {
		r.o.Progress(r.b, at)
	}
}
