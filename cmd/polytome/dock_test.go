package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/dock"
	"polytome/internal/demo"
	"polytome/internal/sim/ftpd"
	"polytome/internal/testkit/coretest"
)

// docks is a dock that runs, with what it says.
type docks struct {
	t    *testing.T
	cmd  *exec.Cmd
	said chan docking
}

func startDock(t *testing.T, args ...string) *docks {
	d := &docks{t, exec.Command(binary, append([]string{"dock", "--json", "--every", "100ms"}, args...)...),
		make(chan docking, 100)}
	out, err := d.cmd.StdoutPipe()
	require.NoError(t, err)
	d.cmd.Stderr = os.Stderr
	require.NoError(t, d.cmd.Start())
	go func() {
		lines := bufio.NewScanner(out)
		for lines.Scan() {
			var e docking
			if json.Unmarshal(lines.Bytes(), &e) == nil {
				d.said <- e
			}
		}
		_, _ = io.Copy(io.Discard, out)
		close(d.said)
	}()
	t.Cleanup(func() { _ = d.cmd.Process.Kill(); _ = d.cmd.Wait() })
	return d
}

// until waits for a phase of a target, and returns what was said.
func (d *docks) until(name string, p dock.Phase) string {
	d.t.Helper()
	var last docking
	for {
		select {
		case e, ok := <-d.said:
			require.True(d.t, ok, "the dock ended before %s came to %s", name, p)
			if e.Target == name && e.Phase == p {
				return e.Say
			}
			if e.Target == name {
				last = e
			}
		case <-time.After(time.Minute):
			d.t.Fatalf("%s never came to %s, but to %s: %s", name, p, last.Phase, last.Say)
		}
	}
}

// stop ends the dock as ctrl+c does.
func (d *docks) stop() {
	require.NoError(d.t, d.cmd.Process.Signal(os.Interrupt))
	for range d.said { //nolint:revive // until it has ended
	}
	assert.NoError(d.t, d.cmd.Wait())
}

// TestADockBringsWhatComesUpToDate: known sticks are looked at, asked for or filled, as the bench says; unknown ones,
// and what would lose something, wait for a person.
func TestADockBringsWhatComesUpToDate(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	games := filepath.Join(dir, "games")
	coretest.Write(t, games, "Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	file := filepath.Join(dir, "season.toml")
	season := bench.New(file)
	season.Sources = []bench.Source{{Path: games}}
	drawer := func(name string) string { return filepath.Join(dir, "drawer", name) }
	port := func(name string) string { return filepath.Join(dir, "port", name) }
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "port"), 0o755))
	for name, when := range map[string]string{"Fill": "fill", "Ask": "ask", "Look": "", "Unknown": "fill"} {
		coretest.Write(t, drawer(name), "oxbow/play/wren8/.keep", nil)
		season.Targets = append(season.Targets, bench.Target{Name: name, At: port(name), Loader: "oxbow", As: "exfat",
			Capacity: 1 << 30, Everything: true, WhenConnected: when})
	}
	require.NoError(t, season.Save())
	plug := func(name string) { require.NoError(t, os.Rename(drawer(name), port(name))) }
	pull := func(name string) { require.NoError(t, os.Rename(port(name), drawer(name))) }
	for _, name := range []string{"Fill", "Ask", "Look"} { // they are looked at by hand once
		plug(name)
		ok(t, "plan", "--bench", file, "--target", name)
		pull(name)
	}

	plug("Unknown") // it is known as something else
	ok(t, "plan", "--from", games, "--to", port("Unknown"), "--loader", "oxbow", "--as", "exfat")
	pull("Unknown")

	d := startDock(t, "--bench", file)
	d.until("Fill", dock.Waiting)
	plug("Fill")
	assert.Contains(t, d.until("Fill", dock.Filling), "1 file to write")
	assert.Contains(t, d.until("Fill", dock.Done), "1 file written")
	assert.FileExists(t, filepath.Join(port("Fill"), "oxbow/play/wren8/Ropewalk.w8"))
	plug("Ask")
	assert.Contains(t, d.until("Ask", dock.NeedsYou), "to do: 1 file to write")
	plug("Look")
	assert.Contains(t, d.until("Look", dock.Seen), "to do: 1 file to write")
	plug("Unknown")
	assert.Contains(t, d.until("Unknown", dock.NeedsYou), "this volume is not known as Unknown yet")
	for _, name := range []string{"Ask", "Look", "Unknown"} {
		assert.NoFileExists(t, filepath.Join(port(name), "oxbow/play/wren8/Ropewalk.w8"))
	}
	assert.Contains(t, ok(t, "where", "ropewalk"), "Ropewalk: Fill")

	pull("Fill")
	d.until("Fill", dock.Waiting)
	coretest.Write(t, games, "Tide Mill.w8", demo.Cartridge("WREN", "Tide Mill"))
	plug("Fill") // with what has come meanwhile
	assert.Contains(t, d.until("Fill", dock.Done), "1 file written")
	pull("Fill")
	d.until("Fill", dock.Waiting)
	coretest.Write(t, drawer("Fill"), "oxbow/play/wren8/Tide Mill.w8", make([]byte, 99)) // something else in its place
	again, err := bench.Load(file)
	require.NoError(t, err)
	for i := range again.Targets {
		again.Targets[i].Replace = []string{"oxbow/play/wren8/Tide Mill.w8"}
	}
	require.NoError(t, again.Save())
	plug("Fill")
	assert.Contains(t, d.until("Fill", dock.NeedsYou), "1 file on it would be removed or replaced")
	info, err := os.Stat(filepath.Join(port("Fill"), "oxbow/play/wren8/Tide Mill.w8"))
	require.NoError(t, err)
	assert.EqualValues(t, 99, info.Size())
	d.stop()
	for _, wrong := range [][]string{{"dock"}, {"dock", "--bench", file, "--target", "Fil"},
		{"dock", "--bench", file, "--every", "1ms"}} {
		code, _, errs := polytome(t, wrong...)
		assert.Equal(t, 2, code, errs)
	}
}

// TestADockFillsAConsoleThatIsSwitchedOn.
func TestADockFillsAConsoleThatIsSwitchedOn(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	games, disk := filepath.Join(dir, "games"), filepath.Join(dir, "disk")
	coretest.Write(t, games, "a/main.run", demo.MainRun("CVN00117", "Hollow Lane", "N"))
	require.NoError(t, os.MkdirAll(filepath.Join(disk, "hd1"), 0o755))
	habits := ftpd.Habits{User: "gantry", Password: "ferryline", Sizes: true}
	console, err := ftpd.Serve(disk, 0, habits)
	require.NoError(t, err)
	file := filepath.Join(dir, "season.toml")
	season := bench.New(file)
	season.Sources = []bench.Source{{Path: games}}
	season.Targets = []bench.Target{{Name: "Console", At: fmt.Sprintf("ftp://127.0.0.1:%d/hd1", console.Port()),
		Loader: "gantry", Everything: true, WhenConnected: bench.Fill}}
	require.NoError(t, season.Save())
	ok(t, "plan", "--bench", file)
	console.Close()
	d := startDock(t, "--bench", file)
	d.until("Console", dock.Waiting)
	console, err = ftpd.Serve(disk, console.Port(), habits)
	require.NoError(t, err)
	defer console.Close()
	assert.Contains(t, d.until("Console", dock.Done), "1 file written")
	assert.FileExists(t, filepath.Join(disk, "hd1", "Games", "Hollow Lane", "main.run"))
	d.stop()
}

// TestADockIsABoardOnATerminal, which shows what comes, and is closed with a key.
func TestADockIsABoardOnATerminal(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	coretest.Write(t, dir, "games/Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	coretest.Write(t, dir, "drawer/oxbow/play/wren8/.keep", nil)
	file := filepath.Join(dir, "season.toml")
	season := bench.New(file)
	season.Sources = []bench.Source{{Path: filepath.Join(dir, "games")}}
	season.Targets = []bench.Target{{Name: "Hall 3", At: filepath.Join(dir, "stick"), Loader: "oxbow", As: "exfat",
		Capacity: 1 << 30, Everything: true, WhenConnected: bench.Fill}}
	require.NoError(t, season.Save())
	stick, drawer := filepath.Join(dir, "stick"), filepath.Join(dir, "drawer")
	require.NoError(t, os.Rename(drawer, stick))
	ok(t, "plan", "--bench", file)
	require.NoError(t, os.Rename(stick, drawer))
	term := open(t, 80, 24, binary+" dock --every 100ms --bench "+file)
	term.wait("Hall 3", "waiting", "q closes the dock")
	require.NoError(t, os.Rename(drawer, stick))
	term.wait("1 file written", "1 done")
	term.keys("q")
	term.wait("ready>")
	assert.FileExists(t, filepath.Join(stick, "oxbow/play/wren8/Ropewalk.w8"))
}
