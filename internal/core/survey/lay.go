package survey

import (
	"context"
	"fmt"
	"maps"
	"strings"

	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
)

// lay makes the tree of one loader, once for each connection and filesystem. Titles keep the names that
// the bench remembers, and those under which they are on the target.
func (s *Survey) lay(ctx context.Context, p *loader.Profile) *fit.Loader {
	fs, slots := s.Facts.Filesystem, s.slots(p)
	key := strings.Join([]string{p.Name, p.File, s.Config.Via, fs.Name, s.volume(p), fmt.Sprint(s.capacity()),
		s.arranged(p, slots)}, "\x00")
	if l := s.trees[key]; l != nil && l.Profile == p {
		return l
	}
	if s.carries != nil {
		fs := s.carries.filesystem
		tree := layout.Lay(s.Titles, p, layout.Destination{Attachment: p.Attachment(s.carries.via, fs.Name),
			Filesystem: fs, Held: s.carries.held, Set: s.set})
		l := &fit.Loader{Profile: p, Tree: tree.Carried()}
		s.trees[key] = l
		return l
	}
	destination := layout.Destination{Attachment: p.Attachment(s.Config.Via, fs.Name), Filesystem: fs,
		Held: s.Config.Names, Set: s.set, File: s.file(), Volume: s.volume(p), Capacity: s.capacity(),
		Slots: slots, Favourites: s.favourites.Has}
	tree := s.shelf.Lay(s.Titles, p, destination)
	if held := s.held(tree); held != nil {
		destination.Held = held
		tree = s.shelf.Lay(s.Titles, p, destination)
	}
	s.settlePacked(ctx, tree)
	l := &fit.Loader{Profile: p, Tree: tree}
	s.trees[key] = l
	return l
}

// file finds files that are on the target, without regard to letter case where that makes no difference there.
func (s *Survey) file() func(path string) (bytes int64, ok bool) {
	there := make(map[string]int64, len(s.There))
	for _, e := range s.There {
		if !e.Folder {
			there[s.Facts.Filesystem.Fold(e.Path)] = e.Size
		}
	}
	return func(path string) (int64, bool) {
		bytes, ok := there[s.Facts.Filesystem.Fold(path)]
		return bytes, ok
	}
}

// held are the names under which contested titles are on the target already, beside those that are
// remembered; nil when there are none.
func (s *Survey) held(tree *layout.Tree) map[string]string {
	contested := tree.Contested()
	if len(contested) == 0 {
		return nil
	}
	present := make(map[string]int64, len(s.There))
	for _, e := range s.There {
		if !e.Folder {
			present[strings.ToUpper(e.Path)] = e.Size
		}
	}
	var held map[string]string
	for i := range s.Titles {
		key := s.Titles[i].Key
		if _, ok := contested[key]; !ok || s.Config.Names[key] != "" {
			continue
		}
		alone := tree.Alone(i)
		if size, ok := present[strings.ToUpper(alone.Items[0].Path)]; ok && size == alone.Items[0].Size {
			if held == nil {
				held = map[string]string{}
				maps.Copy(held, s.Config.Names)
			}
			held[key] = alone.Name
		}
	}
	return held
}

// Contested are the names over which titles had to be made distinct, by the keys of the titles.
func (s *Survey) Contested() map[string]string {
	out := map[string]string{}
	for _, l := range s.Sheet.Loaders() {
		maps.Copy(out, l.Tree.Contested())
	}
	return out
}
