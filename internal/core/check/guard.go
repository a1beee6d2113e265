package check

import (
	"io"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/fix"
	"polytome/internal/target"
)

// guard looks at the target as it would be with all remedies made, and takes those back that would keep a title from
// starting that starts now.
func (a *audit) guard() {
	var with []int // numbers of findings whose remedies change names or texts
	for i := range a.r.Findings {
		if slices.ContainsFunc(a.r.Findings[i].Fixes,
			func(m fix.Fix) bool { return m.Do == fix.Rename || m.Do == fix.Write }) {
			with = append(with, i)
		}
	}
	if len(with) == 0 || a.imagined || a.ctx.Err() != nil {
		return
	}
	var good []int
	var sort func(some []int)
	sort = func(some []int) {
		switch {
		case len(some) == 0:
		case !a.breaks(slices.Concat(good, some)):
			good = append(good, some...)
		case len(some) == 1:
			f := &a.r.Findings[some[0]]
			f.Fixes, f.Remedy = nil, "by hand: the automatic fix would stop a working title from starting"
		default:
			sort(some[:len(some)/2])
			sort(some[len(some)/2:])
		}
	}
	sort(with)
}

// breaks reports whether a title that starts now would start no longer with the remedies of some findings.
func (a *audit) breaks(some []int) bool {
	b, moved := a.imagine(some)
	for _, profile := range a.profiles {
		if b.look(profile) != nil {
			return false // it was cancelled
		}
	}
	starts := map[string]bool{}
	for _, l := range b.r.Listed {
		if l.Starts {
			starts[l.Loader+"\x00"+b.tree.fold(l.Path)] = true
		}
	}
	return slices.ContainsFunc(a.r.Listed, func(l Listed) bool {
		return l.Starts && !starts[l.Loader+"\x00"+a.tree.fold(l.Path)] &&
			!starts[l.Loader+"\x00"+a.tree.fold(moved(l.Path))]
	})
}

// imagine is an audit of the target as it would be with the remedies of some findings, and where what lay at a path
// would lie. It reads what is where it is.
func (a *audit) imagine(some []int) (b *audit, moved func(string) string) {
	b = &audit{ctx: a.ctx, target: a.target, profiles: a.profiles, set: a.set, o: Options{Via: a.o.Via,
		Depth: a.o.Depth, NoCovers: true}, facts: a.facts,
		claimed: map[string]bool{}, imagined: true, lies: map[string]string{}, wrote: map[string]string{},
		known: a.known, r: Report{Listed: []Listed{}, Depth: a.o.Depth}}
	fold := a.tree.fold
	now := make(map[string]int, len(a.tree.entries)) // folded path -> number of the entry that is there
	entries := slices.Clone(a.tree.entries)
	for i := range entries {
		now[fold(entries[i].Path)] = i
	}
	to := map[string]string{} // folded path of what is moved -> where to
	for _, n := range some {
		for _, m := range a.r.Findings[n].Fixes {
			key := fold(m.Path)
			switch i, there := now[key]; {
			case m.Do == fix.Rename && there:
				if k, taken := now[fold(m.To)]; taken && k != i {
					continue // the plan leaves it out
				}
				to[fold(a.tree.entries[i].Path)] = m.To
				delete(now, key)
				entries[i].Path = m.To
				now[fold(m.To)] = i
			case m.Do == fix.Write:
				if !there {
					i = len(entries)
					entries = append(entries, target.Entry{Path: m.Path})
					now[key] = i
				}
				text, _ := m.Content()
				entries[i].Size = int64(len(text))
				b.wrote[fold(entries[i].Path)] = text
			}
		}
	}
	moved = func(p string) string {
		for dir := p; dir != "."; dir = path.Dir(dir) {
			if new, ok := to[fold(dir)]; ok {
				return new + strings.TrimPrefix(p, dir)
			}
		}
		return p
	}
	for i := range entries {
		if i >= len(a.tree.entries) {
			continue
		}
		if was := a.tree.entries[i].Path; entries[i].Path == was { // it may lie in a folder that is moved
			if text, ok := b.wrote[fold(was)]; ok {
				b.wrote[fold(moved(was))] = text
			}
			entries[i].Path = moved(was)
		}
		b.lies[fold(entries[i].Path)] = a.tree.entries[i].Path
	}
	have := map[string]bool{}
	for i := range entries {
		have[fold(entries[i].Path)] = true
	}
	for i := range entries { // folders that are made
		for dir := path.Dir(entries[i].Path); dir != "." && !have[fold(dir)]; dir = path.Dir(dir) {
			have[fold(dir)] = true
			entries = append(entries, target.Entry{Path: dir, Folder: true})
		}
	}
	slices.SortFunc(entries, func(x, y target.Entry) int { return strings.Compare(x.Path, y.Path) })
	b.tree = newTree(b, entries, fold)
	return b, moved
}

// open opens a file: where it lies, or what is imagined to be in it.
func (a *audit) open(at string) (target.Content, error) {
	if a.imagined {
		if text, ok := a.wrote[a.tree.fold(at)]; ok {
			return writing{strings.NewReader(text)}, nil
		}
	}
	if e, ok := a.tree.file(at); ok && a.o.Near != nil && a.o.Depth != Whole && !a.imagined {
		if c := a.o.Near(at); c != nil && c.Size() == e.Size {
			return c, nil
		} else if c != nil { // something else was put there since
			_ = c.Close()
		}
	}
	return a.target.Open(a.ctx, a.real(at))
}

// real is the path at which a file lies.
func (a *audit) real(at string) string {
	if was, ok := a.lies[a.tree.fold(at)]; ok {
		return was
	}
	return at
}

// written reports whether something else is imagined to be in a file than is there.
func (a *audit) written(at string) bool {
	_, ok := a.wrote[a.tree.fold(at)]
	return ok
}

// writing is a text as a file of a target.
type writing struct{ *strings.Reader }

func (w writing) Close() error { return nil }

func (w writing) Data(off int64) (start, end int64) { return min(off, w.Size()), w.Size() }

var _ io.ReaderAt = writing{}
