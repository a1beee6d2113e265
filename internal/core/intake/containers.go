package intake

import (
	"archive/zip"
	"bytes"
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
	"polytome/internal/core/title"
	"polytome/internal/format/cuesheet"
	"polytome/internal/format/iso9660"
	"polytome/internal/format/sectors"
)

// tracksOf returns the platforms whose games are tracks with a cue sheet of that ending.
func tracksOf(ending string, set *loader.Set) (out []*loader.Platform) {
	for _, p := range set.Platforms {
		if p.Has(title.Tracks) && slices.Contains(p.Endings, ending) {
			out = append(out, p)
		}
	}
	return out
}

// tracks identifies the disc of a cue sheet by its first data track.
func tracks(f *os.File, name string, set *loader.Set) (*title.Title, error) {
	ending := strings.ToLower(filepath.Ext(name))
	t := &title.Title{Form: title.Tracks, Of: 1, Name: nameOfFile(filepath.Base(name)), Discs: []title.Disc{{Number: 1}}}
	if ps := tracksOf(ending, set); len(ps) == 1 {
		t.Platform = ps[0].Name
	}
	bad := func(say, remedy string) (*title.Title, error) {
		discOfName(t, filepath.Base(name))
		t.Findings = append(t.Findings, fault(say, remedy))
		return t, nil
	}
	text, err := io.ReadAll(io.LimitReader(f, cuesheet.MaxBytes+1))
	if err != nil {
		return nil, err
	}
	if len(text) > cuesheet.MaxBytes {
		return bad("it is too long for a cue sheet", "look at the file with an editor")
	}
	sheet, err := cuesheet.Parse(string(text))
	if err != nil {
		return bad("the cue sheet cannot be understood: "+err.Error(), "mend that line, or make the sheet again from the disc")
	}
	dir := filepath.Dir(name)
	for _, file := range sheet.Files {
		found, info, err := besides(dir, file.Name)
		if err != nil {
			return bad(fmt.Sprintf("its track file %s is missing", file.Name), "put the file beside the cue sheet, or mend its name in the sheet")
		}
		t.Discs[0].Parts = append(t.Discs[0].Parts, title.Part{Name: file.Name, File: title.File{Path: found, Size: info.Size(), Modified: info.ModTime()}})
		for _, track := range file.Tracks {
			if sector, _, ok := track.Data(); ok && len(file.Tracks) == 1 && info.Size()%sector != 0 {
				return bad(fmt.Sprintf("its track file %s has %d bytes, which is no whole number of sectors of %d bytes", file.Name, info.Size(), sector), "copy it from its disc again")
			}
		}
	}
	at, track, ok := sheet.FirstData()
	if !ok {
		return bad("it is a disc of music: there is no data track", "keep it with your music")
	}
	part := t.Discs[0].Parts[at].File
	data, err := os.Open(part.Path)
	if err != nil {
		return nil, err
	}
	defer data.Close()
	sector, offset, _ := track.Data()
	raw := sectors.New(data, part.Size, sector, offset, int64(track.Start))
	v, err := iso9660.Open(raw, raw.Size())
	var damage *iso9660.FormatError
	switch {
	case errors.Is(err, iso9660.ErrNotISO), errors.As(err, &damage):
		return bad(fmt.Sprintf("its data track %d holds no readable volume: %v", track.Number, err), again)
	case err != nil:
		return nil, err
	}
	for _, p := range set.Platforms {
		if !p.Has(title.Tracks) {
			continue
		}
		r := &reader{r: raw, size: raw.Size(), game: raw.Size(), name: filepath.Base(name), volume: v.Identifier}
		if p.Marker.Volume.Regexp != nil && !p.Marker.Volume.MatchString(v.Identifier) {
			continue
		}
		if p.Marker.File != "" {
			inside, err := openMarker(v, p.Marker.File)
			if inside == nil || err != nil || !inside.has(&p.Marker) {
				continue
			}
			inside.volume, inside.game = v.Identifier, raw.Size()
			r = inside
		}
		t.Name = ""
		finish(t, p, r, ending)
		t.Findings = append(t.Findings, checkLength(v, raw.Size())...)
		return t, nil
	}
	t.Platform = ""
	return bad(fmt.Sprintf("it cannot be told which game this is: the volume of its data track is called %q", v.Identifier), "describe its platform in a file of your own, or leave it out")
}

// besides finds a file next to a cue sheet; its letter case may differ.
func besides(dir, name string) (string, fs.FileInfo, error) {
	full := filepath.Join(dir, filepath.FromSlash(name))
	info, err := os.Stat(full)
	if err == nil {
		return full, info, regular(info)
	}
	entries, readErr := os.ReadDir(filepath.Dir(full))
	if readErr != nil {
		return "", nil, readErr
	}
	for _, e := range entries {
		if strings.EqualFold(e.Name(), filepath.Base(full)) {
			full = filepath.Join(filepath.Dir(full), e.Name())
			if info, err = os.Stat(full); err == nil {
				err = regular(info)
			}
			return full, info, err
		}
	}
	return "", nil, err
}

func regular(info fs.FileInfo) error {
	if !info.Mode().IsRegular() {
		return errors.New("it is no file")
	}
	return nil
}

// maxFolderFiles is how many files a title in a folder can have.
const maxFolderFiles = 100_000

// folder identifies a folder as the title of a platform whose games lie unpacked. It
// returns nil when it is none.
func folder(dir string, set *loader.Set) (*title.Title, error) {
	fsys := os.DirFS(dir)
	top, err := os.ReadDir(dir)
	if err != nil {
		return nil, nil // the walk tells it
	}
	for _, p := range set.Platforms {
		if !p.Has(title.Folder) || !begins(top, p.Marker.File) {
			continue
		}
		r, err := openMarker(fsys, p.Marker.File)
		if r == nil || err != nil || !r.has(&p.Marker) {
			continue
		}
		t := &title.Title{Form: title.Folder, Of: 1, Discs: []title.Disc{{Number: 1}}}
		d := &t.Discs[0]
		err = fs.WalkDir(fsys, ".", func(name string, e fs.DirEntry, err error) error {
			if err != nil || !e.Type().IsRegular() {
				return err
			}
			if len(d.Parts) == maxFolderFiles {
				return fmt.Errorf("it has more than %d files", maxFolderFiles)
			}
			info, err := e.Info()
			if err == nil {
				d.Parts = append(d.Parts, title.Part{Name: name, File: title.File{Path: filepath.Join(dir, filepath.FromSlash(name)), Size: info.Size(), Modified: info.ModTime()}})
			}
			return err
		})
		if err != nil {
			return nil, err
		}
		finish(t, p, r, "")
		if i := slices.IndexFunc(d.Evidence, func(e title.Evidence) bool { return e.Field == "name" && e.From == "the name of the file" }); i >= 0 {
			t.Name = nameOfFile(filepath.Base(dir) + ".")
			d.Evidence[i] = title.Evidence{Field: "name", Value: t.Name, From: "the name of the folder"}
		}
		info, err := os.Stat(dir)
		if err != nil {
			return nil, err
		}
		d.File = title.File{Path: dir, Modified: info.ModTime()}
		return t, nil
	}
	return nil, nil
}

// begins reports whether the first part of a marker's path is in a folder, so that it is
// worth looking for.
func begins(top []os.DirEntry, marker string) bool {
	first, _, _ := strings.Cut(strings.ToLower(marker), "/")
	return slices.ContainsFunc(top, func(e os.DirEntry) bool {
		ok, _ := path.Match(first, strings.ToLower(e.Name()))
		return ok
	})
}

// headOfEntry is how much of a file in an archive is unpacked to see what it is.
const headOfEntry = 128 << 10

// zipped identifies the one game in a zip archive (PKWARE's APPNOTE 6.3) without unpacking
// it. It returns nil for an archive of anything else.
func zipped(f *os.File, size int64, name string, set *loader.Set) (*title.Title, error) {
	z, err := zip.NewReader(f, size)
	if err != nil {
		return nil, fmt.Errorf("the archive cannot be opened: %w; fetch it again", err)
	}
	var only *zip.File
	for _, e := range z.File {
		if e.FileInfo().IsDir() || strings.HasPrefix(path.Base(e.Name), ".") {
			continue
		}
		if only != nil {
			return nil, nil
		}
		only = e
	}
	if only == nil || only.Flags&1 != 0 {
		return nil, nil // empty, or behind a password
	}
	r, err := only.Open()
	if err != nil {
		return nil, nil // packed in a way that is not known here
	}
	defer r.Close()
	head, err := io.ReadAll(io.LimitReader(r, headOfEntry))
	if err != nil {
		return nil, fmt.Errorf("the archive is damaged: %w; fetch it again", err)
	}
	whole := bytes.NewReader(head)
	t, err := Identify(whole, int64(len(head)), path.Base(only.Name), set)
	if t == nil || err != nil || t.Form != title.Cartridge {
		return nil, err
	}
	t.Archive = strings.ToLower(filepath.Ext(name))
	t.Discs[0].Parts = []title.Part{{Name: path.Base(only.Name), File: title.File{Path: name, Size: int64(min(only.UncompressedSize64, 1<<62))}}}
	return t, nil
}
