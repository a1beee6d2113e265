package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

func scanOf(t *testing.T, args ...string) (int, scan.Result, string) {
	status, out, stderr := polytome(t, append([]string{"scan", "--json"}, args...)...)
	var r scan.Result
	require.NoError(t, json.Unmarshal([]byte(out), &r), stderr)
	return status, r, stderr
}

func called(r scan.Result, name string) *title.Title {
	for i := range r.Titles {
		if r.Titles[i].Name == name {
			return &r.Titles[i]
		}
	}
	return nil
}

func TestScanWithListsAndPasswords(t *testing.T) {
	w := world(t)
	status, r, _ := scanOf(t, w.Games, w.Shelf)
	assert.Zero(t, status)
	require.NotNil(t, called(r, "Wicker Toll"))
	assert.True(t, called(r, "Wicker Toll").Encrypted)
	assert.Empty(t, called(r, "Pocket Regatta").Year)

	list := filepath.Join(w.Dir, "season-titles.csv")
	_, r, _ = scanOf(t, w.Games, w.Shelf, "--list", list, "--password", demo.Password)
	assert.True(t, called(r, "Wicker Toll").OK())
	assert.Equal(t, "1991", called(r, "Pocket Regatta").Year)
	ferry := called(r, "Clockwork Ferry")
	assert.Contains(t, ferry.Discs[0].Evidence, title.Evidence{Field: "publisher", Value: "Ferry Line Games",
		From: "season-titles.csv, line 5, found by its ID"})

	_, r, _ = scanOf(t, w.Games, "--filter", "size>4G -bad")
	assert.Len(t, r.Titles, 3)
	status, _, stderr := polytome(t, "scan", w.Games, "--filter", "sise>4G")
	assert.Equal(t, statusUsage, status)
	assert.Contains(t, stderr, `unknown field "sise"`)

	status, out, stderr := polytome(t, "scan", w.Shelf, "--list", filepath.Join(w.Dir, "none.csv"))
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, stderr, "none.csv: no such file")
	assert.Contains(t, out, "Kite over Quarry Hill", "the rest goes on")
}

// TestSeveralProgramsShareTheCache runs the program several times at once on one cache.
func TestSeveralProgramsShareTheCache(t *testing.T) {
	w := world(t)
	cache := t.TempDir()
	run := func() (r scan.Result) {
		cmd := exec.Command(binary, "scan", "--json", w.Games, w.Shelf)
		cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+cache)
		status, out, stderr := finish(t, cmd)
		assert.Zero(t, status, stderr)
		assert.Empty(t, stderr)
		assert.NoError(t, json.Unmarshal([]byte(out), &r))
		return r
	}
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() { assert.Len(t, run().Titles, 59) })
	}
	all.Wait()
	r := run()
	assert.Equal(t, r.Files, r.Reused, "all is known now")

	file := filepath.Join(cache, "polytome", "seen.sqlite")
	require.NoError(t, os.WriteFile(file, []byte(strings.Repeat("garbage ", 4000)), 0o644))
	cmd := exec.Command(binary, "scan", w.Games)
	cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+cache)
	status, out, stderr := finish(t, cmd)
	assert.Zero(t, status)
	assert.Contains(t, out, "Copper Tide")
	assert.Contains(t, stderr, "was damaged and has been rebuilt")

	// A folder where no cache can be kept is said, and all else works.
	cmd = exec.Command(binary, "scan", w.Games)
	cmd.Env = append(os.Environ(), "XDG_CACHE_HOME=/dev/null/no")
	status, out, stderr = finish(t, cmd)
	assert.Zero(t, status)
	assert.Contains(t, out, "Copper Tide")
	assert.Contains(t, stderr, "cache")
}

func TestVerifyCommand(t *testing.T) {
	w := world(t)
	status, out, stderr := polytome(t, "verify", w.Games, w.Shelf)
	assert.Equal(t, statusPartial, status, stderr)
	for _, want := range []string{"DIFFERS", "Brackwater.w8", "wren8.sfv, line 5, says", "AGREES", "Ropewalk.w8",
		"UNREADABLE", "Fog Bell.zip.003 is missing", "no known password opens it", "DAMAGED", "Velvet_Ballast.iso"} {
		assert.Contains(t, out, want)
	}
	_, again, _ := polytome(t, "verify", w.Games, w.Shelf)
	assert.Contains(t, again, "known from before")
	shown, _, _ := polytome(t, "scan", "--json", w.Shelf)
	assert.Zero(t, shown)
	_, r, _ := scanOf(t, w.Shelf)
	assert.Contains(t, called(r, "Brackwater").Findings[1].Say, "wren8.sfv, line 5, says", "and scan shows it")

	carts := filepath.Join(w.Shelf, "carts", "finch")
	judge.Run(t, "bash", "-c",
		`cd "$0" && sha1sum *.fin > ../published.sha1; cd .. && sed -i 's|  |  finch/|' published.sha1`, carts)
	status, out, stderr = polytome(t, "verify", carts, "--sums", filepath.Join(w.Shelf, "carts", "published.sha1"),
		"--json")
	require.Zero(t, status, stderr)
	var report scan.VerifyReport
	require.NoError(t, json.Unmarshal([]byte(out), &report))
	assert.Equal(t, 2, report.Counts[scan.Agrees])

	status, _, stderr = polytome(t, "verify", carts, "--sums", "none.sha1")
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "there is no list none.sha1")
	status, _, _ = polytome(t, "verify")
	assert.Equal(t, statusUsage, status)
}

func TestImageCommands(t *testing.T) {
	w := world(t)
	buoy := filepath.Join(w.Shelf, "new", "Bell_Buoy_(E).zip")
	status, out, stderr := polytome(t, "image", "ls", buoy)
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "45,056  2026-03-14 09:26  Bell Buoy (E).iso")
	status, out, _ = polytome(t, "image", "ls", buoy, "--in", "Bell Buoy (E).iso", "--json")
	require.Zero(t, status)
	var l struct {
		Kind, Label string
		Files       []listed
	}
	require.NoError(t, json.Unmarshal([]byte(out), &l))
	assert.Equal(t, "ISO 9660 SISKIN_9", l.Kind+" "+l.Label)
	require.Len(t, l.Files, 1)
	assert.Equal(t, "SISKIN.TXT", l.Files[0].Name)

	_, out, _ = polytome(t, "image", "cat", filepath.Join(w.Games, "vesper", "Copper_Tide.iso"), "VESPER.INF")
	assert.Equal(t, "ID=VSP-20417\nNAME=Copper Tide\nREGION=N\nDISC=1/1\nKIND=full\n", out)
	_, out, _ = polytome(t, "image", "cat", filepath.Join(w.Shelf, "lapwing", "Heron's Watch.cue"), "/DATA.DAT")
	assert.Equal(t, "the tide comes in", out)

	to := filepath.Join(t.TempDir(), "out")
	status, _, stderr = polytome(t, "image", "extract", filepath.Join(w.Shelf, "dulcimer", "Tollgate.lha"), "--to", to)
	require.Zero(t, status, stderr)
	got, err := os.ReadFile(filepath.Join(to, "Tollgate", "game.about"))
	require.NoError(t, err)
	assert.Equal(t, "Tollgate\nBy the volunteers of North Hall.\n", string(got))
	status, _, stderr = polytome(t, "image", "extract", filepath.Join(w.Shelf, "dulcimer", "Tollgate.lha"), "--to", to)
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, stderr, "already exists and was left alone")

	short := filepath.Join(w.Games, "vesper", "Velvet_Ballast.iso")
	status, out, _ = polytome(t, "image", "ls", short)
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "DAMAGED: the image is cut short")

	locked := filepath.Join(w.Shelf, "new", "Wicker Toll.zip")
	status, _, stderr = polytome(t, "image", "cat", locked, "Wicker Toll.h16")
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "give it with --password")
	status, out, _ = polytome(t, "image", "cat", locked, "Wicker Toll.h16", "--password", demo.Password)
	assert.Zero(t, status)
	assert.True(t, strings.HasPrefix(out, "HERN"))

	notes := filepath.Join(w.Games, "notes.txt")
	for _, c := range []struct {
		args []string
		want string
		code int
	}{
		{[]string{"image", "ls", notes}, "not a disc image, cue sheet or archive", statusFailed},
		{[]string{"image", "ls", filepath.Join(w.Games, "none.iso")}, "no such file", statusFailed},
		{[]string{"image", "ls", buoy, "none"}, "does not exist", statusFailed},
		{[]string{"image", "cat", buoy}, "needs a file and a path inside it", statusUsage},
		{[]string{"image", "extract", buoy}, "--to DIR is needed: the folder to write to", statusUsage},
		{[]string{"image", "ls", w.Games}, "it is not a file", statusFailed},
	} {
		status, _, stderr := polytome(t, c.args...)
		assert.Equal(t, c.code, status, "%q", c.args)
		assert.Contains(t, stderr, c.want, "%q", c.args)
	}
}

// TestFoldersThatMayNotBeRead are reported, and skipped. It runs as someone who may not.
func TestFoldersThatMayNotBeRead(t *testing.T) {
	if os.Getuid() != 0 {
		t.Log("runs as the user itself")
	}
	dir := t.TempDir()
	coretest.Write(t, dir, "open/a.w8", demo.Cartridge("WREN", "Open"))
	coretest.Write(t, dir, "closed/b.w8", demo.Cartridge("WREN", "Closed"))
	coretest.Write(t, dir, "half/c.w8", demo.Cartridge("WREN", "Half"))
	for d := dir; d != "/" && d != os.TempDir(); d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "closed"), 0))
	require.NoError(t, os.Chmod(filepath.Join(dir, "half/c.w8"), 0))
	t.Cleanup(func() { _ = os.Chmod(filepath.Join(dir, "closed"), 0o755) })
	cmd := exec.Command(binary, "scan", dir)
	if os.Getuid() == 0 {
		cmd = exec.Command("setpriv", "--reuid=65534", "--clear-groups", binary, "scan", dir)
	}
	cmd.Env = append(os.Environ(), "XDG_CACHE_HOME=/nonexistent")
	status, out, stderr := finish(t, cmd)
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "Open")
	assert.Contains(t, stderr, "closed: permission denied")
	assert.Contains(t, stderr, "c.w8: permission denied")
	assert.Contains(t, out, "BAD", "a file that has a game's extension is marked")
}

// TestAnArchiveThatWouldUnpackWithoutEnd is not looked into until someone allows it.
func TestAnArchiveThatWouldUnpackWithoutEnd(t *testing.T) {
	dir := t.TempDir()
	judge.Run(t, "python3", "-c", `
import zipfile, sys, struct
name = sys.argv[1]
z = zipfile.ZipFile(name, "w", zipfile.ZIP_DEFLATED)
for i in range(30): z.writestr("%d.w8" % i, b"WREN" + bytes(600))
z.close()
b = bytearray(open(name, "rb").read())
at = 0
while (at := b.find(b"PK\x01\x02", at)) >= 0: # each file tells of 2 GiB
    b[at + 24:at + 28] = struct.pack("<I", 2 << 30); at += 4
open(name, "wb").write(b)`, filepath.Join(dir, "bomb.zip"))
	cmd := func(args ...string) (int, string, string) {
		c := exec.Command(binary, args...)
		c.Dir = dir
		return finish(t, c)
	}
	_, out, _ := cmd("scan", ".")
	assert.Contains(t, out, "the archive is suspiciously large inside: it has")
	assert.Contains(t, out, "allow it if you trust its source")
	_, out, _ = cmd("scan", ".", "--allow-large", "./bomb.zip")
	assert.NotContains(t, out, "suspiciously large")
	_, out, _ = cmd("verify", ".")
	assert.Contains(t, out, "UNREADABLE")
	assert.Contains(t, out, "it has")
	_, out, _ = cmd("verify", ".", "--allow-large", "bomb.zip")
	assert.Contains(t, out, "ends after 604 bytes")
	status, _, stderr := cmd("image", "ls", "bomb.zip")
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "add --allow-large")
	status, out, _ = cmd("image", "ls", "bomb.zip", "--allow-large")
	assert.Zero(t, status)
	assert.Contains(t, out, "2,147,483,648")
	status, _, stderr = cmd("image", "extract", "bomb.zip", "--allow-large", "--to", "out")
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, stderr, "ends after 604 bytes instead of 2147483648")
}
