package sums

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"hash/crc32"
	"strings"
)

// A Hasher makes several checksums of one file in one reading.
type Hasher struct {
	crc   uint32
	noCRC bool
	all   []hash.Hash
	names []Algorithm
}

// NewHasher makes the given checksums.
func NewHasher(want ...Algorithm) *Hasher {
	h := &Hasher{noCRC: true}
	for _, a := range want {
		switch a {
		case CRC32:
			h.noCRC = false
			continue
		case MD5:
			h.all = append(h.all, md5.New())
		case SHA1:
			h.all = append(h.all, sha1.New())
		case SHA256:
			h.all = append(h.all, sha256.New())
		}
		h.names = append(h.names, a)
	}
	return h
}

// Write takes the next bytes; it never fails.
func (h *Hasher) Write(b []byte) (int, error) {
	if !h.noCRC {
		h.crc = crc32.Update(h.crc, crc32.IEEETable, b)
	}
	for _, x := range h.all {
		_, _ = x.Write(b)
	}
	return len(b), nil
}

// Zeros adds n bytes of zeros. For a CRC alone, that costs next to nothing.
func (h *Hasher) Zeros(n int64) {
	if !h.noCRC {
		h.crc = crcZeros(h.crc, n)
	}
	if len(h.all) == 0 {
		return
	}
	for b := zeroBlock[:]; n > 0; n -= int64(len(b)) {
		b = b[:min(int64(len(b)), n)]
		for _, x := range h.all {
			_, _ = x.Write(b)
		}
	}
}

var zeroBlock [64 << 10]byte

// Has reports whether a checksum of one of the algorithms, in hexadecimal digits, is that of what was written.
func (h *Hasher) Has(sum string) bool {
	a := Of(sum)
	if a == CRC32 && !h.noCRC {
		return strings.EqualFold(sum, fmt.Sprintf("%08x", h.crc))
	}
	for i, x := range h.all {
		if h.names[i] == a {
			return strings.EqualFold(sum, hex.EncodeToString(x.Sum(nil)))
		}
	}
	return false
}

// String tells the sums as they are kept.
func (h *Hasher) String() string {
	var out []string
	if !h.noCRC {
		out = append(out, fmt.Sprintf("%s:%08x", CRC32, h.crc))
	}
	for i, x := range h.all {
		out = append(out, string(h.names[i])+":"+hex.EncodeToString(x.Sum(nil)))
	}
	return strings.Join(out, " ")
}

// crcZeros is the CRC-32 after n more bytes of zeros. A zero byte changes the register by a
// linear map over GF(2); its n-th power is found by squaring.
func crcZeros(crc uint32, n int64) uint32 {
	state := ^crc // the register itself, as the sum is reported inverted
	m := zeroByte
	for ; n > 0; n >>= 1 {
		if n&1 != 0 {
			state = m.times(state)
		}
		m = m.squared()
	}
	return ^state
}

// matrix is a linear map of 32 bits: what becomes of each.
type matrix [32]uint32

func (m *matrix) times(v uint32) (out uint32) {
	for i := 0; v != 0; i, v = i+1, v>>1 {
		if v&1 != 0 {
			out ^= m[i]
		}
	}
	return out
}

func (m *matrix) squared() (out matrix) {
	for i := range m {
		out[i] = m.times(m[i])
	}
	return out
}

// zeroByte is what one byte of zeros does to the register.
var zeroByte = func() (m matrix) {
	for i := range m {
		v := uint32(1) << i
		m[i] = crc32.IEEETable[byte(v)] ^ v>>8
	}
	return m
}()
