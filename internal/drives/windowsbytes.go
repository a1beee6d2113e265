package drives

import (
	"encoding/binary"
	"fmt"
	"strings"
)

// Windows answers its IOCTLs with structures, as winioctl.h and ntddstor.h lay them out. They are taken apart here, for
// any system; what does not fit is left out.

var le = binary.LittleEndian

// text is the string of single bytes that begins at an offset of a structure, "" for offset 0 or one behind it.
func text(b []byte, at uint32) string {
	if at == 0 || int64(at) >= int64(len(b)) {
		return ""
	}
	s, _, _ := strings.Cut(string(b[at:]), "\x00")
	return strings.TrimSpace(s)
}

// descriptor takes a STORAGE_DEVICE_DESCRIPTOR in.
func (x *diskAnswer) descriptor(b []byte) {
	if len(b) < 32 {
		return
	}
	x.Removable = b[10] != 0
	x.Vendor, x.Product, x.Serial = text(b, le.Uint32(b[12:])), text(b, le.Uint32(b[16:])), text(b, le.Uint32(b[24:]))
	x.Bus = int(le.Uint32(b[28:]))
}

// geometry takes a DISK_GEOMETRY_EX in.
func (x *diskAnswer) geometry(b []byte) {
	if len(b) < 32 {
		return
	}
	x.Sector, x.Size = int64(le.Uint32(b[20:])), int64(le.Uint64(b[24:]))
}

// Partition styles, and where entries of a layout stand.
const (
	styleMBR, styleGPT = 0, 1
	firstEntry         = 48
	entryBytes         = 144
)

// layout takes a DRIVE_LAYOUT_INFORMATION_EX in.
func (x *diskAnswer) layout(b []byte) {
	if len(b) < firstEntry {
		return
	}
	style := le.Uint32(b)
	x.GPT = style == styleGPT
	if style != styleMBR && style != styleGPT {
		return
	}
	for n := range le.Uint32(b[4:]) {
		at := firstEntry + int64(n)*entryBytes
		if at+entryBytes > int64(len(b)) {
			return
		}
		e := b[at : at+entryBytes]
		p := partitionAnswer{
			Number: int(le.Uint32(e[24:])),
			Start:  int64(le.Uint64(e[8:])),
			Size:   int64(le.Uint64(e[16:])),
			Type:   fmt.Sprintf("%02x", e[32]),
		}
		if x.GPT {
			p.Type = guid(e[32:48])
		}
		if p.Size > 0 && p.Number > 0 { // empty places of the table are listed, too
			x.Partitions = append(x.Partitions, p)
		}
	}
}

// guid writes a GUID as Windows does.
func guid(b []byte) string {
	return fmt.Sprintf("{%08x-%04x-%04x-%x-%x}", le.Uint32(b), le.Uint16(b[4:]), le.Uint16(b[6:]), b[8:10], b[10:16])
}

// extents takes a VOLUME_DISK_EXTENTS in.
func (v *volumeAnswer) extents(b []byte) {
	if len(b) < 8 {
		return
	}
	for n := range le.Uint32(b) {
		at := 8 + int64(n)*24
		if at+24 > int64(len(b)) {
			return
		}
		e := b[at:]
		v.Extents = append(
			v.Extents,
			extentAnswer{int(le.Uint32(e)), int64(le.Uint64(e[8:])), int64(le.Uint64(e[16:]))},
		)
	}
}
