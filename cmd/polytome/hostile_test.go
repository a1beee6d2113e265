package main

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
)

// TestAProfileOfAStranger cannot lead out of the target, nor have the program fail, nor steer the terminal.
func TestAProfileOfAStranger(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "mine.toml")
	coretest.Write(t, dir, "games/Mosswick.w8", demo.Cartridge("WREN", "Mosswick"))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "stick"), 0o755))
	check := func(text string) string {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		_, out, errs := polytome(t, "loaders", "check", file)
		return out + errs
	}
	assert.Contains(t, check(coretest.WharfHouse("GAMES/{title}{ext}", `"Wharf"`, "")), "is OK")
	for path, say := range map[string]string{
		"{if region}x{else}/{end}etc/{title}":        "must be relative",
		"{if title}..{end}/{title}":                  "leads out of the target",
		"{title}/":                                   "there must be a name between slashes",
		"GAMES//{title}":                             "there must be a name between slashes",
		"GAMES/{if region}{else}.{end}/{title}{ext}": "there must be a name between slashes",
	} {
		assert.Contains(t, check(coretest.WharfHouse(path, `"Wharf"`, "")), say, path)
		for _, command := range [][]string{{"fit"}, {"plan"}, {"fill"}} { // whatever is said, it ends
			status, _, errs := polytome(t, append(command, "--from", filepath.Join(dir, "games"), "--loader", file,
				"--to", filepath.Join(dir, "stick"), "--as", "fat32")...)
			assert.NotZero(t, status, path)
			assert.NotContains(t, errs, "goroutine", path)
		}
	}
	assert.Contains(t, check(strings.Replace(coretest.WharfHouse("{title}{ext}", `"Wharf"`, ""),
		"via = \"usb\"\nfilesystems = [\"fat32\"]", "via = \"ftp\"\nfilesystems = [\"own\"]\nroot = \"../../..\"", 1)),
		"is not a folder on a server")
	for _, text := range []string{`"Wharf \u001b]0;owned\u0007"`, `"Wharf \u202e"`} {
		out := check(coretest.WharfHouse("GAMES/{title}{ext}", text, ""))
		assert.Contains(t, out, "the text has the control character", text)
		assert.NotContains(t, out, "\x1b")
		assert.NotContains(t, out, "\u202e")
	}
	require.NoError(t, os.WriteFile(file, []byte("format = 1\nname = \"x\x1b[31m\"\n"), 0o644))
	for _, args := range [][]string{{"check", file}, {"show", file}} {
		_, out, errs := polytome(t, append([]string{"loaders"}, args...)...)
		assert.NotContains(t, out+errs, "\x1b")
	}
	require.NoError(t, os.WriteFile(file, []byte(strings.Repeat("# much\n", 1<<20)), 0o644))
	_, out, errs := polytome(t, "loaders", "check", file)
	assert.Contains(t, out+errs, "too much for such a file")
}

// TestWhatIsNoPlainFile is not waited for.
func TestWhatIsNoPlainFile(t *testing.T) {
	dir := t.TempDir()
	pipe := filepath.Join(dir, "pipe.toml")
	require.NoError(t, syscall.Mkfifo(pipe, 0o644))
	config := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(config, "polytome", "profiles"), 0o755))
	require.NoError(t, syscall.Mkfifo(filepath.Join(config, "polytome", "profiles", "pipe.toml"), 0o644))
	for _, args := range [][]string{{"fit", "--bench", pipe}, {"fit", "--bench", "/dev/zero"},
		{"loaders", "check", pipe}, {"loaders", "show", "/dev/zero"}, {"loaders"}} {
		cmd := exec.Command(binary, args...)
		cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+config)
		ended := make(chan string, 1)
		go func() { _, out, errs := finish(t, cmd); ended <- out + errs }()
		select {
		case out := <-ended:
			if len(args) > 1 {
				assert.Contains(t, out, "not a regular file", "%q", args)
			}
		case <-time.After(time.Minute):
			_ = cmd.Process.Kill()
			t.Fatalf("%q waits", args)
		}
	}
}

// TestAListOfKeptFilesOfAStranger.
func TestAListOfKeptFilesOfAStranger(t *testing.T) {
	dir, stick := t.TempDir(), t.TempDir()
	coretest.Write(t, dir, "files/a.txt", []byte("a"))
	for line, say := range map[string]string{
		`{"path":"a.txt","size":-5,"sum":""}`:                          "has the impossible length",
		`{"path":"a.txt","size":98956046499840000,"sum":""}`:           "has the impossible length",
		`{"path":"../a.txt","size":1,"sum":""}`:                        "is not a path inside the target",
		`{"path":"a\u001b[31m.txt","size":1,"sum":""}`:                 "has forbidden characters",
		`{"path":"` + strings.Repeat("x/", 1<<20) + `a.txt","size":1}`: "",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "kept.jsonl"), []byte(line+"\n"+line+"\n"), 0o644))
		status, out, errs := polytome(t, "restore", dir, "--to", stick, "--dry-run")
		assert.Contains(t, out+errs, say)
		assert.NotContains(t, out+errs, "token too long")
		assert.NotContains(t, out+errs, "\x1b")
		if say != "" {
			assert.Equal(t, 1, status)
		}
	}
	require.NoError(t, os.Remove(filepath.Join(dir, "files/a.txt")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "files/a.txt"), 0o644))
	line := `{"path":"a.txt","size":1,"sum":""}`
	require.NoError(t, os.WriteFile(filepath.Join(dir, "kept.jsonl"), []byte(line+"\n"+line+"\n"), 0o644))
	_, out, errs := polytome(t, "restore", dir, "--to", stick, "--dry-run")
	assert.Equal(t, 1, strings.Count(out+errs, "not a regular file"), "what is named twice is there once:\n%s%s", out,
		errs)
}

// TestWhatIsKeptAboutAPersonIsTheirsAlone.
func TestWhatIsKeptAboutAPersonIsTheirsAlone(t *testing.T) {
	dir := t.TempDir()
	coretest.Write(t, dir, "games/Mosswick.iso", coretest.Image(t, coretest.Inf("VSP-20001", "Mosswick", "1/1",
		"full")))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "stick"), 0o755))
	cmd := exec.Command("sh", "-c", `umask 022; exec "$@"`, "sh", binary, "fill", "--from", filepath.Join(dir, "games"),
		"--loader", "rowan", "--to", filepath.Join(dir, "stick"), "--as", "fat32")
	cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+filepath.Join(dir, "state"), "XDG_CACHE_HOME="+filepath.Join(dir,
		"cache"))
	_, out, errs := finish(t, cmd)
	n := 0
	for _, top := range []string{"state", "cache"} {
		require.NoError(t, filepath.Walk(filepath.Join(dir, top, "polytome"), func(name string, info os.FileInfo,
			err error) error {
			require.NoError(t, err)
			n++
			assert.Zero(t, info.Mode().Perm()&0o077, "%s is %v", name, info.Mode())
			return nil
		}), out+errs)
	}
	assert.Greater(t, n, 3)
}

// TestADemoThatWasKilledIsClearedByTheNext.
func TestADemoThatWasKilledIsClearedByTheNext(t *testing.T) {
	temp := t.TempDir()
	start := func() *exec.Cmd {
		cmd := exec.Command(binary, "demo", "--run")
		cmd.Env = append(os.Environ(), "TMPDIR="+temp)
		require.NoError(t, cmd.Start())
		return cmd
	}
	worlds := func() int {
		all, err := filepath.Glob(filepath.Join(temp, worldPrefix+"*"))
		require.NoError(t, err)
		return len(all) / 2 // each with its lock
	}
	cmd := start()
	require.Eventually(t, func() bool { // it is in use
		in, err := filepath.Glob(filepath.Join(temp, worldPrefix+"*", "*"))
		return err == nil && len(in) > 0 && worlds() == 1
	}, time.Minute, time.Millisecond)
	clearWorlds(temp)
	assert.Equal(t, 1, worlds(), "one that goes on stays")
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	clearWorlds(temp)
	assert.Zero(t, worlds())
}

// TestDemosThatBeginTogetherKeepTheirWorlds has many take a folder at the same time, each of which clears what others
// have left.
func TestDemosThatBeginTogetherKeepTheirWorlds(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	var all sync.WaitGroup
	for range 40 {
		all.Go(func() {
			for range 20 {
				dir, remove, err := temporaryWorld()
				if !assert.NoError(t, err) {
					return
				}
				assert.NoError(t, os.WriteFile(filepath.Join(dir, "in use"), nil, 0o600))
				runtime.Gosched()
				assert.FileExists(t, filepath.Join(dir, "in use"))
				assert.NoError(t, remove())
			}
		})
	}
	all.Wait()
}

// TestCtrlCWhileASilentServerIsWaitedFor ends the program at once, and says so.
func TestCtrlCWhileASilentServerIsWaitedFor(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	reached := make(chan net.Conn, 20)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			reached <- c
		}
	}()
	dir := t.TempDir()
	coretest.Write(t, dir, "a.iso", coretest.Image(t, coretest.Inf("VSP-20001", "Mosswick", "1/1", "full")))
	port := l.Addr().(*net.TCPAddr).Port
	for _, args := range [][]string{
		{"fill", "--from", dir, "--loader", "gantry", "--to", fmt.Sprintf("ftp://127.0.0.1:%d/hd1", port)},
		{"fill", "--from", dir, "--loader", "rowan", "--to", fmt.Sprintf("smb://127.0.0.1:%d/games", port)},
		{"check", fmt.Sprintf("ftp://127.0.0.1:%d/hd1", port), "--loader", "gantry"},
		{"connections", "test", fmt.Sprintf("smb://127.0.0.1:%d/games", port)},
	} {
		cmd := exec.Command(binary, args...)
		var errs strings.Builder
		cmd.Stderr = &errs
		require.NoError(t, cmd.Start())
		<-reached
		require.NoError(t, cmd.Process.Signal(os.Interrupt))
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		select {
		case <-ended:
		case <-time.After(time.Minute):
			// it would be half a minute where nothing was cancelled, on a machine with nothing else to do
			_ = cmd.Process.Kill()
			t.Fatalf("%q waits on", args)
		}
		assert.Equal(t, 130, cmd.ProcessState.ExitCode(), "%q: %s", args, errs.String())
		assert.Contains(t, errs.String(), "stopped", "%q", args)
		assert.NotContains(t, errs.String(), "context canceled")
		assert.NotContains(t, errs.String(), "use of closed")
	}
}
