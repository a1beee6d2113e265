package learn_test

import (
	"context"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/layout"
	"polytome/internal/core/learn"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/testkit/coretest"
)

// TestShippedLoadersWithPlatformsUnknown fills a target by each shipped profile, and learns from it without knowing any
// platform: what counts as certain of IDs and names is right, and most loaders have most of their games recognised.
func TestShippedLoadersWithPlatformsUnknown(t *testing.T) {
	titles := collection(t)
	most := 0
	for _, c := range [][3]string{{"rowan", "usb", "fat32"}, {"gantry", "ftp", "exfat"}, {"trellis", "ftp", "exfat"},
		{"bellows", "usb", "fat32"}, {"oxbow", "usb", "exfat"}, {"plover", "usb", "fat32"}} {
		t.Run(c[0], func(t *testing.T) {
			p := coretest.Profile(t, c[0])
			tree := layout.Lay(titles, p, coretest.Destination(t, p, c[1], c[2]))
			dir := t.TempDir()
			there := fill(t, dir, titles, tree)
			was := map[string]*title.Title{}
			for _, i := range there {
				for _, it := range tree.Placements[i].Items {
					was[filepath.Join(dir, filepath.FromSlash(it.Path))] = &titles[i]
				}
			}
			d, err := learn.Learn(context.Background(), look(t, dir, c[2]), &loader.Set{})
			if err != nil { // it says that nothing is known, rather than guessing
				assert.ErrorContains(t, err, "shows where games go")
				return
			}
			r, err := scan.Scan(context.Background(), []string{dir},
				scan.Options{Set: learn.With(&loader.Set{}, d.Taught)})
			require.NoError(t, err)
			sure := map[string]map[string]bool{}
			for _, x := range d.Taught {
				sure[x.Name] = map[string]bool{"id": x.Fields["id"].Sure, "name": x.Fields["name"].Sure}
			}
			known := 0
			for i := range r.Titles {
				x := &r.Titles[i]
				orig := was[x.Discs[0].File.Path]
				if x.Platform == "" || orig == nil {
					continue
				}
				known++
				if sure[x.Platform]["id"] {
					assert.Equal(t, orig.Discs[0].ID, x.Discs[0].ID, x.Discs[0].File.Path)
				}
				if sure[x.Platform]["name"] {
					assert.True(t, strings.HasPrefix(orig.Name, strings.TrimSpace(x.Name)), "%q is certain to be %q",
						x.Name,
						orig.Name)
				}
			}
			t.Logf("%d of %d are recognised", known, len(there))
			if known*3 >= len(there)*2 {
				most++
			}
		})
	}
	assert.GreaterOrEqual(t, most, 3)
}
