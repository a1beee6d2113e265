package sim_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/layout"
	"polytome/internal/core/scan"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/sim"
	"polytome/internal/testkit/coretest"
)

// TestProfilesMakeWhatTheSimulatorsList lays the demo's shelf out by every profile, and asks the
// simulators, which know nothing of profiles, what they would list: all of it, and nothing is
// skipped.
func TestProfilesMakeWhatTheSimulatorsList(t *testing.T) {
	w, err := demo.Open(filepath.Join(t.TempDir(), "world"), demo.Seed)
	require.NoError(t, err)
	set := coretest.Set(t)
	scanned, err := scan.Scan(context.Background(), []string{w.Shelf}, scan.Options{Set: set})
	require.NoError(t, err)
	sound := slices.DeleteFunc(scanned.Titles, func(t title.Title) bool { return !t.OK() })
	for i := range 130 { // more than two pages
		file := filepath.Join(t.TempDir(), "many.w8")
		require.NoError(t, os.WriteFile(file, demo.Cartridge("WREN", fmt.Sprintf("Many Mills %03d", i)), 0o644))
		info, err := os.Stat(file)
		require.NoError(t, err)
		sound = append(sound, title.Title{Key: file, Platform: "wren8", Form: title.Cartridge,
			Name: fmt.Sprintf("Many Mills %03d", i), Of: 1,
			Discs: []title.Disc{{Number: 1, File: title.File{Path: file, Size: info.Size(),
				Modified: info.ModTime()}}}})
	}
	for _, c := range []struct {
		loader, via, as string
		least           int // titles that can be put as they are
	}{{"bellows", "usb", "fat32", 140}, {"gantry", "ftp", "exfat", 140}, {"trellis", "ftp", "exfat", 8},
		{"trellis", "usb", "exfat", 6}, {"oxbow", "usb", "exfat", 155}, {"plover", "usb", "fat32", 2},
		{"mica", "usb", "fat32", 1}} {
		t.Run(c.loader+" "+c.via, func(t *testing.T) {
			p := coretest.Profile(t, c.loader)
			tree := layout.Lay(sound, p, coretest.Destination(t, p, c.via, c.as))
			target := fstest.MapFS{}
			put := 0
			for i := range sound {
				pl := &tree.Placements[i]
				if pl.Refusal != nil || !pl.Ready() || large(pl) {
					continue
				}
				put++
				for _, item := range pl.Items {
					target[item.Path] = &fstest.MapFile{Data: coretest.Bytes(t, &item)}
				}
				for _, m := range tree.Companions(i) {
					target[m.Path] = &fstest.MapFile{Data: []byte(m.Text)}
				}
			}
			require.GreaterOrEqual(t, put, c.least)
			target["system/images/dulcimer-one.rom"] = &fstest.MapFile{Data: demo.SystemImage(1, 256<<10)}
			l, err := sim.Loaders[c.loader].List(target)
			require.NoError(t, err)
			assert.Empty(t, l.Passed)
			listed := map[string]bool{}
			for _, g := range l.Games {
				assert.True(t, g.Starts, "%s: %s", g.Path, g.Why)
				listed[strings.ToUpper(g.Path)] = true
			}
			for i := range sound {
				pl := &tree.Placements[i]
				if pl.Refusal != nil || !pl.Ready() || large(pl) {
					continue
				}
				first := strings.ToUpper(pl.Items[0].Path)
				found := false
				// a game may be listed by its folder
				for at := first; at != "."; at = filepath.ToSlash(filepath.Dir(at)) {
					found = found || listed[at]
				}
				assert.True(t, found, "%s is not listed as %s", sound[i].Name, first)
			}
		})
	}
}

// large reports whether a title would fill the memory that the test keeps its target in. What is packed is small: it
// is nothing but zeros.
func large(pl *layout.Placement) bool {
	for _, item := range pl.Items {
		if item.Size > 64<<20 && item.Shape != shape.Pack {
			return true
		}
	}
	return false
}

// TestWhatTheSimulatorsSkip has the usual mistakes on a target of each loader.
func TestWhatTheSimulatorsSkip(t *testing.T) {
	file := func(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text)} }
	lap, wren, finch, kestrel := file(string(coretest.Volume(t, "LAP_00001"))),
		file(string(demo.Cartridge("WREN", "a"))), file(string(demo.Cartridge("FNCH", "x"))),
		file(string(demo.Cartridge("KSTR", "k")))
	run, skua := file(string(demo.MainRun("CVN00117", "A", "N"))),
		file(string(demo.SkuaDisc("SKUA-ONE", "SKF-1", 1, "First")))
	system := file(string(demo.SystemImage(1, 256<<10)))
	cue := file("FILE \"a.bin\" BINARY\nTRACK 01 MODE1/2048\nINDEX 01 00:00:00\n")
	for name, c := range map[string]struct {
		target         fstest.MapFS
		listed, passed []string // titles, with a ! for what does not start; paths
	}{
		"bellows": {fstest.MapFS{"Titles/A/A.cue": cue, "Titles/A/a.bin": lap, "Titles/loose.cue": cue,
			"Titles/C/Other.cue": cue, "Titles/Two/Two (Disc 1).cue": cue, "Titles/Two/a.bin": lap,
			"Carts/wren8/x.fin": file(""), "Carts/finch/x.fin": finch}, []string{"A", "Two!", "x"},
			[]string{"Carts/wren8/x.fin", "Titles/C", "Titles/loose.cue"}},
		"gantry": {fstest.MapFS{"Games/A/main.run": run, "Games/loose.iso": file(""), "Games/B/sub/main.run": file(""),
			"gantry/shelf/kestrel64/k.k64": file(""), "gantry/cores/kestrel/k.k64": kestrel,
			"gantry/shelf/wren8/a.w8": wren},
			[]string{"A", "a", "k"}, []string{"Games/B", "Games/loose.iso"}},
		"trellis": {fstest.MapFS{"GAMES/MRD-0117/SYS/TITLE.JSON": file(`{"id":"MRD-0117","name":"x"}`),
			"GAMES/MRD-0001/SYS/TITLE.JSON": file(`{"id":"MRD-0002","name":"x"}`), "GAMES/x/readme": file(""),
			"IMG-S/a.iso": file("no"), "IMG-L/lost.cue": cue},
			[]string{"MRD-0117", "MRD-0001!", "a!", "lost!"}, []string{"GAMES/x"}},
		"oxbow": {fstest.MapFS{"oxbow/play/wren8/a.w8": wren, "oxbow/play/lapwing/a.bin": lap,
			"oxbow/play/lapwing/b.cue": cue, "oxbow/play/nobody/x": file("")}, []string{"a", "b"}, nil},
		"mica": {fstest.MapFS{"skua/SKU-1/A.pkd": file(""), "skua/SKU-1/A.2.pkd": file(""),
			"skua/loose.pkd": file(""), "first/SKF-1/disc-1.img": skua, "first/SKF-1/disc-2.img": file("other"),
			"first/SKF-1/game.img": file("")}, []string{"A!", "SKF-1 disc 1", "SKF-1 disc 2!"},
			[]string{"first/SKF-1/game.img", "skua/loose.pkd"}},
		"plover": {fstest.MapFS{"packages/A/start.prog": file("x"), "system/images/dulcimer-one.rom": system,
			"packages/B/b.prog": file(""), "packages/loose.prog": file(""), "packages/" + strings.Repeat("n", 31) +
				"/start.prog": file("")}, []string{"A"}, []string{"packages/B", "packages/loose.prog", "packages/" +
			strings.Repeat("n", 31)}},
	} {
		t.Run(name, func(t *testing.T) {
			l, err := sim.Loaders[name].List(c.target)
			require.NoError(t, err)
			var listed, passed []string
			for _, g := range l.Games {
				if !g.Starts {
					g.Title += "!"
				}
				listed = append(listed, g.Title)
			}
			for _, p := range l.Passed {
				passed = append(passed, p.Path)
			}
			assert.ElementsMatch(t, c.listed, listed)
			assert.ElementsMatch(t, c.passed, passed)
			empty, err := sim.Loaders[name].List(fstest.MapFS{})
			require.NoError(t, err)
			assert.Empty(t, empty.Games)
		})
	}
}
