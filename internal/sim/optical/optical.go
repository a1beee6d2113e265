// Package optical simulates a disc drive command by command, from SPC-4, SBC-3, MMC-6 and ECMA-130: what it is sent are
// command descriptor blocks, and what it answers are bytes and sense data.
package optical

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"time"
)

// Harm is what a scratch does.
type Harm byte

const (
	Hard  Harm = iota // it is never read
	Soft              // it is read after some tries, and at low speed at once
	Slow              // it is read, and takes long
	Wrong             // whole sectors come with wrong bytes, some tries long; sound is marked so by a drive that can
)

// A Scratch is damage to some blocks.
type Scratch struct {
	First, Count int64
	Harm         Harm
	Tries        int           // of Soft and Wrong: how many fail
	Takes        time.Duration // of Slow
}

// A Habit is something in which drives differ.
type Habit struct {
	Descriptor   bool   // sense comes in the descriptor format
	NoRead12     bool   // the drive knows READ(10) only
	NoWrite10    bool   // it knows WRITE(12) only
	Spinning     int    // how often it says that it is still looking at a disc that was put in
	NoMarks      bool   // it does not mark samples that it could not correct
	NoQ          bool   // it does not give sub-channel Q
	NoLock       bool   // its tray cannot be locked
	Offset       int64  // by how many samples sound comes too late
	NoTest       bool   // it cannot write a disc as a test
	NoProtection bool   // it cannot stop and go on when no data come
	NoStreaming  bool   // it does not know SET STREAMING and GET PERFORMANCE
	Buffer       int64  // bytes; 0 for 2 MiB
	Closing      int    // how often it says that it is still finishing a disc
	Product      string // what it calls itself; "" for TRAY 16
	Writes       []uint16
}

// A Drive is a simulated drive.
type Drive struct {
	Habit
	// Haste is by how much reading and writing are quicker than the drive would be; 0 for at once.
	Haste float64
	Now   func() time.Time // the clock by which it writes; nil for that of the computer
	Reads int              // commands that asked for data
	Stops int              // how often the laser was switched off for want of data

	mu        sync.Mutex
	disc      *Disc
	open      bool
	locked    bool
	spinning  int
	attention bool // the disc is another one
	speed     int  // kB/s, of reading
	tries     map[int64]int
	burner    burner
}

// fastest is how fast the drive reads, in kB/s: 16 x a DVD's 1,385.
const fastest = 22160

// New is a drive without a disc, which writes all kinds.
func New() *Drive {
	return &Drive{speed: fastest, tries: map[int64]int{},
		Habit: Habit{Writes: []uint16{CDR, DVDR, DVDPlusRW, DVDPlusR, DVDPlusRDL}}}
}

// Put puts a disc in; nil takes the one out that is there.
func (d *Drive) Put(disc *Disc) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.disc, d.open, d.attention, d.spinning = disc, false, disc != nil, d.Spinning
	clear(d.tries)
	d.burner = burner{}
}

// Disc is the one in the drive; nil for none.
func (d *Drive) Disc() *Disc {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.disc
}

// Open reports whether the tray is open.
func (d *Drive) Open() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.open
}

// Pull opens the tray by hand, whatever the drive does.
func (d *Drive) Pull() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.open = true
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

// unknown is the sense for a command that the drive does not know, and field that for one with something odd in it.
func (d *Drive) unknown() []byte { return d.sense(5, 0x20, 0, -1) }
func (d *Drive) field() []byte   { return d.sense(5, 0x24, 0, -1) }

// Command answers a command.
func (d *Drive) Command(cdb, in, out []byte) (n int, sense []byte) {
	d.mu.Lock()
	defer d.mu.Unlock()
	op := cdb[0]
	if d.attention && op != 0x12 {
		d.attention = false
		return 0, d.sense(6, 0x28, 0, -1)
	}
	switch op {
	case 0x00: // TEST UNIT READY
		if s := d.ready(); s != nil {
			return 0, s
		}
		return 0, d.busy()
	case 0x12: // INQUIRY
		b := make([]byte, 36)
		b[0], b[1], b[3], b[4] = 5, 0x80, 2, 31
		copy(b[8:], "GULLWING")
		copy(b[16:], fmt.Sprintf("%-16.16s", cmp.Or(d.Product, "TRAY 16")))
		copy(b[32:], "1.02")
		return copy(in, b), nil
	case 0x46: // GET CONFIGURATION
		return copy(in, d.configuration(cdb)), nil
	case 0x5A: // MODE SENSE(10)
		return d.mode(cdb, in)
	case 0x55: // MODE SELECT(10)
		return 0, d.modeSelect(out)
	case 0xBB: // SET CD SPEED
		d.speed = min(fastest, int(binary.BigEndian.Uint16(cdb[2:])))
		return 0, d.writeSpeed(int64(binary.BigEndian.Uint16(cdb[4:])))
	case 0xB6: // SET STREAMING
		return 0, d.streaming(out)
	case 0xAC: // GET PERFORMANCE
		return d.performance(cdb, in)
	case 0x1E: // PREVENT ALLOW MEDIUM REMOVAL
		if d.NoLock {
			return 0, d.unknown()
		}
		d.locked = cdb[4]&1 != 0
		return 0, nil
	case 0x1B: // START STOP UNIT
		return 0, d.start(cdb[4])
	case 0x25, 0x28, 0xA8, 0xBE, 0x43, 0x51, 0x52, 0x2A, 0xAA, 0x35, 0x53, 0x54, 0x5B, 0x5C:
		if s := d.ready(); s != nil {
			return 0, s
		}
		return d.ofDisc(cdb, in, out)
	}
	return 0, d.unknown()
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

// configuration is the list of profiles, and the features of burners (MMC-6, 5.3.1, 5.3.15, 5.3.22, 5.3.24).
func (d *Drive) configuration(cdb []byte) []byte {
	b := make([]byte, 8)
	if d.disc != nil && !d.open {
		binary.BigEndian.PutUint16(b[6:], d.disc.Profile)
	}
	add := func(feature uint16, data ...byte) {
		if cdb[1]&3 != 2 || binary.BigEndian.Uint16(cdb[2:]) == feature {
			b = binary.BigEndian.AppendUint16(b, feature)
			b = append(append(b, 3, byte(len(data))), data...)
		}
	}
	var list []byte
	for _, p := range append([]uint16{DVDROM, CDROM}, d.Writes...) {
		list = append(binary.BigEndian.AppendUint16(list, p), 0, 0)
	}
	add(0x00, list...)
	can := byte(0)
	if !d.NoProtection {
		can |= 0x40
	}
	if !d.NoTest {
		can |= 0x04
	}
	if slices.Contains(d.Writes, CDR) {
		add(0x2D, can, 0, 0, 0)
	}
	if slices.Contains(d.Writes, DVDR) {
		add(0x2F, can, 0, 0, 0)
	}
	binary.BigEndian.PutUint32(b, uint32(len(b)-4))
	return b
}

func (d *Drive) mode(cdb, in []byte) (int, []byte) {
	switch cdb[2] & 0x3F {
	case 0x2A: // capabilities (MMC-6, 7.11)
		b := make([]byte, 8+28)
		binary.BigEndian.PutUint16(b, uint16(len(b)-2))
		page := b[8:]
		page[0], page[1] = 0x2A, 26
		binary.BigEndian.PutUint16(page[8:], fastest)
		binary.BigEndian.PutUint16(page[14:], uint16(d.speed))
		return copy(in, b), nil
	case 0x05: // write parameters (MMC-6, 7.5)
		b := make([]byte, 8+52)
		binary.BigEndian.PutUint16(b, uint16(len(b)-2))
		copy(b[8:], d.burner.page())
		return copy(in, b), nil
	}
	return 0, d.field()
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
func (d *Drive) ofDisc(cdb, in, out []byte) (int, []byte) {
	be := binary.BigEndian
	switch cdb[0] {
	case 0x25: // READ CAPACITY(10)
		var b [8]byte
		be.PutUint32(b[:], uint32(max(0, d.disc.end()-1)))
		be.PutUint32(b[4:], Block)
		return copy(in, b[:]), nil
	case 0x43: // READ TOC/PMA/ATIP
		return d.contents(cdb, in)
	case 0x51: // READ DISC INFORMATION
		return copy(in, d.information()), nil
	case 0x52: // READ TRACK INFORMATION
		return d.trackInformation(cdb, in)
	case 0xA8:
		if d.NoRead12 {
			return 0, d.unknown()
		}
		return d.read(int64(be.Uint32(cdb[2:])), int64(be.Uint32(cdb[6:])), in)
	case 0x28:
		return d.read(int64(be.Uint32(cdb[2:])), int64(be.Uint16(cdb[7:])), in)
	case 0xBE:
		return d.readCD(cdb, in)
	}
	return d.burn(cdb, in, out)
}

// contents is the table of contents (MMC-6, 6.25).
func (d *Drive) contents(cdb, in []byte) (int, []byte) {
	tracks := d.disc.Tracks
	if len(tracks) == 0 {
		return 0, d.sense(5, 0x24, 0, -1)
	}
	be := binary.BigEndian
	control := func(t *Track) byte {
		if t.Audio {
			return 0x10
		}
		return 0x14
	}
	b := []byte{0, 0, 1, byte(len(tracks))}
	switch cdb[2] & 0x0F {
	case 0: // tracks and the lead-out
		for i := range tracks {
			b = append(b, 0, control(&tracks[i]), byte(i+1), 0)
			b = be.AppendUint32(b, uint32(tracks[i].Start))
		}
		b = append(b, 0, control(&tracks[len(tracks)-1]), 0xAA, 0)
		b = be.AppendUint32(b, uint32(d.disc.end()))
	case 2: // of all sessions
		if !d.disc.cd() {
			return 0, d.field()
		}
		b[3] = byte(tracks[len(tracks)-1].Session)
		entry := func(session int, control, point byte, m, s, f int64) {
			b = append(b, byte(session), control, 0, point, 0, 0, 0, 0, byte(m), byte(s), byte(f))
		}
		for first := 0; first < len(tracks); {
			last := first
			for last+1 < len(tracks) && tracks[last+1].Session == tracks[first].Session {
				last++
			}
			session := tracks[first].Session
			entry(session, control(&tracks[first]), 0xA0, int64(first+1), 0, 0)
			entry(session, control(&tracks[last]), 0xA1, int64(last+1), 0, 0)
			m, s, f := msf(tracks[last].End)
			entry(session, control(&tracks[last]), 0xA2, m, s, f)
			for i := first; i <= last; i++ {
				m, s, f := msf(tracks[i].Start)
				entry(session, control(&tracks[i]), byte(i+1), m, s, f)
			}
			first = last + 1
		}
	default:
		return 0, d.field()
	}
	be.PutUint16(b, uint16(len(b)-2))
	return copy(in, b), nil
}

// hurt says what a scratch does to a block; Hard where it cannot be read this time.
func (d *Drive) hurt(block int64) (bad, wrong bool) {
	for i := range d.disc.Scratches {
		x := &d.disc.Scratches[i]
		if block < x.First || block >= x.First+x.Count {
			continue
		}
		switch x.Harm {
		case Slow:
			time.Sleep(x.Takes)
		case Hard:
			bad = true
		case Soft, Wrong:
			if d.speed > fastest/4 && d.tries[block] < x.Tries {
				d.tries[block]++
				bad, wrong = bad || x.Harm == Soft, wrong || x.Harm == Wrong
			}
		}
	}
	return bad, wrong
}

// takes waits for as long as so many bytes take.
func (d *Drive) takes(n int64, kilobytes int64) {
	if d.Haste > 0 && kilobytes > 0 {
		time.Sleep(time.Duration(float64(n) / (1000 * float64(kilobytes) * d.Haste) * float64(time.Second)))
	}
}

// read answers READ: what comes before a bad block is sent.
func (d *Drive) read(block, count int64, in []byte) (int, []byte) {
	d.Reads++
	d.takes(count*Block, int64(d.speed))
	n := 0
	for b := block; b < block+count; b++ {
		i, ok := d.disc.track(b)
		switch {
		case b >= d.disc.end():
			return n, d.sense(5, 0x21, 0, -1)
		case !ok:
			return n, d.sense(8, 0, 0, b)
		case d.disc.Tracks[i].Audio:
			return n, d.sense(5, 0x64, 0, -1)
		}
		if bad, wrong := d.hurt(b); bad || wrong {
			return n, d.sense(3, 0x11, 5, b)
		}
		user, err := d.disc.Tracks[i].user(b)
		if err != nil {
			return n, d.sense(4, 0x44, 0, b)
		}
		n += copy(in[n:], user)
	}
	return n, nil
}

// readCD answers READ CD (MMC-6, 6.19) where whole sectors are asked for, with or without the marks of what could not
// be corrected, and sub-channel Q.
func (d *Drive) readCD(cdb, in []byte) (n int, sense []byte) {
	d.Reads++
	block := int64(int32(binary.BigEndian.Uint32(cdb[2:])))
	count := int64(cdb[6])<<16 | int64(cdb[7])<<8 | int64(cdb[8])
	marks, q := cdb[9]&0x06 == 0x02, cdb[10]&7 == 2
	switch {
	case !d.disc.cd():
		return 0, d.sense(5, 0x64, 0, -1)
	case cdb[9]&0xF8 != 0xF8 || cdb[9]&0x07 != 0 && !marks || marks && d.NoMarks || cdb[10]&7 != 0 && !q || q && d.NoQ:
		return 0, d.field()
	}
	d.takes(count*RawSector, int64(d.speed))
	for b := block; b < block+count; b++ {
		i, ok := d.disc.track(b)
		switch {
		case b >= d.disc.end():
			return n, d.sense(5, 0x21, 0, -1)
		case !ok:
			return n, d.sense(5, 0x64, 0, -1)
		}
		bad, wrong := d.hurt(b)
		if bad {
			return n, d.sense(3, 0x11, 5, b)
		}
		t := &d.disc.Tracks[i]
		var raw []byte
		if t.Audio {
			raw = make([]byte, RawSector)
			d.disc.samples(raw, b*RawSector-4*d.Offset)
		} else {
			user, err := t.user(b)
			if err != nil {
				return n, d.sense(4, 0x44, 0, b)
			}
			raw = pressed(b, t.Mode, user)
		}
		at := 0
		if wrong {
			at = rand.IntN(RawSector-16) + 16
			raw[at] ^= byte(1 + rand.IntN(255))
		}
		n += copy(in[n:], raw)
		if marks {
			m := make([]byte, 294)
			if wrong {
				m[at/8] |= 0x80 >> (at % 8)
			}
			n += copy(in[n:], m)
		}
		if q {
			n += copy(in[n:], d.disc.q(i, b))
		}
	}
	return n, nil
}

// q is sub-channel Q of a block as READ CD formats it (MMC-6, 6.19.3.3), with mode 1, the position (ECMA-130, 22.3.3).
func (d *Disc) q(track int, block int64) []byte {
	t := &d.Tracks[track]
	b := make([]byte, 16)
	if b[0] = 0x41; t.Audio {
		b[0] = 0x01
	}
	b[1], b[2] = bcd(int64(track+1)), 1
	from := block - t.Start
	if from < 0 {
		b[2], from = 0, -from
	}
	b[3], b[4], b[5] = bcd(from/(60*second)), bcd(from/second%60), bcd(from%second)
	m, s, f := msf(block)
	b[7], b[8], b[9] = bcd(m), bcd(s), bcd(f)
	binary.BigEndian.PutUint16(b[10:], ^crc16(b[:10]))
	return b
}

// crc16 is that of sub-channel Q: x16 + x12 + x5 + 1, the highest bit first (ECMA-130, 22.3.4).
func crc16(b []byte) (r uint16) {
	for _, x := range b {
		r ^= uint16(x) << 8
		for range 8 {
			high := r & 0x8000
			if r <<= 1; high != 0 {
				r ^= 0x1021
			}
		}
	}
	return r
}
