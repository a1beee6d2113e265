package dump_test

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/format/dump"
)

// byOthers makes a dump of a game in another language.
const byOthers = `import sys
game = open(sys.argv[1], "rb").read()
skip, order, block = int(sys.argv[3]), sys.argv[4], int(sys.argv[5])
if order.startswith("swapped"):
    n = int(order[-1])
    whole = len(game) // n * n
    game = b"".join(game[i:i + n][::-1] for i in range(0, whole, n)) + game[whole:]
elif order == "interleaved":
    whole = len(game) // block * block
    game = b"".join(game[i + 1:i + block:2] + game[i:i + block:2] for i in range(0, whole, block)) + game[whole:]
open(sys.argv[2], "wb").write(bytes(skip) + game)
`

func TestDumpsThatOthersMakeAreReadAsTheConsoleHasThem(t *testing.T) {
	dir := t.TempDir()
	game := make([]byte, 3<<20+5)
	for i := range game {
		game[i] = byte(i*7 + i>>8 + i>>16)
	}
	write(t, filepath.Join(dir, "game"), game)
	for _, l := range []dump.Layout{{}, {Skip: 512}, {Order: "swapped-2"}, {Skip: 3, Order: "swapped-4"},
		{Order: "interleaved", Block: 16384}, {Skip: 512, Order: "interleaved", Block: 4 << 20}} {
		at := filepath.Join(dir, "dump")
		out, err := exec.Command("/usr/bin/python3", "-c", byOthers, filepath.Join(dir, "game"), at,
			strconv.FormatInt(l.Skip, 10), l.Order, strconv.FormatInt(l.Block, 10)).CombinedOutput()
		require.NoError(t, err, "%s", out)
		b := read(t, at)
		r := dump.New(bytes.NewReader(b), int64(len(b)), l)
		require.Equal(t, int64(len(game)), r.Size())
		got, err := io.ReadAll(io.NewSectionReader(r, 0, r.Size()))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(game, got), "%+v", l)
	}
}

// TestAnyPieceIsThatOfTheWhole reads pieces from anywhere, in any sizes.
func TestAnyPieceIsThatOfTheWhole(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b := rapid.SliceOfN(rapid.Byte(), 0, 200).Draw(t, "dump")
		l := dump.Layout{Skip: rapid.Int64Range(0, 9).Draw(t, "skip"), Order: rapid.SampledFrom(append([]string{""},
			dump.Orders...)).Draw(t, "order"), Block: rapid.Int64Range(1, 20).Draw(t, "block")}
		r := dump.New(bytes.NewReader(b), int64(len(b)), l)
		whole := make([]byte, r.Size())
		if n, err := r.ReadAt(whole, 0); n < len(whole) || err != nil && len(whole) > 0 {
			t.Fatalf("%d of %d: %v", n, len(whole), err)
		}
		if err := iotest.TestReader(io.NewSectionReader(r, 0, r.Size()), whole); err != nil {
			t.Fatal(err)
		}
		at, n := rapid.IntRange(0, 210).Draw(t, "at"), rapid.IntRange(0, 210).Draw(t, "length")
		piece := make([]byte, n)
		k, err := r.ReadAt(piece, int64(at))
		want := whole[min(at, len(whole)):min(at+n, len(whole))]
		if !bytes.Equal(piece[:k], want) || (k < n) != (err == io.EOF) && !(at >= len(whole) && err == io.EOF) {
			t.Fatalf("%d bytes at %d: %v %v instead of %v", n, at, piece[:k], err, want)
		}
	})
}

func write(t *testing.T, file string, b []byte) {
	require.NoError(t, os.WriteFile(file, b, 0o644))
}

func read(t *testing.T, file string) []byte {
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	return b
}
