package survey_test

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/scancache"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/sim"
	"polytome/internal/size"
	"polytome/internal/testkit/coretest"
)

// drawn is one of a colour.
func drawn(t testing.TB, w, h int, c color.Color) []byte {
	m := image.NewPaletted(image.Rect(0, 0, w, h), color.Palette{c, color.White})
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, m))
	return b.Bytes()
}

func remembering(t *testing.T, w *workshop) {
	store, err := scancache.Open(filepath.Join(t.TempDir(), "seen.sqlite"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = store.Close() })
	w.o.Cache = store
}

func steps(p *plan.Plan, kind plan.Kind) (out []string) {
	for _, s := range p.Steps {
		if s.Kind == kind {
			if s.From != "" {
				out = append(out, s.From+" -> "+s.Path)
			} else {
				out = append(out, s.Path)
			}
		}
	}
	return out
}

func TestACoverIsMadeAgainOnlyWhenItsSourceOrItsRuleIsAnother(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"Copper Tide.iso": vesperImage(t, "VSP-20417", "Copper Tide"),
		"Copper Tide.png": drawn(t, 400, 600, color.RGBA{200, 0, 0, 255})}, fatStick)
	remembering(t, w)
	w.fill(0)
	assert.True(t, w.look(0).Plan().Empty())

	// another picture
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "games", "Copper Tide.png"),
		drawn(t, 300, 300, color.RGBA{0, 0, 200, 255}), 0o644))
	w.scanned()
	p := w.look(0).Plan()
	assert.Equal(t, []string{"FACES/front/VSP-20417.jpg"}, steps(p, plan.Replace))
	assert.Zero(t, p.Loses(), "it was made by us")
	_, r := w.fill(0)
	assert.Equal(t, 1, r.Put)
	b, err := os.ReadFile(w.at("stick", "FACES/front/VSP-20417.jpg"))
	require.NoError(t, err)
	m, _, err := image.Decode(bytes.NewReader(b))
	require.NoError(t, err)
	_, _, blue, _ := m.At(10, 10).RGBA()
	assert.Greater(t, blue, uint32(0xA000))
	assert.True(t, w.look(0).Plan().Empty())

	// another rule
	w.bench.Targets[0].Rules = map[string]string{"companion.1.picture.width": "200"}
	assert.Equal(t, []string{"FACES/front/VSP-20417.jpg"}, steps(w.look(0).Plan(), plan.Replace))
	w.bench.Targets[0].Rules = nil
	assert.True(t, w.look(0).Plan().Empty())

	// one that was put there by hand stays
	require.NoError(t, os.WriteFile(w.at("stick", "FACES/front/VSP-20417.jpg"), []byte("my own, with another length"),
		0o644))
	w.bench.Targets[0].Rules = map[string]string{"companion.1.picture.width": "200"}
	assert.True(t, w.look(0).Plan().Empty())
}

func TestCoversFollowTheirTitle(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"Copper Tide.iso": vesperImage(t, "VSP-20417", "Copper Tide"),
		"Copper Tide.png": drawn(t, 400, 600, color.Black),
		"Mosswick.iso":    vesperImage(t, "VSP-21377", "Mosswick"), "Mosswick.png": drawn(t, 400, 600, color.Black)},
		fatStick)
	remembering(t, w)
	w.fill(0)
	// the ID was wrong: the title gets another path, and so do its cover and its settings, which are looked up by it
	w.edit("Copper Tide.iso", func(e *title.Edit) { e.ID = "VSP-20999" })
	p := w.look(0).Plan()
	assert.ElementsMatch(t, []string{
		"FULL/VSP-20417 - Copper Tide.iso -> FULL/VSP-20999 - Copper Tide.iso",
		"FACES/front/VSP-20417.jpg -> FACES/front/VSP-20999.jpg",
		"TUNE/VSP-20417.tune -> TUNE/VSP-20999.tune",
	}, steps(p, plan.Move))
	assert.Empty(t, steps(p, plan.Copy), "nothing is written again")
	w.fill(0)
	assert.FileExists(t, w.at("stick", "FACES/front/VSP-20999.jpg"))
	assert.NoFileExists(t, w.at("stick", "FACES/front/VSP-20417.jpg"))
	assert.FileExists(t, w.at("stick", "FACES/front/VSP-21377.jpg"))
	assert.True(t, w.look(0).Plan().Empty())

	// two that swap their IDs: neither takes the other's cover away
	w.edit("Copper Tide.iso", func(e *title.Edit) { e.ID = "VSP-21377" })
	w.edit("Mosswick.iso", func(e *title.Edit) { e.ID = "VSP-20999" })
	for _, m := range steps(w.look(0).Plan(), plan.Move) {
		assert.NotContains(t, m, "FACES")
	}
}

func TestCoversComeAfterTheirTitles(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"Copper Tide.iso": vesperImage(t, "VSP-20417", "Copper Tide")}, fatStick)
	w.fill(0) // without a picture
	coretest.Write(t, w.dir, "games/Copper Tide.png", drawn(t, 400, 600, color.Black))
	w.scanned()
	p := w.look(0).Plan()
	assert.Equal(t, []string{"FACES/front/VSP-20417.jpg"}, steps(p, plan.Copy), "a run of its own")
}

// TestACarryStickHoldsTheCoversOfAnotherTarget fills a stick with the covers of a console's disk, in its layout,
// whatever the disk itself takes.
func TestACarryStickHoldsTheCoversOfAnotherTarget(t *testing.T) {
	disk := bench.Target{Name: "disk", Loader: "gantry", Via: "ftp", As: "exfat", Capacity: bench.Size(size.GiB),
		NoCovers: true, Titles: bench.Keys{}}
	stick := bench.Target{Name: "carry", Loader: "gantry", Carries: "disk", As: "fat32",
		Capacity: bench.Size(100 * size.MiB)}
	w := newWorkshop(t, map[string][]byte{
		"Ropewalk.w8": demo.Cartridge("WREN", "Ropewalk"), "Ropewalk.png": drawn(t, 900, 900, color.Black),
		"Tide Pool.w8": demo.Cartridge("WREN", "Tide Pool"), "Copper Tide.iso": vesperImage(t, "VSP-20417",
			"Copper Tide"),
	}, disk, stick)
	for i := range w.titles {
		w.bench.Targets[0].Want(true, w.titles[i].Key)
	}
	board := w.board()
	assert.Equal(t, "disk", board[1].Carries())
	says := map[string]string{}
	for i := range w.titles {
		says[w.titles[i].Label()] = board[1].Sheet.Verdict(i).Word()
	}
	assert.Equal(t, map[string]string{"Ropewalk": "copy", "Tide Pool": "no cover", "Copper Tide": "no loader"}, says)
	p := board[1].Plan()
	assert.Equal(t, []string{"gantry/faces/wren8/Ropewalk.jpg"}, steps(p, plan.Copy),
		"nothing but the cover: no game, no start file, no list")
	assert.Less(t, p.Bytes, int64(size.MiB))
	for _, h := range board.Distribute(w.bench, []int{0, 1, 2}).Homes {
		assert.NotEqual(t, 1, h.Target, "it is no home")
	}

	r, err := board[1].Check(context.Background(), "")
	require.NoError(t, err)
	require.Len(t, r.Findings, 1)
	assert.Equal(t, "of 1 cover to carry, 1 are not here", r.Findings[0].Say)
	w.fill(1)
	coretest.Write(t, w.dir, "carry/letter.txt", []byte("mine"))
	r, err = w.look(1).Check(context.Background(), "")
	require.NoError(t, err)
	assert.Empty(t, r.Findings)
	assert.Equal(t, []string{"letter.txt"}, r.Others)
	require.Len(t, r.Listed, 1)
	assert.Equal(t, "Ropewalk", r.Listed[0].Name)
	assert.Contains(t, r.Checklist[1], "of disk")
	assert.True(t, w.look(1).Plan().Empty())

	w.bench.Targets[0].Want(false, w.titles[0].Key, w.titles[1].Key, w.titles[2].Key)
	assert.Zero(t, w.look(1).Sheet.Count, "what is not wanted there is not carried")
	require.NoError(t, os.WriteFile(w.at("carry", "gantry/faces/wren8/Ropewalk.jpg"), drawn(t, 900, 900, color.Black),
		0o644))
	w.bench.Targets[0].Everything = true
	r, err = w.look(1).Check(context.Background(), "")
	require.NoError(t, err)
	require.Len(t, r.Findings, 1)
	assert.Contains(t, r.Findings[0].Say, "it is a png picture, and jpg is wanted")
}

// TestCoversGoOverFTP fills a simulated console with games and faces over its FTP server, and asks the simulator of its
// front end what it shows.
func TestCoversGoOverFTP(t *testing.T) {
	games := map[string][]byte{}
	for i := range 9 {
		name := fmt.Sprintf("Game %d", i)
		games[name+".w8"] = demo.Cartridge("WREN", name)
		if i < 7 {
			games[name+".png"] = drawn(t, 600+i, 900, color.RGBA{uint8(20 * i), 90, 0, 255})
		}
	}
	games["Game 7.png"] = []byte("<html>") // no picture
	w := newWorkshop(t, games)
	remembering(t, w)
	console := filepath.Join(w.dir, "console")
	require.NoError(t, os.MkdirAll(filepath.Join(console, "hd1", "gantry"), 0o755))
	require.NoError(t, sim.Consoles["corvane"].Start(console))
	s, err := sim.Consoles["corvane"].Serve(console, 0, 1<<30)
	require.NoError(t, err)
	defer s.Close()
	w.bench.Targets = append(w.bench.Targets, bench.Target{Name: "Corvane", At: fmt.Sprintf("ftp://127.0.0.1:%d/hd1",
		s.Port()), Loader: "gantry", Via: "ftp", As: "exfat", Capacity: bench.Size(size.GiB), Everything: true})
	look := w.look(0)
	to, err := look.Open(t.Context())
	require.NoError(t, err)
	defer to.Close()
	r := run.Run(context.Background(), look.Plan(), to, run.Options{}, func(run.Event) {})
	require.Len(t, r.Failed, 1, "one picture is none, and the rest goes on")
	assert.Contains(t, r.Failed[0].Say, "it is a web page, not a picture")
	look.Wrote(w.o.Cache, r.Wrote)
	list, err := sim.Loaders["gantry"].List(os.DirFS(filepath.Join(console, "hd1")))
	require.NoError(t, err)
	shown := 0
	for _, g := range list.Games {
		assert.True(t, g.Starts, g.Path)
		if g.Face != "" {
			shown++
		}
	}
	assert.Equal(t, [2]int{9, 7}, [2]int{len(list.Games), shown})
	report, err := w.look(0).Check(context.Background(), "inside")
	require.NoError(t, err)
	covers := 0
	for _, l := range report.Listed {
		if l.Cover != "" {
			covers++
		}
	}
	assert.Equal(t, shown, covers, "the check knows them, too")
	assert.Equal(t, []string{"gantry/faces/wren8/Game 7.jpg"}, steps(w.look(0).Plan(), plan.Copy),
		"nothing else is left to do")
}
