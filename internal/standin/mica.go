package standin

import (
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"strings"
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
						l.add(base(f.Name()), at, id.Name(), "")
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
