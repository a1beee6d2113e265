package standin

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

// List reads a stick.
func (Mica) List(stick fs.FS) (*Listing, error) {
	l := &Listing{}
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
				case dir == "skua" && strings.EqualFold(path.Ext(f.Name()), ".pkd"):
					if !micaMore.MatchString(f.Name()) {
						l.add(base(f.Name()), at, id.Name(), micaStart(stick, files, p, f.Name(), id.Name()))
					} else if first := micaMore.ReplaceAllString(f.Name(), ".pkd"); !has(files, first) {
						l.pass(at, "its first part is missing")
					}
				case dir == "first" && m != nil:
					b := make([]byte, 8)
					why := ""
					if file, err := stick.Open(at); err == nil {
						if n, _ := file.Read(b); n < 8 || string(b) != "SKUA-ONE" {
							why = "it is no disc of the first model"
						}
						_ = file.Close()
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
	b := make([]byte, 0x18)
	if n, _ := im.ReadAt(b, 0); n < len(b) || string(b[:8]) != "SKUADISC" {
		return "there is no Skua disc in it"
	}
	if !strings.EqualFold(strings.TrimRight(string(b[0x10:]), "\x00 "), id) {
		return "the disc in it has another ID"
	}
	return ""
}
