package sectors_test

import (
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/sectors"
)

func TestUserDataOfRawSectors(t *testing.T) {
	var raw, want []byte
	for i := range 5 {
		data := bytes.Repeat([]byte{byte(i + 1)}, sectors.UserData)
		raw = append(raw, make([]byte, 16)...)
		raw = append(raw, data...)
		raw = append(raw, make([]byte, 288)...)
		if i >= 2 {
			want = append(want, data...)
		}
	}
	r := sectors.New(bytes.NewReader(raw), int64(len(raw)), 2352, 16, 2)
	assert.EqualValues(t, len(want), r.Size())
	got, err := io.ReadAll(io.NewSectionReader(r, 0, r.Size()))
	require.NoError(t, err)
	assert.Equal(t, want, got)
	b := make([]byte, 10)
	n, err := r.ReadAt(b, sectors.UserData-5)
	require.NoError(t, err)
	assert.Equal(t, []byte{3, 3, 3, 3, 3, 4, 4, 4, 4, 4}, b[:n], "over the border of two sectors")
	n, err = r.ReadAt(b, r.Size()-4)
	assert.Equal(t, io.EOF, err)
	assert.Equal(t, 4, n)

	cut := sectors.New(bytes.NewReader(raw[:len(raw)-2352-1000]), int64(len(raw)), 2352, 16, 0)
	_, err = cut.ReadAt(make([]byte, 4096), 3*sectors.UserData)
	assert.Error(t, err, "a file that is shorter than it was")
}

func TestRawSectorsAreRecognized(t *testing.T) {
	raw := func(mode, submode byte) []byte {
		b := make([]byte, 20*2352)
		for i := range 20 {
			copy(b[i*2352:], "\x00\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\x00")
			b[i*2352+15], b[i*2352+18] = mode, submode
		}
		return b
	}
	for name, c := range map[string]struct {
		data   []byte
		offset int64 // 0 for none
	}{
		"mode 1": {raw(1, 0), 16}, "mode 2, form 1": {raw(2, 8), 24}, "mode 2, form 2": {raw(2, 0x28), 0},
		"mode 0": {raw(0, 0), 0},
		"plain":  {make([]byte, 100_000), 0}, "short": {raw(1, 0)[:16*2352], 0}, "empty": {nil, 0},
		"sound behind one sector": {append(raw(1, 0)[:2352], make([]byte, 20*2352)...), 0},
	} {
		sector, offset, ok := sectors.Detect(bytes.NewReader(c.data), int64(len(c.data)))
		assert.Equal(t, c.offset != 0, ok, name)
		if ok {
			assert.Equal(t, []int64{2352, c.offset}, []int64{sector, offset}, name)
		}
	}
}
