package discread

import (
	"bytes"
	"context"

	"polytome/internal/format/sectors"
	"polytome/internal/optical"
)

// whole reads whole sectors of a compact disc, by the blocks of its image. What was not read as it was pressed is an
// error: data by their own code and address, sound by the marks of the drive, or by reading it twice where it has none.
type whole struct {
	d      *optical.Drive
	disc   *Disc
	pieces []piece
	offset int64 // by how many bytes the drive gives sound too late
	buf    []byte
	twice  []byte
	unsure []bool
}

// sampleBytes is how many bytes a sample of both channels has.
const sampleBytes = 4

func newWhole(d *optical.Drive, disc *Disc, offset int64) *whole {
	return &whole{d: d, disc: disc, pieces: disc.pieces(), offset: offset * sampleBytes}
}

func (w *whole) SetSpeed(ctx context.Context, rate int64) error { return w.d.SetSpeed(ctx, rate) }

func (w *whole) Read(ctx context.Context, block int64, b []byte, size int64) error {
	at := int64(0)
	for _, p := range w.pieces {
		if skip := block - at; len(b) > 0 && skip >= 0 && skip < p.count {
			n := min(int64(len(b))/size, p.count-skip)
			if err := w.piece(ctx, &p, p.first+skip, b[:n*size]); err != nil {
				return err
			}
			b, block = b[n*size:], block+n
		}
		at += p.count
	}
	return nil
}

// piece reads sectors of one track.
func (w *whole) piece(ctx context.Context, p *piece, first int64, b []byte) error {
	t := &w.disc.Tracks[p.track]
	if !t.Data && w.offset != 0 {
		return w.shifted(ctx, p, first, b)
	}
	unsure, err := w.sectors(ctx, first, b, !t.Data)
	if err != nil {
		return err
	}
	for i := range unsure {
		sector := b[i*sectors.Raw : (i+1)*sectors.Raw]
		if unsure[i] && !t.Data || t.Data && !sectors.Intact(sector, first+int64(i)) && !(p.gap &&
			!sectors.Synced(sector)) {
			return errUnread
		}
	}
	return nil
}

// sectors reads sectors; sound of a drive that does not mark what it could not correct is read twice.
func (w *whole) sectors(ctx context.Context, first int64, b []byte, sound bool) ([]bool, error) {
	n := len(b) / sectors.Raw
	if len(w.unsure) < n {
		w.unsure = make([]bool, n)
	}
	marks, err := w.d.ReadRaw(ctx, first, b, w.unsure[:n])
	if err == nil && sound && !marks {
		w.twice = append(w.twice[:0], b...)
		if _, err = w.d.ReadRaw(ctx, first, b, w.unsure[:n]); err == nil && !bytes.Equal(w.twice, b) {
			err = errUnread
		}
	}
	return w.unsure[:n], err
}

// shifted reads sound with a drive that gives it some samples too late: what belongs to a sector lies in its neighbours
// too. What lies outside of the sound is silence.
func (w *whole) shifted(ctx context.Context, p *piece, first int64, b []byte) error {
	from := first*sectors.Raw + w.offset
	begin, end := w.soundAround(p.track)
	low, high := from/sectors.Raw, (from+int64(len(b))+sectors.Raw-1)/sectors.Raw
	if from < 0 {
		low = -((-from + sectors.Raw - 1) / sectors.Raw)
	}
	if n := (high - low) * sectors.Raw; int64(len(w.buf)) < n {
		w.buf = make([]byte, n)
	}
	clear(w.buf)
	in, out := max(low, begin), min(high, end)
	if in < out {
		unsure, err := w.sectors(ctx, in, w.buf[(in-low)*sectors.Raw:(out-low)*sectors.Raw], true)
		if err != nil {
			return err
		}
		for _, x := range unsure {
			if x {
				return errUnread
			}
		}
	}
	copy(b, w.buf[from-low*sectors.Raw:])
	return nil
}

// soundAround is where the sound that a track is of begins and ends.
func (w *whole) soundAround(track int) (begin, end int64) {
	t := w.disc.Tracks
	first, last := track, track
	for first > 0 && !t[first-1].Data && t[first-1].Session == t[track].Session {
		first--
	}
	for last+1 < len(t) && !t[last+1].Data && t[last+1].Session == t[track].Session {
		last++
	}
	if last+1 < len(t) && t[last+1].Session == t[track].Session {
		return t[first].Gap, t[last+1].Gap
	}
	return t[first].Gap, t[last].End
}
