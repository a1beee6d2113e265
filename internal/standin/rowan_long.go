package standin

import (
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"strconv"
	"strings"
)

var rowanID = regexp.MustCompile(`(?i)^VSP-[0-9]{5}$`)

// rowanLong lists the images that lie in parts, a folder for each.
func rowanLong(stick fs.FS, root string, l *Listing) error {
	dirs, err := fs.ReadDir(stick, root)
	if err != nil {
		return err
	}
	for _, d := range dirs {
		p := path.Join(root, d.Name())
		if !d.IsDir() || !rowanID.MatchString(d.Name()) {
			l.Passed = append(l.Passed, Passed{p, "no folder that is called by an ID"})
			continue
		}
		files, err := fs.ReadDir(stick, p)
		if err != nil {
			return err
		}
		list := ""
		for _, f := range files {
			if !f.IsDir() && strings.EqualFold(f.Name(), "parts.toml") {
				list = path.Join(p, f.Name())
			}
		}
		if list == "" {
			l.Passed = append(l.Passed, Passed{p, "no list of parts"})
			continue
		}
		text, err := fs.ReadFile(stick, list)
		if err != nil {
			return err
		}
		g := Game{ID: d.Name(), Path: p}
		title, parts, odd := rowanParts(string(text))
		if g.Title = title; title == "" {
			g.Title = g.ID
		}
		if g.Why = odd; odd == "" {
			g.Why = rowanLongStart(stick, p, files, parts, g.ID)
		}
		for _, f := range files {
			if g.Why == "" && parts.names(f.Name()) {
				g.Why = inPieces(stick, path.Join(p, f.Name()))
			}
		}
		g.Starts = g.Why == ""
		l.Games = append(l.Games, g)
		for _, f := range files {
			if !f.IsDir() && strings.HasSuffix(strings.ToLower(f.Name()), ".rwn") && !parts.names(f.Name()) {
				l.Passed = append(l.Passed, Passed{path.Join(p, f.Name()), "the list lacks it"})
			}
		}
	}
	return nil
}

// rowanPart is one part as the list tells it.
type rowanPart struct {
	file   string
	length int64
}

type rowanPartList []rowanPart

func (l rowanPartList) names(file string) bool {
	for _, p := range l {
		if strings.EqualFold(p.file, file) {
			return true
		}
	}
	return false
}

var (
	rowanNumber = regexp.MustCompile(`^[0-9]+$`)
	rowanSum    = regexp.MustCompile(`(?i)^"[0-9a-f]{8}"$`)
	rowanText   = regexp.MustCompile(`^"[^"]*"$`)
)

// rowanParts reads parts.toml. A list with a line that is none of those that belong into it is not taken.
func rowanParts(text string) (title string, parts rowanPartList, odd string) {
	kind := ""
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if line == "[[part]]" {
			parts = append(parts, rowanPart{})
			continue
		}
		key, value, _ := strings.Cut(line, "=")
		key, value = strings.ToLower(strings.TrimSpace(key)), strings.TrimSpace(value)
		switch plain := strings.Trim(value, `"`); {
		case line == "":
		case key == "title" && len(parts) == 0 && rowanText.MatchString(value):
			title = plain
		case key == "kind" && len(parts) == 0 && rowanText.MatchString(value):
			kind = plain
		case key == "file" && len(parts) > 0 && rowanText.MatchString(value):
			parts[len(parts)-1].file = plain
		case key == "length" && len(parts) > 0 && rowanNumber.MatchString(value):
			parts[len(parts)-1].length, _ = strconv.ParseInt(value, 10, 64)
		case key == "crc32" && len(parts) > 0 && rowanSum.MatchString(value):
		default:
			odd = "its list has a line that does not belong there"
		}
	}
	if kind == "" && odd == "" {
		odd = "its list does not tell the kind of disc"
	}
	return title, parts, odd
}

// rowanLongStart tries to start an image in parts.
func rowanLongStart(stick fs.FS, dir string, files []fs.DirEntry, parts rowanPartList, id string) string {
	if len(parts) == 0 {
		return "its list names no part"
	}
	whole := &rowanJoined{}
	for _, p := range parts {
		at := ""
		for _, f := range files {
			if !f.IsDir() && strings.EqualFold(f.Name(), p.file) {
				at = path.Join(dir, f.Name())
			}
		}
		if at == "" {
			return "its part " + p.file + " is missing"
		}
		f, err := stick.Open(at)
		if err != nil {
			return err.Error()
		}
		defer f.Close()
		info, err := f.Stat()
		r, ok := f.(io.ReaderAt)
		if err != nil || !ok {
			return "its part " + p.file + " cannot be read at any place"
		}
		if info.Size() != p.length {
			return fmt.Sprintf("its part %s has %d bytes instead of %d", p.file, info.Size(), p.length)
		}
		whole.parts = append(whole.parts, io.NewSectionReader(r, 0, info.Size()))
		whole.size += info.Size()
	}
	return vesperWhy(whole, whole.size, id, "")
}

// rowanJoined reads parts as one image.
type rowanJoined struct {
	parts []*io.SectionReader
	size  int64
}

func (j *rowanJoined) ReadAt(b []byte, off int64) (n int, err error) {
	for _, p := range j.parts {
		if off >= p.Size() {
			off -= p.Size()
			continue
		}
		k, err := p.ReadAt(b[n:], off)
		n += k
		if err != nil && err != io.EOF {
			return n, err
		}
		if n == len(b) {
			return n, nil
		}
		off = 0
	}
	return n, io.EOF
}
