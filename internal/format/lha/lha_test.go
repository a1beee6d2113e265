package lha_test

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/format/lha"
	"polytome/internal/testkit/judge"
)

var season = time.Date(2026, 3, 14, 9, 26, 52, 0, time.UTC)

var methods = []string{lha.Stored, lha.Adaptive, lha.Blocks5, lha.Blocks6, lha.Blocks7}

// member is a file of a test.
type member struct {
	name, method string
	data         []byte
}

func write(t interface{ Fatalf(string, ...any) }, level int, members ...member) []byte {
	var b bytes.Buffer
	w := lha.NewWriter(&b)
	w.Level = level
	for _, m := range members {
		if err := w.Add(m.name, m.method, season, m.data); err != nil {
			t.Fatalf("%v", err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatalf("%v", err)
	}
	return b.Bytes()
}

func unpack(m *lha.Member) ([]byte, error) {
	r, err := m.Open()
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

// texts are data of the kinds that packers meet.
func texts() map[string][]byte {
	noise := make([]byte, 40_000) // more codes than the adaptive tree counts before it halves them
	x := uint32(1)
	for i := range noise {
		x = x*1664525 + 1013904223
		noise[i] = byte(x >> 24)
	}
	var prose strings.Builder
	for i := range 1500 {
		fmt.Fprintf(&prose, "The ferry %d leaves the North Hall at %d past. ", i, i*i%60)
	}
	skewed := make([]byte, 90_000) // frequencies that give codes of many lengths, and fill the adaptive tree
	for i := range skewed {
		x = x*1664525 + 1013904223
		for v := x; v&0x80000000 != 0 && skewed[i] < 40; v <<= 1 {
			skewed[i]++
		}
	}
	return map[string][]byte{
		"empty.dat": {}, "one.dat": {7}, "zeros.dat": make([]byte, 80_000), "noise.dat": noise,
		"prose.txt": []byte(prose.String()), "skewed.dat": skewed,
		"twice.dat": append(append([]byte{}, noise[:15_000]...), noise[:15_000]...),
		"two.dat":   bytes.Repeat([]byte("ab"), 5000),
	}
}

func TestWhatIsWrittenIsReadAndAcceptedByAnother(t *testing.T) {
	for level := range 3 {
		for _, method := range methods {
			var members []member
			for name, data := range texts() {
				members = append(members, member{"data/deep/" + name, method, data})
			}
			members = append(members, member{name: "data/", method: method}, member{"top.prog", method, []byte("run")})
			image := write(t, level, members...)
			a, err := lha.Open(bytes.NewReader(image), int64(len(image)))
			require.NoError(t, err)
			require.NoError(t, a.Damage)
			require.Len(t, a.Members, len(members))
			for i, m := range a.Members {
				assert.Equal(t, strings.TrimSuffix(members[i].name, "/"), m.Name)
				assert.Equal(t, strings.HasSuffix(members[i].name, "/"), m.Dir)
				assert.WithinDuration(t, season, m.Modified, 2*time.Second)
				got, err := unpack(&m)
				require.NoError(t, err, "%s %s", method, m.Name)
				assert.True(t, bytes.Equal(members[i].data, got), "%s level %d %s", method, level, m.Name)
			}
			file := filepath.Join(t.TempDir(), "a.lha")
			require.NoError(t, os.WriteFile(file, image, 0o644))
			out := judge.Run(t, "lha", "t", file)
			assert.Equal(t, len(members)-1, strings.Count(out, "Tested"), "%s", out)
			assert.NotContains(t, strings.ToLower(out), "error")
			listed := judge.Run(t, "lha", "l", file)
			for name, data := range texts() {
				assert.Contains(t, listed, fmt.Sprint(len(data)))
				assert.Contains(t, listed, name)
			}
			if method != lha.Stored {
				assert.Contains(t, listed, "1") // a ratio is shown
				assert.Less(t, len(image), 200_000, "packing makes smaller: %s", method)
			}
		}
	}
}

func TestAnythingComesBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.SliceOfN(rapid.Byte(), 1, 40).Draw(t, "word")
		data := rapid.SliceOf(rapid.Byte()).Draw(t, "data")
		for range rapid.IntRange(0, 30).Draw(t, "times") {
			data = append(append(data, word...), rapid.SliceOfN(rapid.Byte(), 0, 3).Draw(t, "between")...)
		}
		method := rapid.SampledFrom(methods).Draw(t, "method")
		image := write(t, rapid.IntRange(0, 2).Draw(t, "level"), member{"x", method, data})
		a, err := lha.Open(bytes.NewReader(image), int64(len(image)))
		if err != nil || len(a.Members) != 1 {
			t.Fatalf("%v %v", a, err)
		}
		got, err := unpack(&a.Members[0])
		if err != nil || !bytes.Equal(got, data) {
			t.Fatalf("%s: %v", method, err)
		}
	})
}

func TestDamage(t *testing.T) {
	_, err := lha.Open(strings.NewReader("no archive at all, but some text that is long enough"), 52)
	require.ErrorIs(t, err, lha.ErrNotLHA)

	good := write(t, 2, member{"a.txt", lha.Blocks5, texts()["prose.txt"]}, member{"b.txt", lha.Blocks5,
		texts()["prose.txt"]})
	// The last part is missing: what is there is listed, and the rest is said.
	a, err := lha.Open(bytes.NewReader(good), int64(len(good))-5000)
	require.NoError(t, err)
	require.Len(t, a.Members, 2)
	require.ErrorContains(t, a.Damage, "the archive ends within b.txt")

	// Every byte of a member spoilt is noticed.
	var missed int
	for at := 60; at < len(good)/2; at += 97 {
		b := bytes.Clone(good)
		b[at] ^= 0x10
		a, err := lha.Open(bytes.NewReader(b), int64(len(b)))
		if err != nil || a.Damage != nil {
			continue
		}
		if _, err := unpack(&a.Members[0]); err == nil {
			missed++
		}
	}
	assert.Zero(t, missed)

	unknown := bytes.Replace(write(t, 0, member{"a", lha.Stored, []byte("x")}), []byte("-lh0-"), []byte("-lz4-"), 1)
	unknown[1] += byte('z' + '4' - 'h' - '0')
	a, err = lha.Open(bytes.NewReader(unknown), int64(len(unknown)))
	require.NoError(t, err)
	_, err = unpack(&a.Members[0])
	require.ErrorContains(t, err, `the method "-lz4-" of a is not supported`)
}

func FuzzArchive(f *testing.F) {
	for level := range 3 {
		for _, method := range methods {
			f.Add(write(f, level, member{"d/a", method, []byte(strings.Repeat("some text ", 40))}))
		}
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		a, err := lha.Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		for _, m := range a.Members {
			if r, err := m.Open(); err == nil {
				_, _ = io.Copy(io.Discard, io.LimitReader(r, 1<<20))
			}
		}
	})
}

func BenchmarkUnpack(b *testing.B) {
	data := bytes.Repeat(texts()["prose.txt"], 4)
	for _, method := range methods[1:] {
		b.Run(method, func(b *testing.B) {
			image := write(b, 2, member{"a", method, data})
			b.SetBytes(int64(len(data)))
			for b.Loop() {
				a, err := lha.Open(bytes.NewReader(image), int64(len(image)))
				require.NoError(b, err)
				r, err := a.Members[0].Open()
				require.NoError(b, err)
				_, err = io.Copy(io.Discard, r)
				require.NoError(b, err)
			}
		})
	}
}
