// Package discburn burns images: it refuses what would spoil a disc, keeps the drive fed, finishes the disc, and reads
// it back to compare.
package discburn

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/optical"
	"polytome/internal/size"
)

// block is how many bytes a block of data has.
const block = 2048

// A Tray is a drive, and the disc that is to be written.
type Tray struct {
	Model  optical.Model
	Medium optical.Medium
	Burner optical.Burner
	Blank  bool // nothing was written to it yet, or it may be written over
	Over   bool // it can be written over at any time
	Room   int64
	Speeds []int64 // bytes a second, the highest first; none where the drive does not say
}

// Look finds out what is in the tray, and waits until a disc that was just put in is ready.
func Look(ctx context.Context, d *optical.Drive) (*Tray, error) {
	m, err := d.Model(ctx)
	if err != nil {
		return nil, err
	}
	t := &Tray{Model: m}
	if err := d.WaitReady(ctx); err != nil {
		return t, err
	}
	if t.Medium, _, err = d.Medium(ctx); err != nil {
		return t, err
	}
	if t.Burner, err = d.Burner(ctx, t.Medium); err != nil || !t.Medium.Writable() {
		return t, err
	}
	info, err := d.DiscInfo(ctx)
	if err != nil {
		return t, err
	}
	t.Over = t.Medium.Rewritable()
	t.Blank = info.Status == optical.Blank || t.Over
	if t.Blank {
		if t.Over {
			c, err := d.Capacity(ctx)
			if err != nil {
				return t, err
			}
			t.Room = c.Blocks
		} else {
			r, err := d.Room(ctx, 1)
			if err != nil {
				return t, err
			}
			t.Room = r.Free
		}
		if t.Speeds, err = d.WriteSpeeds(ctx); err != nil {
			return t, err
		}
	}
	return t, nil
}

// Times is a speed, in bytes a second, as a multiple of that at which the disc plays.
func (t *Tray) Times(rate int64) loader.Speed {
	n := float64(rate) / float64(t.Medium.Once())
	if n < 1 {
		return loader.Speed(float64(int(n*10+0.5)) / 10)
	}
	return loader.Speed(int(n*2+0.5)) / 2
}

// SpeedWords are the speeds at which the disc can be written.
func (t *Tray) SpeedWords() string {
	var out []string
	for _, s := range slices.Backward(t.Speeds) {
		out = append(out, t.Times(s).String())
	}
	return strings.Join(out, ", ")
}

// Wanted is how a disc is to be written.
type Wanted struct {
	Bytes int64
	Speed loader.Speed // 0 for what the console likes best, or as fast as it may be
	Test  bool         // go through it with the laser off first
	Rules []loader.DiscRule
	// Drive is which of the console's drives it is for; "" for all of them.
	Drive string
}

// fits are the rules that a kind of disc is in.
func (w *Wanted) rules() (out []loader.DiscRule) {
	for _, r := range w.Rules {
		if w.Drive == "" || r.Drive == "" || strings.EqualFold(r.Drive, w.Drive) {
			out = append(out, r)
		}
	}
	return out
}

// Settled is what comes of it.
type Settled struct {
	Rate   int64        // bytes a second; 0 for as fast as the drive likes
	Speed  loader.Speed // the same as a multiple; 0 where the drive does not say
	Open   bool         // the disc stays unfinished
	Warn   []string     // what should be known before
	Blocks int64
}

// Settle says how a disc will be written; an error says why it would be spoilt, and what to do. Nothing is written yet.
func (t *Tray) Settle(w Wanted) (s Settled, err error) {
	s.Blocks = (w.Bytes + block - 1) / block
	rules := w.rules()
	if len(w.Rules) > 0 && len(rules) == 0 {
		var all []string
		for _, r := range w.Rules {
			if r.Drive != "" && !slices.Contains(all, r.Drive) {
				all = append(all, r.Drive)
			}
		}
		return s, fmt.Errorf("the console has no drive %s: its drives are %s", w.Drive, strings.Join(all, " and "))
	}
	kind := t.Medium.String()
	var takes []loader.DiscRule
	var media []string
	for _, r := range rules {
		if slices.Contains(r.Media, kind) && (r.Layers == 0 || t.Medium.Layers() <= r.Layers) {
			takes = append(takes, r)
		}
		for _, m := range r.Media {
			if !slices.Contains(media, m) {
				media = append(media, m)
			}
		}
	}
	switch {
	case !t.Medium.Writable():
		return s, fmt.Errorf("%s cannot be written to: put in an empty disc%s", withArticle(kind), ofKinds(media))
	case len(rules) > 0 && len(takes) == 0:
		return s, fmt.Errorf("the console does not read %s: put in an empty disc%s", kind, ofKinds(media))
	case !t.Burner.Writes:
		return s, fmt.Errorf("this drive does not write %s", kind)
	case !t.Blank:
		return s, errors.New("something was written to this disc before: put in an empty one")
	case w.Bytes <= 0:
		return s, errors.New("there is nothing to write")
	case s.Blocks > t.Room:
		return s, fmt.Errorf("it needs %s, and this %s has room for %s: put in a larger one",
			size.Format(s.Blocks*block),
			kind, size.Format(t.Room*block))
	case w.Test && !t.Burner.Tests:
		return s, fmt.Errorf("this drive cannot try %s with the laser off", kind)
	}
	if w.Drive == "" && len(takes) < len(rules) {
		for _, r := range rules {
			if r.Drive != "" && !slices.Contains(r.Media, kind) {
				s.Warn = append(s.Warn, fmt.Sprintf("a console with the drive %s does not read %s", r.Drive, kind))
			}
		}
	}
	if !t.Burner.Protected {
		s.Warn = append(s.Warn, "this drive cannot pause: if the data come too slowly, the disc is spoilt")
	}
	return s, t.speed(&s, w.Speed, takes)
}

// speed settles how fast it is written.
func (t *Tray) speed(s *Settled, wanted loader.Speed, rules []loader.DiscRule) error {
	best, highest := wanted, loader.Speed(0)
	for _, r := range rules {
		s.Open = s.Open || r.Open()
		if r.Highest > 0 && (highest == 0 || r.Highest < highest) {
			highest = r.Highest
		}
		if wanted == 0 && r.Best > 0 && (best == 0 || r.Best < best) {
			best = r.Best
		}
	}
	if highest > 0 && wanted > highest {
		return fmt.Errorf("the console reads discs that were written at %s at most", highest)
	}
	for _, rate := range t.Speeds { // the highest that is neither above the best nor above the highest
		times := t.Times(rate)
		if (best == 0 || times <= best) && (highest == 0 || times <= highest) {
			s.Rate, s.Speed = rate, times
			break
		}
	}
	switch {
	case len(t.Speeds) == 0:
		s.Rate, s.Speed = int64(float64(best)*float64(t.Medium.Once())), best
	case wanted > 0 && s.Speed != wanted:
		return fmt.Errorf("this disc cannot be written at %s in this drive, only at %s", wanted, t.SpeedWords())
	case s.Rate == 0 && highest > 0 && t.Times(t.Speeds[len(t.Speeds)-1]) > highest:
		return fmt.Errorf("this disc can only be written at %s, and the console reads discs written at %s at "+
			"most: take one of another make", t.SpeedWords(), highest)
	case s.Rate == 0:
		s.Rate = t.Speeds[len(t.Speeds)-1]
		s.Speed = t.Times(s.Rate)
		s.Warn = append(s.Warn, fmt.Sprintf("best is %s, but %s is the lowest speed of this disc", best, s.Speed))
	case best > 0 && s.Speed < best:
		s.Warn = append(s.Warn, fmt.Sprintf("best is %s, but this disc has only %s", best, t.SpeedWords()))
	}
	return nil
}

// ofKinds names the kinds of discs that a console reads.
func ofKinds(media []string) string {
	if len(media) == 0 {
		return ""
	}
	return " of the kind " + strings.Join(media, " or ")
}

func withArticle(kind string) string {
	if strings.HasPrefix(kind, "a ") || strings.HasPrefix(kind, "no ") {
		return kind
	}
	return "a " + kind
}
