package archive_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io/fs"
	"math/rand"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/archive"
	"polytome/internal/testkit/judge"
)

// varied are bytes that pack well in some targets and not in others, with repetitions that are far apart and long.
func varied(seed int64, n int) []byte {
	r := rand.New(rand.NewSource(seed))
	var b []byte
	for len(b) < n {
		switch r.Intn(4) {
		case 0:
			noise := make([]byte, r.Intn(3000))
			r.Read(noise)
			b = append(b, noise...)
		case 1:
			b = append(b, bytes.Repeat([]byte{byte(r.Intn(4))}, r.Intn(70_000))...)
		case 2:
			b = append(b, []byte("The Ninth Orchard, Mosswick and Gannet Patrol. ")...)
		default:
			if far := r.Intn(64 << 10); far < len(b) {
				from := len(b) - far
				b = append(b, b[from:min(len(b), from+r.Intn(5000))]...)
			}
		}
	}
	return b[:n]
}

// TestZipInParts reads what zip itself cuts.
func TestZipInParts(t *testing.T) {
	in, out := t.TempDir(), t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(in, "deep"), 0o755))
	want := map[string][]byte{}
	for i, name := range []string{"one.bin", "two.bin", "deep/three.bin", "stored.png"} {
		want[name] = varied(int64(i), 150_000+i*30_000)
		put(t, in, map[string][]byte{name: want[name]})
	}
	file := filepath.Join(out, "game.zip")
	judge.Run(t, "sh", "-c", `cd "$1" && zip -q -r -0 -s 64k "$2" .`, "sh", in, file)
	all, err := filepath.Glob(filepath.Join(out, "*"))
	require.NoError(t, err)
	require.Greater(t, len(all), 5)
	a, err := archive.Open(file, archive.Options{})
	require.NoError(t, err)
	for name, data := range want {
		got, err := fs.ReadFile(a, name)
		require.NoError(t, err, name)
		assert.True(t, bytes.Equal(data, got), name)
	}
	assert.Len(t, a.Volumes, len(all))
	require.NoError(t, a.Close())
	v, ok := archive.VolumeOf("game.z01")
	require.True(t, ok)
	assert.Equal(t, "game.zip", v.Name(1))
	assert.Equal(t, "game.z01", v.Name(2))
	require.NoError(t, os.Remove(filepath.Join(out, "game.z02")))
	_, err = archive.Open(file, archive.Options{})
	var missing *archive.MissingPart
	require.ErrorAs(t, err, &missing)
	assert.Equal(t, "game.z02", missing.Name)
}

// TestZipMethods reads what 7z packs with other methods than usual.
func TestZipMethods(t *testing.T) {
	in := t.TempDir()
	want := map[string][]byte{"a.bin": varied(7, 700_000), "b.txt": bytes.Repeat([]byte("Tin Harbour "), 20_000),
		"empty": {}, "small": []byte("x"), "zeros": make([]byte, 3<<20)}
	put(t, in, want)
	for _, method := range []string{"LZMA", "Deflate64", "BZip2", "Deflate", "Copy", "PPMd", "PPMd:mem=1m:o=16",
		"PPMd:o=2 -mx=9", "PPMd:mem=1m -mx=9"} {
		file := filepath.Join(t.TempDir(), "game.zip")
		judge.Run(t, "sh", "-c", `cd "$1" && 7z a -bd -tzip -mm=$3 "$2" .`, "sh", in, file, method)
		a, err := archive.Open(file, archive.Options{})
		require.NoError(t, err, method)
		for name, data := range want {
			got, err := fs.ReadFile(a, name)
			require.NoError(t, err, "%s %s", method, name)
			assert.True(t, bytes.Equal(data, got), "%s %s", method, name)
		}
		require.NoError(t, a.Close())
	}
}

// TestPPMdThatRunsOutOfMemory reads what was packed with a model that is far larger than its memory, which is begun
// again, or thinned out, many times.
func TestPPMdThatRunsOutOfMemory(t *testing.T) {
	in := t.TempDir()
	r := rand.New(rand.NewSource(4))
	var b bytes.Buffer
	for b.Len() < 2<<20 {
		switch r.Intn(3) {
		case 0:
			for range r.Intn(2000) {
				fmt.Fprintf(&b, "Ferry %d line %x; ", r.Intn(100), r.Intn(1<<20))
			}
		case 1:
			b.Write(varied(r.Int63(), r.Intn(30_000)))
		case 2:
			b.Write(make([]byte, r.Intn(20_000)))
		}
	}
	put(t, in, map[string][]byte{"a.bin": b.Bytes()})
	for restore, more := range []string{"-mx=5", "-mx=9"} {
		file := filepath.Join(t.TempDir(), "game.zip")
		judge.Run(t, "sh", "-c", `cd "$1" && 7z a -bd -tzip -mm=PPMd:mem=1m:o=16 $3 "$2" .`, "sh", in, file, more)
		packed, err := os.ReadFile(file)
		require.NoError(t, err)
		begin := 30 + int(binary.LittleEndian.Uint16(packed[26:])) + int(binary.LittleEndian.Uint16(packed[28:]))
		require.EqualValues(t, restore, packed[begin+1]>>4, "the way to free some space")
		a, err := archive.Open(file, archive.Options{})
		require.NoError(t, err)
		got, err := fs.ReadFile(a, "a.bin")
		require.NoError(t, err)
		assert.True(t, bytes.Equal(b.Bytes(), got))
		require.NoError(t, a.Close())

		packed[begin+40_000] ^= 1
		require.NoError(t, os.WriteFile(file, packed, 0o600))
		a, err = archive.Open(file, archive.Options{})
		require.NoError(t, err)
		_, err = fs.ReadFile(a, "a.bin")
		assert.Error(t, err, "a changed bit shows")
		require.NoError(t, a.Close())
	}
}

// FuzzPPMd: whatever is read, it ends, and nothing outside of the model's memory is asked for.
func FuzzPPMd(f *testing.F) {
	f.Add([]byte{0x0F, 0x10, 0xC1, 0x7B, 0xDE, 0xF9, 0xBC, 0xEC, 0x0B, 0xFF, 0x35})
	f.Add([]byte{0x01, 0x00, 0, 0, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, data []byte) {
		if len(data) > 1 {
			data[0], data[1] = data[0]&15, data[1]&16 // a memory of 1 MiB
		}
		archive.UnPPMd(data, 3<<20)
	})
}

// FuzzDeflate64: whatever is read, it ends.
func FuzzDeflate64(f *testing.F) {
	f.Add([]byte{1, 0, 0, 0xFF, 0xFF})
	f.Add([]byte{0x4B, 0x04, 0x00})
	f.Fuzz(func(t *testing.T, data []byte) { archive.Inflate64(data, 1<<20) })
}
