package standin

import (
	"bufio"
	"encoding/json"
	"io"
	"io/fs"
	"path"
	"regexp"
	"strings"

	"polytome/internal/format/iso9660"
)

// Trellis is the Meridian's loader, looking at the internal disk or a stick. See
// docs/consoles/meridian-trellis.md.
type Trellis struct{}

// List reads a disk or stick.
func (Trellis) List(disk fs.FS) (*Listing, error) {
	l := &Listing{}
	at, games, err := folder(disk, "GAMES")
	if err != nil {
		return nil, err
	}
	for _, g := range games {
		p := path.Join(at, g.Name())
		b, err := fs.ReadFile(disk, path.Join(p, "SYS/TITLE.JSON"))
		var told struct{ ID string }
		if !g.IsDir() || err != nil || json.Unmarshal(b, &told) != nil {
			l.pass(p, "no Meridian game")
			continue
		}
		why := ""
		if !strings.EqualFold(told.ID, g.Name()) {
			why = "it is " + told.ID
		}
		l.add(g.Name(), p, g.Name(), why)
	}
	for dir, marker := range map[string]string{"IMG-V": "VESPER.INF", "IMG-S": "siskin.txt"} {
		at, files, err := folder(disk, dir)
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			p := path.Join(at, f.Name())
			switch strings.ToLower(path.Ext(f.Name())) {
			case ".iso":
				l.add(base(f.Name()), p, "", marked(disk, p, marker))
			case ".jpg":
			default:
				l.pass(p, "no image")
			}
		}
	}
	at, files, err := folder(disk, "IMG-L")
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		if p := path.Join(at, f.Name()); strings.EqualFold(path.Ext(f.Name()), ".cue") {
			l.add(base(f.Name()), p, "", tracksMissing(disk, p, files))
		}
	}
	return l.sort(), nil
}

// marked says why an image is not one with the given file at its root.
func marked(fsys fs.FS, name, marker string) string {
	f, err := fsys.Open(name)
	if err != nil {
		return err.Error()
	}
	defer f.Close()
	info, err := f.Stat()
	r, ok := f.(io.ReaderAt)
	if err != nil || !ok {
		return "it cannot be read"
	}
	v, err := iso9660.Open(r, info.Size())
	if err != nil {
		return err.Error()
	}
	if v.DeclaredSize() > info.Size() {
		return "it is cut short"
	}
	root, err := v.ReadDir(".")
	if err != nil || !has(root, marker) {
		return "there is no " + marker + " in it"
	}
	return ""
}

var cueFile = regexp.MustCompile(`(?i)^\s*FILE\s+"([^"]+)"`)

// tracksMissing says which file of a cue sheet is not beside it.
func tracksMissing(fsys fs.FS, cue string, beside []fs.DirEntry) string {
	f, err := fsys.Open(cue)
	if err != nil {
		return err.Error()
	}
	defer f.Close()
	named := 0
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if m := cueFile.FindStringSubmatch(lines.Text()); m != nil {
			named++
			if !has(beside, m[1]) {
				return "the file " + m[1] + " is not beside it"
			}
		}
	}
	if named == 0 {
		return "the sheet names no file"
	}
	return ""
}
