package plan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/plan"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
)

// TestACoverFollowsItsTitle: a cover that is under the old name of what is renamed goes with it, and is not made
// again; one that a title of that name wants, or that is a folder, stays.
func TestACoverFollowsItsTitle(t *testing.T) {
	p := coretest.Profile(t, "trellis")
	fs, _ := target.FilesystemNamed("ext4")
	siskin := func(key, name string) title.Title {
		return title.Title{Key: key, Platform: "siskin", Form: title.Image, Name: name, Of: 1,
			Pictures: []title.Picture{{Of: "front", File: title.File{Path: "/covers/x.png", Size: 9000}}},
			Discs:    []title.Disc{{Number: 1, File: title.File{Path: "/games/" + key + ".iso", Size: 100}}}}
	}
	both := func(key, name string) title.Title { // two discs, one cover each
		tt := siskin(key, name)
		tt.Of = 2
		tt.Discs = append(tt.Discs, title.Disc{Number: 2, File: title.File{Path: "/games/" + key + "2.iso", Size: 200}})
		return tt
	}
	for name, c := range map[string]struct {
		titles []title.Title
		there  []target.Entry
		found  map[int][]string
		want   []string
	}{
		"with its cover": {[]title.Title{siskin("a", "Reed Runner")}, append(dirs("IMG-S"), file("IMG-S/reeds.iso",
			100), file("IMG-S/reeds.jpg", 7)), map[int][]string{0: {"IMG-S/reeds.iso"}},
			[]string{"move IMG-S/Reed Runner.iso from IMG-S/reeds.iso",
				"move IMG-S/Reed Runner.jpg from IMG-S/reeds.jpg"}},
		"from another folder": {[]title.Title{siskin("a", "Reed Runner")}, append(dirs("IMG-S", "box"),
			file("box/reeds.iso", 100), file("box/reeds.jpg", 7)), map[int][]string{0: {"box/reeds.iso"}},
			[]string{"move IMG-S/Reed Runner.iso from box/reeds.iso", "move IMG-S/Reed Runner.jpg from box/reeds.jpg"}},
		"from no folder at all": {[]title.Title{siskin("a", "Reed Runner")},
			append(dirs("IMG-S"), file("reeds.iso", 100), file("reeds.jpg", 7)), map[int][]string{0: {"reeds.iso"}},
			[]string{"move IMG-S/Reed Runner.iso from reeds.iso", "move IMG-S/Reed Runner.jpg from reeds.jpg"}},
		"without a cover": {[]title.Title{siskin("a", "Reed Runner")}, append(dirs("IMG-S"), file("IMG-S/reeds.iso",
			100)), map[int][]string{0: {"IMG-S/reeds.iso"}},
			[]string{"move IMG-S/Reed Runner.iso from IMG-S/reeds.iso", "copy IMG-S/Reed Runner.jpg"}},
		"a folder of that name": {[]title.Title{siskin("a", "Reed Runner")}, append(dirs("IMG-S", "IMG-S/reeds.jpg"),
			file("IMG-S/reeds.iso", 100)), map[int][]string{0: {"IMG-S/reeds.iso"}},
			[]string{"move IMG-S/Reed Runner.iso from IMG-S/reeds.iso", "copy IMG-S/Reed Runner.jpg"}},
		"not found": {[]title.Title{siskin("a", "Reed Runner")}, append(dirs("IMG-S"), file("IMG-S/reeds.jpg", 7)), nil,
			[]string{"copy IMG-S/Reed Runner.iso", "copy IMG-S/Reed Runner.jpg"}},
		"the other disc only": {[]title.Title{both("a", "Reed Runner")},
			append(dirs("IMG-S"), file("IMG-S/reeds two.iso", 200), file("IMG-S/reeds two.jpg", 7)),
			map[int][]string{0: {"", "IMG-S/reeds two.iso"}},
			[]string{"move IMG-S/Reed Runner (Disc 2).iso from IMG-S/reeds two.iso",
				"copy IMG-S/Reed Runner (Disc 1).iso", "copy IMG-S/Reed Runner (Disc 1).jpg"}},
	} {
		t.Run(name, func(t *testing.T) {
			tree := layout.Lay(c.titles, p, layout.Destination{Attachment: p.Attachment("ftp", ""), Filesystem: fs})
			sheet := fit.Judge(fit.Case{Titles: c.titles, Loaders: []fit.Loader{{Profile: p, Tree: tree}}, Via: "ftp",
				Facts: target.Facts{Filesystem: fs, Capacity: size.TiB, Free: size.TiB / 2, Cluster: 4096},
				There: c.there, Found: c.found, Covers: true})
			sheet.Choose(func(int) bool { return true })
			assert.Equal(t, c.want, say(plan.Make(sheet, plan.Options{})))
		})
	}
}
