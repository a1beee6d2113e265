package scan

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
	"polytome/internal/core/title"
	"polytome/internal/format/container"
	"polytome/internal/size"
)

// Limits of the first look at an image.
const (
	maxFolders = 64
	maxEntries = 4000
	padding    = int64(1) << 20 // more bytes than this after the volume's end are reported
)

// check compares what the volumes describe themselves with the image's length, and looks at their
// folders. Read are structures only.
func check(v *container.Image) (out []title.Finding) {
	var declared int64
	for _, x := range v.Volumes {
		declared = max(declared, x.Declared)
	}
	switch {
	case declared > v.Size:
		return []title.Finding{fault(
			fmt.Sprintf("the image is cut short: its volume has %s, and the file only %s", size.Format(declared),
				size.Format(v.Size)),
			fmt.Sprintf("%s are missing at the end; get or copy it again", size.Format(declared-v.Size)))}
	case v.Size-declared > padding:
		out = append(out, note(fmt.Sprintf("the file has %s more than its volume: padding at the end",
			size.Format(v.Size-declared))))
	}
	if v.Raw {
		out = append(out, note("the image has raw sectors of 2352 bytes, but no cue sheet beside it"))
	}
	if f := folders(v, maxFolders, maxEntries); f != nil {
		out = append(out, *f)
	}
	return out
}

// folders goes through the folders of the first volume, up to the limits. It returns what cannot be right.
func folders(v *container.Image, maxFolders, maxEntries int) (found *title.Finding) {
	vol := v.Volumes[0]
	dirs, entries := 0, 0
	_ = fs.WalkDir(vol, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			f := fault(fmt.Sprintf("its folder %s cannot be read: %s", name, plain(err)), again)
			found = &f
			return fs.SkipAll
		}
		if d.IsDir() {
			dirs++
		} else if runs, err := vol.Where(name); err == nil {
			for _, e := range runs {
				if e.At+e.Length > v.Size {
					f := fault(fmt.Sprintf("%s in it reaches past the end of the image", name), again)
					found = &f
					return fs.SkipAll
				}
			}
		}
		if entries++; dirs > maxFolders || entries > maxEntries {
			return fs.SkipAll
		}
		return nil
	})
	return found
}

// contents lists the files of a volume, with their names in it; nil where there are too many, or where
// not all can be read. They lie in the disc's file, whose path is not reported again for each.
func contents(v fs.FS) (out []title.Part) {
	err := fs.WalkDir(v, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || len(out) > maxEntries {
			return errors.Join(err, fs.SkipAll)
		}
		if !d.Type().IsRegular() {
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		out = append(out, title.Part{Name: name, File: title.File{Size: info.Size(), Modified: info.ModTime().UTC(),
			Entry: name}})
		return nil
	})
	if err != nil || len(out) > maxEntries {
		return nil
	}
	return out
}

// pictures finds those that are in an image, by the paths that its platform tells.
func pictures(v fs.FS, p *loader.Platform) (out []title.Inside) {
	for _, pic := range p.Pictures {
		name, err := reading.LookFor(v, pic.File)
		if err != nil || name == "" {
			continue
		}
		if info, err := fs.Stat(v, name); err == nil {
			out = append(out, title.Inside{Of: pic.Of, File: title.File{Size: info.Size(), Modified: info.ModTime().
				UTC(), Entry: name}})
		}
	}
	return out
}

// library is what libraries put in front of their errors.
var library = regexp.MustCompile(`\b(?:sevenzip|rardecode|zip|flate|bzip2): `)

// plain takes the operation and path off an error, and the names of libraries.
func plain(err error) string {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		err = pe.Err
	}
	return strings.TrimSuffix(library.ReplaceAllString(err.Error(), ""), ".")
}

func note(say string) title.Finding { return title.Finding{Grade: title.Note, Say: say} }
