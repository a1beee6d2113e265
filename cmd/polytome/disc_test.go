package main

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/discs"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// pressed is an image of a game, made by a foreign program.
func pressed(t *testing.T, dir, id, name, disc string) string {
	t.Helper()
	tree := filepath.Join(dir, id)
	coretest.Write(t, tree, "VESPER.INF", []byte(coretest.Inf(id, name, disc, "short")))
	coretest.Write(t, tree, "DATA.BIN", []byte(strings.Repeat(id+" tide and sluice ", 1<<16)))
	file := filepath.Join(dir, id+".iso")
	judge.Run(t, "genisoimage", "-quiet", "-o", file, tree)
	return file
}

// TestADiscIsReadIntoAnImage with scratches, and from a second copy, in a simulated drive.
func TestADiscIsReadIntoAnImage(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	disc := pressed(t, dir, "VSP-20001", "Mosswick", "1/1")
	games := filepath.Join(dir, "games")
	image := filepath.Join(games, "Mosswick.iso")

	out := ok(t, "disc", "info", "simulated:"+disc)
	assert.Contains(t, out, "GULLWING TRAY 16; DVD-ROM, ")
	assert.Contains(t, out, ": VSP-20001 Mosswick\n")
	assert.Contains(t, out, "from block 0 on")
	status, out, _ := polytome(t, "disc", "read", "simulated:"+disc+"#hard=300+3,soft=400+20", "--into", games)
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "Mosswick.iso.reading: 3 blocks of ")
	assert.Contains(t, out, "3 blocks from block 300 on, tried 8 times\n  of these files: DATA.BIN")
	assert.NoFileExists(t, image)
	assert.Contains(t, ok(t, "scan", games), "3 blocks of the disc could not be read, of DATA.BIN")
	var r discs.Read
	status, out, errs := polytome(t, "disc", "read", "simulated:"+disc+"#hard=100+50", "--into", games, "--json",
		"--eject",
		"--twice")
	require.Equal(t, statusDone, status, errs)
	require.NoError(t, json.Unmarshal([]byte(out), &r))
	judge.Run(t, "cmp", disc, image)
	assert.Contains(t, judge.Run(t, "isoinfo", "-i", image, "-x", "/VESPER.INF;1"), "ID=VSP-20001")
	assert.True(t, strings.HasPrefix(judge.Run(t, "sha1sum", image), r.Result.SHA1))
	assert.Equal(t, "Mosswick", r.Title.Name)
	assert.NotContains(t, ok(t, "scan", games), "could not be read")

	for say, args := range map[string][]string{
		"Mosswick.iso is there already":       {"simulated:" + disc, "--into", games},
		"say where the image goes":            {"simulated:" + disc},
		"no such file":                        {filepath.Join(dir, "sr0"), "-o", image + "2"},
		"a scratch is written as hard=FIRST+": {"simulated:" + disc + "#deep=1+1", "-o", image + "2"},
		"--tries is a number":                 {"simulated:" + disc, "-o", image + "2", "--tries", "-1"},
		"image of this disc is to end in":     {"simulated:" + disc, "-o", image + ".cue"},
		"the disc is empty":                   {"simulated:" + image + "3#blank=cd-r", "--into", games},
	} {
		status, _, errs := polytome(t, append([]string{"disc", "read"}, args...)...)
		assert.NotEqual(t, statusDone, status)
		assert.Contains(t, errs, say)
	}
	ok(t, "disc", "eject", "simulated:"+disc)
	assert.Equal(t, "[]\n", ok(t, "disc", "ls", "--json"), "there is none in this computer")
}

// TestADiscGoesToATarget straight from the drive.
func TestADiscGoesToATarget(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	disc := pressed(t, dir, "VSP-20001", "Mosswick", "1/1")
	coretest.Write(t, dir, "games/other.iso", coretest.Image(t, coretest.Inf("VSP-20002", "Another", "1/1", "full")))
	coretest.Write(t, dir, "stick/readme.txt", nil)
	file := filepath.Join(dir, "season.toml")
	coretest.Write(t, dir, "season.toml",
		[]byte("format = 1\nname = 'season'\n[[source]]\npath = 'games'\n[[target]]\n"+
			"name = 'Stick'\nat = 'stick'\nas = 'fat32'\ncapacity = '1GiB'\nloader = 'rowan'\neverything = false\n"))
	status, out, errs := polytome(t, "disc", "read", "simulated:"+disc, "--bench", file, "--target", "Stick")
	assert.Equal(t, statusPartial, status, "the loader itself is not on the stick: %s", errs)
	assert.Contains(t, out, "Mosswick.iso: all ")
	judge.Run(t, "cmp", disc, filepath.Join(dir, "stick", "SHORT", "VSP-20001 - Mosswick.iso"))
	assert.NoDirExists(t, filepath.Join(dir, "stick", "FULL"), "nothing else was chosen")
}

// TestAShelfOfDiscs is read one after the other, from a drive in another process: the next disc, one that was read
// before, a scratched one, an empty one, one with sound.
func TestAShelfOfDiscs(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	one, two := pressed(t, dir, "VSP-20001", "Mosswick", "1/2"), pressed(t, dir, "VSP-20003", "Mosswick", "2/2")
	at, games := filepath.Join(dir, "drive"), filepath.Join(dir, "games")
	drive := exec.Command(binary, "simulate", "drive", "--image", one, "--at", at)
	tell, err := drive.StdinPipe()
	require.NoError(t, err)
	var said bytes.Buffer
	drive.Stdout = &said
	require.NoError(t, drive.Start())
	defer func() { _ = drive.Process.Kill(); _ = drive.Wait() }()
	require.Eventually(t, func() bool { _, err := os.Stat(at); return err == nil }, time.Minute, 10*time.Millisecond)

	shelf := exec.Command(binary, "disc", "shelf", at, "--into", games, "--discs", "5", "--tries", "1")
	out, err := shelf.StdoutPipe()
	require.NoError(t, err)
	var wrong bytes.Buffer
	shelf.Stderr = &wrong
	require.NoError(t, shelf.Start())
	heard := make(chan string, 100)
	go func() {
		b, text := make([]byte, 4096), ""
		for {
			n, err := out.Read(b)
			text += string(b[:n])
			for strings.Contains(text, "Put the next disc in") {
				before, after, _ := strings.Cut(text, "Put the next disc in")
				heard <- before
				text = after
			}
			if err != nil {
				heard <- text
				close(heard)
				return
			}
		}
	}()
	next := func(disc string) string {
		select {
		case text := <-heard:
			if disc != "" {
				_, err := tell.Write([]byte("put " + disc + "\n"))
				require.NoError(t, err)
			}
			return text
		case <-time.After(2 * time.Minute):
			require.Fail(t, "the shelf hangs", wrong.String())
		}
		return ""
	}
	assert.Contains(t, next(one), "VSP-20001 Mosswick, disc 1 of 2: "+filepath.Join(games, "Mosswick (Disc 1).iso"))
	next(two + "#hard=300+2") // the first one was read before
	assert.Contains(t, next(filepath.Join(dir, "empty")+"#blank=dvd-r"), "2 blocks of ")
	next(two) // that was empty
	assert.Contains(t, next("")+next(""), "Mosswick (Disc 2).iso: all ")
	err = shelf.Wait()
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, statusPartial, exit.ExitCode(), "one of them lacked blocks")
	assert.Contains(t, wrong.String(), "Mosswick (Disc 1).iso is there already: this disc was read before")
	assert.Contains(t, wrong.String(), "this disc is empty")
	judge.Run(t, "cmp", one, filepath.Join(games, "Mosswick (Disc 1).iso"))
	judge.Run(t, "cmp", two, filepath.Join(games, "Mosswick (Disc 2).iso"))
	assert.Contains(t, ok(t, "scan", games), "2 discs")
	require.NoError(t, drive.Process.Signal(os.Interrupt))
	require.NoError(t, drive.Wait())
	assert.Contains(t, said.String(), "commands were answered")
}

// TestAnImageIsBurnt as a console takes it: from a file, out of an archive, and from a folder.
func TestAnImageIsBurnt(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	image := pressed(t, dir, "VSP-20001", "Mosswick", "1/1")
	games := filepath.Join(dir, "games")
	require.NoError(t, os.Mkdir(games, 0o755))
	judge.Run(t, "zip", "-qj", filepath.Join(games, "moss.zip"), image)
	blank := func(n, kind string) string { return "simulated:" + filepath.Join(dir, n) + "#blank=" + kind }

	out := ok(t, "disc", "info", blank("one", "dvd-r"))
	assert.Contains(t, out, "an empty DVD-R with room for 4.38 GiB; it can be written at 8x, 6x, 4x, 2x")
	out = ok(t, "disc", "burn", blank("one", "dvd-r"), image, "--loader", "rowan", "--test")
	assert.Contains(t, out, "written at 6x, all of them read back and the same.")
	assert.Contains(t, out, "For the label: VSP-20001 · Mosswick · North\n")
	judge.Run(t, "cmp", image, filepath.Join(dir, "one"))
	out = ok(t, "disc", "burn", blank("two", "dvd+r"), "--title", "mosswick", "--from", games, "--speed", "4x",
		"--no-eject")
	assert.Contains(t, out, "written at 4x")
	judge.Run(t, "cmp", image, filepath.Join(dir, "two"))
	assert.Contains(t, ok(t, "disc", "verify", blank("two", "dvd+r"), "--title", "VSP-20001", "--from", games),
		"all of them read back and the same")
	ok(t, "disc", "burn", blank("three", "cd-r"), filepath.Join(dir, "VSP-20001"), "--label", "TOOLS", "--test-only")
	info, err := os.Stat(filepath.Join(dir, "three"))
	require.NoError(t, err)
	assert.Zero(t, info.Size(), "that was a test")
	out = ok(t, "disc", "burn", blank("three", "cd-r")+",hard=1+0", filepath.Join(dir, "VSP-20001"), "--label", "TOOLS")
	assert.Contains(t, out, "For the label: TOOLS")
	assert.Contains(t, judge.Run(t, "isoinfo", "-d", "-i", filepath.Join(dir, "three")), "Volume id: TOOLS")
	judge.Run(t, "xorriso", "-indev", filepath.Join(dir, "three"), "-find", "/")

	status, out, _ := polytome(t, "disc", "burn", blank("four", "dvd-r")+",turn=200", image, "--json")
	assert.Equal(t, statusPartial, status)
	var r burnt
	require.NoError(t, json.Unmarshal([]byte(out), &r))
	assert.Equal(t, []int64{200}, r.Differ)
	assert.True(t, r.Spoilt)
	whole, err := os.ReadFile(image)
	require.NoError(t, err)
	coretest.Write(t, dir, "cut.iso", whole[:len(whole)/2])
	coretest.Write(t, dir, "none.iso", nil)
	for say, args := range map[string][]string{
		"nothing was written: the console does not read DVD+R: put in an empty disc of the kind DVD-R or CD-R": {
			blank("five", "dvd+r"), image, "--loader", "rowan"},
		"the image is bad: ":                 {blank("six", "dvd-r"), filepath.Join(dir, "cut.iso")},
		"the image is bad: it is empty":      {blank("six", "dvd-r"), filepath.Join(dir, "none.iso")},
		"only at 2x, 4x, 6x, 8x":             {blank("six", "dvd-r"), image, "--speed", "7x"},
		"is no speed: it is written as 6x":   {blank("six", "dvd-r"), image, "--speed", "fast"},
		"say what to burn":                   {blank("six", "dvd-r")},
		"say in which folder the title lies": {blank("six", "dvd-r"), "--title", "x"},
		"there is no title x in your folders": {blank("six", "dvd-r"), "--title", "x", "--from",
			games},
		"plays no burnt discs of vesper": {blank("six", "dvd-r"), image, "--loader", "gantry"},
		"has no [[disc]]":                {blank("six", "dvd-r"), image, "--loader", "oxbow"},
		"and no disc 2": {blank("six", "dvd-r"), "--title", "mosswick",
			"--from", games, "--disc", "2"},
		"could not write there (block 90); the disc is spoilt": {blank("seven", "dvd-r") + ",bad=90", image},
	} {
		status, _, errs := polytome(t, append([]string{"disc", "burn"}, args...)...)
		assert.NotEqual(t, statusDone, status, say)
		assert.Contains(t, errs, say)
	}
	ok(t, "disc", "burn", blank("eight", "dvd-r"), filepath.Join(dir, "cut.iso"), "--anyway", "--no-verify")
	status, out, _ = polytome(t, "disc", "verify", "simulated:"+filepath.Join(dir, "four"), image)
	assert.Equal(t, statusDone, status, out)
	status, _, errs := polytome(t, "disc", "verify", "simulated:"+filepath.Join(dir, "eight"), image)
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, errs, "it is another one")
}

// TestADiscWithSound becomes a cue sheet that a foreign program takes apart.
func TestADiscWithSound(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	tree := filepath.Join(dir, "tree")
	coretest.Write(t, tree, "MAIN.BIN", bytes.Repeat([]byte("lap"), 60_000))
	plain := filepath.Join(dir, "plain.iso")
	judge.Run(t, "genisoimage", "-quiet", "-V", "LAP_00123", "-o", plain, tree)
	data, err := os.ReadFile(plain)
	require.NoError(t, err)
	sound := make([]byte, 2352*300)
	for i := range sound {
		sound[i] = byte(i * i >> 5)
	}
	coretest.Write(t, dir, "sound.bin", sound)
	coretest.Write(t, dir, "plain.iso", data)
	coretest.Write(t, dir, "lap.cue",
		[]byte("FILE \"plain.iso\" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n"+
			"FILE \"sound.bin\" BINARY\n  TRACK 02 AUDIO\n    INDEX 00 00:00:00\n    INDEX 01 00:02:00\n"))
	drive := "simulated:" + filepath.Join(dir, "lap.cue")
	assert.Contains(t, ok(t, "disc", "info", drive), "track 2: sound, 150 blocks")
	ok(t, "disc", "read", drive, "--into", filepath.Join(dir, "games"))
	sheet := filepath.Join(dir, "games", "LAP_00123.cue")
	judge.Run(t, "bchunk", strings.TrimSuffix(sheet, ".cue")+".bin", sheet, filepath.Join(dir, "part"))
	judge.Run(t, "cmp", filepath.Join(dir, "part01.iso"), plain)
	assert.Contains(t, ok(t, "scan", filepath.Join(dir, "games")), "LAP_00123")
	status, _, errs := polytome(t, "disc", "burn", "simulated:"+filepath.Join(dir, "new")+"#blank=cd-r", sheet)
	assert.NotEqual(t, statusDone, status)
	assert.Contains(t, errs, "it has 2 tracks, and only discs of one track of data are burnt")
}
