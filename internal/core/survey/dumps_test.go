package survey_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/scan"
	"polytome/internal/testkit/coretest"
)

const larkDescribed = `format = 1
name = "lark"
shown = "Lark"
forms = ["cartridge"]
extensions = [".lrk"]
[[marker]]
hex = "4c 41 ?? 4b"
offset = 4
syntax = "binary"
[field.name]
offset = 16
length = 16
encoding = "ascii"
[[dump]]
skip = 512
multiple = "1KiB"
[[dump]]
order = "swapped-2"
[[dump]]
order = "swapped-4"
[[dump]]
order = "interleaved"
block = "2KiB"
[[dump]]
skip = 512
multiple = "1KiB"
order = "swapped-2"
`

const larkRules = `format = 1
name = "any"
shown = "Any"
console = "Lark"
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["fat32"]
[[accept]]
platforms = ["lark"]
path = "L/{title}.lrk"
archives = "unpack"
dumps = "straight"
`

// TestDumpsGoOverAsTheConsoleHasThem has dumps of one make of game in all orders, and in an archive: what lies on the
// stick is the game.
func TestDumpsGoOverAsTheConsoleHasThem(t *testing.T) {
	dir := t.TempDir()
	games := map[string]string{"plain": "lambda g: g", "header": "lambda g: bytes(512) + g",
		"swapped": "lambda g: b''.join(g[i:i+2][::-1] for i in range(0, len(g), 2))",
		"words":   "lambda g: b''.join(g[i:i+4][::-1] for i in range(0, len(g), 4))",
		"blocks":  "lambda g: b''.join(g[i+1:i+2048:2] + g[i:i+2048:2] for i in range(0, len(g), 2048))",
		"both":    "lambda g: bytes(512) + b''.join(g[i:i+2][::-1] for i in range(0, len(g), 2))",
		"zipped":  "lambda g: b''.join(g[i:i+2][::-1] for i in range(0, len(g), 2))"}
	program := "import os, sys, zipfile\nd = sys.argv[1]\nos.makedirs(d + '/games'); os.makedirs(d + '/true')\n"
	for name, as := range games {
		program += "g = bytearray((i * 11 + i // 256) % 256 for i in range(8192)); g[4:8] = b'LARK'; n = '" + name +
			"'; g[16:32] = n.encode().ljust(16, b'\\0'); g = bytes(g)\nopen(d + '/true/' + n, 'wb').write(g)\nx = (" +
			as + ")(g)\n" +
			"if n == 'zipped':\n  zipfile.ZipFile(d + '/games/z.zip', 'w', " +
			"zipfile.ZIP_DEFLATED).writestr('game.lrk', x)\n" +
			"else:\n  open(d + '/games/dump of ' + n + '.lrk', 'wb').write(x)\n"
	}
	out, err := exec.Command("/usr/bin/python3", "-c", program, dir).CombinedOutput()
	require.NoError(t, err, "%s", out)
	coretest.Write(t, dir, "known/platforms/lark.toml", []byte(larkDescribed))
	set := knownTo(t, filepath.Join(dir, "known"), larkRules)
	r, err := scan.Scan(t.Context(), []string{filepath.Join(dir, "games")}, scan.Options{Set: set})
	require.NoError(t, err)
	require.Len(t, r.Titles, len(games))
	w := oneStick(t, dir, set, "any", "fat32", r.Titles)
	s := w.look(0)
	words := map[string]string{}
	for i := range s.Titles {
		words[s.Titles[i].Name] = s.Sheet.Verdict(i).Word()
	}
	assert.Equal(t, map[string]string{"plain": "copy", "header": "straight", "swapped": "straight", "words": "straight",
		"blocks": "straight", "both": "straight", "zipped": "straight"}, words)
	w.fill(0)
	for name := range games {
		want, err := os.ReadFile(filepath.Join(dir, "true", name))
		require.NoError(t, err)
		got, err := os.ReadFile(w.at("Stick", "L/"+name+".lrk"))
		require.NoError(t, err)
		assert.Equal(t, want, got, name)
	}
	report, err := w.look(0).Check(t.Context(), check.Inside)
	require.NoError(t, err)
	assert.Empty(t, report.Findings)
	assert.Len(t, report.Listed, len(games))
	assert.True(t, w.look(0).Plan().Empty(), "and nothing is left to do")
}
