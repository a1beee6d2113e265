// Package intake goes through folders of games and finds out what every file
// is: the platform, ID, name and disc are read out of the images themselves, and
// images that are cut short are found.
package intake

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
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
	Files    int           `json:"files"`  // looked at
	Passed   int           `json:"passed"` // files that are no game of a known platform
}

// progressEvery is how often a scan in the background tells what it has.
const progressEvery = 200 * time.Millisecond

// Scan walks the source folders and identifies the files in them, several at
// once. Hidden files and folders are skipped. When progress is not nil, it gets
// what has been found so far from time to time. The error is only that of a
// cancelled context: everything else is a [Problem].
func Scan(ctx context.Context, sources []string, set *loader.Set, progress func(Result)) (Result, error) {
	s := &scan{set: set, seen: map[string]bool{}}
	paths := make(chan string, 256)
	var workers sync.WaitGroup
	for range max(2, runtime.NumCPU()) {
		workers.Go(func() {
			for p := range paths {
				s.look(p)
			}
		})
	}
	stop := make(chan struct{})
	var teller sync.WaitGroup
	if progress != nil {
		teller.Go(func() {
			for {
				select {
				case <-stop:
					return
				case <-time.After(progressEvery):
					progress(s.result())
				}
			}
		})
	}
	for _, dir := range sources {
		s.walk(ctx, dir, paths)
	}
	close(paths)
	workers.Wait()
	close(stop)
	teller.Wait()
	return s.result(), ctx.Err()
}

// scan is a scan under way. Workers share it.
type scan struct {
	set  *loader.Set
	seen map[string]bool // by the walker only: two sources may overlap

	mu       sync.Mutex
	found    []title.Title // one for each file
	problems []Problem
	files    int
	passed   int
}

func (s *scan) walk(ctx context.Context, dir string, paths chan<- string) {
	info, err := os.Stat(dir)
	if err == nil && !info.IsDir() {
		err = errors.New("this is a file; a source must be a folder")
	}
	if err != nil {
		s.problem(dir, err)
		return
	}
	_ = filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			s.problem(p, err)
			return nil
		}
		if p != dir && strings.HasPrefix(d.Name(), ".") {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if d.IsDir() && p != dir {
			if t := s.folder(p); t != nil {
				return fs.SkipDir
			}
		}
		if d.IsDir() || !(d.Type().IsRegular() || d.Type()&fs.ModeSymlink != 0) {
			return nil
		}
		if abs, err := filepath.Abs(p); err == nil {
			if s.seen[abs] {
				return nil
			}
			s.seen[abs] = true
		}
		paths <- p
		return nil
	})
}

func (s *scan) problem(path string, err error) {
	say := err.Error()
	var pe *fs.PathError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		say = "there is no such file or folder; check the spelling, or plug its drive in"
	case errors.Is(err, fs.ErrPermission):
		say = "you are not allowed to read it; change its permissions, or run as its owner"
	case errors.As(err, &pe):
		say = pe.Err.Error()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.problems = append(s.problems, Problem{path, say})
}

// folder takes in a folder that is a game by itself. Folders are few and their
// markers quickly looked for, so the walker does it.
func (s *scan) folder(dir string) *title.Title {
	t, err := folder(dir, s.set)
	if err != nil {
		s.problem(dir, err)
		return nil
	}
	if t != nil {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.files += len(t.Discs[0].Parts)
		s.found = append(s.found, *t)
	}
	return t
}

// look identifies one file.
func (s *scan) look(path string) {
	t, err := s.identify(path)
	if err != nil {
		s.problem(path, err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.files++
	if t != nil {
		s.found = append(s.found, *t)
	} else if err == nil {
		s.passed++
	}
}

// identify keeps a mistake of the readers, which some strange file brings to
// light, from ending the program.
func (s *scan) identify(path string) (t *title.Title, err error) {
	defer func() {
		if r := recover(); r != nil {
			t, err = nil, fmt.Errorf("the reader failed on this file, which is a mistake of Polytome: %v", r)
		}
	}()
	return identify(path, s.set)
}

func (s *scan) result() Result {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := Result{Titles: Group(slices.Clone(s.found)), Files: s.files, Passed: s.passed, Problems: slices.Clone(s.problems)}
	for i := range s.found { // track files were passed over before their sheet was read
		if s.found[i].Form == title.Tracks {
			for _, d := range s.found[i].Discs {
				r.Passed -= len(d.Parts)
			}
		}
	}
	r.Passed = max(0, r.Passed)
	slices.SortFunc(r.Problems, func(a, b Problem) int { return strings.Compare(a.Path, b.Path) })
	return r
}

// Group joins the discs of one game, gives every title its key, notes what
// titles have in common, and puts them in order. Its input is one title for each file.
func Group(found []title.Title) []title.Title {
	slices.SortFunc(found, func(a, b title.Title) int { return title.CompareSource(&a, &b) })
	var out []title.Title
	sets := map[string]int{} // what discs of one game share -> index in out
	for _, t := range found {
		if t.Of == 1 {
			out = append(out, t)
			continue
		}
		key := fmt.Sprintf("%s\x00%s\x00%s\x00%d", t.Platform, t.Name, t.Region, t.Of)
		if t.Of == 0 && t.Form != title.Tracks {
			key += "\x00" + t.ID // discs that do not tell how many there are share their ID
		}
		i, ok := sets[key]
		if ok && !slices.ContainsFunc(out[i].Discs, func(d title.Disc) bool { return d.Number == t.Discs[0].Number }) {
			out[i].Discs = append(out[i].Discs, t.Discs...)
			out[i].Findings = append(out[i].Findings, t.Findings...)
			continue
		}
		sets[key] = len(out)
		out = append(out, t)
	}
	ids := map[string]string{} // ID -> source of the first title that has it
	for i := range out {
		t := &out[i]
		slices.SortFunc(t.Discs, func(a, b title.Disc) int { return a.Number - b.Number })
		t.ID = t.Discs[0].ID
		if t.Of == 0 { // nothing says how many there are, but the last one that is here
			t.Of = t.Discs[len(t.Discs)-1].Number
		}
		if len(t.Discs) < t.Of {
			t.Findings = append(t.Findings, title.Finding{
				Grade: title.Fault, Say: fmt.Sprintf("only %s of %d found", discList(t.Discs), t.Of),
				Remedy: "add the missing disc's image to a source folder",
			})
		}
		t.Key = t.Source()
		if t.ID == "" {
			continue
		}
		if first, taken := ids[t.Platform+t.ID]; taken {
			t.Findings = append(t.Findings, title.Finding{
				Grade: title.Note, Say: fmt.Sprintf("%s has the ID %s too", filepath.Base(first), t.ID),
				Remedy: "keep the one that you want, and move the other out of the source folder",
			})
			continue
		}
		ids[t.Platform+t.ID] = t.Source()
		t.Key = t.ID
	}
	slices.SortFunc(out, func(a, b title.Title) int { return title.Compare(&a, &b) })
	return out
}

func discList(discs []title.Disc) string {
	var s []string
	for _, d := range discs {
		s = append(s, fmt.Sprint(d.Number))
	}
	return "disc " + strings.Join(s, ", ")
}
