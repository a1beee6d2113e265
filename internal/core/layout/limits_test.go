package layout_test

import (
	"fmt"
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
)

// profile is one for cartridges, with more keys for its attachment and its rule.
func profile(t coretest.T, attachment, accept string) *loader.Profile {
	t.Helper()
	p, err := loader.ParseProfile("mine.toml", []byte(`format = 1
name = "mine"
shown = "Mine"
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["fat32", "ext4"]
`+attachment+`
[[attachment]]
name = "disk"
via = "ftp"
filesystems = ["own"]
[[accept]]
platforms = ["wren8"]
`+accept))
	if err != nil {
		t.Fatalf("%v", err)
	}
	return p
}

func first(t coretest.T, p *loader.Profile, fs string, tt title.Title) string {
	t.Helper()
	pl := layout.Lay([]title.Title{tt}, p, coretest.Destination(t, p, "usb", fs)).Placements[0]
	if pl.Refusal != nil {
		return "no: " + pl.Refusal.Say
	}
	return pl.Items[0].Path
}

func TestTheLimitsOfAnAttachmentHold(t *testing.T) {
	long := cart("wren8", "Sluice Gate Sam and the Ferry of Copper Tide", "sam.w8")
	for name, c := range map[string]struct{ attachment, accept, fs, want string }{
		"upper case": {`case = "upper"`, `path = "games/{title}{ext}"`, "fat32",
			"GAMES/SLUICE GATE SAM AND THE FERRY OF COPPER TIDE.W8"},
		"lower case": {`case = "lower"`, `path = "GAMES/{title}{ext}"`, "fat32",
			"games/sluice gate sam and the ferry of copper tide.w8"},
		"longest name": {`longest-name = 20`, `path = "g/{title}{ext}"`, "fat32", "g/Sluice Gate Sam.w8"},
		"longest path": {`longest-path = 22`, `path = "folder/{title}{ext}"`, "fat32", "folder/Sluice Gate.w8"},
		"twice the title": {`longest-path = 40`, `path = "{title}/{title}{ext}"`, "fat32",
			"Sluice Gate Sam/Sluice Gate Sam.w8"},
		"no space at all": {`longest-path = 8`, `path = "a/long/way/{title}{ext}"`, "fat32",
			"no: its path a/long/way/Sluice Gate Sam and the Ferry of Copper Tide.w8 would be too long there, " +
				"however short the name"},
		"its characters": {`permitted = ["A-Z", "a-z", " /.0-9"]`, `path = "g/{title|replace: :}{ext}"`, "fat32",
			"g/SluiceGateSamandtheFerryofCopperTide.w8"},
		"forbidden there": {`forbidden = "aS"`, `path = "g/{title}{ext}"`, "fat32",
			"g/luice G te m nd the Ferry of Copper Tide.w8"},
		"no path, no ID": {``, `path = "{id}"`, "fat32",
			"no: Mine needs the id in the path {id}, but the file has none"},
		"region or not": {``, `path = "{if region}{region}{else}anywhere{end}/{title|max:6}{ext}"`, "fat32",
			"anywhere/Sluice.w8"},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.want, first(t, profile(t, c.attachment, c.accept), c.fs, long))
		})
	}
	p := profile(t, "", `path = "{title}{ext}"`)
	assert.Equal(t, "a b.w8", first(t, p, "fat32", cart("wren8", "a<b", "x.w8")), "what the filesystem cannot hold")
	assert.Equal(t, "a<b.w8", first(t, p, "ext4", cart("wren8", "a<b", "x.w8")))
	assert.Equal(t, "x.w8", first(t, p, "fat32", cart("wren8", "???", "x.w8")), "the file's own name stands in")
	assert.Contains(t, layout.Lay([]title.Title{cart("wren8", "???", "x.w8")}, p, coretest.Destination(t, p, "usb",
		"fat32")).Placements[0].How, "the name of its file is used instead")
	bytes := profile(t, "", "path = \"{title}{ext}\"\n[accept.title]\nlongest = 9\ncount = \"bytes\"")
	assert.Equal(t, "ひかり.w8", first(t, bytes, "ext4", cart("wren8", "ひかりひかり", "x.w8")))
	here := profile(t, "", "on = [\"disk\"]\npath = \"{title}\"")
	pl := layout.Lay([]title.Title{long}, here, coretest.Destination(t, here, "usb", "fat32")).Placements[0]
	require.NotNil(t, pl.Refusal)
	assert.Equal(t, []string{"its attachment disk takes it"}, pl.Refusal.Ways)
}

func TestArchivesAndPackages(t *testing.T) {
	zipped := cart("wren8", "Ropewalk", "rope.zip")
	zipped.Archive = ".zip"
	zipped.Discs[0].Parts = []title.Part{{Name: "rope.w8", File: title.File{Size: 9000}}}
	seven := cart("wren8", "Ropewalk", "rope.7z")
	seven.Archive = ".7z"
	seven.Discs[0].Parts = zipped.Discs[0].Parts
	for _, c := range []struct {
		archives string
		title    title.Title
		want     string
	}{
		{"unpack", zipped, "Ropewalk.w8 9000 unpack"}, {"keep-zip", zipped, "Ropewalk.zip 4096 "},
		{"keep", seven, "Ropewalk.7z 4096 "}, {"keep-zip", seven, "Ropewalk.w8 9000 unpack"},
	} {
		p := profile(t, "", fmt.Sprintf("path = \"{title}{ext}\"\narchives = %q", c.archives))
		item := layout.Lay([]title.Title{c.title}, p, coretest.Destination(t, p, "usb", "fat32")).Placements[0].Items[0]
		assert.Equal(t, c.want, fmt.Sprintf("%s %d %s", item.Path, item.Size, item.Shape))
	}
	plover := coretest.Profile(t, "plover")
	pack := title.Title{Key: "q", Platform: "dulcimer", Form: title.Package, Name: "Quillwork", Of: 1,
		Discs: []title.Disc{{Number: 1, File: title.File{Path: "/g/q.lha", Size: 700}}}}
	pl := layout.Lay([]title.Title{pack}, plover, coretest.Destination(t, plover, "usb", "fat32")).Placements[0]
	assert.True(t, pl.Items[0].Folder)
	assert.False(t, pl.Ready(), "a package has to be unpacked")
	bare := folderTitle("dulcimer", "", "Bare", "readme.txt")
	assert.Contains(t, layout.Lay([]title.Title{bare}, plover, coretest.Destination(t, plover, "usb",
		"fat32")).Placements[0].Refusal.Say, "the rule keeps none of its files")
	two := folderTitle("dulcimer", "", "Two", "a.prog", "b.prog")
	assert.Contains(t, layout.Lay([]title.Title{two}, plover, coretest.Destination(t, plover, "usb",
		"fat32")).Placements[0].Refusal.Say, "two of its files would get the same path packages/Two/start.prog")
}

// TestNamesInsideATitle: what comes out of an image gets names that the target holds, and that differ there.
func TestNamesInsideATitle(t *testing.T) {
	gantry := coretest.Profile(t, "gantry")
	odd := folderTitle("corvane", "CVN00117", "Hollow Lane", "main.run", "art/what?.dat", "art/What_.dat",
		"ART/sky.dat", strings.Repeat("n", 60)+".dat")
	destination := coretest.Destination(t, gantry, "ftp", "exfat")
	pl := layout.Lay([]title.Title{odd}, gantry, destination).Placements[0]
	require.Nil(t, pl.Refusal)
	var got []string
	for _, item := range pl.Items {
		got = append(got, strings.TrimPrefix(item.Path, "Games/Hollow Lane/"))
	}
	assert.Equal(t, []string{"main.run", "art/what__2.dat", "art/What_.dat", "ART_2/sky.dat", strings.Repeat("n", 44) +
		".dat"}, got)
	assert.Contains(t, pl.How, "3 files in it cannot have their names there, and got others")
	assert.Contains(t, pl.Because(&pl.Items[0]), "got others")
}

// TestTitlesInArchivesAreUnpacked: what does not go over as the archive that it is in is unpacked, file
// by file.
func TestTitlesInArchivesAreUnpacked(t *testing.T) {
	inside := func(name string, n int64) title.Part {
		return title.Part{Name: name, File: title.File{Path: "/g/a.zip", Entry: "in/" + name, Size: n}}
	}
	say := func(p *loader.Profile, via, filesystem string, tt title.Title) (out []string) {
		pl := layout.Lay([]title.Title{tt}, p, coretest.Destination(t, p, via, filesystem)).Placements[0]
		require.Nil(t, pl.Refusal)
		for _, item := range pl.Items {
			out = append(out, strings.TrimSpace(fmt.Sprintf("%s %d %s %s", item.Path, item.Size, item.Shape,
				item.Source.Entry)))
		}
		return out
	}
	zip := title.File{Path: "/g/a.zip", Size: 700}
	keep := profile(t, "", "path = \"{title}{ext}\"\narchives = \"keep-zip\"")
	among := cart("wren8", "Ropewalk", "many.zip")
	among.Archive, among.Among = ".zip", 30
	among.Discs[0].Parts = []title.Part{inside("rope.w8", 9000)}
	assert.Equal(t, []string{"Ropewalk.w8 9000 unpack"}, cutEntries(say(keep, "usb", "fat32", among)),
		"its archive would take 29 others along")
	parts := cart("wren8", "Ropewalk", "rope.zip.001")
	parts.Archive, parts.Discs[0].Volumes = ".zip", []title.File{{Path: "/g/rope.zip.002", Size: 5}}
	parts.Discs[0].Parts = []title.Part{inside("rope.w8", 9000)}
	assert.Equal(t, []string{"Ropewalk.w8 9000 unpack"}, cutEntries(say(keep, "usb", "fat32", parts)),
		"one part of an archive is no archive")

	tracks := title.Title{Key: "k", Platform: "lapwing", Form: title.Tracks, Archive: ".zip", ID: "LAP_04412",
		Name: "Two Tides", Of: 1,
		Discs: []title.Disc{{Number: 1, File: zip, Parts: []title.Part{inside("Two Tides.cue", 80),
			inside("tides.bin", 40_000)}}}}
	assert.Equal(t, []string{"Titles/Two Tides/Two Tides.cue 80 unpack in/Two Tides.cue",
		"Titles/Two Tides/tides.bin 40000 unpack in/tides.bin"},
		say(coretest.Profile(t, "bellows"), "usb", "fat32", tracks)[:2])
	folder := title.Title{Key: "f", Platform: "corvane", Form: title.Folder, Archive: ".7z", ID: "CVN00117",
		Name: "Hollow Lane", Of: 1,
		Discs: []title.Disc{{Number: 1, File: zip, Parts: []title.Part{inside("main.run", 100),
			inside("art/big.dat", 5000)}}}}
	for _, line := range say(coretest.Profile(t, "gantry"), "ftp", "exfat", folder) {
		assert.Contains(t, line, " unpack in/")
	}
}

// cutEntries leaves the name in the archive out.
func cutEntries(all []string) []string {
	for i, s := range all {
		if k := strings.Index(s, " in/"); k >= 0 {
			all[i] = s[:k]
		}
	}
	return all
}

func TestAnOutlineHoldsEverything(t *testing.T) {
	p := coretest.Profile(t, "oxbow")
	tree := layout.Lay([]title.Title{cart("wren8", "Ropewalk", "r.w8")}, p, coretest.Destination(t, p, "usb", "fat32"))
	folders := 0
	for _, l := range tree.Outline() {
		assert.NotEmpty(t, l.Rule, l.Path)
		if l.Folder {
			folders++
		}
		if l.Path == "oxbow/play/wren8/Ropewalk.w8" {
			assert.Equal(t, 0, l.Title)
			assert.Equal(t, 3, l.Depth())
		}
	}
	assert.Equal(t, 4+24, folders, "those of the first start: oxbow, firmware, settings, play and 24 platforms")
	plover := coretest.Profile(t, "plover")
	var written []string
	for _, l := range layout.Lay(nil, plover, coretest.Destination(t, plover, "usb", "fat32")).Outline() {
		if l.Shape == shape.Written {
			written = append(written, l.Path)
		}
	}
	assert.Equal(t, []string{"boot/plover.prefs", "boot/plover.script"}, written)
}

// TestAnOutlineIsATree holds that every path of an outline has its folders above it, each once.
func TestAnOutlineIsATree(t *testing.T) {
	p := coretest.Profile(t, "bellows")
	destination := coretest.Destination(t, p, "usb", "fat32")
	rapid.Check(t, func(t *rapid.T) {
		lines := layout.Lay(carts(t, rapid.IntRange(0, 80).Draw(t, "titles")), p, destination).Outline()
		seen := map[string]bool{".": true}
		for _, l := range lines {
			if !seen[path.Dir(l.Path)] {
				t.Fatalf("%s comes before its folder", l.Path)
			}
			if seen[l.Path] {
				t.Fatalf("%s is there twice", l.Path)
			}
			seen[l.Path] = true
		}
	})
}

func TestNamesAreCountedAsTheDestinationCountsThem(t *testing.T) {
	fat, err := target.FilesystemNamed("fat32")
	require.NoError(t, err)
	p := profile(t, "", `path = "{title}{ext}"`)
	got := first(t, p, "fat32", cart("wren8", strings.Repeat("😀 ", 200), "x.w8"))
	assert.Empty(t, fat.CheckName(got), "a name of 600 units is cut to what FAT32 takes")
	assert.Greater(t, len([]rune(got)), 100)
}
