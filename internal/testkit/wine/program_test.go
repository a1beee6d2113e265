//go:build wine

// Package wine has the Windows program work under Wine; see scripts/test-windows, which makes what these tests need.
package wine

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
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

// done is the exit status of the program for what went well, and partial that for a stick on which the loader itself is
// missing.
const done, partial = 0, 3

// program runs the Windows program in a folder.
func program(t testing.TB, dir string, args ...string) (status int, out string) {
	t.Helper()
	cmd := exec.Command("wine", append([]string{os.Getenv("POLYTOME_EXE")}, args...)...)
	cmd.Dir = dir
	var both bytes.Buffer
	cmd.Stdout, cmd.Stderr = &both, &both
	err := cmd.Run()
	if _, ended := err.(*exec.ExitError); !ended { //nolint:errorlint // it is one or none
		require.NoError(t, err)
	}
	t.Logf("polytome %s: %d\n%s", strings.Join(args, " "), cmd.ProcessState.ExitCode(), &both)
	return cmd.ProcessState.ExitCode(), both.String()
}

// letter has a folder, or with two colons a device, be a drive of Windows until the test ends.
func letter(t testing.TB, name, at string) {
	t.Helper()
	link := filepath.Join(os.Getenv("WINEPREFIX"), "dosdevices", name)
	require.NoError(t, os.Symlink(at, link))
	t.Cleanup(func() { _ = os.Remove(link) })
}

// windows is a path of this system as Windows has it.
func windows(path string) string { return `Z:` + strings.ReplaceAll(path, "/", `\`) }

// games makes some, each with so many bytes behind its image.
func games(t testing.TB, more int) string {
	dir := t.TempDir()
	chance := rand.NewChaCha8([32]byte{1})
	for n, name := range []string{"Paper Falcons", "Copper Tide", "Saffron Circuit", "Étude in Gold", "月の舟"} {
		b := make([]byte, more)
		_, _ = chance.Read(b)
		id := fmt.Sprintf("VSP-2050%d", n)
		coretest.Write(t, dir, name+".iso", append(coretest.Image(t, coretest.Inf(id, name, "1/1", "full")), b...))
	}
	return dir
}

// tree is what is below a folder: the files by their paths, without what Polytome keeps there for itself.
func tree(t testing.TB, dir string) map[string]string {
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		b, err := os.ReadFile(path)
		name, _ := filepath.Rel(dir, path)
		if !strings.HasPrefix(filepath.Base(path), ".") {
			out[name] = string(b)
		}
		return err
	}))
	return out
}

// as is what the Polytome of this system makes of the same games.
func as(t testing.TB, from string) map[string]string {
	to := t.TempDir()
	out, err := exec.Command(os.Getenv("POLYTOME_HERE"), "fill", "--from", from, "--loader", "rowan", "--to", to,
		"--as", "fat32", "--capacity", "2GiB").
		CombinedOutput()
	require.ErrorContains(t, err, "exit status 3", "%s", out)
	return tree(t, to)
}

// same compares two trees, without printing what is in them.
func same(t testing.TB, want, got map[string]string) {
	t.Helper()
	for name, b := range want {
		assert.True(t, got[name] == b, "%s is not as it is elsewhere", name)
	}
	for name := range got {
		assert.Contains(t, want, name)
	}
}

// TestAScanIsTheSame, and so it is where a path is longer than Windows' old limit.
func TestAScanIsTheSame(t *testing.T) {
	from := games(t, 0)
	deep := strings.Repeat("a folder with a name that is rather long/", 8)
	coretest.Write(
		t,
		from,
		deep+"Deep Water.iso",
		coretest.Image(t, coretest.Inf("VSP-20509", "Deep Water", "1/1", "full")),
	)
	status, out := program(t, "/", "scan", windows(from), "--json")
	require.Equal(t, done, status)
	here, err := exec.Command(os.Getenv("POLYTOME_HERE"), "scan", from, "--json").Output()
	require.NoError(t, err)
	type title struct {
		ID   string `json:"id"`
		Name string `json:"name"`
		Size int64  `json:"size"`
	}
	type scan struct{ Titles []title }
	var a, b scan
	require.NoError(t, json.Unmarshal([]byte(out), &a))
	require.NoError(t, json.Unmarshal(here, &b))
	assert.Len(t, a.Titles, 6)
	assert.ElementsMatch(t, b.Titles, a.Titles)
}

// TestAFolderAtALetterIsFilled, checked, and changed; then the same stick has another letter.
func TestAFolderAtALetterIsFilled(t *testing.T) {
	from, stick := games(t, 100_000), t.TempDir()
	letter(t, "e:", stick)
	fill := []string{"fill", "--from", windows(from), "--loader", "rowan", "--to", `E:\`, "--as", "fat32", "--capacity",
		"2GiB"}
	status, out := program(t, "/", fill...)
	assert.Equal(t, partial, status)
	assert.Contains(t, out, "10 files copied, read back")
	same(t, as(t, from), tree(t, stick))

	require.NoError(t, os.Remove(filepath.Join(from, "Copper Tide.iso")))
	status, _ = program(t, "/", append(fill, "--delete-others", "--remove")...)
	assert.Equal(t, partial, status, "what is not wanted any longer is removed")
	same(t, as(t, from), tree(t, stick))

	status, out = program(t, "/", "check", `E:\`, "--loader", "rowan", "--as", "fat32", "--capacity",
		"2GiB")
	assert.Equal(t, partial, status)
	assert.Contains(t, out, "ROWAN/rowan.run: missing")
	assert.NotContains(t, out, "VSP-", "of the titles, nothing is wrong")
}

// TestABenchFindsItsStickAtAnotherLetter.
func TestABenchFindsItsStickAtAnotherLetter(t *testing.T) {
	from, stick, other, dir := games(t, 0), t.TempDir(), t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(stick, ".windows-serial"), []byte("1A2B3C4D\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(other, ".windows-serial"), []byte("5A2B3C4D\n"), 0o600))
	bench := fmt.Sprintf("format = 1\nname = \"hall\"\n\n[[source]]\npath = '%s'\n\n[[target]]\nname = \"north\"\n"+
		"at = 'E:\\'\nstick = '1a2b3c4d'\nloader = \"rowan\"\nas = \"fat32\"\ncapacity = \"2GiB\"\neverything = true\n",
		windows(from))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "hall.toml"), []byte(bench), 0o600))
	letter(t, "e:", other) // a stranger at the letter that it had
	letter(t, "f:", stick)
	status, out := program(t, dir, "fill", "--bench", "hall.toml")
	assert.Equal(t, partial, status, out)
	same(t, as(t, from), tree(t, stick))
	assert.Empty(t, tree(t, other), "nothing is written to a stranger")
}

func TestAnImageIsMadeAndFilled(t *testing.T) {
	from, dir := games(t, 100_000), t.TempDir()
	status, _ := program(t, dir, "drives", "prepare", "stick.img", "--size", "128MiB", "--loader", "rowan")
	require.Equal(t, done, status)
	status, _ = program(t, dir, "fill", "--from", windows(from), "--loader", "rowan", "--to", "drive:stick.img")
	assert.Equal(t, partial, status)
	judged(t, filepath.Join(dir, "stick.img"), as(t, from))
	status, out := program(t, dir, "drives", "check", "stick.img")
	assert.Equal(t, done, status, out)
}

// judged has fsck and mtools look at the volume behind the first 4 MiB of an image or device, which holds a tree.
func judged(t testing.TB, img string, want map[string]string) {
	t.Helper()
	part := filepath.Join(t.TempDir(), "part.img")
	judge.Root(t, "dd", "if="+img, "of="+part, "bs=4M", "skip=1", "status=none")
	judge.Run(t, "fsck.fat", "-n", part)
	to := t.TempDir()
	judge.Run(t, "mcopy", "-s", "-n", "-i", part, "::/", to)
	same(t, want, tree(t, to))
}

// TestARawVolumeIsPreparedAndFilled: past Windows' own filesystem, at a device.
func TestARawVolumeIsPreparedAndFilled(t *testing.T) {
	from := games(t, 100_000)
	img := filepath.Join(t.TempDir(), "stick.img")
	require.NoError(t, os.WriteFile(img, make([]byte, 128<<20), 0o600))
	dev := judge.Loop(t, img)
	letter(t, "x::", dev)
	status, out := program(t, "/", "drives", "prepare", `\\.\X:`, "--loader", "rowan", "--erase", "Y:")
	assert.NotEqual(t, done, status)
	assert.Contains(t, out, "that is not its name")
	status, _ = program(t, "/", "drives", "prepare", `\\.\X:`, "--loader", "rowan", "--erase", "X:")
	require.Equal(t, done, status)
	status, _ = program(t, "/", "fill", "--from", windows(from), "--loader", "rowan", "--to", `drive:\\.\X:#1`)
	require.Equal(t, partial, status)
	judged(t, dev, as(t, from))
	status, out = program(t, "/", "drives", "check", `\\.\X:`)
	assert.Equal(t, done, status, out)

	mounted := t.TempDir()
	letter(t, "x:", mounted) // now Windows uses it
	status, out = program(t, "/", "drives", "prepare", `\\.\X:`, "--loader", "rowan", "--erase", "X:")
	assert.NotEqual(t, done, status)
	assert.Contains(t, out, `it is mounted at X:\`)
	judged(t, dev, as(t, from))
}

// TestAKilledFillIsResumed: into a folder, and into a raw volume.
func TestAKilledFillIsResumed(t *testing.T) {
	from := games(t, 30<<20)
	for _, to := range []string{`E:\`, `drive:\\.\X:#1`} {
		t.Run(to, func(t *testing.T) {
			stick := t.TempDir()
			img := filepath.Join(t.TempDir(), "stick.img")
			letter(t, "e:", stick)
			fill := []string{"fill", "--from", windows(from), "--loader", "rowan", "--to", to}
			if to == `E:\` {
				fill = append(fill, "--as", "fat32", "--capacity", "2GiB")
			} else {
				require.NoError(t, os.WriteFile(img, make([]byte, 512<<20), 0o600))
				letter(t, "x::", judge.Loop(t, img))
				status, _ := program(t, "/", "drives", "prepare", `\\.\X:`, "--loader", "rowan", "--erase", "X:")
				require.Equal(t, done, status)
			}
			cmd := exec.Command(
				"wine",
				append(append([]string{os.Getenv("POLYTOME_EXE")}, fill...), "--limit", "10MB")...)
			var said bytes.Buffer
			cmd.Stdout, cmd.Stderr = &said, &said
			cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
			require.NoError(t, cmd.Start())
			under := func() bool { // some of it is there, and not all
				var n int64
				if to == `E:\` {
					for _, b := range tree(t, stick) {
						n += int64(len(b))
					}
				} else {
					b, _ := exec.Command("du", "--block-size=1", img).Output()
					_, _ = fmt.Sscan(string(b), &n)
					b, err := os.ReadFile(img)
					require.NoError(t, err)
					n = int64(len(b) - bytes.Count(b, []byte{0}))
				}
				return n > 20<<20
			}
			require.Eventually(t, under, time.Minute, 200*time.Millisecond)
			require.NoError(t, syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL))
			require.Error(t, cmd.Wait())
			assert.NotContains(t, said.String(), "Rowan will list")

			status, out := program(t, "/", fill...)
			assert.Equal(t, partial, status, out)
			if to == `E:\` {
				assert.Contains(t, out, "are already there\n", "it goes on in the middle of a file")
				same(t, as(t, from), tree(t, stick))
			} else {
				status, out = program(t, "/", "drives", "check", `\\.\X:#1`, "--repair")
				assert.Equal(t, done, status, out)
				judged(t, img, as(t, from))
			}
		})
	}
}

// TestWhatThisSystemCannotDoIsSaid plainly, and where it was tried it changes nothing.
func TestWhatThisSystemCannotDoIsSaid(t *testing.T) {
	status, out := program(t, "/", "drives")
	assert.Equal(t, done, status)
	assert.Contains(t, out, `Polytome does not write to it: Windows runs from it (C:\)`)
	status, out = program(t, "/", "drives", "prepare", `C:\`, "--loader", "rowan", "--erase", `C:\`, "--fixed-disk")
	assert.NotEqual(t, done, status)
	assert.Contains(t, out, "Windows runs from it")
	letter(t, "e:", t.TempDir())
	status, out = program(t, "/", "drives", "eject", `E:\`)
	assert.NotEqual(t, done, status)
	assert.Contains(t, out, "not safe to unplug", "what Windows did not stop is not called safe")
	status, out = program(t, "/", "disc", "ls")
	assert.Equal(t, done, status)
	assert.Contains(t, out, "This computer has no disc drive")
	status, out = program(t, "/", "doctor")
	assert.Equal(t, done, status)
	assert.Contains(t, out, "windows on amd64")
}
