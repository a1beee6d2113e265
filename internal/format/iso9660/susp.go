package iso9660

import (
	"encoding/binary"
	"io"
)

// maxContinuations bounds the chain of continuation areas of one record, so
// that a volume whose areas point at one another ends.
const maxContinuations = 32

// rockRidge is what the System Use fields of one record say (Rock Ridge
// Interchange Protocol 1.12, on SUSP 1.12).
type rockRidge struct {
	name      string // NM, "" for none
	symlink   bool   // SL
	relocated bool   // RE: seen in its hiding place, to be left out there
	child     uint32 // CL: the block of the directory that this stands for
}

// suspSkip looks for the SP entry (SUSP 5.3) in the root's own record. It
// returns the number of bytes to skip in every other system use field, and
// whether the volume uses the protocol at all.
func suspSkip(systemUse []byte) (int, bool) {
	if len(systemUse) >= 7 && string(systemUse[:2]) == "SP" && systemUse[4] == 0xBE && systemUse[5] == 0xEF {
		return int(systemUse[6]), true
	}
	return 0, false
}

// readRockRidge walks the entries of one system use field, following
// continuation areas (CE).
func readRockRidge(r io.ReaderAt, systemUse []byte, skip int) rockRidge {
	var rr rockRidge
	if skip > len(systemUse) {
		return rr
	}
	area := systemUse[skip:]
	for range maxContinuations {
		var next []byte
		for len(area) >= 4 {
			n := int(area[2])
			if n < 4 || n > len(area) {
				break
			}
			body := area[4:n]
			switch string(area[:2]) {
			case "NM":
				if len(body) > 1 && body[0]&^1 == 0 {
					rr.name += string(body[1:])
				}
			case "SL":
				rr.symlink = true
			case "RE":
				rr.relocated = true
			case "CL":
				if len(body) >= 4 {
					rr.child = binary.LittleEndian.Uint32(body)
				}
			case "CE":
				if len(body) >= 24 {
					next = continuation(r, body)
				}
			case "ST":
				area = area[:n]
			}
			area = area[n:]
		}
		if next == nil {
			break
		}
		area = next
	}
	return rr
}

func continuation(r io.ReaderAt, ce []byte) []byte {
	block := int64(binary.LittleEndian.Uint32(ce))
	offset := int64(binary.LittleEndian.Uint32(ce[8:]))
	length := binary.LittleEndian.Uint32(ce[16:])
	if length == 0 || length > SectorSize || offset >= SectorSize {
		return nil
	}
	b := make([]byte, length)
	if _, err := r.ReadAt(b, block*SectorSize+offset); err != nil {
		return nil
	}
	return b
}
