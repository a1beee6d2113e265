package learn

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/size"
	"polytome/internal/target"
)

// Beyond learns what lies on a target that a loader's profile says nothing of: what the console has made since it was
// filled. The draft has rules for lists and for files beside games, to be added to the profile, and no others.
func Beyond(ctx context.Context, l Look, p *loader.Profile, set *loader.Set) (*Draft, error) {
	r, err := scan.Scan(ctx, []string{l.Dir}, scan.Options{Set: set})
	if err != nil {
		return nil, err
	}
	s := &student{look: l, set: set, used: map[string]Part{}, by: map[string]string{},
		stopped: func() bool { return ctx.Err() != nil },
		d:       &Draft{Name: p.Name, Shown: p.Shown, Via: l.Via}}
	s.samples(s.onTarget(r.Titles))
	fs := l.Facts.Filesystem
	at := p.Attachment(l.Via, fs.Name)
	if at == nil {
		at = &p.Attachments[0]
	}
	titles, where := s.titles()
	tree := layout.Lay(titles, p, layout.Destination{Attachment: at, Filesystem: fs, Set: set})
	s.place(tree, titles, where)
	if len(s.placed) == 0 {
		return nil, fmt.Errorf("no title on %s is where %s has it: learn it without naming a loader", l.Dir, p.Shown)
	}
	s.known(p, tree)
	s.companions()
	s.lists()
	s.madeByItself(p)
	s.d.Explained = s.explained()
	return s.d, nil
}

// known marks what the profile accounts for.
func (s *student) known(p *loader.Profile, tree *layout.Tree) {
	fold := s.look.Facts.Filesystem.Fold
	mine := map[string]Part{}
	for i := range tree.Placements {
		if tree.Placements[i].Refusal != nil {
			continue
		}
		for k := range tree.Placements[i].Items {
			mine[fold(tree.Placements[i].Items[k].Path)] = Game
		}
		for _, c := range tree.Companions(i) {
			mine[fold(c.Path)] = Near
		}
	}
	for _, list := range tree.Lists(func(int) bool { return true }) {
		mine[fold(list.Path)] = Lists
	}
	for i := range p.Kit.Files {
		mine[fold(p.Kit.Files[i].To)] = Own
	}
	for _, e := range s.look.Entries {
		if part := mine[fold(e.Path)]; part != "" && s.used[e.Path] == "" {
			s.used[e.Path] = part
		} else if slices.ContainsFunc(layout.Folders(e.Path), func(dir string) bool { return mine[fold(dir)] == Own }) {
			s.used[e.Path] = Own
		}
	}
}

// madeByItself says what else is there: folders and files that no rule of either makes.
func (s *student) madeByItself(p *loader.Profile) {
	var files, folders []string
	for _, e := range s.unexplained() {
		files = append(files, e.Path)
	}
	boot := layout.FirstBoot(p)
	for _, e := range s.look.Entries {
		inside := slices.ContainsFunc(s.look.Entries, func(o target.Entry) bool {
			return strings.HasPrefix(o.Path, e.Path+"/")
		})
		if e.Folder && !inside && !slices.Contains(boot, e.Path) && !target.OfSystem(e.Path) {
			folders = append(folders, e.Path)
		}
	}
	if len(folders) > 0 {
		s.find(Guess, fmt.Sprintf("the console makes %s by itself, such as %s", size.Count(len(folders), "folder"),
			folders[0]),
			"they are empty, and no rule makes them")
	}
	if len(files) > 0 {
		s.find(Guess, fmt.Sprintf("%s may be the console's or somebody's own, such as %s", size.Count(len(files),
			"file"),
			files[0]), "no rule makes them, and no title is named so")
	}
}
