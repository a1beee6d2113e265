package sim

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

// rowanLong lists the images that are in parts, a folder for each.
func rowanLong(stick fs.FS, root string, l *Listing) error {
	dirs, err := fs.ReadDir(stick, root)
	if err != nil {
		return err
	}
	for _, d := range dirs {
		p := path.Join(root, d.Name())
		if !d.IsDir() || !rowanID.MatchString(d.Name()) {
			l.Passed = append(l.Passed, Passed{p, "no folder that is named by an ID"})
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
				g.Why = fragmented(stick, path.Join(p, f.Name()))
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
	rowanListTitle = regexp.MustCompile(`^title = "([^\x00-\x1f]*)"$`)
	rowanListKind  = regexp.MustCompile(`^kind = "(.*)"$`)
	rowanListFile  = regexp.MustCompile(`^file = "(.*)"$`)
	rowanLength    = regexp.MustCompile(`^length = ([0-9]+)$`)
	rowanSum       = regexp.MustCompile(`^crc32 = "[0-9A-Fa-f]{8}"$`)
)

// rowanParts reads parts.toml. Its lines are as on the page, letter for letter; the title is taken
// from a list that is odd too.
func rowanParts(text string) (title string, parts rowanPartList, odd string) {
	lines := strings.Split(strings.TrimRight(strings.ReplaceAll(text, "\r\n", "\n"), "\n \t\r"), "\n")
	for _, line := range lines {
		if m := rowanListTitle.FindStringSubmatch(line); m != nil && title == "" {
			title = m[1]
		}
	}
	at := 0
	next := func(is *regexp.Regexp) (value string) {
		if at >= len(lines) {
			odd = "its list ends too early"
			return ""
		}
		m := is.FindStringSubmatch(lines[at])
		if m == nil {
			odd = "its list has another line than those that belong there: " + lines[at]
			return ""
		}
		at++
		return m[len(m)-1]
	}
	next(rowanListTitle)
	next(rowanListKind)
	for at < len(lines) && odd == "" {
		next(regexp.MustCompile(`^()$`))
		next(regexp.MustCompile(`^(\[\[part\]\])$`))
		p := rowanPart{file: next(rowanListFile)}
		if want := fmt.Sprintf("%03d.rwn", len(parts)+1); odd == "" && p.file != want {
			odd = "its list tells " + p.file + " where " + want + " belongs"
		}
		p.length, _ = strconv.ParseInt(next(rowanLength), 10, 64)
		next(rowanSum)
		parts = append(parts, p)
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
			return "its part " + p.file + " cannot be read at any target"
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
