package wav_test

import (
	"bytes"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"os"
	"path/filepath"

	"polytome/internal/format/wav"
	"polytome/internal/testkit/judge"
)

func file(t testing.TB, sound []byte) []byte {
	h, err := wav.Header(int64(len(sound)))
	require.NoError(t, err)
	return append(h, sound...)
}

func TestSoundComesBack(t *testing.T) {
	sound := bytes.Repeat([]byte{1, 2, 3, 4}, 588*3)
	b := file(t, sound)
	at, length, err := wav.Sound(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	assert.Equal(t, sound, b[at:at+length])
	name := filepath.Join(t.TempDir(), "a.wav")
	require.NoError(t, os.WriteFile(name, b, 0o644))
	said := judge.Run(t, "python3", "-c",
		"import wave, sys\nw = wave.open(sys.argv[1])\nprint(w.getnchannels(), w.getsampwidth(), w.getframerate(), "+
			"w.getnframes())", name)
	assert.Equal(t, "2 2 44100 1764\n", said, "another reader agrees")

	odd := append([]byte(nil), b[:12]...) // chunks of others in front
	odd = append(odd, "LIST\x03\x00\x00\x00abc\x00"...)
	odd = append(odd, b[12:]...)
	at, length, err = wav.Sound(bytes.NewReader(odd), int64(len(odd)))
	require.NoError(t, err)
	assert.Equal(t, sound, odd[at:at+length])
}

func TestFilesThatAreNoSoundOfADisc(t *testing.T) {
	good := file(t, make([]byte, 4000))
	with := func(change func(b []byte) []byte) []byte { return change(bytes.Clone(good)) }
	for want, b := range map[string][]byte{
		"not a WAVE file": []byte("RIFF"),
		"22050 samples": with(
			func(b []byte) []byte { binary.LittleEndian.PutUint32(b[24:], 22_050); return b }),
		"1 channels":             with(func(b []byte) []byte { b[22] = 1; return b }),
		"cut short":              good[:1000],
		"there is no sound":      with(func(b []byte) []byte { copy(b[36:], "none"); return b }),
		"format is not reported": append(bytes.Clone(good[:12]), good[36:]...),
		"its format is cut":      append(bytes.Clone(good[:12]), "fmt \x04\x00\x00\x00abcd"...),
	} {
		_, _, err := wav.Sound(bytes.NewReader(b), int64(len(b)))
		assert.ErrorContains(t, err, want)
	}
	_, err := wav.Header(1 << 33)
	assert.ErrorContains(t, err, "more than a WAVE file holds")
}

func FuzzSound(f *testing.F) {
	f.Add(file(f, make([]byte, 100)))
	f.Fuzz(func(t *testing.T, b []byte) {
		at, length, err := wav.Sound(bytes.NewReader(b), int64(len(b)))
		if err == nil && (at < 0 || length < 0 || at+length > int64(len(b))) {
			t.Fatal("the sound lies outside of the file")
		}
	})
}
