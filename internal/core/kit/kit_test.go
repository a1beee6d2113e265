package kit

import (
	"bytes"
	"crypto/sha1"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
	"polytome/internal/testkit/judge"
)

// TestAKitTakesWhatItsRulesMean: nothing hidden, nothing from folders that no rule names, whatever a profile of a
// stranger asks for.
func TestAKitTakesWhatItsRulesMean(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"start-1.2.app", "about.xml", ".ssh/id_rsa", "keys/id_rsa", ".hidden.app",
		"skins/blue/a.png", "deep/down/about.xml"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name), 0o644))
	}
	files, _, err := read(dir)
	require.NoError(t, err)
	rels := func(patterns ...string) (out []string) {
		for _, f := range files.matching(patterns) {
			out = append(out, f.rel)
		}
		return out
	}
	assert.Empty(t, rels("id_rsa"))
	assert.Empty(t, rels(".ssh"))
	assert.Empty(t, rels(".*"))
	assert.Equal(t, []string{"start-1.2.app"}, rels("*.app"))
	assert.Equal(t, []string{"start-1.2.app"}, rels("*"), "one file at the top, and no more")
	assert.Equal(t, []string{"about.xml"}, rels("about.xml"))
	assert.Equal(t, []string{"skins/blue/a.png"}, rels("skins"), "a folder that is named goes with what is in it")
	assert.Equal(t, []string{"keys/id_rsa"}, rels("keys/id_rsa"), "where the rule names the folder")
	whole := t.TempDir() // as an archive was unpacked
	require.NoError(t, os.MkdirAll(filepath.Join(whole, "mica-1.2", "x"), 0o755))
	for _, name := range []string{"mica-1.2/about.xml", "mica-1.2/x/id_rsa"} {
		require.NoError(t, os.WriteFile(filepath.Join(whole, name), nil, 0o644))
	}
	files, _, err = read(whole)
	require.NoError(t, err)
	assert.Equal(t, []string{"mica-1.2/about.xml"}, rels("about.xml"))
	assert.Empty(t, rels("id_rsa"))
}

const rules = `format = 1
name = "any"
shown = "Any"
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["fat32"]
[[attachment]]
name = "cable"
via = "ftp"
filesystems = ["own"]
[[accept]]
platforms = ["vesper"]
path = "{title}.iso"
[kit]
shown = "the add-on"
[[kit.edition]]
name = "early"
of = "model"
[[kit.edition]]
name = "late"
of = "model"
[[kit.edition]]
name = "north"
of = "region"
[[kit.edition]]
name = "south"
of = "region"
[[kit.file]]
to = "boot/start.bin"
from = ["start-early-n*.bin"]
editions = ["early", "north"]
[[kit.file]]
to = "boot/start.bin"
from = ["start-late*.bin"]
editions = ["late"]
[[kit.file]]
to = "cable.txt"
from = ["readme.txt"]
on = ["cable"]
[[kit.file]]
to = "skins"
from = ["skins"]
optional = true
[[system-image]]
to = "sys/one.rom"
shown = "the first system"
size = 3000
sums = ["SUM", "00000000"]
[[system-image]]
to = "sys/two.rom"
shown = "the second system"
size = 500
hex = "7e ?? 11"
offset = -4
[[system-image]]
to = "sys/three.rom"
shown = "the third system"
size = 77
from = ["three*.rom"]
`

// TestAKitAsItWasDownloaded: files come out of archives of several kinds, of the editions that were chosen and of the
// newest archive, what was unpacked first; system images are known by their content, and it is said where that is not
// sure.
func TestAKitAsItWasDownloaded(t *testing.T) {
	dir, packed := t.TempDir(), t.TempDir()
	put := func(name string, b []byte) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(packed, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(packed, name), b, 0o644))
	}
	one := bytes.Repeat([]byte("one"), 1000)
	two := append(make([]byte, 496), 0x7e, 5, 0x11, 0)
	put("addon-1/start-early-n1.bin", []byte("old"))
	put("addon-2/start-early-n2.bin", []byte("new"))
	put("addon-2/start-late.bin", []byte("late"))
	put("addon-2/skins/dark/s.png", []byte("skin"))
	put("dumps/1.bin", one)
	put("dumps/other.bin", bytes.Repeat([]byte("no!"), 1000))
	put("dumps/2.bin", two)
	put("dumps/three of them.rom", make([]byte, 77))
	pack := func(kind, to string, what ...string) {
		t.Chdir(packed)
		judge.Run(t, "7z", append([]string{"a", "-t" + kind, filepath.Join(dir, to)}, what...)...)
	}
	pack("zip", "addon-1.zip", "addon-1")
	pack("7z", "addon-2.7z", "addon-2")
	pack("zip", "dumps.zip", "dumps")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "broken.zip"), []byte("PK\x03\x04 no"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "readme.txt"), nil, 0o644))

	sum := sha1.Sum(one)
	p, err := loader.ParseProfile("any.toml", []byte(strings.Replace(rules, "SUM", hex.EncodeToString(sum[:]), 1)))
	require.NoError(t, err)
	find := func(via string, editions ...string) (files []string, notes string) {
		s := Search{Profile: p, Here: loader.Here{Attachment: via, Via: "usb", Filesystem: "fat32"}, Editions: editions}
		found, err := s.Find(dir)
		require.NoError(t, err)
		for _, f := range found.Files {
			files = append(files, fmt.Sprintf("%s from %s %s", f.To, filepath.Base(f.From.Path), f.From.Entry))
		}
		for _, f := range found.Lacks {
			files = append(files, "no "+f.To)
		}
		slices.Sort(files)
		return files, strings.Join(found.Notes, "\n")
	}
	got, notes := find("stick", "early", "north")
	assert.Equal(t, []string{"boot/start.bin from addon-2.7z addon-2/start-early-n2.bin",
		"skins/dark/s.png from addon-2.7z addon-2/skins/dark/s.png", "sys/one.rom from dumps.zip dumps/1.bin",
		"sys/three.rom from dumps.zip dumps/three of them.rom", "sys/two.rom from dumps.zip dumps/2.bin"}, got)
	assert.Contains(t, notes, "broken.zip cannot be looked into")
	assert.Contains(t, notes, "may be the second system, but it is not sure: only its length and some of its bytes "+
		"are known of it")
	assert.Contains(t, notes, "may be the third system, but it is not sure: only its length and its name are known "+
		"of it")
	assert.NotContains(t, notes, "the first system")
	got, _ = find("stick", "late", "south")
	assert.Contains(t, got, "boot/start.bin from addon-2.7z addon-2/start-late.bin")
	got, _ = find("cable", "early", "south")
	assert.Contains(t, got, "cable.txt from readme.txt ")
	assert.NotContains(t, strings.Join(got, " "), "boot/start.bin", "there is none for these")

	require.NoError(t, os.WriteFile(filepath.Join(dir, "start-early-n0.bin"), []byte("mine"), 0o644))
	got, _ = find("stick", "early", "north")
	assert.Contains(t, got, "boot/start.bin from start-early-n0.bin ", "what was unpacked comes first")

	s := Search{Profile: p, Here: loader.Here{Attachment: "stick"}, Editions: []string{"late", "north"}}
	found, err := s.Find(filepath.Join(dir, "addon-2.7z"))
	require.NoError(t, err)
	assert.Len(t, found.Files, 2, "an archive is a kit by itself")
	_, err = s.Find(filepath.Join(dir, "readme.txt"))
	assert.ErrorContains(t, err, "reading the kit")

	chosen, rest := Editions(&p.Kit, "late north /a b/c")
	assert.Equal(t, []string{"late", "north"}, chosen)
	assert.Equal(t, "/a b/c", rest)
}
