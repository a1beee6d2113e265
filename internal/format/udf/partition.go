package udf

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"polytome/internal/format/fstree"
)

// partitionMap turns blocks of a logical volume into blocks of a partition (3/10.7, UDF 2.2.8
// to 2.2.10).
type partitionMap struct {
	number   uint16
	vat      []uint32         // of a virtual one
	packet   uint32           // of a sparable one: blocks that move together
	moved    map[uint32]int64 // of a sparable one: packet -> sector it is at now
	virtual  bool
	sparable []byte // the map itself, to find its table by
}

// readMap decodes one partition map.
func readMap(b []byte) (m partitionMap, err error) {
	switch {
	case b[0] == 1:
		m.number = binary.LittleEndian.Uint16(b[4:])
	case b[0] == 2 && len(b) == 64:
		m.number = binary.LittleEndian.Uint16(b[38:])
		switch name := strings.TrimRight(string(b[5:28]), "\x00"); name {
		case "*UDF Virtual Partition":
			m.virtual = true
		case "*UDF Sparable Partition":
			m.packet, m.sparable = uint32(binary.LittleEndian.Uint16(b[40:])), b
		default:
			return m, fmt.Errorf("partitions of the kind %q are not supported", fstree.SafeName(name))
		}
	default:
		return m, errors.New("a partition map has an unknown type")
	}
	return m, nil
}

// ready loads the table that a map goes by, if it has one.
func (v *Volume) ready(i int) error {
	m := &v.maps[i]
	if _, ok := v.partition[m.number]; !ok {
		return v.damage(0, "there is no partition %d", m.number)
	}
	switch {
	case m.sparable != nil:
		return v.sparingTable(m)
	case m.virtual:
		return v.vat(i)
	}
	return nil
}

// sparingTable reads the first good table of moved packets (UDF 2.2.12).
func (v *Volume) sparingTable(m *partitionMap) error {
	b := m.sparable
	m.moved = map[uint32]int64{}
	if m.packet == 0 {
		return v.damage(0, "a sparable partition has packets without blocks")
	}
	size := int64(binary.LittleEndian.Uint32(b[44:]))
	if size < 56 || size > maxVATBytes {
		return v.damage(0, "a sparing table has an impossible length")
	}
	for k := range min(int(b[42]), 4) {
		at := int64(binary.LittleEndian.Uint32(b[48+4*k:]))
		t, err := v.read(at, size)
		if err != nil || !strings.HasPrefix(string(t[17:40]), "*UDF Sparing Table") {
			continue
		}
		t = t[56:min(int64(len(t)), 56+8*int64(binary.LittleEndian.Uint16(t[48:])))]
		for ; len(t) >= 8; t = t[8:] {
			if from := binary.LittleEndian.Uint32(t); from < 0xFFFFFFF0 {
				m.moved[from/m.packet] = int64(binary.LittleEndian.Uint32(t[4:]))
			}
		}
		return nil
	}
	return v.damage(0, "no sparing table can be read")
}

// vat reads the virtual allocation table, whose file entry is the last thing that was
// written (UDF 2.2.11).
func (v *Volume) vat(i int) error {
	m := &v.maps[i]
	p := v.partition[m.number]
	last := v.size/v.sector - 1
	for at := last; at >= max(p.start, last-1024); at-- { // run-out sectors may follow it
		b, err := v.read(at, v.block)
		if err != nil {
			return err
		}
		if id, err := tag(b); err != nil || (id != tagFile && id != tagExtended) {
			continue
		}
		// Its addresses count in the partition itself.
		plain := partitionMap{number: m.number}
		keep := v.maps
		v.maps = append([]partitionMap{}, keep...)
		v.maps[i] = plain
		n, err := v.entry(b, at)
		if err == nil && (n.Size > maxVATBytes || of(n).kind != 248 && of(n).kind != 0) {
			err = errors.New("no table")
		}
		var table []byte
		if err == nil {
			table = make([]byte, n.Size)
			_, err = io.ReadFull(io.NewSectionReader(fstree.Extents(v.r, of(n).extents), 0, n.Size), table)
		}
		kind := 0
		if err == nil {
			kind = of(n).kind
		}
		v.maps = keep
		if err != nil {
			continue
		}
		if kind == 248 { // UDF 2.00: a header in front
			if len(table) < 152 || int(binary.LittleEndian.Uint16(table)) > len(table) {
				continue
			}
			table = table[binary.LittleEndian.Uint16(table):]
		} else { // UDF 1.50: an identifier behind
			if len(table) < 36 || !strings.HasPrefix(string(table[len(table)-35:]), "*UDF Virtual Alloc Tbl") {
				continue
			}
			table = table[:len(table)-36]
		}
		for ; len(table) >= 4; table = table[4:] {
			m.vat = append(m.vat, binary.LittleEndian.Uint32(table))
		}
		return nil
	}
	return v.damage(last, "there is no virtual allocation table at the end: the disc was not finished, or the image "+
		"is cut short")
}

// sectorOf finds where a block is in the image.
func (v *Volume) sectorOf(a address) (int64, error) {
	if int(a.partition) >= len(v.maps) {
		return 0, v.damage(0, "there is no partition map %d", a.partition)
	}
	m := &v.maps[a.partition]
	block := int64(a.block)
	if m.virtual && m.vat != nil {
		if block >= int64(len(m.vat)) || m.vat[block] == 1<<32-1 {
			return 0, v.damage(0, "block %d is in no table", block)
		}
		block = int64(m.vat[block])
	}
	if m.moved != nil {
		if to, ok := m.moved[uint32(block)/m.packet]; ok {
			return to + block%int64(m.packet), nil
		}
	}
	p := v.partition[m.number]
	if block >= p.length {
		return 0, v.damage(p.start, "block %d is outside its partition of %d blocks", block, p.length)
	}
	return p.start + block, nil
}
