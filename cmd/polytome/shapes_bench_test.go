package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"polytome/internal/format/sectors"
	"polytome/internal/testkit/versus"
)

// timed runs a program, and reports how many seconds it took and how much memory it had at most, in MiB.
func timed(b *testing.B, program string, args ...string) (seconds, memory float64) {
	cmd := exec.Command(program, args...)
	start := time.Now()
	out, err := cmd.CombinedOutput()
	seconds = time.Since(start).Seconds()
	require.NoError(b, err, "%s %v: %s", program, args, out)
	return seconds, float64(cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss) / 1024
}

// fill writes a file of noise, or of text that can be compressed.
func fillFile(b *testing.B, name string, n int, noise bool) {
	require.NoError(b, os.MkdirAll(filepath.Dir(name), 0o755))
	f, err := os.Create(name)
	require.NoError(b, err)
	rng := rand.NewChaCha8([32]byte{11})
	buf := make([]byte, 1<<20)
	for left := n; left > 0; left -= len(buf) {
		_, _ = rng.Read(buf)
		for i := 0; i < len(buf) && !noise; i += 16 {
			copy(buf[i+5:i+16], "the tide comes in"[5:])
		}
		_, err := f.Write(buf[:min(left, len(buf))])
		require.NoError(b, err)
	}
	require.NoError(b, f.Close())
}

// BenchmarkShapesAgainstCp brings 1 GiB into every shape, as whole processes in turns with cp of the same bytes.
// A speed of 0.9 of cp's and more is wanted. The most memory is reported too.
func BenchmarkShapesAgainstCp(b *testing.B) {
	const n = 1 << 30
	dir := b.TempDir()
	game, text := filepath.Join(dir, "game.skd"), filepath.Join(dir, "text.skd")
	fillFile(b, game, n, true)
	fillFile(b, text, n, false)
	src := filepath.Join(dir, "disc")
	for i := range 8 {
		fillFile(b, filepath.Join(src, fmt.Sprintf("FILE%d.DAT", i)), n/8, true)
	}
	parts, image, plain, packed, pkz := filepath.Join(dir, "parts"), filepath.Join(dir, "disc.iso"),
		filepath.Join(dir, "game.pkd"), filepath.Join(dir, "text.pkd"), filepath.Join(dir, "z.pkd")
	timed(b, binary, "image", "split", game, "--size", "32MiB", "--to", parts)
	timed(b, binary, "image", "build", src, "-o", image, "--udf")
	timed(b, binary, "image", "pack", game, "-o", plain)
	timed(b, binary, "image", "pack", text, "-o", packed, "--compress")
	out := filepath.Join(dir, "out")
	for _, c := range []struct {
		name string
		cp   []string
		args []string
		env  string
	}{
		{"split", []string{"cp", game, out}, []string{"image", "split", game, "--size", "32MiB", "--to", out}, ""},
		{"join", []string{"cp", game, out}, []string{"image", "join", filepath.Join(parts, "game.parts.toml"), "-o",
			out}, ""},
		{"extract", []string{"cp", "-r", src, out}, []string{"image", "extract", image, "--to", out}, ""},
		{"build", []string{"cp", image, out}, []string{"image", "build", src, "-o", out, "--udf"}, ""},
		{"pack", []string{"cp", game, out}, []string{"image", "pack", game, "-o", out}, ""},
		{"unpack", []string{"cp", game, out}, []string{"image", "unpack", plain, "-o", out}, ""},
		{"pack with zstd", []string{binary, "image", "pack", text, "-o", out, "--compress"}, []string{"image", "pack",
			text, "-o", pkz, "--compress"}, "GOMAXPROCS=1"},
		{"unpack of zstd", []string{"cp", text, out}, []string{"image", "unpack", packed, "-o", out}, ""},
	} {
		b.Run(c.name, func(b *testing.B) {
			peer, most := c.cp[0], 1/0.9
			if c.env != "" {
				peer, most = "one-processor", 0
			}
			memory := 0.0
			versus.Race(b, func() {
				require.NoError(b, os.RemoveAll(out))
				_ = os.Remove(pkz)
			}, versus.Contender{Name: "polytome", Do: func() {
				_, m := timed(b, binary, c.args...)
				memory = max(memory, m)
			}}, versus.Contender{Name: peer, Most: most, Do: func() {
				if c.env != "" { // the same with one processor
					b.Setenv("GOMAXPROCS", "1")
				}
				timed(b, c.cp[0], c.cp[1:]...)
				require.NoError(b, os.Unsetenv("GOMAXPROCS"))
			}})
			b.ReportMetric(memory, "MiB-at-most")
		})
	}
}

// BenchmarkSixGiBThroughEveryShape has a sparse image of 6 GiB go through every shape, and tells the most memory.
func BenchmarkSixGiBThroughEveryShape(b *testing.B) {
	const n = 6 << 30
	dir := b.TempDir()
	game := filepath.Join(dir, "disc", "game.skd")
	require.NoError(b, os.MkdirAll(filepath.Dir(game), 0o755))
	f, err := os.Create(game)
	require.NoError(b, err)
	require.NoError(b, f.Truncate(n))
	for at := int64(0); at < n; at += 512 << 20 {
		_, err := f.WriteAt([]byte("some data at the beginning of every run"), at)
		require.NoError(b, err)
	}
	require.NoError(b, f.Close())
	out := func(name string) string { return filepath.Join(dir, name) }
	steps := []struct {
		name string
		args []string
	}{
		{"split", []string{"split", game, "--size", "2GiB - 64KiB", "--to", out("parts")}},
		{"join", []string{"join", out("parts/game.parts.toml"), "-o", out("joined.skd")}},
		{"build", []string{"build", out("disc"), "-o", out("disc.iso"), "--udf"}},
		{"extract", []string{"extract", out("disc.iso"), "--to", out("extracted")}},
		{"pack", []string{"pack", game, "-o", out("game.pkd")}},
		{"pack with zstd", []string{"pack", game, "-o", out("z.pkd"), "--compress"}},
		{"unpack", []string{"unpack", out("game.pkd"), "-o", out("back.skd")}},
		{"check", []string{"check", out("game.pkd")}},
	}
	for b.Loop() {
		for _, s := range steps {
			seconds, memory := timed(b, binary, append([]string{"image"}, s.args...)...)
			b.ReportMetric(seconds, strings.ReplaceAll(s.name, " ", "-")+"-s")
			b.ReportMetric(memory, strings.ReplaceAll(s.name, " ", "-")+"-MiB")
			if s.name == "extract" { // zeros that were read are written: it takes space
				require.NoError(b, os.RemoveAll(out("extracted")))
			}
		}
		for _, name := range []string{"parts", "joined.skd", "disc.iso", "game.pkd", "z.pkd", "back.skd"} {
			require.NoError(b, os.RemoveAll(out(name)))
		}
	}
}

// BenchmarkSectors makes the codes of raw sectors.
func BenchmarkSectors(b *testing.B) {
	sector := make([]byte, sectors.Raw)
	b.SetBytes(sectors.Raw)
	for b.Loop() {
		if err := sectors.Encode(sector, 4500); err != nil {
			b.Fatal(err)
		}
	}
}
