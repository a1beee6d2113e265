package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/demo"
	"polytome/internal/sim"
	"polytome/internal/sim/samba"
	"polytome/internal/testkit/demoworld"
	"polytome/internal/testkit/judge"
)

// beginner is somebody at a terminal of a machine on which Polytome was never started, with games in the home folder.
type beginner struct {
	*terminal
	t       *testing.T
	w       demo.World
	home    string
	pressed int
}

// newBeginner starts the program in an empty home but for the games: all of them, or those of a few KiB.
func newBeginner(t *testing.T, all bool) *beginner {
	w := demoworld.Open(t)
	home := filepath.Join(t.TempDir(), "home")
	require.NoError(t, os.MkdirAll(filepath.Join(home, "games"), 0o755))
	require.NoError(t, os.Rename(w.Shelf, filepath.Join(home, "games", "shelf")))
	if all {
		require.NoError(t, os.Rename(w.Games, filepath.Join(home, "games", "large")))
	} else {
		require.NoError(t, os.Remove(filepath.Join(home, "games", "shelf", "skua", "1.skd")))
	}
	env := "HOME=" + home
	for name, dir := range map[string]string{"DATA": "data", "STATE": "state", "CACHE": "cache", "CONFIG": "config"} {
		env += fmt.Sprintf(" XDG_%s_HOME=%s", name, filepath.Join(home, "."+dir))
	}
	b := &beginner{open(t, 158, 46, "cd "+home+" && env "+env+" "+binary), t, w, home, 0}
	b.wait("Where are your games?", "~/games")
	return b
}

// does presses keys, and counts them. What is typed counts as one: it is as long as it is.
func (b *beginner) does(keys ...string) {
	b.t.Helper()
	for _, k := range keys {
		b.pressed++
		if text, typed := strings.CutPrefix(k, "type:"); typed {
			judge.Run(b.t, "tmux", "-S", b.socket, "send-keys", "-l", text)
			b.wait(text[max(0, len(text)-30):]) // before enter is pressed
		} else {
			b.keys(k)
		}
	}
}

// chooses puts the cursor on what is offered, and presses enter.
func (b *beginner) chooses(name string) {
	b.t.Helper()
	s := b.wait(name, "▌")
	for range 20 {
		if strings.Contains(s, "▌ "+name) {
			b.does("Enter")
			return
		}
		was := pointed(s)
		b.does("Down")
		require.Eventually(b.t, func() bool { s = b.screen(); return pointed(s) != was }, time.Minute,
			50*time.Millisecond, "the cursor does not move")
	}
	require.Fail(b.t, "it is not offered: "+name, s)
}

// pointed is the line that the cursor is on.
func pointed(screen string) string {
	for line := range strings.SplitSeq(screen, "\n") {
		if strings.HasPrefix(line, "▌") {
			return line
		}
	}
	return ""
}

// fills asserts that the console is filled after at most twelve keys, with no stop.
func (b *beginner) fills() {
	b.t.Helper()
	s := b.wait("Done: ", "titles written")
	assert.NotContains(b.t, s, "lists 0")
	assert.LessOrEqual(b.t, b.pressed, 12)
	b.t.Logf("%d keystrokes", b.pressed)
	assert.FileExists(b.t, filepath.Join(b.home, ".data", "polytome", "bench.toml"))
	assert.FileExists(b.t, filepath.Join(b.home, ".state", "polytome", "log.txt"))
}

func TestBeginnersOnAnEmptyMachine(t *testing.T) {
	t.Run("a stick with a known tree", func(t *testing.T) {
		b := newBeginner(t, true)
		b.does("Enter")
		b.wait("What shall be filled?")
		b.does("type:"+filepath.Join(b.w.Dir, "drives", "oxbow-116.img"), "Enter")
		b.wait("1 Games 59", "Next: W write")
		b.does("W")
		b.wait("enter yes")
		b.does("Enter")
		b.fills()
	})
	t.Run("a bare stick", func(t *testing.T) {
		b := newBeginner(t, true)
		b.does("Enter")
		b.wait("What shall be filled?")
		stick := filepath.Join(b.w.Dir, "drives", "quay-28.img")
		b.does("type:"+stick, "Enter")
		b.wait("Which loader reads")
		b.chooses("Rowan")
		b.wait("What is lost", "Next: W prepare quay-28.img")
		b.does("W")
		b.wait("Type quay-28.img to continue")
		b.does("type:quay-28.img", "Enter")
		b.wait("quay-28.img is ready", "Next: W then m: have it fixed, and write") // what it lacks is known by then
		b.does("W")
		b.wait("have that fixed too")
		b.does("m")
		b.wait("marked")
		b.does("W")
		b.wait("enter yes")
		b.does("Enter")
		b.fills()
		assert.Contains(t, judge.Run(t, "sfdisk", "-d", stick), "type=c")
	})
	t.Run("a console over FTP", func(t *testing.T) {
		disk := t.TempDir()
		require.NoError(t, os.MkdirAll(filepath.Join(disk, "hd1", "rowan"), 0o755))
		console, err := sim.Consoles["corvane"].Serve(disk, 0, 64<<30)
		require.NoError(t, err)
		t.Cleanup(console.Close)
		b := newBeginner(t, true)
		b.does("Enter")
		b.wait("What shall be filled?")
		b.does(fmt.Sprintf("type:ftp://127.0.0.1:%d/hd1", console.Port()), "Enter")
		b.chooses("Gantry")
		b.wait("Next: W write")
		b.does("W")
		b.wait("enter yes")
		b.does("Enter")
		b.fills()
	})
	t.Run("a share", func(t *testing.T) {
		tanager := sim.Consoles["tanager"]
		dir := t.TempDir()
		require.NoError(t, tanager.Start(dir))
		share, err := samba.Serve(t.Context(), tanager.Share, dir, samba.Options{})
		require.NoError(t, err)
		t.Cleanup(share.Close)
		b := newBeginner(t, false)
		b.does("Enter")
		b.wait("What shall be filled?")
		b.does(fmt.Sprintf("type:smb://127.0.0.1:%d/%s", share.Port, tanager.Share), "Enter")
		b.wait("Which loader reads")
		b.chooses("Oxbow")
		b.wait("Next: W write")
		b.does("W")
		b.wait("enter yes")
		b.does("Enter")
		b.fills()
	})
	t.Run("an unknown console", func(t *testing.T) {
		b := newBeginner(t, true)
		b.does("Enter")
		b.wait("What shall be filled?")
		b.does("type:"+b.w.Found, "Enter")
		b.wait("Which loader reads")
		b.does("Up")
		b.chooses("None of these: teach")
		b.wait("N Teach", "Next: y take what is proposed")
		assert.LessOrEqual(t, b.pressed, 14)
		t.Logf("%d keystrokes", b.pressed)
	})
}
