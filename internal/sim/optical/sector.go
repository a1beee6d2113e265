package optical

import "encoding/binary"

// RawSector is how many bytes a sector of a compact disc has (ECMA-130, clause 14).
const RawSector = 2352

// second is how many sectors a second of a compact disc has, and lead how many lie before the first block: two seconds
// (ECMA-130, clause 20).
const (
	second = 75
	lead   = 2 * second
)

// bcd writes a number below 100 as two decimal digits.
func bcd(n int64) byte { return byte(n/10<<4 | n%10) }

// msf is an address in minutes, seconds and frames (ECMA-130, clause 14.2).
func msf(sector int64) (m, s, f int64) {
	at := sector + lead
	return at / (60 * second), at / second % 60, at % second
}

// pressed makes a data sector as it is on the disc (ECMA-130, clause 14): sync, header, 2048 bytes of user data, and in
// mode 1 the error detection and correction codes. In mode 2 it is one of form 1.
func pressed(number int64, mode byte, user []byte) []byte {
	b := make([]byte, RawSector)
	for i := 1; i <= 10; i++ {
		b[i] = 0xFF
	}
	m, s, f := msf(number)
	b[12], b[13], b[14], b[15] = bcd(m), bcd(s), bcd(f), mode
	if mode == 1 {
		copy(b[16:2064], user)
		binary.LittleEndian.PutUint32(b[2064:], edc(b[:2064]))
		parity(b)
		return b
	}
	b[18], b[22] = 0x08, 0x08 // subheader, twice: data, form 1
	copy(b[24:2072], user)
	binary.LittleEndian.PutUint32(b[2072:], edc(b[16:2072]))
	head := [4]byte(b[12:16])
	clear(b[12:16]) // the codes of form 1 leave the header out
	parity(b)
	copy(b[12:], head[:])
	return b
}

// edc is the error detection code, bit by bit: the remainder by (x16 + x15 + x2 + 1)(x16 + x2 + x + 1), the lowest bit
// first (ECMA-130, clause 14.3).
func edc(b []byte) uint32 {
	const poly = 0xD8018001 // the product, its bits reversed
	r := uint32(0)
	for _, x := range b {
		r ^= uint32(x)
		for range 8 {
			if r&1 != 0 {
				r = r>>1 ^ poly
			} else {
				r >>= 1
			}
		}
	}
	return r
}

// times multiplies in GF(2^8) with x8 + x4 + x3 + x2 + 1 (ECMA-130, annex A).
func times(a, b byte) (p byte) {
	for ; b != 0; b >>= 1 {
		if b&1 != 0 {
			p ^= a
		}
		high := a & 0x80
		if a <<= 1; high != 0 {
			a ^= 0x1D
		}
	}
	return p
}

// doubled[x] is x times alpha, and third[x] is x divided by (1 + alpha).
var doubled, third = func() (d, t [256]byte) {
	for x := range 256 {
		d[x] = times(byte(x), 2)
		t[times(byte(x), 3)] = byte(x)
	}
	return d, t
}()

// parity fills in the P and Q codes (ECMA-130, annex A): both parity bytes of each vector follow from H * V = 0, where
// the rows of H are ones, and the powers of alpha that fall to 1 at the last byte.
func parity(b []byte) {
	word := func(n, plane int) *byte { return &b[12+2*n+plane] } // word n of the sector without its sync
	solve := func(plane int, at []int) {
		ones, powers := byte(0), byte(0)
		for _, n := range at[:len(at)-2] {
			v := *word(n, plane)
			ones ^= v
			powers = doubled[powers] ^ v
		}
		powers = doubled[doubled[powers]] // two bytes still follow
		first := third[ones^powers]
		*word(at[len(at)-2], plane), *word(at[len(at)-1], plane) = first, ones^first
	}
	at := make([]int, 0, 45)
	for plane := range 2 {
		for column := range 43 {
			at = at[:0]
			for row := range 26 {
				at = append(at, 43*row+column)
			}
			solve(plane, at)
		}
	}
	for plane := range 2 {
		for diagonal := range 26 {
			at = at[:0]
			for step := range 43 {
				at = append(at, (44*step+43*diagonal)%1118)
			}
			solve(plane, append(at, 1118+diagonal, 1118+26+diagonal))
		}
	}
}
