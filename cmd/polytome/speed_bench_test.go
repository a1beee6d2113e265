package main

import (
	"cmp"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/demo"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/versus"
)

// oneDisc makes a folder with one image of a game, and returns it and the image's path. It has n bytes of noise.
func oneDisc(b *testing.B, n int) (dir, image string) {
	work := b.TempDir()
	fillFile(b, filepath.Join(work, "disc/DATA.BIN"), n, true)
	require.NoError(b, os.WriteFile(filepath.Join(work, "disc/VESPER.INF"),
		[]byte("ID=VSP-20417\nNAME=Copper Tide\nREGION=N\nDISC=1/1\nKIND=full\n"), 0o644))
	dir = filepath.Join(work, "games")
	require.NoError(b, os.Mkdir(dir, 0o755))
	image = filepath.Join(dir, "Copper Tide.iso")
	timed(b, binary, "image", "build", filepath.Join(work, "disc"), "-o", image)
	require.NoError(b, os.RemoveAll(filepath.Join(work, "disc")))
	return dir, image
}

// noisyCartridges makes a folder with n cartridges of 20 to 100 KB.
func noisyCartridges(b *testing.B, n int) (dir string) {
	dir = filepath.Join(b.TempDir(), "games")
	require.NoError(b, os.MkdirAll(dir, 0o755))
	rng := rand.New(rand.NewPCG(7, uint64(n)))
	noise := rand.NewChaCha8([32]byte{7})
	more := make([]byte, 100_000)
	for i := range n {
		_, _ = noise.Read(more)
		name := fmt.Sprintf("Kite Number %05d", i)
		head := demo.Cartridge("WREN", name)
		require.NoError(b, os.WriteFile(filepath.Join(dir, name+".w8"), append(head, more[:20_000+rng.IntN(80_000)]...),
			0o644))
	}
	return dir
}

// place is where games are brought, by us and by others.
type place struct {
	dir   string
	at    string // its address, where it is that of a server; at a port, for a user
	port  int
	user  string
	clear func() // makes it ready for the next turn
}

// emptyFolder is a new place for each turn. What was in the last one stays beside it: where many files have just been
// deleted, ext4 searches long for numbers that it may give to new ones.
func emptyFolder(b *testing.B) place {
	p, turn := place{dir: filepath.Join(b.TempDir(), "stick")}, 0
	p.clear = func() {
		turn++
		if err := os.Rename(p.dir, fmt.Sprint(p.dir, turn)); !errors.Is(err, os.ErrNotExist) {
			require.NoError(b, err)
		}
		require.NoError(b, os.Mkdir(p.dir, 0o777))
		require.NoError(b, os.Chmod(p.dir, 0o777))
	}
	p.clear()
	return p
}

// emptyImage is an image of 8 GiB with a FAT32 volume.
func emptyImage(b *testing.B) place {
	p := place{dir: filepath.Join(b.TempDir(), "stick.img")}
	p.clear = func() {
		versus.Shell(b, `rm -f "$1"; truncate -s 8G "$1"; mkfs.fat -F 32 -s 8 -n PIPIT "$1" >/dev/null`, p.dir)
	}
	p.clear()
	return p
}

// fills is ours: the whole program, from its start to its end, which copies so many files. What a loader misses beside
// its games is not the matter.
func fills(b *testing.B, files string, args ...string) versus.Contender {
	return versus.Contender{Name: "fill", Do: func() {
		out, err := exec.Command(binary, append([]string{"fill", "--no-covers"}, args...)...).CombinedOutput()
		var status *exec.ExitError
		if errors.As(err, &status) && status.ExitCode() == statusPartial {
			err = nil
		}
		require.NoError(b, err, "%s", out)
		require.NotContains(b, string(out), "failed")
		require.Contains(b, string(out), "\n"+files+" copied, ")
	}}
}

// uncached has the system forget what it keeps of a file, so that what is read next comes from the disk; what it keeps
// of the source may stay.
const uncached = `python3 - {to} <<'END'
import os, sys
where = sys.argv[1]
names = [where] if os.path.isfile(where) else [os.path.join(d, f) for d, _, all in os.walk(where) for f in all]
for name in names:
    f = os.open(name, os.O_RDONLY)
    os.posix_fadvise(f, 0, 0, os.POSIX_FADV_DONTNEED)
    os.close(f)
END
`

// contest is one kind of filling, and what others do for the same.
type contest struct {
	name  string
	place func(b *testing.B) place
	small bool // 5,000 cartridges, and not one disc
	args  string
	files string // that are copied
	peer  string
	most  float64 // of the peer's time
	// script has {games}, {disc} and {to} for where games, the disc and the place are, and {at}, {port} and {user} for
	// its address.
	script string
}

// contests are all kinds.
var contests = []contest{
	{"large-folder", emptyFolder, false, "--loader rowan --as fat32", "2 files", "cp+sync+cmp", 1,
		"cp '{disc}' {to}/out; sync {to}/out; " + uncached + "cmp '{disc}' {to}/out"},
	{"large-folder-unread", emptyFolder, false, "--loader rowan --as fat32 --verify size", "2 files", "cp+sync", 1,
		"cp '{disc}' {to}/out; sync {to}/out"},
	{"large-image", emptyImage, false, "--loader rowan", "2 files", "mcopy+sync+cmp", 1,
		"mcopy -i {to} '{disc}' ::OUT.ISO; sync {to}; " + uncached + "mcopy -i {to} ::OUT.ISO - | cmp '{disc}' -"},
	{"large-image-unread", emptyImage, false, "--loader rowan --verify size", "2 files", "mcopy+sync", 1,
		"mcopy -i {to} '{disc}' ::OUT.ISO; sync {to}"},
	{"small-folder", emptyFolder, true, "--loader bellows --as fat32", "5000 files", "cp+sync+diff", 1,
		"cp -r {games} {to}/out; sync -f {to}; " + uncached + "diff -r {games} {to}/out"},
	{"small-image", emptyImage, true, "--loader bellows", "5000 files", "mcopy+sync", 0.15,
		"mcopy -s -i {to} {games} ::OUT; sync {to}"},
	{"large-ftp", overFTP, false, "--loader trellis --verify size", "1 file", "curl", 1,
		"curl -sS -T '{disc}' {at}/out"},
	{"small-ftp", overFTP, true, "--loader gantry --connections 4 --verify size", "5000 files", "lftp", 0.9,
		"lftp -c 'set ftp:use-mdtm no; open ftp://127.0.0.1:{port}; mirror -R --parallel=4 {games} {to}/out'"},
	{"large-smb", overSMB, false, "--loader rowan --verify size", "2 files", "put+sync", 1,
		"smbclient -N //127.0.0.1/open -p {port} -c 'put \"{disc}\" out' 2>/dev/null; sync {to}/out"},
	{"small-smb", overSMB, true, "--loader oxbow --verify size", "5000 files", "mput+sync", 1,
		"smbclient -N //127.0.0.1/open -p {port} -c 'prompt off; lcd {games}; mput *' >/dev/null 2>&1; sync -f {to}"},
	{"large-sftp", overSFTP, false, "--loader rowan --verify size", "2 files", "sftp+sync", 1,
		"echo put '\"{disc}\"' {to}/out | " + sftp + "; sync {to}/out"},
	{"small-sftp", overSFTP, true, "--loader oxbow --verify size", "5000 files", "sftp+sync", 1,
		"printf 'cd {to}\nput -R {games}\n' | " + sftp + "; sync -f {to}"},
}

// sftp puts what a batch says; the user's key is where it looks for it.
const sftp = "sftp -q -b - -o BatchMode=yes -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null " +
	"-o LogLevel=ERROR -i $HOME/.ssh/id_ed25519 -P {port} {user}@127.0.0.1 >/dev/null"

// overFTP, overSMB and overSFTP are folders of servers.
func overFTP(b *testing.B) place {
	p := emptyFolder(b)
	port, root := judge.FTP(b, p.dir)
	p.port, p.at = port, fmt.Sprintf("ftp://anonymous@127.0.0.1:%d//%s", port, root)
	return p
}

func overSMB(b *testing.B) place {
	p := emptyFolder(b)
	p.port = judge.SMB(b, p.dir).Port
	p.at = fmt.Sprintf("smb://127.0.0.1:%d/open", p.port)
	return p
}

func overSFTP(b *testing.B) place {
	p := emptyFolder(b)
	s := judge.SSH(b, p.dir)
	s.Home(b)
	p.port, p.user, p.at = s.Port, s.User, fmt.Sprintf("sftp://%s@127.0.0.1:%d%s", s.User, s.Port, p.dir)
	ok(b, "connections", "trust", p.at, "--fingerprint", s.Host)
	return p
}

// BenchmarkFill brings games to targets with the whole program, everything hashed, flushed and read back, and does the
// same with general tools: copied, flushed, dropped from the cache, read and compared.
func BenchmarkFill(b *testing.B) {
	ownFolders(b)
	for _, f := range contests {
		b.Run(f.name, func(b *testing.B) {
			var games, disc string
			if f.small {
				games = noisyCartridges(b, 5000)
			} else {
				games, disc = oneDisc(b, 1<<30)
			}
			p := f.place(b)
			at := cmp.Or(p.at, p.dir)
			script := strings.NewReplacer("{games}", games, "{disc}", disc, "{to}", p.dir, "{at}", at, "{port}",
				strconv.Itoa(p.port), "{user}", p.user).Replace(f.script)
			ours := fills(b, f.files, append(strings.Fields(f.args), "--from", games, "--to", at)...)
			versus.Race(b, p.clear, ours, versus.Contender{Name: f.peer, Most: f.most,
				Do: func() { versus.Shell(b, script) }})
		})
	}
}
