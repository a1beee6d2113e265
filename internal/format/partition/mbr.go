package partition

import (
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"io"
	"strconv"

	"polytome/internal/size"
)

// Offsets in an MBR: the disk's signature of four bytes, and four entries of 16 bytes.
const (
	mbrSignature = 0x1B8
	mbrEntries   = 0x1BE
	mbrEntry     = 16
)

// maxMBR is how many sectors an MBR can count.
const maxMBR = 1<<32 - 1

// maxLogical is how many logical partitions are followed: a chain that is longer goes in a circle.
const maxLogical = 128

func hasType(sector []byte, kind byte) bool {
	for i := range 4 {
		if sector[mbrEntries+i*mbrEntry+4] == kind {
			return true
		}
	}
	return false
}

func extended(kind byte) bool { return kind == 0x05 || kind == 0x0F || kind == 0x85 }

// entryAt takes one entry apart: where it begins and how long it is, in sectors.
func entryAt(sector []byte, i int) (active bool, kind byte, start, count int64, sane bool) {
	e := sector[mbrEntries+i*mbrEntry:]
	return e[0] == 0x80, e[4], int64(binary.LittleEndian.Uint32(e[8:])), int64(binary.LittleEndian.Uint32(e[12:])),
		e[0]&0x7F == 0
}

func typeOf(b byte) Type { return Type(fmt.Sprintf("%02x", b)) }

func typeByte(t Type) (byte, error) {
	n, err := strconv.ParseUint(string(t), 16, 8)
	if err != nil || len(t) != 2 {
		return 0, fmt.Errorf("%q is not an MBR partition type", t)
	}
	return byte(n), nil
}

// readMBR reads an MBR. Its addresses count sectors, whose size it does not tell: where it is not known, the first
// one counts with which every partition is on the disk.
func readMBR(r io.ReaderAt, first []byte, diskSize int64, sectors []int64) (*Table, error) {
	var best *Table
	for _, s := range sectors {
		t, err := mbrWith(r, first, diskSize, s)
		if err != nil {
			return nil, err
		}
		if best == nil || len(t.Problems) < len(best.Problems) {
			best = t
		}
	}
	if len(best.Parts) == 0 && len(best.Problems) > 0 {
		return nil, ErrNoTable // only a boot program, which ends like a table
	}
	return best, nil
}

func mbrWith(r io.ReaderAt, first []byte, diskSize, sector int64) (*Table, error) {
	t := &Table{Scheme: MBR, Sector: sector, Size: diskSize, ID: fmt.Sprintf("%08x",
		binary.LittleEndian.Uint32(first[mbrSignature:]))}
	problem := func(format string, args ...any) { t.Problems = append(t.Problems, fmt.Sprintf(format, args...)) }
	var inside []int // entries that are extended partitions
	for i := range 4 {
		active, kind, start, count, sane := entryAt(first, i)
		switch {
		case kind == 0 || count == 0:
			continue
		case !sane:
			problem("Entry %d of the table is invalid.", i+1)
			continue
		case extended(kind):
			inside = append(inside, i)
			continue
		}
		p := Partition{Number: i + 1, Start: start * sector, Size: count * sector, Type: typeOf(kind), Active: active,
			entry: int64(mbrEntries + i*mbrEntry)}
		if start == 0 || p.End() > diskSize {
			problem("Partition %d reaches to %s, and the disk ends at %s.", i+1, size.Format(p.End()),
				size.Format(diskSize))
			if start == 0 || p.Start >= diskSize {
				continue
			}
		}
		t.Parts = append(t.Parts, p)
	}
	number := 5
	for _, i := range inside {
		_, _, base, count, _ := entryAt(first, i)
		if (base+count)*sector > diskSize {
			problem("The extended partition reaches beyond the disk's end.")
		}
		at := base
		seen := map[int64]bool{}
		for at != 0 {
			if seen[at] || len(seen) >= maxLogical {
				problem("The chain of logical partitions is a loop.")
				break
			}
			seen[at] = true
			b := make([]byte, 512)
			if _, err := r.ReadAt(b, at*sector); err != nil || b[510] != 0x55 || b[511] != 0xAA {
				problem("The chain of logical partitions is interrupted at sector %d.", at)
				break
			}
			next := int64(0)
			for k := range 4 {
				active, kind, start, count, sane := entryAt(b, k)
				switch {
				case kind == 0 || count == 0 || !sane:
				case extended(kind):
					next = base + start
				default:
					p := Partition{Number: number, Start: (at + start) * sector, Size: count * sector,
						Type: typeOf(kind), Active: active, Logical: true,
						entry: at*sector + int64(mbrEntries+k*mbrEntry)}
					number++
					if p.End() > diskSize {
						problem("Partition %d reaches beyond the disk's end.", p.Number)
						if p.Start >= diskSize {
							continue
						}
					}
					t.Parts = append(t.Parts, p)
				}
			}
			at = next
		}
	}
	for i := range t.Parts {
		for k := range i {
			if a, b := &t.Parts[k], &t.Parts[i]; a.Start < b.End() && b.Start < a.End() {
				problem("Partitions %d and %d overlap.", a.Number, b.Number)
			}
		}
	}
	return t, nil
}

// writeMBR writes the first sector, and clears those where a GPT would stand, at both ends.
func (t *Table) writeMBR(w io.WriterAt) error {
	b := make([]byte, t.Sector)
	id, err := strconv.ParseUint(t.ID, 16, 32)
	if err != nil {
		return fmt.Errorf("%q is not an MBR signature", t.ID)
	}
	binary.LittleEndian.PutUint32(b[mbrSignature:], uint32(id))
	for i := range t.Parts {
		p := &t.Parts[i]
		if p.Number < 1 || p.Number > 4 || p.End()/t.Sector > maxMBR {
			return fmt.Errorf("partition %d cannot be written into an MBR: it holds four, up to %s", p.Number,
				size.Format(maxMBR*t.Sector))
		}
		kind, err := typeByte(p.Type)
		if err != nil {
			return err
		}
		p.entry = int64(mbrEntries + (p.Number-1)*mbrEntry)
		putEntry(b[p.entry:], p.Active, kind, p.Start/t.Sector, p.Size/t.Sector)
	}
	b[510], b[511] = 0x55, 0xAA
	if err := t.clearGPT(w); err != nil {
		return err
	}
	if _, err := w.WriteAt(b, 0); err != nil {
		return fmt.Errorf("writing the partition table: %w", err)
	}
	return nil
}

// putEntry writes an entry. The addresses by cylinder, which nothing reads any longer, say that they do not apply.
func putEntry(e []byte, active bool, kind byte, start, count int64) {
	if active {
		e[0] = 0x80
	}
	copy(e[1:], []byte{0xFE, 0xFF, 0xFF})
	e[4] = kind
	copy(e[5:], []byte{0xFE, 0xFF, 0xFF})
	binary.LittleEndian.PutUint32(e[8:], uint32(start))
	binary.LittleEndian.PutUint32(e[12:], uint32(count))
}

func random32() uint32 {
	var b [4]byte
	_, _ = rand.Read(b[:])
	return binary.LittleEndian.Uint32(b[:]) | 1
}
