package main

import (
	"encoding/json"
	"fmt"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/testkit/judge"
)

// cartridges makes a folder with some games, two of them large.
func cartridges(t testing.TB, large int) string {
	dir := t.TempDir()
	r := rand.New(rand.NewSource(5))
	for i := range 8 {
		n := 20_000 + r.Intn(50_000)
		if i < 2 {
			n = large
		}
		b := make([]byte, n)
		r.Read(b)
		name := fmt.Sprintf("Tide Pool %d", i)
		copy(b, "FNCH")
		copy(b[0x10:0x28], append([]byte(name), make([]byte, 24)...))
		sum := uint16(0)
		for k, c := range b[:0x40] {
			if k != 0x3E && k != 0x3F {
				sum += uint16(c)
			}
		}
		b[0x3E], b[0x3F] = byte(sum), byte(sum>>8)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+".fin"), b, 0o644))
	}
	return dir
}

// sameGames fails when the files below a target are not the games.
func sameGames(t testing.TB, games, target string) {
	t.Helper()
	found := 0
	require.NoError(t, filepath.Walk(target, func(p string, info os.FileInfo, err error) error {
		require.NoError(t, err)
		assert.False(t, strings.HasSuffix(p, ".begun"), p)
		if filepath.Ext(p) != ".fin" {
			return nil
		}
		found++
		judge.Run(t, "cmp", p, filepath.Join(games, filepath.Base(p)))
		return nil
	}))
	assert.Equal(t, 8, found)
}

// TestRunsThatAreKilledAreResumed kills the program at random points, and has runs resume do the rest.
func TestRunsThatAreKilledAreResumed(t *testing.T) {
	games := cartridges(t, 12<<20)
	middle := 0
	for i := range 6 {
		state := t.TempDir()
		target := t.TempDir()
		env := append(os.Environ(), "XDG_STATE_HOME="+state)
		cmd := exec.Command(binary, "fill", "--from", games, "--loader", "bellows", "--to", target, "--as", "fat32",
			"--limit", "40MiB")
		cmd.Env = env
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(150+i*130) * time.Millisecond)
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
		run := func(args ...string) (string, error) {
			c := exec.Command(binary, args...)
			c.Env = env
			out, err := c.CombinedOutput()
			return string(out), err
		}
		list, err := run("runs")
		require.NoError(t, err)
		if !strings.Contains(list, "interrupted") { // it had not begun, or was over
			continue
		}
		out, err := run("runs", "resume")
		require.NoError(t, err, out)
		assert.Contains(t, out, "Run 1 at "+target)
		if strings.Contains(out, "are already there") {
			middle++
		}
		sameGames(t, games, target)
		list, err = run("runs")
		require.NoError(t, err)
		assert.Contains(t, list, "complete")
		assert.Contains(t, list, "resumed by run 2")
		one, err := run("runs", "1")
		require.NoError(t, err)
		assert.Contains(t, one, "Tide Pool 0.fin")
		out, err = run("runs", "resume")
		assert.Error(t, err)
		assert.Contains(t, out, "no run to resume")
		out, err = run("runs", "resume", "1")
		assert.Error(t, err)
		assert.Contains(t, out, "nothing is left to do")
	}
	assert.Positive(t, middle, "some are resumed in the middle of a file")
}

func TestAShareIsFilledOverSMB(t *testing.T) {
	games := cartridges(t, 3<<20)
	s := judge.SMB(t, t.TempDir())
	at := fmt.Sprintf("smb://127.0.0.1:%d/open", s.Port)
	out := ok(t, "connections", "test", at)
	assert.Contains(t, out, "logs in guests")
	assert.Contains(t, out, "resumes files              yes")
	assert.Contains(t, out, "renames files              yes")
	entries, err := os.ReadDir(s.Dir)
	require.NoError(t, err)
	assert.Empty(t, entries, "nothing is left of the test")
	out = ok(t, "connections", "shares", fmt.Sprintf("smb://127.0.0.1:%d", s.Port))
	assert.Contains(t, out, at)

	out = ok(t, "fill", "--from", games, "--loader", "oxbow", "--to", at)
	assert.Contains(t, out, "8 files copied, read back")
	assert.Contains(t, out, "Oxbow will list 8 titles")
	sameGames(t, games, s.Dir)
	out = ok(t, "fill", "--from", games, "--loader", "oxbow", "--to", at)
	assert.Contains(t, out, "0 files to write")

	status, _, stderr := polytome(t, "connections", "test", fmt.Sprintf("smb://%s@127.0.0.1:%d/games", s.User, s.Port))
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "127.0.0.1 needs the password of "+s.User)
}

func TestHowFilesAreChecked(t *testing.T) {
	games := cartridges(t, 1<<20)
	for verify, says := range map[string]string{"none": "8 files copied, not verified",
		"size": "8 files copied, sizes compared", "full": "8 files copied, read back"} {
		out := ok(t, "fill", "--from", games, "--loader", "bellows", "--to", t.TempDir(), "--as", "fat32", "--verify",
			verify)
		assert.Contains(t, out, says)
	}
	for _, bad := range [][]string{{"--verify", "twice"}, {"--progress", "loud"}, {"--limit", "fast"}} {
		status, _, stderr := polytome(t, append([]string{"fill", "--from", games, "--loader", "bellows", "--to",
			t.TempDir()}, bad...)...)
		assert.Equal(t, statusUsage, status)
		assert.Contains(t, stderr, bad[0])
	}
	status, _, stderr := polytome(t, "runs", "x")
	assert.Equal(t, statusUsage, status)
	assert.Contains(t, stderr, "is not a run's number")
}

func TestProgressAsJSON(t *testing.T) {
	games := cartridges(t, 8<<20)
	status, out, stderr := polytome(t, "fill", "--from", games, "--loader", "bellows", "--to", t.TempDir(), "--as",
		"fat32", "--progress", "json", "--limit", "200MiB")
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "8 files copied", "what is printed stays for people")
	kinds := map[string]int{}
	for line := range strings.Lines(stderr) {
		var e struct {
			Event struct{ Event string }
			Left  int64
		}
		require.NoError(t, json.Unmarshal([]byte(line), &e), line)
		kinds[e.Event.Event]++
	}
	assert.Positive(t, kinds["progress"])
	assert.Positive(t, kinds["checking"])
	assert.Equal(t, 1, kinds["ended"])
}

// TestSeveralTargetsAtOnce fills the targets of a bench side by side: each is begun before the other one has ended.
func TestSeveralTargetsAtOnce(t *testing.T) {
	games := cartridges(t, 8<<20)
	dir := t.TempDir()
	bench := "format = 1\nname = 'two'\n[[source]]\npath = '" + games + "'\n"
	for _, p := range []string{"left", "right"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, p), 0o755))
		bench += "[[target]]\nname = '" + p + "'\nat = '" + p +
			"'\nloader = 'bellows'\nas = 'fat32'\nrate = '8MiB'\neverything = true\n"
	}
	file := filepath.Join(dir, "two.toml")
	require.NoError(t, os.WriteFile(file, []byte(bench), 0o644))
	status, out, progress := polytome(t, "fill", "--bench", file, "--progress", "json")
	require.Zero(t, status, progress)
	first := map[string]int{} // number of the line in which something is first said of a target
	for n, line := range strings.Split(strings.TrimSpace(progress), "\n") {
		var e struct {
			Event  struct{ Event string }
			Target string
		}
		require.NoError(t, json.Unmarshal([]byte(line), &e), line)
		if key := e.Target + " " + e.Event.Event; first[key] == 0 {
			first[key] = n + 1
		}
	}
	for _, p := range [][2]string{{"left", "right"}, {"right", "left"}} {
		require.Positive(t, first[p[0]+" began"], progress)
		assert.Less(t, first[p[0]+" began"], first[p[1]+" ended"])
	}
	for _, p := range []string{"left", "right"} {
		assert.Contains(t, out, p+": 8 files copied, read back")
		sameGames(t, games, filepath.Join(dir, p))
	}
}

func TestSourcesAreMovedWhenTheyAreCopied(t *testing.T) {
	games := cartridges(t, 100_000)
	target, kept := t.TempDir(), filepath.Join(t.TempDir(), "copied")
	before, err := os.ReadDir(games)
	require.NoError(t, err)
	status, out, _ := polytome(t, "fill", "--from", games, "--loader", "bellows", "--to", target, "--as", "fat32",
		"--verify", "size", "--move-sources", kept)
	assert.Zero(t, status)
	assert.Contains(t, out, "0 files of 0 titles")
	assert.Contains(t, out, "it was not read back (use --verify full)")

	require.NoError(t, os.RemoveAll(filepath.Join(target, "Carts")))
	out = ok(t, "fill", "--from", games, "--loader", "bellows", "--to", target, "--as", "fat32", "--move-sources", kept)
	assert.Contains(t, out, "8 files of 8 titles")
	left, err := os.ReadDir(games)
	require.NoError(t, err)
	assert.Empty(t, left)
	moved, err := os.ReadDir(filepath.Join(kept, filepath.Base(games)))
	require.NoError(t, err)
	assert.Len(t, moved, len(before))
	for _, e := range moved {
		found, err := filepath.Glob(filepath.Join(target, "Carts", "finch", e.Name()))
		require.NoError(t, err)
		require.Len(t, found, 1)
		judge.Run(t, "cmp", found[0], filepath.Join(kept, filepath.Base(games), e.Name()))
	}
}

// TestAPasswordForScripts: a server that wants one gets it from a file, also when a run is resumed; without one it is
// asked for, and a wrong one is reported to be wrong.
func TestAPasswordForScripts(t *testing.T) {
	games := cartridges(t, 12<<20)
	s := judge.SMB(t, t.TempDir())
	at := fmt.Sprintf("smb://%s@127.0.0.1:%d/games", s.User, s.Port)
	dir := t.TempDir()
	right, wrong, none := filepath.Join(dir, "right"), filepath.Join(dir, "wrong"), filepath.Join(dir, "none")
	require.NoError(t, os.WriteFile(right, []byte(s.Password+"\r\nno more\n"), 0o600))
	require.NoError(t, os.WriteFile(wrong, []byte("not "+s.Password+"\n"), 0o600))
	require.NoError(t, os.WriteFile(none, []byte("\n"), 0o600))
	for args, says := range map[string]string{"": "127.0.0.1 needs the password of " + s.User,
		wrong: "the user name or the password is wrong", none: "is empty; it must be the password",
		filepath.Join(dir, "gone"): "the password cannot be read"} {
		status, _, stderr := polytome(t, "connections", "test", at, "--password-file", args)
		assert.Equal(t, statusFailed, status, args)
		assert.Contains(t, stderr, says)
		assert.NotContains(t, stderr, s.Password)
	}
	assert.Contains(t, ok(t, "connections", "test", at, "--password-file", right), "logs in "+s.User)
	for _, flag := range [][]string{{"--password-file", "-"}, {"--password-stdin"}} {
		piped := exec.Command(binary, append([]string{"connections", "test", at}, flag...)...)
		piped.Stdin = strings.NewReader(s.Password + "\n")
		status, _, stderr := finish(t, piped)
		assert.Equal(t, statusDone, status, stderr)
	}
	t.Setenv("FERRY_PASSWORD", s.Password)
	assert.Contains(t, ok(t, "connections", "test", at, "--password-env", "FERRY_PASSWORD"), "logs in "+s.User)
	status, _, stderr := polytome(t, "connections", "test", at, "--password-env", "FERRY_PASSWROD")
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "there is no environment variable FERRY_PASSWROD")
	status, _, _ = polytome(t, "connections", "test", at, "--password-env", "A", "--password-stdin")
	assert.Equal(t, statusUsage, status)

	env := append(os.Environ(), "XDG_STATE_HOME="+t.TempDir())
	fill := exec.Command(binary, "fill", "--from", games, "--loader", "oxbow", "--to", at, "--limit", "8MiB",
		"--password-file", right)
	fill.Env = env
	require.NoError(t, fill.Start())
	require.Eventually(t, func() bool { // the first is there
		some := false
		_ = filepath.Walk(s.Dir, func(p string, _ os.FileInfo, _ error) error {
			some = some || filepath.Ext(p) == ".fin"
			return nil
		})
		return some
	}, time.Minute, 20*time.Millisecond)
	require.NoError(t, fill.Process.Signal(os.Interrupt))
	_ = fill.Wait()
	assert.Equal(t, statusStopped, fill.ProcessState.ExitCode())
	resume := func(more ...string) (int, string, string) {
		c := exec.Command(binary, append([]string{"runs", "resume"}, more...)...)
		c.Env = env
		return finish(t, c)
	}
	status, _, stderr = resume()
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "needs the password of "+s.User)
	status, out, stderr := resume("--password-file", right)
	assert.Equal(t, statusDone, status, out+stderr)
	sameGames(t, games, s.Dir)
}
