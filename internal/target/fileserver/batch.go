package fileserver

import (
	"context"
	"errors"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"polytome/internal/parallel"
	"polytome/internal/target"
)

// together is how many files are open at once: a small server allows a hundred or so.
const together = 64

// Together is how many files wait for one another.
func (p *Target) Together() int { return together }

// FlushAll has the server bring files to its disk, all at once: what it is asked for at the same time, it can do in one
// go.
func (p *Target) FlushAll(files []target.Writer, _ bool) []error {
	errs := make([]error, len(files))
	parallel.InOrder(len(files), len(files), func(i, _ int) bool {
		errs[i] = files[i].Flush()
		return true
	})
	return errs
}

// held is what was named while names are held back. Names are given side by side, so it is locked; while a folder is
// listed, too, as all others wait for that list. Nothing else is locked meanwhile.
type held struct {
	mu    sync.Mutex
	taken map[string]map[string]bool // by folder: the names in it, folded
	// late are those that were named in a folder and returned after the last naming there began: the server did one of
	// them last, so what brings all of them to its disk takes the others along.
	late map[string][]*writer
}

// Hold has names wait until Settle makes them last. Where the server searches for names, each folder is listed once
// meanwhile to find out which are taken: that is quicker than asking for each.
func (p *Target) Hold() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.held = &held{taken: map[string]map[string]bool{}, late: map[string][]*writer{}}
}

// Settle brings the names to the server's disk.
func (p *Target) Settle(ctx context.Context) error {
	p.mu.Lock()
	h := p.held
	p.held = nil
	p.mu.Unlock()
	if h == nil {
		return nil
	}
	all := slices.Concat(slices.Collect(maps.Values(h.late))...)
	errs := make([]error, len(all))
	parallel.InOrder(len(all), len(all), func(i, _ int) bool {
		errs[i] = all[i].lasting(ctx)
		return true
	})
	return errors.Join(errs...)
}

// holding is what names are held back with, nil where they are not.
func (p *Target) holding() *held {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.held
}

// free fails with target.ErrExists when there is something of a name, as far as its folder is known.
func (p *Target) free(ctx context.Context, h *held, name string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	dir := path.Dir(name)
	taken := h.taken[dir]
	if taken == nil {
		there, err := p.listed(ctx, dir)
		if err != nil {
			return err
		}
		taken = map[string]bool{}
		for _, e := range there {
			taken[p.fold(path.Base(e.Path))] = true
		}
		h.taken[dir] = taken
	}
	if taken[p.fold(path.Base(name))] {
		return p.explain("naming", name, target.ErrExists)
	}
	return nil
}

// naming notes that a file is about to be given its name, and named that it was.
func (h *held) naming(w *writer) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.late[path.Dir(w.name)] = nil
}

func (h *held) named(w *writer) {
	h.mu.Lock()
	defer h.mu.Unlock()
	dir := path.Dir(w.name)
	h.late[dir] = append(h.late[dir], w)
}

// fold makes one of names that are one to the server.
func (p *Target) fold(name string) string {
	if p.sensitive {
		return name
	}
	return strings.ToUpper(name)
}
