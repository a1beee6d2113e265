package joined_test

import (
	"bytes"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/format/joined"
)

func TestPartsReadAsOne(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var whole []byte
		var parts []joined.Part
		for _, b := range rapid.SliceOf(rapid.SliceOfN(rapid.Byte(), 0, 40)).Draw(rt, "parts") {
			whole = append(whole, b...)
			parts = append(parts, joined.Part{ReaderAt: bytes.NewReader(b), Size: int64(len(b))})
		}
		r := joined.New(parts...)
		require.EqualValues(rt, len(whole), r.Size())
		off := rapid.IntRange(0, len(whole)+3).Draw(rt, "off")
		b := make([]byte, rapid.IntRange(0, 100).Draw(rt, "length"))
		n, err := r.ReadAt(b, int64(off))
		want := whole[min(off, len(whole)):]
		want = want[:min(len(want), len(b))]
		require.True(rt, bytes.Equal(want, b[:n]))
		require.Equal(rt, n < len(b), errors.Is(err, io.EOF))
	})
	_, err := joined.New(joined.Part{ReaderAt: bytes.NewReader([]byte("abc")), Size: 5}).ReadAt(make([]byte, 5), 0)
	require.ErrorIs(t, err, io.ErrUnexpectedEOF, "a part that ends early is no end")
}
