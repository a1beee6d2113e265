// Package survey brings together what one place would make of the titles: its
// facts, what is on it, the tree, the verdicts and the plan. Screens and commands
// both work on it.
package survey

import (
	"context"
	"fmt"
	"maps"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/plan"
	"polytome/internal/core/proof"
	"polytome/internal/core/title"
	"polytome/internal/place"
	"polytome/internal/place/folder"
)

// A Survey is one place seen with the titles in mind, at one moment.
type Survey struct {
	Config  bench.Place
	Profile *loader.Profile
	Titles  []title.Title
	Facts   place.Facts
	There   []place.Entry
	Tree    *layout.Tree
	Sheet   *fit.Sheet
	// Problems are entries of the place that could not be read.
	Problems []string

	set  *loader.Set
	dir  string
	plan *plan.Plan // for the present choices; nil until asked for
}

// Take looks at place number n of a bench, and judges the titles for it.
func Take(ctx context.Context, b *bench.Bench, n int, titles []title.Title, set *loader.Set) (*Survey, error) {
	s := &Survey{Config: b.Places[n], Titles: titles, set: set, dir: b.Resolve(b.Places[n].At)}
	var err error
	if s.Profile, err = profileOf(b, s.Config.Loader, set); err != nil {
		return nil, err
	}
	if s.Config.Road == "" {
		s.Config.Road = s.Profile.UsualRoad()
	}
	p, err := s.Open()
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if s.Facts, err = p.Facts(ctx); err != nil {
		return nil, err
	}
	s.There, err = p.List(ctx, func(path string, err error) {
		s.Problems = append(s.Problems, fmt.Sprintf("%s: %v", path, err))
	})
	if err != nil {
		return nil, err
	}
	s.judge(b, n)
	return s, nil
}

func (s *Survey) judge(b *bench.Bench, n int) {
	s.lay()
	s.Sheet = fit.Judge(fit.Case{
		Titles: s.Titles, Tree: s.Tree, Profile: s.Profile, Road: s.Config.Road, Facts: s.Facts, There: s.There,
	})
	s.Choose(b, n)
}

// lay makes the tree. Titles keep the names that the bench remembers, and those under
// which they lie on the place.
func (s *Survey) lay() {
	fs := s.Facts.Filesystem
	target := layout.Target{Attachment: s.Profile.Attachment(s.Config.Road, fs.Name), Filesystem: fs, Held: s.Config.Names}
	s.Tree = layout.Lay(s.Titles, s.Profile, target)
	contested := s.Tree.Contested()
	if len(contested) == 0 {
		return
	}
	present := make(map[string]int64, len(s.There))
	for _, e := range s.There {
		if !e.Folder {
			present[strings.ToUpper(e.Path)] = e.Size
		}
	}
	target.Held = maps.Clone(s.Config.Names)
	found := false
	for i := range s.Titles {
		key := s.Titles[i].Key
		if _, ok := contested[key]; !ok || s.Config.Names[key] != "" {
			continue
		}
		alone := s.Tree.Alone(i)
		if size, ok := present[strings.ToUpper(alone.Items[0].Path)]; ok && size == alone.Items[0].Size {
			if target.Held == nil {
				target.Held = map[string]string{}
			}
			target.Held[key], found = alone.Name, true
		}
	}
	if found {
		s.Tree = layout.Lay(s.Titles, s.Profile, target)
	}
}

// profileOf finds a profile; the file of one is relative to the bench.
func profileOf(b *bench.Bench, name string, set *loader.Set) (*loader.Profile, error) {
	if loader.IsFile(name) {
		name = b.Resolve(name)
	}
	return set.Profile(name)
}

// Choose takes over the choices of a bench.
func (s *Survey) Choose(b *bench.Bench, n int) {
	road := s.Config.Road
	s.Config, s.plan = b.Places[n], nil
	if s.Config.Road == "" {
		s.Config.Road = road
	}
	s.Sheet.Choose(b.Wanted(n, s.Titles))
}

// unsupported are the beginnings of places that are not folders.
var unsupported = []string{"ftp://", "smb://", "drive:"}

// Open opens the place itself. The caller closes it.
func (s *Survey) Open() (place.Place, error) {
	for _, u := range unsupported {
		if strings.HasPrefix(s.Config.At, u) {
			return nil, fmt.Errorf("the place %s cannot be filled by this version: it fills folders and mounted drives, given by their path", s.Config.At)
		}
	}
	return folder.Open(s.dir, folder.Options{Filesystem: s.Config.As, Room: int64(s.Config.Room), Rate: int64(s.Config.Rate)})
}

// Plan is the steps for the present choices. It is made once for them, and must
// not be changed.
func (s *Survey) Plan() *plan.Plan {
	if s.plan == nil {
		s.plan = plan.Make(s.Titles, s.Tree, s.Sheet, s.Facts, s.There)
	}
	return s.plan
}

// Proof audits the place as it is now, and looks for what was chosen.
func (s *Survey) Proof(ctx context.Context) (*proof.Report, error) {
	return s.ProveAgainst(ctx, proof.Promises(s.Titles, s.Tree, s.Sheet))
}

// ProveAgainst audits the place, and looks for what was promised.
func (s *Survey) ProveAgainst(ctx context.Context, promises []proof.Promise) (*proof.Report, error) {
	p, err := s.Open()
	if err != nil {
		return nil, err
	}
	defer p.Close()
	return proof.Audit(ctx, p, s.Profile, s.set, s.Config.Road, promises)
}
