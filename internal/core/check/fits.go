package check

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/size"
	"polytome/internal/target"
)

// A Fit is how far a target is one of a loader's.
type Fit struct {
	Profile *loader.Profile
	Titles  int      // files and folders that are where titles do
	Games   int      // files that end as its games do, wherever they lie
	Near    []string // names on the target that are all but its own
	Has     []string // of the loader's own files and folders, those that are there
	Lacks   []string // and those that are not

	paths map[string]bool // folded, of the titles
}

// Words say what speaks for the loader, and what is missing.
func (f *Fit) Words() string {
	var parts []string
	if f.Titles > 0 {
		parts = append(parts, size.Count(f.Titles, "title")+" where it looks for them")
	}
	if len(f.Has) > 0 {
		parts = append(parts, strings.Join(f.Has[:min(3, len(f.Has))], ", "))
	}
	if len(f.Near) > 0 {
		parts = append(parts, strings.Join(f.Near[:min(3, len(f.Near))], ", ")+" (almost right)")
	}
	if f.Titles == 0 && f.Games > 0 {
		parts = append(parts, size.Count(f.Games, "file")+" with its games' extensions in other folders")
	}
	out := "found nothing of it"
	if len(parts) > 0 {
		out = "found " + strings.Join(parts, ", ")
	}
	if len(f.Lacks) > 0 {
		out += "; not found: " + strings.Join(f.Lacks[:min(4, len(f.Lacks))], ", ")
	}
	return out
}

// Fits ranks the loaders of a set by how far a target is one of theirs: those that fit it first. A target can fit
// several, when their trees lie beside each other. What only some other loader's titles look like does not count.
func Fits(entries []target.Entry, fold func(string) string, set *loader.Set) (fit, rest []Fit) {
	there := map[string]bool{}
	for _, e := range entries {
		there[fold(e.Path)] = true
	}
	var all []Fit
	for _, p := range set.Profiles {
		f := Fit{Profile: p, paths: map[string]bool{}}
		for _, e := range entries {
			if !target.IsTemporary(e.Path) && titleAt(p, e, set) {
				f.Titles++
				f.paths[fold(e.Path)] = true
			}
		}
		reported := map[string]bool{}
		note := func(path string) {
			if key := fold(path); path != "" && !reported[key] {
				reported[key] = true
				switch near := nearRoot(entries, path); {
				case there[key]:
					f.Has = append(f.Has, path)
				case near != "" && !slices.Contains(f.Near, near):
					f.Near = append(f.Near, near)
					f.Lacks = append(f.Lacks, path)
				default:
					f.Lacks = append(f.Lacks, path)
				}
			}
		}
		for _, k := range p.Kit.Files {
			if !k.Optional {
				note(k.To)
			}
		}
		for i := range p.Accepts {
			for _, dir := range set.Folders(&p.Accepts[i]) {
				if root, _, _ := strings.Cut(dir, "/"); root != "" {
					note(root)
				}
			}
		}
		f.Games = gamesFor(entries, p, set)
		all = append(all, f)
	}
	// what is on the target decides, and what is nearly right on one of which nothing is
	slices.SortStableFunc(all, func(a, b Fit) int {
		return cmp.Or(cmp.Compare(b.Titles, a.Titles), cmp.Compare(len(b.Has), len(a.Has)), cmp.Compare(len(b.Near),
			len(a.Near)), cmp.Compare(b.Games, a.Games), cmp.Compare(len(a.Lacks), len(b.Lacks)))
	})
	claimed, roots := map[string]bool{}, map[string]bool{}
	for _, f := range all {
		own := f.Titles == 0 && slices.ContainsFunc(f.Has, func(path string) bool { return !roots[fold(path)] })
		for p := range f.paths {
			own = own || !claimed[p]
		}
		if !own {
			rest = append(rest, f)
			continue
		}
		for p := range f.paths {
			claimed[p] = true
		}
		for _, path := range f.Has {
			roots[fold(path)] = true
		}
		fit = append(fit, f)
	}
	return fit, rest
}

// nearRoot finds a folder at the root that is all but called as a path of a loader begins.
func nearRoot(entries []target.Entry, want string) string {
	root, _, _ := strings.Cut(want, "/")
	for _, e := range entries {
		if e.Folder && !strings.Contains(e.Path, "/") && !strings.EqualFold(e.Path, root) &&
			nearly(e.Path, root) != "" {
			return e.Path
		}
	}
	return ""
}

// gamesFor counts the files that end as games of a loader's platforms do.
func gamesFor(entries []target.Entry, p *loader.Profile, set *loader.Set) (n int) {
	ends := map[string]bool{}
	for _, x := range set.Platforms {
		if p.Knows(x.Name) {
			for _, e := range slices.Concat(x.Extensions, x.Packages) {
				ends[e] = true
			}
		}
	}
	for _, e := range entries {
		if !e.Folder && ends[strings.ToLower(path.Ext(e.Path))] {
			n++
		}
	}
	return n
}

// titleAt reports whether an entry is where a loader looks for titles, and is named so.
func titleAt(p *loader.Profile, e target.Entry, set *loader.Set) bool {
	for i := range p.Accepts {
		rule := &p.Accepts[i]
		if !strings.Contains(rule.Path.String(), "/") {
			continue
		}
		name, v, ok := layout.TitleAt(set, rule, e.Path, e.Folder)
		if !ok {
			continue
		}
		if layout.Unlikely(set, rule, rule.Path, name, &v) == "" {
			return true
		}
	}
	return false
}

// An UnknownError reports a target that belongs to no known loader.
type UnknownError struct {
	Target  string
	Nearest *Fit // nil where nothing comes near
}

func (e *UnknownError) Error() string {
	say := fmt.Sprintf("%s does not belong to any known loader", e.Target)
	if e.Nearest != nil {
		say += fmt.Sprintf("; the nearest is %s: %s", e.Nearest.Profile.Shown, e.Nearest.Words())
	}
	return say + ". Name its loader with --loader, or describe a new one: polytome loaders new"
}
