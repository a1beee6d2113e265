package scan

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"polytome/internal/core/title"
	"polytome/internal/target"
)

func skipped(name string) bool {
	return strings.HasPrefix(name, ".") || target.IsSystemFolder(name)
}

// source begins with a source folder.
func (s *scan) source(dir string) {
	info, err := os.Stat(dir)
	if err == nil && !info.IsDir() {
		err = errors.New("this is a file; a source must be a folder")
	}
	if err != nil {
		s.problem(dir, err)
		return
	}
	if s.first(dir, info) {
		s.push(func() { s.folder(dir, true) })
	}
}

// first reports whether a folder is met for the first time.
func (s *scan) first(dir string, info os.FileInfo) bool {
	device, inode := identity(info)
	return s.visit(dir, device, inode)
}

func (s *scan) visit(dir string, device, inode uint64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if inode == 0 {
		if abs, err := filepath.Abs(dir); err == nil {
			dir = abs
		}
		if s.paths[dir] {
			return false
		}
		s.paths[dir] = true
		return true
	}
	key := [2]uint64{device, inode}
	if s.visited[key] {
		return false
	}
	s.visited[key] = true
	return true
}

// look is a folder that is being looked at. Its workers share what is behind the lock, under which nothing else is
// locked; everybody else reads what was published.
type look struct {
	s    *scan
	dir  string
	all  []item // its listing
	root bool

	shown atomic.Pointer[shown]

	mu      sync.Mutex
	pending int // tasks
	count   int // files
	reused  int
	passed  int
	titles  []title.Title // grows only: what was appended is not changed any longer, as it was published
	outside []item
	failed  []string // files that could not be read, which are tried again next time
	whole   bool
	parts   []item // of a whole folder: its tree
	done    bool
	fresh   bool // it is not in the cache as it is
}

// shown is what a folder is known to hold. It is never changed.
type shown struct {
	titles                []title.Title
	count, reused, passed int
}

// publish shows what is known by now; mu is held, or there are no other workers.
func (l *look) publish() {
	n := len(l.titles)
	s := &shown{titles: l.titles[:n:n], count: l.count, reused: l.reused}
	if l.done {
		s.passed = l.passed
	}
	l.shown.Store(s)
}

// begin begins with a folder, or with a file that a link leads to.
func (s *scan) begin(dir string, all []item, root bool) *look {
	l := &look{s: s, dir: dir, all: all, root: root}
	l.publish()
	s.mu.Lock()
	s.looks = append(s.looks, l)
	s.mu.Unlock()
	return l
}

// folder looks at one folder.
func (s *scan) folder(dir string, root bool) {
	all, err := list(dir)
	if err != nil {
		s.problem(dir, err)
		if len(all) == 0 {
			return
		}
	}
	l := s.begin(dir, all, root)
	was := s.store.record(dir)
	if !root && l.asWhole(was) {
		return
	}
	var tasks []func()
	for i := range all {
		it := &all[i]
		full := dir + string(filepath.Separator) + it.name
		switch {
		case skipped(it.name):
		case it.kind == isFolder:
			if s.visit(full, it.device, it.inode) {
				tasks = append(tasks, func() { s.folder(full, false) })
			}
		case it.kind == isLink:
			s.mu.Lock()
			s.links = append(s.links, full)
			s.mu.Unlock()
		}
	}
	slices.Reverse(tasks)
	s.push(tasks...)
	l.files(was)
}

// asWhole takes the folder for a title by itself, if it is one.
func (l *look) asWhole(was *kept) bool {
	if was != nil && !was.whole && was.Stamp == stamp(l.all) {
		return false
	}
	names := make([]string, 0, len(l.all))
	for i := range l.all {
		names = append(names, l.all[i].name)
	}
	possible := slices.ContainsFunc(l.s.set.Platforms, func(p *platform) bool {
		return p.Has(title.Folder) && begins(names, p.MarkerFiles())
	})
	if !possible {
		return false
	}
	tree, err := l.tree("", nil)
	if err != nil {
		l.s.problem(l.dir, err)
		return false
	}
	if was != nil && was.whole && was.Stamp == stamp(tree) {
		if rec := was.decode(l.dir); rec != nil {
			l.whole, l.parts, l.titles, l.reused, l.count, l.done = true, tree, rec.titles, len(tree), len(tree), true
			l.publish()
			return true
		}
	}
	release := l.s.disks.take(l.device())
	t := l.wholeTitle(names)
	release()
	if t == nil {
		return false
	}
	d := &t.Discs[0]
	for i := range tree {
		it := &tree[i]
		d.Parts = append(d.Parts, title.Part{Name: it.name,
			File: it.file(filepath.Join(l.dir, filepath.FromSlash(it.name)))})
	}
	if info, err := os.Stat(l.dir); err == nil {
		d.File = title.File{Path: l.dir, Modified: info.ModTime()}
	}
	l.whole, l.parts, l.titles, l.count, l.done, l.fresh = true, tree, []title.Title{*t}, len(tree), true, true
	l.publish()
	return true
}

func (l *look) wholeTitle(names []string) (t *title.Title) {
	defer l.s.mistake(l.dir)
	return folder(onDisk(l.dir), base(l.dir), names, title.Folder, l.s.set)
}

// maxFolderFiles is how many files a title in a folder can have.
const maxFolderFiles = 100_000

// tree lists all files below the folder, with slashes in their names.
func (l *look) tree(below string, out []item) ([]item, error) {
	all := l.all
	if below != "" {
		var err error
		if all, err = list(filepath.Join(l.dir, filepath.FromSlash(below))); err != nil {
			return out, err
		}
	}
	for _, it := range all {
		name := it.name
		if below != "" {
			name = below + "/" + it.name
		}
		switch it.kind {
		case isFolder:
			var err error
			if out, err = l.tree(name, out); err != nil {
				return out, err
			}
		case isFile:
			if len(out) == maxFolderFiles {
				return out, errors.New("it has too many files for an unpacked title")
			}
			it.name = name
			out = append(out, it)
		}
	}
	return out, nil
}

func (l *look) device() uint64 {
	if len(l.all) > 0 {
		return l.all[0].device
	}
	return 0
}

// follow takes in what links lead to, unless it was met already.
func (s *scan) follow(links []string) {
	if len(links) == 0 {
		return
	}
	met := map[[2]uint64]bool{}
	for _, l := range s.looks {
		for i := range l.all {
			if it := &l.all[i]; it.kind == isFile && it.inode != 0 {
				met[[2]uint64{it.device, it.inode}] = true
			}
		}
		for i := range l.parts {
			met[[2]uint64{l.parts[i].device, l.parts[i].inode}] = true
		}
	}
	for _, link := range links {
		info, err := os.Stat(link)
		switch {
		case err != nil:
			s.problem(link, err)
		case info.IsDir():
			if s.first(link, info) {
				s.push(func() { s.folder(link, false) })
			}
		case info.Mode().IsRegular():
			device, inode := identity(info)
			key := [2]uint64{device, inode}
			if inode != 0 && met[key] {
				continue
			}
			met[key] = true
			it := item{name: base(link), kind: isFile, size: info.Size(), modified: info.ModTime().UnixNano(),
				inode: inode, device: device}
			l := s.begin(filepath.Dir(link), []item{it}, true)
			l.files(nil)
			l.fresh = false // the folder is kept with what it holds itself
		}
	}
}

// isGone reports whether a disk has vanished under a read.
func isGone(err error) bool {
	return errors.Is(err, fs.ErrClosed) || goneErrno(err)
}
