// Package saves finds what players have reached on a target, keeps it in a vault on this computer, and puts it back. It
// never removes a save that is not in the vault.
package saves

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/loader"
	"polytome/internal/target"
)

// A Save is one of a title, or one that several titles share.
type Save struct {
	Loader string `json:"loader"`
	// Of is the title that it is of, by what its path says: its ID where the path has it, else its name; "" for a
	// shared one.
	Of       string    `json:"of,omitempty"`
	Shared   bool      `json:"shared,omitempty"`
	Path     string    `json:"path"` // of the file, or the folder
	Folder   bool      `json:"folder,omitempty"`
	Files    []File    `json:"files"`
	Bytes    int64     `json:"bytes"`
	Modified time.Time `json:"modified,omitzero"` // of the newest file
	// Odd is what is wrong with it: another length than every such save has; "" for nothing.
	Odd string `json:"odd,omitempty"`
}

// A File is one of a save.
type File struct {
	Path     string    `toml:"path" json:"path"` // below the save's own; "" for that itself
	Size     int64     `toml:"size" json:"size"`
	Modified time.Time `toml:"modified" json:"modified"`
	SHA256   string    `toml:"sha256" json:"sha256,omitempty"` // once it was kept
}

// Find finds the saves that a loader keeps at an attachment ("" for any) in a listing, in the order of their paths.
func Find(p *loader.Profile, attachment string, entries []target.Entry) (out []Save) {
	claimed := map[string]bool{}
	rules := slices.Clone(p.Saves)
	slices.SortStableFunc(rules, func(a, b loader.SaveRule) int { // shared ones have names that others would match
		return cmp.Compare(len(b.Shared), len(a.Shared))
	})
	for i := range rules {
		r := &rules[i]
		if !r.Holds(attachment) {
			continue
		}
		for k := range entries {
			e := &entries[k]
			if claimed[e.Path] || target.IsTemporary(e.Path) {
				continue
			}
			of, ok := matches(r, e)
			if !ok {
				continue
			}
			claimed[e.Path] = true
			s := Save{Loader: p.Name, Of: of, Shared: r.Shared != "", Path: e.Path, Folder: e.Folder}
			s.Files = filesOf(e, entries)
			for _, f := range s.Files {
				s.Bytes += f.Size
				if f.Modified.After(s.Modified) {
					s.Modified = f.Modified
				}
				if r.Size > 0 && f.Size != int64(r.Size) {
					s.Odd = "it is not as long as every such save"
				}
			}
			if len(s.Files) > 0 {
				out = append(out, s)
			}
		}
	}
	slices.SortFunc(out, func(a, b Save) int { return cmp.Compare(a.Path, b.Path) })
	return out
}

// FindAll finds the saves of several loaders, each once, in the order of their paths; on says at which attachment of
// one it is looked, "" for any.
func FindAll(profiles []*loader.Profile, on func(*loader.Profile) string, entries []target.Entry) (out []Save) {
	known := map[string]bool{}
	for _, p := range profiles {
		for _, s := range Find(p, on(p), entries) {
			if !known[s.Path] {
				known[s.Path] = true
				out = append(out, s)
			}
		}
	}
	slices.SortFunc(out, func(a, b Save) int { return cmp.Compare(a.Path, b.Path) })
	return out
}

// matches reports whether an entry is a save of a rule, and of which title.
func matches(r *loader.SaveRule, e *target.Entry) (of string, ok bool) {
	if e.Folder != r.Folder {
		return "", false
	}
	return r.Of(e.Path)
}

// filesOf are the files of a save.
func filesOf(e *target.Entry, entries []target.Entry) (out []File) {
	if !e.Folder {
		return []File{{Size: e.Size, Modified: e.Modified}}
	}
	for i := range entries {
		if below, ok := strings.CutPrefix(entries[i].Path, e.Path+"/"); ok && !entries[i].Folder &&
			!target.IsTemporary(entries[i].Path) {
			out = append(out, File{Path: below, Size: entries[i].Size, Modified: entries[i].Modified})
		}
	}
	return out
}
