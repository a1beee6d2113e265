// Package contents reports what is on a volume at a glance: how many titles for which loaders, by their paths alone.
package contents

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/drives"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/drive"
	"polytome/internal/target/folder"
)

// A Loader is one that would find something on a volume.
type Loader struct {
	Name   string `json:"name"`
	Shown  string `json:"shown"`
	Titles int    `json:"titles"`
	Kit    bool   `json:"kit"` // its own files are there
}

// Contents are what is on a volume.
type Contents struct {
	Loaders []Loader `json:"loaders,omitempty"`
	Titles  int      `json:"titles"`
	Files   int      `json:"files"`
	Folders int      `json:"folders"`
	Bytes   int64    `json:"bytes"`
	// Left is what is there in words, where not everything was looked at; else "".
	Left    string `json:"left,omitempty"`
	Trouble string `json:"trouble,omitempty"`
}

// Words are the contents in a phrase: "14 titles for Rowan, 31.02 GiB".
func (c *Contents) Words() string {
	switch {
	case c.Trouble != "":
		return c.Trouble
	case c.Left != "":
		return c.Left
	case c.Files == 0:
		return "empty"
	}
	var parts []string
	for _, l := range c.Loaders {
		if l.Titles > 0 {
			parts = append(parts, size.Count(l.Titles, "title")+" for "+l.Shown)
		} else {
			parts = append(parts, l.Shown+" itself")
		}
	}
	if len(parts) == 0 {
		parts = append(parts, size.Count(c.Files, "file"))
	}
	return strings.Join(parts, ", ") + ", " + size.Format(c.Bytes)
}

// Of looks at a listing of a volume with a filesystem.
func Of(entries []target.Entry, filesystem target.Filesystem, set *loader.Set) *Contents {
	c := &Contents{}
	there := map[string]bool{}
	for _, e := range entries {
		there[filesystem.Fold(e.Path)] = true
		if e.Folder {
			c.Folders++
		} else {
			c.Files++
			c.Bytes += e.Size
		}
	}
	for _, p := range set.Profiles {
		a := p.OnDrive(filesystem.Name, false)
		if a == nil {
			continue
		}
		l := Loader{Name: p.Name, Shown: p.Shown}
		for _, f := range p.Kit.Files {
			l.Kit = l.Kit || there[filesystem.Fold(f.To)]
		}
		for _, e := range entries {
			if titled(set, p, a, filesystem.Name, e) {
				l.Titles++
			}
		}
		if l.Titles > 0 || l.Kit {
			c.Loaders = append(c.Loaders, l)
			c.Titles = max(c.Titles, l.Titles)
		}
	}
	slices.SortStableFunc(c.Loaders, func(x, y Loader) int { return y.Titles - x.Titles })
	return c
}

// A Title is one that a loader would find on a volume.
type Title struct {
	Name     string `json:"name"`
	Platform string `json:"platform,omitempty"` // short name, "" if unknown
}

// Titles reports to which titles the files and folders of a listing belong, by their paths alone: as the loader sees it
// that finds most of them there. What lies in the folder of a title belongs to it.
func Titles(entries []target.Entry, filesystem target.Filesystem, set *loader.Set) map[string]Title {
	out := map[string]Title{}
	all := Of(entries, filesystem, set).Loaders
	if len(all) == 0 {
		return out
	}
	p, err := set.Profile(all[0].Name)
	if err != nil {
		return out
	}
	a := p.OnDrive(filesystem.Name, false)
	for _, e := range entries {
		if t, ok := titleOf(set, p, a, filesystem.Name, e); ok {
			out[e.Path] = t
		}
	}
	for _, e := range entries {
		for dir := path.Dir(e.Path); dir != "."; dir = path.Dir(dir) {
			if t, ok := out[dir]; ok {
				out[e.Path] = t
			}
		}
	}
	return out
}

// rules are those by which a loader accepts titles on a filesystem.
func rules(p *loader.Profile, a *loader.Attachment, filesystem string) iter.Seq[*loader.Accept] {
	return func(yield func(*loader.Accept) bool) {
		for i := range p.Accepts {
			rule := &p.Accepts[i]
			if len(rule.On) > 0 && !slices.Contains(rule.On, a.Name) ||
				len(rule.Filesystems) > 0 && !slices.Contains(rule.Filesystems, filesystem) {
				continue
			}
			if !yield(rule) {
				return
			}
		}
	}
}

// titled reports whether a file or folder is where a loader looks for a title.
func titled(set *loader.Set, p *loader.Profile, a *loader.Attachment, filesystem string, e target.Entry) bool {
	for rule := range rules(p, a, filesystem) {
		if platform, v, ok := layout.TitleAt(set, rule, e.Path, e.Folder); ok && layout.Unlikely(set, rule, rule.Path,
			platform, &v) == "" {
			return true
		}
		if _, ok := rule.TooLarge.Manifest.Match(e.Path); ok && !e.Folder {
			return true
		}
	}
	return false
}

// titleOf is the title that a file or folder is, or is a part of.
func titleOf(set *loader.Set, p *loader.Profile, a *loader.Attachment, filesystem string, e target.Entry) (Title,
	bool) {
	for rule := range rules(p, a, filesystem) {
		for i, t := range []loader.Template{rule.Path, rule.Tracks, rule.TooLarge.Parts, rule.TooLarge.Manifest} {
			if t.Empty() || e.Folder != (i == 0 && layout.FolderTitles(rule)) {
				continue
			}
			platform, v, ok := layout.Split(set, rule, t, e.Path)
			if ok && layout.Unlikely(set, rule, t, platform, &v) == "" {
				return Title{cmp.Or(v[loader.FieldTitle], v[loader.FieldName], v[loader.FieldID], path.Base(e.Path)),
					platform}, true
			}
		}
	}
	return Title{}, false
}

// Volume looks at a volume of a drive: through its mount where there is one, else itself.
func Volume(ctx context.Context, sys drives.System, d *drives.Drive, v *drives.Volume, set *loader.Set) *Contents {
	c, err := volume(ctx, sys, d, v, set)
	if err != nil {
		return &Contents{Trouble: fmt.Sprintf("it cannot be looked into: %v", err)}
	}
	return c
}

// Open opens a volume of a drive: through its mount where there is one, else itself; nil for one that cannot be read
// here.
func Open(ctx context.Context, sys drives.System, d *drives.Drive, v *drives.Volume) (target.Target, error) {
	switch {
	case len(v.MountedAt) > 0:
		return folder.Open(v.MountedAt[0], folder.Options{})
	case v.Ours():
		return drive.On(ctx, sys, d, v, drive.Options{})
	}
	return nil, nil
}

// most is how many entries of a mounted volume are looked at for a glance: a disk of this computer's may have millions.
var most = 200_000

func volume(ctx context.Context, sys drives.System, d *drives.Drive, v *drives.Volume, set *loader.Set) (*Contents,
	error) {
	if slices.ContainsFunc(d.Uses, func(u drives.Use) bool {
		return u.Kind == drives.OfSystem && slices.Contains(v.MountedAt, u.At)
	}) {
		return &Contents{Left: "what this computer runs from"}, nil
	}
	if d.Denied() && len(v.MountedAt) == 0 { // nobody is asked for the rights for a glance
		return &Contents{Left: "what only an administrator may read"}, nil
	}
	p, err := Open(ctx, sys, d, v)
	if err != nil {
		return nil, err
	}
	if p == nil {
		return &Contents{}, nil
	}
	defer p.Close()
	var entries []target.Entry
	if mounted, ok := p.(*folder.Target); ok {
		var more bool
		if entries, more, err = mounted.ListUpTo(ctx, most, nil); more {
			return &Contents{Left: "more than " + size.Exact(int64(most)) + " files"}, nil
		}
	} else {
		entries, err = p.List(ctx, nil)
	}
	if err != nil {
		return nil, err
	}
	fs, err := target.FilesystemNamed(v.Filesystem)
	if err != nil { // mounted, and of no kind that is known here
		f, err := p.Facts(ctx, entries)
		if err != nil {
			return nil, err
		}
		fs = f.Filesystem
	}
	return Of(entries, fs, set), nil
}
