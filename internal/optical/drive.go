package optical

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"
)

// The times that drives are given. Some seek for a long while on damaged discs.
const (
	short   = 10 * time.Second
	reading = 60 * time.Second
)

// A Drive is a disc drive.
type Drive struct {
	// Swapped is set once the drive has said that another disc was put in.
	Swapped bool

	to       Transport
	ten      bool   // it knows READ(10) only
	twelve   bool   // it writes by WRITE(12) only
	unmarked bool   // it does not mark bytes that it could not correct
	raw      []byte // sectors with their marks
}

// New talks to the drive behind a transport.
func New(t Transport) *Drive { return &Drive{to: t} }

// Close lets go of the drive.
func (d *Drive) Close() error { return d.to.Close() }

// get sends a command and returns what the drive sends back, at most size bytes. That something has changed at the
// drive is heard once, and the command sent again.
func (d *Drive) get(ctx context.Context, timeout time.Duration, size int, cdb ...byte) ([]byte, error) {
	in := make([]byte, size)
	c := Command{CDB: cdb, In: in, Timeout: timeout}
	n, err := d.to.Do(ctx, c)
	var s *Sense
	if errors.As(err, &s) && s.Key == UnitAttention {
		d.Swapped = d.Swapped || s.ASC == 0x28
		n, err = d.to.Do(ctx, c)
	}
	if errors.As(err, &s) && s.Key == Recovered {
		err = nil
	}
	return in[:n], err
}

// be puts numbers into a command, the highest byte first.
func be16(n int) (hi, lo byte) { return byte(n >> 8), byte(n) }

// A Model is what a drive calls itself.
type Model struct{ Vendor, Product, Revision string }

// Model asks the drive who it is (SPC-4, 6.6, INQUIRY). It is an error if it is no disc drive.
func (d *Drive) Model(ctx context.Context) (m Model, err error) {
	b, err := d.get(ctx, short, 96, 0x12, 0, 0, 0, 96, 0)
	if err != nil {
		return m, err
	}
	if len(b) < 36 || b[0]&0x1F != 5 {
		return m, errors.New("it is no disc drive")
	}
	text := func(b []byte) string { return strings.TrimSpace(strings.TrimRight(string(b), "\x00")) }
	return Model{text(b[8:16]), text(b[16:32]), text(b[32:36])}, nil
}

// Ready reports what keeps the drive from reading or writing (SPC-4, 6.47, TEST UNIT READY): nil for nothing.
func (d *Drive) Ready(ctx context.Context) error {
	_, err := d.get(ctx, short, 0, 0, 0, 0, 0, 0, 0)
	return err
}

// WaitReady waits until a disc that was put in can be read. Without a disc, it does not wait.
func (d *Drive) WaitReady(ctx context.Context) error {
	for {
		err := d.Ready(ctx)
		var s *Sense
		if err == nil || !errors.As(err, &s) || !s.Soon() {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// Medium is the kind of a disc, as a profile of MMC-6, table 92.
type Medium uint16

// mediums are the profiles by their names; the ones that can be written to are marked.
var mediums = map[Medium]struct {
	name     string
	writable bool
}{
	0x08: {"CD-ROM", false}, 0x09: {"CD-R", true}, 0x0A: {"CD-RW", true}, 0x10: {"DVD-ROM", false},
	0x11: {"DVD-R", true}, 0x12: {"DVD-RAM", true}, 0x13: {"DVD-RW", true}, 0x14: {"DVD-RW", true},
	0x15: {"DVD-R DL", true}, 0x16: {"DVD-R DL", true}, 0x1A: {"DVD+RW", true}, 0x1B: {"DVD+R", true},
	0x2A: {"DVD+RW DL", true}, 0x2B: {"DVD+R DL", true}, 0x40: {"BD-ROM", false}, 0x41: {"BD-R", true},
	0x42: {"BD-R", true}, 0x43: {"BD-RE", true},
}

// String is the name of the kind, as people write it.
func (m Medium) String() string {
	if x, ok := mediums[m]; ok {
		return x.name
	}
	if m == 0 {
		return "no disc"
	}
	return fmt.Sprintf("a disc of an unknown kind (%04X)", uint16(m))
}

// CD reports whether it is a compact disc, which is read in sectors of 2,352 bytes.
func (m Medium) CD() bool { return m >= 0x08 && m <= 0x0A }

// Rewritable reports whether discs of the kind can be written over at any place, without being erased first.
func (m Medium) Rewritable() bool {
	return m == 0x1A || m == 0x2A || m == 0x12 || m == 0x13 || m == 0x43
}

// Layers is how many layers discs of the kind have, as far as the kind says.
func (m Medium) Layers() int {
	if m == 0x15 || m == 0x16 || m == 0x2A || m == 0x2B {
		return 2
	}
	return 1
}

// Once is how many bytes a second are read at the speed at which discs of the kind play.
func (m Medium) Once() int64 {
	switch {
	case m.CD():
		return 176_400
	case m >= 0x40:
		return 4_495_625
	}
	return 1_385_000
}

// Writable reports whether discs of the kind are written by burners.
func (m Medium) Writable() bool { return mediums[m].writable }

// Medium asks which kind of disc is in the drive, and which ones it handles (MMC-6, 6.5, GET CONFIGURATION).
func (d *Drive) Medium(ctx context.Context) (now Medium, all []Medium, err error) {
	b, err := d.get(ctx, short, 2048, 0x46, 0x02, 0, 0, 0, 0, 0, 0x08, 0, 0) // the feature 0, the list of profiles
	if err != nil {
		return 0, nil, err
	}
	if len(b) < 8 {
		return 0, nil, errors.New("the drive does not say what it handles")
	}
	now = Medium(binary.BigEndian.Uint16(b[6:]))
	if len(b) >= 12 && binary.BigEndian.Uint16(b[8:]) == 0 {
		for list := b[12:min(len(b), 12+int(b[11]))]; len(list) >= 4; list = list[4:] {
			all = append(all, Medium(binary.BigEndian.Uint16(list)))
		}
	}
	return now, all, nil
}

// A Capacity is how much of a disc can be read.
type Capacity struct{ Blocks, Size int64 } // Size in bytes, of a block

// Capacity asks for it (SBC-3, 5.12, READ CAPACITY(10)).
func (d *Drive) Capacity(ctx context.Context) (c Capacity, err error) {
	b, err := d.get(ctx, short, 8, 0x25, 0, 0, 0, 0, 0, 0, 0, 0, 0)
	if err != nil {
		return c, err
	}
	if len(b) < 8 {
		return c, errors.New("the drive does not say how large the disc is")
	}
	return Capacity{int64(binary.BigEndian.Uint32(b)) + 1, int64(binary.BigEndian.Uint32(b[4:]))}, nil
}

// Status is how far a disc has been written.
type Status byte

// The states of a disc (MMC-6, table 371).
const (
	Blank Status = iota
	Appendable
	Finished
	Other
)

// DiscInfo is what was written to a disc.
type DiscInfo struct {
	Status     Status
	Erasable   bool
	Sessions   int
	LastTracks int // the number of the last track
}

// DiscInfo asks for it (MMC-6, 6.21, READ DISC INFORMATION).
func (d *Drive) DiscInfo(ctx context.Context) (i DiscInfo, err error) {
	b, err := d.get(ctx, short, 34, 0x51, 0, 0, 0, 0, 0, 0, 0, 34, 0)
	if err != nil {
		return i, err
	}
	if len(b) < 12 {
		return i, errors.New("the drive says too little of the disc")
	}
	return DiscInfo{Status: Status(b[2] & 3), Erasable: b[2]&0x10 != 0, Sessions: int(b[9])<<8 | int(b[4]),
		LastTracks: int(b[11])<<8 | int(b[6])}, nil
}

// Speeds asks how fast the drive reads now, and at most (MMC-6, 7.11, mode page 2Ah), in bytes a second.
func (d *Drive) Speeds(ctx context.Context) (now, most int64, err error) {
	b, err := d.get(ctx, short, 64, 0x5A, 0x08, 0x2A, 0, 0, 0, 0, 0, 64, 0)
	if err != nil {
		return 0, 0, err
	}
	if len(b) < 8+16 || b[8]&0x3F != 0x2A {
		return 0, 0, errors.New("the drive does not say how fast it is")
	}
	page := b[8:]
	return 1000 * int64(binary.BigEndian.Uint16(page[14:])), 1000 * int64(binary.BigEndian.Uint16(page[8:])), nil
}

// SetSpeed has the drive read and write at so many bytes a second at most; 0 for as fast as it can (MMC-6, 6.36, SET CD
// SPEED).
func (d *Drive) SetSpeed(ctx context.Context, rate int64) error {
	n := 0xFFFF
	if rate > 0 {
		n = int(min(0xFFFE, (rate+999)/1000))
	}
	hi, lo := be16(n)
	_, err := d.get(ctx, short, 0, 0xBB, 0, hi, lo, hi, lo, 0, 0, 0, 0, 0, 0)
	return err
}

// Lock keeps the tray shut, or lets it be opened (SPC-4, 6.16, PREVENT ALLOW MEDIUM REMOVAL).
func (d *Drive) Lock(ctx context.Context, shut bool) error {
	p := byte(0)
	if shut {
		p = 1
	}
	_, err := d.get(ctx, short, 0, 0x1E, 0, 0, 0, p, 0)
	return err
}

// Eject opens the tray (SBC-3, 5.25, START STOP UNIT).
func (d *Drive) Eject(ctx context.Context) error {
	_, err := d.get(ctx, short, 0, 0x1B, 0, 0, 0, 0x02, 0)
	return err
}

// Load shuts the tray.
func (d *Drive) Load(ctx context.Context) error {
	_, err := d.get(ctx, reading, 0, 0x1B, 0, 0, 0, 0x03, 0)
	return err
}
