package size_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/size"
)

func TestFormat(t *testing.T) {
	for n, want := range map[int64]string{
		0: "0 bytes", 1: "1 byte", 1023: "1023 bytes", 1024: "1.00 KiB", 737_280_000: "703.12 MiB",
		1<<32 - 1: "4.00 GiB", 58 * size.GiB: "58.00 GiB", 2 * size.TiB: "2.00 TiB", -1536: "-1.50 KiB",
	} {
		assert.Equal(t, want, size.Format(n))
	}
	assert.Equal(t, "0.04 KiB", size.Column(45))
	assert.Equal(t, "4,294,967,295", size.Exact(1<<32-1))
}

func TestParse(t *testing.T) {
	for s, want := range map[string]int64{"58GiB": 58 * size.GiB, "4.5 GiB": 9 * size.GiB / 2, "700MB": 700_000_000,
		"512": 512} {
		n, err := size.Parse(s)
		require.NoError(t, err)
		assert.Equal(t, want, n, s)
	}
	for _, s := range []string{"", "big", "-5GiB", "99999999999999999999GiB", "12 parsecs"} {
		_, err := size.Parse(s)
		assert.ErrorContains(t, err, "is not a size", s)
	}
}

func TestCount(t *testing.T) {
	assert.Equal(t, "1 title", size.Count(1, "title"))
	assert.Equal(t, "0 titles", size.Count(0, "title"))
	assert.Equal(t, "3 files or folders", size.Count(3, "file or folder"))
}
