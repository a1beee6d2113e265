package layout_test

import (
	"fmt"
	"path"
	"slices"
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

func vesper(number int, name, kind string) title.Title { return coretest.Vesper(number, name, kind, 1) }

func rowan(t coretest.T, titles ...title.Title) *layout.Tree {
	p := coretest.Rowan(t)
	return layout.Lay(titles, p, coretest.Destination(t, p, "usb", "fat32"))
}

func TestPaths(t *testing.T) {
	two := vesper(21410, "The Clockwork Ferry of Tin Harbour", "full")
	two.Of = 2
	two.Discs = append(two.Discs, title.Disc{Number: 2, ID: "VSP-21411", Kind: "short"})
	tree := rowan(t, vesper(20417, "Copper Tide", "full"), vesper(21002, "Saffron Circuit", "short"), two,
		vesper(1, "😀", "full"))
	var got []string
	for i := range tree.Placements {
		pl := &tree.Placements[i]
		for k := range pl.Items {
			got = append(got, pl.Items[k].Path)
			assert.NotEmpty(t, pl.Because(&pl.Items[k]))
		}
	}
	assert.Equal(t, []string{
		"FULL/VSP-20417 - Copper Tide.iso", "SHORT/VSP-21002 - Saffron Circuit.iso",
		"FULL/VSP-21410 - Clockwork Ferry (Disc 1).iso", "SHORT/VSP-21411 - Clockwork Ferry (Disc 2).iso",
		"FULL/VSP-00001 - VSP-00001.iso",
	}, got)
	assert.Contains(t, tree.Placements[2].How, "shortened from 34 to 15 characters")
}

func TestRefusalsAndRivals(t *testing.T) {
	noID := vesper(3, "No ID", "full")
	noID.Discs[0].ID, noID.ID = "", ""
	tree := rowan(t,
		vesper(1, "Same", "full"), vesper(1, "same", "full"), vesper(2, "Same", "full"),
		noID, title.Title{Platform: "", Of: 1, Discs: []title.Disc{{}}}, title.Title{Platform: "lapwing",
			Form: title.Tracks, Of: 1, Discs: []title.Disc{{}}},
		title.Title{Platform: "vesper", Form: title.Folder, Of: 1, Discs: []title.Disc{{}}})
	assert.Equal(t, []int{1}, tree.Placements[0].Rivals, "letter case does not matter")
	assert.Equal(t, []int{0}, tree.Placements[1].Rivals)
	assert.Empty(t, tree.Placements[2].Rivals)
	for i, say := range map[int]string{3: "needs the id", 4: "the file was not recognized", 5: "does not read lapwing",
		6: "in the form folder"} {
		require.NotNil(t, tree.Placements[i].Refusal, i)
		assert.Contains(t, tree.Placements[i].Refusal.Say, say)
		assert.Equal(t, i == 5, tree.Placements[i].Refusal.Foreign)
	}
}

func TestALargeImageIsCutWhereTheRuleSaysSo(t *testing.T) {
	big := coretest.Vesper(20417, "Copper Tide", "full", 5<<30)
	tree := rowan(t, big)
	var got []string
	var sum int64
	for _, item := range tree.Placements[0].Items {
		got = append(got, fmt.Sprintf("%s %d+%d %s", item.Path, item.Offset, item.Size, item.Shape))
		if item.Shape == shape.Split {
			sum += item.Size
		}
	}
	const part = 2<<30 - 64<<10
	assert.Equal(t, []string{
		fmt.Sprintf("LONG/VSP-20417/001.rwn 0+%d split", part), fmt.Sprintf("LONG/VSP-20417/002.rwn %d+%d split", part,
			part),
		fmt.Sprintf("LONG/VSP-20417/003.rwn %d+%d split", 2*part, 5<<30-2*part),
		"LONG/VSP-20417/parts.toml 0+234 written",
	}, got)
	assert.EqualValues(t, 5<<30, sum)
	assert.Contains(t, tree.Placements[0].Items[3].Text, "file = \"003.rwn\"\nlength = 1073872896\n")

	p := coretest.Rowan(t)
	whole := layout.Lay([]title.Title{big}, p, coretest.Destination(t, p, "smb", "ext4")).Placements[0]
	assert.Equal(t, "FULL/VSP-20417 - Copper Tide.iso", whole.Items[0].Path, "a share takes it whole")
	assert.Len(t, whole.Items, 1)
}

func TestWhatIsTooLargeCanBePacked(t *testing.T) {
	before, after, _ := strings.Cut(profileText(t, "rowan"), "[accept.too-large]")
	_, after, _ = strings.Cut(after, "why = \"FAT32 holds no larger file")
	_, after, _ = strings.Cut(after, "\n")
	p, err := loader.ParseProfile("pack.toml", []byte(before+"[accept.too-large]\ndo = \"pack\"\n"+after))
	require.NoError(t, err)
	titles := []title.Title{coretest.Vesper(1, "A", "full", 5<<30), coretest.Vesper(2, "B", "full", 1<<30)}
	used := title.Used{Bitmap: 32 << 10, Unit: 2048, Sectors: 5 << 30 / 2048, Blocks: 1000}
	titles[0].Discs[0].Used = used
	tree := layout.Lay(titles, p, coretest.Destination(t, p, "usb", "fat32"))
	assert.Equal(t, used, tree.Placements[0].Items[0].With.Used, "what the disc does not use is left out")
	assert.Less(t, tree.Placements[0].Items[0].Size, int64(64<<20))
	assert.Equal(t, []shape.Name{shape.Pack, shape.Whole}, []shape.Name{tree.Placements[0].Items[0].Shape,
		tree.Placements[1].Items[0].Shape})
	assert.True(t, tree.Placements[0].Items[0].AtMost)
}

func TestNoFileIsCutIntoDust(t *testing.T) {
	text := strings.Replace(profileText(t, "rowan"), `part-size = "2GiB - 64KiB"`, `part-size = 1`, 1)
	p, err := loader.ParseProfile("dust.toml", []byte(text))
	require.NoError(t, err)
	pl := layout.Lay([]title.Title{coretest.Vesper(1, "A", "full", 5<<30)}, p, coretest.Destination(t, p, "usb",
		"fat32")).Placements[0]
	require.Len(t, pl.Items, 1)
	assert.EqualValues(t, 5<<30, pl.Items[0].Size, "it stays whole, and so too large")
}

func TestPartsThatWouldLeaveTheirFolder(t *testing.T) {
	evil := folderTitle("corvane", "CVN1", "Evil", "main.run", "../../etc/x", "/abs", `a\..\b`, "...", "a/./c")
	p := coretest.Profile(t, "gantry")
	pl := layout.Lay([]title.Title{evil}, p, coretest.Destination(t, p, "ftp", "exfat")).Placements[0]
	require.Nil(t, pl.Refusal)
	require.Len(t, pl.Items, 5)
	for _, item := range pl.Items {
		assert.True(t, strings.HasPrefix(item.Path, "Games/Evil/"), item.Path)
		assert.Equal(t, path.Clean(item.Path), item.Path)
	}
	tracks := title.Title{Key: "l", Platform: "lapwing", Form: title.Tracks, ID: "LAP_1", Name: "x", Of: 1,
		Discs: []title.Disc{{Number: 1, File: title.File{Path: "/g/x.cue", Size: 9},
			Parts: []title.Part{{Name: "data/a.bin", File: title.File{Size: 1}},
				{Name: "../b.bin", File: title.File{Size: 1}}}}}}
	b := coretest.Profile(t, "bellows")
	var got []string
	for _, item := range layout.Lay([]title.Title{tracks}, b, coretest.Destination(t, b, "usb",
		"fat32")).Placements[0].Items {
		got = append(got, item.Path)
	}
	assert.Equal(t, []string{"Titles/x/x.cue", "Titles/x/data/a.bin", "Titles/x/b.bin"}, got,
		"tracks keep the folders that their sheet names")
}

// cart is a cartridge title; its file does not exist.
func cart(platform, name, file string) title.Title {
	return title.Title{Key: file, Platform: platform, Form: title.Cartridge, Name: name, Of: 1,
		Discs: []title.Disc{{Number: 1, File: title.File{Path: "/games/" + file, Size: 4096}}}}
}

// disc is a disc of tracks.
func disc(n int, base string) title.Disc {
	return title.Disc{Number: n, File: title.File{Path: "/games/" + base + ".cue", Size: 99},
		Parts: []title.Part{{Name: base + ".bin", File: title.File{Path: "/games/" + base + ".bin", Size: 9000}}}}
}

func folderTitle(platform, id, name string, files ...string) title.Title {
	t := title.Title{Key: id + name, Platform: platform, Form: title.Folder, ID: id, Name: name, Of: 1,
		Discs: []title.Disc{{Number: 1, ID: id, File: title.File{Path: "/games/" + name}}}}
	for _, f := range files {
		t.Discs[0].Parts = append(t.Discs[0].Parts, title.Part{Name: f, File: title.File{Path: "/games/" + name + "/" +
			f, Size: 10}})
	}
	return t
}

func image(platform, id, name, file string, size int64) title.Title {
	return title.Title{Key: id, Platform: platform, Form: title.Image, ID: id, Name: name, Of: 1,
		Discs: []title.Disc{{Number: 1, ID: id, Kind: "full", File: title.File{Path: "/games/" + file, Size: size}}}}
}

// TestEveryLoadersTree holds the trees of all shipped profiles against the consoles' pages.
func TestEveryLoadersTree(t *testing.T) {
	zipped := cart("finch", "Reed Runner", "Reed Runner.zip")
	zipped.Archive = ".zip"
	zipped.Discs[0].Parts = []title.Part{{Name: "reed.fin", File: title.File{Size: 8000}}}
	lapwing := title.Title{Key: "LAP_04412", Platform: "lapwing", Form: title.Tracks, ID: "LAP_04412",
		Name: "Heron's Watch", Of: 1, Discs: []title.Disc{disc(1, "watch")}}
	pair := title.Title{Key: "LAP_04413", Platform: "lapwing", Form: title.Tracks, ID: "LAP_04413", Name: "Two Tides",
		Of: 2, Discs: []title.Disc{disc(1, "tides1"), disc(2, "tides2")}}
	skuaPair := image("skua-first", "SKF-0031", "Old Mole", "m1.img", 500<<20)
	skuaPair.Of = 2
	skuaPair.Discs = append(skuaPair.Discs, title.Disc{Number: 2, ID: "SKF-0031",
		File: title.File{Path: "/games/m2.img", Size: 400 << 20}})
	prog := folderTitle("dulcimer", "", "Mast & Mirror", "mirror.prog", "disk.1", "data/level1.dat", "data/old.bak",
		"notes.txt", "mirror.about")
	game := folderTitle("corvane", "CVN00117", "Under: Bough", "main.run", "art/a.dat")
	for name, c := range map[string]struct {
		loader, via, fs string
		titles          []title.Title
		want            []string // path [shape]; or what a refusal says, after "no: "
	}{
		"a Corvane": {"gantry", "ftp", "ext4", []title.Title{game, image("corvane", "CVN00118", "Saffron Circuit",
			"s.iso", 700<<20), cart("wren8", "Gannet Patrol", "g.w8"), zipped, cart("kestrel64", "Kite", "k.k64"),
			vesper(1, "No", "full")},
			[]string{"Games/Under - Bough/main.run", "Games/Under - Bough/art/a.dat", "Games/Saffron Circuit extract",
				"gantry/shelf/wren8/Gannet Patrol.w8", "gantry/shelf/finch/Reed Runner.zip",
				"gantry/cores/kestrel/Kite.k64", "no: Gantry does not read vesper titles",
				"+gantry/faces/wren8/Gannet Patrol.jpg", "+gantry/faces/finch/Reed Runner.jpg",
				"+gantry/faces/kestrel64/Kite.jpg"}},
		"a Meridian's disk": {"trellis", "ftp", "ext4", []title.Title{folderTitle("meridian", "MRD-0117",
			"Slow Lantern", "SYS/TITLE.JSON"), vesper(1, "Copper Tide", "full"), lapwing, image("siskin", "SK-8812",
			"Reel", "r.iso", 9)},
			[]string{"GAMES/MRD-0117/SYS/TITLE.JSON", "IMG-V/Copper Tide.iso", "IMG-L/Heron's Watch.cue sheet",
				"IMG-L/Heron's Watch 01.bin", "IMG-S/Reel.iso", "+IMG-V/Copper Tide.jpg", "+IMG-L/Heron's Watch.jpg",
				"+IMG-S/Reel.jpg"}},
		"a Meridian's stick with FAT32": {"trellis", "usb", "fat32", []title.Title{folderTitle("meridian", "MRD-0117",
			"Slow Lantern", "SYS/TITLE.JSON"), lapwing, image("siskin", "SK-8812", "Reel", "r.iso", 9)},
			[]string{"no: Trellis starts Meridian games only from the internal disk",
				"no: from a FAT32 stick, Trellis reads only Siskin images", "IMG-S/Reel.iso", "+IMG-S/Reel.jpg"}},
		"a Meridian's stick with exFAT": {"trellis", "usb", "exfat", []title.Title{lapwing, vesper(1, "Copper Tide",
			"full")},
			[]string{"IMG-L/Heron's Watch.cue sheet", "IMG-L/Heron's Watch 01.bin", "IMG-V/Copper Tide.iso",
				"+IMG-L/Heron's Watch.jpg", "+IMG-V/Copper Tide.jpg"}},
		"a Pipit Mini": {"bellows", "usb", "fat32", []title.Title{lapwing, pair, zipped, cart("wren8", "Gannet Patrol",
			"g.w8")},
			[]string{"Titles/Heron's Watch/Heron's Watch.cue", "Titles/Heron's Watch/watch.bin",
				"Titles/Two Tides/Two Tides (Disc 1).cue", "Titles/Two Tides/tides1.bin",
				"Titles/Two Tides/Two Tides (Disc 2).cue", "Titles/Two Tides/tides2.bin",
				"Titles/Two Tides/Two Tides.m3u written",
				"Carts/finch/Reed Runner.fin unpack", "Carts/wren8/Gannet Patrol.w8",
				"+Titles/Heron's Watch/title.toml", "+Titles/Two Tides/title.toml"}},
		"a Tanager": {"oxbow", "usb", "exfat", []title.Title{zipped, vesper(1, "Copper Tide", "full"), lapwing, prog},
			[]string{"oxbow/play/finch/Reed Runner.zip", "oxbow/play/vesper/Copper Tide.iso",
				"oxbow/play/lapwing/Heron's Watch.cue", "oxbow/play/lapwing/watch.bin",
				"oxbow/play/dulcimer/Mast & Mirror/mirror.prog", "oxbow/play/dulcimer/Mast & Mirror/disk.1",
				"oxbow/play/dulcimer/Mast & Mirror/data/level1.dat",
				"oxbow/play/dulcimer/Mast & Mirror/data/old.bak", "oxbow/play/dulcimer/Mast & Mirror/notes.txt",
				"oxbow/play/dulcimer/Mast & Mirror/mirror.about"}},
		"a Skua": {"mica", "usb", "fat32", []title.Title{image("skua", "SKU-0007", "Long Water", "l.skd", 7<<30),
			image("skua", "SKU-0008", "Short Water", "s.skd", 1<<30), skuaPair},
			[]string{"skua/SKU-0007/Long Water.pkd pack", "skua/SKU-0007/Long Water.2.pkd pack",
				"skua/SKU-0007/Long Water.3.pkd pack", "skua/SKU-0008/Short Water.pkd pack",
				"first/SKF-0031/disc-1.img", "first/SKF-0031/disc-2.img"}},
		"a Dulcimer": {"plover", "usb", "fat32", []title.Title{prog},
			[]string{"packages/Mast & Mirror/start.prog", "packages/Mast & Mirror/disk.1",
				"packages/Mast & Mirror/data/level1.dat", "packages/Mast & Mirror/mirror.about"}},
		"a Vesper's own disk": {"rowan", "adapter", "ext4", []title.Title{coretest.Vesper(1, "Copper Tide", "full",
			5<<30)}, []string{"titles/full/VSP-00001/Copper Tide", "+covers/VSP-00001.jpg", "+settings/VSP-00001.txt"}},
		"a Vesper's stick": {"rowan", "usb", "fat32", []title.Title{vesper(1, "Copper Tide", "full")},
			[]string{"FULL/VSP-00001 - Copper Tide.iso", "+FACES/front/VSP-00001.jpg", "+FACES/disc/VSP-00001.png",
				"+TUNE/VSP-00001.tune"}},
	} {
		t.Run(name, func(t *testing.T) {
			p := coretest.Profile(t, c.loader)
			tree := layout.Lay(c.titles, p, coretest.Destination(t, p, c.via, c.fs))
			var got, with []string
			for i := range tree.Placements {
				pl := &tree.Placements[i]
				if pl.Refusal != nil {
					got = append(got, "no: "+pl.Refusal.Say)
				}
				for k := range pl.Items {
					got = append(got, strings.TrimSpace(pl.Items[k].Path+" "+string(pl.Items[k].Shape)))
				}
				for _, m := range tree.Companions(i) {
					with = append(with, "+"+m.Path)
				}
			}
			assert.Equal(t, c.want, append(got, with...))
		})
	}
}

func TestCompanionsEmitTheirTitle(t *testing.T) {
	pair := title.Title{Key: "LAP_04413", Platform: "lapwing", Form: title.Tracks, ID: "LAP_04413",
		Name: `Two: "Tides"`, Of: 2, Discs: []title.Disc{disc(1, "tides1"), disc(2, "tides2")},
		Details: title.Details{Players: "1-4", Text: `A "tide".`}}
	p := coretest.Profile(t, "bellows")
	tree := layout.Lay([]title.Title{pair}, p, coretest.Destination(t, p, "usb", "fat32"))
	items := tree.Placements[0].Items
	assert.EqualValues(t, "Two - 'Tides' (Disc 1).cue\nTwo - 'Tides' (Disc 2).cue\n", items[len(items)-1].Text)
	all := append([]layout.Companion{{}}, tree.Companions(0)...)
	require.Len(t, all, 2)
	assert.EqualValues(t, "name = \"Two: \\\"Tides\\\"\"\nplayers = \"1-4\"\nyear = \"\"\npublisher = \"\"\nabout = "+
		"\"A "+
		"\\\"tide\\\".\"\nplace = 0\nsection = \"\"\nfavourite = false\nlocked = []\n", all[1].Text)
	assert.EqualValues(t, len(all[1].Text), all[1].Size)
}

func TestListFiles(t *testing.T) {
	p := coretest.Rowan(t)
	tree := layout.Lay([]title.Title{vesper(2, "Mosswick", "short"), vesper(1, "Copper Tide", "full"),
		vesper(3, "Not wanted", "full")}, p, coretest.Destination(t, p, "nbd", "exfat"))
	assert.Empty(t, tree.Lists(func(int) bool { return true }), "it lies apart")
	lists := tree.Carried().Lists(func(i int) bool { return i != 2 })
	require.Len(t, lists, 1)
	assert.Equal(t, 2, lists[0].Entries())
	assert.Equal(t, "rowan-net.lst", lists[0].Path)
	assert.Equal(t, "VSP-00001;full;Copper Tide;VSP-00001 - Copper Tide.iso\nVSP-00002;short;Mosswick;VSP-00002 - "+
		"Mosswick.iso\n", string(lists[0].Data))

	text := strings.Replace(profileText(t, "rowan"), "line = \"{id};{kind};{title};{file}\\n\"", `
record = 32
header = "LIST"
footer = "END"
[[list.field]]
offset = 0
length = 10
value = "{id}"
encoding = "ascii"
[[list.field]]
offset = 10
length = 6
value = "{title}"
encoding = "utf-16le"
[[list.field]]
offset = 16
length = 2
value = "{index}"
encoding = "number-be"
[[list.field]]
offset = 18
length = 14
value = "{title|upper|max:4}"
encoding = "latin-1"
fill = 0x20
`, 1)
	before, after, ok := strings.Cut(text, "order = [\"title\", \"id\"]\nwhy = \"for a network block")
	require.True(t, ok)
	_, after, _ = strings.Cut(after, "\n")
	text = before + after
	binary, err := loader.ParseProfile("b.toml", []byte(text))
	require.NoError(t, err)
	tree = layout.Lay([]title.Title{vesper(2, "Mosswick", "short")}, binary, coretest.Destination(t, binary, "nbd",
		"exfat")).Carried()
	lists = tree.Lists(func(int) bool { return true })
	require.Len(t, lists, 1)
	assert.Equal(t, "LISTVSP-00002\x00M\x00o\x00s\x00\x00\x01MOSS          END", string(lists[0].Data))
}

func profileText(t testing.TB, name string) string {
	b, err := coretest.Profile(t, name).Text()
	require.NoError(t, err)
	return string(b)
}

func TestPagesInTheOrderOfNames(t *testing.T) {
	p := coretest.Profile(t, "bellows")
	var titles []title.Title
	for i := range 130 {
		titles = append(titles, cart("wren8", fmt.Sprintf("Game %03d", 129-i), fmt.Sprintf("g%d.w8", i)))
	}
	tree := layout.Lay(titles, p, coretest.Destination(t, p, "usb", "fat32"))
	for want, i := range map[string]int{
		"Carts/wren8/Game 000.w8": 129, "Carts/wren8/Game 059.w8": 70, "Carts/wren8/+2/Game 060.w8": 69,
		"Carts/wren8/+2/Game 119.w8": 10, "Carts/wren8/+3/Game 120.w8": 9,
	} {
		assert.Equal(t, want, tree.Placements[i].Items[0].Path)
	}
}

// TestPartsElsewhereFillNoPage: parts that lie in another folder than the titles in one piece take no entry of these.
func TestPartsElsewhereFillNoPage(t *testing.T) {
	p, err := loader.ParseProfile("p.toml", []byte(`format = 1
name = "any"
shown = "Any"
list-order = ["title"]
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["exfat"]
[[accept]]
platforms = ["wren8"]
path = "A/B/C/{if page}page {page}/{end}{title}{ext}"
overflow-after = 2
[accept.too-large]
do = "split"
over = 1000
part-size = 500
parts = "P{title}.{index|pad:2}"
`))
	require.NoError(t, err)
	var titles []title.Title
	for i := range 5 {
		x := cart("wren8", fmt.Sprintf("Game %d", i), fmt.Sprintf("g%d.w8", i))
		if x.Discs[0].File.Size = 100; i%2 == 0 {
			x.Discs[0].File.Size = 1400
		}
		titles = append(titles, x)
	}
	tree := layout.Lay(titles, p, coretest.Destination(t, p, "usb", "exfat"))
	var got []string
	for i := range tree.Placements {
		require.Nil(t, tree.Placements[i].Refusal)
		got = append(got, tree.Placements[i].Items[0].Path)
	}
	assert.Equal(t, []string{"PGame 0.01", "A/B/C/Game 1.w8", "PGame 2.01", "A/B/C/Game 3.w8", "PGame 4.01"}, got)
}

// check holds what must be true of any tree: paths are unique without regard to case,
// legal, and inside of the target; folders are not over-full.
func check(t coretest.T, tree *layout.Tree, fs target.Filesystem, p *loader.Profile) {
	seen := map[string]int{}
	folders := map[string]map[string]bool{}
	for i := range tree.Placements {
		pl := &tree.Placements[i]
		for k := range pl.Items {
			item := &pl.Items[k]
			key := strings.ToUpper(item.Path)
			if j, twice := seen[key]; twice && !slices.Contains(pl.Rivals, j) {
				t.Fatalf("titles %d and %d both get %s", j, i, item.Path)
			}
			seen[key] = i
			for name := range strings.SplitSeq(item.Path, "/") {
				if why := fs.CheckName(name); why != "" {
					t.Fatalf("%s: %s", item.Path, why)
				}
			}
			if pl.Rule.OverflowAfter > 0 {
				dir := path.Dir(item.Path)
				if folders[dir] == nil {
					folders[dir] = map[string]bool{}
				}
				folders[dir][key] = true
				if len(folders[dir]) > pl.Rule.OverflowAfter {
					t.Fatalf("%s holds more than %d", dir, pl.Rule.OverflowAfter)
				}
			}
		}
	}
}

// carts draws titles whose names often collide.
func carts(t *rapid.T, n int) []title.Title {
	name := rapid.OneOf(rapid.SampledFrom([]string{"Same", "same", "SAME (2)", "Same (2)", "Sâme", "", "CON",
		"The Same", "Same " + strings.Repeat("long ", 30) + "x", "Same " + strings.Repeat("long ", 30) + "y"}),
		rapid.String(), rapid.StringMatching(`[A-C ]{1,3}`))
	var out []title.Title
	for i := range n {
		c := cart(rapid.SampledFrom([]string{"wren8", "finch"}).Draw(t, "platform"), name.Draw(t, "name"),
			fmt.Sprintf("g%03d.w8", i))
		c.Region = rapid.SampledFrom([]string{"", "North", "East"}).Draw(t, "region")
		if rapid.Bool().Draw(t, "has ID") {
			c.ID = fmt.Sprintf("ID-%d", rapid.IntRange(1, 200).Draw(t, "id"))
		}
		out = append(out, c)
	}
	return out
}

func TestNamesAreUniqueAndStable(t *testing.T) {
	for _, name := range []string{"bellows", "oxbow", "gantry"} {
		p := coretest.Profile(t, name)
		destination := coretest.Destination(t, p, p.Attachments[0].Via, "fat32")
		t.Run(name, rapid.MakeCheck(func(t *rapid.T) {
			titles := carts(t, rapid.IntRange(1, 90).Draw(t, "titles"))
			whole := layout.Lay(titles, p, destination)
			check(t, whole, destination.Filesystem, p)

			// Some titles first, the others later: no one is renamed.
			first := rapid.IntRange(0, len(titles)).Draw(t, "first")
			tree := layout.Lay(titles[:first], p, destination)
			before := tree.Names()
			later := destination
			later.Held = before
			again := layout.Lay(titles, p, later)
			check(t, again, destination.Filesystem, p)
			for i := range titles[:first] {
				if got := again.Placements[i].Name; got != before[titles[i].Key] {
					t.Fatalf("%q was called %q, and is named %q once there are others", titles[i].Name,
						before[titles[i].Key], got)
				}
			}
		}))
	}
}

// many are titles of which every tenth must yield to another one's name.
func many(n int) []title.Title {
	out := make([]title.Title, n)
	for i := range out {
		number := i
		if i%10 == 9 {
			number--
		}
		out[i] = cart("wren8", fmt.Sprintf("The Uncommonly Patient Keeper of Farther Saint Ebb, Part %d", number),
			fmt.Sprintf("g%05d.w8", i))
		out[i].Region = []string{"North", "East", "West"}[i%3]
	}
	return out
}

func BenchmarkLay50000(b *testing.B) {
	p := coretest.Rowan(b)
	destination := coretest.Destination(b, p, "usb", "fat32")
	titles := make([]title.Title, 50_000)
	for i := range titles {
		titles[i] = vesper(i, fmt.Sprintf("The Uncommonly Patient Keeper, Part %d", i), "full")
	}
	for b.Loop() {
		layout.Lay(titles, p, destination)
	}
}

func BenchmarkLay50000WithPagesAndCollisions(b *testing.B) {
	p := coretest.Profile(b, "bellows")
	destination := coretest.Destination(b, p, "usb", "fat32")
	titles := many(50_000)
	for b.Loop() {
		layout.Lay(titles, p, destination)
	}
}
