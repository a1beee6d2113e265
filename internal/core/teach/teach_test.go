package teach_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/unicode"

	"polytome/internal/core/teach"
	"polytome/internal/target"
)

var names = []string{"Alder Gate", "Brook Lane", "Copper Tide", "Dune Post", "Ember Lock Sails", "Fen"}

// stick writes files, and lists them as a target does.
func stick(t *testing.T, files map[string][]byte) (dir string, entries []target.Entry) {
	dir = t.TempDir()
	for name, data := range files {
		at := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, data, 0o644))
	}
	require.NoError(t, filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		rel, _ := filepath.Rel(dir, p)
		if rel == "." || err != nil {
			return err
		}
		e := target.Entry{Path: filepath.ToSlash(rel), Folder: d.IsDir()}
		if info, err := d.Info(); err == nil && !d.IsDir() {
			e.Size = info.Size()
		}
		entries = append(entries, e)
		return nil
	}))
	return dir, entries
}

// noise is what no two games have the same.
func noise(n, seed int) []byte {
	b := make([]byte, n)
	x := uint32(seed*2654435761 + 12345)
	for i := range b {
		x = x*1664525 + 1013904223
		b[i] = byte(x >> 24)
	}
	return b
}

// TestValuesAreFoundWhereverTheyStand: in any encoding, at the beginning, in the middle of the first mebibyte, and in
// the last one.
func TestValuesAreFoundWhereverTheyStand(t *testing.T) {
	as := map[string]func(s string) []byte{
		"ascii": func(s string) []byte { return []byte(s) },
		"utf-16le": func(s string) []byte {
			b, _ := unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder().Bytes([]byte(s))
			return b
		},
		"utf-16be": func(s string) []byte {
			b, _ := unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM).NewEncoder().Bytes([]byte(s))
			return b
		},
		"shift-jis": func(s string) []byte {
			b, _ := japanese.ShiftJIS.NewEncoder().Bytes([]byte(s))
			return b
		},
	}
	for encoding, encode := range as {
		for _, at := range []int{0x20, 700_000, -300_000} {
			t.Run(fmt.Sprintf("%s at %d", encoding, at), func(t *testing.T) {
				files := map[string][]byte{}
				for n, name := range names {
					if encoding == "shift-jis" {
						name = "ソース表" + name
					}
					b := noise(1_400_000+n*1000, n)
					copy(b, "\xC3\x91\x0E\x77")
					from := at
					if at < 0 {
						from += len(b)
					}
					copy(b[from:], make([]byte, 96))
					copy(b[from:], encode(name))
					files["GAMES/"+name+".kvl"] = b
				}
				dir, entries := stick(t, files)
				all := teach.Platforms(t.Context(), dir, entries, nil)
				require.Len(t, all, 1)
				f, ok := all[0].Fields["name"]
				require.True(t, ok, "%s", all[0].TOML())
				assert.Contains(t, f.Evidence, encoding)
				assert.False(t, f.Reading.FileName)
				p, err := all[0].Parse()
				require.NoError(t, err, all[0].TOML())
				assert.Equal(t, []string{".kvl"}, p.Extensions)
			})
		}
	}
}

// TestThreeGamesAreEnough, and photographs are none.
func TestThreeGamesAreEnough(t *testing.T) {
	files := map[string][]byte{"summer.jpg": []byte("\xFF\xD8"), "notes.txt": []byte("bring cables")}
	for n, name := range names[:3] {
		b := noise(9000+n*100, n)
		copy(b, "\xC3\x91\x0E\x77")
		copy(b[16:], append([]byte(fmt.Sprintf("TRL-%04d", 417+n*81)), make([]byte, 8)...))
		copy(b[32:], append([]byte(name), make([]byte, 64-len(name))...))
		files[fmt.Sprintf("RUN/TRL-%04d %s.kvl", 417+n*81, name)] = b
	}
	dir, entries := stick(t, files)
	all := teach.Platforms(t.Context(), dir, entries, []string{"kvl"})
	require.Len(t, all, 1)
	assert.Equal(t, "kvl-2", all[0].Name, "another platform has that name")
	assert.True(t, all[0].Convincing())
	assert.Equal(t, []string{"TRL-0417", "Alder Gate"}, []string{all[0].Fields["id"].Example,
		all[0].Fields["name"].Example})
	assert.Contains(t, all[0].TOML(), "in 3 of 3")

	dir, entries = stick(t, map[string][]byte{"a.jpg": noise(900, 1), "b.jpg": noise(800, 2), "c.pdf": noise(700, 3)})
	assert.Empty(t, teach.Platforms(t.Context(), dir, entries, nil))
}

// TestAHintDecides: what a person says of one game is looked for in all, and what nobody can find is not there.
func TestAHintDecides(t *testing.T) {
	files := map[string][]byte{}
	for n, name := range names {
		b := noise(9000+n*100, n)
		copy(b, "\xC3\x91\x0E\x77")
		copy(b[16:], append([]byte(fmt.Sprintf("made %d by trl=%s;", 1990+n, strings.ToUpper(name[:3]))),
			make([]byte, 32)...))
		copy(b[64:], append([]byte(name), make([]byte, 64-len(name))...))
		files["RUN/"+name+".kvl"] = b
	}
	dir, entries := stick(t, files)
	said := teach.Hint{Field: "id", Path: "RUN/Copper Tide.kvl", Value: "COP"}
	all := teach.Platforms(t.Context(), dir, entries, nil, said)
	require.Len(t, all, 1)
	id := all[0].Fields["id"]
	assert.Contains(t, id.Evidence, "as was said of RUN/Copper Tide.kvl")
	p, err := all[0].Parse()
	require.NoError(t, err, all[0].TOML())
	assert.NotNil(t, p)
	all = teach.Platforms(t.Context(), dir, entries, nil, teach.Hint{Field: "id", Path: "RUN/Copper Tide.kvl",
		Value: "nowhere"})
	require.Len(t, all, 1)
	assert.NotContains(t, all[0].Fields, "id")
}

// FuzzEncodingOf: whatever a file holds, it is a text of a known encoding or none.
func FuzzEncodingOf(f *testing.F) {
	for _, s := range []string{"", "text", "\x00a\x00b", "a\x00b\x00", "\x93\xfa\x96{", "\xff\xfe", "caf\xe9"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		as, ok := teach.EncodingOf([][]byte{b})
		if ok && as == "" && bytes.IndexByte(b, 0) >= 0 {
			t.Fatal("no text has a zero byte")
		}
	})
}
