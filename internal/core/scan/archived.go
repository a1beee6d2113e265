package scan

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/format/archive"
	"polytome/internal/size"
)

// archiveExtensions are those by which a file claims to be an archive.
var archiveExtensions = []string{".zip", ".7z", ".rar", ".lha"}

// Limits of what is looked at in one archive.
const (
	maxInside  = 5000 // titles
	guessBelow = 16   // files, up to which those without a known extension are looked at too
)

// packed identifies what is in an archive, without unpacking it to disk. Its first part is the
// named file. It returns no titles for an archive of anything else, and ErrNotArchive for
// a file that is none.
func packed(name string, set *loader.Set, o archive.Options) ([]title.Title, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	ext := strings.ToLower(filepath.Ext(name))
	one := title.Title{Of: 1, Archive: ext,
		Discs: []title.Disc{{Number: 1, File: title.File{Path: name, Size: info.Size(), Modified: info.ModTime()}}}}
	a, err := archive.Open(name, o)
	if err == nil || !errors.Is(err, archive.ErrNotArchive) {
		if v, ok := archive.VolumeOf(filepath.Base(name)); ok && v.Plain { // .7z.001
			one.Archive = strings.ToLower(filepath.Ext(strings.TrimSuffix(name, filepath.Ext(name))))
		}
	}
	if err != nil {
		if t := unopened(one, err); t != nil {
			return []title.Title{*t}, nil
		}
		return nil, err
	}
	defer a.Close()
	for _, v := range a.Volumes[1:] {
		if info, err := os.Stat(v); err == nil {
			one.Discs[0].Volumes = append(one.Discs[0].Volumes, title.File{Path: v, Size: info.Size(),
				Modified: info.ModTime()})
		}
	}
	titles, err := inside(a, one, set)
	if errors.Is(err, archive.ErrPassword) {
		t := unopened(one, err)
		return []title.Title{*t}, nil
	}
	for i := range titles {
		t := &titles[i]
		if a.Damage != nil {
			t.Findings = append(t.Findings, fault("the archive is damaged: "+a.Damage.Error(), "get it again"))
		}
		if len(a.Unsafe) > 0 {
			t.Findings = append(t.Findings, title.Finding{Grade: title.Suspicion,
				Say: fmt.Sprintf("the archive holds %s with names that lead out of the folder, such as %q; they "+
					"are never unpacked", size.Count(len(a.Unsafe), "file"), a.Unsafe[0]),
				Remedy: "do not trust the source of this archive"})
		}
		if len(titles) > 1 {
			t.Among = len(titles)
		}
	}
	return titles, err
}

// IdentifyPacked is [Identify] for a file that is an archive of one title; nil for one of several, or
// of none.
func IdentifyPacked(r io.ReaderAt, size int64, name string, set *loader.Set) (*title.Title, error) {
	a, err := archive.New(r, size, archive.Options{})
	if err != nil {
		return nil, err
	}
	one := title.Title{Of: 1, Archive: strings.ToLower(path.Ext(name)),
		Discs: []title.Disc{{Number: 1, File: title.File{Path: name, Size: size}}}}
	titles, err := inside(a, one, set)
	if err != nil || len(titles) != 1 {
		return nil, err
	}
	return &titles[0], nil
}

// unopened is the title of an archive that cannot be looked into; nil for an error that is not the
// archive's.
func unopened(t title.Title, err error) *title.Title {
	base := filepath.Base(t.Source())
	if v, ok := archive.VolumeOf(base); ok {
		base = partWord.ReplaceAllString(v.Name(1), "") + "."
	}
	n := readName(base)
	t.Name, t.Tags = n.name, n.tags
	var missing *archive.MissingPart
	var large *archive.TooLarge
	switch {
	case errors.Is(err, archive.ErrNotArchive), errors.Is(err, fs.ErrPermission), errors.Is(err, fs.ErrNotExist) &&
		!errors.As(err, &missing):
		return nil
	case errors.Is(err, archive.ErrPassword):
		t.Encrypted = true
		t.Findings = append(t.Findings, fault("the archive is encrypted, and no known password opens it",
			"give its password"))
	case errors.As(err, &missing):
		t.Findings = append(t.Findings, fault(fmt.Sprintf("the archive's part %s is missing", missing.Name),
			"put that part beside the others"))
	case errors.As(err, &large):
		t.Findings = append(t.Findings, fault("the archive is suspiciously large inside: "+large.Error(),
			"allow it if you trust its source; nothing was unpacked").Wanting(title.Allowance))
	default:
		t.Findings = append(t.Findings, fault("the archive cannot be opened: "+plain(err), "get it again"))
	}
	return &t
}

// inside finds the titles in an opened archive.
func inside(a *archive.Archive, one title.Title, set *loader.Set) (out []title.Title, err error) {
	file := one.Discs[0].File
	sh := shelf{a, func(name string, info fs.FileInfo) title.File {
		return title.File{Path: file.Path, Size: info.Size(), Modified: info.ModTime().UTC(), Entry: name}
	}}
	add := func(t *title.Title, names []string, within string) {
		d := &t.Discs[0]
		if d.Parts == nil {
			for _, n := range names {
				if info, err := a.Stat(n); err == nil {
					d.Parts = append(d.Parts, title.Part{Name: strings.TrimPrefix(strings.TrimPrefix(n, within), "/"),
						File: sh.file(n, info)})
				}
			}
		}
		d.File, d.Volumes, t.Archive = file, one.Discs[0].Volumes, one.Archive
		if t.Form == title.Package {
			t.Archive = ""
		}
		out = append(out, *t)
	}
	below := func(dir string) (names []string) {
		for i := range a.Entries {
			if n := a.Entries[i].Name; dir == "." || strings.HasPrefix(n, dir+"/") {
				names = append(names, n)
			}
		}
		return names
	}
	ext := strings.ToLower(filepath.Ext(file.Path))
	forPackage := slices.ContainsFunc(set.Platforms,
		func(p *loader.Platform) bool { return slices.Contains(p.Packages, ext) })
	var taken []string // folders that are titles
	for _, dir := range topFolders(a) {
		sub, err := fs.Sub(a, dir)
		if err != nil {
			return nil, err
		}
		entries, err := fs.ReadDir(a, dir)
		if err != nil {
			continue
		}
		var top []string
		for _, e := range entries {
			top = append(top, e.Name())
		}
		name := path.Base(dir)
		if dir == "." {
			name = strings.TrimSuffix(filepath.Base(file.Path), filepath.Ext(file.Path))
		}
		var t *title.Title
		if forPackage {
			t = folder(sub, name, top, title.Package, ofPackages(set, ext))
		}
		if t == nil {
			t = folder(sub, name, top, title.Folder, set)
		}
		if t != nil {
			within := dir
			if dir == "." {
				within = ""
			}
			add(t, below(dir), within)
			taken = append(taken, dir)
			if dir == "." {
				return out, nil
			}
		}
	}
	free := func(name string) bool {
		return !slices.ContainsFunc(taken, func(dir string) bool { return strings.HasPrefix(name, dir+"/") })
	}
	tracked := map[string]bool{}
	for i := range a.Entries {
		e := &a.Entries[i]
		if !free(e.Name) || tracksOf(strings.ToLower(path.Ext(e.Name)), set) == nil {
			continue
		}
		t, err := tracks(sh, e.Name, set)
		if err != nil {
			return out, err
		}
		info, err := a.Stat(e.Name)
		if t == nil || err != nil {
			continue
		}
		d := &t.Discs[0]
		for _, p := range d.Parts {
			tracked[p.File.Entry] = true
		}
		d.Parts = append([]title.Part{{Name: path.Base(e.Name), File: sh.file(e.Name, info)}}, d.Parts...)
		tracked[e.Name] = true
		add(t, nil, "")
	}
	for i := range a.Entries {
		e := &a.Entries[i]
		if !free(e.Name) || tracked[e.Name] || strings.HasPrefix(path.Base(e.Name), ".") || len(out) >= maxInside {
			continue
		}
		if !known(path.Ext(e.Name), set) && (len(a.Entries) > guessBelow || isBeside(e.Name)) {
			continue
		}
		t, err := entry(a, e, set)
		if err != nil {
			return out, err
		}
		if t != nil {
			t.Discs[0].Parts = nil // what is in an image in an archive cannot be got at piece by piece
			if e.HasCRC {
				t.Discs[0].Sums = fmt.Sprintf("crc32:%08x", e.CRC)
			}
			add(t, []string{e.Name}, path.Dir(e.Name))
		}
	}
	if len(out) == 0 && forPackage {
		t := one
		t.Archive, t.Form, t.Name = "", title.Package, nameOfFile(filepath.Base(file.Path))
		var want []string
		for _, p := range ofPackages(set, ext).Platforms {
			t.Platform = p.Name
			want = append(want, p.MarkerFiles()...)
		}
		t.Findings = append(t.Findings,
			fault(fmt.Sprintf("the package has no %s at its top level, so it cannot be identified",
				strings.Join(want, " or ")), "list it with: polytome image ls"))
		out = append(out, t)
	}
	return out, nil
}

// partWord is the end of a part's name.
var partWord = regexp.MustCompile(`(?i)(?:\.part[0-9]+\.rar|\.rar|\.(?:7z|zip)\.[0-9]+)$`)

// entry identifies one file of an archive.
func entry(a *archive.Archive, e *archive.Entry, set *loader.Set) (*title.Title, error) {
	r, size, done, err := openAt(a, e.Name)
	if err != nil {
		return nil, err
	}
	defer done()
	// What cannot be unpacked must not be taken for a file of another kind.
	_, err = r.ReadAt(make([]byte, min(size, headLength)), 0)
	var t *title.Title
	if err == nil || err == io.EOF {
		t, err = Identify(r, size, path.Base(e.Name), set)
	}
	if err != nil {
		if errors.Is(err, archive.ErrPassword) {
			return nil, err
		}
		t = &title.Title{Of: 1, Name: nameOfFile(path.Base(e.Name)), Discs: []title.Disc{{Number: 1}}}
		t.Findings = append(t.Findings, fault(fmt.Sprintf("%s cannot be unpacked: %s", path.Base(e.Name), plain(err)),
			"fetch the archive again"))
		return t, nil
	}
	return t, nil
}

// topFolders are the folders of an archive that may be titles: its top, and those at the first
// two levels.
func topFolders(a *archive.Archive) []string {
	out := []string{"."}
	_ = fs.WalkDir(a, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() || name == "." {
			return nil
		}
		out = append(out, name)
		if len(out) > maxInside {
			return fs.SkipAll
		}
		if strings.Count(name, "/") >= 1 {
			return fs.SkipDir
		}
		return nil
	})
	return out
}

// ofPackages are the platforms whose packages have that extension.
func ofPackages(set *loader.Set, ext string) *loader.Set {
	return &loader.Set{Platforms: slices.DeleteFunc(slices.Clone(set.Platforms),
		func(p *loader.Platform) bool { return !slices.Contains(p.Packages, ext) })}
}

// known reports whether files of some platform have the extension.
func known(ext string, set *loader.Set) bool {
	ext = strings.ToLower(ext)
	return slices.ContainsFunc(set.Platforms, func(p *loader.Platform) bool {
		return slices.Contains(p.Extensions, ext) || slices.Contains(p.Packages, ext)
	})
}
