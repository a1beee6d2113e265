package learn_test

import (
	"context"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/layout"
	"polytome/internal/core/learn"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/target"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/coretest"
)

// collection writes games of every form that can be read, and identifies them.
func collection(t *testing.T) []title.Title {
	dir := t.TempDir()
	names := []string{"Copper Tide", "The Ninth Orchard: Harvest", "Quarry & Sons", "Grebe Lake Rally – Été",
		"What Now?",
		"The Uncommonly Patient Lighthouse Keeper of Farther Saint Ebb, Part II", "Mosswick", "Underbough"}
	put := func(name string, data []byte) { coretest.Write(t, dir, name, data) }
	for i, name := range names {
		kind := []string{"full", "short"}[i%2]
		put(fmt.Sprintf("v/v%d.iso", i), coretest.Image(t, coretest.Inf(fmt.Sprintf("VSP-%05d", 20400+i), name, "1/1",
			kind)))
		put(fmt.Sprintf("s/s%d.iso", i), coretest.Siskin(t, fmt.Sprintf("SK-%04d", 8800+i), name))
		put(fmt.Sprintf("c/game%d/main.run", i), demo.MainRun(fmt.Sprintf("CVN%05d", i), name, "N"))
		put(fmt.Sprintf("c/game%d/art/a.dat", i), []byte("art"))
		put(fmt.Sprintf("m/game%d/SYS/TITLE.JSON", i), fmt.Appendf(nil, `{"id":"MRD-%04d","name":%q,"region":"N"}`,
			i+100, name))
		put(fmt.Sprintf("d/g%d/prog%d.prog", i, i), []byte("prog"))
		put(fmt.Sprintf("d/g%d/game.about", i), []byte(name+"\nmore\n"))
		put(fmt.Sprintf("d/g%d/disk.1", i), []byte("disk"))
		put(fmt.Sprintf("k/k%d.w8", i), demo.Cartridge("WREN", name[:min(24, len(name))]))
		put(fmt.Sprintf("k/k%d.k64", i), demo.Cartridge("KSTR", name[:min(24, len(name))]))
		put(fmt.Sprintf("k/Reed %d.dtl", i), []byte("cart"))
		base := strings.NewReplacer(":", "", "?", "").Replace(name)
		put(fmt.Sprintf("l/%s.cue", base),
			fmt.Appendf(nil, "FILE \"%s.bin\" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n", base))
		put(fmt.Sprintf("l/%s.bin", base), coretest.Volume(t, fmt.Sprintf("LAP_%05d", 4400+i)))
	}
	for d := 1; d <= 2; d++ {
		base := fmt.Sprintf("l/Two Tides (Disc %d)", d)
		put(base+".cue", fmt.Appendf(nil, "FILE \"%s.bin\" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n",
			filepath.Base(base)))
		put(base+".bin", coretest.Volume(t, "LAP_04500"))
		put(fmt.Sprintf("v/ferry%d.iso", d), coretest.Image(t, coretest.Inf(fmt.Sprintf("VSP-3000%d", d),
			"Clockwork Ferry", fmt.Sprintf("%d/2", d), "full")))
	}
	for i := range 70 { // more than a page
		put(fmt.Sprintf("k/Many %02d.fin", i), demo.Cartridge("FNCH", fmt.Sprintf("Many Mills %02d", i)))
	}
	r, err := scan.Scan(context.Background(), []string{dir}, scan.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	for _, tt := range r.Titles {
		require.True(t, tt.OK(), "%s: %v", tt.Source(), tt.Findings)
	}
	require.Len(t, r.Titles, 8*9+2+70)
	return r.Titles
}

// fill puts what a tree says into a folder, with companions. It returns the titles that
// are there, by index.
func fill(t *testing.T, dir string, titles []title.Title, tree *layout.Tree) []int {
	var there []int
	for i := range titles {
		p := &tree.Placements[i]
		if p.Refusal != nil || !p.Ready() {
			continue
		}
		there = append(there, i)
		for _, item := range p.Items {
			coretest.Write(t, dir, item.Path, coretest.Bytes(t, &item))
		}
		for _, c := range tree.Companions(i) {
			data := []byte(c.Text)
			if c.Is == "cover" {
				data = cover(t, c.From.Picture.Width, c.From.Picture.Height)
			}
			coretest.Write(t, dir, c.Path, data)
		}
	}
	return there
}

func cover(t *testing.T, w, h int) []byte {
	var b strings.Builder
	im := image.NewGray(image.Rect(0, 0, w, h))
	im.Set(0, 0, color.White)
	require.NoError(t, jpeg.Encode(&b, im, nil))
	return []byte(b.String())
}

func look(t *testing.T, dir, as string) learn.Look {
	p, err := folder.Open(dir, folder.Options{Filesystem: as, Capacity: 64 << 30})
	require.NoError(t, err)
	t.Cleanup(func() { _ = p.Close() })
	facts, err := p.Facts(context.Background(), nil)
	require.NoError(t, err)
	entries, err := p.List(context.Background(), nil)
	require.NoError(t, err)
	return learn.Look{Dir: dir, Facts: facts, Entries: entries, Open: func(path string) (target.Content,
		error) {
		return p.Open(context.Background(), path)
	}}
}

// TestFilledTargetsAreLearntBack fills a target by each shipped profile, learns from it,
// and has the learnt profile target the same titles.
func TestFilledTargetsAreLearntBack(t *testing.T) {
	titles := collection(t)
	set := coretest.Set(t)
	whole := 0
	for _, c := range []struct {
		loader, via, as string
		open            string // what must be asked for
	}{
		{"rowan", "usb", "fat32", "too large"},
		{"gantry", "ftp", "exfat", "at the console"},
		{"trellis", "ftp", "exfat", "at the console"},
		{"bellows", "usb", "fat32", "at the console"},
		{"oxbow", "usb", "exfat", "may folders be added"},
		{"plover", "usb", "fat32", "which files of a package are copied"},
		{"mica", "usb", "fat32", "at the console"},
	} {
		t.Run(c.loader, func(t *testing.T) {
			p := coretest.Profile(t, c.loader)
			tree := layout.Lay(titles, p, coretest.Destination(t, p, c.via, c.as))
			dir := t.TempDir()
			there := fill(t, dir, titles, tree)
			for _, f := range layout.FirstBoot(p) {
				require.NoError(t, os.MkdirAll(filepath.Join(dir, f), 0o755))
			}
			if c.loader == "mica" { // packed images cannot be made here, so there is nothing to learn from
				coretest.Write(t, dir, "skua/SKU-0001/Long Water.pkd", []byte("packed"))
				d, err := learn.Learn(context.Background(), look(t, dir, c.as), set)
				require.Error(t, err)
				assert.Contains(t, err.Error(), "nothing in "+dir+" shows where games go")
				assert.Contains(t, asked(d), "skua/SKU-0001/Long Water.pkd")
				return
			}
			d, err := learn.Learn(context.Background(), look(t, dir, c.as), set)
			require.NoError(t, err)
			text := d.TOML()
			learnt, err := loader.ParseProfile("learnt.toml", []byte(text))
			require.NoError(t, err, text)
			require.NoError(t, set.Check(learnt))
			again := layout.Lay(titles, learnt, coretest.Destination(t, learnt, "usb", c.as))
			same := 0
			for _, i := range there {
				if assert.Equal(t, paths(tree, i), paths(again, i), titles[i].Name) {
					same++
				}
			}
			if same == len(there) && same >= 8 {
				whole++
			}
			assert.Contains(t, asked(d), c.open)
			for _, f := range d.Findings {
				assert.NotEmpty(t, f.Evidence, f.Say)
				assert.NotEmpty(t, f.Confidence, f.Say)
			}
			if t.Failed() {
				t.Log(text)
			}
		})
	}
	assert.GreaterOrEqual(t, whole, 5, "profiles that are learnt back whole")
}

// paths are those of a title's files and companions.
func paths(tree *layout.Tree, i int) []string {
	var out []string
	for _, item := range tree.Placements[i].Items {
		out = append(out, item.Path)
	}
	if r := tree.Placements[i].Refusal; r != nil {
		out = append(out, "no: "+r.Say)
	}
	for _, c := range tree.Companions(i) {
		out = append(out, "+"+c.Path)
	}
	slices.Sort(out)
	return out
}

func TestEmptyFoldersAsAConsoleMadeThem(t *testing.T) {
	dir := t.TempDir()
	for _, f := range []string{"play/wren8", "play/finch", "play/vesper", "play/lapwing", "play/dulcimer",
		"play/settings-of-mine", "play/firmware"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, f), 0o755))
	}
	d, err := learn.Learn(context.Background(), look(t, dir, "fat32"), coretest.Set(t))
	require.NoError(t, err)
	p, err := loader.ParseProfile("learnt.toml", []byte(d.TOML()))
	require.NoError(t, err, d.TOML())
	assert.Equal(t, []string{"dulcimer", "finch", "lapwing", "vesper", "wren8"}, p.FirstBoot.Platforms)
	assert.False(t, p.FirstBoot.MayAdd)
	tree := layout.Lay([]title.Title{coretest.Vesper(1, "Copper Tide", "full", 1)}, p, coretest.Destination(t, p, "usb",
		"fat32"))
	require.Nil(t, tree.Placements[0].Refusal)
	assert.Equal(t, "play/vesper/Copper Tide.iso", tree.Placements[0].Items[0].Path)
	assert.Contains(t, fmt.Sprint(d.Findings), "a guess")
}

func TestPartsOfACutImage(t *testing.T) {
	dir := t.TempDir()
	coretest.Write(t, dir, "FULL/VSP-20417 - Copper Tide.iso",
		coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full")))
	image := coretest.Image(t, coretest.Inf("VSP-20502", "Kite over Quarry Hill", "1/1", "full"))
	image = append(image, make([]byte, 60000)...)
	for i := 0; i*20000 < len(image); i++ {
		coretest.Write(t, dir, fmt.Sprintf("LONG/VSP-20502/%03d.rwn", i+1), image[i*20000:min(len(image), (i+1)*20000)])
	}
	coretest.Write(t, dir, "LONG/VSP-20502/parts.toml", []byte("title = 'Kite over Quarry Hill'\n"))
	d, err := learn.Learn(context.Background(), look(t, dir, "fat32"), coretest.Set(t))
	require.NoError(t, err)
	p, err := loader.ParseProfile("learnt.toml", []byte(d.TOML()))
	require.NoError(t, err, d.TOML())
	assert.EqualValues(t, 20000, p.Accepts[0].TooLarge.PartSize)
	assert.Equal(t, "LONG/{id}/{index|pad:3}.rwn", p.Accepts[0].TooLarge.Parts.String())
	require.Len(t, p.Companions, 1, d.TOML())
	assert.Equal(t, "{folder}/parts.toml", p.Companions[0].Path.String())
	assert.Equal(t, "parts over 1", p.Companions[0].When.String(), "titles in one piece have none")
}

func TestNothingToLearnFrom(t *testing.T) {
	dir := t.TempDir()
	coretest.Write(t, dir, "holiday/a.txt", []byte("sun"))
	_, err := learn.Learn(context.Background(), look(t, dir, "fat32"), coretest.Set(t))
	assert.ErrorContains(t, err, "where games go: it has no game of a known platform, and no folder named like one")
}

func TestLettersAndRegionsAndPages(t *testing.T) {
	dir := t.TempDir()
	for i, name := range []string{"Ropewalk", "Kite over Quarry Hill", "Sluice Gate Sam"} {
		coretest.Write(t, dir, "ROMS/"+strings.ToUpper(name)+".W8", demo.Cartridge("WREN", name))
		coretest.Write(t, dir, fmt.Sprintf("ROMS/FACES/%s.JPG", strings.ToUpper(name)), cover(t, 100+i, 50))
	}
	for i := range 5 {
		where := "siskin/"
		if i > 2 {
			where += "page 2/"
		}
		coretest.Write(t, dir, fmt.Sprintf("%sSK-88%02d_Ferry %d.iso", where, i, i),
			coretest.Siskin(t, fmt.Sprintf("SK-88%02d", i), fmt.Sprintf("Ferry %d", i)))
	}
	coretest.Write(t, dir, "North/VSP-20417.iso", coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1",
		"full")))
	coretest.Write(t, dir, "North/VSP-20418.iso", coretest.Image(t, coretest.Inf("VSP-20418", "Mosswick", "1/1",
		"full")))
	coretest.Write(t, dir, "odd one.iso", coretest.Image(t, coretest.Inf("VSP-20419", "Underbough", "1/1", "full")))
	coretest.Write(t, dir, "readme.txt", []byte("mine"))
	d, err := learn.Learn(context.Background(), look(t, dir, "fat32"), coretest.Set(t))
	require.NoError(t, err)
	p, err := loader.ParseProfile("learnt.toml", []byte(d.TOML()))
	require.NoError(t, err, d.TOML())
	rules := map[string]*loader.Accept{}
	for i := range p.Accepts {
		rules[p.Accepts[i].Platforms[0]] = &p.Accepts[i]
	}
	assert.Equal(t, "ROMS/{title|upper}{ext}", rules["wren8"].Path.String())
	assert.Equal(t, "{platform}/{if page}page {page}/{end}{id}_{title}.iso", rules["siskin"].Path.String())
	assert.Equal(t, 3, rules["siskin"].OverflowAfter)
	assert.Equal(t, "{region}/{id}.iso", rules["vesper"].Path.String())
	require.Len(t, p.Companions, 1)
	assert.Equal(t, "ROMS/FACES/{base}.JPG", p.Companions[0].Path.String())
	assert.Equal(t, []int{102, 50}, []int{p.Companions[0].Picture.Width, p.Companions[0].Picture.Height})
	open := asked(d)
	assert.Contains(t, open, "why is odd one.iso not with the other vesper titles?")
	assert.Contains(t, open, "readme.txt")
	for _, f := range d.Findings {
		if strings.Contains(f.Say, "vesper images") {
			assert.Equal(t, learn.Likely, f.Confidence, "not all agree")
		}
	}
	assert.NotContains(t, p.Shown, "/")
}

// asked is all that a draft asks, and what speaks against it.
func asked(d *learn.Draft) string {
	out := d.Against
	for _, q := range d.Open {
		out = append(out, q.Say)
	}
	return strings.Join(out, "\n")
}

func TestTheLabelIsLearnt(t *testing.T) {
	dir := t.TempDir()
	coretest.Write(t, dir, "GAMES/Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	l := look(t, dir, "fat32")
	l.Label = "PIPIT"
	d, err := learn.Learn(context.Background(), l, coretest.Set(t))
	require.NoError(t, err)
	p, err := loader.ParseProfile("learnt.toml", []byte(d.TOML()))
	require.NoError(t, err)
	assert.Equal(t, []string{"PIPIT", "pipit", "PIPIT"}, []string{p.Attachments[0].Label, p.Name, p.Shown})
}

func TestADraftIsSavedOnceAndWhole(t *testing.T) {
	set, dir := coretest.Set(t), t.TempDir()
	d := &learn.Draft{Name: "mine", Shown: "Mine \"of\" C:\\", Via: "usb", Filesystems: []string{"fat32"},
		Findings: []learn.Finding{{Say: "line\nbreaks", Evidence: strings.Repeat("many words ", 40),
			Confidence: learn.Guess}},
		Rules:     []learn.Rule{{Platforms: []string{"tern"}, Form: title.Cartridge, Path: "G/{title}{ext}"}},
		Platforms: []learn.Platform{{Name: "tern", Shown: "Tern", Form: title.Cartridge, Ext: ".ter"}}}
	file := filepath.Join(dir, "profiles", "mine.toml")
	wrote, err := d.Save(file, dir, set)
	require.NoError(t, err)
	assert.Equal(t, []string{file, filepath.Join(dir, "platforms", "tern.toml")}, wrote)
	known, err := loader.Known(dir)
	require.NoError(t, err)
	require.Empty(t, known.Broken)
	p, err := known.Profile("mine")
	require.NoError(t, err)
	assert.Equal(t, "Mine \"of\" C:\\", p.Shown)
	_, err = d.Save(file, dir, set)
	assert.ErrorContains(t, err, "mine.toml already exists and was not changed")
	d.Rules[0].Path = "../{title}"
	d.Platforms = nil
	_, err = d.Save(filepath.Join(dir, "other.toml"), dir, set)
	require.NoError(t, err, "a draft that cannot be used yet is written with what is open")
	text, err := os.ReadFile(filepath.Join(dir, "other.toml"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "leads out of the target")
}
