package discread

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"polytome/internal/format/cuesheet"
	"polytome/internal/format/sectors"
	"polytome/internal/optical"
)

// A Disc is what lies in a drive, and what becomes of it.
type Disc struct {
	Model  optical.Model
	Medium optical.Medium
	Tracks []Track
	// Size is how many bytes a block has in the image: 2,048 of data, or whole sectors of 2,352 where there is more
	// than data on the disc.
	Size   int64
	Blocks int64
	Blank  bool // nothing was written to it yet
}

// A Track is one of a disc. Positions are blocks of the disc.
type Track struct {
	optical.Track
	Gap  int64 // of its index 0; the start where it has none
	Mode byte  // of data: 1 or 2
}

// Whole reports whether whole sectors are read.
func (d *Disc) Whole() bool { return d.Size == sectors.Raw }

// Sound reports whether there is any.
func (d *Disc) Sound() bool {
	for _, t := range d.Tracks {
		if !t.Data {
			return true
		}
	}
	return false
}

// Extension is what the name of its image ends in: that of the cue sheet where it has one.
func (d *Disc) Extension() string {
	if d.Whole() {
		return ".cue"
	}
	return ".iso"
}

// usualGap is how long the gap between data and sound is at least, in sectors (ECMA-130, 20.2).
const usualGap = 150

// Look finds out what is in a drive, and waits until a disc that was just put in can be read.
func Look(ctx context.Context, d *optical.Drive) (*Disc, error) {
	m, err := d.Model(ctx)
	if err != nil {
		return nil, err
	}
	disc := &Disc{Model: m, Size: sectors.UserData}
	if err := d.WaitReady(ctx); err != nil {
		return disc, err
	}
	if disc.Medium, _, err = d.Medium(ctx); err != nil {
		return disc, err
	}
	info, err := d.DiscInfo(ctx)
	if err == nil && (info.Status == optical.Blank || info.Status == optical.Appendable && disc.Medium.Writable()) {
		disc.Blank = info.Status == optical.Blank
		if disc.Blank {
			return disc, nil
		}
	}
	c, err := d.Capacity(ctx)
	if err != nil {
		return disc, err
	}
	disc.Blocks = c.Blocks
	tracks, err := d.Tracks(ctx)
	if !disc.Medium.CD() {
		if err != nil || len(tracks) == 0 {
			tracks = []optical.Track{{Number: 1, Session: 1, End: c.Blocks, Data: true}}
		}
		for _, t := range tracks {
			disc.Tracks = append(disc.Tracks, Track{t, t.Start, 1})
		}
		return disc, nil
	}
	if err != nil {
		return disc, err
	}
	return disc, disc.sectors(ctx, d, tracks)
}

// sectors finds out how the tracks of a compact disc lie, and of what mode they are.
func (d *Disc) sectors(ctx context.Context, drive *optical.Drive, tracks []optical.Track) error {
	raw, unsure := make([]byte, sectors.Raw), make([]bool, 1)
	plain := true
	for i, t := range tracks {
		x := Track{t, t.Start, 1}
		if t.Data {
			for k := range min(16, t.End-t.Start) { // the first ones may be damaged
				if _, err := drive.ReadRaw(ctx, t.Start+k, raw, unsure); err == nil {
					x.Mode = raw[15]
					break
				} else if !unread(err) {
					return err
				}
			}
		}
		if i > 0 && tracks[i-1].Session == t.Session {
			gap, err := gapOf(ctx, drive, tracks[i-1], t)
			if err != nil {
				return err
			}
			x.Gap = gap
		} else if i == 0 {
			x.Gap = 0 // what lies before the first track is read too
		}
		plain = plain && t.Data && x.Mode == 1
		d.Tracks = append(d.Tracks, x)
	}
	if plain && len(tracks) == 1 {
		d.Blocks = tracks[0].End
		return nil
	}
	d.Size, d.Blocks = sectors.Raw, 0
	for _, p := range d.pieces() {
		d.Blocks += p.count
	}
	return nil
}

// gapOf is where the gap before a track begins: by sub-channel Q; where a drive does not give that, as the standard
// wants it between data and sound, and else at its start.
func gapOf(ctx context.Context, d *optical.Drive, before, t optical.Track) (int64, error) {
	low, high := before.Start, t.Start // of it, and behind it
	for low < high {
		middle := (low + high) / 2
		p, ok, err := d.Position(ctx, middle)
		if err != nil && !unread(err) {
			return 0, err
		}
		if err != nil || !ok {
			if before.Data != t.Data {
				return max(before.Start+1, t.Start-usualGap), nil
			}
			return t.Start, nil
		}
		if p.Track >= t.Number {
			high = middle
		} else {
			low = middle + 1
		}
	}
	return low, nil
}

// A piece is blocks of the disc that stand one behind the other in the image.
type piece struct {
	first, count int64
	track        int // its index
	gap          bool
}

// pieces are those of the image, in its order: the sessions without what lies between them.
func (d *Disc) pieces() (out []piece) {
	for i := range d.Tracks {
		t := &d.Tracks[i]
		end := t.End
		if i+1 < len(d.Tracks) && d.Tracks[i+1].Session == t.Session {
			end = d.Tracks[i+1].Gap
		}
		if t.Gap < t.Start {
			out = append(out, piece{t.Gap, t.Start - t.Gap, i, true})
		}
		out = append(out, piece{t.Start, end - t.Start, i, false})
	}
	return out
}

// Sheet is the cue sheet of the image whose file is name.
func (d *Disc) Sheet(name string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "FILE \"%s\" BINARY\n", name)
	at, session := int64(0), 1
	for _, p := range d.pieces() {
		t := &d.Tracks[p.track]
		if t.Session != session {
			session = t.Session
			fmt.Fprintf(&b, "REM SESSION %02d\n", session)
		}
		if p.gap || t.Gap == t.Start {
			mode := "AUDIO"
			if t.Data {
				mode = fmt.Sprintf("MODE%d/2352", max(1, t.Mode))
			}
			fmt.Fprintf(&b, "  TRACK %02d %s\n", t.Number, mode)
		}
		index := 1
		if p.gap {
			index = 0
		}
		fmt.Fprintf(&b, "    INDEX %02d %s\n", index, cuesheet.Time(int(at)))
		at += p.count
	}
	return b.String()
}

// errUnread reports a sector that was sent, and is not what was pressed.
var errUnread = errors.New("the drive sends other bytes than were pressed")

// unread reports whether an error is that a spot cannot be read: others can be.
func unread(err error) bool {
	var s *optical.Sense
	return errors.Is(err, errUnread) || errors.As(err, &s) && s.Unread()
}
