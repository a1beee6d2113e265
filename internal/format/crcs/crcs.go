// Package crcs has the sums of 16 bits that formats use, and puts the CRC-32 (IEEE 802.3, 3.2.9) of runs of bytes
// together to that of the whole, without the bytes.
package crcs

import "hash/crc32"

// A Joiner holds the CRC-32 of what was added so far; the zero value is that of nothing. A CRC is a polynomial over two
// elements: putting n bytes behind it multiplies it by x^(8n).
type Joiner struct {
	Sum     uint32
	factors map[int64]uint32
	noughts map[int64]uint32
}

// polynomial is that of CRC-32 (IEEE 802.3, 3.2.9), the bits reversed.
const polynomial = crc32.IEEE

// times multiplies two polynomials, reduced; the highest bit is x^0.
func times(a, b uint32) uint32 {
	var p uint32
	for bit := uint32(1) << 31; bit != 0; bit >>= 1 {
		if a&bit != 0 {
			p ^= b
		}
		if b&1 != 0 {
			b = b>>1 ^ polynomial
		} else {
			b >>= 1
		}
	}
	return p
}

// power is x^(8n).
func power(n int64) uint32 {
	result, base := uint32(1)<<31, uint32(1)<<23 // 1, and x^8
	for ; n > 0; n >>= 1 {
		if n&1 != 0 {
			result = times(result, base)
		}
		base = times(base, base)
	}
	return result
}

// Add puts a block of n bytes with a CRC-32 behind what was before.
func (j *Joiner) Add(sum uint32, n int64) {
	f, ok := j.factors[n]
	if !ok {
		if j.factors == nil {
			j.factors = map[int64]uint32{}
		}
		f = power(n)
		j.factors[n] = f
	}
	j.Sum = times(f, j.Sum) ^ sum
}

// Zeros is the CRC-32 of n zeros, estimated once for each n.
func (j *Joiner) Zeros(n int64) uint32 {
	sum, ok := j.noughts[n]
	if !ok {
		if j.noughts == nil {
			j.noughts = map[int64]uint32{}
		}
		sum = zeroSum(n)
		j.noughts[n] = sum
	}
	return sum
}

// zeroSum is the CRC-32 of n zeros.
func zeroSum(n int64) uint32 { return ^times(power(n), ^uint32(0)) }
