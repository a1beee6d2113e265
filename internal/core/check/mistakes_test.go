package check_test

import (
	"bytes"
	"context"
	"fmt"
	"image/color"
	"image/jpeg"
	"image/png"
	"maps"
	"slices"
	"strings"
	"testing"

	stdimage "image"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/fix"
	"polytome/internal/core/loader"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/demo"
	"polytome/internal/format/packed"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/coretest"
)

// shot is a picture of a size.
func shot(t coretest.T, format string, w, h int) []byte {
	im := stdimage.NewRGBA(stdimage.Rect(0, 0, w, h))
	im.Set(1, 1, color.White)
	var b bytes.Buffer
	var err error
	if format == "png" {
		err = png.Encode(&b, im)
	} else {
		err = jpeg.Encode(&b, im, nil)
	}
	if err != nil {
		t.Fatalf("%v", err)
	}
	return b.Bytes()
}

// checkFiles audits a target with the given files.
func checkFiles(t *testing.T, f files, on [2]string, depth check.Depth, names ...string) *check.Report {
	var all []*loader.Profile
	for _, n := range names {
		all = append(all, coretest.Profile(t, n))
	}
	return checkFor(t, f, on, depth, all...)
}

// checkFor is checkFiles for profiles that are none of those that ship.
func checkFor(t *testing.T, f files, on [2]string, depth check.Depth, all ...*loader.Profile) *check.Report {
	dir := t.TempDir()
	for name, data := range f {
		coretest.Write(t, dir, name, data)
	}
	p, err := folder.Open(dir, folder.Options{Filesystem: on[1]})
	require.NoError(t, err)
	defer p.Close()
	r, err := check.Audit(context.Background(), p, all, coretest.Set(t), check.Options{Via: on[0], Depth: depth})
	require.NoError(t, err)
	return r
}

// reported are the findings in short.
func reported(r *check.Report) (out []string) {
	for _, f := range r.Findings {
		var fixes []string
		for _, m := range f.Fixes {
			fixes = append(fixes, strings.TrimSpace(fmt.Sprintf("%s %s", m.Do, m.To)))
		}
		out = append(out, fmt.Sprintf("%s %s %s [%s]", f.Grade, f.Kind, f.Path, strings.Join(fixes, ", ")))
	}
	return out
}

func TestNothingIsWrongWithRightTargets(t *testing.T) {
	for name, f := range right(t) {
		for k := range f { // pictures that are none
			if strings.HasSuffix(k, ".jpg") {
				f[k] = shot(t, "jpg", 200, 200)
			}
		}
		on := as[name][0]
		r := checkFiles(t, f, on, check.Inside, name)
		for _, x := range r.Findings {
			assert.Equal(t, check.NoCover, x.Kind, "%s: %s %s", name, x.Path, x.Say)
		}
		assert.True(t, r.Good())
		r = checkFiles(t, f, on, check.Whole, name)
		assert.True(t, r.Good(), "%s: %q", name, reported(r))
		quick := checkFiles(t, f, on, check.Names, name)
		assert.True(t, quick.Good(), "%s: %q", name, reported(quick))
		assert.Len(t, quick.Listed, len(r.Listed))
	}
}

// TestEachMistakeIsReported makes one mistake after another, and wants it reported with what fixes it.
func TestEachMistakeIsReported(t *testing.T) {
	base := right(t)
	move := func(from, to string) func(files) {
		return func(f files) { f[to] = f[from]; delete(f, from) }
	}
	set := func(name string, data []byte) func(files) { return func(f files) { f[name] = data } }
	drop := func(names ...string) func(files) {
		return func(f files) {
			for _, n := range names {
				delete(f, n)
			}
		}
	}
	for _, c := range []struct {
		loader string
		what   string
		do     func(files)
		want   string // one of the findings
	}{
		{"rowan", "no ID in front", move("FULL/VSP-20417 - Copper Tide.iso", "FULL/Copper Tide.iso"),
			"fault name FULL/Copper Tide.iso [rename FULL/VSP-20417 - Copper Tide.iso]"},
		{"rowan", "mark of a second copy", move("FULL/VSP-20417 - Copper Tide.iso",
			"FULL/VSP-20417 - Copper Tide.iso (1)"),
			"fault name FULL/VSP-20417 - Copper Tide.iso (1) [rename FULL/VSP-20417 - Copper Tide.iso]"},
		{"rowan", "odd character", move("FULL/VSP-20417 - Copper Tide.iso", "FULL/VSP-20417 - Copper+Tide.iso"),
			"fault name FULL/VSP-20417 - Copper+Tide.iso [rename FULL/VSP-20417 - Copper Tide.iso]"},
		{"rowan", "too long", move("FULL/VSP-20417 - Copper Tide.iso",
			"FULL/VSP-20417 - Copper Tide and the long way around.iso"),
			"fault name FULL/VSP-20417 - Copper Tide and the long way around.iso [rename FULL/VSP-20417 - Copper " +
				"Tide and the long way.iso]"},
		{"rowan", "wrong folder", move("FULL/VSP-20417 - Copper Tide.iso", "SHORT/VSP-20417 - Copper Tide.iso"),
			"fault folder SHORT/VSP-20417 - Copper Tide.iso [rename FULL/VSP-20417 - Copper Tide.iso]"},
		{"rowan", "at the root", move("FULL/VSP-20417 - Copper Tide.iso", "Copper Tide.iso"),
			"fault folder Copper Tide.iso [rename FULL/VSP-20417 - Copper Tide.iso]"},
		{"rowan", "one of another", move("FULL/VSP-20417 - Copper Tide.iso", "FULL/VSP-20999 - Copper Tide.iso"),
			"fault id FULL/VSP-20999 - Copper Tide.iso [rename FULL/VSP-20417 - Copper Tide.iso]"},
		{"rowan", "wrong extension", move("FULL/VSP-20417 - Copper Tide.iso", "FULL/VSP-20417 - Copper Tide.img"),
			"fault name FULL/VSP-20417 - Copper Tide.img [rename FULL/VSP-20417 - Copper Tide.iso]"},
		{"rowan", "a disc is missing", drop("FULL/VSP-30002 - Two Sails (Disc 2).iso"),
			"fault disc FULL/VSP-30001 - Two Sails (Disc 1).iso []"},
		{"rowan", "the first disc is missing", drop("FULL/VSP-30001 - Two Sails (Disc 1).iso"),
			"fault disc FULL/VSP-30002 - Two Sails (Disc 2).iso []"},
		{"rowan", "twice", func(
			f files) {
			f["FULL/VSP-20417 - Other Tide.iso"] = f["FULL/VSP-20417 - Copper Tide.iso"]
		},
			"remark double FULL/VSP-20417 - Other Tide.iso []"},
		{"rowan", "a cover one letter off", move("FACES/front/VSP-20417.jpg", "FACES/front/VPS-20417.jpg"),
			"fault companion FACES/front/VPS-20417.jpg [rename FACES/front/VSP-20417.jpg]"},
		{"rowan", "a cover with a mark", move("FACES/front/VSP-20417.jpg", "FACES/front/VSP-20417 (1).jpg"),
			"fault companion FACES/front/VSP-20417 (1).jpg [rename FACES/front/VSP-20417.jpg]"},
		{"rowan", "a cover of another format", func(f files) {
			delete(f, "FACES/front/VSP-20417.jpg")
			f["FACES/front/VSP-20417.png"] = shot(t, "png", 100, 100)
		}, "fault companion FACES/front/VSP-20417.png [fit FACES/front/VSP-20417.jpg]"},
		{"rowan", "a cover too large", set("FACES/front/VSP-20417.jpg", shot(t, "jpg", 300, 100)),
			"fault cover FACES/front/VSP-20417.jpg [fit FACES/front/VSP-20417.jpg]"},
		{"rowan", "a cover that is none", set("FACES/front/VSP-20417.jpg", []byte("<html>")),
			"fault cover FACES/front/VSP-20417.jpg []"},
		{"rowan", "a cover of another game", set("FACES/front/VSP-99999.jpg", shot(t, "jpg", 10, 10)),
			"remark orphan FACES/front/VSP-99999.jpg []"},
		{"rowan", "settings of a game in another case are the same", move("TUNE/VSP-20417.tune", "TUNE/vsp-20417.TUNE"),
			""},
		{"rowan", "looks elsewhere", set("ROWAN/rowan.cfg", []byte("look=disk\nfaces=yes\n")),
			"stops setting ROWAN/rowan.cfg [set]"},
		{"rowan", "faces off", set("ROWAN/rowan.cfg", []byte("look=stick\n")), "remark setting ROWAN/rowan.cfg [set]"},
		{"rowan", "the kit under its name as downloaded", move("ROWAN/rowan.run", "ROWAN/rowan-2.1.run"),
			"fault kit ROWAN/rowan.run [rename ROWAN/rowan.run]"},
		{"rowan", "a part is missing", drop("LONG/VSP-20431/002.rwn"), "fault parts LONG/VSP-20431/parts.toml []"},
		{"rowan", "no list of parts", drop("LONG/VSP-20431/parts.toml"), "fault parts LONG/VSP-20431/001.rwn []"},
		{"rowan", "a list of parts with a mark", move("LONG/VSP-20431/parts.toml", "LONG/VSP-20431/parts (1).toml"),
			"fault parts LONG/VSP-20431/001.rwn [rename LONG/VSP-20431/parts.toml]"},
		{"rowan", "a part that the list lacks", set("LONG/VSP-20431/004.rwn", []byte("x")),
			"remark spare LONG/VSP-20431/004.rwn []"},
		{"bellows", "a loose sheet", func(f files) {
			move("Titles/Heron's Watch/Heron's Watch.cue", "Titles/Heron's Watch.cue")(f)
			move("Titles/Heron's Watch/Heron's Watch.bin", "Titles/Heron's Watch.bin")(f)
		}, "fault name Titles/Heron's Watch.cue [rename Titles/Heron's Watch/Heron's Watch.cue, rename " +
			"Titles/Heron's Watch/Heron's Watch.bin]"},
		{"bellows", "a sheet that is not called as its folder", move("Titles/Heron's Watch/Heron's Watch.cue",
			"Titles/Heron's Watch/heron.cue"),
			"fault name Titles/Heron's Watch/heron.cue [rename Titles/Heron's Watch/Heron's Watch.cue]"},
		{"bellows", "a track one letter off", move("Titles/Heron's Watch/Heron's Watch.bin",
			"Titles/Heron's Watch/Herons Watch.bin"),
			"fault half Titles/Heron's Watch/Heron's Watch.cue [rename Titles/Heron's Watch/Heron's Watch.bin]"},
		{"bellows", "a track under another name", move("Titles/Heron's Watch/Heron's Watch.bin",
			"Titles/Heron's Watch/track.bin"), "fault half Titles/Heron's Watch/Heron's Watch.cue [write]"},
		{"bellows", "a track is missing", drop("Titles/Heron's Watch/Heron's Watch.bin"),
			"fault half Titles/Heron's Watch/Heron's Watch.cue []"},
		{"bellows", "no playlist", drop("Titles/Two Tides/Two Tides.m3u"),
			"fault half Titles/Two Tides/Two Tides.m3u [write]"},
		{"bellows", "a playlist that lacks a disc", set("Titles/Two Tides/Two Tides.m3u",
			[]byte("Two Tides (Disc 1).cue\n")), "fault list Titles/Two Tides/Two Tides.m3u [write]"},
		{"bellows", "the first disc is missing", drop("Titles/Two Tides/Two Tides (Disc 1).cue"),
			"fault disc Titles/Two Tides/Two Tides (Disc 2).cue []"},
		{"bellows", "the second disc is missing", drop("Titles/Two Tides/Two Tides (Disc 2).cue"),
			"fault half Titles/Two Tides/Two Tides.m3u [write]"},
		{"bellows", "a cartridge of another platform", move("Carts/wren8/Ropewalk.w8", "Carts/finch/Ropewalk.w8"),
			"fault name Carts/finch/Ropewalk.w8 [rename Carts/wren8/Ropewalk.w8]"},
		{"bellows", "no kit", drop("bellows/start.bin"), "fault kit bellows/start.bin []"},
		{"bellows", "the kit at the root", move("bellows/start.bin", "bellows-north (1).bin"),
			"fault kit bellows/start.bin [rename bellows/start.bin]"},
		{"bellows", "more than a page", func(f files) {
			for i := range 62 {
				f[fmt.Sprintf("Carts/wren8/Mill %02d.w8", i)] = f["Carts/wren8/Ropewalk.w8"]
			}
		}, "fault crowded Carts/wren8 [rename Carts/wren8/+2/Mill 60.w8, rename Carts/wren8/+2/Mill 61.w8, rename " +
			"Carts/wren8/+2/Ropewalk.w8]"},
		{"gantry", "a loose file", set("Games/loose.iso", []byte("x")), "fault name Games/loose.iso []"},
		{"gantry", "a folder within a folder", move("Games/Salt Mill/main.run", "Games/Salt Mill/Salt Mill/main.run"),
			"fault half Games/Salt Mill []"},
		{"gantry", "the exception", move("gantry/cores/kestrel/Stave Church.k64",
			"gantry/shelf/wren8/Stave Church.k64"),
			"fault name gantry/shelf/wren8/Stave Church.k64 [rename gantry/cores/kestrel/Stave Church.k64]"},
		{"gantry", "a face with an extension too many", move("gantry/faces/wren8/Ropewalk.jpg",
			"gantry/faces/wren8/Ropewalk.w8.jpg"), "remark orphan gantry/faces/wren8/Ropewalk.w8.jpg []"},
		{"trellis", "letter case", move("IMG-S/Ferry Queen.iso", "img-s/Ferry Queen.iso"),
			"fault case img-s/Ferry Queen.iso [rename IMG-S/Ferry Queen.iso]"},
		{"trellis", "a track in another case", move("IMG-L/Heron's Watch 02.bin", "IMG-L/Heron's Watch 02.BIN"),
			"fault half IMG-L/Heron's Watch.cue [rename IMG-L/Heron's Watch 02.bin]"},
		{"trellis", "a folder of another game", func(f files) {
			move("GAMES/MRD-0117/SYS/TITLE.JSON", "GAMES/MRD-0118/SYS/TITLE.JSON")(f)
			delete(f, "GAMES/MRD-0117/data/a.bin")
		}, "fault id GAMES/MRD-0118 [rename GAMES/MRD-0117]"},
		{"oxbow", "no game", set("oxbow/play/vesper/holiday.iso", coretest.Image(t, "")),
			"fault folder oxbow/play/vesper/holiday.iso []"},
		{"oxbow", "a text among games", set("oxbow/play/vesper/read me.txt", []byte("x")),
			"fault name oxbow/play/vesper/read me.txt []"},
		{"mica", "the kit as downloaded", move("tools/mica/start.app", "tools/mica/mica-1.4 (1).app"),
			"fault kit tools/mica/start.app [rename tools/mica/start.app]"},
		{"mica", "the folder of another ID",
			func(f files) { move("skua/SKU-0007/Long Water.pkd", "skua/SKU-0008/Long Water.pkd")(f) },
			"fault id skua/SKU-0008/Long Water.pkd []"},
		{"mica", "cut short", func(
			f files) {
			f["skua/SKU-0007/Long Water.pkd"] = f["skua/SKU-0007/Long Water.pkd"][:400]
		},
			"fault damaged skua/SKU-0007/Long Water.pkd []"},
		{"mica", "a part without a first one", set("skua/SKU-0019/Lost.2.pkd", []byte("x")),
			"fault parts skua/SKU-0019/Lost.2.pkd []"},
		{"plover", "no system", drop("system/images/dulcimer-one.rom"),
			"fault system-image system/images/dulcimer-one.rom []"},
		{"plover", "the system under another name", move("system/images/dulcimer-one.rom", "system/images/dump.rom"),
			"fault system-image system/images/dulcimer-one.rom [rename system/images/dulcimer-one.rom]"},
		{"plover", "another system", set("system/images/dulcimer-one.rom", make([]byte, 256<<10)),
			"fault system-image system/images/dulcimer-one.rom []"},
		{"plover", "another value", set("boot/plover.prefs", []byte("; mine\nsaves=at-once\nleave=F9\nlogo=off\n")),
			"remark setting boot/plover.prefs [set]"},
		{"plover", "no start file", drop("boot/plover.script"), "fault kit boot/plover.script [write]"},
	} {
		t.Run(c.loader+" "+c.what, func(t *testing.T) {
			f := maps.Clone(base[c.loader])
			for k := range f {
				if strings.HasSuffix(k, ".jpg") {
					f[k] = shot(t, "jpg", 200, 200)
				}
			}
			c.do(f)
			dir := t.TempDir()
			for name, data := range f {
				coretest.Write(t, dir, name, data)
			}
			b := bench.New("")
			b.Targets = []bench.Target{{Name: "stick", At: dir, Loader: c.loader, Via: as[c.loader][0][0],
				As: as[c.loader][0][1], Capacity: 1 << 32}}
			s, err := survey.Take(t.Context(), b, 0, nil, survey.Options{Set: coretest.Set(t)})
			require.NoError(t, err)
			r, err := s.Check(t.Context(), check.Inside)
			require.NoError(t, err)
			got := reported(r)
			if c.want == "" {
				assert.True(t, r.Good(), "%q", got)
				return
			}
			assert.Contains(t, got, c.want)
			for _, x := range r.Findings {
				assert.NotEmpty(t, x.Matters, "%s: why it matters", x.Say)
				if x.Kind != check.Leftover {
					assert.NotEmpty(t, x.Remedy, "%s: what to do", x.Say)
				}
			}
			if strings.HasSuffix(c.want, "[]") {
				return
			}
			// what fixes it goes through a plan and a run, and then it is gone
			kind := r.Findings[slices.Index(got, c.want)].Kind
			b.Targets[0].Fix(r.Fixes(kind)...)
			require.NoError(t, s.Rejudge(t.Context(), b, 0))
			p := s.Plan()
			require.Empty(t, p.Notes)
			require.NotEmpty(t, p.Steps)
			assert.Zero(t, p.Loses())
			to, err := s.Open(t.Context())
			require.NoError(t, err)
			report := run.Run(t.Context(), p, to, run.Options{}, func(run.Event) {})
			require.NoError(t, to.Close())
			require.Empty(t, report.Failed)
			assert.True(t, b.Targets[0].Fixed(s.Fixed(p, &report)))
			assert.Empty(t, b.Targets[0].Fixes)
			s, err = survey.Take(t.Context(), b, 0, nil, survey.Options{Set: coretest.Set(t)})
			require.NoError(t, err)
			assert.True(t, s.Plan().Empty(), "%v", s.Plan().Steps)
			r, err = s.Check(t.Context(), check.Inside)
			require.NoError(t, err)
			assert.NotContains(t, reported(r), c.want)
			for _, x := range r.Findings {
				assert.NotEqual(t, kind, x.Kind, "%s %s", x.Path, x.Say)
			}
		})
	}
}

// TestEverythingIsRead spoils bytes that only a full look finds.
func TestEverythingIsRead(t *testing.T) {
	base := right(t)
	f := maps.Clone(base["rowan"])
	f["FACES/front/VSP-20417.jpg"] = shot(t, "jpg", 10, 10)
	part := slices.Clone(f["LONG/VSP-20431/002.rwn"])
	part[len(part)-1] ^= 1 // behind everything that a look inside reads
	f["LONG/VSP-20431/002.rwn"] = part
	assert.True(t, checkFiles(t, f, as["rowan"][0], check.Inside, "rowan").Good())
	r := checkFiles(t, f, as["rowan"][0], check.Whole, "rowan")
	assert.Equal(t, "fault parts LONG/VSP-20431/parts.toml []", reported(r)[0])
	assert.Contains(t, r.Findings[0].Say, "its part 002.rwn does not match its list: the")
	f = maps.Clone(base["mica"])
	disc := append(demo.SkuaDisc("SKUADISC", "SKU-0007", 1, "Long Water"), make([]byte, 100_000)...)
	copy(disc[len(disc)-5000:], "the end of the disc")
	var out bytes.Buffer
	_, err := packed.Pack(context.Background(), &out, bytes.NewReader(disc), packed.Options{})
	require.NoError(t, err)
	b := out.Bytes()
	b[bytes.Index(b, []byte("the end of"))] ^= 1
	f["skua/SKU-0007/Long Water.pkd"] = b
	assert.True(t, checkFiles(t, f, as["mica"][0], check.Inside, "mica").Good(), "its head is right")
	r = checkFiles(t, f, as["mica"][0], check.Whole, "mica")
	assert.Contains(t, reported(r), "fault damaged skua/SKU-0007/Long Water.pkd []")
}

// TestTwoLoadersOnOneStick checks a stick that two loaders share: what one of them knows is no stranger to the other.
func TestTwoLoadersOnOneStick(t *testing.T) {
	base := right(t)
	f := maps.Clone(base["mica"])
	delete(f, "FULL/other.iso")
	maps.Copy(f, base["bellows"])
	r := checkFiles(t, f, [2]string{"usb", "fat32"}, check.Inside, "bellows", "mica")
	assert.True(t, r.Good(), "%q", reported(r))
	assert.Equal(t, []string{"holiday/a.txt"}, r.Others)
	by := map[string]int{}
	for _, l := range r.Listed {
		by[l.Loader]++
	}
	assert.Equal(t, map[string]int{"bellows": 6, "mica": 4}, by)
}

func TestTwoChecksAreCompared(t *testing.T) {
	f := right(t)["rowan"]
	delete(f, "FACES/front/VSP-20417.jpg")
	before := checkFiles(t, f, as["rowan"][0], check.Inside, "rowan")
	f["FULL/Copper Tide.iso"] = f["FULL/VSP-20417 - Copper Tide.iso"]
	delete(f, "FULL/VSP-20417 - Copper Tide.iso")
	after := checkFiles(t, f, as["rowan"][0], check.Inside, "rowan")
	c := after.Since(before)
	assert.Equal(t, []string{"Copper Tide"}, c.Went)
	require.NotEmpty(t, c.New)
	assert.Equal(t, check.Name, c.New[0].Kind)
	back := before.Since(after)
	assert.Equal(t, []string{"Copper Tide"}, back.Came)
	assert.Contains(t, fmt.Sprint(back.Fixed), "Copper Tide.iso")
	assert.True(t, before.Since(before).Empty())
	quick := checkFiles(t, f, as["rowan"][0], check.Names, "rowan")
	for _, x := range quick.Since(after).Fixed {
		assert.Fail(t, "what a quick look cannot see is not fixed", "%s", x.Say)
	}
}

func TestTheListHasTheLoadersOrder(t *testing.T) {
	f := right(t)["oxbow"]
	r := checkFiles(t, f, as["oxbow"][0], check.Inside, "oxbow")
	var got []string
	for _, l := range r.Listed {
		got = append(got, l.Platform+" "+l.Name)
	}
	assert.True(t, slices.IsSorted(got), "by platform, then by title: %q", got)
}

func TestFixesAreGatheredByKind(t *testing.T) {
	f := right(t)["rowan"]
	f["FULL/Copper Tide.iso"] = f["FULL/VSP-20417 - Copper Tide.iso"]
	delete(f, "FULL/VSP-20417 - Copper Tide.iso")
	f["ROWAN/rowan.cfg"] = []byte("look=disk\n")
	r := checkFiles(t, f, as["rowan"][0], check.Inside, "rowan")
	all := r.Fixes()
	assert.Len(t, r.Fixes(check.Setting), 2)
	assert.Len(t, r.Fixes(check.Name), 1)
	assert.GreaterOrEqual(t, len(all), 3)
	assert.Equal(t, fix.Rename, r.Fixes(check.Name)[0].Do)
	assert.Empty(t, r.Listed, "it lists nothing, as it looks elsewhere")
}
