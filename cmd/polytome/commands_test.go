package main

import (
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/demo"
	"polytome/internal/testkit/demoworld"
)

// binary is the program, built once for all tests.
var binary string

func TestMain(m *testing.M) {
	os.Setenv("LC_ALL", "C.UTF-8") // tmux shows no more than ASCII otherwise
	dir, err := os.MkdirTemp("", "polytome-test-")
	if err == nil {
		binary = filepath.Join(dir, "polytome")
		var out []byte
		if out, err = exec.Command("go", "build", "-o", binary, ".").CombinedOutput(); err != nil {
			os.Stderr.Write(out)
		}
	}
	if err != nil {
		os.Stderr.WriteString(err.Error() + "\n")
		os.Exit(1)
	}
	os.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
	os.Setenv("XDG_CACHE_HOME", filepath.Join(dir, "cache")) // the user's own stays as it is
	os.Setenv("XDG_DATA_HOME", filepath.Join(dir, "data"))
	os.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config"))
	_ = os.Chmod(dir, 0o755)
	status := m.Run()
	_ = os.RemoveAll(dir)
	demoworld.Remove()
	os.Exit(status)
}

// polytome runs the program and returns its status and outputs.
func polytome(t testing.TB, args ...string) (status int, stdout, stderr string) {
	cmd := exec.Command(binary, args...)
	return finish(t, cmd)
}

func finish(t testing.TB, cmd *exec.Cmd) (int, string, string) {
	var out, errs strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(t, err)
	}
	return cmd.ProcessState.ExitCode(), out.String(), errs.String()
}

func world(t testing.TB) demo.World {
	w := demoworld.Open(t)
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	b.Targets = b.Targets[:1] // one stick is enough for most
	require.NoError(t, b.Save())
	return w
}

// simulatorList asks the simulated loader what it lists.
func simulatorList(t testing.TB, stick string) []string {
	status, out, stderr := polytome(t, "simulate", "rowan", stick, "--json")
	require.Zero(t, status, stderr)
	var l struct {
		Games []struct {
			ID, Title string
			Starts    bool
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &l))
	var lines []string
	for _, g := range l.Games {
		assert.True(t, g.Starts, g.Title)
		lines = append(lines, g.ID+" "+g.Title)
	}
	return lines
}

// promised is what demo titles the check must promise after a fill.
var promised = []string{
	"VSP-21410 Clockwork Ferry (Disc 1)", "VSP-21411 Clockwork Ferry (Disc 2)", "VSP-20417 Copper Tide",
	"VSP-21533 Gannet Patrol", "VSP-21733 Grebe Lake Rally - Ete",
	"VSP-21640 Lantern Sluice", "VSP-21344 Mistral Halt", "VSP-21377 Mosswick", "VSP-21671 Nine Bells to Marrowby",
	"VSP-20502 Paper Falcons",
	"VSP-20503 Paper Falcons - Second",
	"VSP-21788 Pilot Boat Juniper", "VSP-21602 Quarry & Sons", "VSP-21002 Saffron Circuit",
	"VSP-21690 Salt & Semaphore",
	"VSP-21588 Tin Harbour",
}

func TestTheDemoWithoutAScreen(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "world")
	status, out, stderr := polytome(t, "demo", "--run", "--dir", dir)
	require.Zero(t, status, stderr)
	assert.Contains(t, out, "56 files copied, read back, 41.32 GiB")
	assert.Contains(t, out, "The simulated picture server sent 48")
	assert.Contains(t, out, "Underbough, front: the picture is damaged or cut short")
	assert.Contains(t, out, "Check: Rowan will list 16 titles.")
	assert.Contains(t, out, "The simulator for Rowan lists the same 16 titles, in the same order.")
	_, table, _ := strings.Cut(out, "Four connections at once:")
	assert.Regexp(t, `Hall stick +usb +29 .* read back +20 titles, and the simulator agrees`, table)
	assert.Regexp(t, `Corvane disk +ftp +21 .* sizes compared +17 titles, and the simulator agrees`, table)
	assert.Regexp(t, `Tanager share +smb +\d+ .* read back +\d+ titles, and the simulator agrees`, table)
	assert.Regexp(t, `Vesper disk +nbd +\d+ .* read back +3 titles, and the simulator agrees`, table)
	assert.NotContains(t, table, "Samba is not installed")
	for _, reason := range []string{"Gannet Patrol (clash)", "Underbough (no space)", "Velvet Ballast (bad)",
		"deselect Mistral Halt (1.90 GiB), the smallest that frees enough space", "remove HALL-VIDEO/reel-1.mov"} {
		assert.Contains(t, out, reason)
	}
	assert.Contains(t, out, "The drawings are in "+filepath.Join(dir, "drawings")+": 18 files.")
	assert.Contains(t, paperText(t, filepath.Join(dir, "drawings", "connections.pdf")),
		"console: 192.168.77.2, mask 255.255.255.0")
	assert.Contains(t, paperText(t, filepath.Join(dir, "drawings", "run.pdf")), "5 lanes")
	w := demo.At(dir)
	assert.Equal(t, promised, simulatorList(t, w.Stick))

	status, out, _ = polytome(t, "fill", "--bench", w.Bench)
	assert.Equal(t, statusPartial, status, "some titles still cannot go")
	assert.Contains(t, out, "0 files to write, 0 bytes; 15 already there", "a second run has nothing to do")
	status, out, _ = polytome(t, "check", "--bench", w.Bench)
	assert.Equal(t, statusPartial, status, "a file lies there that the loader skips")
	assert.Contains(t, out, "SHORT/spare.iso: Rowan ignores it")
	require.NoError(t, os.Remove(filepath.Join(w.Stick, "SHORT/spare.iso")))
	assert.FileExists(t, filepath.Join(w.Stick, "FACES", "front", "VSP-21377.jpg"),
		"a cover that was fetched is there in place of the one with a wrong name")
	status, out, _ = polytome(t, "check", "--loader", "rowan", "--to", w.Stick, "--as", "fat32")
	assert.Zero(t, status, out)
}

func TestTheDemoAsJSON(t *testing.T) {
	status, out, stderr := polytome(t, "demo", "--run", "--json")
	require.Zero(t, status, stderr)
	var end struct {
		Simulator   struct{ Games []struct{ ID string } } `json:"simulate"`
		Connections []struct {
			Target string
			Lists  int
			Agrees bool
		}
	}
	for line := range strings.Lines(out) {
		require.NoError(t, json.Unmarshal([]byte(line), &end), line)
	}
	assert.Len(t, end.Simulator.Games, len(promised))
	require.Len(t, end.Connections, 4)
	for _, r := range end.Connections {
		assert.True(t, r.Agrees, r.Target)
		assert.Positive(t, r.Lists, r.Target)
	}
}

func TestExitStatuses(t *testing.T) {
	w := world(t)
	empty, games := t.TempDir(), w.Games
	typo := filepath.Join(t.TempDir(), "mine.toml")
	require.NoError(t, os.WriteFile(typo, []byte("format = 1\nnmae = 'mine'\n"), 0o644))
	badBench := filepath.Join(t.TempDir(), "bench.toml")
	require.NoError(t, os.WriteFile(badBench, []byte("format = 1\n[[taregt]]\n"), 0o644))
	for name, c := range map[string]struct {
		args   []string
		status int
		say    string
	}{
		"help":               {[]string{"--help"}, 0, ""},
		"unknown command":    {[]string{"fil"}, 2, "unknown command"},
		"unknown flag":       {[]string{"fill", "--too", "x"}, 2, "unknown flag --too: did you mean --to?"},
		"nothing given":      {[]string{"fill"}, 2, "--from DIR, --loader NAME, --to TARGET needed"},
		"no target to check": {[]string{"check"}, 2, "no target given"},
		"both ways":          {[]string{"fill", "--bench", w.Bench, "--to", "x"}, 2, "omit --from"},
		"extra word":         {[]string{"fit", "x"}, 2, `unexpected argument "x"`},
		"no folder for scan": {[]string{"scan"}, 2, "needs a folder"},
		"bad size": {[]string{"fit", "--from", games, "--loader", "rowan", "--to", empty, "--capacity",
			"much"}, 2, `"much" is not a size`},
		"unknown loader": {[]string{"fit", "--from", games, "--loader", "rowna", "--to", empty}, 1,
			`did you mean "rowan"?`},
		"profile with a typo": {[]string{"fit", "--from", games, "--loader", typo, "--to", empty}, 1,
			`mine.toml:2:1: unknown key "nmae": did you mean "name"?`},
		"bench with a typo": {[]string{"fit", "--bench", badBench}, 1, `did you mean "target"?`},
		"no such bench": {[]string{"fit", "--bench", "/nowhere.toml"}, 1,
			"there is no bench /nowhere.toml"},
		"unknown target": {[]string{"fit", "--bench", w.Bench, "--target", "Sout stick"}, 2,
			"it has: North stick"},
		"no such target": {[]string{"fit", "--from", games, "--loader", "rowan", "--to", "/nowhere"}, 1,
			"no folder /nowhere"},
		"unknown filesystem": {[]string{"fit", "--from", games, "--loader", "rowan", "--to", empty, "--as",
			"fat23"}, 1, `did you mean "fat32"?`},
		"a share that is not there": {[]string{"fill", "--from", games, "--loader", "rowan", "--to",
			"smb://127.0.0.1:1/share"}, 1, "no SMB server answers on port 1"},
		"no source readable":  {[]string{"scan", "/nowhere"}, 1, "none of the source folders could be read"},
		"one source missing":  {[]string{"scan", games, "/nowhere"}, 3, "not read: /nowhere"},
		"all sources fine":    {[]string{"scan", games}, 0, ""},
		"wrong filesystem":    {[]string{"fit", "--from", games, "--loader", "rowan", "--to", empty}, 3, ""},
		"some cannot go":      {[]string{"fit", "--bench", w.Bench}, 3, ""},
		"unknown simulator":   {[]string{"simulate", "x", empty}, 2, "use one of: bellows, gantry"},
		"foreign demo folder": {[]string{"demo", "--run", "--dir", games}, 1, "holds no demo"},
	} {
		t.Run(name, func(t *testing.T) {
			status, out, stderr := polytome(t, c.args...)
			assert.Equal(t, c.status, status, out+stderr)
			assert.Contains(t, stderr, c.say)
		})
	}
}

func TestEveryCommandHasHelpWithAnExample(t *testing.T) {
	root, _ := rootCommand()
	for _, cmd := range root.Commands() {
		if cmd.Name() == "help" || cmd.Name() == "completion" {
			continue
		}
		assert.Contains(t, cmd.Example, "polytome "+cmd.Name())
		assert.NotEmpty(t, cmd.Long, cmd.Name())
	}
}

func TestADryRunWritesNothing(t *testing.T) {
	w := world(t)
	before := tree(t, w.Dir)
	status, out, _ := polytome(t, "fill", "--bench", w.Bench, "--dry-run")
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "make folder FULL\n")
	assert.Contains(t, out, "copy FULL/VSP-21533 - Gannet Patrol.iso  (3.05 GiB, from ")
	assert.Contains(t, out, "Nothing was written.")
	assert.Equal(t, before, tree(t, w.Dir))
}

// tree lists every file with its size and date.
func tree(t *testing.T, dir string) string {
	out, err := exec.Command("find", dir, "-type", "f", "-printf", "%P %s %T@\n").Output()
	require.NoError(t, err)
	return string(out)
}

func TestJSON(t *testing.T) {
	w := world(t)
	_, out, _ := polytome(t, "scan", w.Games, "--json")
	var scan struct {
		Titles []struct{ ID, Name string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &scan))
	assert.Len(t, scan.Titles, 22)

	_, out, _ = polytome(t, "fit", "--bench", w.Bench, "--json")
	var fits []struct {
		Target string
		Titles []struct{ Key, Verdict, Say string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &fits))
	assert.Len(t, fits[0].Titles, 59)

	_, out, _ = polytome(t, "fill", "--bench", w.Bench, "--json")
	keys := map[string]int{}
	for line := range strings.Lines(out) {
		var m map[string]json.RawMessage
		require.NoError(t, json.Unmarshal([]byte(line), &m), line)
		for k := range m {
			keys[k]++
		}
	}
	assert.Equal(t, 1, keys["plan"])
	assert.Equal(t, 1, keys["run"])
	assert.Equal(t, 1, keys["check"])
	assert.Greater(t, keys["event"], 30)
}

// restricted is a command of a user who is bound by permissions, which root is
// not.
func restricted(args ...string) *exec.Cmd {
	cmd := exec.Command(binary, args...)
	if os.Getuid() == 0 {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
	return cmd
}

// reachable lets everybody into a temporary folder.
func reachable(t *testing.T, dir string) string {
	for d := dir; strings.HasPrefix(d, os.TempDir()+"/"); d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	return dir
}

func TestAFolderThatMayNotBeRead(t *testing.T) {
	w := world(t)
	reachable(t, w.Dir)
	locked := filepath.Join(w.Games, "new")
	require.NoError(t, os.Chmod(locked, 0))
	t.Cleanup(func() { _ = os.Chmod(locked, 0o755) })
	require.NoError(t, os.Chmod(filepath.Join(w.Games, "vesper/Mosswick.iso"), 0))
	status, out, stderr := finish(t, restricted("scan", w.Games))
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, stderr, "games/new: permission denied")
	assert.Contains(t, stderr, "Mosswick.iso: permission denied")
	assert.Contains(t, out, "Copper Tide", "the others are found")

	stick := reachable(t, t.TempDir())
	require.NoError(t, os.Chmod(stick, 0o555))
	status, out, stderr = finish(t, restricted("fill", "--from", w.Games, "--loader", "rowan", "--to", stick, "--as",
		"fat32"))
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, out, "is read-only")
	assert.Contains(t, stderr, "nothing could be written to")
	left, err := os.ReadDir(stick)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestAFolderThatMayNotBeWritten(t *testing.T) {
	w := world(t)
	reachable(t, w.Dir)
	require.NoError(t, os.Chmod(w.Bench, 0o644)) // it is saved for its owner alone
	full := filepath.Join(w.Stick, "FULL")
	require.NoError(t, os.Mkdir(full, 0o555))
	for _, dir := range []string{w.Stick, filepath.Join(w.Stick, "SHORT")} {
		require.NoError(t, os.Chmod(dir, 0o777))
	}
	status, out, stderr := finish(t, restricted("fill", "--bench", w.Bench))
	assert.Equal(t, statusPartial, status, stderr)
	assert.Equal(t, 10, strings.Count(out, "FAILED: FULL/"), "each is reported")
	assert.Contains(t, out, "done: copy SHORT/VSP-21002 - Saffron Circuit.iso", "what can go elsewhere goes")
	assert.Len(t, simulatorList(t, w.Stick), 6)
}

// TestAKilledRunDoesNoDamage kills the program in the middle of a file, and lets a
// second one finish the work.
func TestAKilledRunDoesNoDamage(t *testing.T) {
	for _, signal := range []syscall.Signal{syscall.SIGKILL, syscall.SIGTERM} {
		t.Run(signal.String(), func(t *testing.T) {
			w := world(t)
			args := []string{"fill", "--from", w.Games, "--loader", "rowan", "--to", w.Stick, "--as", "fat32",
				"--capacity", "58GiB"}
			cmd := exec.Command(binary, append(args, "--limit", "2GiB")...)
			require.NoError(t, cmd.Start())
			require.Eventually(t, func() bool { // the second file is under way
				done, _ := filepath.Glob(filepath.Join(w.Stick, "FULL/VSP-*"))
				part, _ := filepath.Glob(filepath.Join(w.Stick, "FULL/*.begun"))
				return len(done) >= 1 && len(part) == 1
			}, 30*time.Second, 20*time.Millisecond)
			require.NoError(t, cmd.Process.Signal(signal))
			err := cmd.Wait()
			require.Error(t, err)
			parts, _ := filepath.Glob(filepath.Join(w.Stick, "FULL/*.begun"))
			assert.LessOrEqual(t, len(parts), 1, "what is half written waits to be resumed")
			waits := false // long enough to be worth it
			for _, p := range parts {
				info, err := os.Stat(p)
				require.NoError(t, err)
				waits = info.Size() > 5<<20
			}
			before := simulatorList(t, w.Stick) // fails when one of them does not start
			assert.NotEmpty(t, before)
			assert.Less(t, len(before), len(promised))

			status, out, stderr := polytome(t, args...)
			assert.Equal(t, statusPartial, status, stderr)
			if waits {
				assert.Contains(t, out, "are already there\n", "it goes on in the middle of the file")
			}
			assert.Contains(t, out, "Rowan will list 16 titles")
			assert.Equal(t, promised, simulatorList(t, w.Stick))
			parts, _ = filepath.Glob(filepath.Join(w.Stick, "FULL/*.begun"))
			assert.Empty(t, parts)
		})
	}
}
