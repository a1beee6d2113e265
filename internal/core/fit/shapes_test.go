package fit_test

import (
	"path"
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
)

// judgedBy gives the one verdict of a title by a shipped profile.
func judgedBy(t *testing.T, loader, via string, f target.Facts, tt title.Title, there ...target.Entry) (fit.Explanation,
	*fit.Sheet) {
	p := coretest.Profile(t, loader)
	titles := []title.Title{tt}
	destination := layout.Destination{Attachment: p.Attachment(via, f.Filesystem.Name), Filesystem: f.Filesystem}
	s := fit.Judge(fit.Case{Titles: titles,
		Loaders: []fit.Loader{{Profile: p, Tree: layout.Lay(titles, p, destination)}}, Via: via, Facts: f,
		There: there})
	s.Choose(func(int) bool { return true })
	return s.Explain(0), s
}

func TestVerdictsOfOtherForms(t *testing.T) {
	stick := facts("fat32", 58*size.GiB, 50*size.GiB)
	disk := facts("exfat", 58*size.GiB, 50*size.GiB)
	file := func(n int64) title.File { return title.File{Path: "/games/x.bin", Size: n} }
	image := func(platform string, n int64) title.Title {
		return title.Title{Key: "k", Platform: platform, Form: title.Image, ID: "ID-1", Name: "Long Water", Of: 1,
			Discs: []title.Disc{{Number: 1, ID: "ID-1", Kind: "full", File: file(n)}}}
	}
	cart := title.Title{Key: "c", Platform: "finch", Form: title.Cartridge, Name: "Reed Runner", Of: 1,
		Discs: []title.Disc{{Number: 1, File: title.File{Path: "/games/reed.fin", Size: 512}}}}
	zipped := cart
	zipped.Archive = ".zip"
	zipped.Discs = []title.Disc{{Number: 1, File: title.File{Path: "/games/reed.zip", Size: 300},
		Parts: []title.Part{{Name: "reed.fin", File: file(512)}}}}
	folder := title.Title{Key: "f", Platform: "corvane", Form: title.Folder, ID: "CVN00117", Name: "Hollow Lane", Of: 1,
		Discs: []title.Disc{{Number: 1, File: title.File{Path: "/games/lane"},
			Parts: []title.Part{{Name: "main.run", File: file(100)}, {Name: "art/big.dat", File: file(100_000)}}}}}
	boot := func(platforms ...string) (out []target.Entry) {
		for _, p := range append(platforms, "../firmware", "..") {
			out = append(out, target.Entry{Path: path.Join("oxbow/play", p), Folder: true})
		}
		return append(out, target.Entry{Path: "oxbow/play", Folder: true})
	}
	for name, c := range map[string]struct {
		loader, via string
		facts       target.Facts
		title       title.Title
		there       []target.Entry
		want        fit.Kind
		say         string
	}{
		"to be packed": {"mica", "usb", stick, image("skua", size.GiB), nil, fit.Packed,
			"Mica starts packed images: what the image does not use is left out, from 1.00 GiB to skua/ID-1/Long " +
				"Water.pkd, and takes at most 1.00 GiB"},
		"large, to be packed": {"mica", "usb", stick, image("skua", 7*size.GiB), nil, fit.Packed,
			"and takes at most 7.00 GiB, in 3 files"},
		"to be unpacked": {"bellows", "usb", stick, zipped, nil, fit.Unpacked,
			"is unpacked while copying, from 812 bytes to Carts/finch/Reed Runner.fin, and takes 32.00 KiB"},
		"stays zipped": {"oxbow", "usb", stick, zipped, nil, fit.Copy,
			"oxbow/play/finch/Reed Runner.zip and takes 32.00 KiB"},
		"an image, not a folder": {"gantry", "ftp", disk, image("corvane", size.GiB), nil, fit.NotYet,
			"Gantry does not read this image; it needs the folder in it, but its contents could not be read; it " +
				"would take about 1.00 GiB"},
		"a folder of files": {"gantry", "ftp", disk, folder, nil, fit.Copy,
			"Games/Hollow Lane/main.run and takes 256.00 KiB"},
		"half of it there": {"gantry", "ftp", disk, folder, []target.Entry{{Path: "Games", Folder: true},
			{Path: "Games/Hollow Lane", Folder: true}, {Path: "Games/Hollow Lane/main.run", Size: 100}}, fit.Copy,
			"takes 256.00 KiB; 128.00 KiB of that are already"},
		"all of it there": {"gantry", "ftp", disk, folder, []target.Entry{{Path: "Games/Hollow Lane/main.run",
			Size: 100}, {Path: "games/hollow lane/ART/big.dat", Size: 100_000}}, fit.Present, "is already there, as"},
		"the disk's own limit": {"gantry", "ftp", disk, title.Title{Key: "f", Platform: "corvane",
			Form: title.Folder, Name: "Big", Of: 1,
			Discs: []title.Disc{{Number: 1, Parts: []title.Part{{Name: "main.run", File: file(5 << 30)}}}}}, nil,
			fit.TooBig, "a Gantry target holds files up to 4,294,967,295 bytes; this folder has 5,368,709,120 bytes"},
		"another loader's": {"rowan", "usb", stick, cart, nil, fit.Foreign, "Rowan does not read finch titles"},
		"another connection": {"gantry", "usb", stick, cart, nil, fit.Unsupported,
			"Gantry cannot be filled over USB"},
		"a filesystem refused": {"trellis", "usb", stick, title.Title{Key: "l", Platform: "lapwing",
			Form: title.Tracks, ID: "LAP_1", Name: "x", Of: 1, Discs: []title.Disc{{Number: 1, File: file(9)}}}, nil,
			fit.Unsupported, "from a FAT32 stick, Trellis reads only Siskin images"},
		"a folder that was made": {"oxbow", "usb", stick, cart, boot("finch", "wren8"), fit.Copy, "is copied to"},
		"one that was not made": {"oxbow", "usb", stick, cart, boot("wren8"), fit.Unsupported,
			"the console has created its folders, but oxbow/play/finch is not among them"},
		"a target nobody prepared": {"oxbow", "usb", stick, cart, []target.Entry{{Path: "holiday", Folder: true}},
			fit.Copy, "is copied to"},
		"parts of an image": {"rowan", "usb", stick, image("vesper", 5<<30), nil, fit.Parts,
			"FAT32 holds files up to 4,294,967,295 bytes; this image is 5.00 GiB. Rowan reads it in 3 parts, which " +
				"take 5.00 GiB"},
	} {
		t.Run(name, func(t *testing.T) {
			e, s := judgedBy(t, c.loader, c.via, c.facts, c.title, c.there...)
			assert.Equal(t, c.want, e.Verdict)
			assert.Contains(t, e.Say, c.say)
			assert.Equal(t, c.want != fit.Foreign, s.Chosen[0],
				"what the loader has nothing to do with is never chosen")
			if e.Verdict == fit.NotYet {
				assert.NotEmpty(t, e.Ways)
			}
		})
	}
}
