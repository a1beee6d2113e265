package crcs_test

import (
	"hash/crc32"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/format/crcs"
)

func TestSumsOfRunsMakeThatOfTheWhole(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var j crcs.Joiner
		var whole []byte
		for _, b := range rapid.SliceOf(rapid.SliceOf(rapid.Byte())).Draw(rt, "runs") {
			if rapid.Bool().Draw(rt, "zeros") {
				b = make([]byte, len(b))
				j.Add(j.Zeros(int64(len(b))), int64(len(b)))
			} else {
				j.Add(crc32.ChecksumIEEE(b), int64(len(b)))
			}
			whole = append(whole, b...)
		}
		require.Equal(rt, crc32.ChecksumIEEE(whole), j.Sum)
	})
}
