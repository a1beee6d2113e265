package cover

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"io"
	"runtime"
	"sync"

	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/core/title"
	"polytome/internal/format/picture"
	"polytome/internal/parallel"
	"polytome/internal/size"
)

// smallWidth and smallHeight are the box of a small picture, in pixels: more than a contact sheet has half cells for.
const smallWidth, smallHeight = 160, 200

// lookAt reads a picture to its end, and makes a small one of it.
func lookAt(r io.ReadSeeker) (Look, error) {
	im, done, err := picture.Decode(r)
	if err != nil {
		return Look{}, err
	}
	defer done()
	l := Look{Width: im.Bounds().Dx(), Height: im.Bounds().Dy()}
	small := picture.Resize(im, picture.Rule{Width: smallWidth, Height: smallHeight, Fit: "inside"})
	var b bytes.Buffer
	if err := jpeg.Encode(&b, small, &jpeg.Options{Quality: 85}); err != nil {
		return l, err
	}
	l.Small = b.Bytes()
	return l, nil
}

// Looker looks at pictures, and remembers how they look. It may be used by several goroutines.
type Looker struct {
	Store     *Store
	Passwords []string
	Allowed   []string
}

// Look looks at a picture of a title, unless that was done before. What cannot be used says why.
func (k *Looker) Look(ctx context.Context, f *title.File) (Look, error) {
	if l, ok := k.Store.Looked(f); ok && (l.Say != "" || len(l.Small) > 0) {
		return l, nil
	}
	var l Look
	err := k.read(f, func(r io.ReadSeeker) (err error) {
		l, err = lookAt(r)
		return err
	})
	if ctx.Err() != nil {
		return l, ctx.Err()
	}
	var gone *shape.SourceError
	if errors.As(err, &gone) { // it may come back: nothing is remembered
		return l, err
	}
	if err != nil {
		l = Look{Say: err.Error()}
	}
	k.Store.putLook(f, l)
	return l, nil
}

// Read reads a picture as a rule wants it, at most so large.
func (k *Looker) Read(f *title.File, rule picture.Rule) (im image.Image, err error) {
	err = k.read(f, func(r io.ReadSeeker) error {
		whole, done, err := picture.Decode(r)
		if err != nil {
			return err
		}
		defer done()
		im = picture.Resize(whole, rule)
		return nil
	})
	return im, err
}

// read opens a picture.
func (k *Looker) read(f *title.File, use func(io.ReadSeeker) error) error {
	o := source.Opener{Passwords: k.Passwords, Allowed: k.Allowed}
	defer o.Close()
	c, err := o.Open(f)
	if err != nil {
		return err
	}
	defer c.Close()
	if c.Size() > largestPicture {
		return fmt.Errorf("it has %s; a picture may have at most %s", size.Format(c.Size()),
			size.Format(largestPicture))
	}
	return parallel.Safely(func() error { return use(io.NewSectionReader(c, 0, c.Size())) })
}

// LookAll looks at the pictures that are found for needs, so that what cannot be used gives way to the next one. The
// error is only that of a cancelled context.
func (f *Finder) LookAll(ctx context.Context, titles []title.Title, needs []Need, k *Looker) error {
	next := make(chan Need)
	var all sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		all.Go(func() {
			for n := range next {
				f.look(ctx, titles, n, k)
			}
		})
	}
	for _, n := range needs {
		if ctx.Err() != nil {
			break
		}
		next <- n
	}
	close(next)
	all.Wait()
	return ctx.Err()
}

// look looks at the pictures for a need until one can be used.
func (f *Finder) look(ctx context.Context, titles []title.Title, n Need, k *Looker) {
	for n.Of != aboutKind && ctx.Err() == nil {
		p := f.Picture(&titles[n.Title], n.Disc, n.Of)
		if p == nil {
			return
		}
		if l, err := k.Look(ctx, &p.File); err != nil || l.Say == "" || f.store == nil {
			return
		}
	}
}
