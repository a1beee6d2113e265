package sectors

import (
	"bytes"
	"encoding/binary"
)

// Synced reports whether a whole sector begins as one of data does (ECMA-130, 14.1).
func Synced(b []byte) bool { return bytes.Equal(b[:len(sync)], sync) }

// Intact reports whether a whole sector of data is as it was pressed, to the last byte: it has the address of a number,
// where 0 is the first of the disc's program area, and its codes for detecting and correcting errors are those of what
// it holds (ECMA-130, clause 14; of mode 2 form 1 and form 2, which has no code for correcting, and need not have any).
func Intact(b []byte, number int64) bool {
	at := number + pregap
	if !Synced(b) || b[12] != decimal(at/75/60) || b[13] != decimal(at/75%60) || b[14] != decimal(at%75) {
		return false
	}
	is := [Raw]byte(b)
	switch {
	case b[15] == 1:
		seal(is[:])
	case b[18]&formTwo != 0:
		code := binary.LittleEndian.Uint32(b[2348:])
		return (code == 0 || code == edc(b[16:2348])) && bytes.Equal(b[16:20], b[20:24])
	default:
		binary.LittleEndian.PutUint32(is[2072:], edc(b[16:2072]))
		clear(is[atHeader:16]) // which the codes of form 1 leave out
		parity(is[atHeader:], 86, 24, 2, 86, is[atP:])
		parity(is[atHeader:], 52, 43, 86, 88, is[atQ:])
		copy(is[atHeader:16], b[atHeader:])
	}
	return bytes.Equal(is[:], b[:Raw])
}

// formTwo is the bit of a subheader that marks sectors of form 2.
const formTwo = 0x20
