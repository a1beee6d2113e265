// Package partition reads and writes partition tables: MBR with its extended partitions, and GPT with its
// backup (UEFI Specification 2.10, chapter 5), on disks with sectors of 512 or 4096 bytes.
//
// [Read] takes a table apart, [New] lays one out, [Table.Write] puts it on a disk, and [SetType] changes the type of
// one partition and nothing else. Hidden protective areas, hybrid tables and CHS addresses are not supported:
// addresses are logical ones throughout.
package partition

import (
	"errors"
	"fmt"
	"io"

	"polytome/internal/nearest"
	"polytome/internal/size"
)

// A Scheme is a kind of partition table.
type Scheme string

// The schemes. A disk without a table is one volume from its first sector on.
const (
	MBR  Scheme = "mbr"
	GPT  Scheme = "gpt"
	None Scheme = "none"
)

// Shown is the scheme in words.
func (s Scheme) Shown() string {
	switch s {
	case MBR:
		return "MBR"
	case GPT:
		return "GPT"
	}
	return "no partition table"
}

// SchemeNamed returns the scheme of that name.
func SchemeNamed(name string) (Scheme, error) {
	switch s := Scheme(name); s {
	case MBR, GPT, None:
		return s, nil
	}
	return "", nearest.Unknown("partition table", name, []string{string(MBR), string(GPT), string(None)})
}

// Align is the multiple of bytes at which partitions begin that we make. The blocks in which flash memory
// is erased are no larger, as a rule.
const Align = 4 * size.MiB

// A Table is what is written about the partitions of a disk.
type Table struct {
	Scheme Scheme      `json:"scheme"`
	Sector int64       `json:"sector"` // bytes
	Size   int64       `json:"size"`   // of the disk, in bytes
	ID     string      `json:"id"`     // MBR: eight hexadecimal digits; GPT: the disk's GUID
	Parts  []Partition `json:"partitions"`
	// Problems are what is wrong with the table, in sentences. What could be read is there all the same.
	Problems []string `json:"problems,omitempty"`
}

// A Partition is a run of sectors with a type.
type Partition struct {
	Number  int    `json:"number"` // as systems count: logical partitions of MBR from 5 on
	Start   int64  `json:"start"`  // bytes from the disk's beginning
	Size    int64  `json:"size"`   // bytes
	Type    Type   `json:"type"`
	Name    string `json:"name,omitempty"` // GPT only
	ID      string `json:"id,omitempty"`   // GPT only: its own GUID
	Active  bool   `json:"active,omitempty"`
	Logical bool   `json:"logical,omitempty"` // it lies inside an extended partition
	entry   int64  // byte on the disk where MBR keeps it
}

// End is the first byte behind the partition.
func (p *Partition) End() int64 { return p.Start + p.Size }

// A Type says what a partition is meant for: of MBR two hexadecimal digits such as "0c", of GPT a GUID.
type Type string

// The types that are made here.
const (
	FAT16     Type = "0e"                                   // MBR: FAT16, addressed by sector
	FAT32     Type = "0c"                                   // MBR: FAT32, addressed by sector
	ExFAT     Type = "07"                                   // MBR: exFAT or NTFS
	BasicData Type = "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7" // GPT: any of them
)

var typesShown = map[Type]string{
	"01": "FAT12", "04": "FAT16 up to 32 MiB", "06": "FAT16", "07": "exFAT or NTFS", "0b": "FAT32", "0c": "FAT32",
	"0e": "FAT16",
	"05": "extended", "0f": "extended", "85": "extended", "11": "hidden FAT12", "14": "hidden FAT16",
	"16": "hidden FAT16", "17": "hidden NTFS", "1b": "hidden FAT32", "1c": "hidden FAT32", "1e": "hidden FAT16",
	"82": "swap", "83": "Linux", "8e": "LVM", "fd": "RAID", "ef": "EFI system", "ee": "protective entry of a GPT",
	"af":                                   "HFS+",
	BasicData:                              "basic data",
	"c12a7328-f81f-11d2-ba4b-00a0c93ec93b": "EFI system",
	"0fc63daf-8483-4772-8e79-3d69d8477de4": "Linux",
	"0657fd6d-a4ab-43c4-84e5-0933c84b4f4f": "swap",
	"e6d6d379-f507-44c2-a23c-238f2a3df928": "LVM",
	"a19d880f-05fc-4d3b-a006-743f0f84911e": "RAID",
	"e3c9e316-0b5c-4db8-817d-f92df00215ae": "reserved",
	"de94bba4-06d1-4d40-a16a-bfd50179d6ac": "recovery",
}

// Shown is the type in words.
func (t Type) Shown() string {
	if s, ok := typesShown[t]; ok {
		return s
	}
	return "type " + string(t)
}

// TypeFor is the type of a partition for a filesystem of that name: fat16, fat32 or exfat.
func TypeFor(s Scheme, filesystem string) Type {
	switch {
	case s == GPT:
		return BasicData
	case filesystem == "fat16":
		return FAT16
	case filesystem == "exfat":
		return ExFAT
	}
	return FAT32
}

// ErrNoTable reports that a disk has no partition table.
var ErrNoTable = errors.New("no partition table")

// Read takes the table of a disk of so many bytes apart. A sector size of 0 has it found out. A disk that
// begins with a filesystem, or with nothing known, gives [ErrNoTable].
func Read(r io.ReaderAt, diskSize, sector int64) (*Table, error) {
	sectors := []int64{sector}
	if sector == 0 {
		sectors = []int64{512, 4096}
	}
	first := make([]byte, 512)
	if diskSize < 512 {
		return nil, fmt.Errorf("%w: it has only %d bytes", ErrNoTable, diskSize)
	}
	if _, err := r.ReadAt(first, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("reading the first sector: %w", err)
	}
	protective := first[510] == 0x55 && first[511] == 0xAA && hasType(first, 0xEE)
	for _, s := range sectors {
		if t, err := readGPT(r, diskSize, s, protective); err == nil {
			return t, nil
		} else if !errors.Is(err, ErrNoTable) {
			return nil, err
		}
	}
	if protective {
		t := &Table{Scheme: GPT, Sector: sectors[0], Size: diskSize,
			Problems: []string{"The disk should have a GPT, but neither copy can be read."}}
		return t, nil
	}
	if first[510] != 0x55 || first[511] != 0xAA || volumeBegins(first) {
		return nil, ErrNoTable
	}
	return readMBR(r, first, diskSize, sectors)
}

// volumeBegins reports whether a sector is the beginning of a FAT, exFAT or NTFS volume rather than
// that of a disk: both end in the same two bytes.
func volumeBegins(b []byte) bool {
	if b[0] != 0xEB && b[0] != 0xE9 {
		return false
	}
	if s := string(b[3:11]); s == "EXFAT   " || s == "NTFS    " {
		return true
	}
	bytesPer := int(b[11]) | int(b[12])<<8
	perCluster := b[13]
	return (bytesPer == 512 || bytesPer == 1024 || bytesPer == 2048 || bytesPer == 4096) &&
		perCluster != 0 && perCluster&(perCluster-1) == 0 && (b[16] == 1 || b[16] == 2) &&
		(b[21] == 0xF0 || b[21] >= 0xF8)
}

// Wanted is a partition that [New] lays out.
type Wanted struct {
	Type Type
	Name string // GPT only, at most 36 UTF-16 units
	Size int64  // bytes; 0 for all that is left
}

// New lays out a table for a disk: partitions one behind the other, each beginning at a multiple of [Align], the last
// byte of each before the next one or before the backup of the table.
func New(scheme Scheme, diskSize, sector int64, parts ...Wanted) (*Table, error) {
	if sector != 512 && sector != 4096 {
		return nil, fmt.Errorf("sectors of %d bytes are not supported; 512 and 4096 are", sector)
	}
	t := &Table{Scheme: scheme, Sector: sector, Size: diskSize}
	end := diskSize / sector * sector
	switch scheme {
	case MBR:
		end = min(end, maxMBR*sector)
		if len(parts) > 4 {
			return nil, errors.New("an MBR holds four partitions")
		}
		t.ID = fmt.Sprintf("%08x", random32())
	case GPT:
		end -= sector * (1 + entrySectors(sector))
		t.ID = newGUID()
	default:
		return nil, fmt.Errorf("there is no table to lay out with %s", scheme.Shown())
	}
	at := Align
	for i, w := range parts {
		n := w.Size
		if n == 0 {
			n = (end - at) / size.MiB * size.MiB
		}
		if n < sector || at+n > end {
			return nil, fmt.Errorf("%s has no space for a partition of %s at %s", size.Format(diskSize),
				size.Format(max(n, sector)), size.Format(at))
		}
		p := Partition{Number: i + 1, Start: at, Size: n / sector * sector, Type: w.Type}
		if scheme == GPT {
			p.ID, p.Name = newGUID(), w.Name
		}
		t.Parts = append(t.Parts, p)
		at = (p.End() + Align - 1) / Align * Align
	}
	return t, nil
}

// Find returns the partition of that number, or nil.
func (t *Table) Find(number int) *Partition {
	for i := range t.Parts {
		if t.Parts[i].Number == number {
			return &t.Parts[i]
		}
	}
	return nil
}

// ReaderWriterAt is a disk that can be read and written.
type ReaderWriterAt interface {
	io.ReaderAt
	io.WriterAt
}

// SetType gives one partition of a disk another type, and leaves all else as it is.
func SetType(disk ReaderWriterAt, t *Table, number int, to Type) error {
	p := t.Find(number)
	if p == nil {
		return fmt.Errorf("there is no partition %d", number)
	}
	if p.Type == to {
		return nil
	}
	if t.Scheme == GPT {
		if err := t.patchGPT(disk, number, to); err != nil {
			return err
		}
		p.Type = to
		return nil
	}
	b, err := typeByte(to)
	if err != nil {
		return err
	}
	sector := make([]byte, t.Sector)
	at := p.entry / t.Sector * t.Sector
	if _, err := disk.ReadAt(sector, at); err != nil {
		return fmt.Errorf("reading the partition table: %w", err)
	}
	sector[p.entry-at+4] = b
	if _, err := disk.WriteAt(sector, at); err != nil {
		return fmt.Errorf("writing the partition table: %w", err)
	}
	p.Type = to
	return nil
}

// Write puts the table on the disk, and removes what is left of one of another scheme. What was in the partitions
// stays where it was.
func (t *Table) Write(w io.WriterAt) error {
	if t.Scheme == GPT {
		return t.writeGPT(w)
	}
	return t.writeMBR(w)
}
