package main

import (
	"bufio"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/exfat"
	"polytome/internal/format/volume"
	"polytome/internal/nbd"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/volumetest"
)

// server is a running serve; said is what it has printed so far.
type server struct {
	at   string
	cmd  *exec.Cmd
	mu   sync.Mutex
	text strings.Builder
	done chan struct{}
}

func (s *server) said() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

func (s *server) saysSoon(t testing.TB, want string) {
	t.Helper()
	assert.Eventually(t, func() bool { return strings.Contains(s.said(), want) }, time.Minute, 10*time.Millisecond,
		want)
}

// end ends it with ctrl+c.
func (s *server) end(t testing.TB) {
	t.Helper()
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGINT))
	<-s.done
	assert.NoError(t, s.cmd.Wait())
}

var servedAt = regexp.MustCompile(`Serving at (\S+);`)

// startServe runs serve on a free port.
func startServe(t testing.TB, config string, args ...string) *server {
	s := &server{cmd: exec.Command(binary, append([]string{"serve", "--listen", "127.0.0.1:0"}, args...)...),
		done: make(chan struct{})}
	s.cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+config, "XDG_STATE_HOME="+config, "XDG_CACHE_HOME="+config)
	s.cmd.Stderr = os.Stderr
	out, err := s.cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, s.cmd.Start())
	t.Cleanup(func() { _ = s.cmd.Process.Kill() })
	found := make(chan string, 1)
	go func() {
		defer close(s.done)
		lines := bufio.NewScanner(out)
		for lines.Scan() {
			s.mu.Lock()
			s.text.WriteString(lines.Text() + "\n")
			s.mu.Unlock()
			if m := servedAt.FindStringSubmatch(lines.Text()); m != nil {
				found <- m[1]
			}
		}
	}()
	select {
	case s.at = <-found:
	case <-time.After(time.Minute):
		t.Fatalf("it does not serve: %s", s.said())
	}
	return s
}

// lies are where the files of an exFAT volume in an image lie, and what they have.
func lies(t *testing.T, img string) (where map[string][]volume.Run, what map[string][]byte) {
	m := volumetest.OpenFile(t, img)
	v, err := exfat.Open(m, m.Size())
	require.NoError(t, err)
	all, err := v.Files(t.Context())
	require.NoError(t, err)
	where, what = map[string][]volume.Run{}, map[string][]byte{}
	for _, p := range all {
		if !p.Folder {
			where[p.Path] = p.Runs
			assert.LessOrEqual(t, len(p.Runs), 1, "%s is contiguous", p.Path)
			what[p.Path], err = fs.ReadFile(v.FS(), p.Path)
			require.NoError(t, err)
		}
	}
	return where, what
}

// TestGamesAreServed: a foreign client copies the whole volume, a foreign check finds it sound, and each game is what
// it is here; when games come, the others stay where they are.
func TestGamesAreServed(t *testing.T) {
	games, config := collection(t, 20, 30, 2), t.TempDir()
	args := []string{"--from", games, "--loader", "rowan", "--size", "300MiB"}
	s := startServe(t, config, args...)
	assert.Contains(t, s.said(), "Rowan: 3 titles on a volume with exFAT of 300.00 MiB")
	img := filepath.Join(t.TempDir(), "volume.img")
	judge.Run(t, "nbdcopy", s.at, img)
	judge.Run(t, "fsck.exfat", "-n", img)
	before, what := lies(t, img)
	for i := range 3 {
		want, err := os.ReadFile(filepath.Join(games, string(rune('0'+i))+".iso"))
		require.NoError(t, err)
		name := "SHORT/VSP-0000" + string(rune('0'+i)) + " - Title " + string(rune('0'+i)) + ".iso"
		assert.True(t, string(want) == string(what[name]), name)
	}
	assert.Len(t, what, 3, "lists and covers lie apart")
	s.saysSoon(t, "127.0.0.1 is connected.")
	s.saysSoon(t, "127.0.0.1 reads SHORT/VSP-00002 - Title 2.iso.")
	s.saysSoon(t, "127.0.0.1 has left after")

	s.end(t)

	// one whose file is away gives an error for that one alone, and heals
	s = startServe(t, config, args...)
	c, err := nbd.Open(t.Context(), s.at, nbd.Options{})
	require.NoError(t, err)
	m := volumetest.OpenFile(t, img)
	v, err := exfat.Open(m, m.Size())
	require.NoError(t, err)
	read := func(name string) error {
		runs, err := v.Extents(name)
		require.NoError(t, err)
		info := v.Info()
		_, err = c.ReadAt(make([]byte, 4096), info.Heap+int64(runs[0].First-2)*info.Cluster)
		return err
	}
	first, away := filepath.Join(games, "0.iso"), filepath.Join(games, "away")
	require.NoError(t, os.Rename(first, away))
	assert.ErrorIs(t, read("SHORT/VSP-00000 - Title 0.iso"), nbd.EIO)
	assert.NoError(t, read("SHORT/VSP-00001 - Title 1.iso"))
	s.saysSoon(t, "SHORT/VSP-00000 - Title 0.iso cannot be read at byte 0")
	require.NoError(t, os.Rename(away, first))
	assert.NoError(t, read("SHORT/VSP-00000 - Title 0.iso"))
	s.saysSoon(t, "SHORT/VSP-00000 - Title 0.iso can be read again.")
	require.NoError(t, c.Close())
	s.end(t)

	coretest.Write(t, games, "new.iso", coretest.Image(t, coretest.Inf("VSP-00777", "A New One", "1/1", "full")))
	s = startServe(t, config, args...)
	s.saysSoon(t, "4 titles on a volume")
	img = filepath.Join(t.TempDir(), "again.img")
	judge.Run(t, "nbdcopy", s.at, img)
	judge.Run(t, "fsck.exfat", "-n", img)
	after, _ := lies(t, img)
	assert.Contains(t, after, "FULL/VSP-00777 - A New One.iso")
	for name, runs := range before {
		assert.Equal(t, runs, after[name], name)
	}
	s.end(t)
}

func TestOnlyThoseThatMayComeAreServed(t *testing.T) {
	games, config := collection(t, 2), t.TempDir()
	s := startServe(t, config, "--from", games, "--loader", "rowan", "--client", "192.168.77.0/24")
	_, err := nbd.Open(t.Context(), s.at, nbd.Options{})
	assert.Error(t, err)
	s.saysSoon(t, "127.0.0.1 was turned away: it is not among those that may come.")
	s.end(t)
	s = startServe(t, config, "--from", games, "--loader", "rowan", "--client", "127.0.0.1", "--client", "192.168.77.0/24")
	c, err := nbd.Open(t.Context(), s.at, nbd.Options{})
	require.NoError(t, err)
	assert.True(t, c.ReadOnly())
	_, err = c.WriteAt([]byte("x"), 0)
	assert.ErrorIs(t, err, nbd.ErrReadOnly)
	require.NoError(t, c.Close())
	s.end(t)

	for _, args := range [][]string{{"serve"}, {"serve", "--from", games, "--loader", "bellows"},
		{"serve", "--from", games,
			"--loader", "rowan", "--client", "nobody"}, {"serve", "--from", games, "--loader", "rowan", "--size",
			"huge"}} {
		status, _, _ := polytome(t, args...)
		assert.Equal(t, statusUsage, status, args)
	}
	out := ok(t, "serve", "--from", games, "--loader", "rowan", "--dry-run")
	assert.Contains(t, out, "1 title on a volume with exFAT of 20.00 TiB")
	assert.NotContains(t, out, "Serving")
}

// BenchmarkServeAgainstNbdkit has nbdcopy read a game of 1 GiB from what is served, and the same file from nbdkit, in
// turns: it prints the ratio of the speeds.
func BenchmarkServeAgainstNbdkit(b *testing.B) {
	games := b.TempDir()
	image := coretest.Image(b, coretest.Inf("VSP-00001", "Title", "1/1", "short"))
	data := make([]byte, 1<<30)
	_, _ = rand.NewChaCha8([32]byte{1}).Read(data)
	file := filepath.Join(games, "1.iso")
	require.NoError(b, os.WriteFile(file, append(image, data...), 0o600))
	s := startServe(b, b.TempDir(), "--from", games, "--loader", "rowan", "--size", "1100MiB")
	port := judge.Port(b)
	kit := exec.Command("nbdkit", "-f", "--ipaddr=127.0.0.1", fmt.Sprintf("--port=%d", port), "-r", "file", file)
	require.NoError(b, kit.Start())
	b.Cleanup(func() { _ = kit.Process.Kill(); _ = kit.Wait() })
	theirs := fmt.Sprintf("nbd://127.0.0.1:%d/", port)
	require.Eventually(b, func() bool { return exec.Command("nbdinfo", theirs).Run() == nil }, time.Minute,
		10*time.Millisecond)
	var our, their time.Duration
	for b.Loop() {
		begun := time.Now()
		require.NoError(b, exec.Command("nbdcopy", s.at, "null:").Run())
		our += time.Since(begun)
		begun = time.Now()
		require.NoError(b, exec.Command("nbdcopy", theirs, "null:").Run())
		their += time.Since(begun)
	}
	b.ReportMetric(float64(their)/float64(our), "x-nbdkit")
	s.end(b)
}
