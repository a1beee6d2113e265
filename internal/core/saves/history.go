package saves

import (
	"path"
	"slices"
	"strings"

	"polytome/internal/core/loader"
)

// Paths are where a loader looks at an attachment for the saves of a title of a platform: by the fields of its discs,
// as they are on the target.
func Paths(p *loader.Profile, at *loader.Attachment, platform string, discs []loader.Values) (out []string) {
	for i := range p.Saves {
		r := &p.Saves[i]
		if at != nil && !r.Holds(at.Name) {
			continue
		}
		for k := range discs {
			file := r.For(platform, &discs[k])
			if at != nil {
				file = at.Cased(file)
			}
			if file != "" && !slices.Contains(out, file) {
				out = append(out, file)
			}
		}
	}
	return out
}

// A key is what the saves of one title have in common, on whatever target they are.
func key(loader, of, file string) string {
	if of == "" {
		return strings.ToLower(loader + "\x00" + file)
	}
	return strings.ToLower(loader + "\x00" + path.Base(path.Dir(file)) + "\x00" + of)
}

// Key is what the save has in common with those of the same title, or with the same shared ones, on other targets.
func (s *Save) Key() string { return key(s.Loader, s.Of, s.Path) }

// Key is what the version has in common with all others of the same title.
func (v *Version) Key() string { return key(v.Loader, v.Of, v.Path) }

// KeyAt is the key of the save that a loader would have at a path.
func KeyAt(p *loader.Profile, file string, folder bool) string {
	for i := range p.Saves {
		r := &p.Saves[i]
		if r.Shared == "" && r.Folder == folder {
			if of, ok := r.Of(file); ok {
				return key(p.Name, of, file)
			}
		}
	}
	return key(p.Name, "", file)
}

// content stands for the bytes of a version.
func content(files []File) string {
	var b strings.Builder
	for _, f := range files {
		b.WriteString(f.Path + "\x00" + f.SHA256 + "\x00")
	}
	return b.String()
}

// line is what tells the place of a save from all others.
func (v *Version) line() string { return v.ID + "\x00" + strings.ToLower(v.Path) }

// Tips are the versions of one title that nothing newer came of, the last first: one where each further place has what
// became of the others', and more where somebody played on in two places. A version came of the one before it at the
// same place, unless it was put there.
func Tips(versions []Version) (out []Version) {
	last := map[string]*Version{}
	follows := map[string][]string{} // content -> what came of it
	for i := range versions {
		v := &versions[i]
		if was := last[v.line()]; was != nil && !v.PutBack {
			follows[content(was.Files)] = append(follows[content(was.Files)], content(v.Files))
		}
		last[v.line()] = v
	}
	came := func(from, to string) bool {
		seen, next := map[string]bool{from: true}, []string{from}
		for len(next) > 0 {
			at := next[0]
			next = next[1:]
			for _, c := range follows[at] {
				if c == to {
					return true
				}
				if !seen[c] {
					seen[c] = true
					next = append(next, c)
				}
			}
		}
		return false
	}
	tips := map[string]*Version{} // by content
	for _, v := range last {
		if c := content(v.Files); tips[c] == nil || tips[c].Number < v.Number {
			tips[c] = v
		}
	}
	for c, v := range tips {
		older := false
		for other, w := range tips {
			older = older || other != c && came(c, other) && (!came(other, c) || v.Number < w.Number)
		}
		if !older {
			out = append(out, *v)
		}
	}
	slices.SortFunc(out, func(a, b Version) int { return b.Number - a.Number })
	return out
}

// ByKey are versions by what they are of, each in the order in which they were kept.
func ByKey(versions []Version) map[string][]Version {
	out := map[string][]Version{}
	for i := range versions {
		out[versions[i].Key()] = append(out[versions[i].Key()], versions[i])
	}
	return out
}

// A State is how a save on a target compares with what is kept of it.
type State string

// The states.
const (
	NotKept State = "not kept"
	Changed State = "changed since"
	IsKept  State = "kept"
)

// Compare compares a save with the newest version of it from the same place, by lengths and dates.
func Compare(versions []Version, id string, s *Save) (State, *Version) {
	was := newest(versions, id, s.Path)
	switch {
	case was == nil:
		return NotKept, nil
	case slices.EqualFunc(s.Files, was.Files, func(a, b File) bool {
		return a.Path == b.Path && a.Size == b.Size && a.Modified.Equal(b.Modified)
	}):
		return IsKept, was
	}
	return Changed, was
}

// Holds reports whether two versions have the same bytes.
func (v *Version) Holds(w *Version) bool { return same(v.Files, w.Files) }
