// Package scan goes through folders of games and finds out what every file
// is: the platform, ID, name and disc are read out of the images themselves, also where those
// lie in archives, and files that are cut short, damaged or incomplete are found. What was seen
// once is not looked at again until it changes.
package scan

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"polytome/internal/core/bench"
	"polytome/internal/core/cover"
	"polytome/internal/core/loader"
	"polytome/internal/core/scancache"
	"polytome/internal/core/title"
	"polytome/internal/core/titlelist"
	"polytome/internal/format/archive"
)

// A Problem is a file or folder that could not be looked at. The scan goes on.
type Problem struct {
	Path string `json:"path"`
	Say  string `json:"say"`
}

// A Result is what a scan has found, so far or altogether.
type Result struct {
	Titles   []title.Title `json:"titles"` // ordered by title.Compare
	Problems []Problem     `json:"problems,omitempty"`
	Files    int           `json:"files"`             // found
	Passed   int           `json:"passed"`            // files that are no game of a known platform
	Dropped  []title.Title `json:"dropped,omitempty"` // left out by the user
	Reused   int           `json:"reused"`            // files that were known from an earlier scan
	// Sums are the checksum lists that are in the folders.
	Sums []string `json:"checksum_lists,omitempty"`
	// Notes are what should be known of the scan itself.
	Notes []string `json:"notes,omitempty"`
}

// Options are how a scan is done. Only Set is needed.
type Options struct {
	Set *loader.Set
	// Cache keeps what was seen; nil looks at everything.
	Cache *scancache.Store
	// Edits are what the user has set by hand; their files are paths of this computer.
	Edits []title.Edit
	// Lists are files with the user's lists of titles.
	Lists []string
	// Covers finds pictures for titles; nil finds those beside the games.
	Covers *cover.Finder
	// Passwords are tried on encrypted archives.
	Passwords []string
	// Progress gets what has been found so far from time to time; nil for none.
	Progress func(Result)
}

// For are the options for a bench's sources.
func For(b *bench.Bench, set *loader.Set, cache *scancache.Store) Options {
	return Options{Set: set, Cache: cache, Edits: b.ResolvedEdits(), Lists: b.ListPaths(),
		Passwords: slices.Clone(b.Passwords)}
}

// Allowed are the archives that a bench allows to be large inside.
func Allowed(b *bench.Bench) (out []string) {
	for _, e := range b.ResolvedEdits() {
		if e.Allow {
			out = append(out, e.File)
		}
	}
	return out
}

// progressEvery is how often a scan in the background reports what it has, at most.
const progressEvery = 200 * time.Millisecond

// Scan walks the source folders and identifies the files in them, several at once, but one at a
// time on a disk that turns. Hidden and system folders are skipped; links are followed to what
// was not seen otherwise. The error is only that of a cancelled context: everything else is a
// [Problem].
func Scan(ctx context.Context, sources []string, o Options) (Result, error) {
	sources = slices.Clone(sources)
	for i := range sources {
		sources[i] = absolute(sources[i]) // what is remembered must mean the same wherever the program is started
	}
	s := newScan(ctx, o)
	stop := make(chan struct{})
	var teller sync.WaitGroup
	if o.Progress != nil {
		teller.Go(func() {
			wait := progressEvery
			for {
				select {
				case <-stop:
					return
				case <-time.After(wait):
					begun := time.Now()
					o.Progress(s.result())
					wait = max(progressEvery, 4*time.Since(begun)) // the telling must not become the work
				}
			}
		})
	}
	s.run(sources)
	close(stop)
	teller.Wait()
	if ctx.Err() != nil {
		return s.result(), ctx.Err()
	}
	r := s.finish(sources)
	return r, ctx.Err()
}

// scan is a scan under way. Workers share it.
type scan struct {
	ctx   context.Context
	o     Options
	set   *loader.Set
	known uint64 // of what files are looked at with
	disks disks
	open  archive.Options
	allow map[string]bool
	list  titlelist.List
	store *keeper

	mu      sync.Mutex
	more    sync.Cond
	tasks   []func()
	busy    int
	visited map[[2]uint64]bool
	paths   map[string]bool // visited folders where inodes are not known
	looks   []*look
	links   []string

	problems []Problem
	notes    []string
}

func newScan(ctx context.Context, o Options) *scan {
	s := &scan{ctx: ctx, o: o, set: o.Set, visited: map[[2]uint64]bool{}, paths: map[string]bool{},
		allow: map[string]bool{}}
	s.more.L = &s.mu
	s.open = archive.Options{Passwords: o.Passwords}
	for _, e := range o.Edits {
		if e.Allow {
			s.allow[absolute(e.File)] = true
		}
	}
	s.known = fingerprint(o, s.allow)
	for _, l := range o.Lists {
		s.readList(l)
	}
	s.store = newKeeper(o.Cache, s.known)
	if o.Covers != nil {
		s.notes = append(s.notes, o.Covers.Trouble...)
	}
	return s
}

// workers is how many tasks are done at once; how many of them read one disk, [disks] tells.
const workers = 4

// run walks the sources to their end, and then the links that lead elsewhere.
func (s *scan) run(sources []string) {
	s.store.load(sources)
	for i := len(sources) - 1; i >= 0; i-- {
		s.source(sources[i])
	}
	s.work()
	s.mu.Lock()
	links := s.links
	s.links = nil
	s.mu.Unlock()
	slices.Sort(links)
	s.follow(links)
	s.work()
}

// work does tasks until there are none left.
func (s *scan) work() {
	var all sync.WaitGroup
	for range workers {
		all.Go(func() {
			for {
				s.mu.Lock()
				for len(s.tasks) == 0 && s.busy > 0 {
					s.more.Wait()
				}
				if len(s.tasks) == 0 {
					s.mu.Unlock()
					s.more.Broadcast()
					return
				}
				do := s.tasks[len(s.tasks)-1]
				s.tasks = s.tasks[:len(s.tasks)-1]
				s.busy++
				s.mu.Unlock()
				if s.ctx.Err() == nil {
					s.do(do)
				}
				s.mu.Lock()
				s.busy--
				s.mu.Unlock()
				s.more.Broadcast()
			}
		})
	}
	all.Wait()
}

// do does one task. A mistake of ours in it is reported, and the rest goes on.
func (s *scan) do(task func()) {
	defer s.mistake("the scan")
	task()
}

func (s *scan) push(tasks ...func()) {
	s.mu.Lock()
	s.tasks = append(s.tasks, tasks...)
	s.mu.Unlock()
	s.more.Broadcast()
}

func (s *scan) problem(path string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.problems = append(s.problems, Problem{path, sayProblem(err)})
}

// sayProblem says in words what keeps a file from being read.
func sayProblem(err error) string {
	var pe *fs.PathError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "no such file or folder; check the spelling, or plug in its drive"
	case errors.Is(err, fs.ErrPermission):
		return "permission denied; change its permissions, or run as its owner"
	case isGone(err):
		return "its drive does not respond any more; plug it in again, and scan again"
	case errors.As(err, &pe):
		return pe.Err.Error()
	}
	return err.Error()
}

// result puts together what there is so far.
func (s *scan) result() Result {
	s.mu.Lock()
	looks := slices.Clone(s.looks)
	r := Result{Problems: slices.Clone(s.problems), Notes: slices.Clone(s.notes)}
	s.mu.Unlock()
	n := 0
	for _, l := range looks {
		n += len(l.all)
	}
	found := make([]*title.Title, 0, n)
	for _, l := range looks {
		known := l.shown.Load()
		for i := range known.titles {
			found = append(found, &known.titles[i])
		}
		r.Files += known.count
		r.Reused += known.reused
		r.Passed += known.passed
		r.Sums = append(r.Sums, l.sums()...)
	}
	m := fixer{edits: s.o.Edits, list: &s.list}
	select {
	case <-s.store.loaded:
		m.checks = s.store.checks
	default: // the cache is still being read
	}
	r.Titles, r.Dropped = m.assemble(found)
	s.o.Covers.Dress(r.Titles)
	slices.SortFunc(r.Problems, func(a, b Problem) int { return strings.Compare(a.Path, b.Path) })
	if n := s.o.Cache.Note(); n != "" {
		r.Notes = append(r.Notes, n)
	}
	return r
}

// finish looks closer where that needs all titles, and keeps what was seen.
func (s *scan) finish(sources []string) Result {
	s.store.settle()
	s.compare()
	s.sumForLists()
	s.store.keep(s.looks, sources)
	if err := s.store.err; err != nil {
		s.notes = append(s.notes, "the cache cannot be used: "+err.Error())
	}
	return s.result()
}

// base is a path's last part, for what is reported.
func base(path string) string { return filepath.Base(path) }
