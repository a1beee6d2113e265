package reading

import (
	"errors"
	"fmt"
	"hash/crc32"
	"strconv"

	"polytome/internal/core/loader"
	"polytome/internal/format/crcs"
	"polytome/internal/size"
)

// Wrong says what is wrong where a value in the file is not what its bytes come to; "" where it is right.
func (s *Source) Wrong(h *loader.HeaderCheck) string {
	stands, err := s.at(h.At, h.Width())
	var over []byte
	if err == nil && h.Is != "length" {
		over, err = s.at(h.From, h.To-h.From)
	}
	switch {
	case errors.Is(err, errShort):
		return "the file ends within its header"
	case err != nil:
		return fmt.Sprintf("its header cannot be read: %v", err)
	}
	as := "number-le"
	if h.Order == "big" {
		as = "number-be"
	}
	want, err := strconv.ParseUint(Decode(stands, as), 10, 64)
	if err != nil {
		return "its header cannot be read"
	}
	if h.Is == "length" {
		unit := max(1, uint64(h.Unit))
		if is := (uint64(s.Size) + unit - 1) / unit; is != want {
			say := fmt.Sprintf("its header says that it has %s, but the file has %s bytes", count(want, unit),
				size.Exact(s.Size))
			if is < want {
				return say + ": it is cut short"
			}
			return say
		}
		return ""
	}
	if is := Sum(h.Is, over); is != want {
		return fmt.Sprintf("its header is damaged: its checksum is %0*X instead of %0*X", 2*h.Width(), is, 2*h.Width(),
			want)
	}
	return ""
}

func count(n, unit uint64) string {
	if unit == 1 {
		return size.Exact(int64(n)) + " bytes"
	}
	return fmt.Sprintf("%d times %s bytes", n, size.Exact(int64(unit)))
}

// Sum is what bytes come to, by the name of a sum in [loader.HeaderCheck].
func Sum(is string, over []byte) uint64 {
	var n uint64
	switch is {
	case "xor8":
		for _, b := range over {
			n ^= uint64(b)
		}
	case "crc16":
		return uint64(crcs.ARC(0, over))
	case "crc16-ccitt":
		return uint64(crcs.CCITT(0, over))
	case "crc32":
		return uint64(crc32.ChecksumIEEE(over))
	default:
		for _, b := range over {
			n += uint64(b)
		}
		if n &= 0xFFFF; is == "sum8" {
			n &= 0xFF
		}
	}
	return n
}
