package optical

import (
	"context"
	"encoding/binary"
	"errors"
	"slices"
	"time"
)

// The times that drives are given for finishing a disc.
const finishing = 30 * time.Minute

// A Burner is what a drive can do with a kind of disc.
type Burner struct {
	Writes    bool // discs of that kind at all
	Tests     bool // it can go through the writing with the laser off
	Protected bool // it stops, and goes on, when no data come for a while
}

// Burner asks for it (MMC-6, 6.5, GET CONFIGURATION; 5.3.15 for CD-R, 5.3.22 for DVD-R). Other kinds of disc always go
// on after a break, and cannot be tried.
func (d *Drive) Burner(ctx context.Context, m Medium) (u Burner, err error) {
	_, all, err := d.Medium(ctx)
	if err != nil {
		return u, err
	}
	u.Writes = m.Writable() && slices.Contains(all, m)
	feature := byte(0)
	switch {
	case m.CD():
		feature = 0x2D
	case m == 0x11 || m == 0x15 || m == 0x16:
		feature = 0x2F
	default:
		u.Protected = true
		return u, nil
	}
	b, err := d.get(ctx, short, 64, 0x46, 0x02, 0, feature, 0, 0, 0, 0, 64, 0)
	if err != nil {
		return u, err
	}
	if len(b) >= 16 && b[9] == feature {
		u.Protected, u.Tests = b[12]&0x40 != 0, b[12]&0x04 != 0
	}
	return u, nil
}

// WriteSpeeds asks at which speeds, in bytes a second, the disc in the drive can be written (MMC-6, 6.7, GET
// PERFORMANCE, type 03h), the highest first; none where the drive does not say.
func (d *Drive) WriteSpeeds(ctx context.Context) (out []int64, err error) {
	b, err := d.get(ctx, short, 8+16*64, 0xAC, 0, 0, 0, 0, 0, 0, 0, 0, 64, 3, 0)
	var s *Sense
	if errors.As(err, &s) && s.Unknown() {
		return nil, nil
	}
	if err != nil || len(b) < 8 {
		return nil, err
	}
	for b = b[8:]; len(b) >= 16; b = b[16:] {
		if n := 1000 * int64(binary.BigEndian.Uint32(b[12:])); n > 0 && !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	slices.Reverse(out)
	return out, nil
}

// SetWriteSpeed has the drive write at so many bytes a second (MMC-6, 6.37, SET STREAMING), and with an older drive by
// [Drive.SetSpeed].
func (d *Drive) SetWriteSpeed(ctx context.Context, rate, blocks int64) error {
	p := make([]byte, 28)
	be := binary.BigEndian
	be.PutUint32(p[8:], uint32(max(0, blocks-1)))
	for _, at := range []int{12, 20} { // reading and writing: kilobytes in a thousand milliseconds
		be.PutUint32(p[at:], uint32(rate/1000))
		be.PutUint32(p[at+4:], 1000)
	}
	err := d.put(ctx, short, p, 0xB6, 0, 0, 0, 0, 0, 0, 0, 0, 0, 28, 0)
	var s *Sense
	if errors.As(err, &s) && s.Unknown() {
		return d.SetSpeed(ctx, rate)
	}
	return err
}

// put sends a command with data. That something has changed at the drive is heard once, and the command sent again.
func (d *Drive) put(ctx context.Context, timeout time.Duration, out []byte, cdb ...byte) error {
	c := Command{CDB: cdb, Out: out, Timeout: timeout}
	_, err := d.to.Do(ctx, c)
	var s *Sense
	if errors.As(err, &s) && s.Key == UnitAttention {
		_, err = d.to.Do(ctx, c)
	}
	if errors.As(err, &s) && s.Key == Recovered {
		err = nil
	}
	return err
}

// Room is where the next block goes, and how many still fit.
type Room struct{ Next, Free int64 }

// Room asks for it (MMC-6, 6.26, READ TRACK INFORMATION, of the track that is open).
func (d *Drive) Room(ctx context.Context, track int) (r Room, err error) {
	b, err := d.get(ctx, short, 36, 0x52, 1, byte(track>>24), byte(track>>16), byte(track>>8), byte(track), 0, 0, 36, 0)
	if err != nil {
		return r, err
	}
	if len(b) < 28 {
		return r, errors.New("the drive does not say how much fits on the disc")
	}
	be := binary.BigEndian
	if b[7]&1 != 0 {
		r.Next = int64(be.Uint32(b[12:]))
	}
	r.Free = int64(be.Uint32(b[16:]))
	return r, nil
}

// settable reports whether discs of a kind are written as the page of write parameters says. Others have one way only.
func (m Medium) settable() bool {
	return m.CD() || m == 0x11 || m == 0x13 || m == 0x14 || m == 0x15 || m == 0x16
}

// SetWriting sets how the next disc is written (MMC-6, 7.5, the page of write parameters): compact discs a track at
// once, others block after block; as a test with the laser off; going on after a break.
func (d *Drive) SetWriting(ctx context.Context, m Medium, test, protected bool) error {
	if !m.settable() {
		return nil
	}
	p := make([]byte, 8+52)
	page := p[8:]
	page[0], page[1], page[3], page[4] = 0x05, 50, 4, 8 // data, in blocks of mode 1
	if m.CD() {
		page[2] = 1
	}
	if test {
		page[2] |= 0x10
	}
	if protected {
		page[2] |= 0x40
	}
	binary.BigEndian.PutUint16(page[14:], 150) // the pause of an audio track, which is its default
	return d.put(ctx, short, p, 0x55, 0x10, 0, 0, 0, 0, 0, 0, byte(len(p)), 0)
}

// Adjust has the drive adjust its laser to the disc (MMC-6, 6.33, SEND OPC INFORMATION). Drives that do it by
// themselves do not know the command, which is fine.
func (d *Drive) Adjust(ctx context.Context) error {
	return unlessUnknown(d.put(ctx, finishing, nil, 0x54, 1, 0, 0, 0, 0, 0, 0, 0, 0))
}

func unlessUnknown(err error) error {
	var s *Sense
	if errors.As(err, &s) && s.Unknown() {
		return nil
	}
	return err
}

// Reserve says how long the track will be, in blocks (MMC-6, 6.31, RESERVE TRACK).
func (d *Drive) Reserve(ctx context.Context, blocks int64) error {
	cdb := make([]byte, 10)
	cdb[0] = 0x53
	binary.BigEndian.PutUint32(cdb[5:], uint32(blocks))
	return unlessUnknown(d.put(ctx, finishing, nil, cdb...))
}

// Write writes blocks of 2,048 bytes (MMC-6, 6.44, WRITE(10); 6.45, WRITE(12) where the drive knows no other). While
// the drive's buffer is full, it waits.
func (d *Drive) Write(ctx context.Context, block int64, b []byte) error {
	cdb := make([]byte, 12)
	binary.BigEndian.PutUint32(cdb[2:], uint32(block))
	for {
		if d.twelve {
			cdb[0] = 0xAA
			binary.BigEndian.PutUint32(cdb[6:], uint32(len(b)/2048))
		} else {
			cdb[0] = 0x2A
			cdb[7], cdb[8] = be16(len(b) / 2048)
			cdb = cdb[:10]
		}
		err := d.put(ctx, reading, b, cdb...)
		var s *Sense
		if errors.As(err, &s) && s.Key == IllegalRequest && s.ASC == 0x20 && !d.twelve {
			d.twelve, cdb = true, cdb[:12]
			continue
		}
		if !errors.As(err, &s) || s.Key != NotReady || s.ASC != 0x04 || s.ASCQ != 0x08 && s.ASCQ != 0x07 {
			return err
		}
		select { // a drive empties its buffer of some megabytes in a tenth of a second or more
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// Flush waits until everything was burnt that was sent (SBC-3, 5.18, SYNCHRONIZE CACHE(10)).
func (d *Drive) Flush(ctx context.Context) error {
	if err := d.put(ctx, finishing, nil, 0x35, 0, 0, 0, 0, 0, 0, 0, 0, 0); err != nil {
		return err
	}
	return d.WaitReady(ctx)
}

// Finish closes the track and the disc, so that any drive reads it (MMC-6, 6.3, CLOSE TRACK/SESSION). It takes some
// minutes. Discs that can be written over need nothing.
func (d *Drive) Finish(ctx context.Context, m Medium) error {
	if m.Rewritable() {
		return d.WaitReady(ctx)
	}
	disc := byte(2)
	if m == 0x1B || m == 0x2B { // DVD+R
		disc = 6
	}
	for _, function := range []byte{1, disc} {
		track := byte(0)
		if function == 1 {
			track = 1
		}
		if err := d.put(ctx, finishing, nil, 0x5B, 0, function, 0, 0, track, 0, 0, 0, 0); err != nil {
			return err
		}
		if err := d.WaitReady(ctx); err != nil {
			return err
		}
	}
	return nil
}
