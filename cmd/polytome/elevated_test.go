package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// TestADriveThatOnlyAnAdministratorMayOpen is prepared, filled and checked by somebody else, whom the system asks for
// the rights. A program in place of the system's own hands what is to be run over to this test, which runs it as root.
func TestADriveThatOnlyAnAdministratorMayOpen(t *testing.T) {
	if !judge.AsRoot(t) {
		return
	}
	dir := t.TempDir()
	for at := dir; at != os.TempDir(); at = filepath.Dir(at) {
		require.NoError(t, os.Chmod(at, 0o777))
	}
	img, exe := filepath.Join(dir, "stick.img"), filepath.Join(dir, "polytome")
	require.NoError(t, os.WriteFile(img, make([]byte, 64<<20), 0o600))
	dev := judge.Loop(t, img)
	require.NoError(t, os.Chmod(dev, 0o660))
	program, err := os.ReadFile(binary)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(exe, program, 0o755))
	games, home := filepath.Join(dir, "games"), filepath.Join(dir, "home")
	require.NoError(t, os.Mkdir(home, 0o777))
	require.NoError(t, os.Chmod(home, 0o777))
	coretest.Write(t, games, "a.iso", coretest.Image(t, coretest.Inf("VSP-21002", "Saffron Circuit", "1/1", "full")))

	asked, ended := filepath.Join(dir, "asked"), filepath.Join(dir, "ended")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "bin"), 0o755))
	ask := fmt.Sprintf("#!/bin/sh\nprintf '%%s\\n' \"$*\" > %s\nread status < %s\nexit $status\n", asked, ended)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bin", "pkexec"), []byte(ask), 0o755))
	for _, fifo := range []string{asked, ended} {
		judge.Run(t, "mkfifo", "-m", "666", fifo)
	}
	env := []string{"DISPLAY=:1", "PATH=" + filepath.Join(dir, "bin") + ":" + os.Getenv("PATH"), "HOME=" + home,
		"TMPDIR=" + home, "XDG_CACHE_HOME=" + home, "XDG_DATA_HOME=" + home, "XDG_STATE_HOME=" + home,
		"XDG_CONFIG_HOME=" + home}
	nobody := []string{"--reuid=65534", "--regid=65534", "--clear-groups", exe}
	// system stands for the system until nobody is asked any longer. allow is whether the user gives the rights.
	system := func(allow bool) (end func()) {
		over := make(chan struct{})
		go func() {
			defer close(over)
			words, err := os.ReadFile(asked)
			if err != nil || len(words) == 0 {
				return
			}
			status := "127"
			if fields := strings.Fields(string(words)); allow &&
				assert.Equal(t, "--disable-internal-agent", fields[0]) {
				status = "0"
				helper := exec.Command(fields[1], fields[2:]...)
				helper.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir}
				if said, err := helper.CombinedOutput(); err != nil {
					t.Errorf("the helper: %v\n%s", err, said)
				}
			}
			_ = os.WriteFile(ended, []byte(status+"\n"), 0)
		}()
		return func() {
			for {
				select {
				case <-over:
					return
				case <-time.After(10 * time.Millisecond): // it waits for somebody who asks still
					if f, err := os.OpenFile(asked, os.O_WRONLY|syscall.O_NONBLOCK, 0); err == nil {
						_ = f.Close()
					}
				}
			}
		}
	}
	// as runs the program as nobody.
	as := func(allow bool, args ...string) (out string, err error) {
		cmd := exec.Command("setpriv", append(nobody[:len(nobody):len(nobody)], args...)...)
		cmd.Env, cmd.Dir = append(os.Environ(), env...), dir
		end := system(allow)
		b, err := cmd.CombinedOutput()
		end()
		return string(b), err
	}
	name := filepath.Base(img)
	out, err := as(false, "drives", "prepare", dev, "--loader", "rowan", "--erase", name)
	require.Error(t, err, out)
	assert.Contains(t, out, "Polytome asks for the rights of an administrator, to open "+name)
	assert.Contains(
		t,
		out,
		"only an administrator may open it, and that was not given; Polytome with sudo may open it, too",
	)

	out, err = as(true, "drives", "prepare", dev, "--loader", "rowan", "--erase", "another")
	require.Error(t, err, out)
	assert.Contains(t, out, "that is not its name")
	out, err = as(true, "drives", "prepare", dev, "--loader", "rowan", "--erase", name)
	require.NoError(t, err, out)
	assert.Contains(t, out, "is ready")
	out, _ = as(true, "fill", "--from", games, "--loader", "rowan", "--to", "drive:"+dev)
	assert.Contains(t, out, "2 files copied, read back")
	out, err = as(true, "drives", "check", dev)
	require.NoError(t, err, out)
	out, err = as(false, "drives")
	require.NoError(t, err, out)
	assert.Contains(t, out, "Only an administrator may read it: you are asked for that when it is used.")
	assert.NotContains(t, out, "Polytome asks for", "nobody is asked for a glance")

	part := filepath.Join(t.TempDir(), "part.img")
	judge.Root(t, "dd", "if="+img, "of="+part, "bs=4M", "skip=1", "status=none")
	judge.Run(t, "fsck.fat", "-n", part)
	assert.Contains(t, judge.Run(t, "mdir", "-/", "-b", "-i", part, "::/"), "VSP-21002")

	bench := filepath.Join(home, "b.toml")
	require.NoError(t, os.Mkdir(filepath.Join(home, "stick"), 0o777))
	require.NoError(t, os.WriteFile(bench, []byte("format = 1\nname = 'b'\n\n[[source]]\npath = '"+games+
		"'\n\n[[target]]\nname = 'north'\nat = 'stick'\nloader = 'rowan'\nas = 'fat32'\n"), 0o666))
	require.NoError(t, os.Chmod(bench, 0o666))
	end := system(true)
	term := open(t, 120, 36, "cd "+home+" && env "+strings.Join(env, " ")+" setpriv "+strings.Join(nobody, " ")+
		" --bench b.toml")
	term.wait("Games 1")
	term.keys("D")
	for range 20 { // other tests have drives, too
		if s := term.wait("path  "); strings.Contains(s, dev) {
			break
		}
		term.keys("Right")
	}
	term.wait(dev, "asks first", "not read yet", "c asks for that now", "c check")
	term.keys("c")
	term.wait("can be read now", "1 title for Rowan")
	term.keys("c")
	term.wait("The volume is OK")
	term.keys("Escape", "q")
	term.wait("ready>")
	end()
}
