package learn_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/layout"
	"polytome/internal/core/learn"
	"polytome/internal/core/loader"
	"polytome/internal/core/saves"
	"polytome/internal/core/title"
	"polytome/internal/testkit/coretest"
)

// TestSavesAreLearnt from a target on which somebody has played: the rule finds all of them, and the same titles' ones.
func TestSavesAreLearnt(t *testing.T) {
	all := collection(t)
	var few []title.Title
	of := map[string]int{}
	for _, x := range all {
		if of[x.Platform]++; of[x.Platform] <= 5 {
			few = append(few, x)
		}
	}
	set := coretest.Set(t)
	for _, c := range []struct {
		loader, via, as string
	}{{"rowan", "usb", "fat32"}, {"gantry", "ftp", "exfat"}, {"bellows", "usb", "fat32"}, {"oxbow", "usb", "exfat"}} {
		t.Run(c.loader, func(t *testing.T) {
			titles := few
			if c.loader == "bellows" { // of a few folders alone nobody can say what a title is
				titles = all
			}
			p := coretest.Profile(t, c.loader)
			to := coretest.Destination(t, p, c.via, c.as)
			tree := layout.Lay(titles, p, to)
			dir := t.TempDir()
			there := fill(t, dir, titles, tree)
			later := time.Now().Add(time.Hour)
			var want []string
			for k, i := range there {
				for _, at := range saves.Paths(p, to.Attachment, titles[i].Platform, tree.Values(i)) {
					file := at
					if c.loader == "gantry" || c.loader == "bellows" {
						file += "/slot 1.dat"
					}
					content := make([]byte, 64)
					copy(content, fmt.Sprint("reached ", k, "\x00\xff"))
					coretest.Write(t, dir, file, content)
					require.NoError(t, os.Chtimes(filepath.Join(dir, file), later, later))
					want = append(want, at)
				}
			}
			require.Greater(t, len(want), 2)
			d, err := learn.Learn(t.Context(), look(t, dir, c.as), set)
			require.NoError(t, err)
			text := d.TOML()
			learnt, err := loader.ParseProfile("learnt.toml", []byte(text))
			require.NoError(t, err, text)
			require.NoError(t, set.Check(learnt), text)
			var got []string
			for _, s := range saves.Find(learnt, "", look(t, dir, c.as).Entries) {
				got = append(got, s.Path)
			}
			assert.ElementsMatch(t, want, got, text)
			assert.NotEmpty(t, d.Saves)
			for _, f := range d.Saves {
				assert.Contains(t, f.Why, "that changed after the games came")
			}
		})
	}
}

// TestFilesOfTheDayTheGamesCameAreNoSaves, nor are texts and pictures that changed later.
func TestWhatIsNoSave(t *testing.T) {
	titles := collection(t)
	p := coretest.Profile(t, "oxbow")
	tree := layout.Lay(titles, p, coretest.Destination(t, p, "usb", "exfat"))
	dir := t.TempDir()
	there := fill(t, dir, titles, tree)
	later := time.Now().Add(time.Hour)
	for _, i := range there {
		v := tree.Values(i)[0]
		stem := filepath.Join(dir, v[loader.FieldFolder], v[loader.FieldBase])
		for ext, text := range map[string]string{".hold": "now\x00\xff", ".txt": "a note", ".png": "\x89PNG\x00\xff"} {
			require.NoError(t, os.WriteFile(stem+ext, []byte(text), 0o644))
			if ext != ".hold" {
				require.NoError(t, os.Chtimes(stem+ext, later, later))
			}
		}
	}
	d, err := learn.Learn(t.Context(), look(t, dir, "exfat"), coretest.Set(t))
	require.NoError(t, err)
	assert.Empty(t, d.Saves)
}
