package serve_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/serve"
	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/core/title"
	"polytome/internal/format/exfat"
	"polytome/internal/format/virtual"
	"polytome/internal/nbd"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/served"
)

// stand is an export that is served.
type stand struct {
	to     *served.Target
	e      *served.Export
	server *serve.Server
	at     string
	end    func()

	mu   sync.Mutex
	text []string
}

func begin(t testing.TB, o serve.Options, capacity int64, made func([]byte, int64) (virtual.Source, error)) *stand {
	t.Helper()
	if made == nil {
		made = source.Referred
	}
	at := served.Scheme + t.TempDir()
	how := served.Options{Capacity: capacity, Cluster: 4096, Make: made}
	to, err := served.Open(at, how)
	require.NoError(t, err)
	e, err := served.Take(at, how)
	require.NoError(t, err)
	s := &stand{to: to, e: e}
	o.Name = "games"
	o.Said = func(say string) {
		s.mu.Lock()
		s.text = append(s.text, say)
		s.mu.Unlock()
	}
	s.server = serve.New(e, o)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error)
	go func() { ended <- s.server.Serve(ctx, l) }()
	s.at = "nbd://" + l.Addr().String() + "/games"
	s.end = sync.OnceFunc(func() {
		cancel()
		assert.NoError(t, <-ended)
		assert.NoError(t, to.Close())
		e.Leave()
		source.CloseReferred()
	})
	t.Cleanup(s.end)
	return s
}

// put has a game be served from a file.
func (s *stand) put(t testing.TB, name, file string) {
	t.Helper()
	info, err := os.Stat(file)
	require.NoError(t, err)
	recipe, err := json.Marshal(shape.Spec{Source: title.File{Path: file, Size: info.Size(), Modified: info.ModTime()},
		Size: info.Size()})
	require.NoError(t, err)
	_, err = s.to.Stat(t.Context(), name)
	require.NoError(t, s.to.Refer(t.Context(), target.Referral{Path: name, Size: info.Size(), Recipe: recipe,
		Over: err == nil}))
	require.NoError(t, s.e.Volume().Publish())
}

func noise(seed, n int) []byte {
	b := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8)}).Read(b)
	return b
}

func write(t testing.TB, file string, b []byte) {
	t.Helper()
	require.NoError(t, os.WriteFile(file, b, 0o600))
}

func dial(t testing.TB, at string) *nbd.Client {
	t.Helper()
	c, err := nbd.Open(context.Background(), at, nbd.Options{})
	require.NoError(t, err)
	return c
}

type device struct{ io.ReaderAt }

func (device) WriteAt([]byte, int64) (int, error) { return 0, nbd.ErrReadOnly }
func (device) Sync() error                        { return nil }

// lies is where files lie, as a console finds out.
func lies(t testing.TB, c *nbd.Client) map[string]int64 {
	t.Helper()
	v, err := exfat.Open(device{c}, c.Size())
	require.NoError(t, err)
	all, err := v.Files(context.Background())
	require.NoError(t, err)
	out := map[string]int64{}
	for _, p := range all {
		if !p.Folder && len(p.Runs) > 0 {
			out[p.Path] = v.Info().Heap + int64(p.Runs[0].First-2)*v.Info().Cluster
		}
	}
	return out
}

// soak is for how long clients read in a test of many; POLYTOME_SOAK makes it longer.
func soak() time.Duration {
	if d, err := time.ParseDuration(os.Getenv("POLYTOME_SOAK")); err == nil {
		return d
	}
	return 3 * time.Second
}

// TestManyClients: 24 clients read at random while games come and go, and while files are changed, cut short and
// removed under them. Everything they get is what the file has or had, or an error for that file; files that nobody
// touches never fail.
func TestManyClients(t *testing.T) {
	s := begin(t, serve.Options{}, 512*size.MiB, nil)
	dir := t.TempDir()
	const files, length = 12, 1 << 20
	name := func(i int) string { return fmt.Sprintf("%d.iso", i) }
	var versions [files][][]byte // that a file has, or had
	for i := range files {
		versions[i] = [][]byte{noise(i, length)}
		if i >= files/2 {
			versions[i] = append(versions[i], noise(100+i, length))
		}
		write(t, filepath.Join(dir, name(i)), versions[i][0])
		s.put(t, name(i), filepath.Join(dir, name(i)))
	}
	until := time.Now().Add(soak())
	var all sync.WaitGroup
	var reads, refused atomic.Int64
	for n := range 24 {
		all.Go(func() {
			r := rand.New(rand.NewPCG(1, uint64(n)))
			for time.Now().Before(until) {
				c := dial(t, s.at)
				where := lies(t, c)
				for range 200 {
					i := r.IntN(files)
					b := make([]byte, 1+r.IntN(200<<10))
					off := r.IntN(length - len(b) + 1)
					_, err := c.ReadAt(b, where[name(i)]+int64(off))
					if reads.Add(1); err != nil {
						refused.Add(1)
						if i < files/2 {
							t.Errorf("%s, which nobody touches: %v", name(i), err)
						}
						assert.ErrorIs(t, err, nbd.EIO)
						continue
					}
					// of a file that is written to while it is read, some of each; where it is cut short just then,
					// the system may hand out zeros
					touched := i >= files/2
					for at := range b {
						if !slices.ContainsFunc(versions[i], func(v []byte) bool { return v[off+at] == b[at] }) &&
							!(touched && b[at] == 0) {
							t.Errorf("%s has another byte at %d", name(i), off+at)
							break
						}
					}
				}
				_ = c.Close()
			}
		})
	}
	r := rand.New(rand.NewPCG(2, 2))
	for k := 0; time.Now().Before(until); k++ {
		i := files/2 + r.IntN(files/2)
		file := filepath.Join(dir, name(i))
		switch r.IntN(4) {
		case 0:
			assert.NoError(t, os.Rename(file, file+" away"))
			time.Sleep(10 * time.Millisecond)
			assert.NoError(t, os.Rename(file+" away", file))
		case 1:
			assert.NoError(t, os.Truncate(file, length/2))
			time.Sleep(10 * time.Millisecond)
			write(t, file, versions[i][0])
			s.put(t, name(i), file)
		case 2:
			write(t, file, versions[i][1])
			s.put(t, name(i), file)
		case 3:
			other := filepath.Join(dir, "other")
			write(t, other, noise(k, 100_000))
			s.put(t, fmt.Sprintf("more %d.iso", k%20), other)
			if k%3 == 0 {
				_ = s.to.Remove(t.Context(), fmt.Sprintf("more %d.iso", k/2%20)) // where there is one
			}
		}
		time.Sleep(5 * time.Millisecond)
	}
	all.Wait()
	assert.Greater(t, reads.Load(), int64(1000))
	t.Logf("%d reads, %d of them refused", reads.Load(), refused.Load())
	assert.Less(t, refused.Load(), reads.Load()/2)
	for i := range files { // all is well again
		write(t, filepath.Join(dir, name(i)), versions[i][0])
		s.put(t, name(i), filepath.Join(dir, name(i)))
	}
	c := dial(t, s.at)
	where := lies(t, c)
	for i := range files {
		b := make([]byte, length)
		_, err := c.ReadAt(b, where[name(i)])
		require.NoError(t, err)
		assert.True(t, bytes.Equal(versions[i][0], b), i)
	}
	require.NoError(t, c.Close())
	assert.Eventually(t, func() bool { return len(s.server.Status().Clients) == 0 }, time.Minute, time.Millisecond)
}

// TestStrangers: garbage, clients that say nothing, and those that ask and never read do not keep others from reading.
func TestStrangers(t *testing.T) {
	s := begin(t, serve.Options{}, 256*size.MiB, nil)
	file := filepath.Join(t.TempDir(), "a.iso")
	write(t, file, noise(1, 64<<20))
	s.put(t, "a.iso", file)
	c := dial(t, s.at)
	at := lies(t, c)["a.iso"]
	host := s.at[len("nbd://") : len(s.at)-len("/games")]
	for n := range 60 {
		conn, err := net.Dial("tcp", host)
		require.NoError(t, err)
		defer conn.Close()
		switch n % 3 {
		case 0:
			_, _ = conn.Write(noise(n, 5000))
		case 1: // says nothing
		case 2: // asks for much, and reads nothing of it
			_, _ = io.ReadFull(conn, make([]byte, 18))
			ask := append([]byte{0, 0, 0, 3}, "IHAVEOPT\x00\x00\x00\x01\x00\x00\x00\x05games"...)
			for range 100 {
				read := make([]byte, 28)
				copy(read, []byte{0x25, 0x60, 0x95, 0x13})
				copy(read[16:], []byte{0, 0, 0, 0, 0, byte(at >> 16), byte(at >> 8), byte(at)})
				copy(read[24:], []byte{1, 0, 0, 0})
				ask = append(ask, read...)
			}
			_, _ = conn.Write(ask)
		}
	}
	want := noise(1, 64<<20)
	begun := time.Now()
	for k := range 50 {
		off := k * 997 * 1009 % (60 << 20)
		b := make([]byte, 64<<10)
		_, err := c.ReadAt(b, at+int64(off))
		require.NoError(t, err)
		require.True(t, bytes.Equal(want[off:off+len(b)], b))
	}
	assert.Less(t, time.Since(begun), 15*time.Second, "they do not wait until a stranger is given up")
	require.NoError(t, c.Close())
	begun = time.Now()
	s.end()
	assert.Less(t, time.Since(begun), 10*time.Second, "it ends although they are still there")
}

// slowly is a source that takes its time for each read, as one far away does.
type slowly struct {
	n     int64
	takes atomic.Int64 // nanoseconds
	reads atomic.Int64
}

func slowSource(n int64, takes time.Duration) *slowly {
	s := &slowly{n: n}
	s.takes.Store(int64(takes))
	return s
}

func (s *slowly) Size() int64 { return s.n }

func (s *slowly) ReadAt(b []byte, off int64) (int, error) {
	s.reads.Add(1)
	time.Sleep(time.Duration(s.takes.Load()))
	for i := range b {
		b[i] = byte((off + int64(i)) >> 10)
	}
	return len(b), nil
}

// TestStreamsAreReadAhead: of a source that is far away, what a player reads next is there before it asks.
func TestStreamsAreReadAhead(t *testing.T) {
	far := slowSource(16<<20+17, 30*time.Millisecond)
	s := begin(t, serve.Options{}, 64*size.MiB, func([]byte, int64) (virtual.Source, error) { return far, nil })
	require.NoError(t, s.to.Refer(t.Context(), target.Referral{Path: "a.iso", Size: far.n, Recipe: []byte(`"far"`)}))
	require.NoError(t, s.e.Volume().Publish())
	c := dial(t, s.at)
	at := lies(t, c)["a.iso"]
	waited := 0
	const pieces = 128
	for k := range pieces {
		b := make([]byte, 64<<10)
		begun := time.Now()
		_, err := c.ReadAt(b, at+int64(k)*64<<10)
		require.NoError(t, err)
		if time.Since(begun) > 15*time.Millisecond {
			waited++
		}
		assert.EqualValues(t, byte(k*64), b[0])
		time.Sleep(10 * time.Millisecond) // it is played
	}
	assert.Less(t, waited, pieces/4, "each of them would have waited")
	assert.Less(t, far.reads.Load(), int64(pieces/2), "in larger pieces")
	require.NoError(t, c.Close())
}

// TestReadsReportedLate: a read that is reported behind one that was asked for later changes nothing of what is newer.
func TestReadsReportedLate(t *testing.T) {
	s := begin(t, serve.Options{}, 64*size.MiB, func([]byte, int64) (virtual.Source, error) {
		return slowSource(1<<20, 0), nil
	})
	for _, name := range []string{"a.iso", "b.iso"} {
		require.NoError(t, s.to.Refer(t.Context(), target.Referral{Path: name, Size: 1 << 20, Recipe: []byte(`"x"`)}))
	}
	require.NoError(t, s.e.Volume().Publish())
	at := map[string]int64{}
	for off := int64(0); off < 64*size.MiB; off += 4096 {
		if name, _, is := s.e.Volume().At(off); is {
			if _, known := at[name]; !known {
				at[name] = off
			}
		}
	}
	require.Len(t, at, 2)
	c := dial(t, s.at)
	_, err := c.ReadAt(make([]byte, 4096), 0)
	require.NoError(t, err)
	from, begun := &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)}, time.Now()
	report := func(name string, asked int, err error) {
		s.server.Report(nbd.Reading{From: from, Offset: at[name], Bytes: 4096,
			Asked: begun.Add(time.Duration(asked) * time.Second), Err: err})
	}
	gone := &virtual.ReadError{Path: "a.iso", Err: os.ErrNotExist}
	report("a.iso", 1, nil)
	report("b.iso", 3, nil)
	report("a.iso", 2, nil)
	require.Len(t, s.server.Status().Clients, 1)
	assert.Equal(t, "b.iso", s.server.Status().Clients[0].Plays)
	report("a.iso", 5, nil)
	assert.Equal(t, "a.iso", s.server.Status().Clients[0].Plays)
	report("a.iso", 4, gone)
	assert.Empty(t, s.server.Status().Failing, "it was read well since")
	report("a.iso", 7, gone)
	report("a.iso", 6, nil)
	assert.Len(t, s.server.Status().Failing, 1, "it failed since")
	require.NoError(t, c.Close())
}

// TestWhyReadsAreSlow: the cause is said, as far as it can be known.
func TestWhyReadsAreSlow(t *testing.T) {
	far := slowSource(1<<20+17, 1100*time.Millisecond)
	s := begin(t, serve.Options{Card: func(netip.Addr) (string, int) { return "eth1", 10 }}, 64*size.MiB,
		func([]byte, int64) (virtual.Source, error) { return far, nil })
	require.NoError(t, s.to.Refer(t.Context(), target.Referral{Path: "a.iso", Size: far.n, Recipe: []byte(`"far"`)}))
	require.NoError(t, s.e.Volume().Publish())
	c := dial(t, s.at)
	at := int64(0) // a console that looks for it would read it
	for ; ; at += 4096 {
		if _, _, is := s.e.Volume().At(at); is {
			break
		}
	}
	read := func(off int64) {
		_, err := c.ReadAt(make([]byte, 4096), at+off)
		require.NoError(t, err)
	}
	read(0)
	far.takes.Store(int64(100 * time.Millisecond))
	read(512 << 10)
	require.Eventually(t, func() bool { return len(s.server.Status().Slow) == 2 }, time.Minute, time.Millisecond)
	st := s.server.Status()
	assert.Equal(t, "its disk is busy or slow", st.Slow[0].Why)
	assert.Equal(t, "its disk was asleep: it took a moment to start", st.Slow[1].Why)
	assert.Equal(t, "a.iso", st.Slow[0].Path)
	assert.Equal(t, "127.0.0.1", st.Slow[0].From)
	require.Len(t, st.Clients, 1)
	assert.Equal(t, "a.iso", st.Clients[0].Plays)
	assert.Equal(t, 2, st.Clients[0].Slow)
	assert.Greater(t, st.Clients[0].Slowest, 1.0)
	assert.Positive(t, st.Bytes)
	require.NoError(t, c.Close())
}

// TestARateIsKept: no more than so much a second is sent.
func TestARateIsKept(t *testing.T) {
	s := begin(t, serve.Options{Rate: 16 << 20}, 128*size.MiB, nil)
	file := filepath.Join(t.TempDir(), "a.iso")
	write(t, file, noise(1, 48<<20))
	s.put(t, "a.iso", file)
	c := dial(t, s.at)
	at := lies(t, c)["a.iso"]
	begun := time.Now()
	_, err := io.Copy(io.Discard, io.NewSectionReader(c, at, 48<<20)) // of which 32 MiB go at once
	require.NoError(t, err)
	assert.Greater(t, time.Since(begun), 900*time.Millisecond)
	require.NoError(t, c.Close())
}

// BenchmarkAnswersInTime has a console read pieces of 64 KiB here and there while eight others read as fast as they
// can; it reports how long the slowest of a thousand takes, and the first byte of a game that was not read before.
func BenchmarkAnswersInTime(b *testing.B) {
	s := begin(b, serve.Options{}, 4<<30, nil)
	dir := b.TempDir()
	const games, length = 9, 64 << 20
	for i := range games {
		file := filepath.Join(dir, fmt.Sprint(i))
		write(b, file, noise(i, length))
		s.put(b, fmt.Sprintf("%d.iso", i), file)
	}
	ctx, cancel := context.WithCancel(b.Context())
	var all sync.WaitGroup
	for n := range 8 {
		c := dial(b, s.at)
		at := lies(b, c)[fmt.Sprintf("%d.iso", n)]
		all.Go(func() {
			piece := make([]byte, 256<<10)
			for off := int64(0); ctx.Err() == nil; off = (off + int64(len(piece))) % length {
				_, _ = c.ReadAt(piece, at+off)
			}
			_ = c.Close()
		})
	}
	c := dial(b, s.at)
	at := lies(b, c)["8.iso"]
	begun := time.Now()
	_, err := c.ReadAt(make([]byte, 2048), at)
	require.NoError(b, err)
	first := time.Since(begun)
	var took []time.Duration
	piece := make([]byte, 64<<10)
	r := rand.New(rand.NewPCG(1, 1))
	for b.Loop() {
		begun := time.Now()
		_, err := c.ReadAt(piece, at+r.Int64N(length-int64(len(piece))))
		require.NoError(b, err)
		took = append(took, time.Since(begun))
	}
	cancel()
	all.Wait()
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)*999/1000].Microseconds())/1000, "ms-99.9%")
	b.ReportMetric(float64(first.Microseconds())/1000, "ms-first")
	require.NoError(b, c.Close())
}
