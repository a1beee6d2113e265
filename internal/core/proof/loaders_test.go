package proof_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/proof"
	"polytome/internal/coretest"
	"polytome/internal/demo"
	"polytome/internal/place/folder"
)

// audited is the proof of a folder with the given files for a loader.
func audited(t *testing.T, loader, road, as string, files map[string][]byte) *proof.Report {
	dir := t.TempDir()
	for name, data := range files {
		coretest.Write(t, dir, name, data)
	}
	p, err := folder.Open(dir, folder.Options{Filesystem: as})
	require.NoError(t, err)
	defer p.Close()
	r, err := proof.Audit(context.Background(), p, coretest.Profile(t, loader), coretest.Set(t), road, nil)
	require.NoError(t, err)
	return r
}

// words are the lines of the list and the findings.
func words(r *proof.Report) (listed, findings []string) {
	for _, l := range r.Listed {
		listed = append(listed, fmt.Sprintf("%s %s starts=%v", l.Platform, l.Name, l.Starts))
	}
	for _, f := range r.Findings {
		findings = append(findings, string(f.Grade)+" "+f.Path+": "+f.Say)
	}
	return listed, findings
}

func TestPlacesOfOtherLoaders(t *testing.T) {
	cue := []byte("FILE \"a.bin\" BINARY\nTRACK 01 MODE1/2048\nINDEX 01 00:00:00\n")
	for name, c := range map[string]struct {
		loader, road, as string
		files            map[string][]byte
		listed           []string
		findings         []string // parts of them
	}{
		"Bellows": {"bellows", "usb", "fat32", map[string][]byte{
			"Titles/Heron's Watch/Heron's Watch.cue": cue, "Titles/Heron's Watch/a.bin": nil, "Titles/Heron's Watch/title.toml": []byte("name = 'x'\n"),
			"Titles/+2/Two Tides/Two Tides (Disc 1).cue": cue, "Titles/+2/Two Tides/Two Tides (Disc 2).cue": cue, "Titles/+2/Two Tides/Two Tides.m3u": nil, "Titles/+2/Two Tides/b.bin": nil,
			"Titles/loose.cue": cue, "Titles/Wrong/Other.cue": cue, "Carts/wren8/Ropewalk.w8": demo.Cartridge("WREN", "Ropewalk"),
			"Carts/finch/Ropewalk.w8": demo.Cartridge("WREN", "Ropewalk"), "holiday/a.jpg": nil,
		}, []string{"finch Ropewalk starts=false", "wren8 Ropewalk starts=true", "lapwing Heron's Watch starts=true", "lapwing Two Tides starts=true"},
			[]string{"fault Titles/loose.cue: Bellows passes it over", "fault Carts/finch/Ropewalk.w8: it is listed, but does not start: it is no finch cartridge"}},
		"Oxbow": {"oxbow", "usb", "exfat", map[string][]byte{
			"oxbow/play/wren8/Ropewalk.w8": demo.Cartridge("WREN", "Ropewalk"), "oxbow/play/siskin/Ferry Queen.iso": coretest.Siskin(t, "SK-8812", "Ferry Queen"),
			"oxbow/play/lapwing/x.cue": cue, "oxbow/play/lapwing/x.bin": nil, "oxbow/firmware/f.bin": nil, "oxbow/play/lost.w8": nil,
		}, []string{"lapwing x starts=true", "siskin Ferry Queen starts=true", "wren8 Ropewalk starts=true"}, []string{"fault oxbow/play/lost.w8: Oxbow passes it over"}},
		"Gantry": {"gantry", "ftp", "exfat", map[string][]byte{
			"Games/Hollow Lane/main.run": demo.MainRun("CVN00117", "Hollow Lane", "N"), "Games/loose.iso": nil, "gantry/shelf/wren8/Ropewalk.w8": demo.Cartridge("WREN", "Ropewalk"),
			"gantry/cores/kestrel/Stave Church.k64": demo.Cartridge("KSTR", "Stave Church"), "gantry/faces/wren8/Ropewalk.jpg": nil,
		}, []string{"corvane Hollow Lane starts=true", "wren8 Ropewalk starts=true", "kestrel64 Stave Church starts=true"},
			[]string{"fault Games/loose.iso: Gantry passes it over"}},
		"Trellis": {"trellis", "usb", "exfat", map[string][]byte{
			"IMG-S/Ferry Queen.iso": coretest.Siskin(t, "SK-8812", "Ferry Queen"), "IMG-S/Ferry Queen.jpg": nil, "IMG-S/vesper.iso": coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full")),
			"IMG-S/cut.iso": coretest.Siskin(t, "SK-8813", "Cut")[:40_000],
		}, []string{"siskin cut starts=false", "siskin Ferry Queen starts=true", "siskin vesper starts=false"},
			[]string{"fault IMG-S/vesper.iso: it is listed, but does not start: it is no siskin image", "fault IMG-S/cut.iso: it is listed, but does not start: it is no siskin image"}},
		"Plover": {"plover", "usb", "fat32", map[string][]byte{
			"packages/Quillwork/start.prog": nil, "packages/loose.prog": nil, "boot/plover.prefs": []byte("saves=at-once\nleave=F9\nlogo=off\n"),
		}, []string{"dulcimer Quillwork starts=true"}, []string{"remark boot/plover.prefs: it says leave=F9 instead of leave=F10", "fault packages/loose.prog: Plover passes it over"}},
		"a wrong filesystem": {"plover", "usb", "exfat", map[string][]byte{"packages/Quillwork/start.prog": nil}, nil, []string{"stops : over usb, Plover reads FAT32 only, and this place is exFAT"}},
		"a wrong road":       {"gantry", "usb", "fat32", nil, nil, []string{"stops : Gantry does not read from usb"}},
	} {
		t.Run(name, func(t *testing.T) {
			r := audited(t, c.loader, c.road, c.as, c.files)
			listed, findings := words(r)
			assert.ElementsMatch(t, c.listed, listed)
			for _, f := range c.findings {
				assert.True(t, slices.ContainsFunc(findings, func(got string) bool { return strings.HasPrefix(got, f) }), "%s\nin %q", f, findings)
			}
			faults := 0
			for _, f := range findings {
				if strings.HasPrefix(f, "fault") {
					faults++
				}
			}
			wanted := 0
			for _, f := range c.findings {
				if strings.HasPrefix(f, "fault") {
					wanted++
				}
			}
			if name == "Bellows" {
				wanted++ // a cue sheet that is not called as its folder
			}
			assert.Equal(t, wanted, faults, "%q", findings)
		})
	}
	r := audited(t, "bellows", "usb", "fat32", nil)
	assert.Contains(t, strings.Join(r.Unchecked, " "), "whether the volume is called PIPIT")
	assert.NotContains(t, strings.Join(r.Checklist, "\n"), "what was added", "nothing was")
}

func TestTheListHasTheLoadersOrder(t *testing.T) {
	r := audited(t, "oxbow", "usb", "exfat", map[string][]byte{
		"oxbow/play/wren8/A.w8": demo.Cartridge("WREN", "A"), "oxbow/play/finch/B.fin": demo.Cartridge("FNCH", "B"), "oxbow/play/finch/a.fin": demo.Cartridge("FNCH", "a"),
	})
	listed, _ := words(r)
	assert.Equal(t, []string{"finch a starts=true", "finch B starts=true", "wren8 A starts=true"}, listed, "by platform, then by title")
}
