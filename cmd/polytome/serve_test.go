package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"math/rand/v2"
	"net"
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

	"polytome/internal/core/serve"
	"polytome/internal/format/exfat"
	"polytome/internal/format/volume"
	"polytome/internal/nbd"
	"polytome/internal/sim/ftpd"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/versus"
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
	return startBench(t, config, append([]string{"--listen", "127.0.0.1:0"}, args...)...)
}

// startBench runs serve where it listens.
func startBench(t testing.TB, config string, args ...string) *server {
	s := &server{cmd: exec.Command(binary, append([]string{"serve"}, args...)...),
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
	judge.Run(t, "qemu-img", "compare", "-f", "raw", "-F", "raw", s.at, img) // which asks where the holes are
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
	s = startServe(t, config, "--from", games, "--loader", "rowan", "--client", "127.0.0.1", "--client",
		"192.168.77.0/24")
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

// mounted mounts what is served with a foreign client and a foreign filesystem, until let go.
func mounted(t *testing.T, at string) (dir string, letGo func()) {
	t.Helper()
	whole, dir := filepath.Join(t.TempDir(), "whole"), t.TempDir()
	require.NoError(t, os.WriteFile(whole, nil, 0o600))
	fuse := exec.Command("nbdfuse", "-r", whole, at)
	fuse.Stderr = os.Stderr
	require.NoError(t, fuse.Start())
	dev := ""
	letGo = sync.OnceFunc(func() {
		judge.Root(t, "umount", dir)
		// the mount's program lets go of the device a moment later
		assert.Eventually(t, func() bool {
			_, err := judge.Try(t, "pgrep", "-f", "exfat-fuse.* "+dev+" ")
			return err != nil
		},
			time.Minute, 20*time.Millisecond)
		judge.Root(t, "losetup", "-d", dev)
		assert.Eventually(t, func() bool { _, err := judge.Try(t, "umount", whole); return err == nil }, time.Minute,
			20*time.Millisecond)
		_ = fuse.Wait()
	})
	t.Cleanup(func() {
		_ = exec.Command("umount", "-l", dir).Run()
		_ = exec.Command("losetup", "-d", dev).Run()
		_ = exec.Command("umount", "-l", whole).Run()
		_ = fuse.Process.Kill()
	})
	there := func() bool { info, err := os.Stat(whole); return err == nil && info.Size() > 0 }
	require.Eventually(t, there, time.Minute, 10*time.Millisecond)
	dev = strings.TrimSpace(judge.Root(t, "losetup", "-r", "-f", "--show", whole))
	judge.Root(t, "mount.exfat-fuse", "-o", "ro", dev, dir)
	return dir, letGo
}

// TestWhoPlaysIsNotDisturbed: a console that has mounted the volume reads every game whole while others come, go and
// are replaced, and finds the new ones when it mounts again.
func TestWhoPlaysIsNotDisturbed(t *testing.T) {
	judge.AsRoot(t)
	games, config := collection(t, 20, 3, 3), t.TempDir()
	s := startServe(t, config, "--from", games, "--loader", "rowan", "--size", "400MiB", "--look-every", "100ms")
	dir, letGo := mounted(t, s.at)
	one, err := os.Open(filepath.Join(dir, "SHORT", "VSP-00000 - Title 0.iso"))
	require.NoError(t, err)
	defer one.Close()
	want, err := os.ReadFile(filepath.Join(games, "0.iso"))
	require.NoError(t, err)
	gone, err := os.ReadFile(filepath.Join(games, "1.iso"))
	require.NoError(t, err)

	coretest.Write(t, games, "new.iso", append(coretest.Image(t, coretest.Inf("VSP-00777", "A New One", "1/1", "full")),
		make([]byte, 5<<20)...))
	s.saysSoon(t, "4 titles on a volume")
	elsewhere := t.TempDir()
	require.NoError(t, os.Rename(filepath.Join(games, "1.iso"), filepath.Join(elsewhere, "1.iso")))
	require.Eventually(t, func() bool { return strings.Count(s.said(), "3 titles on a volume") == 2 }, time.Minute,
		10*time.Millisecond)
	require.NoError(t, os.Rename(filepath.Join(games, "2.iso"), filepath.Join(games, "moved.iso")))
	s.saysSoon(t, "1 file is now read from somewhere else.")
	for at := 0; at < len(want); at += 64 << 10 {
		b := make([]byte, min(64<<10, len(want)-at))
		_, err := one.ReadAt(b, int64(at))
		require.NoError(t, err)
		require.True(t, string(b) == string(want[at:at+len(b)]), "byte %d", at)
	}
	assert.NotContains(t, s.said(), "cannot be read", "who reads one game never reaches into the next one")
	two, err := os.ReadFile(filepath.Join(dir, "SHORT", "VSP-00002 - Title 2.iso"))
	require.NoError(t, err)
	same, err := os.ReadFile(filepath.Join(games, "moved.iso"))
	require.NoError(t, err)
	assert.True(t, string(same) == string(two))
	require.NoError(t, one.Close())
	letGo()
	s.saysSoon(t, "127.0.0.1 has left")

	require.NoError(t, os.Rename(filepath.Join(elsewhere, "1.iso"), filepath.Join(games, "back.iso")))
	require.Eventually(t, func() bool { return strings.Count(s.said(), "4 titles on a volume") == 2 }, time.Minute,
		10*time.Millisecond)
	dir, letGo = mounted(t, s.at)
	back, err := os.ReadFile(filepath.Join(dir, "SHORT", "VSP-00001 - Title 1.iso"))
	require.NoError(t, err)
	assert.True(t, string(gone) == string(back))
	_, err = os.Stat(filepath.Join(dir, "FULL", "VSP-00777 - A New One.iso"))
	assert.NoError(t, err)
	letGo()
	s.end(t)
}

// TestAFolderThatIsAway: what is in it stays on the volume at its place, gives errors meanwhile, and heals.
func TestAFolderThatIsAway(t *testing.T) {
	games, config := collection(t, 2, 3), t.TempDir()
	args := []string{"--from", games, "--loader", "rowan", "--size", "64MiB", "--look-every", "100ms"}
	s := startServe(t, config, args...)
	away := games + " away"
	require.NoError(t, os.Rename(games, away))
	require.NoError(t, os.Mkdir(games, 0o755)) // as it is where a drive was mounted
	coretest.Write(t, away, "new.iso", coretest.Image(t, coretest.Inf("VSP-00777", "A New One", "1/1", "full")))
	s.saysSoon(t, "2 files stay on the volume: the folder of their games is away.")
	require.NoError(t, os.Remove(games))
	require.NoError(t, os.Rename(away, games))
	s.saysSoon(t, "3 titles on a volume")
	img := filepath.Join(t.TempDir(), "volume.img")
	judge.Run(t, "nbdcopy", s.at, img)
	_, what := lies(t, img)
	assert.Len(t, what, 3)
	s.end(t)
}

// TestListsArePushed: the list waits for a console that is away, goes to its stick when it is there, with the covers,
// and again only when titles came or went.
func TestListsArePushed(t *testing.T) {
	games, config, stick := collection(t, 2, 3), t.TempDir(), t.TempDir()
	cover, err := os.ReadFile(filepath.Join("..", "..", "docs", "screenshots", "games.png"))
	require.NoError(t, err)
	coretest.Write(t, games, "1.png", cover)
	port := judge.Port(t)
	s := startServe(t, config, "--from", games, "--loader", "rowan", "--size", "64MiB", "--look-every", "100ms",
		"--push",
		fmt.Sprintf("ftp://127.0.0.1:%d", port))
	s.saysSoon(t, "The list waits for The console's own stick: ")
	console, err := ftpd.Serve(stick, port, ftpd.Habits{Sizes: true, Machine: true})
	require.NoError(t, err)
	defer console.Close()
	s.saysSoon(t, "Pushed to The console's own stick: rowan-net.lst and 1 cover.")
	list, err := os.ReadFile(filepath.Join(stick, "rowan-net.lst"))
	require.NoError(t, err)
	assert.Equal(t,
		"VSP-00000;short;Title 0;VSP-00000 - Title 0.iso\nVSP-00001;short;Title 1;VSP-00001 - Title 1.iso\n",
		string(list))
	assert.Equal(t, []string{"FACES/front/VSP-00001.jpg", "rowan-net.lst"}, files(t, stick))
	// the console lists both, and plays them
	played := ok(t, "simulate", "vesper", "--play", s.at, "--stick", stick, "--pieces", "20", "--pause", "0s")
	assert.Contains(t, played, "The console lists 2 titles.")
	assert.Regexp(t, `VSP-00001 +Title 1 +\S+ MiB|KiB in 20 reads`, played)
	sent := console.Counted()["STOR"]
	coretest.Write(t, games, "readme.txt", []byte("no game")) // which is none to be listed
	coretest.Write(t, games, "new.iso", coretest.Image(t, coretest.Inf("VSP-00777", "A New One", "1/1", "full")))
	s.saysSoon(t, "Pushed to The console's own stick: rowan-net.lst.")
	assert.Equal(t, sent+1, console.Counted()["STOR"], "the list alone")
	list, err = os.ReadFile(filepath.Join(stick, "rowan-net.lst"))
	require.NoError(t, err)
	assert.Contains(t, string(list), "VSP-00777;full;A New One;")
	s.end(t)
}

// TestAnExportOnABench is laid out, checked, changed and served like any other target, and another one carries its
// list.
func TestAnExportOnABench(t *testing.T) {
	games, dir := collection(t, 2, 3), t.TempDir()
	file := filepath.Join(dir, "season.toml")
	text := "format = 1\nname = 'season'\n[[source]]\npath = '" + games + "'\n" +
		"[[target]]\nname = 'Hall export'\nat = 'serve:./hall'\nloader = 'rowan'\neverything = true\n" +
		"capacity = '1GiB'\ndelete-others = true\nlisten = '127.0.0.1:0'\n" +
		"[[target]]\nname = 'Stick'\nat = 'stick'\nloader = 'rowan'\neverything = false\n" +
		"carries-covers-of = 'Hall export'\n"
	require.NoError(t, os.Mkdir(filepath.Join(dir, "stick"), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	out := ok(t, "fill", "--bench", file)
	assert.Contains(t, out, "Hall export")
	list := filepath.Join(dir, "stick", "rowan-net.lst")
	was, err := os.ReadFile(list)
	require.NoError(t, err)
	assert.Contains(t, string(was), "VSP-00001;short;Title 1;VSP-00001 - Title 1.iso\n")
	assert.Contains(t, ok(t, "fill", "--bench", file), "everything selected is already there")
	require.NoError(t, os.Remove(list))
	status, out, _ := polytome(t, "check", "--bench", file)
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "Rowan waits for its first list: rowan-net.lst is not here")
	require.NoError(t, os.WriteFile(list, []byte("VSP-1;short;Another;x.iso\n"), 0o600))
	_, out, _ = polytome(t, "check", "--bench", file, "--target", "Stick")
	assert.Contains(t, out, "rowan-net.lst is not the list of the 2 titles on Hall export")
	ok(t, "fill", "--bench", file)
	ok(t, "check", "--bench", file)

	s := startBench(t, t.TempDir(), "--bench", file)
	assert.NotContains(t, s.said(), "Pushing", "the list is there")
	img := filepath.Join(t.TempDir(), "volume.img")
	judge.Run(t, "nbdcopy", s.at, img)
	before, what := lies(t, img)
	assert.Len(t, what, 2)
	// who serves it takes over what is chosen
	less := strings.Replace(text, "everything = true", "everything = false\ntitles = ['VSP-00001']", 1)
	require.NoError(t, os.WriteFile(file, []byte(less), 0o600))
	s.saysSoon(t, "1 title on a volume")
	s.saysSoon(t, "Pushed to Stick: rowan-net.lst.")
	img = filepath.Join(t.TempDir(), "again.img")
	judge.Run(t, "nbdcopy", s.at, img)
	after, _ := lies(t, img)
	name := "SHORT/VSP-00001 - Title 1.iso"
	assert.Equal(t, map[string][]volume.Run{name: before[name]}, after)
	s.end(t)
}

// TestPartsAreServed: on FAT32, what is too large for the loader goes in parts, as on a stick.
func TestPartsAreServed(t *testing.T) {
	profile, err := os.ReadFile(filepath.Join("..", "..", "internal", "core", "loader", "profiles", "rowan.toml"))
	require.NoError(t, err)
	dir, games := t.TempDir(), t.TempDir()
	own := strings.Replace(string(profile), "filesystems = [\"exfat\"]\nread-only = true",
		"filesystems = [\"exfat\", \"fat32\"]\nlargest-file = \"4MiB\"\nread-only = true", 1)
	own = strings.Replace(own, "part-size = \"2GiB - 64KiB\"", "part-size = \"2MiB\"", 1)
	coretest.Write(t, dir, "rowan.toml", []byte(own))
	data := make([]byte, 5<<20+3)
	_, _ = rand.NewChaCha8([32]byte{2}).Read(data)
	image := append(coretest.Image(t, coretest.Inf("VSP-00001", "The Ninth Orchard", "1/1", "short")), data...)
	coretest.Write(t, games, "big.iso", image)
	s := startServe(t, t.TempDir(), "--from", games, "--loader", filepath.Join(dir, "rowan.toml"), "--fs", "fat32",
		"--size", "80MiB")
	img := filepath.Join(t.TempDir(), "volume.img")
	judge.Run(t, "nbdcopy", s.at, img)
	judge.Run(t, "fsck.fat", "-n", img)
	list := judge.Run(t, "mtype", "-i", img, "::/LONG/VSP-00001/parts.toml")
	var whole []byte
	for n := 1; len(whole) < len(image); n++ {
		part := filepath.Join(t.TempDir(), "part")
		judge.Run(t, "mcopy", "-i", img, fmt.Sprintf("::/LONG/VSP-00001/%03d.rwn", n), part)
		b, err := os.ReadFile(part)
		require.NoError(t, err)
		assert.Contains(t, list, fmt.Sprintf("crc32 = \"%08x\"", crc32.ChecksumIEEE(b)))
		whole = append(whole, b...)
	}
	assert.True(t, bytes.Equal(image, whole))
	s.end(t)
}

// TestServeStatus: another process learns who plays what, and what is wrong.
func TestServeStatus(t *testing.T) {
	games, config := collection(t, 2, 3), t.TempDir()
	t.Setenv("XDG_RUNTIME_DIR", t.TempDir())
	status, _, stderr := polytome(t, "serve", "status")
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "nothing is served on this computer")
	s := startServe(t, config, "--from", games, "--loader", "rowan", "--size", "64MiB", "--once")
	assert.Contains(t, ok(t, "serve", "status"), "nobody is connected")
	twice := exec.Command(binary, "serve", "--from", games, "--loader", "rowan", "--size", "64MiB")
	twice.Env = s.cmd.Env
	said, err := twice.CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(said), "Rowan export is served already: another Polytome (pid ")
	c, err := nbd.Open(t.Context(), s.at, nbd.Options{})
	require.NoError(t, err)
	m, err := exfat.Open(device{c}, c.Size())
	require.NoError(t, err)
	_, err = fs.ReadFile(m.FS(), "SHORT/VSP-00001 - Title 1.iso")
	require.NoError(t, err)
	assert.Contains(t, ok(t, "serve", "status"), "127.0.0.1 plays SHORT/VSP-00001 - Title 1.iso; connected for")
	require.NoError(t, os.Remove(filepath.Join(games, "0.iso")))
	require.Eventually(t, func() bool {
		_, err := fs.ReadFile(m.FS(), "SHORT/VSP-00000 - Title 0.iso")
		return err != nil
	}, time.Minute, 50*time.Millisecond, "it is noticed within a second or two")
	status, out, _ := polytome(t, "serve", "status", "--json")
	assert.Equal(t, statusPartial, status)
	var all []serve.Status
	require.NoError(t, json.Unmarshal([]byte(out), &all))
	require.Len(t, all, 1)
	assert.Equal(t, "SHORT/VSP-00000 - Title 0.iso", all[0].Failing[0].Path)
	assert.Greater(t, all[0].Clients[0].Bytes, int64(3<<20))
	require.NoError(t, c.Close())
	<-s.done // the last one has left
	assert.NoError(t, s.cmd.Wait())
}

// device is a volume that is read over the network.
type device struct{ *nbd.Client }

func (device) WriteAt([]byte, int64) (int, error) { return 0, nbd.ErrReadOnly }
func (device) Sync() error                        { return nil }

// TestConsolesWriteApart: what a console writes is kept in a file of its own, is there the next time, and can be taken
// out; your games and the volume stay as they are.
func TestConsolesWriteApart(t *testing.T) {
	games, config, dir := collection(t, 2, 3), t.TempDir(), t.TempDir()
	t.Setenv("XDG_STATE_HOME", config)
	which := []string{"--from", games, "--loader", "rowan", "--size", "64MiB"}
	file := filepath.Join(dir, "saves.overlay")
	args := append([]string{"--writes", file, "--look-every", "100ms"}, which...)
	s := startServe(t, config, args...)
	c, err := nbd.Open(t.Context(), s.at, nbd.Options{})
	require.NoError(t, err)
	require.False(t, c.ReadOnly())
	v, err := exfat.Open(c, c.Size())
	require.NoError(t, err)
	require.NoError(t, v.MakeFolder(t.Context(), "cards"))
	require.NoError(t, volumetest.Put(v, "cards/one.crd", []byte("kept")))
	require.NoError(t, errors.Join(v.Close(), c.Close()))
	coretest.Write(t, games, "new.iso", coretest.Image(t, coretest.Inf("VSP-00777", "A New One", "1/1", "full")))
	s.saysSoon(t, "A console has written to the volume, which therefore stays as it is")
	s.end(t)
	s = startServe(t, config, args...)
	img := filepath.Join(t.TempDir(), "volume.img")
	judge.Run(t, "nbdcopy", s.at, img)
	judge.Run(t, "fsck.exfat", "-n", img)
	_, what := lies(t, img)
	assert.Equal(t, "kept", string(what["cards/one.crd"]))
	assert.Len(t, what, 3)
	s.end(t)
	out := ok(t, append([]string{"serve", "writes", file, "--to", filepath.Join(dir, "out")}, which...)...)
	assert.Contains(t, out, "cards/one.crd")
	assert.NotContains(t, out, ".iso")
	b, err := os.ReadFile(filepath.Join(dir, "out", "cards", "one.crd"))
	require.NoError(t, err)
	assert.Equal(t, "kept", string(b))
	require.NoError(t, os.Remove(file))
	s = startServe(t, config, args...)
	s.saysSoon(t, "3 titles on a volume")
	s.end(t)
}

// TestServeAsAService: the unit says what was asked for, and a socket that the system has opened is used.
func TestServeAsAService(t *testing.T) {
	games := collection(t, 2)
	unit := ok(t, "serve", "--from", filepath.Join(games, "..", filepath.Base(games)), "--loader", "rowan", "--export",
		"Odile's $5 disk", "--unit")
	assert.Contains(t, unit, "Type=notify\n")
	assert.Contains(t, unit, ` serve --from `+games+` --loader rowan --export "Odile's $$5 disk"`+"\n")

	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	file, err := l.(*net.TCPListener).File()
	require.NoError(t, err)
	notify := filepath.Join(t.TempDir(), "notify")
	heard, err := net.ListenPacket("unixgram", notify)
	require.NoError(t, err)
	defer heard.Close()
	// the number of the process is known to the shell that becomes the program
	cmd := exec.Command("sh", "-c", `LISTEN_FDS=1 LISTEN_PID=$$ exec "$0" "$@"`, binary, "serve", "--from", games,
		"--loader", "rowan", "--size", "64MiB")
	config := t.TempDir()
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+config, "XDG_STATE_HOME="+config, "XDG_CACHE_HOME="+config,
		"NOTIFY_SOCKET="+notify)
	cmd.ExtraFiles = []*os.File{file}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	b := make([]byte, 1000)
	n, _, err := heard.ReadFrom(b)
	require.NoError(t, err)
	assert.Equal(t, "READY=1", string(b[:n]))
	assert.Contains(t, judge.Run(t, "nbdinfo", "nbd://"+l.Addr().String()+"/rowan"), "is_read_only: true")
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	n, _, err = heard.ReadFrom(b)
	require.NoError(t, err)
	assert.Equal(t, "STOPPING=1", string(b[:n]))
	assert.NoError(t, cmd.Wait())
}

// BenchmarkServeAgainstNbdkit has nbdcopy read a game of 1 GiB from what is served, and the same file from nbdkit, in
// turns.
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
	versus.Race(b, func() {}, versus.Contender{Name: "serve", Do: func() { versus.Run(b, "nbdcopy", s.at, "null:") }},
		versus.Contender{Name: "nbdkit", Most: 1, Do: func() { versus.Run(b, "nbdcopy", theirs, "null:") }})
	s.end(b)
}
