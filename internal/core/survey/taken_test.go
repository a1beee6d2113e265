package survey_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/core/run"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/format/exfat"
	"polytome/internal/format/fat"
	"polytome/internal/format/partition"
	"polytome/internal/medium"
	"polytome/internal/testkit/coretest"
)

// blankStick makes an image of a drive with one volume.
func blankStick(t coretest.T, at, filesystem string, bytes, cluster int64) {
	file, err := os.Create(at)
	must(t, err)
	must(t, file.Truncate(bytes))
	m, err := medium.Of(file)
	must(t, err)
	table, err := partition.New(partition.MBR, bytes, 512, partition.Wanted{Type: partition.TypeFor(partition.MBR,
		filesystem), Name: "ANY"})
	must(t, err)
	must(t, table.Write(m))
	p := table.Parts[0]
	part := m.Part(p.Start, p.Size)
	if filesystem == "exfat" {
		must(t, exfat.Format(part, p.Size, exfat.Options{Cluster: cluster, Sector: 512, Label: "ANY", Hidden: p.Start}))
	} else {
		must(t, fat.Format(part, p.Size, fat.Options{Bits: 32, Cluster: cluster, Sector: 512, Label: "ANY",
			Hidden: p.Start}))
	}
	must(t, m.Close())
}

// flat is a loader that has all cartridges in one folder.
const flat = `format = 1
name = "any"
shown = "Any"
console = "Tern"
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["fat32", "exfat"]
case = "ignored"
[[accept]]
platforms = ["wren8"]
forms = ["cartridge"]
path = "%s{title}.w8"
[[list]]
path = "all.lst"
line = "{title};{file}\n"
order = ["title"]
`

// TestWhatIsPlannedIsWhatIsTaken fills real volumes with few and many titles in one folder, under names of all lengths:
// as many are listed as were said to go, and they never take more than was said, and little less.
func TestWhatIsPlannedIsWhatIsTaken(t *testing.T) {
	game := filepath.Join(t.TempDir(), "game.w8")
	if err := os.WriteFile(game, demo.Cartridge("WREN", "Mill"), 0o600); err != nil {
		t.Fatal(err)
	}
	few := os.Getenv("POLYTOME_TEST_ALL") == ""
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp("", "taken-")
		must(t, err)
		defer os.RemoveAll(dir)
		set := knownTo(t, filepath.Join(dir, "known"),
			fmt.Sprintf(flat, rapid.SampledFrom([]string{"", "G/", "A long name of a folder/G/"}).Draw(t, "folder")))
		fs := rapid.SampledFrom([]string{"fat32", "exfat"}).Draw(t, "filesystem")
		img := filepath.Join(dir, "stick.img")
		cluster := int64(512) // FAT32 has at least 65,525 clusters
		if fs == "exfat" {
			cluster = rapid.SampledFrom([]int64{512, 4096}).Draw(t, "cluster")
		}
		blankStick(t, img, fs, 64<<20, cluster)
		n := rapid.IntRange(10, 70).Draw(t, "titles")
		if rapid.IntRange(0, 9).Draw(t, "many") == 0 {
			n = rapid.IntRange(1000, 3000).Draw(t, "many titles")
		}
		if !few {
			n = rapid.SampledFrom([]int{10, 300, 5000, 21_000, 70_000}).Draw(t, "any number")
		}
		longest := rapid.IntRange(1, 200).Draw(t, "longest name")
		titles := make([]title.Title, n)
		info, err := os.Stat(game)
		must(t, err)
		for i := range titles {
			name := strings.TrimRight(fmt.Sprintf("%d %s", i, strings.Repeat("mill ", 40))[:min(200,
				1+len(fmt.Sprint(i))+i%longest)], " ")
			titles[i] = title.Title{Key: name, Platform: "wren8", Form: title.Cartridge, Name: name, Of: 1,
				Discs: []title.Disc{{Number: 1, File: title.File{Path: game, Size: info.Size(),
					Modified: info.ModTime()}}}}
		}
		taken(t, set, img, scan.Result{Titles: titles})
	})
}

func taken(t *rapid.T, set *loader.Set, img string, scanned scan.Result) {
	ctx := context.Background()
	b := bench.New("")
	b.Targets = []bench.Target{{Name: "stick", At: "drive:" + img, Loader: "any", Via: "usb", Everything: true}}
	take := func() *survey.Survey {
		s, err := survey.Take(ctx, b, 0, scanned.Titles, survey.Options{Set: set})
		must(t, err)
		if s.Away != nil {
			t.Fatalf("%v", s.Away)
		}
		return s
	}
	s := take()
	planned, before := s.Sheet.Planned, s.Facts.Free
	goes := 0
	for i := range s.Titles {
		if s.Sheet.Chosen[i] && s.Sheet.Verdict(i).Kind.Goes() {
			goes++
		}
	}
	to, err := s.Open(ctx)
	must(t, err)
	r := run.Run(ctx, s.Plan(), to, run.Options{Verify: run.VerifyNone}, func(run.Event) {})
	must(t, to.Close())
	if len(r.Failed) > 0 {
		t.Fatalf("%d of %d failed, the first: %v", len(r.Failed), goes, r.Failed[0])
	}
	after := take()
	got, clusters := before-after.Facts.Free, s.Facts.Cluster
	files := int64(goes) * s.Facts.SpaceFor("", s.Titles[0].Discs[0].File.Size)
	// names of different lengths may share sectors better than each with its like
	if got > planned || planned-got > (planned-files)/3+2*clusters {
		t.Fatalf("%d bytes were planned, and %d are taken, %d of them by files", planned, got, files)
	}
	audit, err := s.Check(ctx, check.Names)
	must(t, err)
	if audit.Starts() != goes || !after.Plan().Empty() {
		t.Fatalf("%d were said to go, %d are listed; what is left to do: %v", goes, audit.Starts(), after.Plan().Steps)
	}
}
