package main

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/dock"
	"polytome/internal/demo"
	"polytome/internal/sim/ftpd"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// plugIns is how often a drive is plugged in while the dock is tried; scripts/soak has it be thousands.
func plugIns(t *testing.T) int {
	n, err := strconv.Atoi(os.Getenv("POLYTOME_SOAK"))
	if err != nil {
		return 60
	}
	t.Logf("%d plug-ins", n)
	return n
}

// footprint is how much memory a process has, in bytes, and which files it has open.
func footprint(t *testing.T, pid int) (bytes int64, files []string) {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	for line := range strings.Lines(string(status)) {
		if kib, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			n, err := strconv.ParseInt(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(kib), "kB")), 10, 64)
			require.NoError(t, err)
			bytes = n << 10
		}
	}
	open, err := filepath.Glob(fmt.Sprintf("/proc/%d/fd/*", pid))
	require.NoError(t, err)
	for _, f := range open {
		if what, err := os.Readlink(f); err == nil {
			files = append(files, what)
		}
	}
	return bytes, files
}

// TestTheDockIsFitForWeeks: drives come and go at ten slots, now and then with something new to write. Its memory does
// not grow, no file is left open, and each volume is sound; asked to end in the middle of writing, it ends cleanly.
func TestTheDockIsFitForWeeks(t *testing.T) {
	ownFolders(t)
	const slots = 10
	times := plugIns(t) / slots
	dir := t.TempDir()
	games := filepath.Join(dir, "games")
	coretest.Write(t, games, "Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "drawer"), 0o755))
	file := filepath.Join(dir, "season.toml")
	season := bench.New(file)
	season.Sources = []bench.Source{{Path: games}}
	port := func(n int) string { return filepath.Join(dir, fmt.Sprintf("stick%d.img", n)) }
	drawer := func(n int) string { return filepath.Join(dir, "drawer", fmt.Sprintf("stick%d.img", n)) }
	season.Targets = []bench.Target{{Name: "Stick 0", At: "drive:stick0.img", Loader: "oxbow", Everything: true,
		WhenConnected: bench.Fill}}
	for n := 1; n < slots; n++ {
		season.AddLike(0, "drive:"+filepath.Base(port(n)), "")
	}
	require.NoError(t, season.Save())
	for n := range slots {
		ok(t, "drives", "prepare", port(n), "--size", "64MiB", "--loader", "oxbow")
	}
	ok(t, "plan", "--bench", file)
	for n := range slots {
		require.NoError(t, os.Rename(port(n), drawer(n)))
	}

	d := startDock(t, "--bench", file, "--no-eject")
	pid := d.cmd.Process.Pid
	rest := map[string]chan docking{}
	for n := range season.Targets {
		rest[season.Targets[n].Name] = make(chan docking, 100)
	}
	go func() {
		for e := range d.said {
			rest[e.Target] <- e
		}
	}()
	until := func(n int, p dock.Phase) docking {
		t.Helper()
		for {
			select {
			case e := <-rest[season.Targets[n].Name]:
				if e.Phase == p {
					return e
				}
				if e.Phase.Rests() && e.Phase != p {
					t.Errorf("slot %d came to %s: %s", n, e.Phase, e.Say)
					return e
				}
			case <-time.After(2 * time.Minute):
				t.Errorf("slot %d never came to %s", n, p)
				return docking{}
			}
		}
	}
	round := func(k int) {
		var all sync.WaitGroup
		for n := range slots {
			all.Go(func() {
				if !assert.NoError(t, os.Rename(drawer(n), port(n))) {
					return
				}
				until(n, dock.Done)
				assert.NoError(t, os.Rename(port(n), drawer(n)))
				until(n, dock.Waiting)
			})
		}
		all.Wait()
		if k%20 == 1 {
			name := fmt.Sprintf("Game %d", k)
			coretest.Write(t, games, name+".w8", demo.Cartridge("WREN", name))
		}
	}
	warm := max(3, times/5)
	for k := range warm {
		round(k)
	}
	bytes0, files0 := footprint(t, pid)
	for k := warm; k < times; k++ {
		round(k)
	}
	bytes1, files1 := footprint(t, pid)
	t.Logf("memory %d MiB, then %d MiB; open files %d, then %d", bytes0>>20, bytes1>>20, len(files0), len(files1))
	assert.Less(t, bytes1, bytes0+bytes0/4+16<<20, "its memory does not grow")
	assert.LessOrEqual(t, len(files1), len(files0)+2*slots, "no file is left open: %q, then %q", files0, files1)

	big := filepath.Join(games, "Long Haul.w8")
	require.NoError(
		t,
		os.WriteFile(big, append(demo.Cartridge("WREN", "Long Haul"), bytes.Repeat([]byte("x"), 8<<20)...),
			0o644),
	)
	again, err := bench.Load(file)
	require.NoError(t, err)
	again.Targets[0].Rate = 1 << 20
	again.Spread(0)
	require.NoError(t, again.Save())
	require.NoError(t, os.Rename(drawer(0), port(0)))
	until(0, dock.Filling)
	began := time.Now()
	require.NoError(t, d.cmd.Process.Signal(syscall.SIGHUP))
	assert.NoError(t, d.cmd.Wait(), "it was asked to end: that is no failure")
	assert.Less(t, time.Since(began), 30*time.Second)
	require.NoError(t, os.Rename(port(0), drawer(0)))
	for n := range slots {
		part := drawer(n) + ".part"
		judge.Run(t, "dd", "if="+drawer(n), "of="+part, "bs=1M", "skip=4", "conv=sparse", "status=none")
		judge.Run(t, "fsck.fat", "-n", part)
		require.NoError(t, os.Remove(part))
	}
}

// TestTheDockSurvivesSleep: the computer sleeps in the middle of a fill, the console drops the connection meanwhile,
// and after waking up the fill goes on.
func TestTheDockSurvivesSleep(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	games, disk := filepath.Join(dir, "games"), filepath.Join(dir, "disk")
	coretest.Write(t, games, "a/main.run", demo.MainRun("CVN00117", "Hollow Lane", "N"))
	coretest.Write(t, games, "a/data.bin", bytes.Repeat([]byte("data"), 1<<20))
	require.NoError(t, os.MkdirAll(filepath.Join(disk, "hd1"), 0o755))
	habits := ftpd.Habits{User: "gantry", Password: "ferryline", Sizes: true}
	console, err := ftpd.Serve(disk, 0, habits)
	require.NoError(t, err)
	file := filepath.Join(dir, "season.toml")
	season := bench.New(file)
	season.Sources = []bench.Source{{Path: games}}
	season.Targets = []bench.Target{{Name: "Console", At: fmt.Sprintf("ftp://127.0.0.1:%d/hd1", console.Port()),
		Loader: "gantry", Everything: true, WhenConnected: bench.Fill, Rate: 1 << 20}}
	require.NoError(t, season.Save())
	ok(t, "plan", "--bench", file)
	d := startDock(t, "--bench", file)
	d.until("Console", dock.Filling)
	require.NoError(t, d.cmd.Process.Signal(syscall.SIGSTOP))
	console.Close()
	console, err = ftpd.Serve(disk, console.Port(), habits)
	require.NoError(t, err)
	defer console.Close()
	require.NoError(t, d.cmd.Process.Signal(syscall.SIGCONT))
	d.until("Console", dock.Done)
	is, err := os.ReadFile(filepath.Join(disk, "hd1", "Games", "Hollow Lane", "data.bin"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(bytes.Repeat([]byte("data"), 1<<20), is))
	d.stop()
}

// TestServingSurvivesSleep: the computer sleeps while somebody reads, who gives up; after waking up it serves as
// before, and closing the terminal ends it in order.
func TestServingSurvivesSleep(t *testing.T) {
	s := startServe(t, t.TempDir(), "--from", collection(t, 2), "--loader", "rowan", "--size", "64MiB")
	before := filepath.Join(t.TempDir(), "before.img")
	judge.Run(t, "nbdcopy", s.at, before)
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGSTOP))
	_, err := judge.Try(t, "timeout", "1", "nbdcopy", s.at, filepath.Join(t.TempDir(), "never.img"))
	require.Error(t, err, "it sleeps")
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGCONT))
	after := filepath.Join(t.TempDir(), "after.img")
	judge.Run(t, "nbdcopy", s.at, after)
	judge.Run(t, "cmp", before, after)
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGHUP))
	<-s.done
	assert.NoError(t, s.cmd.Wait())
}
