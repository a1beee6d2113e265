package exfat

import (
	"encoding/binary"
	"unicode"
)

// upcase is the table that brings letters into upper case, by UTF-16 unit (exFAT specification, 7.2).
type upcase [1 << 16]uint16

// usual is the table that we write: the simple upper case of every letter in the first plane.
func usual() *upcase {
	var u upcase
	for i := range u {
		u[i] = uint16(i)
		if i >= 0xD800 && i < 0xE000 { // halves of letters beyond
			continue
		}
		if up := unicode.ToUpper(rune(i)); up < 1<<16 {
			u[i] = uint16(up)
		}
	}
	return &u
}

// pack writes a table; runs of letters that stay are written as their length.
func (u *upcase) pack() []byte {
	var out []byte
	le := binary.LittleEndian
	for i := 0; i < len(u); {
		n := 0
		for i+n < len(u) && int(u[i+n]) == i+n {
			n++
		}
		if n > 2 && i >= 128 { // the first 128 are written out
			out = le.AppendUint16(le.AppendUint16(out, 0xFFFF), uint16(n))
			i += n
			continue
		}
		out = le.AppendUint16(out, u[i])
		i++
	}
	return out
}

// unpack reads a table. Letters that it does not describe stay.
func unpack(b []byte) *upcase {
	var u upcase
	for i := range u {
		u[i] = uint16(i)
	}
	le := binary.LittleEndian
	for at := 0; len(b) >= 2 && at < len(u); b = b[2:] {
		v := le.Uint16(b)
		if v == 0xFFFF && len(b) >= 4 {
			b = b[2:]
			at += int(le.Uint16(b))
			continue
		}
		u[at] = v
		at++
	}
	return &u
}

// tableChecksum is that of a table as it is written.
func tableChecksum(b []byte) uint32 {
	var sum uint32
	for _, c := range b {
		sum = sum<<31 | sum>>1
		sum += uint32(c)
	}
	return sum
}
