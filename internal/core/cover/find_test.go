package cover_test

import (
	"context"
	"image/color"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/cover"
	"polytome/internal/core/title"
	"polytome/internal/format/picture"
	"polytome/internal/testkit/coretest"
)

// shelf writes pictures to a folder, and makes a finder that knows it.
func shelf(t testing.TB, of string, names ...string) (dir string, f *cover.Finder) {
	dir = t.TempDir()
	for i, n := range names {
		coretest.Write(t, dir, n, drawn(10+i, 10, color.Black))
	}
	b := bench.New("")
	b.Covers.Folders = []bench.CoverFolder{{Path: dir, Of: of}}
	return dir, cover.NewFinder(b, coretest.Set(t), nil)
}

func TestPicturesInFoldersAreFoundByTheirNames(t *testing.T) {
	_, f := shelf(t, "", "vsp_00001.JPG", "0ABC1234.png", "my_disc_image.webp", "The Ninth Orchard (North) [v2].png",
		"The Ninth Orchard (East).png", "Mosswik.png",
		"disc/VSP-00001.png", "screen/VSP-00001.gif", "heron16/Tollbridge.png", "wren8/Tollbridge.png", "notes.txt",
		".hidden.png", "logo/vesper/Copper Tide.png")
	of := func(t *title.Title, kind string) (name, from string) {
		p := f.Picture(t, 0, kind)
		if p == nil {
			return "", ""
		}
		return filepath.Base(p.File.Path), p.From
	}
	tide := vesper(1, "Copper Tide")
	for kind, want := range map[string][2]string{
		"front": {"vsp_00001.JPG", "by its ID"}, "disc": {"VSP-00001.png", "by its ID"}, "screen": {"VSP-00001.gif",
			"by its ID"}, "logo": {"Copper Tide.png", "by the name of its file"},
	} {
		name, from := of(&tide, kind)
		assert.Equal(t, want[0], name, kind)
		assert.Contains(t, from, want[1])
	}
	other := vesper(7, "Whatever")
	other.Discs[0].Sums = "crc32:0abc1234 sha1:ff"
	name, from := of(&other, "front")
	assert.Equal(t, [2]string{"0ABC1234.png", "in your pictures, by a checksum"}, [2]string{name, from})
	other = vesper(8, "Whatever")
	other.Discs[0].File.Path = "/games/My_Disc_Image.iso"
	name, from = of(&other, "front")
	assert.Equal(t, [2]string{"my_disc_image.webp", "in your pictures, by the name of its file"}, [2]string{name, from})
	orchard := vesper(9, "The Ninth Orchard")
	orchard.Region = "East"
	name, from = of(&orchard, "front")
	assert.Equal(t, [2]string{"The Ninth Orchard (East).png", "in your pictures, by its name"}, [2]string{name, from},
		"the region decides between two")
	cart := title.Title{Key: "k", Platform: "heron16", Form: title.Cartridge, Name: "Tollbridge", Of: 1,
		Discs: []title.Disc{{Number: 1, File: title.File{Path: "/x/t.h16"}}}}
	p := f.Picture(&cart, 0, "front")
	require.NotNil(t, p)
	assert.Contains(t, p.File.Path, "heron16", "of two with one name, that of its platform")

	moss := vesper(3, "Mosswick")
	assert.Nil(t, f.Picture(&moss, 0, "front"), "a name that is nearly right is not taken")
	c := f.Propose(&moss, 0, "front")
	require.NotNil(t, c, "but proposed")
	assert.Equal(t, "Mosswik.png", filepath.Base(c.File.Path))
	all := f.Candidates(&moss, 0, "front")
	require.Len(t, all, 1)
	assert.True(t, all[0].Proposal)
	none := vesper(4, "Ink")
	assert.Nil(t, f.Propose(&none, 0, "front"))
	r := f.Report([]title.Title{tide, moss, none}, cover.Needs([]title.Title{tide, moss, none}, []int{0, 1, 2},
		cover.Only("front")))
	assert.Equal(t, [3]int{1, 1, 1}, [3]int{r.Found, r.Proposed, r.Missing})

	whole, g := shelf(t, "disc", "front/VSP-00001.png")
	assert.Nil(t, g.Picture(&tide, 0, "front"))
	assert.Equal(t, filepath.Join(whole, "front", "VSP-00001.png"), g.Picture(&tide, 0, "disc").File.Path,
		"what the bench says of a folder counts")
}

func TestAFolderThatIsGoneIsReportedAndTheRestGoesOn(t *testing.T) {
	b := bench.New("")
	dir := t.TempDir()
	coretest.Write(t, dir, "VSP-00001.png", drawn(3, 3, color.Black))
	b.Covers.Folders = []bench.CoverFolder{{Path: filepath.Join(dir, "gone")}, {Path: dir}}
	f := cover.NewFinder(b, coretest.Set(t), nil)
	require.Len(t, f.Trouble, 1)
	assert.Contains(t, f.Trouble[0], "gone cannot be read: no such file or directory")
	tide := vesper(1, "Copper Tide")
	assert.NotNil(t, f.Picture(&tide, 0, "front"))
}

func TestWhatIsChosenByHandComesFirst(t *testing.T) {
	dir, f := shelf(t, "", "VSP-00001.png", "mine.png")
	tide := vesper(1, "Copper Tide")
	tide.Discs[0].Beside = []title.Beside{{Kind: "cover", File: title.File{Path: "/games/Copper Tide.png"}},
		{Kind: "cover", File: title.File{Path: "/games/Copper Tide-disc.png"}}}
	assert.Equal(t, "/games/Copper Tide.png", f.Picture(&tide, 0, "front").File.Path)
	assert.Equal(t, "/games/Copper Tide-disc.png", f.Picture(&tide, 0, "disc").File.Path, "its name says of what it is")
	mine := filepath.Join(dir, "mine.png")
	tide.Discs[0].Chosen = []title.Chosen{{Of: "front", File: mine, Crop: [4]int{100, 0, 0, 0}}}
	p := f.Picture(&tide, 0, "front")
	assert.Equal(t, [2]any{mine, [4]int{100, 0, 0, 0}}, [2]any{p.File.Path, p.Crop})
	assert.Len(t, f.Candidates(&tide, 0, "front"), 3, "the others are still to be had")
	require.NoError(t, os.Remove(mine))
	assert.Equal(t, "/games/Copper Tide.png", f.Picture(&tide, 0, "front").File.Path, "one that is gone gives way")
	assert.Contains(t, f.Candidates(&tide, 0, "front")[0].Bad, "it no longer exists")
	tide.Discs[0].Chosen = []title.Chosen{{Of: "front", Crop: [4]int{0, 0, 0, 500}}}
	assert.Equal(t, [4]int{0, 0, 0, 500}, f.Picture(&tide, 0, "front").Crop, "only what is seen of it was chosen")
	tide.Discs[0].Chosen = []title.Chosen{{Of: "front", None: true}}
	assert.Nil(t, f.Picture(&tide, 0, "front"))
}

func TestPicturesThatLieInAGame(t *testing.T) {
	set := coretest.Set(t)
	f := cover.NewFinder(bench.New(""), set, nil)
	image := vesper(1, "Copper Tide")
	image.Discs[0].Inside = []title.Inside{{Of: "front", File: title.File{Size: 5, Entry: "ART/FRONT.PNG"}}}
	p := f.Picture(&image, 0, "front")
	require.NotNil(t, p)
	assert.Equal(t, title.File{Path: image.Discs[0].File.Path, Size: 5, Entry: "ART/FRONT.PNG"}, p.File)
	image.Archive = ".zip"
	assert.Nil(t, f.Picture(&image, 0, "front"), "not from an image that is packed itself")
	meridian := title.Title{Platform: "meridian", Form: title.Folder, Name: "M", Of: 1,
		Discs: []title.Disc{{Number: 1, File: title.File{Path: "/m"},
			Parts: []title.Part{{Name: "sys/front.jpg", File: title.File{Path: "/m/sys/front.jpg", Size: 3}}}}}}
	assert.Equal(t, "/m/sys/front.jpg", f.Picture(&meridian, 0, "front").File.Path)
}

func TestFurtherDiscsHaveOnlyPicturesOfTheirOwn(t *testing.T) {
	_, f := shelf(t, "", "Clockwork Ferry.png", "disc/VSP-00002.png")
	two := vesper(1, "Clockwork Ferry")
	two.Discs = append(two.Discs, vesper(2, "Clockwork Ferry").Discs[0])
	two.Discs[1].File.Path = "/games/Clockwork Ferry 2.iso"
	two.Of = 2
	titles := []title.Title{two}
	f.Dress(titles)
	assert.Len(t, titles[0].Pictures, 2)
	assert.Equal(t, "Clockwork Ferry.png", filepath.Base(titles[0].Picture("front", 1).File.Path),
		"the front is that of the whole title")
	assert.Nil(t, titles[0].Picture("disc", 0), "what is printed on one disc is not on another")
	assert.NotNil(t, titles[0].Picture("disc", 1))
}

func TestPicturesAreLookedAtOnce(t *testing.T) {
	store, err := cover.OpenStore(filepath.Join(t.TempDir(), "covers"))
	require.NoError(t, err)
	defer store.Close()
	dir, _ := shelf(t, "", "good.png", "bad.png")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bad.png"), []byte("<html>"), 0o644))
	file := func(name string) *title.File {
		info, err := os.Stat(filepath.Join(dir, name))
		require.NoError(t, err)
		return &title.File{Path: filepath.Join(dir, name), Size: info.Size(), Modified: info.ModTime()}
	}
	k := &cover.Looker{Store: store}
	good := file("good.png")
	l, err := k.Look(context.Background(), good)
	require.NoError(t, err)
	assert.Equal(t, [2]int{10, 10}, [2]int{l.Width, l.Height})
	assert.NotEmpty(t, l.Small)
	require.NoError(t, os.Remove(good.Path))
	again, err := k.Look(context.Background(), good)
	require.NoError(t, err, "it is remembered")
	assert.Equal(t, l, again)
	good.Size++
	_, err = k.Look(context.Background(), good)
	assert.Error(t, err, "another one is looked at")

	bad := file("bad.png")
	assert.Equal(t, "", store.Bad(bad))
	l, err = k.Look(context.Background(), bad)
	require.NoError(t, err)
	assert.Equal(t, "it is a web page, not a picture", l.Say)
	assert.Equal(t, "it is a web page, not a picture", store.Bad(bad))
	b := bench.New("")
	b.Covers.Folders = []bench.CoverFolder{{Path: dir}}
	tt := vesper(1, "Bad")
	f := cover.NewFinder(b, coretest.Set(t), store)
	assert.Nil(t, f.Picture(&tt, 0, "front"), "what cannot be used is not taken")
	r := f.Report([]title.Title{tt}, []cover.Need{{Of: "front"}})
	assert.Equal(t, cover.Refused, r.Outcomes[0].State)
	im, err := k.Read(file("bad.png"), picture.Rule{Width: 5, Height: 5, Fit: "inside"})
	assert.Nil(t, im)
	assert.ErrorContains(t, err, "web page")
}

func TestADamagedStoreIsMadeAgain(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "covers")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "covers.sqlite"), []byte(strings.Repeat("no database ", 400)),
		0o644))
	s, err := cover.OpenStore(dir)
	require.NoError(t, err)
	defer s.Close()
	assert.Contains(t, s.Note(), "was damaged and has been rebuilt; download the covers again")
	assert.True(t, s.Empty())
	file := filepath.Join(t.TempDir(), "a file")
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	_, err = cover.OpenStore(file)
	assert.ErrorContains(t, err, "cannot be used")
	var none *cover.Store
	assert.NoError(t, none.Close())
	assert.True(t, none.Empty())
}
