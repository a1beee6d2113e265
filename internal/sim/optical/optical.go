// Package optical simulates a disc drive command by command, from SPC-4, SBC-3 and MMC-6: what it is sent are command
// descriptor blocks, and what it answers are bytes and sense data.
package optical

import (
	"encoding/binary"
	"io"
	"sync"
	"time"
)

// Block is how many bytes a block of data has.
const Block = 2048

// The profiles of discs (MMC-6, table 92).
const (
	CDROM  = 0x08
	DVDROM = 0x10
)

// A Disc is one that was made: its data, and what has happened to it since.
type Disc struct {
	Profile   uint16
	Data      io.ReaderAt
	Blocks    int64
	Scratches []Scratch
}

// Harm is what a scratch does.
type Harm byte

const (
	Hard Harm = iota // it is never read
	Soft             // it is read after some tries, and at low speed at once
	Slow             // it is read, and takes long
)

// A Scratch is damage to some blocks.
type Scratch struct {
	First, Count int64
	Harm         Harm
	Tries        int           // of Soft: how many fail
	Takes        time.Duration // of Slow
}

// A Habit is something in which drives differ.
type Habit struct {
	Descriptor bool // sense comes in the descriptor format
	NoRead12   bool // the drive knows READ(10) only
	Spinning   int  // how often it says that it is still looking at a disc that was put in
}

// A Drive is a simulated drive.
type Drive struct {
	Habit
	Reads int // commands that asked for data

	mu        sync.Mutex
	disc      *Disc
	open      bool
	locked    bool
	spinning  int
	attention bool // the disc is another one
	speed     int  // kB/s
	tries     map[int64]int
}

// fastest is how fast the drive reads, in kB/s: 16 x a DVD's 1,385.
const fastest = 22160

// New is a drive without a disc.
func New() *Drive { return &Drive{speed: fastest, tries: map[int64]int{}} }

// Put puts a disc in; nil takes the one out that is there.
func (d *Drive) Put(disc *Disc) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.disc, d.open, d.attention, d.spinning = disc, false, disc != nil, d.Spinning
	clear(d.tries)
}

// Open reports whether the tray is open.
func (d *Drive) Open() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.open
}

// sense is sense data of the format that the drive uses.
func (d *Drive) sense(key, asc, ascq byte, block int64) []byte {
	if d.Descriptor {
		s := make([]byte, 8, 20)
		s[0], s[1], s[2], s[3] = 0x72, key, asc, ascq
		if block >= 0 {
			s = append(s, 0, 10, 0x80, 0, 0, 0, 0, 0, 0, 0, 0, 0)
			binary.BigEndian.PutUint64(s[12:], uint64(block))
			s[7] = 12
		}
		return s
	}
	s := make([]byte, 18)
	s[0], s[2], s[7], s[12], s[13] = 0x70, key, 10, asc, ascq
	if block >= 0 {
		s[0] |= 0x80
		binary.BigEndian.PutUint32(s[3:], uint32(block))
	}
	return s
}

// Command answers a command.
func (d *Drive) Command(cdb, in, _ []byte) (n int, sense []byte) {
	d.mu.Lock()
	defer d.mu.Unlock()
	op := cdb[0]
	if d.attention && op != 0x12 {
		d.attention = false
		return 0, d.sense(6, 0x28, 0, -1)
	}
	switch op {
	case 0x00: // TEST UNIT READY
		return 0, d.ready()
	case 0x12: // INQUIRY
		b := make([]byte, 36)
		b[0], b[1], b[3], b[4] = 5, 0x80, 2, 31
		copy(b[8:], "GULLWING")
		copy(b[16:], "TRAY 16         ")
		copy(b[32:], "1.02")
		return copy(in, b), nil
	case 0x46: // GET CONFIGURATION
		b := make([]byte, 12, 20)
		b = append(b, 0, DVDROM, 0, 0, 0, CDROM, 0, 0)
		b[10], b[11] = 0x03, 8
		if d.disc != nil && !d.open {
			binary.BigEndian.PutUint16(b[6:], d.disc.Profile)
		}
		binary.BigEndian.PutUint32(b, uint32(len(b)-4))
		return copy(in, b), nil
	case 0x5A: // MODE SENSE(10)
		return d.mode(cdb, in)
	case 0xBB: // SET CD SPEED
		d.speed = min(fastest, int(binary.BigEndian.Uint16(cdb[2:])))
		return 0, nil
	case 0x1E: // PREVENT ALLOW MEDIUM REMOVAL
		d.locked = cdb[4]&1 != 0
		return 0, nil
	case 0x1B: // START STOP UNIT
		return 0, d.start(cdb[4])
	case 0x25, 0x28, 0xA8, 0x43, 0x51:
		if s := d.ready(); s != nil {
			return 0, s
		}
		return d.ofDisc(cdb, in)
	}
	return 0, d.sense(5, 0x20, 0, -1)
}

func (d *Drive) ready() []byte {
	switch {
	case d.open:
		return d.sense(2, 0x3A, 2, -1)
	case d.disc == nil:
		return d.sense(2, 0x3A, 1, -1)
	case d.spinning > 0:
		d.spinning--
		return d.sense(2, 0x04, 1, -1)
	}
	return nil
}

func (d *Drive) mode(cdb, in []byte) (int, []byte) {
	if cdb[2]&0x3F != 0x2A {
		return 0, d.sense(5, 0x24, 0, -1)
	}
	b := make([]byte, 8+28)
	binary.BigEndian.PutUint16(b, uint16(len(b)-2))
	page := b[8:]
	page[0], page[1] = 0x2A, 26
	binary.BigEndian.PutUint16(page[8:], fastest)
	binary.BigEndian.PutUint16(page[14:], uint16(d.speed))
	return copy(in, b), nil
}

func (d *Drive) start(how byte) []byte {
	if how&2 == 0 {
		return nil
	}
	if how&1 != 0 {
		d.open = false
		d.spinning, d.attention = d.Spinning, d.disc != nil
		return nil
	}
	if d.locked {
		return d.sense(5, 0x53, 2, -1)
	}
	d.open = true
	return nil
}

// ofDisc answers what is about the disc.
func (d *Drive) ofDisc(cdb, in []byte) (int, []byte) {
	switch cdb[0] {
	case 0x25: // READ CAPACITY(10)
		var b [8]byte
		binary.BigEndian.PutUint32(b[:], uint32(d.disc.Blocks-1))
		binary.BigEndian.PutUint32(b[4:], Block)
		return copy(in, b[:]), nil
	case 0x43: // READ TOC/PMA/ATIP
		b := make([]byte, 4+16)
		b[1], b[2], b[3] = 18, 1, 1
		b[5], b[6] = 0x14, 1
		b[13], b[14] = 0x14, 0xAA
		binary.BigEndian.PutUint32(b[16:], uint32(d.disc.Blocks))
		return copy(in, b), nil
	case 0x51: // READ DISC INFORMATION: finished, one session, one track
		b := make([]byte, 34)
		b[1], b[2], b[3], b[4], b[5], b[6] = 32, 0x0E, 1, 1, 1, 1
		return copy(in, b), nil
	case 0xA8:
		if d.NoRead12 {
			return 0, d.sense(5, 0x20, 0, -1)
		}
		return d.read(int64(binary.BigEndian.Uint32(cdb[2:])), int64(binary.BigEndian.Uint32(cdb[6:])), in)
	}
	return d.read(int64(binary.BigEndian.Uint32(cdb[2:])), int64(binary.BigEndian.Uint16(cdb[7:])), in)
}

// read answers READ: what comes before a bad block is sent.
func (d *Drive) read(block, count int64, in []byte) (int, []byte) {
	d.Reads++
	if block+count > d.disc.Blocks {
		return 0, d.sense(5, 0x21, 0, -1)
	}
	n := 0
	for b := block; b < block+count; b++ {
		for i := range d.disc.Scratches {
			x := &d.disc.Scratches[i]
			if b < x.First || b >= x.First+x.Count {
				continue
			}
			switch x.Harm {
			case Slow:
				time.Sleep(x.Takes)
			case Soft:
				if d.speed > fastest/4 && d.tries[b] < x.Tries {
					d.tries[b]++
					return n, d.sense(3, 0x11, 5, b)
				}
			case Hard:
				return n, d.sense(3, 0x11, 5, b)
			}
		}
		if got, err := d.disc.Data.ReadAt(in[n:n+Block], b*Block); got < Block && err != nil && err != io.EOF {
			return n, d.sense(4, 0x44, 0, b)
		}
		n += Block
	}
	return n, nil
}
