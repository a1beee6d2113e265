package fileserver

import (
	"context"
	"path"

	"polytome/internal/target"
)

// Some servers read a whole folder to find out that a name is new there. Where they do, small files do not begin in the
// folder where thousands of others are, but in one of their own below it, which nobody sees: it is left out of lists,
// though not what an interrupted run has left in it, and goes when the target is closed.
const (
	beginnings = "polytome.begun"
	many       = 256 // files of a folder from which on that pays
)

// beginning is the path under which a file is written before it has its name.
func (p *Target) beginning(ctx context.Context, name string, size int64) string {
	temp := target.TemporaryName(name)
	if !p.opts.Searches || size > smallFile {
		return temp
	}
	dir := path.Dir(name)
	p.mu.Lock()
	p.begun[dir]++
	n := p.begun[dir]
	p.mu.Unlock()
	own := path.Join(dir, beginnings)
	if n <= many || p.MakeFolder(ctx, own) != nil { // who may make no folder there begins among the others
		return temp
	}
	p.noteOwn(own)
	return path.Join(own, path.Base(temp))
}

func (p *Target) noteOwn(own string) {
	p.mu.Lock()
	p.own[own] = true
	p.mu.Unlock()
}

// seen leaves folders of beginnings out of a list.
func (p *Target) seen(e target.Entry) bool {
	if !p.opts.Searches || !e.Folder || path.Base(e.Path) != beginnings {
		return true
	}
	p.noteOwn(e.Path)
	return false
}

// tidy removes the folders of beginnings below one that is about to go, or all of them. What is left in them keeps
// them, and the next run lists it.
func (p *Target) tidy(ctx context.Context, below string) {
	p.mu.Lock()
	var all []string
	for own := range p.own {
		if below == "." || path.Dir(own) == below {
			all = append(all, own)
			delete(p.own, own)
		}
	}
	p.mu.Unlock()
	for _, own := range all {
		_ = p.s.Remove(ctx, own)
	}
}
