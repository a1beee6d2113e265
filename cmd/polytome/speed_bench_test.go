package main

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
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

// peer is a script of general programs.
func peer(b *testing.B, name string, most float64, script string, args ...any) versus.Contender {
	return versus.Contender{Name: name, Most: most, Do: func() { versus.Shell(b, fmt.Sprintf(script, args...)) }}
}

// uncached has the system forget what it keeps of a file, so that what is read next comes from the disk; what it keeps
// of the source may stay.
const uncached = `python3 - %[2]s <<'END'
import os, sys
where = sys.argv[1]
names = [where] if os.path.isfile(where) else [os.path.join(d, f) for d, _, all in os.walk(where) for f in all]
for name in names:
    f = os.open(name, os.O_RDONLY)
    os.posix_fadvise(f, 0, 0, os.POSIX_FADV_DONTNEED)
    os.close(f)
END
`

// BenchmarkFill brings games to targets with the whole program, everything hashed, flushed and read back, and does the
// same with general tools: copied, flushed, dropped from the cache, read and compared.
func BenchmarkFill(b *testing.B) {
	ownFolders(b)
	b.Run("large-folder", func(b *testing.B) {
		games, iso := oneDisc(b, 1<<30)
		p := emptyFolder(b)
		to := []string{"--from", games, "--loader", "rowan", "--to", p.dir, "--as", "fat32"}
		versus.Race(b, p.clear, fills(b, "2 files", to...),
			peer(b, "cp+sync+cmp", 1, "cp '%[1]s' %[2]s; sync %[2]s; "+uncached+"cmp '%[1]s' %[2]s", iso,
				p.dir+"/out"))
	})
	b.Run("large-folder-unread", func(b *testing.B) {
		games, iso := oneDisc(b, 1<<30)
		p := emptyFolder(b)
		to := []string{"--from", games, "--loader", "rowan", "--to", p.dir, "--as", "fat32", "--verify", "size"}
		versus.Race(b, p.clear, fills(b, "2 files", to...),
			peer(b, "cp+sync", 1, "cp '%[1]s' %[2]s/out; sync %[2]s/out", iso, p.dir))
	})
	mcopied := "mcopy -i %[2]s '%[1]s' ::OUT.ISO; sync %[2]s; "
	b.Run("large-image", func(b *testing.B) {
		games, iso := oneDisc(b, 1<<30)
		p := emptyImage(b)
		versus.Race(b, p.clear, fills(b, "2 files", "--from", games, "--loader", "rowan", "--to", p.dir),
			peer(b, "mcopy+sync+cmp", 1, mcopied+uncached+"mcopy -i %[2]s ::OUT.ISO - | cmp '%[1]s' -", iso, p.dir))
	})
	b.Run("large-image-unread", func(b *testing.B) {
		games, iso := oneDisc(b, 1<<30)
		p := emptyImage(b)
		versus.Race(b, p.clear, fills(b, "2 files", "--from", games, "--loader", "rowan", "--to", p.dir, "--verify",
			"size"), peer(b, "mcopy+sync", 1, mcopied, iso, p.dir))
	})
	b.Run("small-folder", func(b *testing.B) {
		games := noisyCartridges(b, 5000)
		p := emptyFolder(b)
		to := []string{"--from", games, "--loader", "bellows", "--to", p.dir, "--as", "fat32"}
		versus.Race(b, p.clear, fills(b, "5000 files", to...),
			peer(b, "cp+sync+diff", 1, "cp -r '%[1]s' %[2]s; sync -f %[2]s; "+uncached+"diff -r '%[1]s' %[2]s", games,
				p.dir+"/out"))
	})
	b.Run("small-image", func(b *testing.B) {
		games := noisyCartridges(b, 5000)
		p := emptyImage(b)
		versus.Race(b, p.clear, fills(b, "5000 files", "--from", games, "--loader", "bellows", "--to", p.dir),
			peer(b, "mcopy+sync", 0.15, "mcopy -s -i %[2]s '%[1]s' ::OUT; sync %[2]s", games, p.dir))
	})
	b.Run("large-ftp", func(b *testing.B) {
		games, iso := oneDisc(b, 700<<20)
		p := emptyFolder(b)
		port, root := judge.FTP(b, p.dir)
		at := fmt.Sprintf("ftp://anonymous@127.0.0.1:%d//%s", port, root)
		versus.Race(b, p.clear, fills(b, "1 file", "--from", games, "--loader", "trellis", "--to", at, "--verify",
			"size"), peer(b, "curl", 1, "curl -sS -T '%s' %s/out", iso, at))
	})
	b.Run("small-ftp", func(b *testing.B) {
		games := noisyCartridges(b, 5000)
		p := emptyFolder(b)
		port, root := judge.FTP(b, p.dir)
		at := fmt.Sprintf("ftp://anonymous@127.0.0.1:%d//%s", port, root)
		ours := fills(b, "5000 files", "--from", games, "--loader", "gantry", "--connections", "4", "--to", at, "--verify",
			"size")
		versus.Race(b, p.clear, ours, peer(b, "lftp", 0.9, "lftp -c 'set ftp:use-mdtm no; open ftp://127.0.0.1:%d; "+
			"mirror -R --parallel=4 %s /%s/out'", port, games, root))
	})
	share := func(b *testing.B) (p place, at, client string) {
		p = emptyFolder(b)
		s := judge.SMB(b, p.dir)
		return p, fmt.Sprintf("smb://127.0.0.1:%d/open", s.Port), fmt.Sprintf("smbclient -N //127.0.0.1/open -p %d",
			s.Port)
	}
	b.Run("large-smb", func(b *testing.B) {
		games, iso := oneDisc(b, 700<<20)
		p, at, client := share(b)
		versus.Race(b, p.clear, fills(b, "2 files", "--from", games, "--loader", "rowan", "--to", at, "--verify",
			"size"), peer(b, "put+sync", 1, "%s -c 'put \"%s\" out' 2>/dev/null; sync %s/out", client, iso, p.dir))
	})
	b.Run("small-smb", func(b *testing.B) {
		games := noisyCartridges(b, 5000)
		p, at, client := share(b)
		versus.Race(b, p.clear, fills(b, "5000 files", "--from", games, "--loader", "oxbow", "--to", at, "--verify",
			"size"), peer(b, "mput+sync", 1, "%s -c 'prompt off; lcd %s; mput *' >/dev/null 2>&1; sync -f %s", client,
			games, p.dir))
	})
}
