package folder

import (
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sync"
)

// within is the folder that was worked in last, opened: what is done to one file after the other in it needs no walk
// along their paths.
//
// The lock is there as others look at a target while it is filled; nothing else is locked while it is held.
type within struct {
	mu   sync.Mutex
	path string // with slashes; "" for none
	dir  *os.Root
	info fs.FileInfo
}

// in does something in the folder that a path leads into, with the name that the path ends in.
func (p *Target) in(name string, do func(dir *os.Root, base string) error) error {
	at := path.Dir(name)
	if at == "." {
		return do(p.root, name)
	}
	w := &p.within
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.path != at {
		w.leave()
		dir, err := p.root.OpenRoot(filepath.FromSlash(at))
		if err != nil {
			return err
		}
		info, err := dir.Stat(".")
		if err != nil {
			_ = dir.Close()
			return err
		}
		w.path, w.dir, w.info = at, dir, info
	}
	return do(w.dir, path.Base(name))
}

// still leaves the folder that a path leads into where another one has its name by now.
func (p *Target) still(name string) {
	w := &p.within
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.path == "" || w.path != path.Dir(name) {
		return
	}
	if info, err := p.root.Stat(filepath.FromSlash(w.path)); err != nil || !os.SameFile(info, w.info) {
		w.leave()
	}
}

// moved leaves the folder that was worked in last, as it may get another path.
func (p *Target) moved() {
	p.within.mu.Lock()
	defer p.within.mu.Unlock()
	p.within.leave()
}

// leave closes the folder. The lock is held.
func (w *within) leave() {
	if w.path != "" {
		_ = w.dir.Close()
	}
	w.path, w.dir, w.info = "", nil, nil
}
