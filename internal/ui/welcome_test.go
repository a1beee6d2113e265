package ui

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/demo"
	"polytome/internal/drives"
	"polytome/internal/sim"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/demoworld"
	"polytome/internal/testkit/judge"
)

// newcomer is somebody on a machine on which Polytome was never started: with games in the home folder, and image files
// that stand for drives that are plugged in.
type newcomer struct {
	*app
	t       *testing.T
	w       demo.World
	pressed int
}

func newComer(t *testing.T, plugged ...string) *newcomer {
	w := demoworld.Open(t)
	home := t.TempDir()
	require.NoError(t, os.Rename(w.Games, filepath.Join(home, "games")))
	require.NoError(t, os.Rename(w.Shelf, filepath.Join(home, "games", "shelf")))
	t.Setenv("HOME", home)
	t.Chdir(home)
	set, err := loader.Known(filepath.Join(home, "own"))
	require.NoError(t, err)
	b := bench.New(filepath.Join(home, "bench.toml"))
	a := newApp(t.Context(), b, set, Options{OwnDir: filepath.Join(home, "own")})
	a.state.System = bare(t)
	for _, name := range plugged {
		a.state.Images = append(a.state.Images, filepath.Join(w.Dir, "drives", name))
	}
	a.Update(tea.WindowSizeMsg{Width: 158, Height: 46})
	pump(a, a.Init())
	return &newcomer{a, t, w, 0}
}

// keys presses keys, and counts them. What is typed or pasted counts as one: it is as long as it is.
func (n *newcomer) keys(all ...string) {
	n.t.Helper()
	for _, k := range all {
		n.pressed++
		if rest, typed := strings.CutPrefix(k, "type:"); typed {
			typeIn(n.app, rest)
		} else {
			press(n.app, k)
		}
	}
}

// sees asserts what is on the screen.
func (n *newcomer) sees(all ...string) {
	n.t.Helper()
	for _, s := range all {
		require.Contains(n.t, flat(n.app), s)
	}
}

// find puts the cursor on a choice.
func (n *newcomer) find(name string) {
	n.t.Helper()
	for range 20 {
		if strings.Contains(text(n.app), "▌ "+name) {
			return
		}
		n.keys("down")
	}
	require.Fail(n.t, "it is not offered: "+name, text(n.app))
}

// filled asserts that a run was done in at most 12 keystrokes, with no stop.
func (n *newcomer) filled(titles int) {
	n.t.Helper()
	n.sees(fmt.Sprintf("Done: %d titles written", titles))
	assert.LessOrEqual(n.t, n.pressed, 12)
	n.t.Logf("%d keystrokes", n.pressed)
}

func TestABeginnerWithAStickThatHoldsGames(t *testing.T) {
	n := newComer(t, "oxbow-116.img", "quay-28.img")
	n.sees("Where are your games?", "/games 50 files", "Your choices are kept in")
	n.keys("enter")
	n.sees("What shall be filled?", "OXBOW 116.00 GiB, exFAT:", "titles for Oxbow", "quay-28.img 28.00 GiB, blank")
	n.find("OXBOW")
	n.keys("enter")
	n.sees("▸1 Games 59", "Next: W write")
	n.keys("W")
	n.sees("Write to OXBOW?")
	n.keys("enter")
	lane := n.state.Targets[0].Lane
	require.NotNil(t, lane)
	n.filled(lane.Plan.Titles)
	assert.Positive(t, lane.Plan.Titles)
	n.sees("safe to unplug")
}

func TestABeginnerWithABareStick(t *testing.T) {
	n := newComer(t, "quay-28.img")
	n.keys("enter")
	n.sees("quay-28.img 28.00 GiB, blank: it is prepared first")
	n.keys("enter")
	n.sees("Which loader reads quay-28.img?", "Rowan", "Vesper")
	n.find("Rowan")
	n.keys("enter")
	n.sees("D Drives", "What is lost", "Next: W prepare quay-28.img; its name is asked for first")
	n.keys("W", "type:quay-28.img", "enter")
	n.sees("quay-28.img is ready")
	n.keys("W", "m", "W", "enter")
	n.filled(n.state.Targets[0].Lane.Plan.Titles)
	judge.Run(t, "sfdisk", "-d", n.state.Images[0])
}

func TestABeginnerWithAConsoleOnTheNetwork(t *testing.T) {
	disk := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(disk, "hd1", "rowan"), 0o755))
	console, err := sim.Consoles["corvane"].Serve(disk, 0, 64<<30)
	require.NoError(t, err)
	t.Cleanup(console.Close)
	n := newComer(t)
	n.keys("enter")
	n.sees("No drive is plugged in", "ftp://")
	n.keys(fmt.Sprintf("type:ftp://127.0.0.1:%d/hd1", console.Port()), "enter")
	n.sees("Which loader reads", "Gantry")
	assert.NotContains(t, text(n.app), "Bellows", "which reads nothing over FTP")
	n.find("Gantry")
	n.keys("enter", "W", "enter")
	require.NotNil(t, n.state.Targets[0].Lane, flat(n.app))
	n.filled(n.state.Targets[0].Lane.Plan.Titles)
}

func TestABeginnerWithAnUnknownConsole(t *testing.T) {
	n := newComer(t)
	n.keys("enter", "type:"+n.w.Found, "enter")
	if strings.Contains(flat(n.app), "Which loader reads") {
		n.keys("up")
		n.find("None of these: teach")
		n.keys("enter")
	}
	n.sees("N Teach", "Next: y take what is proposed")
	assert.LessOrEqual(t, n.pressed, 14)
}

func TestABeginnerWhoLooksRound(t *testing.T) {
	n := newComer(t)
	n.keys("esc")
	n.sees("There is nothing to go back to")
	n.keys("enter", "esc")
	n.sees("Where are your games?")
	n.keys("down", "enter") // look round
	n.sees("Next: a add the folder with your games")
	n.keys("a", "type:"+filepath.Join(os.Getenv("HOME"), "games"), "enter")
	n.sees("▸1 Games 59", "Next: P say what shall be filled")
	n.keys("u")
	n.sees("Undone: Games are looked for in", "Next: a add the folder")
	entries, err := os.ReadDir(os.Getenv("HOME"))
	require.NoError(t, err)
	for _, e := range entries {
		assert.Contains(t, []string{"games", "own", "bench.toml"}, e.Name(), "nothing else was written")
	}
}

// TestAProblemIsKnownBeforeTheFirstByte: a stick with the wrong label, which would have ended in a list of nothing.
func TestAProblemIsKnownBeforeTheFirstByte(t *testing.T) {
	n := newComer(t)
	image := filepath.Join(t.TempDir(), "wrong.img")
	require.NoError(t, drives.MakeImage(image, 8<<30))
	judge.Run(t, "mkfs.fat", "-F", "32", "-n", "WRONG", image)
	game := filepath.Join(os.Getenv("HOME"), "games", "small")
	require.NoError(t, os.MkdirAll(game, fs.ModePerm))
	coretest.Write(t, game, "a.iso", coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full")))
	n.keys("enter", "type:"+image, "enter")
	n.find("Rowan")
	n.keys("enter")
	n.sees("Next: 5 Check")
	n.keys("W")
	n.sees("Known before: the drive has no partition table, but Rowan needs MBR, and 2 more problems")
	n.keys("esc", "5")
	n.sees("v after the run")
	n.keys("v")
	n.sees("after the run, Rowan: lists")
}

// TestTheFirstQuestionShowsWhatComesNext: the drives that were found, where there is room for them.
func TestTheFirstQuestionShowsWhatComesNext(t *testing.T) {
	n := newComer(t, "oxbow-116.img", "quay-28.img")
	n.sees("Where are your games?", "Then: what shall be filled?", "OXBOW 116.00 GiB, exFAT:",
		"quay-28.img 28.00 GiB, blank")
	n.Update(tea.WindowSizeMsg{Width: 80, Height: 24})
	n.sees("Where are your games?", "esc back")
	n = newComer(t)
	n.sees("No drive is plugged in; one that you plug in is offered then, or type a folder, an image,")
}
