package fileserver

import (
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"path"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/target"
)

// slowServer takes its time before and after it does something, as a network does. What was named lasts when a file is
// flushed that was named then or later, as on a disk with a journal.
type slowServer struct {
	Server // what is not asked for here

	mu      sync.Mutex
	rng     *rand.Rand
	named   []string       // in the order in which it was done
	at      map[string]int // place in that order
	lasts   int            // so many of them last
	flushes int
	lists   int
	there   []string // others' files
}

func (s *slowServer) wait() {
	s.mu.Lock()
	d := time.Duration(s.rng.IntN(2000)) * time.Microsecond
	s.mu.Unlock()
	time.Sleep(d)
}

func (s *slowServer) Allows(string) error      { return nil }
func (s *slowServer) Where(name string) string { return name }
func (s *slowServer) Classify(err error) error { return err }

func (s *slowServer) ReadDir(_ context.Context, dir string) (out []fs.FileInfo, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lists++
	for _, name := range s.there {
		if path.Dir(name) == dir {
			out = append(out, listed(path.Base(name)))
		}
	}
	return out, nil
}

func (s *slowServer) OpenFile(context.Context, string, int) (File, error) { return openFile{}, nil }

func (s *slowServer) Rename(_ context.Context, _, to string, _ bool) error {
	s.wait()
	s.mu.Lock()
	s.at[to] = len(s.named)
	s.named = append(s.named, to)
	s.mu.Unlock()
	s.wait()
	return nil
}

func (s *slowServer) Lasting(_ context.Context, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.flushes++
	s.lasts = max(s.lasts, s.at[name]+1)
	return nil
}

type openFile struct{ File }

func (openFile) WriteAt(b []byte, _ int64) (int, error) { return len(b), nil }
func (openFile) Sync() error                            { return nil }
func (openFile) Close() error                           { return nil }

type listed string

func (l listed) Name() string     { return string(l) }
func (listed) Size() int64        { return 1 }
func (listed) Mode() fs.FileMode  { return 0o644 }
func (listed) ModTime() time.Time { return time.Time{} }
func (listed) IsDir() bool        { return false }
func (listed) Sys() any           { return nil }

// TestWhatWasNamedTogetherLasts names files of two folders side by side, in any order: when that is settled, all of
// them last, for a few flushes. A name that somebody else has taken by then, in whatever letter case, is left to them.
func TestWhatWasNamedTogetherLasts(t *testing.T) {
	for seed := range uint64(20) {
		s := &slowServer{rng: rand.New(rand.NewPCG(seed, 1)), at: map[string]int{}, there: []string{"a/GAME 05"}}
		p := blank(s, Options{AtOnce: 8, LateCheck: true, Searches: true})
		var all []target.Writer
		ctx, over := context.WithCancel(context.Background())
		for i := range 60 {
			w, err := p.Create(ctx, fmt.Sprintf("%c/game %02d", 'a'+rune(i%2), i/2), 10)
			require.NoError(t, err)
			_, err = w.Write(make([]byte, 10))
			require.NoError(t, err)
			all = append(all, w)
		}
		for _, err := range p.FlushAll(all, true) {
			require.NoError(t, err)
		}
		p.Hold()
		next, errs := make(chan int, len(all)), make([]error, len(all))
		for i := range all {
			next <- i
		}
		close(next)
		var wait sync.WaitGroup
		for range p.AtOnce() {
			wait.Go(func() {
				for i := range next {
					errs[i] = all[i].Commit()
				}
			})
		}
		wait.Wait()
		over() // somebody skips the steps now: their names are given, and the others' hang on them
		assert.Zero(t, s.flushes, "nothing is waited for before all have their names")
		require.NoError(t, p.Settle(context.Background()))
		for i, err := range errs {
			if i == 10 { // a/game 05
				require.ErrorIs(t, err, target.ErrExists)
				continue
			}
			require.NoError(t, err)
		}
		assert.Len(t, s.named, 59)
		assert.Equal(t, 59, s.lasts, "seed %d: a power cut would take names", seed)
		assert.LessOrEqual(t, s.flushes, 2*p.AtOnce())
		assert.Equal(t, 2, s.lists, "each folder is listed once")
		require.NoError(t, p.Settle(context.Background()), "settling twice does no harm")
	}
}
