package learn

import (
	"fmt"
	"path/filepath"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

// remake lays the titles by the draft, and compares where they would go with where they are: what is not made again is
// no certain rule, and is said.
func (s *student) remake(titles []title.Title) {
	p, err := loader.ParseProfile("draft.toml", []byte(s.d.TOML()))
	if err == nil {
		err = s.set.Check(p)
	}
	if err != nil {
		return // it is said when the draft is saved
	}
	fs := s.look.Facts.Filesystem
	tree := layout.Lay(titles, p, layout.Destination{Attachment: &p.Attachments[0], Filesystem: fs, Set: s.set})
	wrong := map[string]string{} // by platform: where one would go
	for i := range titles {
		t, pl := &titles[i], &tree.Placements[i]
		if t.Platform == "" {
			continue
		}
		is := ""
		if rel, err := filepath.Rel(s.look.Dir, t.Discs[0].File.Path); err == nil {
			is = filepath.ToSlash(rel)
		}
		switch {
		case pl.Refusal != nil:
			wrong[t.Platform] = fmt.Sprintf("%s is there, but by these rules %s", is, pl.Refusal.Say)
		case fs.Fold(pl.Items[0].Path) != fs.Fold(is) && !strings.HasPrefix(fs.Fold(pl.Items[0].Path), fs.Fold(is)+"/"):
			wrong[t.Platform] = fmt.Sprintf("%s is there, but by these rules it would go to %s", is, pl.Items[0].Path)
		}
	}
	for _, r := range s.d.Rules {
		for _, platform := range r.Platforms {
			if say := wrong[platform]; say != "" {
				s.d.Open = append(s.d.Open, say)
				s.doubt(platform + " ")
			}
		}
	}
}

// doubt takes back that findings which begin so are certain.
func (s *student) doubt(begin string) {
	for i := range s.d.Findings {
		if f := &s.d.Findings[i]; strings.HasPrefix(f.Say, begin) && f.Confidence == Certain {
			f.Confidence = Likely
		}
	}
}
