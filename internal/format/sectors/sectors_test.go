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
