package target

import (
	"path"
	"strconv"
	"strings"
)

// Inside brings the paths of files that come out of an image or archive into names that a filesystem holds. Those
// that it holds stay as they are; in others, characters that it does not allow become underscores, what is too long is
// cut in front of the extension, and where two would be the same, or differ in letter case alone, the later gets a
// number. Further limits may be given: allows says what else a name must fulfil, "" for nothing to say against it. The
// same names give the same names, and no two files get one. Changed counts the files with another path.
func (f Filesystem) Inside(names []string, allows func(name string) string) (as []string, changed int) {
	r := &renamer{f: f, allows: allows, as: map[string]string{}, taken: map[string]bool{}}
	for _, n := range names { // what is fine comes first, and keeps its name
		r.keep(n)
	}
	as = make([]string, len(names))
	seen := make(map[string]bool, len(names))
	for i, n := range names {
		if as[i] = r.path(n); seen[n] { // a file twice: the second is another one
			as[i] = r.free(path.Dir(as[i]), path.Base(n))
		}
		seen[n] = true
		if as[i] != n {
			changed++
		}
	}
	return as, changed
}

type renamer struct {
	f      Filesystem
	allows func(string) string
	as     map[string]string // paths as they come -> as they are written
	taken  map[string]bool   // folded paths as they are written
}

func (r *renamer) fine(name string) bool {
	return r.f.CheckName(name) == "" && (r.allows == nil || r.allows(name) == "")
}

// keep gives a path its own name, with the folders above it, as far as the names are fine and free.
func (r *renamer) keep(p string) bool {
	if _, ok := r.as[p]; ok {
		return r.as[p] == p
	}
	dir := path.Dir(p)
	if dir != "." && !r.keep(dir) || !r.fine(path.Base(p)) {
		return false
	}
	key := r.f.Fold(p)
	if r.taken[key] {
		return false
	}
	r.taken[key], r.as[p] = true, p
	return true
}

// path is a path as it is written.
func (r *renamer) path(p string) string {
	if as, ok := r.as[p]; ok {
		return as
	}
	dir := path.Dir(p)
	if dir != "." {
		dir = r.path(dir)
	}
	as := r.free(dir, path.Base(p))
	r.as[p] = as
	return as
}

// free finds a name in a folder that is allowed and that nothing has.
func (r *renamer) free(dir, name string) string {
	legal := strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7F || !r.fine("a"+string(c)+"a") {
			return '_'
		}
		return c
	}, strings.ToValidUTF8(name, "_"))
	if r.f.Windows {
		if trimmed := strings.TrimRight(legal, ". "); trimmed != legal {
			legal = trimmed + "_"
		}
	}
	base, ext := legal, path.Ext(legal)
	if ext == legal || len(ext) > 16 {
		ext = ""
	}
	base = strings.TrimSuffix(base, ext)
	for n := 1; ; n++ {
		mark := ""
		if n > 1 {
			mark = "_" + strconv.Itoa(n)
		}
		for cut := []rune(base); ; cut = cut[:len(cut)-1] {
			as := string(cut) + mark + ext
			if r.f.Windows && IsDevice(strings.ToUpper(string(cut)+mark)) {
				as = string(cut) + mark + "_" + ext
			}
			if !r.fine(as) && len(cut) > 0 {
				continue // too long
			}
			full := path.Join(dir, as)
			if key := r.f.Fold(full); !r.taken[key] {
				r.taken[key] = true
				return full
			}
			break
		}
	}
}
