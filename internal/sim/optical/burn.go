package optical

import (
	"encoding/binary"
	"io"
	"slices"
	"time"
)

// A Store keeps what is burnt.
type Store interface {
	io.ReaderAt
	io.WriterAt
}

// A Blank is what can be written to on a disc.
type Blank struct {
	Blocks  int64
	Speeds  []int64 // kB/s at which it can be written, the highest first
	To      Store
	Bad     []int64 // blocks at which writing fails
	Turns   []int64 // blocks that read otherwise than they were written
	NoPower bool    // the laser cannot be adjusted to it

	Written  int64 // blocks
	Spoilt   bool
	Reserved int64 // blocks of the track
	closed   bool  // the track is
}

// NewBlank is an empty disc of a kind.
func NewBlank(profile uint16, to Store) *Disc {
	b := &Blank{To: to}
	switch profile {
	case CDR:
		b.Blocks, b.Speeds = 359_845, []int64{8467, 4234, 2822, 1411}
	case DVDPlusRDL:
		b.Blocks, b.Speeds = 4_173_824, []int64{11080, 5540, 3324}
	case DVDPlusR, DVDPlusRW:
		b.Blocks, b.Speeds = 2_295_104, []int64{11080, 8310, 5540, 3324}
	default:
		b.Blocks, b.Speeds = 2_298_496, []int64{11080, 8310, 5540, 2770}
	}
	d := &Disc{Profile: profile, Blank: b}
	if profile == DVDPlusRW {
		d.Tracks = []Track{{Session: 1, Mode: 1, End: b.Blocks, Data: turned{b}}}
	}
	return d
}

// turned is what was burnt as it is read: some of it otherwise.
type turned struct{ *Blank }

func (t turned) ReadAt(b []byte, off int64) (int, error) {
	n, err := t.To.ReadAt(b, off)
	for _, x := range t.Turns {
		if at := x*Block - off; at >= 0 && at < int64(n) {
			b[at] ^= 0x10
		}
	}
	return n, err
}

// burner is what a drive is set to, and does, while it writes.
type burner struct {
	test, protect bool
	kind          byte  // of writing: 0 incremental, 1 track at once, 2 session at once
	speed         int64 // kB/s; 0 for the highest
	tested        int64 // blocks that were written as a test
	level         float64
	laser         bool // it burns
	last          time.Time
	closing       int
}

// page is the mode page of write parameters (MMC-6, 7.5).
func (b *burner) page() []byte {
	p := make([]byte, 52)
	p[0], p[1], p[2], p[3], p[4] = 0x05, 50, b.kind, 4, 8
	if b.test {
		p[2] |= 0x10
	}
	if b.protect {
		p[2] |= 0x40
	}
	return p
}

func (d *Drive) modeSelect(out []byte) []byte {
	if len(out) < 8+16 || out[8]&0x3F != 0x05 || out[11]&0x0F != 4 || out[12]&0x0F != 8 {
		return d.sense(5, 0x26, 0, -1)
	}
	test, protect := out[10]&0x10 != 0, out[10]&0x40 != 0
	if test && d.NoTest || protect && d.NoProtection {
		return d.sense(5, 0x26, 0, -1)
	}
	d.burner.test, d.burner.protect, d.burner.kind, d.burner.tested = test, protect, out[10]&0x0F, 0
	return nil
}

// writeSpeed takes the highest speed that is not above the one that is asked for.
func (d *Drive) writeSpeed(kilobytes int64) []byte {
	if d.disc == nil || d.disc.Blank == nil {
		return nil
	}
	speeds := d.disc.Blank.Speeds
	d.burner.speed = speeds[len(speeds)-1]
	for _, s := range speeds {
		if s <= kilobytes {
			d.burner.speed = s
			break
		}
	}
	return nil
}

// streaming takes a performance descriptor (MMC-6, 6.37).
func (d *Drive) streaming(out []byte) []byte {
	if d.NoStreaming {
		return d.unknown()
	}
	if len(out) < 28 {
		return d.sense(5, 0x1A, 0, -1)
	}
	be := binary.BigEndian
	read, write := be.Uint32(out[12:]), be.Uint32(out[20:])
	if ms := be.Uint32(out[16:]); ms > 0 {
		d.speed = min(fastest, int(uint64(read)*1000/uint64(ms)))
	}
	if ms := be.Uint32(out[24:]); ms > 0 {
		return d.writeSpeed(int64(uint64(write) * 1000 / uint64(ms)))
	}
	return nil
}

// performance answers GET PERFORMANCE for write speeds (MMC-6, 6.7, type 03h).
func (d *Drive) performance(cdb, in []byte) (int, []byte) {
	if d.NoStreaming {
		return 0, d.unknown()
	}
	if cdb[10] != 3 || d.disc == nil || d.disc.Blank == nil {
		return 0, d.field()
	}
	be := binary.BigEndian
	b := make([]byte, 8)
	for _, s := range d.disc.Blank.Speeds {
		x := make([]byte, 16)
		be.PutUint32(x[4:], uint32(d.disc.Blank.Blocks-1))
		be.PutUint32(x[8:], fastest)
		be.PutUint32(x[12:], uint32(s))
		b = append(b, x...)
	}
	be.PutUint32(b, uint32(len(b)-4))
	return copy(in, b), nil
}

// information is what READ DISC INFORMATION answers (MMC-6, 6.21).
func (d *Drive) information() []byte {
	b := make([]byte, 34)
	b[1], b[3], b[4], b[5], b[6] = 32, 1, 1, 1, byte(max(1, len(d.disc.Tracks)))
	if n := len(d.disc.Tracks); n > 0 {
		b[4] = byte(d.disc.Tracks[n-1].Session)
	}
	switch x := d.disc.Blank; {
	case x == nil:
		b[2] = 0x0E
	case d.disc.Profile == DVDPlusRW:
		b[2] = 0x1E
	case x.Spoilt:
		b[2] = 0x0B
	case x.Written > 0:
		b[2] = 0x05
	}
	return b
}

// trackInformation answers READ TRACK INFORMATION (MMC-6, 6.26) by the number of a track.
func (d *Drive) trackInformation(cdb, in []byte) (int, []byte) {
	be := binary.BigEndian
	n := int(be.Uint32(cdb[2:]))
	if cdb[1]&3 != 1 || n < 1 || n > max(1, len(d.disc.Tracks)) && n != 0xFF {
		return 0, d.field()
	}
	b := make([]byte, 36)
	b[1], b[2], b[3], b[5], b[6] = 34, 1, 1, 4, 1
	if x := d.disc.Blank; x != nil {
		if x.Written == 0 {
			b[6] |= 0x40
		}
		b[7] = 1
		be.PutUint32(b[12:], uint32(x.Written))
		be.PutUint32(b[16:], uint32(x.Blocks-x.Written))
		be.PutUint32(b[24:], uint32(x.Blocks))
		return copy(in, b), nil
	}
	t := &d.disc.Tracks[min(n, len(d.disc.Tracks))-1]
	if b[2], b[3] = byte(n), byte(t.Session); t.Audio {
		b[5] = 0
	}
	be.PutUint32(b[8:], uint32(t.Start))
	be.PutUint32(b[24:], uint32(t.End-t.Start))
	return copy(in, b), nil
}

// busy is the sense while a disc is being finished.
func (d *Drive) busy() []byte {
	if d.burner.closing > 0 {
		d.burner.closing--
		return d.sense(2, 0x04, 0x07, -1)
	}
	return nil
}

// burn answers the commands that write.
func (d *Drive) burn(cdb, in, out []byte) (int, []byte) {
	be := binary.BigEndian
	x := d.disc.Blank
	switch {
	case x == nil:
		return 0, d.sense(5, 0x30, 0x10, -1)
	case !slices.Contains(d.Writes, d.disc.Profile), x.Spoilt:
		return 0, d.sense(5, 0x30, 0x05, -1)
	}
	if s := d.busy(); s != nil {
		return 0, s
	}
	switch cdb[0] {
	case 0x54: // SEND OPC INFORMATION
		if x.NoPower {
			return 0, d.sense(3, 0x73, 0x03, -1)
		}
	case 0x53: // RESERVE TRACK
		n := int64(be.Uint32(cdb[5:]))
		if n > x.Blocks {
			return 0, d.sense(5, 0x63, 0, -1)
		}
		x.Reserved = n
	case 0x5C: // READ BUFFER CAPACITY
		b := make([]byte, 12)
		b[1] = 10
		d.drain()
		be.PutUint32(b[4:], uint32(d.buffer()))
		be.PutUint32(b[8:], uint32(float64(d.buffer())-d.burner.level))
		return copy(in, b), nil
	case 0x35: // SYNCHRONIZE CACHE
		d.burner.level, d.burner.laser = 0, false
	case 0x5B: // CLOSE TRACK/SESSION
		return 0, d.close(cdb[2] & 7)
	case 0x2A:
		if d.NoWrite10 {
			return 0, d.unknown()
		}
		return 0, d.write(int64(be.Uint32(cdb[2:])), int64(be.Uint16(cdb[7:])), out)
	case 0xAA:
		return 0, d.write(int64(be.Uint32(cdb[2:])), int64(be.Uint32(cdb[6:])), out)
	}
	return 0, nil
}

func (d *Drive) buffer() int64 {
	if d.Buffer > 0 {
		return d.Buffer
	}
	return 2 << 20
}

// drain burns what had the time to be burnt since the last command. It reports whether there was too little.
func (d *Drive) drain() (dry bool) {
	b := &d.burner
	now := time.Now()
	if d.Now != nil {
		now = d.Now()
	}
	if d.Haste > 0 && b.laser {
		speed := b.speed
		if speed == 0 {
			speed = d.disc.Blank.Speeds[0]
		}
		b.level -= now.Sub(b.last).Seconds() * float64(speed) * 1000 * d.Haste
		if dry = b.level < 0; dry {
			b.level = 0
		}
	}
	b.last = now
	return dry
}

func (d *Drive) write(block, count int64, out []byte) []byte {
	x, b := d.disc.Blank, &d.burner
	next := x.Written
	if b.test {
		next = b.tested
	}
	switch {
	case int64(len(out)) < count*Block:
		return d.sense(5, 0x1A, 0, -1)
	case x.closed:
		return d.sense(5, 0x30, 0x10, -1)
	case block != next && d.disc.Profile != DVDPlusRW:
		return d.sense(5, 0x21, 0x02, -1)
	case block+count > x.Blocks, x.Reserved > 0 && block+count > x.Reserved:
		return d.sense(5, 0x63, 0, -1)
	}
	if d.drain() {
		if d.Stops++; !b.protect && d.disc.Profile != DVDPlusRW {
			x.Spoilt = !b.test
			return d.sense(3, 0x0C, 0x09, block)
		}
		b.laser = false
	}
	if d.Haste > 0 {
		if b.level+float64(count*Block) > float64(d.buffer()) {
			b.laser = true
			return d.sense(2, 0x04, 0x08, -1)
		}
		b.level += float64(count * Block)
		b.laser = b.laser || b.level > float64(d.buffer())/2
	}
	for i := range count {
		if slices.Contains(x.Bad, block+i) {
			x.Spoilt = !b.test && d.disc.Profile != DVDPlusRW
			return d.sense(3, 0x0C, 0, block+i)
		}
	}
	if b.test {
		b.tested = block + count
		return nil
	}
	if _, err := x.To.WriteAt(out[:count*Block], block*Block); err != nil {
		return d.sense(4, 0x44, 0, block)
	}
	x.Written = max(x.Written, block+count)
	return nil
}

// runOut is how many blocks that cannot be read a track of a compact disc has at its end, when it was written at once.
const runOut = 2

// close closes the track, the session or the whole disc.
func (d *Drive) close(function byte) []byte {
	x := d.disc.Blank
	d.burner.closing = d.Closing
	switch {
	case d.burner.test && d.disc.Profile != DVDPlusRW:
		d.burner.tested = 0
		return nil
	case x.Written == 0:
		return d.sense(5, 0x2C, 0, -1)
	case function == 1:
		x.closed = true
		return nil
	case d.disc.Profile == DVDPlusRW:
		return nil
	case function == 2 && d.disc.cd() && !x.closed:
		return d.sense(5, 0x2C, 0, -1)
	case function != 2 && function != 5 && function != 6:
		return d.field()
	}
	end := max(x.Written, x.Reserved)
	if d.disc.cd() && d.burner.kind == 1 {
		d.disc.Scratches = append(d.disc.Scratches, Scratch{First: end, Count: runOut})
		end += runOut
	}
	d.disc.Tracks = []Track{{Session: 1, Mode: 1, End: end, Data: turned{x}}}
	d.disc.Blank = nil
	return nil
}
