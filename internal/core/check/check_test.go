package check_test

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/sim"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/coretest"
)

// image makes a small Vesper image.
func image(t coretest.T, id, kind string) []byte {
	return coretest.Image(t, coretest.Inf(id, "x", "1/1", kind))
}

func audit(t coretest.T, dir, as string, promises ...check.Promise) *check.Report {
	t.Helper()
	p, err := folder.Open(dir, folder.Options{Filesystem: as})
	if err != nil {
		t.Fatalf("%v", err)
	}
	defer p.Close()
	r, err := check.Audit(context.Background(), p, []*loader.Profile{coretest.Rowan(t)}, coretest.Set(t),
		check.Options{Via: "usb", Promises: func(*loader.Profile) []check.Promise { return promises }})
	if err != nil {
		t.Fatalf("%v", err)
	}
	return r
}

// agree fails unless the simulator, which knows nothing of profiles, lists what
// the check promises.
func agree(t coretest.T, dir string, r *check.Report) {
	t.Helper()
	listing, err := sim.Rowan{}.List(os.DirFS(dir))
	if err != nil {
		t.Fatalf("%v", err)
	}
	var promised, listed []string
	for _, l := range r.Listed {
		promised = append(promised, fmt.Sprintf("%s|%s|starts=%v", l.Path, l.Name, l.Starts))
	}
	for _, g := range listing.Games {
		listed = append(listed, fmt.Sprintf("%s|%s|starts=%v", g.Path, g.Title, g.Starts))
	}
	if strings.Join(promised, "\n") != strings.Join(listed, "\n") {
		t.Fatalf("the check promises\n%s\nand the simulator lists\n%s", strings.Join(promised, "\n"),
			strings.Join(listed, "\n"))
	}
}

const kit = "look=stick\nfaces=yes\n"

// withKit puts Rowan's own program beside its settings, so that nothing of the kit is missing.
func withKit(t coretest.T, dir string) { coretest.Write(t, dir, "Rowan/rowan.run", []byte("run")) }

func TestFindings(t *testing.T) {
	whole := image(t, "VSP-20417", "full")
	good := "FULL/VSP-20417 - Copper Tide.iso"
	for name, c := range map[string]struct {
		file   string
		data   []byte
		listed bool
		starts bool
		say    string
	}{
		"as it should be": {good, whole, true, true, ""},
		"letter case":     {"full/vsp-20417 - Copper Tide.ISO", whole, true, true, ""},
		"no ID in front":  {"FULL/Copper Tide.iso", whole, false, false, "ignores it"},
		"no such ID": {"FULL/VSP-2041 - Copper Tide.iso", whole, false, false,
			`"VSP-2041" is not an ID of the Vesper`},
		"title too long": {"FULL/VSP-20417 - " + strings.Repeat("x", 29) + ".iso", whole, false, false,
			"has 29 characters, but at most 28 are allowed"},
		"odd character":     {"FULL/VSP-20417 - Copper+Tide.iso", whole, false, false, "'+' is not allowed"},
		"other extension":   {"FULL/VSP-20417 - Copper Tide.img", whole, false, false, "ignores it"},
		"in a folder":       {"FULL/sub/VSP-20417 - Copper Tide.iso", whole, false, false, "ignores it"},
		"cut short":         {good, whole[:len(whole)-2048], true, false, "cut short"},
		"other ID inside":   {good, image(t, "VSP-11111", "full"), true, false, "the image inside is VSP-11111"},
		"other kind":        {"SHORT/VSP-20417 - Copper Tide.iso", whole, true, false, "but is a full disc"},
		"no image":          {good, []byte("hello"), true, false, "does not start"},
		"none of its files": {"VIDEO/reel.mov", []byte("x"), false, false, ""},
		"half a file": {"FULL/polytome-0123456789abcdef.begun", whole, false, false,
			"a run is writing this file"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			coretest.Write(t, dir, "Rowan/rowan.cfg", []byte(kit))
			coretest.Write(t, dir, c.file, c.data)
			withKit(t, dir)
			r := audit(t, dir, "fat32")
			agree(t, dir, r)
			require.Equal(t, c.listed, len(r.Listed) == 1)
			if c.listed {
				assert.Equal(t, c.starts, r.Listed[0].Starts)
			}
			if c.say == "" {
				assert.Empty(t, r.Findings)
				return
			}
			require.Len(t, r.Findings, 1)
			assert.Contains(t, r.Findings[0].Say, c.say)
			assert.NotEmpty(t, r.Findings[0].Remedy)
			assert.Equal(t, c.file, r.Findings[0].Path)
			assert.Equal(t, r.Findings[0].Grade == check.Remark, r.Good())
		})
	}
}

func TestTheLoadersOwnFiles(t *testing.T) {
	for name, c := range map[string]struct {
		cfg    string // "" for none
		listed int
		say    string
	}{
		"right":      {kit, 1, ""},
		"no kit":     {"", 0, "lists nothing"},
		"looks away": {"look=disk\nfaces=yes\n", 0, "it says look=disk instead of look=stick"},
		"no faces":   {"look=stick\n", 1, "shows no covers"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			coretest.Write(t, dir, "FULL/VSP-20417 - Copper Tide.iso", image(t, "VSP-20417", "full"))
			withKit(t, dir)
			if c.cfg != "" {
				coretest.Write(t, dir, "Rowan/ROWAN.CFG", []byte(c.cfg))
			}
			r := audit(t, dir, "fat32")
			agree(t, dir, r)
			assert.Len(t, r.Listed, c.listed)
			if c.say == "" {
				assert.Empty(t, r.Findings)
			} else {
				assert.Contains(t, r.Findings[0].Say, c.say)
			}
		})
	}
}

func TestPromisesAndTheFilesystem(t *testing.T) {
	dir := t.TempDir()
	withKit(t, dir)
	coretest.Write(t, dir, "Rowan/rowan.cfg", []byte(kit))
	coretest.Write(t, dir, "FULL/VSP-20417 - Copper Tide.iso", image(t, "VSP-20417", "full"))
	r := audit(t, dir, "fat32", check.Promise{Label: "Copper Tide", Path: "FULL/VSP-20417 - Copper Tide.iso", Size: 5},
		check.Promise{Label: "Mosswick", Path: "SHORT/VSP-21377 - Mosswick.iso", Size: 5})
	require.Len(t, r.Findings, 2)
	assert.Contains(t, r.Findings[0].Say, "Copper Tide should have 5 bytes")
	assert.Contains(t, r.Findings[1].Say, "Mosswick should be here but is not")
	assert.Contains(t, strings.Join(r.Unchecked, "\n"), "whether every image is contiguous",
		"that pieces cannot be seen is said")

	r = audit(t, dir, "exfat")
	assert.Equal(t, check.Stops, r.Findings[0].Grade)
	assert.Contains(t, r.Findings[0].Say, "this target is exFAT")
	assert.Empty(t, r.Listed)
}
