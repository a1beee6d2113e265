package scan

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
	"polytome/internal/core/title"
	"polytome/internal/format/container"
	"polytome/internal/format/cuesheet"
	"polytome/internal/format/iso9660"
	"polytome/internal/format/sectors"
)

// tracksOf returns the platforms whose games are tracks with a cue sheet of that extension.
func tracksOf(ext string, set *loader.Set) (out []*loader.Platform) {
	for _, p := range set.Platforms {
		if p.Has(title.Tracks) && slices.Contains(p.Extensions, ext) {
			out = append(out, p)
		}
	}
	return out
}

// shelf is where files are beside one another: a folder on disk, or an archive.
type shelf struct {
	fs.FS
	// file reports where a file of the shelf is on this computer.
	file func(name string, info fs.FileInfo) title.File
}

// onDisk is a folder on disk, whose names need not be UTF-8.
type onDisk string

// Open opens a file below the folder.
func (d onDisk) Open(name string) (fs.File, error) {
	f, err := os.Open(filepath.Join(string(d), filepath.FromSlash(name)))
	if err != nil {
		return nil, err
	}
	return f, nil
}

func diskShelf(dir string) shelf {
	return shelf{onDisk(dir), func(name string, info fs.FileInfo) title.File {
		return title.File{Path: filepath.Join(dir, filepath.FromSlash(name)), Size: info.Size(),
			Modified: info.ModTime()}
	}}
}

// openAt opens a file of a shelf for reading at any offset.
func openAt(fsys fs.FS, name string) (r io.ReaderAt, size int64, done func() error, err error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, 0, nil, err
	}
	info, err := f.Stat()
	r, ok := f.(io.ReaderAt)
	if err == nil && (!ok || !info.Mode().IsRegular()) {
		err = errors.New("it is not a file")
	}
	if err != nil {
		_ = f.Close()
		return nil, 0, nil, err
	}
	return r, info.Size(), f.Close, nil
}

// tracks identifies the disc of a cue sheet by its first data track.
func tracks(sh shelf, name string, set *loader.Set) (*title.Title, error) {
	ext := strings.ToLower(path.Ext(name))
	base := path.Base(name)
	n := readName(base)
	t := &title.Title{Form: title.Tracks, Of: 1, Name: n.name, Discs: []title.Disc{{Number: 1}}}
	if ps := tracksOf(ext, set); len(ps) == 1 {
		t.Platform = ps[0].Name
	}
	bad := func(say, remedy string) (*title.Title, error) {
		discOfName(t, base)
		t.Findings = append(t.Findings, fault(say, remedy))
		return t, nil
	}
	r, size, done, err := openAt(sh, name)
	if err != nil {
		return nil, err
	}
	defer done()
	if size > cuesheet.MaxBytes {
		return bad("it is too long for a cue sheet", "check the file in an editor")
	}
	text := make([]byte, size)
	if k, err := r.ReadAt(text, 0); k < len(text) {
		return nil, err
	}
	sheet, err := cuesheet.Parse(string(text))
	if err != nil {
		return bad("the cue sheet has an error: "+err.Error(), "fix that line, or recreate the cue sheet from the disc")
	}
	dir := path.Dir(name)
	var names []string
	lost := ""
	for _, file := range sheet.Files {
		found, info, err := besides(sh, dir, file.Name)
		if err != nil {
			if lost == "" {
				lost = file.Name
			}
			names = append(names, "")
			continue
		}
		names = append(names, found)
		t.Discs[0].Parts = append(t.Discs[0].Parts, title.Part{Name: file.Name, File: sh.file(found, info)})
		for _, track := range file.Tracks {
			if sector, _, ok := track.Data(); ok && len(file.Tracks) == 1 && info.Size()%sector != 0 {
				return bad(fmt.Sprintf("its track file %s has %d bytes, not a multiple of the sector size %d",
					file.Name, info.Size(), sector), "copy it from its disc again")
			}
		}
	}
	if lost != "" {
		return bad(fmt.Sprintf("its track file %s is missing", lost),
			"put the file beside the cue sheet, or correct its name there")
	}
	at, track, ok := sheet.FirstData()
	if !ok {
		return bad("it is an audio disc without a data track", "keep it with your music")
	}
	data, length, closeData, err := openAt(sh, names[at])
	if err != nil {
		return nil, err
	}
	defer closeData()
	sector, offset, _ := track.Data()
	raw := sectors.New(data, length, sector, offset, int64(track.Start))
	v, err := iso9660.Open(raw, raw.Size())
	switch {
	case errors.Is(err, iso9660.ErrNotISO), container.Damaged(err):
		return bad(fmt.Sprintf("its data track %d holds no readable volume: %v", track.Number, err), again)
	case err != nil:
		return nil, err
	}
	for _, p := range set.Platforms {
		if !p.Has(title.Tracks) {
			continue
		}
		whole := reading.Of(raw, raw.Size(), base)
		whole.FS, whole.Volume = v, v.Identifier
		r, m := trackMarker(whole, p)
		if r == nil {
			continue
		}
		t.Name = ""
		finish(t, p, m, r, ext, set)
		if v.DeclaredSize() > raw.Size() {
			all := container.Image{Volumes: []container.Volume{{FS: v, Declared: v.DeclaredSize(), Where: v.Where}},
				Size: raw.Size()}
			t.Findings = append(t.Findings, check(&all)...)
		}
		return t, nil
	}
	t.Platform = ""
	return bad(fmt.Sprintf("the game cannot be identified: the volume of its data track is named %q", v.Identifier),
		"describe its platform in your own file, or leave it out")
}

// trackMarker is the marker of a platform that the data track of a disc has, and where its values are read from.
func trackMarker(whole *reading.Source, p *loader.Platform) (*reading.Source, *loader.Marker) {
	if len(p.Markers) == 0 {
		return whole, &loader.Marker{Syntax: loader.Binary}
	}
	for i := range p.Markers {
		if at, _, err := whole.Marked(&p.Markers[i]); at != nil && err == nil {
			return at, &p.Markers[i]
		}
	}
	return nil, nil
}

// besides finds a file next to a cue sheet, or in a folder there; letter case may differ in each part
// of its path.
func besides(sh shelf, dir, name string) (string, fs.FileInfo, error) {
	full := path.Join(dir, name)
	info, err := fs.Stat(sh, full)
	if err == nil {
		return full, info, regular(info)
	}
	at := dir
	for want := range strings.SplitSeq(name, "/") {
		entries, readErr := fs.ReadDir(sh, at)
		if readErr != nil {
			return "", nil, readErr
		}
		i := slices.IndexFunc(entries, func(e fs.DirEntry) bool { return e.Name() == want })
		if i < 0 {
			i = slices.IndexFunc(entries, func(e fs.DirEntry) bool { return strings.EqualFold(e.Name(), want) })
		}
		if i < 0 {
			return "", nil, err
		}
		at = path.Join(at, entries[i].Name())
	}
	if info, err = fs.Stat(sh, at); err == nil {
		err = regular(info)
	}
	return at, info, err
}

func regular(info fs.FileInfo) error {
	if !info.Mode().IsRegular() {
		return errors.New("it is not a file")
	}
	return nil
}

// folder identifies a folder of a shelf as the title of a platform whose games lie unpacked, by
// what is at its top. It returns nil when it is none. The parts are not yet in it.
func folder(fsys fs.FS, name string, top []string, form title.Form, set *loader.Set) *title.Title {
	whole := &reading.Source{Name: name, FS: fsys, Called: name + ".", CalledFrom: "the name of the folder"}
	for _, p := range set.Platforms {
		if !p.Has(form) || !begins(top, p.MarkerFiles()) {
			continue
		}
		for i := range p.Markers {
			m := &p.Markers[i]
			if m.File == "" {
				continue
			}
			if at, _, err := whole.Marked(m); at != nil && err == nil {
				return finish(&title.Title{Form: form, Of: 1, Discs: []title.Disc{{Number: 1}}}, p, m, at, "", set)
			}
		}
	}
	return nil
}

// begins reports whether the first part of one of the markers' paths is among a folder's names, so that it
// is worth looking for.
func begins(top, markers []string) bool {
	return slices.ContainsFunc(markers, func(marker string) bool {
		first, _, _ := strings.Cut(strings.ToLower(marker), "/")
		return slices.ContainsFunc(top, func(name string) bool {
			ok, _ := path.Match(first, strings.ToLower(name))
			return ok
		})
	})
}
