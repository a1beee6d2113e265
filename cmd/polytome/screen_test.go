package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/demo"
	"polytome/internal/testkit/judge"
)

// terminal is a tmux session of its own, in which the program runs.
type terminal struct {
	t      *testing.T
	socket string
}

// prompt is a shell that shows when it waits.
const prompt = `while printf 'ready> ' && read -r line; do eval "$line"; done`

// open starts a shell of w by h cells and types a command into it.
func open(t *testing.T, w, h int, command string) *terminal {
	term := &terminal{t, filepath.Join(t.TempDir(), "tmux")}
	judge.Run(t, "tmux", "-S", term.socket, "-f", "/dev/null", "new-session", "-d", "-x", fmt.Sprint(w), "-y",
		fmt.Sprint(h), "sh", "-c", prompt)
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", term.socket, "kill-server").Run() })
	term.wait("ready>")
	term.keys(command, "Enter")
	return term
}

func (term *terminal) keys(keys ...string) {
	for _, k := range keys {
		judge.Run(term.t, "tmux", "-S", term.socket, "send-keys", k)
		time.Sleep(60 * time.Millisecond)
	}
}

// escape presses that key, and waits until the screen shows what comes of it: a key that the program reads together
// with it would be taken for one that is pressed with alt.
func (term *terminal) escape(texts ...string) {
	term.t.Helper()
	term.keys("Escape")
	term.wait(texts...)
}

func (term *terminal) screen() string {
	return judge.Run(term.t, "tmux", "-S", term.socket, "capture-pane", "-p")
}

// wait waits until the screen shows all of the texts, and returns it. It gives up when nothing on the screen has
// changed for a minute: a run that goes on is waited for, however busy the machine is.
func (term *terminal) wait(texts ...string) string {
	term.t.Helper()
	var s, before string
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if s = term.screen(); s != before {
			before, end = s, time.Now().Add(time.Minute)
		}
		missing := false
		for _, text := range texts {
			missing = missing || !strings.Contains(s, text)
		}
		if !missing {
			return s
		}
	}
	require.Fail(term.t, "the screen never showed it", "%q\n%s", texts, s)
	return ""
}

func TestFromTheGamesToTheCheckWithKeysOnly(t *testing.T) {
	for _, window := range [][2]int{{158, 46}, {80, 24}} {
		t.Run(fmt.Sprintf("%dx%d", window[0], window[1]), func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "world")
			term := open(t, window[0], window[1], binary+" demo --dir "+dir)
			term.wait("1 Games 59", "Lamplighter", "7 to fix")
			term.keys("/", "Clockwork", "Enter")
			term.wait("Clockwork Ferry", "from VESPER.INF, line 1")
			term.keys("Escape")
			term.wait("Copper Tide")
			term.keys("m")
			term.wait("Velvet Ballast", "bad")
			term.escape(" OK ")
			term.keys("2")
			term.wait("Fit 15/24", "North stick")
			term.keys("/", "copper", "Enter")
			term.wait("Copper Tide on North stick: split 3.", "4,294,967,295")
			term.escape("Clockwork Ferry")
			term.keys("/", "Mistral", "Enter")
			term.wait("Mistral Halt on North stick: copy.")
			term.keys("Space")
			term.wait("Mistral Halt deselected on North stick", "14/24")
			term.keys("u")
			term.wait("Undone: Mistral Halt deselected on North stick")
			term.keys("Escape")
			term.wait("Mosswick", "Fit 15/24")
			term.keys("C")
			term.wait("FRONT", "2 proposed", "Quillwork, front: a picture has a similar name")
			term.keys("Enter")
			term.wait("Quillwork: 1 picture", "a proposal: its name is similar")
			term.keys("3")
			term.wait("North stick: 44 new files, none removed", "FULL/", "kept")
			term.keys("s")
			term.wait("44 files to write, 41.32 GiB", "make folder FULL")
			term.keys("s")
			term.keys("4")
			term.wait("44 files to write, 41.32 GiB", "Next: W write 15 titles")
			term.keys("W")
			term.wait("Write to North stick? 44 files to write", "enter yes")
			term.keys("Enter")
			term.wait("Done: 15 titles written", "read back")
			term.keys("5")
			s := term.wait("Rowan: lists 16", "at the Vesper", "4 findings")
			for _, line := range promised[:5] {
				_, name, _ := strings.Cut(line, " ")
				assert.Contains(t, s, name[:min(16, len(name))])
			}
			assert.Equal(t, promised, simulatorList(t, demo.At(dir).Stick), "what the simulator lists")
			for _, line := range promised {
				id, _, _ := strings.Cut(line, " ")
				files, err := filepath.Glob(filepath.Join(demo.At(dir).Stick, "*", id+" - *.iso"))
				require.NoError(t, err)
				if len(files) == 0 { // in parts: the first has the volume's folders
					files, _ = filepath.Glob(filepath.Join(demo.At(dir).Stick, "LONG", id, "001.rwn"))
				}
				require.Len(t, files, 1)
				assert.Contains(t, judge.Run(t, "isoinfo", "-i", files[0], "-x", "/VESPER.INF;1"), "ID="+id+"\n",
					"a foreign tool agrees")
			}
			term.keys("Down", "m")
			term.wait("1 change marked")
			term.keys("4")
			term.wait("1 file to write")
			term.keys("W")
			term.wait("Write to North stick?")
			term.keys("Enter")
			term.wait("Done: 1 ", "Next: ")
			term.keys("5")
			term.wait("3 findings")
			assert.FileExists(t, filepath.Join(demo.At(dir).Stick, "FACES", "front", "VSP-21377.jpg"),
				"the cover is fixed")
			term.keys("q")
			s = term.wait("ready>")
			assert.NotContains(t, s, "polytome  gullwing", "the terminal is as it was")
		})
	}
}

// over waits until the demo in a folder has ended: it switches its consoles off when its screen is gone already.
func over(t *testing.T, dir string) {
	t.Helper()
	require.Eventually(t, func() bool {
		_, err := judge.Try(t, "pgrep", "-f", "demo --dir "+dir)
		return err != nil
	}, 20*time.Second, 20*time.Millisecond)
}

func TestTheTerminalIsLeftClean(t *testing.T) {
	for name, end := range map[string]func(term *terminal){
		"q":       func(term *terminal) { term.keys("q") },
		"ctrl+c":  func(term *terminal) { term.keys("C-c") },
		"SIGTERM": func(term *terminal) { judge.Run(term.t, "pkill", "-TERM", "-f", binary+" demo --dir") },
	} {
		t.Run(name, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "world")
			term := open(t, 100, 30, binary+" demo --dir "+dir)
			term.wait("1 Games 59")
			end(term)
			over(t, dir)
			term.wait("ready> ")
			term.keys("echo it $((6*7))", "Enter")
			s := term.wait("it 42")
			assert.NotContains(t, s, "1 Games")
			assert.Contains(t, judge.Run(t, "tmux", "-S", term.socket, "display-message", "-p",
				"cursor=#{cursor_flag} mouse=#{mouse_any_flag}"), "cursor=1 mouse=0")
		})
	}
}

func TestQuittingARunAsksAndTheNextTakesItUp(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "world")
	term := open(t, 120, 36, binary+" demo --dir "+dir)
	term.wait("1 Games 59")
	term.keys("4")
	term.wait("Next: W")
	term.keys("W")
	term.wait("Write to North stick?")
	term.keys("Enter")
	term.wait("done      FULL/VSP-21410")
	term.keys("q")
	term.wait("A run is in progress")
	term.keys("x", "q", "q")
	over(t, dir)
	term.wait("ready>")
	parts, err := filepath.Glob(filepath.Join(demo.At(dir).Stick, "*", "*.begun"))
	require.NoError(t, err)
	assert.LessOrEqual(t, len(parts), 1, "only what is resumed has a temporary name")
	list := simulatorList(t, demo.At(dir).Stick)
	assert.Greater(t, len(list), 1)
	assert.Less(t, len(list), len(promised))

	term.keys("clear; "+binary+" demo --dir "+dir, "Enter")
	term.wait("1 Games 59")
	term.keys("4")
	term.wait("Next: W")
	term.keys("W")
	term.wait("Write to North stick?")
	term.keys("Enter")
	term.wait("Done: ")
	assert.Equal(t, promised, simulatorList(t, demo.At(dir).Stick))
	parts, err = filepath.Glob(filepath.Join(demo.At(dir).Stick, "*", "*.begun"))
	require.NoError(t, err)
	assert.Empty(t, parts)
	term.keys("Tab", "Tab")
	term.wait("past runs", "complete", "stopped")
}

func TestTheFirstStartAsksForGamesAndTarget(t *testing.T) {
	w := world(t)
	file := filepath.Join(t.TempDir(), "mine.toml")
	term := open(t, 100, 30, binary+" --bench "+file)
	term.wait("Where are your games?", "Your choices are kept in "+file[:20])
	term.keys("/nowhere", "Enter")
	term.wait("No folder /nowhere")
	term.keys("C-u", w.Games, "Enter")
	term.wait("What shall be filled?", "teach a new console")
	term.keys("Escape")
	term.wait("Where are your games?")
	term.keys(w.Games, "Enter")
	term.wait("What shall be filled?")
	term.keys(w.Stick, "Enter")
	term.wait("1 Games 22")
	term.keys("2")
	term.wait("unsupported", "stands for one")
	term.keys("f")
	term.wait("now stands for a drive with FAT32", "copy")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text), "as = 'fat32'")
	assert.Contains(t, string(text), "loader = 'rowan'", "found by the folder ROWAN on the stick")
}

func TestWithoutColoursAndUnicode(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "world")
	term := open(t, 158, 46, "NO_COLOR=1 "+binary+" demo --ascii --dir "+dir)
	term.wait("1 Games 59")
	for _, stage := range []string{"1", "2", "3", "4", "5", "L", "Right", "Right", "Tab"} {
		term.keys(stage)
		time.Sleep(300 * time.Millisecond)
		s := judge.Run(t, "tmux", "-S", term.socket, "capture-pane", "-p", "-e")
		for _, r := range s {
			require.Less(t, r, rune(128), "stage %s shows %q", stage, r)
		}
		assert.NotRegexp(t, `\x1b\[[0-9;]*(3[0-8]|4[0-8])[;m]`, s, "no colours")
	}
}

func TestTheLoadersPanel(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "world")
	own := filepath.Join(dir, "own", "profiles", "rowan.toml")
	term := open(t, 158, 46, "VISUAL= EDITOR='sed -i s/{title}.iso/{title|upper}.iso/' "+binary+" demo --dir "+dir)
	term.wait("1 Games 59")
	term.keys("L")
	term.wait("Rowan for the Vesper: its rules", "your titles on the stick, usb, FAT32", "001.rwn", "split",
		"21 pictures, VSP-20417.png", "does not use 35 of 59 titles. 3 have no path here")
	term.keys("Tab", "Down", "Down")
	term.wait("Rowan finds the picture of a disc by the title's ID")
	term.keys("v", "v", "v")
	term.wait("your titles on the share, smb, any filesystem", "FULL/")
	term.keys("e")
	term.wait("ships with Polytome and cannot be edited")
	term.keys("c")
	term.wait("Your copy is", "rowan*")
	text, err := os.ReadFile(own)
	require.NoError(t, err)

	// Somebody edits the file: the tree follows, and a mistake is shown at its line.
	require.NoError(t, os.WriteFile(own,
		[]byte(strings.Replace(string(text), `path = "{kind|upper}/{id} - {title}.iso"`, `path = "PLAY/{id|lower}.iso"`,
			1)), 0o644))
	term.wait("PLAY/", "vsp-20417.iso")
	require.NoError(t, os.WriteFile(own, []byte(strings.Replace(string(text), "longest = 28", "longets = 28", 1)),
		0o644))
	term.wait("longets = 28", `did you mean "longest"?`, "rowan!")
	require.NoError(t, os.WriteFile(own, text, 0o644))
	term.wait("Rowan for the Vesper: its rules", "FULL/")

	// The editor changes it: here sed stands for one.
	term.keys("e")
	term.wait("VSP-21344 - MISTRAL HALT.iso")
	require.NoError(t, os.WriteFile(own, text, 0o644))
	term.wait("VSP-21344 - Mistral Halt.iso")

	// What is on the stick is learnt, and the target is filled for what was learnt.
	term.keys("n")
	term.wait("what lies on North stick", "question 1 of", "vesper images go to", "not explained")
	term.keys("W")
	term.wait("Write what was learnt")
	term.keys("Enter")
	term.wait("Written: ")
	term.keys("L")
	term.wait("north-stick*", "North stick: its rules")
	term.keys("p")
	term.wait("North stick is now filled for North stick")
	term.keys("Escape")
	term.wait("Lamplighter")
	assert.FileExists(t, filepath.Join(dir, "own", "profiles", "north-stick.toml"))

	small := open(t, 80, 24, binary+" demo --dir "+dir)
	small.wait("1 Games 59")
	small.keys("L", "Right")
	small.wait("its rules")
	small.keys("Tab")
	small.wait("your titles on")
}

// TestFixingTitlesOnTheScreen walks as a newcomer would: what is wrong, why, and fix it.
func TestFixingTitlesOnTheScreen(t *testing.T) {
	for _, window := range [][2]int{{158, 46}, {80, 24}} {
		t.Run(fmt.Sprintf("%dx%d", window[0], window[1]), func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "world")
			term := open(t, window[0], window[1], binary+" demo --dir "+dir)
			term.wait("1 Games 59", "7 to fix")
			term.keys("/", "bad", "Enter")
			term.wait("Wicker Toll", "Fog Bell")
			term.keys("End")
			term.wait("gives a password")
			term.keys("p")
			term.wait("password:", "stored in the bench")
			term.keys("ferryline", "Enter")
			term.wait("6 to fix")
			term.escape(" OK ")
			term.keys("/", "disc_image", "Enter")
			term.wait("the game cannot be identified")
			term.keys("e", "Down", "Down", "Down", "Enter")
			term.wait("platform:")
			term.keys("vesper", "Enter")
			term.wait("VESPER")
			term.keys("Up", "Up", "Up", "Enter")
			term.wait("name:")
			term.keys("Wicker Parade", "Enter")
			term.wait("5 to fix", "Wicker Parade")
			term.escape("evidence for Wicker Parade")
			term.escape("Velvet Ballast")
			term.keys("/", "platform:wren8", "Enter")
			term.wait("Brackwater")
			term.keys("V")
			term.wait("Verified 4 files: 1 differs, 3 agrees")
			saved, err := os.ReadFile(filepath.Join(dir, "gullwing-season.toml"))
			require.NoError(t, err)
			for _, want := range []string{"passwords = ['ferryline']", "[[edit]]",
				"file = 'games/new/disc_image_04.iso'", "platform = 'vesper'", "name = 'Wicker Parade'"} {
				assert.Contains(t, string(saved), want)
			}
			term.keys("q")
			term.wait("ready>")
		})
	}
}

func TestDrawingWithKeysOnly(t *testing.T) {
	for _, window := range [][2]int{{158, 46}, {80, 24}} {
		dir := t.TempDir()
		term := open(t, window[0], window[1], "cd "+dir+" && "+binary+" demo --ascii --dir "+filepath.Join(dir,
			"world"))
		term.wait("1 Games 59")
		term.keys("2")
		term.wait("O paper")
		term.keys("O")
		term.wait("Draw on paper: fit", "rack, map, tree, connections, card, run, fit, checklist")
		term.keys("Enter")
		term.wait("Draw the fit sheet to: gullwing-season fit.pdf", ".svg file, in "+dir[:20])
		term.keys("Enter")
		term.wait("The fit sheet is in " + dir[:20])
		assert.Contains(t, paperText(t, filepath.Join(dir, "gullwing-season fit.pdf")), "Mistral Halt")
		term.keys("3", "O", "C-u", "c", "a", "r", "d", "Space", "e", "i", "g", "h", "t", "h", "Enter")
		term.wait("Draw the contents card to: North stick card.pdf")
		term.keys("Enter")
		term.wait("The contents card is in")
		assert.Contains(t, paperText(t, filepath.Join(dir, "North stick card.pdf")), "74 x 105 mm")
		term.keys("O", "Enter")
		term.wait("Draw the tree to")
		term.escape("O paper")
		term.keys("q")
		term.wait("ready>")
	}
}
