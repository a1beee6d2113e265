package survey_test

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/scan"
	"polytome/internal/demo"
	"polytome/internal/nbd"
	"polytome/internal/secret"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/versus"
)

// slowStick is a slow USB stick: one thing after another, each for as long as its bytes take.
type slowStick struct {
	*os.File
	mu   sync.Mutex
	free time.Time // when it has done what it was asked for
	busy time.Duration
}

// What a slow stick takes.
const (
	stickReads  = 90_000_000 // bytes a second
	stickWrites = 8_000_000
	stickFlush  = 40 * time.Millisecond
)

// takes waits until the stick has done something.
func (s *slowStick) takes(d time.Duration) {
	s.mu.Lock()
	if now := time.Now(); s.free.Before(now) {
		s.free = now
	}
	s.free = s.free.Add(d)
	s.busy += d
	until := s.free
	s.mu.Unlock()
	time.Sleep(time.Until(until))
}

func (s *slowStick) Busy() time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.busy
}

func (s *slowStick) ReadAt(b []byte, at int64) (int, error) {
	s.takes(time.Duration(len(b)) * time.Second / stickReads)
	return s.File.ReadAt(b, at)
}

func (s *slowStick) WriteAt(b []byte, at int64) (int, error) {
	s.takes(time.Duration(len(b)) * time.Second / stickWrites)
	return s.File.WriteAt(b, at)
}

func (s *slowStick) Sync() error {
	s.takes(stickFlush)
	return nil
}

// newStick is a stick with an empty FAT32 volume, and the address at which it is exported.
func newStick(b *testing.B, name string) (*slowStick, string) {
	img := filepath.Join(b.TempDir(), name)
	f, err := os.Create(img)
	require.NoError(b, err)
	b.Cleanup(func() { _ = f.Close() })
	require.NoError(b, f.Truncate(300<<20))
	judge.Run(b, "mkfs.fat", "-F", "32", img)
	s := &slowStick{File: f}
	server := &nbd.Server{Exports: []*nbd.Export{{Name: name, Size: 300 << 20, Backend: s}}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	go func() { _ = server.Serve(b.Context(), l) }()
	return s, fmt.Sprintf("nbd://%s/%s", l.Addr(), name)
}

// A place is where games are brought, and how long it was busy.
type place struct {
	to   bench.Target
	busy func() time.Duration
}

// media are kinds that people have: each makes two that are alike.
var media = map[string]func(b *testing.B) [2]place{
	"stick": func(b *testing.B) (both [2]place) {
		for i := range both {
			s, at := newStick(b, fmt.Sprint("stick-", i))
			both[i] = place{bench.Target{At: at, Loader: "bellows", Via: "usb"}, s.Busy}
		}
		return both
	},
	"console-over-ftp": func(b *testing.B) [2]place {
		dir := b.TempDir()
		secret.Remember("127.0.0.1", "games", "games")
		line := judge.NewLine(b, 8*time.Millisecond, 9_000_000)
		return folders(b, dir, bench.Target{At: fmt.Sprintf("ftp://games@127.0.0.1:%d/",
			line.ToFTP(judge.ProFTP(b, dir, ""))), Loader: "gantry", Via: "ftp"}, line)
	},
	"share-over-wifi": func(b *testing.B) [2]place {
		s := judge.SMB(b, b.TempDir())
		secret.Remember("127.0.0.1", s.User, s.Password)
		line := judge.NewLine(b, 5*time.Millisecond, 6_000_000)
		return folders(b, s.Dir, bench.Target{At: fmt.Sprintf("smb://%s@127.0.0.1:%d/games/", s.User, line.To(s.Port)),
			Loader: "oxbow", Via: "smb"}, line)
	},
}

// folders are two of a server.
func folders(b *testing.B, dir string, to bench.Target, line *judge.Line) (both [2]place) {
	for i := range both {
		sub := fmt.Sprint("hd", i)
		coretest.Write(b, dir, filepath.Join(sub, "x.txt"), nil)
		require.NoError(b, os.Chmod(filepath.Join(dir, sub), 0o777))
		both[i] = place{to, line.Busy}
		both[i].to.At += sub
	}
	return both
}

// BenchmarkMedia fills simulated media, twice each, with a few large games or many small ones. The second time, what
// was said beforehand of the time with the check is compared with what it was; and of large games, how long the medium
// was busy with how long the run took.
func BenchmarkMedia(b *testing.B) {
	for name, two := range media {
		for what, c := range map[string]struct{ games, size int }{"large": {4, 32 << 20}, "small": {150, 40_000}} {
			b.Run(name+"-"+what, func(b *testing.B) {
				games := b.TempDir()
				noise := rand.NewChaCha8([32]byte{8})
				for i := range c.games {
					more := make([]byte, c.size)
					_, _ = noise.Read(more)
					coretest.Write(b, games, fmt.Sprintf("Mill %03d.w8", i),
						append(demo.Cartridge("WREN", fmt.Sprint("Mill ", i)), more...))
				}
				scanned, err := scan.Scan(b.Context(), []string{games}, scan.Options{Set: coretest.Set(b)})
				require.NoError(b, err)
				r := versus.Record{Name: b.Name(), Ours: "run", Seconds: map[string][]float64{},
					Most: map[string]float64{"said": 1 / 0.85}, Least: map[string]float64{"said": 0.85}}
				if what == "large" {
					r.Most["medium"] = 1 / 0.95
				}
				for b.Loop() {
					known := bench.New("")
					all := two(b)
					fill(b, known, all[0].to, scanned.Titles, func(func(bool) *check.Report) {})
					was := all[1].busy()
					second := fill(b, known, all[1].to, scanned.Titles, func(func(bool) *check.Report) {
						was = all[1].busy() - was
					})
					add := func(who string, d time.Duration) { r.Seconds[who] = append(r.Seconds[who], d.Seconds()) }
					add("run", second.took)
					add("said", second.before)
					add("medium", was)
				}
				versus.Report(b, r)
			})
		}
	}
}
