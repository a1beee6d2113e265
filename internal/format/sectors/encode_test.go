package sectors_test

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/format/cuesheet"
	"polytome/internal/format/sectors"
	"polytome/internal/testkit/judge"
)

// The checks of a sector are those of ECMA-130, written down a second time, straight from its
// matrices: nothing of how the codes are made is used.

// multiply is the product over the field of annex A, bit by bit.
func multiply(a, b byte) (p byte) {
	for ; b > 0; b >>= 1 {
		if b&1 != 0 {
			p ^= a
		}
		carry := a&0x80 != 0
		a <<= 1
		if carry {
			a ^= 0x1D
		}
	}
	return p
}

// holds reports whether both rows of the parity check matrix give zero for a word: the sum, and the sum weighted with
// the powers of alpha, the last byte with one.
func holds(word []byte) bool {
	var sum, weighted byte
	power := byte(1)
	for i := len(word) - 1; i >= 0; i-- {
		sum ^= word[i]
		weighted ^= multiply(word[i], power)
		power = multiply(power, 2)
	}
	return sum == 0 && weighted == 0
}

// edcOf divides by the polynomial of 14.3, a bit at a time.
func edcOf(b []byte) (r uint32) {
	for _, x := range b {
		for i := range 8 { // the lowest bit of a byte first
			bit := uint32(x>>i) & 1
			high := r >> 31
			r <<= 1
			if high != bit {
				r ^= 0x8001801B
			}
		}
	}
	return r
}

func TestSectorsHaveTheirCodes(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 9))
	for n := range int64(40) {
		b := make([]byte, sectors.Raw)
		for i := range 2048 {
			b[16+i] = byte(rng.Uint32())
		}
		number := n * 7919 % 300_000
		require.NoError(t, sectors.Encode(b, number))
		assert.Equal(t, "\x00\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\x00", string(b[:12]))
		assert.Equal(t, fmt.Sprintf("%02d%02d%02d", (number+150)/75/60, (number+150)/75%60, (number+150)%75),
			fmt.Sprintf("%02x%02x%02x", b[12], b[13], b[14]))
		assert.EqualValues(t, 1, b[15])
		var r uint32
		for i := range 32 { // stored with x^31 first, the lowest bit of a byte first
			r |= uint32(b[2064+i/8]>>(i%8)&1) << (31 - i)
		}
		assert.Equal(t, edcOf(b[:2064]), r, "EDC")
		assert.Equal(t, make([]byte, 8), b[2068:2076])
		// Annex A: the bytes from the header on are pairs; P words run down 43 columns, Q words along
		// the diagonals of 26 rows.
		for plane := range 2 {
			at := func(word int) byte { return b[12+2*word+plane] }
			for column := range 43 {
				var word []byte
				for row := range 26 {
					word = append(word, at(43*row+column))
				}
				require.True(t, holds(word), "P, column %d", column)
			}
			for diagonal := range 26 {
				var word []byte
				for i := range 43 {
					word = append(word, at((44*i+43*diagonal)%1118))
				}
				word = append(word, at(1118+diagonal), at(1118+26+diagonal))
				require.True(t, holds(word), "Q, diagonal %d", diagonal)
			}
		}
		require.NoError(t, sectors.Check(b))
		b[100+n] ^= 4
		require.ErrorIs(t, sectors.Check(b), sectors.ErrMismatch)
	}
	assert.ErrorContains(t, sectors.Encode(make([]byte, sectors.Raw), 450_000), "fewer than 100 minutes")
	_, err := sectors.NewEncoder(bytes.NewReader(nil), 1<<30)
	assert.ErrorContains(t, err, "longer than a disc")
}

func TestAnImageComesBackOutOfItsTrack(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		image := rapid.SliceOfN(rapid.Byte(), 0, 3000).Draw(rt, "image")
		image = bytes.Repeat(image, rapid.IntRange(1, 9).Draw(rt, "times"))
		e, err := sectors.NewEncoder(bytes.NewReader(image), int64(len(image)))
		require.NoError(rt, err)
		raw, err := io.ReadAll(io.NewSectionReader(e, 0, e.Size()))
		require.NoError(rt, err)
		require.EqualValues(rt, e.Size(), len(raw))
		off := rapid.IntRange(0, len(raw)).Draw(rt, "off")
		part := make([]byte, rapid.IntRange(0, 5000).Draw(rt, "length"))
		n, _ := e.ReadAt(part, int64(off))
		require.Equal(rt, raw[off:][:min(len(part), len(raw)-off)], part[:n], "the same at any offset")
		back := sectors.New(bytes.NewReader(raw), int64(len(raw)), sectors.Raw, 16, 0)
		got, err := io.ReadAll(io.NewSectionReader(back, 0, back.Size()))
		require.NoError(rt, err)
		require.True(rt, bytes.Equal(image, got[:len(image)]))
		require.Empty(rt, bytes.Trim(got[len(image):], "\x00"))
	})
}

// TestAnotherProgramAgreesOnTracks has bchunk take a disc apart whose sheet and tracks are ours.
func TestAnotherProgramAgreesOnTracks(t *testing.T) {
	dir := t.TempDir()
	image := bytes.Repeat([]byte("the tide comes in"), 10_000)
	image = append(image, make([]byte, 2048-len(image)%2048)...)
	e, err := sectors.NewEncoder(bytes.NewReader(image), int64(len(image)))
	require.NoError(t, err)
	disc := make([]byte, e.Size())
	_, err = e.ReadAt(disc, 0)
	require.NoError(t, err)
	sound := bytes.Repeat([]byte{1, 2, 3, 4}, 2352/4*180)
	disc = append(append(disc, sound...), sound[:2352*90]...)
	data := int(e.Size() / 2352)
	sheet := fmt.Sprintf("FILE \"disc.bin\" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\n  TRACK 02 AUDIO\n "+
		"   INDEX 01 %s\n  TRACK 03 AUDIO\n    INDEX 01 %s\n", cuesheet.Time(data), cuesheet.Time(data+180))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "disc.bin"), disc, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "disc.cue"), []byte(sheet), 0o644))
	judge.Run(t, "bash", "-c", `cd "$0" && bchunk disc.bin disc.cue t`, dir)
	s, err := cuesheet.Parse(sheet)
	require.NoError(t, err)
	spans, err := s.Spans([]int64{int64(len(disc))})
	require.NoError(t, err)
	require.Len(t, spans, 3)
	for i, name := range []string{"t01.iso", "t02.cdr", "t03.cdr"} {
		theirs, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		ours := disc[spans[i].At:][:spans[i].Length]
		if i == 0 {
			r := sectors.New(bytes.NewReader(ours), int64(len(ours)), sectors.Raw, 16, 0)
			ours, err = io.ReadAll(io.NewSectionReader(r, 0, r.Size()))
			require.NoError(t, err)
			assert.True(t, bytes.Equal(image, theirs))
		}
		assert.True(t, bytes.Equal(theirs, ours), name)
	}
}
