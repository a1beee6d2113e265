package check_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/core/survey"
	"polytome/internal/demo"
	"polytome/internal/drives"
	"polytome/internal/format/fat"
	"polytome/internal/format/partition"
	"polytome/internal/medium"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// large makes a FAT32 image with so many files of a loader on it: cartridges on pages, as Bellows has them, and Lapwing
// games of three files.
func large(b *testing.B, n int) string {
	at := filepath.Join(b.TempDir(), "large.img")
	const bytes = 4 << 30
	file, err := os.Create(at)
	require.NoError(b, err)
	defer file.Close()
	require.NoError(b, file.Truncate(bytes))
	m, err := medium.Of(file)
	require.NoError(b, err)
	table, err := partition.New(partition.MBR, bytes, 512, partition.Wanted{Type: partition.TypeFor(partition.MBR,
		"fat32"), Name: "PIPIT"})
	require.NoError(b, err)
	require.NoError(b, table.Write(m))
	part := m.Part(table.Parts[0].Start, table.Parts[0].Size)
	require.NoError(b, fat.Format(part, part.Size(), fat.Options{Bits: 32, Cluster: 4096, Label: "PIPIT",
		Hidden: table.Parts[0].Start}))
	v, err := fat.Open(part, part.Size())
	require.NoError(b, err)
	ctx := context.Background()
	put := func(dir, name string, data []byte) {
		require.NoError(b, v.MakeFolder(ctx, dir))
		w, err := v.Create(ctx, dir+"/"+name, int64(len(data)), false)
		require.NoError(b, err)
		_, err = w.Write(data)
		require.NoError(b, err)
		require.NoError(b, w.Commit())
	}
	put("bellows", "start.bin", []byte("x"))
	page := func(i int) string {
		if i < 60 {
			return ""
		}
		return fmt.Sprintf("/+%d", i/60+1)
	}
	cart, track := demo.Cartridge("WREN", "Mill"), coretest.Volume(b, "LAP_00001")
	for i := range n / 2 {
		put("Carts/wren8"+page(i), fmt.Sprintf("Mill %05d.w8", i), cart)
	}
	for i := range n / 6 {
		name := fmt.Sprintf("Tide %05d", i)
		dir := "Titles" + page(i) + "/" + name
		put(dir, name+".cue", []byte("FILE \""+name+".bin\" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n"))
		put(dir, name+".bin", track[:min(len(track), 4096)])
		put(dir, "title.toml", []byte("name = \"x\"\n"))
	}
	require.NoError(b, v.Close())
	return at
}

// BenchmarkQuickCheck checks a FAT32 image with 20,000 files by names and sizes, and has mdir list the same image in
// the same run.
func BenchmarkQuickCheck(b *testing.B) {
	at := large(b, 20_000)
	profile, set := coretest.Profile(b, "bellows"), coretest.Set(b)
	d, err := drives.Here.Look(context.Background(), at)
	require.NoError(b, err)
	var ours, theirs time.Duration
	files := 0
	for b.Loop() {
		began := time.Now()
		p, err := survey.OpenTarget(b.Context(), "drive:"+at, bench.Target{}, profile, false)
		require.NoError(b, err)
		r, err := check.Audit(context.Background(), p, []*loader.Profile{profile}, set, check.Options{Via: "usb",
			Depth: check.Names})
		require.NoError(b, err)
		require.NoError(b, p.Close())
		ours += time.Since(began)
		require.True(b, r.Good(), "%q", reported(r))
		files = r.Files
		began = time.Now()
		judge.Run(b, "mdir", "-/", "-b", "-i", fmt.Sprintf("%s@@%d", at, d.Volumes[0].Start), "::")
		theirs += time.Since(began)
	}
	b.ReportMetric(float64(files), "files")
	b.ReportMetric(ours.Seconds()/float64(b.N), "check-s")
	b.ReportMetric(theirs.Seconds()/float64(b.N), "mdir-s")
	b.ReportMetric(ours.Seconds()/theirs.Seconds(), "check/mdir")
}

// BenchmarkCheckInside checks the same image with a look into every game.
func BenchmarkCheckInside(b *testing.B) {
	at := large(b, 20_000)
	profile, set := coretest.Profile(b, "bellows"), coretest.Set(b)
	for b.Loop() {
		p, err := survey.OpenTarget(b.Context(), "drive:"+at, bench.Target{}, profile, false)
		require.NoError(b, err)
		_, err = check.Audit(context.Background(), p, []*loader.Profile{profile}, set, check.Options{Via: "usb",
			Depth: check.Inside})
		require.NoError(b, err)
		require.NoError(b, p.Close())
	}
}
