package scan_test

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// zipOf packs files, given as names and contents.
func zipOf(t testing.TB, files map[string][]byte) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, data := range files {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = w.Write(data)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

func TestWhatLiesInArchives(t *testing.T) {
	sheet := []byte("FILE \"TIDES.BIN\" BINARY\nTRACK 01 MODE1/2352\nINDEX 01 00:00:00\n")
	many := map[string][]byte{"notes/read me.txt": []byte("text")}
	for i := range 30 {
		many[fmt.Sprintf("carts/Kite %02d.w8", i)] = demo.Cartridge("WREN", fmt.Sprintf("Kite %02d", i))
	}
	src := t.TempDir()
	coretest.Write(t, src, "in/Mistral Halt.iso", coretest.Image(t, inf("VSP-21344", "Mistral Halt", "1/1")))
	coretest.Write(t, src, "in/second.iso", coretest.Image(t, inf("VSP-21345", "Mistral Halt Again", "1/1")))
	seven := filepath.Join(src, "two.7z")
	judge.Run(t, "7z", "a", "-bd", seven, filepath.Join(src, "in"))
	packed, err := os.ReadFile(seven)
	require.NoError(t, err)
	got, r := scanned(t, map[string][]byte{
		"image.zip": zipOf(t, map[string][]byte{"deep/down/queen.iso": coretest.Siskin(t, "SK-8812", "Ferry Queen")}),
		"tracks.zip": zipOf(t, map[string][]byte{"Two Tides.cue": sheet, "tides.bin": demo.RawTrack(coretest.Volume(t,
			"LAP_04431"))}),
		"folder.zip": zipOf(t, map[string][]byte{"lane/main.run": demo.MainRun("CVN00117", "Hollow Lane", "W"),
			"lane/art/a.dat": []byte("art"), "lane/snd.w8": []byte("not a cartridge")}),
		"many.zip":    zipOf(t, many),
		"two.7z":      packed,
		"photos.zip":  zipOf(t, map[string][]byte{"a.jpg": []byte("x"), "b.jpg": []byte("y")}),
		"broken.zip":  zipOf(t, map[string][]byte{"x.w8": demo.Cartridge("WREN", "X")})[:90],
		"Toll.lha":    packageOf(t, "Toll/Toll.prog", "run", "Toll/game.about", "Tollgate"),
		"Half.7z.001": packed[:len(packed)/2],
		"Lost.7z.002": packed[len(packed)/2:],
	})
	for file, want := range map[string]string{
		"image.zip":  `siskin image "Ferry Queen" SK-8812 1/1`,
		"tracks.zip": `lapwing tracks "Two Tides" LAP_04431 1/1`,
		"folder.zip": `corvane folder "Hollow Lane" CVN00117 1/1`,
		"Toll.lha":   `dulcimer package "Tollgate"  1/1`,
		"broken.zip": `  "broken"  1/1 BAD the archive cannot be opened: the archive's list at its end is ` +
			`missing, so it is cut short or damaged (not a valid zip file)`,
		"Half.7z.001": `  "Half"  1/1 BAD the archive's part Half.7z.002 is missing`,
		"Lost.7z.002": `  "Lost"  1/1 BAD the archive's part Lost.7z.001 is missing`,
	} {
		assert.Equal(t, want, got[file])
	}
	assert.Equal(t, 1, r.Passed, "the photos")
	kites, ids := 0, map[string]bool{}
	for i := range r.Titles {
		tt := &r.Titles[i]
		assert.False(t, ids[tt.Key], "two titles have the key %s", tt.Key)
		ids[tt.Key] = true
		switch filepath.Base(tt.Source()) {
		case "many.zip":
			kites++
			assert.Equal(t, 30, tt.Among)
			assert.Contains(t, tt.Key, "many.zip//carts/Kite")
		case "two.7z":
			assert.Equal(t, ".7z", tt.Archive)
			assert.Contains(t, []string{"VSP-21344", "VSP-21345"}, tt.ID)
		case "tracks.zip":
			assert.Equal(t, []string{"Two Tides.cue", "TIDES.BIN"}, []string{tt.Discs[0].Parts[0].Name,
				tt.Discs[0].Parts[1].Name})
			assert.Equal(t, "tides.bin", tt.Discs[0].Parts[1].File.Entry, "as it is spelt in the archive")
		case "folder.zip":
			assert.Len(t, tt.Discs[0].Parts, 3)
		}
		if tt.Archive != "" && tt.Among == 0 {
			info, err := os.Stat(tt.Source())
			require.NoError(t, err)
			assert.Equal(t, info.Size(), tt.Size(), "what an archive takes is its own length")
		}
	}
	assert.Equal(t, 30, kites)
}

func TestNamesEmitWhatFilesDoNot(t *testing.T) {
	got, r := scanned(t, map[string][]byte{
		"Sea_Shanty_Rally_(East)_(1998)_[v1.2]_(2 players)_(Beta) (1).twt": []byte("any"),
		"[Only Tags].lnt":        []byte("any"),
		"Glasshouse (North).lnt": []byte("any"),
		"covers/Glasshouse.jpg":  []byte("not beside it"),
		"Glasshouse (North).jpg": []byte("cover"),
		"Glasshouse (North).pdf": []byte("manual"),
		"Glasshouse (North).bps": []byte("patch"),
		"one/Pocket Regatta.fin": demo.Cartridge("FNCH", "Pocket Regatta"),
		"one/front.png":          []byte("the only game in its folder"),
	})
	assert.Len(t, got, 4)
	by := map[string]*title.Title{}
	for i := range r.Titles {
		by[r.Titles[i].Name] = &r.Titles[i]
	}
	sea := by["Sea Shanty Rally"]
	require.NotNil(t, sea, "%v", got)
	assert.Equal(t, []any{"East", "1998", "1.2", "2", []string{"Beta"}}, []any{sea.Region, sea.Year, sea.Version,
		sea.Players, sea.Tags})
	assert.Contains(t, sea.Discs[0].Evidence, title.Evidence{Field: "year", Value: "1998",
		From: "the name of the file"})
	assert.Contains(t, by, "[Only Tags]")
	var kinds []string
	for _, b := range by["Glasshouse"].Discs[0].Beside {
		kinds = append(kinds, b.Kind)
	}
	assert.ElementsMatch(t, []string{"cover", "manual", "patch"}, kinds)
	require.Len(t, by["Pocket Regatta"].Discs[0].Beside, 1)
	assert.Equal(t, 1, r.Passed, "the cover that belongs to nobody")
}

func TestLinksAreFollowedOnceAndSystemFoldersSkipped(t *testing.T) {
	dir, away := t.TempDir(), t.TempDir()
	put := func(name, cart string) { coretest.Write(t, dir, name, demo.Cartridge("WREN", cart)) }
	put("a/One.w8", "One")
	for i, system := range []string{"$RECYCLE.BIN", "System Volume Information", "lost+found", ".trash", "#recycle",
		"@eaDir"} {
		put(system+"/x.w8", fmt.Sprintf("Hidden %d", i))
	}
	coretest.Write(t, away, "far/Two.w8", demo.Cartridge("WREN", "Two"))
	coretest.Write(t, away, "Three.w8", demo.Cartridge("WREN", "Three"))
	link := func(to, name string) { require.NoError(t, os.Symlink(to, filepath.Join(dir, name))) }
	link(filepath.Join(dir, "a"), "a/itself") // a cycle
	link(filepath.Join(dir, "a"), "again")
	link(filepath.Join(dir, "a/One.w8"), "One once more.w8")
	link(filepath.Join(away, "far"), "far")
	link(filepath.Join(away, "far"), "far too")
	link(filepath.Join(away, "Three.w8"), "Three.w8")
	link(filepath.Join(away, "Three.w8"), "Three again.w8")
	r, err := scan.Scan(context.Background(), []string{dir, dir, filepath.Join(dir, "a")},
		scan.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	var names []string
	for _, tt := range r.Titles {
		names = append(names, tt.Name)
	}
	assert.Equal(t, []string{"One", "Three", "Two"}, names)
	assert.Empty(t, r.Problems)
}

func TestSoundness(t *testing.T) {
	good := coretest.Image(t, inf("VSP-20417", "Copper Tide", "1/1"))
	damaged := bytes.Clone(good)
	root := bytes.Index(damaged[16*2048:], []byte("CD001")) // the root's record is in the volume descriptor
	require.Positive(t, root)
	at := 16*2048 + 156 + 10
	damaged[at], damaged[at+1], damaged[at+2] = 0xFF, 0xFF, 0x7F // a root of 8 MiB
	raw := demo.RawTrack(coretest.Siskin(t, "SK-8812", "Ferry Queen"))
	udfDir := t.TempDir()
	coretest.Write(t, udfDir, "tree/SYS/TITLE.JSON", []byte(`{"id": "MRD-0117", "name": "Weir", "region": "E"}`))
	judge.Run(t, "genisoimage", "-quiet", "-udf", "-V", "WEIR", "-o", filepath.Join(udfDir, "weir.iso"),
		filepath.Join(udfDir, "tree"))
	bridge, err := os.ReadFile(filepath.Join(udfDir, "weir.iso"))
	require.NoError(t, err)
	only := bytes.Clone(bridge) // UDF alone: the ISO 9660 descriptors are taken away
	for s := 16; s < 20; s++ {
		if string(only[s*2048+1:s*2048+6]) == "CD001" {
			copy(only[s*2048+1:], "BEA01")
		}
	}
	find := func(tt *title.Title) (all string) {
		for _, f := range tt.Findings {
			all += string(f.Grade) + ": " + f.Say + "\n"
		}
		return all
	}
	assert.Empty(t, find(identify(t, good, "a.iso")))
	assert.Contains(t, find(identify(t, append(bytes.Clone(good), make([]byte, 2<<20)...), "a.iso")),
		"note: the file has 2.00 MiB more than its volume: padding")
	assert.Contains(t, find(identify(t, damaged, "a.iso")), "fault: ")
	tt := identify(t, raw, "a.iso")
	assert.Equal(t, "Ferry Queen", tt.Name)
	assert.Contains(t, find(tt), "note: the image has raw sectors of 2352 bytes")
	for _, b := range [][]byte{bridge, only} {
		tt = identify(t, b, "w.iso")
		assert.Equal(t, []string{"meridian", "MRD-0117", "Weir", "East"}, []string{tt.Platform, tt.ID, tt.Name,
			tt.Region})
		assert.Empty(t, find(tt))
	}
}

func TestTwinsAndNamesakes(t *testing.T) {
	big := func(id, name string, fill byte) []byte {
		return append(coretest.Image(t, inf(id, name, "1/1")), bytes.Repeat([]byte{fill}, 2<<20)...)
	}
	_, r := scanned(t, map[string][]byte{
		"Copper Tide.iso":     big("VSP-20417", "Copper Tide", 1),
		"Copper Tide (1).iso": big("VSP-20417", "Copper Tide", 1),
		"other.iso":           big("VSP-20417", "Copper Tide", 2),
		"Ropewalk.w8":         demo.Cartridge("WREN", "Ropewalk"),
		"same.w8":             demo.Cartridge("WREN", "Ropewalk"),
	})
	say := map[string]string{}
	for _, tt := range r.Titles {
		for _, f := range tt.Findings {
			if !strings.Contains(f.Say, "padding") {
				say[filepath.Base(tt.Source())] += f.Say
			}
		}
	}
	assert.Equal(t, map[string]string{
		"Copper Tide (1).iso": "it has the same content as Copper Tide.iso: by samples of both; verify compares them " +
			"fully" + "other.iso has the ID VSP-20417 too",
		"Copper Tide.iso": "other.iso has the ID VSP-20417 too",
		"Ropewalk.w8":     "it has the same content as same.w8: by samples of both; verify compares them fully",
	}, say)
}

func TestBadInputIsReportedAndTheRestGoesOn(t *testing.T) {
	if os.Getuid() == 0 {
		t.Log("root may read everything; what is not permitted is tested by the commands")
	}
	dir := t.TempDir()
	coretest.Write(t, dir, "good.w8", demo.Cartridge("WREN", "Good"))
	coretest.Write(t, dir, "empty.iso", nil)
	odd := filepath.Join(dir, "b\xFFd n\xE4me.w8")
	require.NoError(t, os.WriteFile(odd, demo.Cartridge("WREN", "Odd"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "f\xFC"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "f\xFC", "x.cue"),
		[]byte("FILE \"\xFC.bin\" BINARY\nTRACK 01 MODE1/2048\nINDEX 01 00:00:00\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "f\xFC", "\xFC.bin"), coretest.Volume(t, "LAP_04412"), 0o644))
	bomb := zipBomb(t)
	coretest.Write(t, dir, "bomb.zip", bomb)
	r, err := scan.Scan(context.Background(), []string{dir}, scan.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	by := map[string]*title.Title{}
	for i := range r.Titles {
		by[filepath.Base(r.Titles[i].Source())] = &r.Titles[i]
	}
	assert.True(t, by["good.w8"].OK())
	assert.Equal(t, "the file is empty", by["empty.iso"].Fault().Say)
	require.NotNil(t, by[filepath.Base(odd)])
	assert.Contains(t, by[filepath.Base(odd)].Findings[0].Say, "not UTF-8")
	require.NotNil(t, by["x.cue"])
	assert.True(t, by["x.cue"].OK(), "%v", by["x.cue"].Findings)
	assert.Contains(t, by["bomb.zip"].Fault().Say, "suspiciously large inside")
	assert.Contains(t, by["bomb.zip"].Fault().Remedy, "allow it")

	edit := []title.Edit{{File: filepath.Join(dir, "bomb.zip"), Allow: true}}
	r, err = scan.Scan(context.Background(), []string{dir}, scan.Options{Set: coretest.Set(t), Edits: edit})
	require.NoError(t, err)
	for i := range r.Titles {
		if f := r.Titles[i].Fault(); f != nil {
			assert.NotContains(t, f.Say, "suspiciously large")
		}
	}
}

// zipBomb is an archive whose list describes 40 GiB.
func zipBomb(t testing.TB) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := range 40 {
		w, err := z.CreateRaw(&zip.FileHeader{Name: fmt.Sprint(i, ".w8"), Method: zip.Deflate,
			UncompressedSize64: 1 << 30, CompressedSize64: 10})
		require.NoError(t, err)
		_, _ = w.Write(make([]byte, 10))
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

// TestASourceThatIsPulled takes a disk away while it is scanned: what was found stays, what cannot be
// read is reported, and the other source goes on.
func TestASourceThatIsPulled(t *testing.T) {
	here, away := t.TempDir(), t.TempDir()
	for i := range 50 {
		coretest.Write(t, here, fmt.Sprintf("%d.w8", i), demo.Cartridge("WREN", fmt.Sprintf("Here %d", i)))
		coretest.Write(t, away, fmt.Sprintf("d%d/%d.w8", i, i), demo.Cartridge("WREN", fmt.Sprintf("Away %d", i)))
	}
	cache := filepath.Join(t.TempDir(), "seen.sqlite")
	remembering(t, cache, scan.Options{}, here, away)
	require.NoError(t, os.Rename(away, away+".gone"))
	r := remembering(t, cache, scan.Options{}, here, away)
	assert.Len(t, r.Titles, 50)
	require.Len(t, r.Problems, 1)
	assert.Contains(t, r.Problems[0].Say, "plug in its drive")
	require.NoError(t, os.Rename(away+".gone", away))
	r = remembering(t, cache, scan.Options{}, here, away)
	assert.Len(t, r.Titles, 100)
	assert.Equal(t, 100, r.Reused, "of a source that was away, nothing is forgotten")
}

// TestAnyNameIsTakenApart takes apart whatever files may be called.
func TestAnyNameIsTakenApart(t *testing.T) {
	set := coretest.Set(t)
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.StringMatching(`[A-Za-z0-9 _()\[\]äЖ.'&-]{1,40}`).Draw(t, "name") + ".twt"
		tt, err := scan.Identify(bytes.NewReader([]byte("x")), 1, name, set)
		if err != nil || tt == nil || tt.Name == "" && strings.Trim(strings.TrimSuffix(name, ".twt"),
			" _()[].0123456789") != "" {
			t.Fatalf("%q: %v %+v", name, err, tt)
		}
	})
}

// TestOnlyWhatIsNeededIsUnpacked: an archive whose data are damaged behind what tells the title is
// identified all the same, as nothing behind it is read; verify finds the damage.
func TestOnlyWhatIsNeededIsUnpacked(t *testing.T) {
	dir := t.TempDir()
	big := noisy(t, "VSP-10001", 8<<20, func([]byte) {})
	b := zipOf(t, map[string][]byte{"big.iso": big})
	b[len(b)-4000] ^= 0xFF
	coretest.Write(t, dir, "big.zip", b)
	r, err := scan.Scan(context.Background(), []string{dir}, scan.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	tt := only(t, r)
	assert.Equal(t, "VSP-10001", tt.ID)
	assert.True(t, tt.OK(), "%v", tt.Findings)
	report, err := scan.Verify(context.Background(), r.Titles, scan.VerifyOptions{})
	require.NoError(t, err)
	assert.Equal(t, scan.Damaged, report.Files[0].Verdict)
}

func TestTracksInFoldersOfAnotherLetterCase(t *testing.T) {
	got, r := scanned(t, map[string][]byte{
		"Two Tides.cue": []byte(
			"\xEF\xBB\xBFREM made by hand\r\nFILE \"Tracks\\One.BIN\" BINARY\r\n  TRACK 01 MODE2/2352\r\n    INDEX " +
				"01 00:00:00\r\nFILE tracks/two.wav WAVE\r\n  TRACK 02 AUDIO\r\n    PREGAP 00:02:00\r\n    INDEX 01 " +
				"00:00:00\r\n"),
		"TRACKS/one.bin":          mode2(coretest.Volume(t, "LAP_04431")),
		"TRACKS/TWO.WAV":          []byte("RIFF"),
		"elsewhere/one.bin":       []byte("another"),
		"elsewhere/Lost Tide.cue": []byte("FILE \"../one.bin\" BINARY\nTRACK 01 MODE1/2352\nINDEX 01 00:00:00\n"),
	})
	assert.Equal(t, `lapwing tracks "Two Tides" LAP_04431 1/1`, got["Two Tides.cue"])
	assert.Contains(t, got["elsewhere/Lost Tide.cue"], "is not beside the cue sheet")
	for i := range r.Titles {
		if r.Titles[i].ID != "" {
			require.Len(t, r.Titles[i].Discs[0].Parts, 2)
			assert.Equal(t, "TWO.WAV", filepath.Base(r.Titles[i].Discs[0].Parts[1].File.Path))
		}
	}
}

// mode2 brings an image into raw sectors of mode 2, form 1 (ECMA-130; the subheader stands twice in front
// of the data).
func mode2(image []byte) []byte {
	out := demo.RawTrack(image)
	for at := 0; at < len(out); at += 2352 {
		out[at+15] = 2
		copy(out[at+24:at+24+2048], image[at/2352*2048:])
		copy(out[at+16:], []byte{0, 0, 8, 0, 0, 0, 8, 0})
	}
	return out
}

// FuzzPacked looks for titles in archives that may hold anything.
func FuzzPacked(f *testing.F) {
	set := coretest.Set(f)
	f.Add(zipOf(f, map[string][]byte{"a/queen.iso": coretest.Siskin(f, "SK-8812", "Ferry Queen")}), "x.zip")
	f.Add(zipOf(f, map[string][]byte{"t.cue": []byte("FILE t.bin BINARY\nTRACK 01 MODE1/2352\nINDEX 01 00:00:00\n"),
		"t.bin": demo.RawTrack(coretest.Volume(f, "LAP_04431"))}), "t.zip")
	f.Add(zipOf(f, map[string][]byte{"lane/main.run": demo.MainRun("CVN00117", "Hollow Lane", "W")}), "f.zip")
	f.Add(packageOf(f, "Toll/Toll.prog", "run", "Toll/game.about", "Tollgate"), "toll.lha")
	f.Fuzz(func(t *testing.T, b []byte, name string) {
		tt, err := scan.IdentifyPacked(bytes.NewReader(b), int64(len(b)), name, set)
		if err == nil && tt != nil && len(tt.Discs) != 1 {
			t.Fatalf("%+v", tt)
		}
	})
}
