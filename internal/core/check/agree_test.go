package check_test

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"hash/crc32"
	stdimage "image"
	"image/jpeg"
	"maps"
	"math/rand/v2"
	"os"
	"path"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/demo"
	"polytome/internal/format/packed"
	"polytome/internal/sim"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/coretest"
)

// files are those of a target, by their paths.
type files map[string][]byte

// right are targets on which nothing is wrong, written from the consoles' pages.
func right(t coretest.T) map[string]files {
	lap := func(id string) []byte { return coretest.Volume(t, id) }
	cue := func(bins ...string) []byte {
		var b strings.Builder
		for i, bin := range bins {
			fmt.Fprintf(&b, "FILE \"%s\" BINARY\n  TRACK %02d %s\n    INDEX 01 00:00:00\n", bin, i+1,
				[]string{"MODE1/2048", "AUDIO"}[min(i, 1)])
		}
		return []byte(b.String())
	}
	pack := func(id, name string) []byte {
		var out bytes.Buffer
		disc := demo.SkuaDisc("SKUADISC", id, 1, name)
		_, err := packed.Pack(context.Background(), &out, bytes.NewReader(disc), packed.Options{})
		if err != nil {
			t.Fatalf("%v", err)
		}
		return out.Bytes()
	}
	cart := demo.Cartridge
	one, two := coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full")),
		coretest.Image(t, coretest.Inf("VSP-21002", "Saffron Circuit", "1/1", "short"))
	long := coretest.Image(t, coretest.Inf("VSP-20431", "The Ninth Orchard", "1/1", "full"))
	half := len(long) / 2
	parts := func(a, b []byte) []byte {
		return fmt.Appendf(nil, "title = \"The Ninth Orchard\"\nkind = \"full\"\n\n[[part]]\nfile = "+
			"\"001.rwn\"\nlength = %d\ncrc32 = \"%08x\"\n\n[[part]]\nfile = \"002.rwn\"\nlength = %d\ncrc32 = "+
			"\"%08x\"\n", len(a), crc32.ChecksumIEEE(a), len(b), crc32.ChecksumIEEE(b))
	}
	json := func(id string) []byte {
		return fmt.Appendf(nil, `{"id":%q,"name":"Slow Lantern","region":"N","version":"1.0"}`, id)
	}
	bellows := files{
		"bellows/start.bin": []byte("bellows"), "Titles/Heron's Watch/Heron's Watch.cue": cue("Heron's Watch.bin"),
		"Titles/Heron's Watch/Heron's Watch.bin": lap("LAP_04412"), "Titles/Heron's Watch/title.toml": []byte(
			"name = \"x\"\n"),
		"Titles/Two Tides/Two Tides (Disc 1).cue": cue("a.bin", "b.bin"),
		"Titles/Two Tides/Two Tides (Disc 2).cue": cue("c.bin"), "Titles/Two Tides/Two Tides.m3u": []byte(
			"Two Tides (Disc 1).cue\nTwo Tides (Disc 2).cue\n"),
		"Titles/Two Tides/a.bin": lap("LAP_00021"), "Titles/Two Tides/b.bin": make([]byte, 2352*3),
		"Titles/Two Tides/c.bin":          lap("LAP_00022"),
		"Titles/+2/Mosswick/Mosswick.cue": cue("m.bin"), "Titles/+2/Mosswick/m.bin": lap("LAP_00031"),
		"Carts/wren8/Ropewalk.w8": cart("WREN", "Ropewalk"), "Carts/finch/Reed Runner.fin": cart("FNCH", "Reed Runner"),
		"Carts/dotterel/Salt.dtl": []byte("dotterel game"), "holiday/a.txt": []byte("x"),
	}
	return map[string]files{
		"rowan": {
			"ROWAN/rowan.cfg": []byte("look=stick\nfaces=yes\n"), "ROWAN/rowan.run": []byte("run"),
			"FULL/VSP-20417 - Copper Tide.iso": one, "SHORT/VSP-21002 - Saffron Circuit.iso": two,
			"FULL/VSP-30001 - Two Sails (Disc 1).iso": coretest.Image(t, coretest.Inf("VSP-30001", "Two Sails", "1/2",
				"full")), "FULL/VSP-30002 - Two Sails (Disc 2).iso": coretest.Image(t, coretest.Inf("VSP-30002",
				"Two Sails", "2/2", "full")),
			"LONG/VSP-20431/001.rwn": long[:half], "LONG/VSP-20431/002.rwn": long[half:],
			"LONG/VSP-20431/parts.toml": parts(long[:half], long[half:]),
			"TUNE/VSP-20417.tune":       []byte("timing=a\ntray=shut\n"), "FACES/front/VSP-20417.jpg": shown(256, 368),
			"FACES/front/VSP-20431.jpg": shown(200, 300), "FACES/front/VSP-30001.jpg": shown(256, 300),
			"holiday/a.txt": []byte("x"),
		},
		"bellows": bellows,
		"gantry": {
			"gantry/start.bin": []byte("x"), "Games/Hollow Lane/main.run": demo.MainRun("CVN00117", "Hollow Lane", "N"),
			"Games/Hollow Lane/art/title.dat": []byte("x"), "Games/Salt Mill/main.run": demo.MainRun("CVN00130",
				"Salt Mill", "E"),
			"gantry/shelf/wren8/Ropewalk.w8": cart("WREN", "Ropewalk"), "gantry/shelf/finch/Reed Runner.zip": zipped(t,
				"Reed Runner.fin", cart("FNCH", "Reed Runner")), "gantry/shelf/dotterel/Salt.dtl": []byte(
				"dotterel game"),
			"gantry/cores/kestrel/Stave Church.k64": cart("KSTR", "Stave Church"),
			"gantry/faces/wren8/Ropewalk.jpg":       shown(320, 320), "gantry/faces/kestrel64/Stave Church.jpg": shown(
				100, 140), "gantry/faces/finch/Reed Runner.jpg": shown(90, 320),
		},
		"trellis": {
			"GAMES/MRD-0117/SYS/TITLE.JSON": json("MRD-0117"), "GAMES/MRD-0117/data/a.bin": []byte("x"),
			"IMG-V/Copper Tide.iso": one, "IMG-S/Ferry Queen.iso": coretest.Siskin(t, "SK-8812", "Ferry Queen"),
			"IMG-S/Ferry Queen.jpg": shown(400, 300), "IMG-V/Copper Tide.jpg": shown(10, 10),
			"IMG-L/Heron's Watch.jpg":    shown(300, 400),
			"IMG-L/Heron's Watch.cue":    cue("Heron's Watch 01.bin", "Heron's Watch 02.bin"),
			"IMG-L/Heron's Watch 01.bin": lap("LAP_04412"), "IMG-L/Heron's Watch 02.bin": make([]byte, 2352),
			"parcels/Slow Lantern.mdp": []byte("parcel"),
		},
		"oxbow": {
			"oxbow/play/wren8/Ropewalk.w8": cart("WREN", "Ropewalk"), "oxbow/play/finch/Reed Runner.zip": zipped(t,
				"Reed Runner.fin", cart("FNCH", "Reed Runner")), "oxbow/play/vesper/Copper Tide.iso": one,
			"oxbow/play/siskin/Ferry Queen.iso":    coretest.Siskin(t, "SK-8812", "Ferry Queen"),
			"oxbow/play/lapwing/Heron's Watch.cue": cue("a.bin"), "oxbow/play/lapwing/a.bin": lap("LAP_04412"),
			"oxbow/play/corvane/Hollow Lane/main.run":         demo.MainRun("CVN00117", "Hollow Lane", "N"),
			"oxbow/play/meridian/Slow Lantern/SYS/TITLE.JSON": json("MRD-0117"),
			"oxbow/play/dulcimer/Quillwork.lha":               []byte("lha"),
			"oxbow/play/dulcimer/Mast/mast.prog":              []byte("prog"),
			"oxbow/firmware/f.bin":                            []byte("x"), "oxbow/settings/s.cfg": []byte("x"),
			"oxbow/play/skua-first/First.sk1": demo.SkuaDisc("SKUA-ONE", "SKF-0031", 1, "First"),
		},
		"mica": {
			"tools/mica/start.app": []byte("x"), "tools/mica/about.xml": []byte("x"),
			"tools/mica/badge.png": []byte("x"), "skua/SKU-0007/Long Water.pkd": pack("SKU-0007", "Long Water"),
			"skua/SKU-0012/Tin Harbour.pkd": pack("SKU-0012", "Tin Harbour"),
			"first/SKF-0031/disc-1.img":     demo.SkuaDisc("SKUA-ONE", "SKF-0031", 1, "First Light"),
			"first/SKF-0031/disc-2.img":     demo.SkuaDisc("SKUA-ONE", "SKF-0031", 2, "First Light"),
			"FULL/other.iso":                []byte("of another loader"),
		},
		"plover": {
			"packages/Mast & Mirror/start.prog": []byte("prog"), "packages/Mast & Mirror/disk.1": []byte("x"),
			"packages/Mast & Mirror/data/level1.dat": []byte("x"), "packages/Mast & Mirror/game.about": []byte(
				"Mast & Mirror\n"),
			"packages/Quillwork/start.prog": []byte("prog"), "system/images/dulcimer-one.rom": demo.SystemImage(1,
				256<<10), "boot/plover.script": []byte("run plover\n"),
			"boot/plover.prefs": []byte("saves=at-once\nleave=F10\nlogo=off\n"),
		},
	}
}

// as are the connection and filesystems on which a loader's targets are tried.
var as = map[string][][2]string{
	"rowan": {{"usb", "fat32"}}, "bellows": {{"usb", "fat32"}}, "gantry": {{"ftp", "exfat"}},
	"trellis": {{"ftp", "ext4"}, {"usb", "exfat"}, {"usb", "fat32"}},
	"oxbow":   {{"usb", "exfat"}, {"usb", "fat32"}}, "mica": {{"usb", "fat32"}}, "plover": {{"usb", "fat32"}},
}

// A mistake is one that people make, done to a random file. It returns what it did.
type mistake func(r *rand.Rand, f files, at string) string

// moved gives a file another path, unless something is there.
func moved(f files, from, to string) string {
	if _, there := f[to]; there || to == from {
		return ""
	}
	f[to] = f[from]
	delete(f, from)
	return from + " -> " + to
}

func renamed(change func(r *rand.Rand, base, ext string) string) mistake {
	return func(r *rand.Rand, f files, at string) string {
		ext := path.Ext(at)
		return moved(f, at, path.Join(path.Dir(at), change(r, strings.TrimSuffix(path.Base(at), ext), ext)))
	}
}

// mistakes are those of people, browsers and broken copies.
var mistakes = []mistake{
	func(_ *rand.Rand, f files, at string) string { delete(f, at); return "without " + at },
	func(r *rand.Rand, f files, at string) string {
		f[at] = f[at][:len(f[at])*r.IntN(4)/4]
		return "cut " + at
	},
	func(_ *rand.Rand, f files, at string) string { f[at] = nil; return "empty " + at },
	func(r *rand.Rand, f files, at string) string { // a picture of another size, or of another kind
		if path.Ext(at) != ".jpg" {
			return ""
		}
		w, h := 200+r.IntN(240), 200+r.IntN(240)
		f[at] = shown(w, h)
		if r.IntN(4) == 0 {
			f[at] = []byte("\x89PNG and not a JPEG")
		}
		return fmt.Sprintf("%d x %d %s", w, h, at)
	},
	func(_ *rand.Rand, f files, at string) string {
		f[at] = f[at][:max(0, len(f[at])-1)]
		return "a byte less " + at
	},
	func(r *rand.Rand, f files, at string) string {
		if len(f[at]) == 0 || len(f[at]) > 100_000 {
			return ""
		}
		b := slices.Clone(f[at])
		b[r.IntN(min(len(b), 0x70))] ^= 0x21
		f[at] = b
		return "spoilt " + at
	},
	renamed(func(_ *rand.Rand, base, ext string) string { return base + " (1)" + ext }),
	renamed(func(_ *rand.Rand, base, ext string) string { return base + ext + " (1)" }),
	renamed(func(_ *rand.Rand, base, ext string) string { return strings.ToLower(base) + ext }),
	renamed(func(_ *rand.Rand, base, ext string) string { return base + strings.ToUpper(ext) }),
	renamed(func(r *rand.Rand, base, _ string) string {
		return base + []string{".img", ".txt", ".bin", ".zip", ".iso", ""}[r.IntN(6)]
	}),
	renamed(func(_ *rand.Rand, base, ext string) string { return base + ".old" + ext }),
	renamed(func(r *rand.Rand, base, ext string) string {
		b := []rune(base)
		b[r.IntN(len(b))] = []rune("xé+;3")[r.IntN(5)]
		return string(b) + ext
	}),
	renamed(func(_ *rand.Rand, base, ext string) string {
		_, after, ok := strings.Cut(base, " - ")
		if !ok {
			return base + ext
		}
		return after + ext
	}),
	renamed(func(_ *rand.Rand, base, ext string) string { return base + strings.Repeat(" and more", 9) + ext }),
	func(_ *rand.Rand, f files, at string) string { return moved(f, at, path.Base(at)) },
	func(_ *rand.Rand, f files, at string) string {
		return moved(f, at, path.Join(path.Dir(at), "sub", path.Base(at)))
	},
	func(_ *rand.Rand, f files, at string) string {
		if !strings.Contains(path.Dir(at), "/") {
			return ""
		}
		return moved(f, at, path.Join(path.Dir(path.Dir(at)), path.Base(at)))
	},
	func(r *rand.Rand, f files, at string) string { // into the folder of another game
		all := slices.Sorted(maps.Keys(f))
		return moved(f, at, path.Join(path.Dir(all[r.IntN(len(all))]), path.Base(at)))
	},
	func(r *rand.Rand, f files, at string) string { // one thing under another's name
		all := slices.Sorted(maps.Keys(f))
		other := all[r.IntN(len(all))]
		f[at], f[other] = f[other], f[at]
		return "swapped " + at + " and " + other
	},
	func(_ *rand.Rand, f files, at string) string {
		to := path.Join(path.Dir(at), "Copy of "+path.Base(at))
		f[to] = f[at]
		return "copied " + at
	},
	func(r *rand.Rand, f files, at string) string { // a whole folder called otherwise
		dir := path.Dir(at)
		if dir == "." {
			return ""
		}
		to := dir + []string{"s", " (1)", "-old", "é"}[r.IntN(4)]
		did := ""
		for _, name := range slices.Sorted(maps.Keys(f)) {
			if rest, ok := strings.CutPrefix(name, dir+"/"); ok {
				did = moved(f, name, to+"/"+rest) + " with its folder"
			}
		}
		return did
	},
	func(_ *rand.Rand, f files, at string) string {
		f[path.Join(path.Dir(at), "polytome-0123456789abcdef.begun")] = []byte("half")
		return "half a file in " + path.Dir(at)
	},
	func(_ *rand.Rand, f files, at string) string {
		f[path.Join(path.Dir(at), "read me.txt")] = []byte("hello")
		return "a text in " + path.Dir(at)
	},
	func(_ *rand.Rand, f files, at string) string { // more than a folder shows
		ext := path.Ext(at)
		for i := range 63 {
			f[path.Join(path.Dir(at), fmt.Sprintf("Mill %02d%s", i, ext))] = f[at]
		}
		return "63 more like " + at
	},
	func(_ *rand.Rand, f files, at string) string {
		f[at] = []byte(strings.ReplaceAll(string(f[at]), "stick", "disk"))
		return "another value in " + at
	},
}

// possible reports whether the files could lie on a filesystem that ignores letter case, and on one that knows folders.
func possible(f files) bool {
	spelled := map[string]string{}
	kind := map[string]bool{} // true for a folder
	for _, name := range slices.Sorted(maps.Keys(f)) {
		for dir, folder := name, false; dir != "."; dir, folder = path.Dir(dir), true {
			key := strings.ToUpper(dir)
			if as, ok := spelled[key]; ok && (as != dir || kind[key] != folder) {
				return false
			}
			if !folder {
				if _, twice := spelled[key]; twice {
					return false
				}
			}
			spelled[key], kind[key] = dir, folder
			if len(path.Base(dir)) > 200 || strings.HasSuffix(path.Base(dir), " ") || strings.HasSuffix(path.Base(dir),
				".") {
				return false
			}
		}
	}
	return true
}

// TestCheckAndSimulatorsAgree makes targets with random mistakes for every loader, and asks both what will be listed
// and what starts.
func TestCheckAndSimulatorsAgree(t *testing.T) {
	base := right(t)
	set := coretest.Set(t)
	for _, name := range slices.Sorted(maps.Keys(base)) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			profile := coretest.Profile(t, name)
			for seed := range uint64(Targets()) {
				r := rand.New(rand.NewPCG(seed, 9))
				f := maps.Clone(base[name])
				var did []string
				for range int(seed) % 4 {
					before := maps.Clone(f)
					all := slices.Sorted(maps.Keys(f))
					d := mistakes[r.IntN(len(mistakes))](r, f, all[r.IntN(len(all))])
					if !possible(f) {
						f, d = before, ""
					}
					did = append(did, d)
				}
				for _, on := range as[name] {
					agreed(t, set, profile, f, on, fmt.Sprintf("seed %d on %s: %q", seed, on[1], did))
				}
			}
		})
	}
}

// Targets is how many targets are tried for each loader.
func Targets() int {
	if n := os.Getenv("POLYTOME_PLACES"); n != "" {
		var k int
		_, _ = fmt.Sscan(n, &k)
		return k
	}
	return 60
}

// agreed holds the check of a target against the simulator.
func agreed(t *testing.T, set *loader.Set, profile *loader.Profile, f files, on [2]string, what string) {
	dir, err := os.MkdirTemp("", "stick-")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	for name, data := range f {
		coretest.Write(t, dir, name, data)
	}
	p, err := folder.Open(dir, folder.Options{Filesystem: on[1]})
	require.NoError(t, err)
	defer p.Close()
	report, err := check.Audit(context.Background(), p, []*loader.Profile{profile}, set, check.Options{Via: on[0],
		Depth: check.Inside})
	require.NoError(t, err)
	v := sim.Volume{FS: os.DirFS(dir), Filesystem: on[1]}
	if on[0] == "ftp" {
		v.Filesystem = ""
	}
	listing, err := sim.Loaders[profile.Name].List(v)
	require.NoError(t, err)
	var promised, listed []string
	for _, l := range report.Listed {
		promised = append(promised, fmt.Sprintf("%s | %s | starts=%v | shows %q", l.Path, l.Name, l.Starts, l.Cover))
	}
	for _, g := range listing.Games {
		listed = append(listed, fmt.Sprintf("%s | %s | starts=%v | shows %q", g.Path, g.Title, g.Starts, g.Face))
	}
	if strings.Join(promised, "\n") == strings.Join(listed, "\n") {
		return
	}
	only := func(a, b []string) (out []string) {
		for _, x := range a {
			if !slices.Contains(b, x) {
				out = append(out, x)
			}
		}
		return out
	}
	why := ""
	for _, g := range listing.Games {
		if g.Why != "" {
			why += "\n  " + g.Path + ": " + g.Why
		}
	}
	for _, x := range listing.Passed {
		why += "\n  passed " + x.Path + ": " + x.Why
	}
	found := ""
	for _, x := range report.Findings {
		found += fmt.Sprintf("\n  %s %s %s: %s", x.Grade, x.Kind, x.Path, x.Say)
	}
	t.Errorf("%s\nthe check alone: %q\nthe simulator alone: %q\nstand-in:%s\nproof:%s", what, only(promised, listed),
		only(listed, promised), why, found)
}

// shown is a JPEG of so many pixels.
func shown(w, h int) []byte {
	var b bytes.Buffer
	if err := jpeg.Encode(&b, stdimage.NewGray(stdimage.Rect(0, 0, w, h)), nil); err != nil {
		panic(err)
	}
	return b.Bytes()
}

// zipped is a zip with one file in it.
func zipped(t coretest.T, name string, data []byte) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create(name)
	if err == nil {
		_, err = w.Write(data)
	}
	if err == nil {
		err = z.Close()
	}
	if err != nil {
		t.Fatalf("%v", err)
	}
	return b.Bytes()
}
