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

// content is bytes whose zeros are known as holes.
type content struct {
	*bytes.Reader
	data   []byte
	closed *int
}

func (c content) Close() error { *c.closed++; return nil }
func (c content) Data(off int64) (start, end int64) {
	for start = off; start < c.Size() && c.data[start] == 0; start++ {
	}
	for end = start; end < c.Size() && c.data[end] != 0; end++ {
	}
	return min(start, c.Size()), end
}

func TestContentsKnowTheirHolesTogether(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var whole []byte
		var all []joined.Content
		closed := 0
		for _, b := range rapid.SliceOf(rapid.SliceOfN(rapid.SampledFrom([]byte{0, 0, 1}), 0, 12)).
			Draw(rt, "contents") {
			whole = append(whole, b...)
			all = append(all, content{bytes.NewReader(b), b, &closed})
		}
		c := joined.Of(all...)
		reported := make([]byte, len(whole)) // 1 where data is reported
		for off := int64(0); off < c.Size(); {
			start, end := c.Data(off)
			require.GreaterOrEqual(rt, start, off)
			if start == c.Size() {
				break
			}
			require.Greater(rt, end, start)
			for i := start; i < end; i++ {
				reported[i] = 1
			}
			off = end
		}
		require.True(rt, bytes.Equal(whole, reported))
		require.NoError(rt, c.Close())
		require.Equal(rt, len(all), closed)
	})
}
