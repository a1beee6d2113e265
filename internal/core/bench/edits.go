package bench

import (
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/title"
)

// Edit changes what was set by hand for the title of a file, a path of this computer; see
// [title.Title.Where]. An edit that says nothing any longer is forgotten.
func (b *Bench) Edit(where, sign string, change func(*title.Edit)) {
	file := b.Relative(where)
	i := slices.IndexFunc(b.Edits, func(e title.Edit) bool { return e.File == file })
	e := title.Edit{File: file, Sign: sign}
	b.Edits = slices.Clone(b.Edits) // earlier choices share it
	if i >= 0 {
		e = b.Edits[i]
		b.Edits = slices.Delete(b.Edits, i, i+1)
	}
	change(&e)
	if e.Sign == "" {
		e.Sign = sign
	}
	if !e.Empty() {
		b.Edits = append(b.Edits, e)
		slices.SortFunc(b.Edits, func(x, y title.Edit) int { return strings.Compare(x.File, y.File) })
	}
}

// EditOf is what was set by hand for the title of a file; an empty one for nothing.
func (b *Bench) EditOf(where string) title.Edit {
	file := b.Relative(where)
	if i := slices.IndexFunc(b.Edits, func(e title.Edit) bool { return e.File == file }); i >= 0 {
		return b.Edits[i]
	}
	return title.Edit{File: file}
}

// Relative is a path as the bench keeps it: the opposite of [Bench.Resolve].
func (b *Bench) Relative(path string) string {
	if b.file == "" {
		return path
	}
	file, entry, packed := strings.Cut(path, title.EntryMark)
	dir := filepath.Dir(b.file)
	if abs, err := filepath.Abs(dir); err == nil && filepath.IsAbs(file) {
		dir = abs
	}
	if rel, err := filepath.Rel(dir, file); err == nil && filepath.IsLocal(rel) {
		file = rel
	}
	if packed {
		file += title.EntryMark + entry
	}
	return file
}

// ResolvedEdits are the edits with paths of this computer.
func (b *Bench) ResolvedEdits() []title.Edit {
	out := slices.Clone(b.Edits)
	for i := range out {
		file, entry, packed := strings.Cut(out[i].File, title.EntryMark)
		out[i].File = b.Resolve(file)
		if packed {
			out[i].File += title.EntryMark + entry
		}
		out[i].Pictures = slices.Clone(out[i].Pictures)
		for k := range out[i].Pictures {
			if p := &out[i].Pictures[k]; p.File != "" {
				p.File = b.Resolve(p.File)
			}
		}
	}
	return out
}

// AddList adds a file with the user's list of titles, a path of this computer. It reports whether it was
// not there yet.
func (b *Bench) AddList(path string) bool {
	list := b.Relative(path)
	if slices.Contains(b.Lists, list) {
		return false
	}
	b.Lists = append(slices.Clone(b.Lists), list)
	return true
}

// ListPaths lists the files with the user's lists of titles.
func (b *Bench) ListPaths() []string {
	var out []string
	for _, l := range b.Lists {
		out = append(out, b.Resolve(l))
	}
	return out
}
