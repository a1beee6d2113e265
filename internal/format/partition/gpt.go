package partition

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"unicode/utf16"

	"polytome/internal/size"
)

// The sizes of a GPT (UEFI Specification 2.10, 5.3.2 and 5.3.3).
const (
	gptHeader    = 92
	gptEntry     = 128
	gptEntries   = 128
	gptNameUnits = 36
	// maxEntries is how many entries are read at most: a header that describes more lies.
	maxEntries = 4096
)

var gptMagic = []byte("EFI PART")

// entrySectors is how many sectors the entries take.
func entrySectors(sector int64) int64 { return (gptEntries*gptEntry + sector - 1) / sector }

// readGPT reads the table from its first copy, else from its backup.
func readGPT(r io.ReaderAt, diskSize, sector int64, protective bool) (*Table, error) {
	last := diskSize/sector - 1
	if last < 2 {
		return nil, ErrNoTable
	}
	t, backupAt, err := gptAt(r, diskSize, sector, 1)
	if err == nil {
		if backupAt != last {
			t.Problems = append(t.Problems,
				"The backup of the table is not at the end of the disk: the disk was copied from one of another size.")
		}
		if _, _, err := gptAt(r, diskSize, sector, backupAt); err != nil {
			t.Problems = append(t.Problems, fmt.Sprintf("The backup of the table cannot be used: %v.", err))
		}
		if !protective {
			t.Problems = append(t.Problems, "The first sector does not say that there is a GPT.")
		}
		return t, nil
	}
	first := err
	// A backup without a protective entry is what is left of an older table.
	if t, _, err := gptAt(r, diskSize, sector, last); err == nil && protective {
		t.Problems = append(t.Problems, fmt.Sprintf("The table cannot be used: %v. Its backup is used.", first))
		return t, nil
	}
	return nil, ErrNoTable
}

// gptAt reads the copy of the table whose header is at a sector.
func gptAt(r io.ReaderAt, diskSize, sector, at int64) (t *Table, other int64, err error) {
	if at < 1 || at > diskSize/sector-1 {
		return nil, 0, errors.New("it is beyond the end of the disk")
	}
	h := make([]byte, sector)
	if _, err := r.ReadAt(h, at*sector); err != nil && !errors.Is(err, io.EOF) {
		return nil, 0, err
	}
	if !bytes.Equal(h[:8], gptMagic) {
		return nil, 0, errors.New("its start is wrong")
	}
	le := binary.LittleEndian
	length := le.Uint32(h[12:])
	if length < gptHeader || int64(length) > sector {
		return nil, 0, fmt.Errorf("its header has %d bytes", length)
	}
	want := le.Uint32(h[16:])
	sum := bytes.Clone(h[:length])
	clear(sum[16:20])
	if crc32.ChecksumIEEE(sum) != want {
		return nil, 0, errors.New("the checksum of its header is wrong")
	}
	if int64(le.Uint64(h[24:])) != at {
		return nil, 0, errors.New("it has the wrong position")
	}
	count, each := int64(le.Uint32(h[80:])), int64(le.Uint32(h[84:]))
	entriesAt := int64(le.Uint64(h[72:]))
	if count > maxEntries || each < gptEntry || each > 4096 || entriesAt < 2 || entriesAt >= diskSize/sector ||
		entriesAt*sector+count*each > diskSize {
		return nil, 0, fmt.Errorf("it has %d entries of %d bytes at sector %d", count, each, entriesAt)
	}
	entries := make([]byte, count*each)
	if _, err := r.ReadAt(entries, entriesAt*sector); err != nil && !errors.Is(err, io.EOF) {
		return nil, 0, err
	}
	if crc32.ChecksumIEEE(entries) != le.Uint32(h[88:]) {
		return nil, 0, errors.New("the checksum of its entries is wrong")
	}
	t = &Table{Scheme: GPT, Sector: sector, Size: diskSize, ID: guidText(h[56:72])}
	for i := range count {
		e := entries[i*each:]
		if allZero(e[:16]) {
			continue
		}
		start, end := int64(le.Uint64(e[32:])), int64(le.Uint64(e[40:]))
		if start < 1 || end < start || end >= diskSize/sector {
			t.Problems = append(t.Problems, fmt.Sprintf("Partition %d reaches beyond the disk's end.", i+1))
			if start < 1 || start >= diskSize/sector || end < start {
				continue
			}
			end = diskSize/sector - 1
		}
		units := make([]uint16, 0, gptNameUnits)
		for k := range gptNameUnits {
			u := le.Uint16(e[56+2*k:])
			if u == 0 {
				break
			}
			units = append(units, u)
		}
		t.Parts = append(t.Parts, Partition{Number: int(i) + 1, Start: start * sector, Size: (end - start + 1) * sector,
			Type: Type(guidText(e[:16])),
			ID:   guidText(e[16:32]), Name: string(utf16.Decode(units)), Active: e[48]&4 != 0})
	}
	return t, int64(le.Uint64(h[32:])), nil
}

func allZero(b []byte) bool { return len(bytes.Trim(b, "\x00")) == 0 }

// writeGPT writes the backup, then the table, then the entry that protects it.
func (t *Table) writeGPT(w io.WriterAt) error {
	le := binary.LittleEndian
	entries := make([]byte, entrySectors(t.Sector)*t.Sector)
	for i := range t.Parts {
		p := &t.Parts[i]
		if p.Number < 1 || p.Number > gptEntries {
			return fmt.Errorf("a GPT made here holds %d partitions; this is number %d", gptEntries, p.Number)
		}
		e := entries[(p.Number-1)*gptEntry:]
		if err := putGUID(e, string(p.Type)); err != nil {
			return err
		}
		if err := putGUID(e[16:], p.ID); err != nil {
			return err
		}
		le.PutUint64(e[32:], uint64(p.Start/t.Sector))
		le.PutUint64(e[40:], uint64(p.End()/t.Sector-1))
		if p.Active {
			e[48] |= 4
		}
		units := utf16.Encode([]rune(p.Name))
		for k, u := range units[:min(len(units), gptNameUnits)] {
			le.PutUint16(e[56+2*k:], u)
		}
	}
	last := t.Size/t.Sector - 1
	n := entrySectors(t.Sector)
	header := func(at, other, entriesAt int64) ([]byte, error) {
		h := make([]byte, t.Sector)
		copy(h, gptMagic)
		le.PutUint32(h[8:], 0x00010000)
		le.PutUint32(h[12:], gptHeader)
		le.PutUint64(h[24:], uint64(at))
		le.PutUint64(h[32:], uint64(other))
		le.PutUint64(h[40:], uint64(2+n))
		le.PutUint64(h[48:], uint64(last-n-1))
		if err := putGUID(h[56:], t.ID); err != nil {
			return nil, err
		}
		le.PutUint64(h[72:], uint64(entriesAt))
		le.PutUint32(h[80:], gptEntries)
		le.PutUint32(h[84:], gptEntry)
		le.PutUint32(h[88:], crc32.ChecksumIEEE(entries[:gptEntries*gptEntry]))
		le.PutUint32(h[16:], crc32.ChecksumIEEE(h[:gptHeader]))
		return h, nil
	}
	main, err := header(1, last, 2)
	if err != nil {
		return err
	}
	backup, err := header(last, 1, last-n)
	if err != nil {
		return err
	}
	protect := make([]byte, t.Sector)
	putEntry(protect[mbrEntries:], false, 0xEE, 1, min(last, maxMBR))
	copy(protect[mbrEntries+1:], []byte{0x00, 0x02, 0x00})
	protect[510], protect[511] = 0x55, 0xAA
	for _, part := range []struct {
		at   int64
		data []byte
	}{{last - n, entries}, {last, backup}, {2, entries}, {1, main}, {0, protect}} {
		if _, err := w.WriteAt(part.data, part.at*t.Sector); err != nil {
			return fmt.Errorf("writing the partition table: %w", err)
		}
	}
	return nil
}

// patchGPT gives one entry another type in both copies, the backup first, and leaves everything else in them.
func (t *Table) patchGPT(disk ReaderWriterAt, number int, to Type) error {
	le := binary.LittleEndian
	done := 0
	for _, at := range []int64{t.Size/t.Sector - 1, 1} {
		if _, _, err := gptAt(disk, t.Size, t.Sector, at); err != nil {
			continue // a copy that cannot be used is left alone
		}
		h := make([]byte, t.Sector)
		if _, err := disk.ReadAt(h, at*t.Sector); err != nil {
			return fmt.Errorf("reading the partition table: %w", err)
		}
		count, each := int64(le.Uint32(h[80:])), int64(le.Uint32(h[84:]))
		if int64(number) > count {
			return fmt.Errorf("there is no partition %d", number)
		}
		whole := (count*each + t.Sector - 1) / t.Sector * t.Sector
		entries := make([]byte, whole)
		from := int64(le.Uint64(h[72:])) * t.Sector
		if _, err := disk.ReadAt(entries, from); err != nil {
			return fmt.Errorf("reading the partition table: %w", err)
		}
		if err := putGUID(entries[int64(number-1)*each:], string(to)); err != nil {
			return err
		}
		le.PutUint32(h[88:], crc32.ChecksumIEEE(entries[:count*each]))
		clear(h[16:20])
		le.PutUint32(h[16:], crc32.ChecksumIEEE(h[:le.Uint32(h[12:])]))
		for _, part := range []struct {
			at   int64
			data []byte
		}{{from, entries}, {at * t.Sector, h}} {
			if _, err := disk.WriteAt(part.data, part.at); err != nil {
				return fmt.Errorf("writing the partition table: %w", err)
			}
		}
		done++
	}
	if done == 0 {
		return errors.New("neither copy of the partition table can be used")
	}
	return nil
}

// clearGPT removes the headers of a GPT and its backup, for both sizes of sectors.
func (t *Table) clearGPT(w io.WriterAt) error {
	return Wipe(w, t.Size, 512)
}

// Wipe removes what describes a table, from the sector from on: both headers of a GPT with either size of
// sectors, and, from 0 on, the MBR.
func Wipe(w io.WriterAt, diskSize, from int64) error {
	const head, tail = 8192, 8192 // headers lie at byte 512 or 4096, and in the last sector
	if diskSize < Align {
		return fmt.Errorf("a disk of %s is too small for a partition table", size.Format(diskSize))
	}
	for _, part := range []struct{ at, n int64 }{{from, head - from}, {diskSize/512*512 - tail, tail}} {
		if _, err := w.WriteAt(make([]byte, part.n), part.at); err != nil {
			return fmt.Errorf("clearing the old partition table: %w", err)
		}
	}
	return nil
}

// GUIDs are kept with their first three groups turned round (UEFI Specification 2.10, appendix A).
func guidText(b []byte) string {
	le := binary.LittleEndian
	return fmt.Sprintf("%08x-%04x-%04x-%04x-%012x", le.Uint32(b), le.Uint16(b[4:]), le.Uint16(b[6:]), b[8:10], b[10:16])
}

func putGUID(b []byte, text string) error {
	var a uint32
	var c, d, e uint16
	var f uint64
	if n, err := fmt.Sscanf(text, "%08x-%04x-%04x-%04x-%012x", &a, &c, &d, &e, &f); err != nil || n != 5 ||
		len(text) != 36 {
		return fmt.Errorf("%q is not a GUID", text)
	}
	binary.LittleEndian.PutUint32(b, a)
	binary.LittleEndian.PutUint16(b[4:], c)
	binary.LittleEndian.PutUint16(b[6:], d)
	binary.BigEndian.PutUint16(b[8:], e)
	var tail [8]byte
	binary.BigEndian.PutUint64(tail[:], f)
	copy(b[10:16], tail[2:])
	return nil
}

// newGUID makes a random GUID (RFC 9562, version 4).
func newGUID() string {
	var b [16]byte
	_, _ = rand.Read(b[:])
	b[7] = b[7]&0x0F | 0x40
	b[8] = b[8]&0x3F | 0x80
	return guidText(b[:])
}
