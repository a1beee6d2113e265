package convert

import (
	"cmp"
	"context"
	"errors"
	"os"

	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/filecopy"
	"polytome/internal/format/packed"
	"polytome/internal/target"
)

// A Prospect is what is known of packing an image before it begins.
type Prospect struct {
	Image    int64      `json:"image"`              // bytes
	Platform string     `json:"platform,omitempty"` // "" when that is not known
	Used     title.Used `json:"used,omitzero"`
	Unused   int64      `json:"unused"`  // bytes that the disc says it does not use; what they hold is lost
	AtMost   int64      `json:"at-most"` // bytes of the packed image
}

// PackOptions are how an image is packed.
type PackOptions struct {
	Compress bool
	Block    int64 // bytes in a block; 0 for the usual
	// KeepUnused keeps also what the disc does not use, unless it is zeros.
	KeepUnused bool
}

// ProspectOf reports what packing an image would do.
func ProspectOf(file string, set *loader.Set, o PackOptions) (p Prospect, err error) {
	c, err := open(file)
	if err != nil {
		return p, err
	}
	defer c.Close()
	t, err := scan.Identify(c, c.Size(), file, set)
	if err != nil {
		return p, &shape.SourceError{Path: file, Err: err}
	}
	p.Image = c.Size()
	kept := p.Image
	if t != nil {
		p.Platform = t.Platform
		if !o.KeepUnused {
			if p.Used = t.Discs[0].Used; p.Used.Unit > 0 {
				used, err := shape.UsedBlocks(c, p.Used)
				if err != nil {
					return p, &shape.SourceError{Path: file, Err: err}
				}
				block := cmp.Or(o.Block, packed.DefaultBlock)
				kept = min(kept, shape.CountUsed(used, p.Image, block)*block)
				p.Unused = p.Image - kept
			}
		}
	}
	p.AtMost = packed.AtMost(p.Image, kept, o.Block)
	return p, nil
}

// Pack packs an image.
func Pack(ctx context.Context, file string, p Prospect, to Sink, o PackOptions, emit Emit) (packed.Report, error) {
	c, err := open(file)
	if err != nil {
		return packed.Report{}, err
	}
	defer c.Close()
	used, err := shape.UsedBlocks(c, p.Used)
	if err != nil {
		return packed.Report{}, &shape.SourceError{Path: file, Err: err}
	}
	s, err := packed.NewStream(ctx, c, packed.Options{Block: o.Block, Compress: o.Compress, Used: used})
	if err != nil {
		return packed.Report{}, err
	}
	defer s.Close()
	w, into := mind(to, func() {
		if emit != nil {
			emit(s.Report().Read, c.Size())
		}
	})
	if _, err = s.WriteTo(into); err != nil && ctx.Err() == nil && w.err == nil {
		err = &shape.SourceError{Path: file, Err: err}
	}
	return s.Report(), err
}

// A Cutter is a sink that goes on in another file when one is full.
type Cutter struct {
	ctx   context.Context
	to    target.Target
	most  int64
	name  func(n int) string
	w     target.Writer
	at    int64
	done  []target.Writer
	Names []string
}

// NewCutter writes to files of at most so many bytes; 0 is any number. Name gives them theirs, from 1.
func NewCutter(ctx context.Context, to target.Target, most int64, name func(n int) string) *Cutter {
	return &Cutter{ctx: ctx, to: to, most: most, name: name}
}

func (c *Cutter) Write(b []byte) (done int, err error) {
	for done < len(b) || c.w == nil {
		if c.w == nil || c.most > 0 && c.at == c.most {
			if c.w != nil {
				c.done = append(c.done, c.w)
			}
			name := c.name(len(c.done) + 1)
			if c.w, err = c.to.Create(c.ctx, name, 0); err != nil {
				c.w = nil
				return done, err
			}
			c.Names = append(c.Names, name)
			c.at = 0
		}
		n := len(b) - done
		if c.most > 0 {
			n = int(min(int64(n), c.most-c.at))
		}
		k, err := c.w.Write(b[done : done+n])
		done += k
		c.at += int64(k)
		if err != nil {
			return done, err
		}
	}
	return done, nil
}

// CopyFrom takes bytes out of a file that do not go over the end of one of its files.
func (c *Cutter) CopyFrom(f *os.File, at, n int64) (int64, error) {
	t, ok := c.w.(filecopy.Taker)
	if !ok || c.most > 0 && c.at+n > c.most {
		return 0, errors.ErrUnsupported
	}
	k, err := t.CopyFrom(f, at, n)
	c.at += k
	return k, err
}

// Skip writes zeros.
func (c *Cutter) Skip(n int64) error { return Stream{c}.Skip(n) }

// End gives all files their names, or takes them away when something failed.
func (c *Cutter) End(failed error) error {
	all := c.done
	if c.w != nil {
		all = append(all, c.w)
	}
	for _, w := range all {
		if failed == nil {
			failed = w.Commit()
		} else {
			failed = errors.Join(failed, w.Abort())
		}
	}
	return failed
}

// Unpack gives the image back.
func Unpack(ctx context.Context, im *packed.File, to Sink, emit Emit) error {
	_, err := Copy(ctx, to, im, nil, emit)
	return err
}
