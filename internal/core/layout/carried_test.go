package layout_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/layout"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/testkit/coretest"
)

func withFront(t title.Title, disc ...string) title.Title {
	t.Pictures = []title.Picture{{Of: "front", File: title.File{Path: "/p/" + t.ID + ".png", Size: 5},
		Crop: [4]int{1, 2, 3, 4}}}
	for i, d := range disc {
		t.Pictures = append(t.Pictures, title.Picture{Of: "disc", Disc: i, File: title.File{Path: d}})
	}
	return t
}

func TestPicturesGoToTheirCompanions(t *testing.T) {
	p := coretest.Rowan(t)
	one := withFront(coretest.Vesper(1, "Copper Tide", "full", 100), "/p/disc.png")
	bare := coretest.Vesper(2, "Mosswick", "full", 100)
	tree := layout.Lay([]title.Title{one, bare}, p, coretest.Destination(t, p, "usb", "fat32"))
	made := map[string]layout.Companion{}
	for _, b := range tree.Beside(0, true) {
		made[b.Path] = tree.Companion(0, &b)
	}
	front := made["FACES/front/VSP-00001.jpg"]
	assert.Equal(t, [2]any{shape.Fitted, "/p/VSP-00001.png"}, [2]any{front.Shape, front.Source.Path})
	assert.EqualValues(t, [4]int{1, 2, 3, 4}, front.With.Picture.Crop, "cropped as it was chosen")
	assert.Equal(t, "inside", front.With.Picture.Fit)
	assert.Equal(t, "/p/disc.png", made["FACES/disc/VSP-00001.png"].Source.Path)
	assert.EqualValues(t, [4]int{}, made["FACES/disc/VSP-00001.png"].With.Picture.Crop)
	for _, b := range append(tree.Beside(1, true), tree.Beside(0, false)...) {
		assert.NotEqual(t, "cover", b.Spec.Is, "none where there is no picture, or none is wanted")
	}
}

func TestATreeOfCoversAlone(t *testing.T) {
	p := coretest.Rowan(t)
	two := withFront(coretest.Vesper(1, "Clockwork Ferry", "full", 100))
	second := coretest.Vesper(2, "Clockwork Ferry", "full", 100)
	two.Discs, two.Of = append(two.Discs, second.Discs[0]), 2
	two.Discs[1].Number = 2
	twin := withFront(coretest.Vesper(1, "Its Twin", "full", 100))
	twin.Key = "twin"
	bare := coretest.Vesper(3, "Mosswick", "full", 100)
	foreign := title.Title{Key: "f", Platform: "wren8", Form: title.Cartridge, Name: "Ropewalk", Of: 1,
		Discs: []title.Disc{{Number: 1, File: title.File{Path: "/x.w8"}}}}
	whole := layout.Lay([]title.Title{two, twin, bare, foreign}, p, coretest.Destination(t, p, "usb", "fat32"))
	tree := whole.Carried()
	paths := func(i int) (out []string) {
		for _, it := range tree.Placements[i].Items {
			require.Equal(t, shape.Fitted, it.Shape)
			out = append(out, it.Path)
		}
		return out
	}
	assert.Equal(t, []string{"FACES/front/VSP-00001.jpg", "FACES/front/VSP-00002.jpg"}, paths(0),
		"where the whole tree has them: one for each disc")
	assert.Empty(t, paths(1), "a file is there once")
	assert.True(t, tree.Placements[1].Refusal.NoPicture)
	assert.True(t, tree.Placements[2].Refusal.NoPicture)
	assert.True(t, tree.Placements[3].Refusal.Foreign)
	assert.Empty(t, tree.Companions(0), "no settings")
	assert.Empty(t, tree.Beside(0, true))
	assert.Empty(t, tree.ListLines())
	assert.Empty(t, tree.Lists(func(int) bool { return true }))
	assert.NotEmpty(t, whole.Placements[0].Items[0].Path, "the whole tree stays as it is")
	assert.Contains(t, whole.Placements[0].Items[0].Path, ".iso")
}

func TestWhereACompanionLayUnderAnotherName(t *testing.T) {
	p := coretest.Rowan(t)
	one := withFront(coretest.Vesper(1, "Copper Tide", "full", 100))
	tree := layout.Lay([]title.Title{one}, p, coretest.Destination(t, p, "usb", "fat32"))
	at := func(file string) map[string]string {
		out := map[string]string{}
		for _, c := range tree.Companions(0) {
			out[c.Path] = tree.Beneath(0, &c, file)
		}
		return out
	}
	was := at("FULL/VSP-00009 - Coper Tide.iso")
	assert.Equal(t, "FACES/front/VSP-00009.jpg", was["FACES/front/VSP-00001.jpg"], "by the ID in its old name")
	assert.Equal(t, "TUNE/VSP-00009.tune", was["TUNE/VSP-00001.tune"])
	assert.Equal(t, "FACES/front/VSP-00008.jpg", at("LONG/VSP-00008/001.rwn")["FACES/front/VSP-00001.jpg"],
		"in parts, too")
	assert.Equal(t, "FACES/front/VSP-00001.jpg", at("FULL/something.iso")["FACES/front/VSP-00001.jpg"],
		"where the name tells nothing, under its own")

	p = coretest.Profile(t, "gantry")
	cart := title.Title{Key: "c", Platform: "wren8", Form: title.Cartridge, Name: "Ropewalk", Of: 1,
		Discs: []title.Disc{{Number: 1, File: title.File{Path: "/x.w8"}}}}
	tree = layout.Lay([]title.Title{withFront(cart)}, p, coretest.Destination(t, p, "ftp", "exfat"))
	assert.Equal(t, "gantry/faces/wren8/Rope walk (old).jpg",
		at("gantry/shelf/wren8/Rope walk (old).w8")["gantry/faces/wren8/Ropewalk.jpg"], "by the base name")
}
