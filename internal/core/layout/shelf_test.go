package layout_test

import (
	"encoding/json"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/arrange"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/testkit/coretest"
)

// saidOf is all that can be asked of a tree, in words.
func saidOf(t *rapid.T, tree *layout.Tree, n int) string {
	all := map[string]any{"placements": tree.Placements, "names": tree.Names(), "contested": tree.Contested(),
		"outline": tree.Outline(), "here": tree.Here(), "largest": tree.Destination().LargestFile()}
	for _, covers := range []bool{false, true} {
		all[fmt.Sprint("beside ", covers)] = tree.Besides(covers)
	}
	for i := range n {
		all[fmt.Sprint(i)] = []any{tree.Companions(i), tree.Values(i), tree.Slot(i)}
	}
	for _, l := range tree.Lists(func(int) bool { return true }) {
		all["list "+l.Path] = string(l.Data)
	}
	b, err := json.Marshal(all)
	require.NoError(t, err)
	return string(b)
}

// TestTreesOfAlikeTargetsAreAsIfTheyWereAlone: whatever is shared, whoever comes first, and however many lay at once.
func TestTreesOfAlikeTargetsAreAsIfTheyWereAlone(t *testing.T) {
	set := coretest.Set(t)
	asks := profile(t, "[[attachment.volume]]\nname = \"main\"\nfor = \"all\"", `path = "large/{title}{ext}"
when = "capacity over 5GiB"
[[accept]]
platforms = ["wren8"]
path = "main/{title}{ext}"
when = "volume is main"
[[accept]]
platforms = ["wren8"]
path = "games/{title}{ext}"`)
	const kit = `
[[kit.file]]
to = "start/any.run"
from = ["any.run"]
why = "what starts titles"`
	copies := profile(t, "", `path = "games/{title}{ext}"
[[companion]]
platforms = ["wren8"]
is = "launcher"
path = "start/{title}.run"
file = "start/any.run"
why = "starts it"`+kit)
	settings := profile(t, "", `path = "games/{title}{ext}"
[[companion]]
platforms = ["wren8"]
is = "settings"
path = "start/{title}.set"
file = "start/any.run"
why = "how it is set"`+kit)
	profiles := []*loader.Profile{asks, copies, settings, coretest.Profile(t, "bellows"), coretest.Profile(t, "oxbow")}
	rapid.Check(t, func(t *rapid.T) {
		var titles []title.Title
		for i := range rapid.IntRange(1, 9).Draw(t, "titles") {
			name := rapid.SampledFrom([]string{"Copper Tide", "copper tide", "Saffron: Circuit", "Tin Harbour"}).Draw(t,
				"name")
			tt := coretest.Vesper(i%7, name, "full", 3<<30)
			switch rapid.IntRange(0, 4).Draw(t, "platform") {
			case 0:
				tt = title.Title{Key: name, Platform: "lapwing", Form: title.Tracks, Name: name, Of: 1,
					Discs: []title.Disc{disc(1, name)}}
			case 1, 2, 3:
				tt = cart("wren8", name, fmt.Sprint("c", i, ".w8"))
			}
			for _, of := range title.PictureKinds[:rapid.IntRange(0, 4).Draw(t, "pictures")] {
				tt.Pictures = append(tt.Pictures, title.Picture{Of: of, File: title.File{Path: "/a.png"}})
			}
			titles = append(titles, tt)
		}
		p := rapid.SampledFrom(append(profiles, set.Profiles...)).Draw(t, "loader")
		var shelf layout.Shelf
		all := []layout.Destination{coretest.Destination(t, p, p.Attachments[0].Via, "fat32")}
		all[0].Set, all[0].Capacity, all[0].Volume = set, 4*size.GiB, "main"
		all[0].File = func(string) (int64, bool) { return 0, false }
		all[0].Favourites = func(string) bool { return false }
		for range rapid.IntRange(1, 5).Draw(t, "further targets") { // which differ in one thing at the most
			d := all[0]
			switch rapid.IntRange(0, 8).Draw(t, "what differs") {
			case 0:
				d.Attachment = &p.Attachments[len(p.Attachments)-1]
			case 1:
				d.Filesystem = coretest.Destination(t, p, "usb", "ext4").Filesystem
			case 2:
				d.Capacity = 8 * size.GiB
			case 3:
				d.Volume = ""
			case 4:
				d.File = func(string) (int64, bool) { return 77, true }
			case 5:
				d.Held = map[string]string{titles[0].Key: "Ebb"}
			case 6:
				d.Slots = map[string]arrange.Slot{titles[0].Key: {Section: "Tides", Place: 3}}
			case 7:
				d.Favourites = func(string) bool { return true }
			}
			all = append(all, d)
		}
		got := make([]*layout.Tree, len(all))
		var wg sync.WaitGroup
		for i := range all {
			wg.Go(func() { got[i] = shelf.Lay(titles, p, all[i]) })
		}
		wg.Wait()
		for i := range all {
			assert.Equal(t, saidOf(t, layout.Lay(titles, p, all[i]), len(titles)), saidOf(t, got[i], len(titles)))
		}
	})
}

// TestAlikeTargetsShareTheirTrees: what a further one takes is next to nothing, and when the last is gone, nothing.
func TestAlikeTargetsShareTheirTrees(t *testing.T) {
	p, set := coretest.Rowan(t), coretest.Set(t)
	titles := make([]title.Title, 20_000)
	for i := range titles {
		titles[i] = vesper(i, fmt.Sprint("Title ", i), "full")
	}
	lay := func(s *layout.Shelf, n int64) *layout.Tree {
		d := coretest.Destination(t, p, "smb", "ext4")
		d.Set, d.Capacity = set, n*size.GiB // no two volumes are of one size
		return s.Lay(titles, p, d)
	}
	var shelf layout.Shelf
	before := held()
	trees := []*layout.Tree{lay(&shelf, 60)}
	one := held() - before
	for n := range int64(5) {
		runtime.GC() // the shelf itself keeps nothing
		trees = append(trees, lay(&shelf, 61+n))
		_ = trees[n+1].Besides(true)
	}
	assert.Less(t, held()-before, 2*one, "five more")
	assert.EqualValues(t, 63, trees[3].Here().Capacity/size.GiB, "each knows where it is")
	apart := shelf.Lay(slices.Clone(titles), p, *trees[0].Destination())
	assert.NotSame(t, &trees[0].Placements[0], &apart.Placements[0], "other titles")
	runtime.KeepAlive(trees)
	runtime.KeepAlive(apart)
	trees, apart = nil, nil
	assert.Less(t, held()-before, one/10, "nobody has them any longer")
	_ = lay(&shelf, 60)
}

func held() int64 {
	var m runtime.MemStats
	runtime.GC()
	runtime.GC()
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}
