package standin

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"polytome/internal/format/iso9660"
)

// Rowan is the Vesper's loader, looking at a USB stick. See
// docs/consoles/vesper-rowan.md. Whether a file lies in one piece cannot be
// seen through an fs.FS, and is not judged.
type Rowan struct{}

const rowanLongest = 28

var (
	rowanName  = regexp.MustCompile(`(?i)^(VSP-[0-9]{5}) - (.+)\.iso$`)
	rowanTitle = regexp.MustCompile(`^[A-Za-z0-9 \-_(),'&!]+$`)
)

// fatLargest is the most bytes that a file on a FAT32 stick can have.
const fatLargest = 4_294_967_295

// List reads a stick.
func (Rowan) List(stick fs.FS) (*Listing, error) {
	l := &Listing{Games: []Game{}}
	roots, err := fs.ReadDir(stick, ".")
	if err != nil {
		return nil, err
	}
	settings := map[string]string{}
	for _, r := range roots {
		if r.IsDir() && strings.EqualFold(r.Name(), "ROWAN") {
			if settings, err = rowanSettings(stick, r.Name()); err != nil {
				return nil, err
			}
		}
	}
	l.Faces = settings["faces"] == "yes"
	if settings["look"] != "stick" {
		return l, nil
	}
	for _, r := range roots {
		kind := strings.ToLower(r.Name())
		if !r.IsDir() || (kind != "full" && kind != "short") {
			continue
		}
		files, err := fs.ReadDir(stick, r.Name())
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			p := path.Join(r.Name(), f.Name())
			if g, why := rowanGame(stick, p, kind, f); why == "" {
				l.Games = append(l.Games, g)
			} else {
				l.Passed = append(l.Passed, Passed{p, why})
			}
		}
	}
	for _, r := range roots {
		if r.IsDir() && strings.EqualFold(r.Name(), "LONG") {
			if err := rowanLong(stick, r.Name(), l); err != nil {
				return nil, err
			}
		}
	}
	slices.SortFunc(l.Games, func(a, b Game) int {
		if c := strings.Compare(strings.ToLower(a.Title), strings.ToLower(b.Title)); c != 0 {
			return c
		}
		return strings.Compare(strings.ToUpper(a.ID), strings.ToUpper(b.ID)) // letter case makes no difference in an ID
	})
	return l, nil
}

func rowanGame(stick fs.FS, p, kind string, f fs.DirEntry) (g Game, passed string) {
	if f.IsDir() {
		return g, "a folder"
	}
	m := rowanName.FindStringSubmatch(f.Name())
	if m == nil {
		return g, "its name does not begin with an ID and end in .iso"
	}
	g = Game{ID: m[1], Title: m[2], Path: p}
	if n := len([]rune(g.Title)); n > rowanLongest {
		return g, fmt.Sprintf("the title has %d characters", n)
	}
	if !rowanTitle.MatchString(g.Title) {
		return g, "the title has a character that is not allowed"
	}
	if info, err := f.Info(); err != nil || info.Size() > fatLargest {
		return g, "no FAT32 stick can hold it"
	}
	g.Why = rowanStart(stick, p, kind, g.ID)
	g.Starts = g.Why == ""
	return g, ""
}

// rowanStart tries to start an image, and says why it does not.
func rowanStart(stick fs.FS, p, kind, id string) string {
	f, err := stick.Open(p)
	if err != nil {
		return err.Error()
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err.Error()
	}
	r, ok := f.(io.ReaderAt)
	if !ok {
		return "it cannot be read at any place"
	}
	return rowanImage(r, info.Size(), kind, id)
}

// rowanImage tries to start an image; an empty kind takes any.
func rowanImage(r io.ReaderAt, size int64, kind, id string) string {
	v, err := iso9660.Open(r, size)
	if err != nil {
		return err.Error()
	}
	if v.DeclaredSize() > size {
		return "it is cut short"
	}
	inf, err := fs.ReadFile(v, "VESPER.INF")
	if errors.Is(err, fs.ErrNotExist) {
		return "it is no Vesper image"
	}
	if err != nil {
		return err.Error()
	}
	says := keyLines(string(inf))
	if !strings.EqualFold(says["ID"], id) {
		return "it holds " + says["ID"]
	}
	if kind != "" && says["KIND"] != kind {
		return fmt.Sprintf("it is a %s disc in the folder for %s ones", says["KIND"], kind)
	}
	return ""
}

func rowanSettings(stick fs.FS, dir string) (map[string]string, error) {
	files, err := fs.ReadDir(stick, dir)
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		if !f.IsDir() && strings.EqualFold(f.Name(), "rowan.cfg") {
			b, err := fs.ReadFile(stick, path.Join(dir, f.Name()))
			return keyLines(string(b)), err
		}
	}
	return nil, nil
}

func keyLines(text string) map[string]string {
	out := map[string]string{}
	for lines := bufio.NewScanner(strings.NewReader(text)); lines.Scan(); {
		if k, v, ok := strings.Cut(lines.Text(), "="); ok {
			if _, dup := out[strings.TrimSpace(k)]; !dup {
				out[strings.TrimSpace(k)] = strings.TrimSpace(v)
			}
		}
	}
	return out
}
