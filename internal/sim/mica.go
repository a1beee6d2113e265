package sim

import (
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"polytome/internal/format/joined"
	"polytome/internal/format/packed"
)

// Mica is the Skua's loader, looking at a stick. See docs/consoles/skua-mica.md.
type Mica struct{}

var (
	micaMore = regexp.MustCompile(`(?i)\.[0-9]+\.pkd$`)
	micaDisc = regexp.MustCompile(`(?i)^disc-([0-9]+)\.img$`)
)

const micaLongest = 60

// micaName reports whether a title is one that Mica shows.
func micaName(name string) bool {
	return len([]rune(name)) <= micaLongest && !strings.ContainsAny(name, `.<>:"|?*\`)
}

// List reads a stick.
func (Mica) List(stick fs.FS) (*Listing, error) {
	stick = about(stick)
	l := &Listing{}
	if !about(stick).is("fat32") {
		return l.sort(), nil
	}
	for _, dir := range []string{"skua", "first"} {
		at, ids, err := folder(stick, dir)
		if err != nil {
			return nil, err
		}
		for _, id := range ids {
			p := path.Join(at, id.Name())
			if !id.IsDir() {
				l.pass(p, "a loose file")
				continue
			}
			files, err := fs.ReadDir(stick, p)
			if err != nil {
				return nil, err
			}
			for _, f := range files {
				at := path.Join(p, f.Name())
				switch m := micaDisc.FindStringSubmatch(f.Name()); {
				case f.IsDir():
					l.pass(at, "a folder")
				case dir == "skua" && strings.EqualFold(path.Ext(f.Name()), ".pkd") &&
					!micaMore.MatchString(f.Name()) && !micaName(base(f.Name())):
					l.pass(at, "a name that is not shown")
				case dir == "skua" && strings.EqualFold(path.Ext(f.Name()), ".pkd"):
					if !micaMore.MatchString(f.Name()) {
						l.add(base(f.Name()), at, id.Name(), micaStart(stick, files, p, f.Name(), id.Name()))
					} else if first := micaMore.ReplaceAllString(f.Name(), ".pkd"); spelled(files, first) == "" {
						l.pass(at, "its first part is missing")
					}
				case dir == "first" && m != nil:
					why := "it cannot be read"
					if r, size, done, err := readerAt(stick, at); err == nil {
						why = skuaWhy(r, size, "skua-first", id.Name())
						_ = done()
					}
					l.add(fmt.Sprintf("%s disc %s", id.Name(), m[1]), at, id.Name(), why)
				default:
					l.pass(at, "another name")
				}
			}
		}
	}
	return l.sort(), nil
}

// micaStart opens a packed image with its further parts, and says why it does not start.
func micaStart(stick fs.FS, files []fs.DirEntry, dir, name, id string) string {
	var parts []joined.Part
	for n := 1; ; n++ {
		part := name
		if n > 1 {
			part = fmt.Sprintf("%s.%d.pkd", base(name), n)
		}
		i := slices.IndexFunc(files, func(e fs.DirEntry) bool { return strings.EqualFold(e.Name(), part) })
		if i < 0 {
			break
		}
		f, err := stick.Open(path.Join(dir, files[i].Name()))
		if err != nil {
			return "it cannot be read"
		}
		defer f.Close()
		info, err := f.Stat()
		r, ok := f.(io.ReaderAt)
		if err != nil || !ok {
			return "it cannot be read"
		}
		parts = append(parts, joined.Part{ReaderAt: r, Size: info.Size()})
	}
	all := joined.New(parts...)
	im, err := packed.Open(all, all.Size())
	if err != nil {
		return "it is no whole packed image"
	}
	defer im.Close()
	if im.Stats().Compressed > 0 {
		return "it is compressed"
	}
	return skuaWhy(im, im.Size(), "skua", id)
}
