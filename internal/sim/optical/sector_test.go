package optical

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestTheCodesSolveTheirMatrices: every P and Q vector of a sector, times the matrix of ECMA-130, annex A, is zero, and
// no longer so when any of its bytes is another one.
func TestTheCodesSolveTheirMatrices(t *testing.T) {
	user := make([]byte, Block)
	_, _ = rand.NewChaCha8([32]byte{5}).Read(user)
	power := [256]byte{1}
	for i := 1; i < 255; i++ {
		power[i] = times(power[i-1], 2)
	}
	// zero multiplies a vector with the matrix: a row of ones, and one of falling powers of alpha
	zero := func(b []byte, plane int, at []int) bool {
		ones, powers := byte(0), byte(0)
		for i, n := range at {
			v := b[12+2*n+plane]
			ones ^= v
			powers ^= times(power[len(at)-1-i], v)
		}
		return ones == 0 && powers == 0
	}
	var vectors [][]int
	for column := range 43 {
		var p []int
		for row := range 26 {
			p = append(p, 43*row+column)
		}
		vectors = append(vectors, p)
	}
	for diagonal := range 26 {
		var q []int
		for step := range 43 {
			q = append(q, (44*step+43*diagonal)%1118)
		}
		vectors = append(vectors, append(q, 1118+diagonal, 1144+diagonal))
	}
	for _, mode := range []byte{1, 2} {
		b := pressed(12_345, mode, user)
		of := func(b []byte) []byte { // as the codes see it
			if mode == 1 {
				return b
			}
			c := append([]byte(nil), b...)
			clear(c[12:16])
			return c
		}
		for plane := range 2 {
			for _, v := range vectors {
				assert.True(t, zero(of(b), plane, v))
			}
		}
		for at := 16; at < RawSector; at += 37 {
			b[at] ^= 0x21
			found := false
			for plane := range 2 {
				for _, v := range vectors {
					found = found || !zero(of(b), plane, v)
				}
			}
			assert.True(t, found, "byte %d", at)
			b[at] ^= 0x21
		}
		assert.Equal(t, []byte{0x02, 0x46, 0x45, mode}, b[12:16], "its address")
	}
}
