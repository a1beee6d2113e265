package sim

import (
	"bufio"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
)

// Rowan is the Vesper's loader, looking at a USB stick. See
// docs/consoles/vesper-rowan.md. Whether a file is contiguous is judged where the [Volume]
// tells.
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
	stick = about(stick)
	l := &Listing{Games: []Game{}}
	if !about(stick).is("fat32") {
		return l, nil
	}
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
	for i := range l.Games {
		if g := &l.Games[i]; l.Faces {
			g.Face = face(stick, "FACES/front", g.ID+".jpg", 256, 368, false)
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
	if g.Why = rowanStart(stick, p, kind, g.ID); g.Why == "" {
		g.Why = fragmented(stick, p)
	}
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
		return "it cannot be read at any target"
	}
	return vesperWhy(r, info.Size(), id, kind)
}

// fragmented says that a file does not are contiguous.
func fragmented(stick fs.FS, p string) string {
	if v := about(stick); v.Fragments != nil {
		if n := v.Fragments(p); n > 1 {
			return fmt.Sprintf("it is in %d fragments", n)
		}
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
			return settingsOf(string(b)), err
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
