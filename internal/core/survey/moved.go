package survey

import (
	"context"
	"io"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/layout"
	"polytome/internal/core/scan"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/target"
)

// A mover finds titles that are on the target under other paths than they should.
type mover struct {
	s      *Survey
	ctx    context.Context
	target target.Target            // opened when something has to be looked into
	strays map[int64][]target.Entry // files that no title wants there, by size
	byPath map[string]target.Entry  // the same, by folded path
	taken  map[string]bool          // paths that were found for a title
	prints map[string]print         // of strays, by path
}

func (s *Survey) mover(ctx context.Context) *mover {
	return &mover{s: s, ctx: ctx, strays: map[int64][]target.Entry{}, byPath: map[string]target.Entry{},
		taken: map[string]bool{}, prints: map[string]print{}}
}

func (m *mover) close() {
	if m.target != nil {
		_ = m.target.Close()
	}
}

// clockStep is how far the dates of a file and of its copy may lie apart: FAT keeps every other second.
const clockStep = 2 * time.Second

// findChanged finds files on the target that have the path and the length of a title's, are older than
// the title's own file, and have other headers or samples: the title was changed since they were written.
func (s *Survey) findChanged(ctx context.Context) map[string]bool {
	m := s.mover(ctx)
	defer m.close()
	out := map[string]bool{}
	for i := range s.Titles {
		pl := s.Sheet.Placement(i)
		for k := range pl.Items {
			item := &pl.Items[k]
			if item.Shape != shape.Whole || item.Source.Path == "" || item.Source.Entry != "" || ctx.Err() != nil {
				continue
			}
			if e, ok := s.Sheet.At(item.Path); ok && !e.Folder && e.Size == item.Size &&
				item.Source.Modified.Sub(e.Modified) > clockStep && differs(m.compare(e, i, item)) {
				out[e.Path] = true
			}
		}
	}
	return out
}

func differs(same, known bool) bool { return known && !same }

// findMoved finds, for titles that are not there, files of the same length and the same headers
// under other paths: they need to be renamed only. For each item of a title it reports where it is.
func (s *Survey) findMoved(ctx context.Context) map[int][]string {
	m := s.mover(ctx)
	defer m.close()
	fold := s.Facts.Filesystem.Fold
	wanted := map[string]bool{}
	for i := range s.Titles {
		if pl := s.Sheet.Placement(i); pl.Refusal == nil {
			for k := range pl.Items {
				wanted[fold(pl.Items[k].Path)] = true
			}
		}
	}
	for _, e := range s.There {
		if !e.Folder && e.Size > 0 && !target.IsTemporary(e.Path) && !wanted[fold(e.Path)] {
			m.strays[e.Size] = append(m.strays[e.Size], e)
			m.byPath[fold(e.Path)] = e
		}
	}
	if len(m.byPath) == 0 {
		return map[int][]string{}
	}
	out := map[int][]string{}
	for i := range s.Titles {
		if ctx.Err() != nil {
			break
		}
		if v := s.Sheet.Fits(i); !v.Kind.Goes() || v.Need == 0 {
			continue
		}
		if found := m.find(i); found != nil {
			out[i] = found
		}
	}
	return out
}

// find looks for one title, by the largest of its files that go over as they are.
func (m *mover) find(i int) []string {
	pl := m.s.Sheet.Placement(i)
	lead := -1
	for k := range pl.Items {
		item := &pl.Items[k]
		if _, there := m.s.Sheet.At(item.Path); there || item.Shape != shape.Whole || item.Source.Path == "" {
			continue
		}
		if lead < 0 || item.Size > pl.Items[lead].Size {
			lead = k
		}
	}
	if lead < 0 {
		return m.series(i)
	}
	for _, e := range m.strays[pl.Items[lead].Size] {
		if m.taken[e.Path] || !m.alike(e, i, &pl.Items[lead]) {
			continue
		}
		found := make([]string, len(pl.Items))
		found[lead] = e.Path
		if !m.others(i, lead, found) {
			continue
		}
		for _, p := range found {
			if p != "" {
				m.taken[p] = true
			}
		}
		return found
	}
	return nil
}

// series looks for a title that is cut into parts: its first part tells the series, and with its name all others.
func (m *mover) series(i int) []string {
	pl := m.s.Sheet.Placement(i)
	var parts []int
	for k := range pl.Items {
		item := &pl.Items[k]
		if _, there := m.s.Sheet.At(item.Path); there && item.Shape == shape.Split {
			return nil // some of it is there under the right names
		}
		if item.Shape == shape.Split {
			parts = append(parts, k)
		}
	}
	if len(parts) == 0 || pl.Items[parts[0]].Source.Path == "" {
		return nil
	}
	first, last := parts[0], parts[len(parts)-1]
	for _, e := range m.strays[pl.Items[first].Size] {
		names, ok := layout.Series(pl.Rule, e.Path, len(parts))
		if !ok || m.taken[e.Path] || !m.alike(e, i, &pl.Items[first]) {
			continue
		}
		found, whole := make([]string, len(pl.Items)), true
		for n, k := range parts {
			part, there := m.byPath[m.s.Facts.Filesystem.Fold(names[n])]
			whole = whole && there && part.Size == pl.Items[k].Size && !m.taken[part.Path] &&
				(k != last || m.alike(part, i, &pl.Items[k]))
			found[k] = part.Path
		}
		if !whole {
			continue
		}
		for _, k := range parts {
			m.taken[found[k]] = true
		}
		return found
	}
	return nil
}

// others looks for the other files of a title around the one that was found. A title that is a folder
// must be there whole.
func (m *mover) others(i, lead int, found []string) bool {
	pl := m.s.Sheet.Placement(i)
	if len(pl.Items) == 1 {
		return true
	}
	fold := m.s.Facts.Filesystem.Fold
	from, to := path.Dir(found[lead]), path.Dir(pl.Items[lead].Path)
	whole := layout.FolderTitles(pl.Rule)
	if whole { // both have the same path below the title's folder
		to = layout.Common(pl)
		rest := strings.TrimPrefix(pl.Items[lead].Path, to+"/")
		var ok bool
		if from, ok = strings.CutSuffix(found[lead], "/"+rest); !ok {
			return false
		}
	}
	for k := range pl.Items {
		item := &pl.Items[k]
		if k == lead {
			continue
		}
		rest, below := strings.CutPrefix(item.Path, to+"/")
		if !below && to != "." {
			continue
		}
		e, ok := m.byPath[fold(path.Join(from, rest))]
		if !ok && !whole { // it may be named after the title, as the sheet of tracks is
			e, ok = m.beside(i, from, item, found)
		}
		if ok = ok && e.Size == item.Size && !m.taken[e.Path] && !slices.Contains(found, e.Path); ok {
			found[k] = e.Path
		} else if whole {
			return false
		}
	}
	return true
}

// beside looks in a folder for the only file with an item's length, extension and headers.
func (m *mover) beside(i int, dir string, item *layout.Item, had []string) (found target.Entry, ok bool) {
	for _, e := range m.strays[item.Size] {
		if path.Dir(e.Path) == dir && !slices.Contains(had, e.Path) && strings.EqualFold(path.Ext(e.Path),
			path.Ext(item.Path)) && m.alike(e, i, item) {
			if ok {
				return e, false
			}
			found, ok = e, true
		}
	}
	return found, ok
}

// print is a fingerprint of the headers of a file, and one of samples from all over it.
type print struct{ sign, deep string }

// alike reports whether a file of the target has the content of an item's source, as far as its headers
// and forty samples tell.
func (m *mover) alike(e target.Entry, i int, item *layout.Item) bool {
	same, known := m.compare(e, i, item)
	return same && known
}

// compare looks into a file of the target and into an item's source; known is false when one of
// them cannot be read.
func (m *mover) compare(e target.Entry, i int, item *layout.Item) (same, known bool) {
	has, ok := m.prints[e.Path]
	if !ok {
		m.onTarget(e, func(c io.ReaderAt) { has.sign, _ = scan.Sign(c, e.Size) })
		m.prints[e.Path] = has
	}
	d := &m.s.Titles[i].Discs[item.Disc]
	want := print{d.Sign, d.Deep}
	if d.File != item.Source || item.Shape == shape.Split {
		want = print{}
	}
	of := func(f io.ReaderAt) io.ReaderAt { return io.NewSectionReader(f, item.Offset, item.Size) }
	if want.sign == "" {
		ofSource(&item.Source, func(f io.ReaderAt) { want.sign, _ = scan.Sign(of(f), item.Size) })
	}
	if want.sign == "" || has.sign == "" || want.sign != has.sign {
		return false, want.sign != "" && has.sign != ""
	}
	if has.deep == "" {
		m.onTarget(e, func(c io.ReaderAt) { has.deep, _ = scan.Deep(c, e.Size) })
		m.prints[e.Path] = has
	}
	if want.deep == "" {
		ofSource(&item.Source, func(f io.ReaderAt) { want.deep, _ = scan.Deep(of(f), item.Size) })
	}
	return want.deep == has.deep, want.deep != "" && has.deep != ""
}

// ofSource opens a file of this computer; one that cannot be read tells nothing.
func ofSource(f *title.File, use func(io.ReaderAt)) {
	if in, err := os.Open(f.Path); err == nil {
		use(in)
		_ = in.Close()
	}
}

// onTarget opens a file of the target; one that cannot be read tells nothing.
func (m *mover) onTarget(e target.Entry, use func(io.ReaderAt)) {
	if m.target == nil {
		p, err := m.s.Open(m.ctx)
		if err != nil {
			return
		}
		m.target = p
	}
	if c, err := m.target.Open(m.ctx, e.Path); err == nil {
		use(c)
		_ = c.Close()
	}
}
