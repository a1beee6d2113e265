package discs

import (
	"context"
	"errors"
	"os"
	"strings"
	"time"

	"polytome/internal/core/discread"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/optical"
)

// ReadOptions are how discs are read into a folder.
type ReadOptions struct {
	discread.Options
	Set *loader.Set
	// Offsets are by how many samples drives give sound too late, by what they call themselves, where none is said.
	Offsets map[string]int64
	// File is the image to write; "" for one in the folder, by the name of what is on the disc.
	File, Dir string
	Eject     bool
	// Known runs when it is known what lies in the tray, and what will be written.
	Known func(disc *discread.Disc, t *title.Title, file string)
}

// A Read is what became of a disc.
type Read struct {
	Disc   *discread.Disc   `json:"-"`
	Title  *title.Title     `json:"title,omitempty"`
	File   string           `json:"image"`
	Result *discread.Result `json:"result,omitempty"`
}

// ErrBlank reports an empty disc.
var ErrBlank = errors.New("the disc is empty")

// ReadDisc reads the disc in a drive into an image under its name. The tray is locked meanwhile, where the drive can.
func ReadDisc(ctx context.Context, d *optical.Drive, o ReadOptions) (r *Read, err error) {
	disc, err := discread.Look(ctx, d)
	if err != nil {
		return nil, err
	}
	if disc.Blank || disc.Blocks == 0 {
		return nil, ErrBlank
	}
	r = &Read{Disc: disc, File: o.File}
	if t, err := Identify(ctx, d, disc, o.Set); err == nil { // what cannot be identified is read all the same
		r.Title = t
	}
	if ctx.Err() != nil {
		return r, ctx.Err()
	}
	if r.File == "" {
		if err := os.MkdirAll(o.Dir, 0o755); err != nil {
			return r, err
		}
		r.File = Into(o.Dir, disc, r.Title)
	}
	if o.Known != nil {
		o.Known(disc, r.Title, r.File)
	}
	if o.Offset == 0 {
		o.Offset = o.Offsets[strings.TrimSpace(disc.Model.Vendor+" "+disc.Model.Product)]
	}
	_ = d.Lock(ctx, true)
	r.Result, err = discread.Into(ctx, d, disc, r.File, o.Options)
	_ = d.Lock(context.WithoutCancel(ctx), false)
	if o.Eject && (err == nil || errors.Is(err, discread.ErrTaken)) && ctx.Err() == nil {
		err = errors.Join(err, d.Eject(ctx))
	}
	return r, err
}

// Eject opens the tray, also of a drive that cannot be locked.
func Eject(ctx context.Context, d *optical.Drive) error {
	_ = d.Lock(ctx, false)
	return d.Eject(ctx)
}

// lookEvery is how often it is looked whether another disc was put in.
const lookEvery = 500 * time.Millisecond

// NextDisc waits until a disc is in the drive.
func NextDisc(ctx context.Context, d *optical.Drive) error {
	for {
		err := d.WaitReady(ctx)
		var s *optical.Sense
		if err == nil || !errors.As(err, &s) || !s.NoDisc() {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(lookEvery):
		}
	}
}
