package discburn

import (
	"bytes"
	"context"
	"crypto/sha1"
	"encoding/hex"
	"errors"
	"fmt"
	"io"

	"polytome/internal/optical"
)

// Stage is what is being done.
type Stage string

const (
	Reading   Stage = "reading" // the image, whether all of it can be read
	Testing   Stage = "testing" // the writing, with the laser off
	Writing   Stage = "writing"
	Finishing Stage = "finishing"
	Verifying Stage = "verifying"
)

// Options are how a disc is written.
type Options struct {
	Test     bool // go through it with the laser off first
	Only     bool // and stop there
	NoVerify bool
	// Progress runs now and then, with blocks; of is 0 while nobody knows how long it takes.
	Progress func(s Stage, done, of int64)
}

// A Result is what has become of a disc.
type Result struct {
	Written  int64   `json:"blocks"`
	Speed    string  `json:"speed,omitempty"`
	SHA1     string  `json:"sha1"`               // of the image
	Verified bool    `json:"verified,omitempty"` // all of it was read back, and is the same
	Differ   []int64 `json:"differ,omitempty"`   // blocks that are not the same
	Unread   []int64 `json:"unread,omitempty"`   // blocks that cannot be read
	Slowly   int64   `json:"slowly,omitempty"`   // blocks that could only be read at low speed
	Spoilt   bool    `json:"spoilt,omitempty"`   // the disc cannot be used any more
}

const (
	atOnce  = 32      // blocks that are sent, or read, at once
	pieceOf = 1 << 20 // bytes that are read ahead at once
	ahead   = 64      // pieces of them
	atFirst = 16      // pieces that are there before the laser goes on
	mostBad = 1000    // blocks that are listed
	tries   = 4       // of a block that cannot be read back
	slowest = 2       // times the speed at which it plays, for such blocks
)

// Burn writes an image to the disc in the tray, as it was settled, and reads it back. First the whole image is read, so
// that no disc is spoilt by one that cannot be. An error says what went wrong; the result then says whether the disc is
// spoilt.
func (t *Tray) Burn(ctx context.Context, d *optical.Drive, image io.ReaderAt, bytes int64, s Settled,
	o Options) (*Result, error) {
	r := &Result{}
	if s.Speed > 0 {
		r.Speed = s.Speed.String()
	}
	if o.Progress == nil {
		o.Progress = func(Stage, int64, int64) {}
	}
	sum := sha1.New()
	err := feed(ctx, image, bytes, func(at int64, b []byte) error {
		sum.Write(b)
		o.Progress(Reading, at+int64(len(b))/block, s.Blocks)
		return nil
	})
	if err != nil {
		return r, fmt.Errorf("the image cannot be read, and nothing was written: %w", err)
	}
	r.SHA1 = hex.EncodeToString(sum.Sum(nil))
	_ = d.Lock(ctx, true) // where the drive can
	defer func() { _ = d.Lock(context.WithoutCancel(ctx), false) }()
	if o.Test {
		if err := t.pass(ctx, d, image, bytes, s, Testing, r, o.Progress); err != nil {
			return r, fmt.Errorf("the test failed, and nothing was written: %w", err)
		}
		if o.Only {
			return r, nil
		}
	}
	if err := t.pass(ctx, d, image, bytes, s, Writing, r, o.Progress); err != nil {
		r.Spoilt = r.Written > 0 && !t.Over
		return r, fmt.Errorf("writing: %w", err)
	}
	o.Progress(Finishing, 0, 0)
	if !s.Open {
		if err := d.Finish(ctx, t.Medium); err != nil {
			r.Spoilt = !t.Over
			return r, fmt.Errorf("finishing the disc: %w", err)
		}
	}
	if o.NoVerify {
		return r, nil
	}
	if err := verify(ctx, d, t.Medium, image, bytes, r, o.Progress); err != nil {
		return r, fmt.Errorf("reading it back: %w", err)
	}
	r.Verified = len(r.Differ)+len(r.Unread) == 0
	r.Spoilt = !r.Verified && !t.Over
	return r, nil
}

// pass writes the image, or tries to with the laser off.
func (t *Tray) pass(ctx context.Context, d *optical.Drive, image io.ReaderAt, bytes int64, s Settled, stage Stage,
	r *Result, progress func(Stage, int64, int64)) error {
	if s.Rate > 0 {
		if err := d.SetWriteSpeed(ctx, s.Rate, s.Blocks); err != nil {
			return err
		}
	}
	if !t.Over {
		if err := d.SetWriting(ctx, t.Medium, stage == Testing, t.Burner.Protected); err != nil {
			return err
		}
		if stage == Writing {
			if err := d.Adjust(ctx); err != nil {
				return err
			}
		}
		if !t.Medium.CD() {
			if err := d.Reserve(ctx, s.Blocks); err != nil {
				return err
			}
		}
	}
	err := feed(ctx, image, bytes, func(at int64, b []byte) error {
		for len(b) > 0 {
			n := min(len(b), atOnce*block)
			if err := ctx.Err(); err != nil {
				return err
			}
			if err := d.Write(ctx, at, b[:n]); err != nil {
				return err
			}
			at, b = at+int64(n/block), b[n:]
			if stage == Writing {
				r.Written = at
			}
			progress(stage, at, s.Blocks)
		}
		return nil
	})
	if err != nil {
		return err
	}
	progress(Finishing, 0, 0)
	return d.Flush(ctx)
}

// feed reads an image ahead, and hands it on in whole blocks, in order; what lacks of the last one is zeros.
func feed(ctx context.Context, image io.ReaderAt, bytes int64, take func(at int64, b []byte) error) error {
	type piece struct {
		b   []byte
		err error
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	pieces, free := make(chan piece, ahead), make(chan []byte, ahead+2)
	ready := make(chan struct{}) // closed when there is enough to begin with
	go func() {
		defer close(pieces)
		begun := false
		for at, k := int64(0), 0; at < bytes; at, k = at+pieceOf, k+1 {
			var b []byte
			select {
			case b = <-free:
			default:
				b = make([]byte, pieceOf)
			}
			n := min(pieceOf, bytes-at)
			got, err := image.ReadAt(b[:n], at)
			if int64(got) == n {
				err = nil
			} else if err == nil || errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			whole := (n + block - 1) / block * block
			clear(b[n:whole])
			select {
			case pieces <- piece{b[:whole], err}:
			case <-ctx.Done():
				return
			}
			if !begun && (k+1 == atFirst || err != nil) {
				begun = true
				close(ready)
			}
			if err != nil {
				return
			}
		}
		if !begun {
			close(ready)
		}
	}()
	select {
	case <-ready:
	case <-ctx.Done():
		return ctx.Err()
	}
	for at := int64(0); ; at += pieceOf / block {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case p, more := <-pieces:
			if !more {
				return ctx.Err()
			}
			if p.err != nil {
				return fmt.Errorf("byte %d of the image: %w", at*block, p.err)
			}
			if err := take(at, p.b); err != nil {
				return err
			}
			select {
			case free <- p.b[:pieceOf]:
			default:
			}
		}
	}
}

// verify reads a disc back, and compares. Blocks that cannot be read are tried again, slowly.
func verify(ctx context.Context, d *optical.Drive, m optical.Medium, image io.ReaderAt, size int64, r *Result,
	progress func(Stage, int64, int64)) error {
	if err := d.WaitReady(ctx); err != nil {
		return err
	}
	_ = d.SetSpeed(ctx, 0) // a drive that does not know it reads as fast as it likes
	of := (size + block - 1) / block
	is := make([]byte, atOnce*block)
	compare := func(at int64, want, got []byte) {
		for k := 0; k < len(want); k += block {
			if !bytes.Equal(want[k:k+block], got[k:k+block]) && len(r.Differ) < mostBad {
				r.Differ = append(r.Differ, at+int64(k/block))
			}
		}
	}
	return feed(ctx, image, size, func(at int64, want []byte) error {
		for len(want) > 0 {
			n := min(len(want), atOnce*block)
			err := d.Read(ctx, at, is[:n], block)
			var s *optical.Sense
			switch {
			case err == nil:
				compare(at, want[:n], is[:n])
			case errors.As(err, &s) && s.Unread():
				if err := slowly(ctx, d, m, at, want[:n], is, r, compare); err != nil {
					return err
				}
			default:
				return err
			}
			at, want = at+int64(n/block), want[n:]
			progress(Verifying, at, of)
		}
		return nil
	})
}

// slowly reads blocks one by one of which some cannot be read.
func slowly(ctx context.Context, d *optical.Drive, m optical.Medium, at int64, want, is []byte, r *Result,
	compare func(int64, []byte, []byte)) error {
	_ = d.SetSpeed(ctx, slowest*m.Once())
	defer func() { _ = d.SetSpeed(ctx, 0) }()
	for k := 0; k < len(want); k += block {
		var err error
		for range tries {
			var s *optical.Sense
			if err = d.Read(ctx, at+int64(k/block), is[:block], block); err == nil || !errors.As(err, &s) ||
				!s.Unread() {
				break
			}
		}
		var s *optical.Sense
		switch {
		case err == nil:
			r.Slowly++
			compare(at+int64(k/block), want[k:k+block], is[:block])
		case errors.As(err, &s) && s.Unread():
			if len(r.Unread) < mostBad {
				r.Unread = append(r.Unread, at+int64(k/block))
			}
		default:
			return err
		}
	}
	return nil
}

// Verify compares a disc with the image that it was burnt from.
func Verify(ctx context.Context, d *optical.Drive, image io.ReaderAt, bytes int64,
	progress func(s Stage, done, of int64)) (*Result, error) {
	if err := d.WaitReady(ctx); err != nil {
		return nil, err
	}
	m, _, err := d.Medium(ctx)
	if err != nil {
		return nil, err
	}
	c, err := d.Capacity(ctx)
	if err != nil {
		return nil, err
	}
	if need := (bytes + block - 1) / block; c.Blocks < need {
		return nil, fmt.Errorf("the disc has %d blocks, and the image %d: it is another one", c.Blocks, need)
	}
	r := &Result{}
	sum := sha1.New()
	if err := verify(ctx, d, m, summed{image, sum}, bytes, r, progress); err != nil {
		return r, err
	}
	r.SHA1 = hex.EncodeToString(sum.Sum(nil))
	r.Verified = len(r.Differ)+len(r.Unread) == 0
	return r, nil
}

// summed is an image that is read once, in order, and summed on the way.
type summed struct {
	io.ReaderAt
	sum io.Writer
}

func (s summed) ReadAt(b []byte, off int64) (int, error) {
	n, err := s.ReaderAt.ReadAt(b, off)
	_, _ = s.sum.Write(b[:n]) // a sum takes everything
	return n, err
}
