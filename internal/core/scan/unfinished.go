package scan

import (
	"fmt"
	"io"
	"strings"

	"polytome/internal/core/discread"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/size"
)

// mostHitNamed is how many files are named in which blocks lack.
const mostHitNamed = 3

// isUnfinished reports whether a file is the image of a disc that was not read whole yet.
func isUnfinished(name string) bool { return strings.HasSuffix(name, discread.Unfinished) }

// unfinished is the title on a disc that was not read whole, with what lacks.
func unfinished(r io.ReaderAt, it *item, path string, set *loader.Set) *title.Title {
	name := strings.TrimSuffix(it.name, discread.Unfinished)
	t, err := Identify(r, it.size, name, set)
	if err != nil || t == nil {
		t = &title.Title{Form: title.Image, Of: 1, Discs: []title.Disc{{Number: 1}}}
	}
	if t.Name == "" {
		t.Name = nameOfFile(name)
	}
	say := "the disc was not read to its end"
	b, err := discread.Started(strings.TrimSuffix(path, discread.Unfinished))
	if err == nil {
		say = size.Count(int(b.Count-b.In(discread.Good)), "block") + " of the disc "
		if b.In(discread.Unread) > 0 {
			say += "were not read yet"
		} else {
			say += "could not be read"
		}
		if hit := discread.Hit(r, b); len(hit) > 0 {
			say += ", of " + strings.Join(hit[:min(len(hit), mostHitNamed)], ", ")
			if more := len(hit) - mostHitNamed; more > 0 {
				say += fmt.Sprintf(" and %d more files", more)
			}
		}
	}
	t.Findings = []title.Finding{fault(say, "read the disc again, or another copy of it: what was read stays")}
	return t
}
