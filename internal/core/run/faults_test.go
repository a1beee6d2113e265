package run_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/sim/ftpd"
	"polytome/internal/target"
	"polytome/internal/target/folder"
	"polytome/internal/target/ftp"
	"polytome/internal/target/remote"
	"polytome/internal/target/smb"
	"polytome/internal/testkit/judge"
)

// mixed makes a plan with large and small files, with contents that differ everywhere.
func mixed(t testing.TB, r *rand.Rand) (*plan.Plan, map[string][]byte) {
	return mixedFrom(t, r, 5<<20+r.Intn(1<<20))
}

// mixedFrom is mixed with a largest file of so many bytes.
func mixedFrom(t testing.TB, r *rand.Rand, largest int) (*plan.Plan, map[string][]byte) {
	lengths := []int{largest, 2 << 20, 1 << 20}
	for range 12 {
		lengths = append(lengths, r.Intn(60_000))
	}
	p, want := files(t, lengths...)
	for i := range p.Steps[1:] {
		s := &p.Steps[i+1]
		data := want[s.Path]
		r.Read(data)
		require.NoError(t, os.WriteFile(s.Make.Source.Path, data, 0o644))
		info, err := os.Stat(s.Make.Source.Path)
		require.NoError(t, err)
		s.Make.Source.Modified = info.ModTime()
	}
	return p, want
}

// whole fails when something has its final name and is not whole.
func whole(t *testing.T, dir string, want map[string][]byte) {
	t.Helper()
	for name, got := range onTarget(t, dir) {
		if !target.IsTemporary(name) {
			require.True(t, got == string(want[name]), "%s has its name and is not whole", name)
		}
	}
}

// complete fails when not all of it is there, or something else.
func complete(t *testing.T, dir string, want map[string][]byte) {
	t.Helper()
	whole(t, dir, want)
	require.Len(t, onTarget(t, dir), len(want), "all is there, and nothing is left over")
}

// console is a simulated one that can be switched off and on.
type console struct {
	mu   sync.Mutex
	dir  string
	h    ftpd.Habits
	port int
	s    *ftpd.Server
}

func (c *console) on(t testing.TB) {
	c.mu.Lock()
	defer c.mu.Unlock()
	var err error
	for range 100 {
		if c.s, err = ftpd.Serve(c.dir, c.port, c.h); err == nil {
			c.port = c.s.Port()
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Error(err)
}

func (c *console) off() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.s.Close()
}

func (c *console) faults() *ftpd.Faults {
	c.mu.Lock()
	defer c.mu.Unlock()
	return &c.s.Faults
}

func (c *console) at() remote.Address {
	c.mu.Lock()
	defer c.mu.Unlock()
	return remote.Address{Host: "127.0.0.1", Port: c.port}
}

// TestFaultsOfAConsole has all sorts of things go wrong at random points of a run over FTP. What has its name is whole
// each time; most of it the run survives by itself, and a second one completes what is left.
func TestFaultsOfAConsole(t *testing.T) {
	r := rand.New(rand.NewSource(time.Now().UnixNano()))
	habits := []ftpd.Habits{
		{Restart: true, Append: true, Sizes: true, Machine: true, ReportsSpace: true},
		{OneTransfer: true, SlowClose: time.Millisecond}, {Append: true, Sizes: true}, {Restart: true, Sizes: true,
			Clients: 3},
	}
	kinds := []string{"cut during data", "cut during a rename", "refusals", "restart", "off for a while", "stall",
		"full", "another password", "spoilt byte"}
	const rounds = 2
	survived := map[string]int{}
	for i := range rounds * len(kinds) {
		kind := kinds[i%len(kinds)]
		t.Run(fmt.Sprintf("%d, %s", i, kind), func(t *testing.T) {
			ftp.Forget()
			p, want := mixed(t, r)
			c := &console{dir: t.TempDir(), h: habits[r.Intn(len(habits))]}
			c.h.User, c.h.Password = "gantry", "ferryline"
			if c.h.ReportsSpace {
				c.h.Capacity = 1 << 30
			}
			if kind == "full" {
				c.h.Capacity = p.Bytes / 2
			}
			c.on(t)
			defer func() { c.off() }()
			at := int64(r.Intn(int(p.Bytes*9/10))) + 1
			switch kind {
			case "cut during data":
				c.faults().DropAfter.Store(at)
			case "cut during a rename":
				c.faults().DropRename.Store(true)
			case "refusals":
				c.faults().RefuseEvery.Store(int64(20 + r.Intn(30)))
			case "spoilt byte":
				c.faults().Corrupt.Store(true)
			}
			var once sync.Once
			var coming sync.WaitGroup
			j := run.Job{Plan: p, Options: run.Options{FirstWait: 5 * time.Millisecond, Patience: 10 * time.Second,
				Verify: run.Verifies[r.Intn(3)]}}
			if kind == "spoilt byte" {
				j.Verify = run.VerifyFull
			}
			open := func(context.Context) (target.Target, error) {
				f, err := target.FilesystemNamed("ext4")
				require.NoError(t, err)
				return ftp.Open(context.Background(), c.at(), remote.Settings{Filesystem: &f, User: "gantry",
					Password: "ferryline", Timeout: 400 * time.Millisecond, Cluster: 4096})
			}
			j.Open = open
			j.Emit = func(e run.Event) {
				if e.Total < at {
					return
				}
				once.Do(func() {
					switch kind {
					case "restart":
						c.off()
						c.on(t)
					case "off for a while":
						c.off()
						coming.Go(func() { time.Sleep(100 * time.Millisecond); c.on(t) })
					case "stall":
						s := c.faults()
						s.Stall.Store(true)
						coming.Go(func() { time.Sleep(600 * time.Millisecond); s.Stall.Store(false) })
					case "another password":
						c.off()
						c.h.Password = "changed"
						c.on(t)
					}
				})
			}
			rep := run.Start(context.Background(), j).Wait()
			coming.Wait() // it may still be coming on
			whole(t, c.dir, want)
			if rep.All() {
				survived[kind]++
				complete(t, c.dir, want)
				if kind == "spoilt byte" {
					assert.Equal(t, 1, rep.Rewritten)
				}
				return
			}
			t.Log(rep.Failed, rep.Untried)
			c.faults().RefuseEvery.Store(0)
			c.off()
			c.h.Capacity, c.h.Password = 0, "ferryline"
			c.on(t)
			if kind == "another password" {
				assert.Contains(t, fmt.Sprint(rep.Failed), "0.0.1 refuses gantry: the")
				assert.NotContains(t, fmt.Sprint(rep.Failed), "ferryline")
			}
			j.Emit, j.Again = nil, true
			rep = run.Start(context.Background(), j).Wait()
			require.True(t, rep.All(), rep.Failed)
			complete(t, c.dir, want)
		})
	}
	for _, kind := range kinds {
		if kind != "full" && kind != "another password" {
			assert.GreaterOrEqual(t, survived[kind], rounds-1, "%s passes, so the run goes on by itself", kind)
		}
	}
}

// TestFaultsOfAShare restarts a real server at random points, and has it stand still.
func TestFaultsOfAShare(t *testing.T) {
	r := rand.New(rand.NewSource(8))
	for i := range 6 {
		kind := []string{"restart", "stall", "gone"}[i%3]
		t.Run(fmt.Sprintf("%d, %s", i, kind), func(t *testing.T) {
			p, want := mixed(t, r)
			s := judge.SMB(t, t.TempDir())
			at := int64(r.Intn(int(p.Bytes*9/10))) + 1
			var once sync.Once
			j := run.Job{Plan: p, Options: run.Options{FirstWait: 20 * time.Millisecond, Patience: 20 * time.Second,
				Verify: run.Verifies[r.Intn(3)]}}
			if kind == "gone" {
				j.Patience = 200 * time.Millisecond
			}
			// Only a server that stands still has to be noticed by its silence, and only once: on a busy machine a
			// sound one may be silent for a while, too.
			var noticed atomic.Bool
			j.Open = func(ctx context.Context) (target.Target, error) {
				for {
					o := remote.Settings{User: s.User, Password: s.Password}
					soon := kind == "stall" && !noticed.Load()
					if soon {
						o.Timeout = 500 * time.Millisecond
					}
					to, err := smb.Open(ctx, remote.Address{Host: "127.0.0.1", Port: s.Port, Root: "games"}, o)
					if err == nil || !soon || ctx.Err() != nil {
						return to, err
					}
				}
			}
			var still atomic.Bool
			j.Emit = func(e run.Event) {
				if e.Kind == run.Waiting {
					noticed.Store(true)
					if still.Swap(false) {
						s.Stall(false)
					}
				}
				if e.Total < at {
					return
				}
				once.Do(func() {
					switch kind {
					case "restart":
						s.Restart()
					case "stall":
						s.Stall(true)
						still.Store(true)
					case "gone":
						s.Kill()
					}
				})
			}
			rep := run.Start(context.Background(), j).Wait()
			whole(t, s.Dir, want)
			if kind != "gone" {
				require.True(t, rep.All(), rep.Failed)
			} else {
				require.False(t, rep.All())
				assert.Contains(t, fmt.Sprint(rep.Failed), "no SMB server answers")
				s.Restart()
				j.Emit, j.Again = nil, true
				rep = run.Start(context.Background(), j).Wait()
				require.True(t, rep.All(), rep.Failed)
			}
			complete(t, s.Dir, want)
		})
	}
}

// TestAStickThatIsPulledIsWaitedFor has the folder of a stick go away in the middle of a run, and an empty one stand
// where it was: nothing is written to that, and the run goes on when the stick is back.
func TestAStickThatIsPulledIsWaitedFor(t *testing.T) {
	p, want := files(t, 6<<20, 6<<20, 100)
	mounted := t.TempDir()
	at := filepath.Join(t.TempDir(), "stick")
	require.NoError(t, os.Symlink(mounted, at))
	empty := judge.Mount(t, "size=16m")
	var once sync.Once
	var gone atomic.Bool
	j := run.Job{Plan: p, Options: run.Options{FirstWait: 20 * time.Millisecond, Limit: 40 << 20}}
	var back []run.EventKind
	j.Open = func(context.Context) (target.Target, error) {
		q, err := folder.Open(at, folder.Options{})
		if err != nil {
			return nil, err
		}
		return &pulled{q, &gone}, nil
	}
	point := func(to string) {
		require.NoError(t, os.Remove(at))
		require.NoError(t, os.Symlink(to, at))
	}
	j.Emit = func(e run.Event) {
		if e.Kind == run.Waiting || e.Kind == run.Back {
			back = append(back, e.Kind)
		}
		if e.Total > 7<<20 {
			once.Do(func() {
				gone.Store(true)
				point(empty)
				go func() {
					time.Sleep(300 * time.Millisecond)
					gone.Store(false)
					point(mounted)
				}()
			})
		}
	}
	r := run.Start(context.Background(), j).Wait()
	require.True(t, r.All(), r.Failed)
	assert.Equal(t, 1, r.Breaks)
	assert.Contains(t, back, run.Waiting)
	assert.Equal(t, run.Back, back[len(back)-1])
	complete(t, mounted, want)
	left, err := os.ReadDir(empty)
	require.NoError(t, err)
	assert.Empty(t, left, "nothing was written to what stood in its place")
}

// pulled is a target whose writes fail while it is gone.
type pulled struct {
	*folder.Target
	gone *atomic.Bool
}

func (p *pulled) Create(ctx context.Context, name string, size int64) (target.Writer, error) {
	w, err := p.Target.Create(ctx, name, size)
	if err != nil {
		return nil, err
	}
	return &pulledWriter{w, p.gone}, nil
}

type pulledWriter struct {
	target.Writer
	gone *atomic.Bool
}

func (w *pulledWriter) Write(b []byte) (int, error) {
	if w.gone.Load() {
		return 0, fmt.Errorf("writing there: %w", target.ErrGone)
	}
	return w.Writer.Write(b)
}

// TestADeviceThatFailsInTheMiddle fills a volume on a loop device whose disk takes no more at some point: the files
// that were finished are whole and the volume is sound, and when it takes bytes again a second run completes.
func TestADeviceThatFailsInTheMiddle(t *testing.T) {
	disk := judge.Mount(t, "size=20m")
	img := filepath.Join(disk, "stick.img")
	blank(t, img, 300<<20)
	r := rand.New(rand.NewSource(9))
	p, want := files(t, 6<<20, 6<<20, 6<<20, 6<<20, 3000, 3000)
	for i := range p.Steps[1:] {
		r.Read(want[p.Steps[i+1].Path])
		require.NoError(t, os.WriteFile(p.Steps[i+1].Make.Source.Path, want[p.Steps[i+1].Path], 0o644))
		info, err := os.Stat(p.Steps[i+1].Make.Source.Path)
		require.NoError(t, err)
		p.Steps[i+1].Make.Source.Modified = info.ModTime()
	}
	j := run.Job{Plan: p, Options: run.Options{FirstWait: time.Millisecond, Patience: 50 * time.Millisecond},
		Open: func(context.Context) (target.Target, error) { return openDrive(t, img), nil }}
	rep := run.Start(context.Background(), j).Wait()
	require.False(t, rep.All(), "the disk is too small for all of it")
	judge.Remount(t, disk, "size=80m")
	sound(t, img)
	out := t.TempDir()
	judge.Run(t, "mcopy", "-s", "-n", "-i", img, "::FULL", out)
	for name, got := range onTarget(t, out) {
		assert.True(t, bytes.Equal(want[name], []byte(got)), "%s has its name and is whole", name)
	}
	rest := p.Without(func(n int) bool { return !rep.Undone[n] })
	j.Plan, j.Again = rest, true
	rep = run.Start(context.Background(), j).Wait()
	require.True(t, rep.All(), rep.Failed)
	sound(t, img)
	out = t.TempDir()
	judge.Run(t, "mcopy", "-s", "-n", "-i", img, "::FULL", out)
	assert.Len(t, onTarget(t, out), len(want))
}

// sound fails when more is wrong with a volume than that it was not ejected cleanly.
func sound(t *testing.T, img string) {
	said, _ := judge.Try(t, "fsck.fat", "-n", img)
	for line := range strings.Lines(said) {
		assert.Regexp(t,
			`^$|fsck.fat|Dirty bit|Automatically removing|Free cluster summary|Auto-correcting|Leaving `+
				`filesystem|clusters|Reclaim`, strings.TrimSpace(line))
	}
}

// TestAServerThatOnlyAppendsIsResumed has a connection cut in the middle of a file on a server that writes behind
// what is there, and nowhere else.
func TestAServerThatOnlyAppendsIsResumed(t *testing.T) {
	ftp.Forget()
	r := rand.New(rand.NewSource(11))
	// what the system has taken and the server has not yet is lost, and is a few mebibytes at most
	p, want := mixedFrom(t, r, 16<<20)
	c := &console{dir: t.TempDir(), h: ftpd.Habits{Append: true, Sizes: true}}
	c.on(t)
	defer c.off()
	fs, err := target.FilesystemNamed("ext4")
	require.NoError(t, err)
	for _, verify := range run.Verifies {
		require.NoError(t, os.RemoveAll(filepath.Join(c.dir, "FULL")))
		j := run.Job{Plan: p, Options: run.Options{FirstWait: time.Millisecond, Verify: verify}}
		j.Open = func(context.Context) (target.Target, error) {
			return ftp.Open(context.Background(), c.at(), remote.Settings{Filesystem: &fs, Timeout: time.Second,
				Cluster: 4096})
		}
		var once sync.Once
		j.Emit = func(e run.Event) {
			if e.Step == 1 && e.Kind == run.Progress && e.Bytes > 9<<20 {
				once.Do(func() { c.off(); c.on(t) })
			}
		}
		j.Limit = 40 << 20
		rep := run.Start(context.Background(), j).Wait()
		require.True(t, rep.All(), rep.Failed)
		complete(t, c.dir, want)
		assert.Greater(t, rep.Resumed, int64(4<<20), "%s: what is there is not sent again", verify)
		assert.Zero(t, rep.Rewritten)
	}
}
