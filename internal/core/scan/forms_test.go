package scan_test

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/format/lha"
	"polytome/internal/testkit/coretest"
)

// scanned is what a scan of one folder makes of files, in words.
func scanned(t *testing.T, files map[string][]byte) (map[string]string, scan.Result) {
	dir := t.TempDir()
	for name, data := range files {
		coretest.Write(t, dir, name, data)
	}
	r, err := scan.Scan(context.Background(), []string{dir}, scan.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	out := map[string]string{}
	for i := range r.Titles {
		tt := &r.Titles[i]
		rel, _ := filepath.Rel(dir, tt.Source())
		say := fmt.Sprintf("%s %s %q %s %d/%d", tt.Platform, tt.Form, tt.Name, tt.ID, len(tt.Discs), tt.Of)
		if f := tt.Fault(); f != nil {
			say += " BAD " + f.Say
		}
		out[filepath.ToSlash(rel)] = say
	}
	return out, r
}

func TestEveryFormIsRecognised(t *testing.T) {
	sheet := func(bin, mode string) []byte {
		return fmt.Appendf(nil, "FILE \"%s\" BINARY\nTRACK 01 %s\nINDEX 01 00:00:00\n", bin, mode)
	}
	var zipped bytes.Buffer
	z := zip.NewWriter(&zipped)
	w, err := z.Create("Reed Runner.fin")
	require.NoError(t, err)
	_, err = w.Write(demo.Cartridge("FNCH", "Reed Runner"))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	damaged := demo.Cartridge("HERN", "Marsh Light")
	damaged[0x10] ^= 1
	raw := demo.RawTrack(coretest.Volume(t, "LAP_04412"))
	got, r := scanned(t, map[string][]byte{
		"kite.w8":     demo.Cartridge("WREN", "Kite over Quarry Hill"),
		"renamed.bin": demo.Cartridge("WREN", "Ropewalk"),
		"damaged.h16": damaged,
		"other.h16": []byte(
			"nothing of the kind, and long enough to be looked at as a header of sixty-four bytes"),
		"Ninepin_Alley (1).dtl": []byte("any"),
		"reed.zip":              zipped.Bytes(),
		"notes.zip":             []byte("PK no"),
		"watch.cue":             sheet("WATCH.BIN", "MODE1/2352"),
		"watch.bin":             raw,
		"lost.cue":              sheet("lost.bin", "MODE1/2352"),
		"odd.cue":               sheet("odd.bin", "MODE1/2352"),
		"odd.bin":               raw[:5000],
		"nonsense.cue":          []byte("TRACK"),
		"Tides (Disc 1).cue":    sheet("t1.bin", "MODE1/2048"),
		"t1.bin":                coretest.Volume(t, "LAP_04431"),
		"Tides (Disc 2).cue":    sheet("t2.bin", "MODE1/2048"),
		"t2.bin":                coretest.Volume(t, "LAP_04432"),
		"queen.iso":             coretest.Siskin(t, "SK-8812", "Ferry Queen"),
		"lane/MAIN.RUN":         demo.MainRun("CVN00117", "Hollow Lane", "W"),
		"lane/art/a.dat":        []byte("art"),
		"weir/sys/title.json":   []byte(`{"id": "MRD-0118", "name": "Weir", "region": "E"}`),
		"broken/SYS/TITLE.JSON": []byte(`{"id": `),
		"Mast & Mirror/go.prog": []byte("run"),
		"Mast & Mirror/m.about": []byte("Mast and Mirror\n"),
		"many/one.prog":         []byte("run"),
		"many/two.prog":         []byte("run"),
		"quill.lha":             packageOf(t, "go.prog", "run", "q.about", "Quillwork\nby West Hall"),
		"other.lha":             packageOf(t, "readme", "no program"),
		"text.lha":              []byte("package"),
		"parcel.mdp":            []byte("package"),
		"water.skd":             demo.SkuaDisc("SKUADISC", "SKU-0007", 1, "Long Water"),
		"mole1.img":             demo.SkuaDisc("SKUA-ONE", "SKF-0031", 1, "Old Mole"),
		"mole2.img":             demo.SkuaDisc("SKUA-ONE", "SKF-0031", 2, "Old Mole"),
		"half.sk1":              demo.SkuaDisc("SKUA-ONE", "SKF-0040", 2, "Half a Mole"),
		"readme.txt":            []byte("notes"),
	})
	assert.Equal(t, map[string]string{
		"kite.w8":     `wren8 cartridge "Kite over Quarry Hill"  1/1`,
		"renamed.bin": `wren8 cartridge "Ropewalk"  1/1`,
		"damaged.h16": `heron16 cartridge "Larsh Light"  1/1`,
		"other.h16": `heron16 cartridge "other"  1/1 BAD the name ends in .h16, but the file does not ` +
			`start like a Heron 16 cartridge`,
		"Ninepin_Alley (1).dtl": `dotterel cartridge "Ninepin Alley"  1/1`,
		"reed.zip":              `finch cartridge "Reed Runner"  1/1`,
		"watch.cue":             `lapwing tracks "watch" LAP_04412 1/1`,
		"lost.cue":              `lapwing tracks "lost"  1/1 BAD its track file lost.bin is missing`,
		"odd.cue": `lapwing tracks "odd"  1/1 BAD its track file odd.bin has 5000 bytes, not a ` +
			`multiple of the sector size 2352`,
		"nonsense.cue": `lapwing tracks "nonsense"  1/1 BAD the cue sheet has an error: line 1: there is ` +
			`a TRACK before any FILE`,
		"Tides (Disc 1).cue": `lapwing tracks "Tides" LAP_04431 2/2`,
		"queen.iso":          `siskin image "Ferry Queen" SK-8812 1/1`,
		"lane":               `corvane folder "Hollow Lane" CVN00117 1/1`,
		"weir":               `meridian folder "Weir" MRD-0118 1/1`,
		"broken": `meridian folder ""  1/1 BAD TITLE.JSON cannot be read: it is not JSON: ` +
			`it ends too early`,
		"Mast & Mirror": `dulcimer folder "Mast and Mirror"  1/1`,
		"quill.lha":     `dulcimer package "Quillwork"  1/1`,
		"other.lha": `dulcimer package "other"  1/1 BAD the package has no *.prog at its top level, ` +
			`so it cannot be identified`,
		"text.lha": `dulcimer package "text"  1/1 BAD the name ends in .lha, but the file is not an ` +
			`archive`,
		"notes.zip":  `  "notes"  1/1 BAD the name ends in .zip, but the file is not an archive`,
		"parcel.mdp": `meridian package "parcel"  1/1`,
		"water.skd":  `skua image "Long Water" SKU-0007 1/1`,
		"mole1.img":  `skua-first image "Old Mole" SKF-0031 2/2`,
		"half.sk1":   `skua-first image "Half a Mole" SKF-0040 1/2 BAD only disc 2 of 2 found`,
	}, withoutSum(got))
	assert.Contains(t, got["damaged.h16"], "its header is damaged: its checksum is 053F instead of")
	require.Empty(t, r.Problems)
	assert.Equal(t, 3, r.Passed, "readme.txt, and a folder of several programs; track files belong to their sheets")
	for i := range r.Titles {
		if r.Titles[i].Form == title.Folder {
			assert.NotEmpty(t, r.Titles[i].Discs[0].Parts)
			assert.Positive(t, r.Titles[i].Size())
		}
	}
}

// packageOf is an LHA archive of files, given as names and texts in turn.
func packageOf(t testing.TB, files ...string) []byte {
	var b bytes.Buffer
	w := lha.NewWriter(&b)
	for i := 0; i < len(files); i += 2 {
		require.NoError(t, w.Add(files[i], lha.Blocks5, demo.Season, []byte(files[i+1])))
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// withoutSum drops the sums from the one title whose header is damaged.
func withoutSum(got map[string]string) map[string]string {
	out := map[string]string{}
	for k, v := range got {
		if k == "damaged.h16" {
			v = v[:len(`heron16 cartridge "Larsh Light"  1/1`)]
		}
		out[k] = v
	}
	return out
}
