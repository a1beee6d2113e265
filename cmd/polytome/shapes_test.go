package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/demoworld"
	"polytome/internal/testkit/judge"
)

// noisy is a file of noise with a run of zeros in it.
func noisy(t testing.TB, dir, name string, n int) string {
	rng := rand.New(rand.NewPCG(7, uint64(n)))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(rng.Uint32())
	}
	clear(b[n/3 : n/2])
	coretest.Write(t, dir, name, b)
	return filepath.Join(dir, name)
}

// same has cmp compare two files.
func same(t testing.TB, a, b string) {
	t.Helper()
	judge.Run(t, "cmp", a, b)
}

// namesIn are the names in a folder.
func namesIn(t testing.TB, dir string) (out []string) {
	all, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range all {
		out = append(out, e.Name())
	}
	return out
}

func TestSplittingAndJoining(t *testing.T) {
	dir := t.TempDir()
	game := noisy(t, dir, "tide.iso", 3_000_001)
	parts := filepath.Join(dir, "LONG", "VSP-20417")
	status, out, stderr := polytome(t, "image", "split", game, "--size", "1MiB - 64KiB", "--name", "{index|pad:3}.rwn",
		"--to", parts, "--manifest", "parts.toml")
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "their list: ")
	assert.Equal(t, []string{"001.rwn", "002.rwn", "003.rwn", "004.rwn", "parts.toml"}, namesIn(t, parts))
	back := filepath.Join(dir, "back.iso")
	status, out, stderr = polytome(t, "image", "join", filepath.Join(parts, "parts.toml"), "-o", back)
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "of 4 parts")
	same(t, game, back)
	judge.Run(t, "bash", "-c", `cat "$0"/0*.rwn | cmp - "$1"`, parts, game)
	status, _, stderr = polytome(t, "image", "join", filepath.Join(parts, "parts.toml"), "-o", back)
	assert.Equal(t, 1, status, "nothing is overwritten")
	assert.Contains(t, stderr, "a file with that name already exists")
	status, out, _ = polytome(t, "image", "check", filepath.Join(parts, "parts.toml"))
	assert.Zero(t, status)
	assert.Contains(t, out, "is OK: a file in parts")

	for name, c := range map[string]struct {
		harm func(file string)
		want string
	}{
		"damaged": {func(f string) {
			b, _ := os.ReadFile(f)
			b[77] ^= 1
			_ = os.WriteFile(f, b, 0o644)
		}, "part 2, " + filepath.Join(parts, "002.rwn") + ", is damaged: its CRC-32 is"},
		"short":   {func(f string) { _ = os.Truncate(f, 1000) }, "002.rwn, has 1000 bytes instead of 983040"},
		"missing": {func(f string) { _ = os.Remove(f) }, "002.rwn, is missing"},
	} {
		second := filepath.Join(parts, "002.rwn")
		whole, err := os.ReadFile(second)
		require.NoError(t, err)
		c.harm(second)
		bad := filepath.Join(dir, "bad.iso")
		status, _, stderr := polytome(t, "image", "join", filepath.Join(parts, "parts.toml"), "-o", bad)
		assert.Equal(t, 1, status, name)
		assert.Contains(t, stderr, c.want, name)
		assert.NoFileExists(t, bad)
		status, out, _ := polytome(t, "image", "check", filepath.Join(parts, "parts.toml"))
		assert.Equal(t, 3, status, name)
		assert.Contains(t, out, c.want[strings.Index(c.want, "002.rwn"):], name)
		require.NoError(t, os.WriteFile(second, whole, 0o644))
	}
	list, err := os.ReadFile(filepath.Join(parts, "parts.toml"))
	require.NoError(t, err)
	swapped := strings.NewReplacer("001.rwn", "002.rwn", "002.rwn", "001.rwn").Replace(string(list))
	coretest.Write(t, parts, "swapped.toml", []byte(swapped))
	status, _, stderr = polytome(t, "image", "join", filepath.Join(parts, "swapped.toml"), "-o", "-")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "is damaged")
	coretest.Write(t, parts, "out.toml", []byte("[[part]]\nfile = '../../tide.iso'\nlenght = 1\n"))
	_, _, stderr = polytome(t, "image", "join", filepath.Join(parts, "out.toml"), "-o", "-")
	assert.Contains(t, stderr, `did you mean "length"?`)
	coretest.Write(t, parts, "out.toml", []byte("[[part]]\nfile = '../../tide.iso'\nlength = 1\n"))
	_, _, stderr = polytome(t, "image", "join", filepath.Join(parts, "out.toml"), "-o", "-")
	assert.Contains(t, stderr, "must be beside the list")
	for args, want := range map[string]string{"split " + game: "--size is needed", "split " + game +
		" --size 1MiB --name {base}": "the name needs {index}", "split " + game + " --size 1": "at most 100000",
		"split gone.iso --size 1MiB": "reading the source gone.iso", "join " + game: "-o FILE is needed"} {
		status, _, stderr := polytome(t, append([]string{"image"}, strings.Fields(args)...)...)
		assert.NotZero(t, status, args)
		assert.Contains(t, stderr, want, args)
	}
}

// TestAListOfALoadersPartsIsJoined joins what a loader's profile had cut.
func TestAListOfALoadersPartsIsJoined(t *testing.T) {
	dir := t.TempDir()
	w := demoworld.Open(t)
	stick := filepath.Join(dir, "stick")
	require.NoError(t, os.MkdirAll(stick, 0o755))
	status, _, stderr := polytome(t, "fill", "--from", w.Games, "--loader", "rowan", "--to", stick, "--as", "fat32",
		"--capacity", "100GiB", "--only", "VSP-20417", "--no-covers")
	require.NotEqual(t, 1, status, stderr)
	back := filepath.Join(dir, "back.iso")
	status, _, stderr = polytome(t, "image", "join", filepath.Join(stick, "LONG/VSP-20417/parts.toml"), "-o", back)
	require.Zero(t, status, stderr)
	same(t, filepath.Join(w.Games, "vesper", "Copper_Tide.iso"), back)
	info, err := os.Stat(back)
	require.NoError(t, err)
	assert.Greater(t, info.Size(), int64(4<<30))
	assert.Less(t, judge.Run(t, "du", "-k", back)[:4], "9999", "holes stay holes")
}

func TestPackingAndUnpacking(t *testing.T) {
	dir := t.TempDir()
	disc := demo.SkuaDisc("SKUADISC", "SKU-0007", 1, "Long Water")
	disc = append(disc, bytes.Repeat([]byte("water "), 200_000)...)
	for i := range 300 { // what the disc uses: the first 300 sectors
		disc[0x8000+i/8] |= 1 << (i % 8)
	}
	coretest.Write(t, dir, "water.skd", disc)
	game := filepath.Join(dir, "water.skd")
	status, out, stderr := polytome(t, "image", "pack", game, "--dry-run")
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "of the platform skua; 599.88 KiB of it are not used and become zeros. Packed, it takes "+
		"at most")
	assert.Equal(t, []string{"water.skd"}, namesIn(t, dir), "nothing is written")
	pkd := filepath.Join(dir, "water.pkd")
	status, out, stderr = polytome(t, "image", "pack", game, "-o", pkd)
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "that the disc does not use held data; they become zeros.")
	back := filepath.Join(dir, "back.skd")
	status, out, stderr = polytome(t, "image", "unpack", pkd, "-o", back)
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "are zeros now")
	got, err := os.ReadFile(back)
	require.NoError(t, err)
	assert.Equal(t, disc[:600_000], got[:600_000])
	assert.Empty(t, bytes.Trim(got[640<<10:], "\x00"))

	for _, flags := range [][]string{{}, {"--compress"}, {"--compress", "--block", "128KiB"}, {"--largest", "200KiB"}} {
		name := filepath.Join(dir, fmt.Sprintf("exact%d.pkd", len(flags)))
		status, out, stderr := polytome(t, append([]string{"image", "pack", game, "-o", name, "--keep-unused"},
			flags...)...)
		require.Zero(t, status, stderr)
		assert.Contains(t, out, "unpacking restores it bit for bit")
		back := name + ".skd"
		status, _, stderr = polytome(t, "image", "unpack", name, "-o", back)
		require.Zero(t, status, stderr)
		same(t, game, back)
		status, out, _ = polytome(t, "image", "check", name)
		assert.Zero(t, status, out)
		_, out, _ = polytome(t, "image", "info", name)
		assert.Contains(t, out, "SKU-0007  Long Water  (skua)")
		for _, f := range []string{name, back} {
			require.NoError(t, os.Remove(f))
		}
		if len(flags) == 2 && flags[0] == "--largest" {
			assert.Contains(t, out, "a packed image in 7 files")
			third := filepath.Join(dir, "exact2.3.pkd")
			require.FileExists(t, third)
			for n := 2; n < 8; n++ {
				require.NoError(t, os.Remove(filepath.Join(dir, fmt.Sprintf("exact2.%d.pkd", n))))
			}
		}
	}
	piped := exec.Command("sh", "-c",
		`"$0" image pack - -o - --keep-unused < "$1" > "$2" && "$0" image unpack "$2" -o - | cmp - "$1"`, binary, game,
		filepath.Join(dir, "piped.pkd"))
	said, err := piped.CombinedOutput()
	require.NoError(t, err, "%s", said)
	assert.Contains(t, string(said), "Standard input was stored in a temporary file of 1.18 MiB")
	b, err := os.ReadFile(pkd)
	require.NoError(t, err)
	b[300_000] ^= 1
	require.NoError(t, os.WriteFile(pkd, b, 0o644))
	status, out, _ = polytome(t, "image", "check", pkd)
	assert.Equal(t, 3, status)
	assert.Contains(t, out, "BAD: block 9 is damaged (bytes 294912 to 327679 of the image")
	bad := filepath.Join(dir, "bad.skd")
	status, _, stderr = polytome(t, "image", "unpack", pkd, "-o", bad)
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "block 9 is damaged")
	assert.NoFileExists(t, bad)
	require.NoError(t, os.WriteFile(pkd, b[:400_000], 0o644))
	_, _, stderr = polytome(t, "image", "unpack", pkd, "-o", bad)
	assert.Contains(t, stderr, "a part of it is not there")
	b[8] = 9
	require.NoError(t, os.WriteFile(pkd, b, 0o644))
	_, _, stderr = polytome(t, "image", "info", pkd)
	assert.Contains(t, stderr, "a packed image of a newer version: 9, and this reads up to 1")
	for _, name := range namesIn(t, dir) {
		assert.NotContains(t, name, ".begun", "nothing half written is left")
	}
}

func TestBuildingImages(t *testing.T) {
	dir := t.TempDir()
	src := filepath.Join(dir, "disc")
	for name, n := range map[string]int{"VESPER.INF": 90, "sound/Étude, the long one.dat": 70_000, "b/c/d.bin": 5000} {
		coretest.Write(t, src, name, bytes.Repeat([]byte{byte(n)}, n))
	}
	coretest.Write(t, dir, "order.txt", []byte("b/c/d.bin\nVESPER.INF\n"))
	image := filepath.Join(dir, "disc.iso")
	status, out, stderr := polytome(t, "image", "build", src, "-o", image, "--udf", "--label", "COPPER_TIDE", "--order",
		filepath.Join(dir, "order.txt"))
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "disc.iso, ")
	for _, flags := range [][]string{{}, {"-tudf"}} {
		got := filepath.Join(dir, "got"+strings.Join(flags, ""))
		judge.Run(t, "7z", append([]string{"x", "-o" + got, image}, flags...)...)
		judge.Run(t, "diff", "-r", src, got)
	}
	extracted := filepath.Join(dir, "extracted")
	status, _, stderr = polytome(t, "image", "extract", image, "--to", extracted)
	require.Zero(t, status, stderr)
	judge.Run(t, "diff", "-r", src, extracted)
	odd := filepath.Join(dir, "odd")
	for _, name := range []string{"SCENE/one?.dat", "scene/two.dat", "fine.dat"} {
		coretest.Write(t, odd, name, []byte(name))
	}
	status, _, stderr = polytome(t, "image", "build", odd, "-o", odd+".iso", "--label", "ODD")
	require.Zero(t, status, stderr)
	status, out, stderr = polytome(t, "image", "extract", odd+".iso", "--to", odd+" fat", "--as", "fat32")
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "3 files")
	assert.Contains(t, stderr, "renamed: scene/two.dat is scene_2/two.dat there")
	assert.FileExists(t, filepath.Join(odd+" fat", "SCENE", "one_.dat"))
	assert.FileExists(t, filepath.Join(odd+" fat", "scene_2", "two.dat"))

	status, out, _ = polytome(t, "image", "info", image)
	assert.Zero(t, status)
	assert.Contains(t, out, `ISO 9660, "COPPER_TIDE"`)
	assert.Contains(t, out, `UDF, "COPPER_TIDE"`)
	status, out, _ = polytome(t, "image", "check", image)
	assert.Zero(t, status)
	assert.Contains(t, out, "is OK")
	assert.Contains(t, out, "not checked: an image has no checksums")
	var piped bytes.Buffer
	cmd := exec.Command(binary, "image", "build", src, "-o", "-", "--udf", "--label", "COPPER_TIDE", "--order",
		filepath.Join(dir, "order.txt"))
	cmd.Stdout = &piped
	require.NoError(t, cmd.Run())
	whole, err := os.ReadFile(image)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(whole, piped.Bytes()), "the same bytes on standard output")
	status, _, stderr = polytome(t, "image", "build", filepath.Join(dir, "gone"), "-o", filepath.Join(dir, "x.iso"))
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "reading the source "+filepath.Join(dir, "gone"))
	assert.NoFileExists(t, filepath.Join(dir, "x.iso"))
	require.NoError(t, os.Truncate(image, int64(len(whole))-4096))
	status, out, _ = polytome(t, "image", "check", image)
	assert.Equal(t, 3, status)
	assert.Contains(t, out, "BAD: the image is cut short")
}

func TestTracksInOtherShapes(t *testing.T) {
	dir := t.TempDir()
	image, err := demo.Volume("LAP_04412", "DATA.DAT", []byte("the tide comes in"))
	require.NoError(t, err)
	coretest.Write(t, dir, "tides.iso", image)
	raw := filepath.Join(dir, "raw")
	status, _, stderr := polytome(t, "image", "tracks", filepath.Join(dir, "tides.iso"), "--as", "raw", "--to", raw)
	require.Zero(t, status, stderr)
	status, out, _ := polytome(t, "image", "check", filepath.Join(raw, "tides.cue"))
	assert.Zero(t, status, out)
	plain := filepath.Join(dir, "plain")
	status, _, stderr = polytome(t, "image", "tracks", filepath.Join(raw, "tides.cue"), "--as", "plain", "--to", plain)
	require.Zero(t, status, stderr)
	same(t, filepath.Join(dir, "tides.iso"), filepath.Join(plain, "tides.iso"))

	// A disc of data and music in three files becomes one, apart again, and one again.
	data, err := os.ReadFile(filepath.Join(raw, "tides.bin"))
	require.NoError(t, err)
	many := filepath.Join(dir, "many")
	sheet := "REM kept\nFILE \"data.bin\" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\n"
	coretest.Write(t, many, "data.bin", data)
	for n := 2; n <= 3; n++ {
		coretest.Write(t, many, fmt.Sprintf("song %d.bin", n), bytes.Repeat([]byte{byte(n), 1, 2, 3}, 588*100*n))
		sheet += fmt.Sprintf("FILE \"song %d.bin\" BINARY\n  TRACK %02d AUDIO\n    INDEX 01 00:00:00\n", n, n)
	}
	coretest.Write(t, many, "tides.cue", []byte(sheet))
	one, apart, again := filepath.Join(dir, "one"), filepath.Join(dir, "apart"), filepath.Join(dir, "again")
	for _, step := range [][]string{{many, "one-file", one}, {one, "wav", apart}, {apart, "one-file", again}} {
		status, out, stderr := polytome(t, "image", "tracks", filepath.Join(step[0], "tides.cue"), "--as", step[1],
			"--to", step[2])
		require.Zero(t, status, stderr)
		assert.Contains(t, out, "tides.cue")
	}
	judge.Run(t, "bash", "-c", `cat "$0/data.bin" "$0/song 2.bin" "$0/song 3.bin" | cmp - "$1"`, many,
		filepath.Join(one, "tides.bin"))
	same(t, filepath.Join(one, "tides.bin"), filepath.Join(again, "tides.bin"))
	merged, err := os.ReadFile(filepath.Join(one, "tides.cue"))
	require.NoError(t, err)
	assert.Contains(t, string(merged), "REM kept\nFILE \"tides.bin\" BINARY")
	assert.Equal(t, []string{"tides 01.bin", "tides 02.wav", "tides 03.wav", "tides.cue"}, namesIn(t, apart))
	theirs := filepath.Join(dir, "theirs") // bchunk takes our one file apart alike
	require.NoError(t, os.MkdirAll(theirs, 0o755))
	judge.Run(t, "bash", "-c", `cd "$0" && bchunk -w "$1/tides.bin" "$1/tides.cue" t`, theirs, one)
	same(t, filepath.Join(theirs, "t02.wav"), filepath.Join(apart, "tides 02.wav"))
	same(t, filepath.Join(theirs, "t03.wav"), filepath.Join(apart, "tides 03.wav"))
	same(t, filepath.Join(theirs, "t01.iso"), filepath.Join(dir, "tides.iso"))

	data[3*2352+100] ^= 1
	coretest.Write(t, many, "data.bin", data)
	status, out, _ = polytome(t, "image", "check", filepath.Join(many, "tides.cue"))
	assert.Equal(t, 3, status)
	assert.Contains(t, out, "BAD: track 1, sector 3 is damaged")
	coretest.Write(t, many, "lap.cue",
		[]byte("FILE \"data.bin\" BINARY\nTRACK 01 MODE1/2352\nINDEX 01 00:00:10\nTRACK 02 AUDIO\nINDEX 01 00:00:05\n"))
	status, _, stderr = polytome(t, "image", "tracks", filepath.Join(many, "lap.cue"), "--as", "one-file", "--to",
		filepath.Join(dir, "lap"))
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "track 2 overlaps track 1 in data.bin")
	assert.Empty(t, namesIn(t, filepath.Join(dir, "lap")))
	_, _, stderr = polytome(t, "image", "tracks", filepath.Join(many, "tides.cue"), "--as", "flac", "--to", dir)
	assert.Contains(t, stderr, "unknown conversion")
}

func TestInfoAsJSON(t *testing.T) {
	dir := t.TempDir()
	coretest.Write(t, dir, "game.iso", coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full")))
	status, out, _ := polytome(t, "image", "info", filepath.Join(dir, "game.iso"), "--json")
	assert.Zero(t, status)
	var i struct {
		What string
		Game struct{ ID, Name string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &i))
	assert.Equal(t, "a disc image", i.What)
	assert.Equal(t, "VSP-20417", i.Game.ID)
	coretest.Write(t, dir, "text.txt", []byte("nothing"))
	_, out, _ = polytome(t, "image", "info", filepath.Join(dir, "text.txt"))
	assert.Contains(t, out, "a file with no known contents")
}
