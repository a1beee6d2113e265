package ui

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/colorprofile"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/cover"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/sim/pictures"
	"polytome/internal/testkit/demoworld"
	"polytome/internal/ui/coversview"
)

// pictured is the program on a demo whose server of pictures is running.
func pictured(t testing.TB) (*app, demo.World) {
	a, w := demoApp(t, Options{CoversDir: filepath.Join(t.TempDir(), "covers")})
	shelf, err := pictures.Start(demo.Pictures())
	require.NoError(t, err)
	t.Cleanup(func() { _ = shelf.Close() })
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	b.Covers.Servers[0].URL = shelf.URL()
	b.Targets = b.Targets[:1]
	require.NoError(t, b.Save())
	t.Cleanup(a.state.CloseCovers)
	a.state.Patience = cover.Patience{First: 5 * time.Millisecond}
	press(a, "ctrl+r")
	return a, w
}

func TestCoversAreFetchedChosenAndGoAlong(t *testing.T) {
	a, w := pictured(t)
	press(a, "C")
	s := text(a)
	assert.Contains(t, s, "▸C Covers 7/59")
	assert.Contains(t, s, "2 proposed  50 missing  7 found")
	assert.Contains(t, flat(a), "a picture has a similar name:", "what is to be done first comes first")
	assert.Contains(t, s, "▀", "pictures are drawn")

	press(a, "f")
	s = text(a)
	assert.Contains(t, s, "5 refused  2 proposed  7 missing  45 found")
	assert.Contains(t, flat(a), "48 downloaded, ")
	assert.Equal(t, 45, a.state.Fetched.Found-len(discs(a)), "the report says the same")
	press(a, "right", "left")
	assert.Contains(t, flat(a), "there is one from Playroom shelf, but it cannot be used: redirect loop")
	press(a, "f")
	assert.Contains(t, flat(a), "0 downloaded", "what was fetched is not fetched again")

	seek(a, "quill")
	press(a, "y")
	require.Len(t, a.state.Bench.Edits, 1)
	assert.Equal(t, []title.Chosen{{Of: "front", File: "covers/Quilwork.jpg"}}, a.state.Bench.Edits[0].Pictures)
	assert.Contains(t, flat(a), "The front picture of Quillwork is chosen. u undoes.")
	assert.Contains(t, text(a), "1 found")
	press(a, "u")
	assert.Empty(t, a.state.Bench.Edits)
	assert.Contains(t, text(a), "1 proposed")
	press(a, "Y")
	assert.Contains(t, flat(a), "1 proposal accepted.")

	press(a, "esc")
	seek(a, "copper")
	assert.Contains(t, flat(a), "found beside the game. 500 x 700 pixels")
	assert.Contains(t, flat(a), "It goes to North stick as FACES/front/VSP-20417.jpg.")
	press(a, "enter")
	s = flat(a)
	for _, want := range []string{"Copper Tide: 2 pictures", "beside the game", "in your pictures, by its ID",
		"500 x 700", "chosen"} {
		assert.Contains(t, s, want)
	}
	press(a, "right", "enter")
	assert.Equal(t, "covers/VSP-20417.png", a.state.Bench.EditOf(filepath.Join(w.Games, "vesper",
		"Copper_Tide.iso")).Pictures[0].File)
	assert.Contains(t, flat(a), "chosen by hand")
	press(a, "c")
	assert.Contains(t, flat(a), "what stays")
	press(a, "right", "right", "right", "down", "down", "shift+right")
	assert.Contains(t, flat(a), "Cut off: 4 % left, 4 % top, 0 % right, 0 % bottom.")
	press(a, "enter")
	assert.Equal(t, [4]int{40, 40, 0, 0}, a.state.Bench.EditOf(filepath.Join(w.Games, "vesper",
		"Copper_Tide.iso")).Pictures[0].Crop)
	press(a, "n")
	assert.Contains(t, flat(a), "Copper Tide goes without a front picture.")
	press(a, "u", "esc", "esc")

	puts := map[string]string{}
	for _, s := range a.state.Plan(0).Steps {
		puts[s.Path] = s.Words()
	}
	for _, want := range []string{"FACES/front/VSP-20417.jpg", "FACES/front/VSP-21733.jpg",
		"FACES/disc/VSP-20502.png"} {
		assert.Equal(t, "fit", puts[want], want)
	}
}

// discs are the disc pictures that were found by the last fetch.
func discs(a *app) (out []string) {
	for _, o := range a.state.Fetched.Outcomes {
		if o.Of == "disc" && o.State == "found" {
			out = append(out, o.Label)
		}
	}
	return out
}

func TestTheSheetInEveryWindowAndEveryColour(t *testing.T) {
	a, _ := pictured(t)
	press(a, "C")
	for _, size := range [][2]int{{158, 46}, {80, 24}, {60, 16}, {240, 70}} {
		a.w, a.h = size[0], size[1]
		for _, colours := range []colorprofile.Profile{colorprofile.TrueColor, colorprofile.ANSI256, colorprofile.ANSI,
			colorprofile.NoTTY} {
			a.colours = colours
			a.setTheme()
			for range 3 {
				s := text(a)
				assert.Contains(t, s, "Quillwork", "%v %v", size, colours)
				assert.Contains(t, s, "proposed")
				press(a, "enter")
				assert.Contains(t, flat(a), "Quillwork: 1 picture")
				press(a, "esc")
			}
		}
		assert.NotContains(t, text(a), "▀", "a card in place of a picture where there are no colours")
		if size[0] >= 80 {
			assert.Contains(t, text(a), "500 x 700", "which says how large the picture itself is")
		}
	}
	a.colours, a.w, a.h = colorprofile.TrueColor, 158, 46
	a.setTheme()
	press(a, "o")
	assert.Contains(t, text(a), "DISC")
	press(a, "o", "o", "o", "m")
	assert.NotContains(t, text(a), "found  ", "missing ones only")
	press(a, "end", "home", "pgdown", "pgup", "down", "right", "up", "left")
	assert.Contains(t, text(a), "Quillwork")
	seek(a, "zzz")
	assert.Contains(t, flat(a), "There is nothing to show")
}

func TestCoversOfABenchWithoutServers(t *testing.T) {
	a, w := pictured(t)
	a.state.Bench.Covers = bench.Covers{}
	require.NoError(t, a.state.Bench.Save())
	press(a, "ctrl+r", "C", "f")
	assert.Contains(t, flat(a), "The bench has no picture server. S adds one; a adds one of your folders.")
	press(a, "a")
	answer(a, filepath.Join(w.Dir, "covers"))
	assert.Equal(t, []bench.CoverFolder{{Path: "covers"}}, a.state.Bench.Covers.Folders)
	assert.Contains(t, text(a), "2 proposed")
	press(a, "a")
	answer(a, filepath.Join(w.Dir, "nowhere"))
	assert.Contains(t, flat(a), "nowhere")
	assert.Len(t, a.state.Bench.Covers.Folders, 1)
	press(a, "A")
	answer(a, "pictures.example")
	press(a, "enter")
	assert.Contains(t, flat(a), "is not a server's address")
	press(a, "A")
	answer(a, "http://127.0.0.1:1/")
	press(a, "enter")
	require.Len(t, a.state.Bench.Covers.Servers, 1)
	assert.Equal(t, "127.0.0.1", a.state.Bench.Covers.Servers[0].Name)
	press(a, "u")
	assert.Empty(t, a.state.Bench.Covers.Servers)
	press(a, "b")
	answer(a, "much")
	assert.Contains(t, flat(a), "write it like 40MiB or 5%")
	press(a, "b")
	answer(a, "0")
	assert.Equal(t, bench.Budget("0"), a.state.Bench.Targets[0].CoversMost)
	assert.Contains(t, flat(a), "North stick: Covers take")
	stick := t.TempDir()
	press(a, "t")
	answer(a, stick)
	require.Len(t, a.state.Bench.Targets, 2)
	assert.Equal(t, "North stick", a.state.Bench.Targets[1].Carries)
	press(a, "2", "right", "space")
	assert.Contains(t, flat(a), "carries the covers for North stick: select titles there")
	a.state.Target = 0
	press(a, "w")
	assert.Contains(t, text(a), "without covers")
}

// seek is find, and stays in the panel.
func seek(a *app, words string) {
	press(a, "/")
	a.input.SetValue(words)
	a.stage().SetFilter(words)
	press(a, "enter")
}

func TestTheEvidenceShowsTheCover(t *testing.T) {
	a, _ := pictured(t)
	press(a, "1")
	seek(a, "copper")
	assert.Contains(t, text(a), "▀")
	press(a, "esc")
	seek(a, "glasshouse")
	assert.NotContains(t, text(a), "▀")
}

// manyCovers is the panel with 10,000 titles, each with a picture of its own.
func manyCovers(b testing.TB) *app {
	a := many(b, 1)
	dir := b.TempDir()
	data, err := os.ReadFile(onePicture(b))
	require.NoError(b, err)
	titles := a.state.Scan.Titles[:min(10_000, len(a.state.Scan.Titles))]
	for i := range titles {
		file := filepath.Join(dir, fmt.Sprintf("%d.png", i))
		if i < 400 {
			require.NoError(b, os.WriteFile(file, data, 0o644))
		}
		titles[i].Pictures = []title.Picture{{Of: "front", File: title.File{Path: file, Size: int64(len(data))},
			From: "beside the game"}}
	}
	a.state.Scan.Titles = titles
	a.state.Generation++
	a.state.SetCoversDir(filepath.Join(b.TempDir(), "covers"))
	covers := panelOf[*coversview.Model](a)
	a.panel = covers
	covers.Refresh()
	return a
}

func onePicture(t testing.TB) string {
	w := demoworld.Open(t)
	return filepath.Join(w.Dir, "covers", "VSP-20417.png")
}

func TestTenThousandCoversScroll(t *testing.T) {
	a := manyCovers(t)
	assert.Contains(t, text(a), fmt.Sprintf("%d found", len(a.state.Scan.Titles)))
	pump(a, panelOf[*coversview.Model](a).Work())
	assert.Contains(t, text(a), "▀", "only what is seen is looked at")
	press(a, "end")
	assert.NotContains(t, text(a), "▀", "there is no file to be shown")
	assert.Contains(t, text(a), "cannot")
	press(a, "home")
	assert.Contains(t, text(a), "▀")
}

func BenchmarkSheetOf10000Covers(b *testing.B) {
	a := manyCovers(b)
	pump(a, panelOf[*coversview.Model](a).Work())
	if !strings.Contains(text(a), "▀") {
		b.Fatal("no picture is shown")
	}
	keys := []string{"down", "up"}
	for i := 0; b.Loop(); i++ {
		for _, x := range panelOf[*coversview.Model](a).Actions() {
			if x.Key.Help().Desc == keys[i%2] {
				x.Do()
			}
		}
		a.View()
	}
}

func TestAPictureOfNoUseGivesWay(t *testing.T) {
	a, w := pictured(t)
	beside := filepath.Join(w.Games, "vesper", "Copper_Tide.png")
	require.NoError(t, os.WriteFile(beside, []byte("<html>no picture</html>"), 0o644))
	press(a, "1", "r")
	seek(a, "copper")
	pump(a, nil)
	press(a, "C")
	seek(a, "copper")
	assert.Contains(t, flat(a), "found in your pictures, by its ID", "the next one is taken")
	press(a, "enter")
	assert.Contains(t, flat(a), "it is a web page, not a picture", "and it is said what is wrong with the other")
	press(a, "left", "enter")
	assert.Contains(t, flat(a), "This picture cannot be used: it is a web page, not a picture.")
}

func TestFetchingIsStoppedAndResumed(t *testing.T) {
	a, _ := pictured(t)
	press(a, "C")
	all := make([]int, len(a.state.Scan.Titles))
	for i := range all {
		all[i] = i
	}
	cmd := a.state.FetchCovers(all, false)
	require.NotNil(t, a.state.Fetching)
	first := cmd()
	assert.Contains(t, flat(a), "fetching:")
	_, next := a.Update(first)
	press(a, "f") // once more: stop
	assert.Contains(t, flat(a), "Download stopped; what arrived is kept.")
	pump(a, next)
	for i := 0; a.state.Fetching != nil && i < 100; i++ {
		time.Sleep(20 * time.Millisecond)
	}
	require.NotNil(t, a.state.Fetched)
	before := a.state.Fetched.Fetched
	assert.Less(t, before, 48)
	press(a, "f")
	assert.Equal(t, 48, before+a.state.Fetched.Fetched, "the rest, and nothing twice")
	assert.Contains(t, text(a), "45 found")
}

func TestAServerThatIsGoneIsReportedOnTheScreen(t *testing.T) {
	a, _ := pictured(t)
	a.state.Bench.Covers.Servers[0].URL = "http://127.0.0.1:1/"
	require.NoError(t, a.state.Bench.Save())
	press(a, "ctrl+r", "C", "f")
	assert.Contains(t, flat(a), "Playroom shelf did not answer 4 times in a row, so it was not asked any more")
	assert.Contains(t, text(a), "7 found", "what is here stays")
	press(a, "down")
	assert.Contains(t, text(a), "missing")
}
