package plan

import (
	"path"
	"slices"
	"strings"

	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/target"
)

// A maker gathers the steps of a plan by what they do.
type maker struct {
	sheet *fit.Sheet
	facts target.Facts
	o     Options
	plan  *Plan // which outlives the rest

	clears, folders, moves, puts, texts, listed, removes []Step
	// a folder as it is wanted -> as it is spelled there
	dirs map[string]string
	made map[string]bool // folded paths of folders that are made
	// folded path of a folder -> as the target spells it
	spelled map[string]string
	ids     int          // how many identities were given
	carried map[int]bool // titles that move with their whole folder
	brought int64        // bytes of saves that come along
	ties    []tie
	beside  map[string]bool // folded paths of companions that are planned
	// folded names of all files that will be on the target; nil until asked for
	bases map[string]bool
	// files that will be there and are of no title that is known
	strays []string
	// folded paths of companions that chosen titles want; nil until asked for
	calls map[string]bool
}

func (m *maker) fold(p string) string { return m.facts.Filesystem.Fold(p) }

// spell notes how the folders of the target are spelled: where letter case is ignored, those that
// exist are used as they are.
func (m *maker) sanitize() {
	m.spelled, m.made = map[string]string{}, map[string]bool{}
	for _, e := range m.sheet.There() {
		if e.Folder {
			m.spelled[m.fold(e.Path)] = e.Path
		} else if target.IsTemporary(e.Path) {
			m.clears = append(m.clears, Step{Kind: Clear, Path: e.Path, Why: "an interrupted run left it half written",
				Space: -m.facts.SpaceFor(e.Path, e.Size)})
		}
	}
}

// at is a path as it will be spelled on the target. Folders that are not there are made.
func (m *maker) at(file string) string {
	i := strings.LastIndexByte(file, '/')
	if i < 0 {
		return file
	}
	return m.dir(file[:i]) + file[i:]
}

func (m *maker) dir(dir string) string {
	if as, ok := m.dirs[dir]; ok {
		return as
	}
	as := dir
	if above := path.Dir(dir); above != "." && above != dir {
		as = m.dir(above) + "/" + path.Base(dir)
	}
	if there, ok := m.spelled[m.fold(as)]; ok {
		as = there
	} else if key := m.fold(as); !m.made[key] {
		m.made[key] = true
		m.spelled[key] = as
		m.folders = append(m.folders, Step{Kind: MakeFolder, Path: as, Why: "for the files in it"})
	}
	m.dirs[dir] = as
	return as
}

// titles plans what chosen titles need, those with the largest files first.
func (m *maker) titles() {
	titles := m.sheet.Titles()
	for i := range titles {
		if m.sheet.Chosen[i] && !m.sheet.Verdict(i).Kind.Goes() {
			m.plan.Left = append(m.plan.Left, Left{titles[i].Key, titles[i].Label(), m.sheet.Explain(i)})
		}
	}
	order := m.sheet.BySize()
	items := 0
	for _, i := range order {
		if m.sheet.Chosen[i] {
			items += len(m.sheet.Placement(int(i)).Items)
		}
	}
	m.puts, m.texts, m.beside = make([]Step, 0, items), make([]Step, 0, items), make(map[string]bool, items)
	for _, i32 := range order {
		i := int(i32)
		if !m.sheet.Chosen[i] {
			continue
		}
		kind := m.sheet.Verdict(i).Kind
		if !kind.Goes() {
			continue
		}
		puts, moves, texts := len(m.puts), len(m.moves), len(m.texts)
		if kind == fit.Present {
			m.plan.There++
		} else {
			m.items(i)
		}
		m.companions(i)
		if len(m.texts) > texts {
			m.ties = append(m.ties, tie{[2]int{texts, len(m.texts)}, [2]int{puts, len(m.puts)},
				[2]int{moves, len(m.moves)}})
		}
	}
}

// A tie is what was written for one title, from one number to another: its texts, its files, and its
// new names.
type tie struct{ texts, puts, moves [2]int }

// items plans the files of one title.
func (m *maker) items(i int) {
	t, pl := &m.sheet.Titles()[i], m.sheet.Placement(i)
	found := m.sheet.Found(i)
	label := t.Label()
	whole, moved := m.moveFolder(i, found)
	if moved {
		m.moves, m.carried[i] = append(m.moves, whole), true
	}
	for k := range pl.Items {
		item := &pl.Items[k]
		was, there := m.sheet.At(item.Path)
		if m.sheet.Holding(item) {
			continue // a part of it is there already
		}
		if found != nil && found[k] != "" && moved {
			continue
		}
		if found != nil && found[k] != "" {
			m.moves = append(m.moves, m.move(found[k], item.Path, t, pl.Because(item)))
			continue
		}
		s := Step{Kind: Copy, Path: m.at(item.Path), Title: t.Key, Label: label, Why: item.Rule, Size: item.Size,
			Space: m.facts.SpaceFor(item.Path, item.Size)}
		if there {
			s.Kind, s.Path, s.Was = Replace, was.Path, &was
			s.Space -= m.facts.SpaceFor(was.Path, was.Size)
			s.Merged = was.Size == 0 && item.Shape == shape.Written // nothing of anybody's is in it
		}
		s.Make = &item.Spec
		if item.Shape == shape.Written || item.Shape == shape.Sheet || item.Shape == shape.Patched {
			m.texts = append(m.texts, s)
			continue
		}
		m.puts = append(m.puts, s)
	}
}

// move gives a file of a title its path.
func (m *maker) move(from, to string, t *title.Title, why string) Step {
	was, _ := m.sheet.At(from)
	return Step{Kind: Move, Path: m.at(to), From: was.Path, Title: t.Key, Label: t.Label(), Why: why, Size: was.Size,
		Was: &was}
}

// moveFolder moves the whole folder of a title that is in one of its own, so that a thousand files are
// one step. It must not be there under its new path, and hold nothing but the title.
func (m *maker) moveFolder(i int, found []string) (s Step, ok bool) {
	pl, t := m.sheet.Placement(i), &m.sheet.Titles()[i]
	if len(found) < 2 || pl.Rule == nil || !layout.FolderTitles(pl.Rule) {
		return s, false
	}
	to := layout.Common(pl)
	rest := strings.TrimPrefix(pl.Items[0].Path, to+"/")
	from, ok := strings.CutSuffix(found[0], "/"+rest)
	if !ok {
		return s, false
	}
	for k := range pl.Items {
		if found[k] != from+strings.TrimPrefix(pl.Items[k].Path, to) {
			return s, false
		}
	}
	was, ok := m.sheet.At(from)
	if _, taken := m.sheet.At(to); !ok || !was.Folder || taken {
		return s, false
	}
	s = m.move(from, to, t, pl.Because(&pl.Items[0]))
	m.spelled[m.fold(s.Path)] = s.Path
	return s, true
}

// companions plans the texts and pictures of a title that are not there yet. A text that is there
// may have been changed by hand, and stays.
func (m *maker) companions(i int) {
	t := &m.sheet.Titles()[i]
	for _, c := range m.sheet.Companions(i) {
		key := m.fold(c.Path)
		if m.beside[key] { // two titles may have one ID
			continue
		}
		m.beside[key] = true
		if old, ok := m.followed(i, &c); ok {
			if !m.carried[i] {
				m.moves = append(m.moves, m.move(old, c.Path, t, c.Rule))
			}
			continue
		}
		spec := c.Spec // and not the whole companion
		s := Step{Kind: Copy, Path: m.at(c.Path), Title: t.Key, Label: t.Label(), Why: c.Rule, Make: &spec,
			Size: c.Size, Space: m.facts.SpaceFor(c.Path, c.Size)}
		m.texts = append(m.texts, s)
	}
}

// followed is where a companion of a title that is renamed lies now, under the title's old name.
func (m *maker) followed(i int, c *layout.Companion) (old string, ok bool) {
	found, pl, file := m.sheet.Found(i), m.sheet.Placement(i), c.Path
	if len(found) == 0 || found[0] == "" {
		return "", false
	}
	if !layout.FolderTitles(pl.Rule) {
		for k := range found {
			if found[k] == "" || pl.Items[k].Disc != c.Disc {
				continue
			}
			if e, ok := m.sheet.At(m.sheet.Loader(i).Tree.Beneath(i, c, found[k])); ok && !e.Folder &&
				!m.wanted(e.Path) {
				return e.Path, true
			}
			break
		}
	}
	to, from := pl.Items[0].Path, found[0]
	base := func(p string) string { return strings.TrimSuffix(path.Base(p), path.Ext(p)) }
	if dir := path.Dir(to); dir != "." && strings.HasPrefix(file, dir+"/") {
		file = path.Join(path.Dir(from), strings.TrimPrefix(file, dir+"/"))
	}
	old = path.Join(path.Dir(file), strings.Replace(path.Base(file), base(to), base(from), 1))
	e, ok := m.sheet.At(old)
	return e.Path, ok && !e.Folder
}

// wanted reports whether a file is a companion that a title that is chosen wants just there.
func (m *maker) wanted(file string) bool {
	if m.calls == nil {
		m.calls = map[string]bool{}
		for i := range m.sheet.Titles() {
			if m.sheet.Chosen[i] {
				for _, p := range m.sheet.Beside(i) {
					m.calls[m.fold(p)] = true
				}
			}
		}
	}
	return m.calls[m.fold(file)]
}

// startFiles plans the loader's own files that are written where there are none.
func (m *maker) startFiles() {
	if m.sheet.Count == 0 {
		return
	}
	for _, t := range m.sheet.StartFiles() {
		n := int64(len(t.Text))
		m.texts = append(m.texts, Step{Kind: Copy, Path: m.at(t.Path), Why: t.Why, Size: n,
			Space: m.facts.SpaceFor(t.Path, n),
			Make:  &shape.Spec{Shape: shape.Written, Size: n, Text: shape.Text(t.Text)}})
	}
}

// updates plans texts that shall say something else, and pictures that shall show something else.
func (m *maker) updates() {
	for _, u := range m.o.Updates {
		was, there := m.sheet.At(u.Path)
		if !there || u.Title >= 0 && !m.sheet.Chosen[u.Title] {
			continue
		}
		n := int64(len(u.Text))
		if u.Make != nil {
			n = u.Make.Size
		}
		s := Step{Kind: Replace, Path: was.Path, Why: u.Why, Size: n,
			Space: m.facts.SpaceFor(was.Path, n) - m.facts.SpaceFor(was.Path, was.Size), Was: &was, Merged: true,
			Wanted: shape.Text(u.Wanted), Make: &shape.Spec{Shape: shape.Written,
				Size: n,
				Text: shape.Text(u.Text)}}
		if u.Make != nil {
			s.Merged, s.Remade, s.Make = false, true, u.Make
		}
		if u.Title >= 0 {
			t := &m.sheet.Titles()[u.Title]
			s.Title, s.Label = t.Key, t.Label()
		}
		m.texts = append(m.texts, s)
	}
}

// lists plans the files in which all titles are listed.
func (m *maker) lists() {
	for _, l := range m.sheet.Loaders() {
		mine := func(i int) bool {
			return m.sheet.Chosen[i] && m.sheet.Loader(i).Tree == l.Tree && m.sheet.Verdict(i).Kind.Goes()
		}
		for _, f := range l.Tree.Lists(mine) {
			was, there := m.sheet.At(f.Path)
			text, read := m.o.Texts[was.Path]
			data, own := f.Data, []byte(nil)
			files, stays := m.lying()
			if m.sheet.Carried() { // what lies apart is what counts, and what else stands there is not to be played
				own = data
			} else if merged, ours, ok := f.Merge(layout.Lying{Text: text, There: there && read,
				Last: m.o.Last[was.Path], Files: files, Stays: stays}); ok && (read || !there) {
				data, own = merged, ours
			}
			s := Step{Kind: Copy, Path: f.Path, Why: f.Rule, Make: &shape.Spec{Shape: shape.Written,
				Size: int64(len(data)), Text: shape.Text(string(data))}, Size: int64(len(data)), Last: true,
				Space: m.facts.SpaceFor(f.Path, int64(len(data)))}
			if there {
				if read && text == string(s.Make.Text) {
					continue
				}
				s.Merged, s.Wanted = own != nil, shape.Text(string(own))
				s.Kind, s.Path, s.Was = Replace, was.Path, &was
				s.Space -= m.facts.SpaceFor(was.Path, was.Size)
			} else {
				s.Path = m.at(f.Path)
			}
			m.listed = append(m.listed, s)
		}
	}
}

// lying are the files that will be on the target and that no title which is known has, and a function that tells
// whether there will be a file of a name.
func (m *maker) lying() (files []string, stays func(base string) bool) {
	if m.bases == nil {
		m.bases = map[string]bool{}
		gone, known := map[string]bool{}, map[string]bool{}
		for i := range m.removes {
			gone[m.fold(m.removes[i].Path)] = true
		}
		for i := range m.moves {
			gone[m.fold(m.moves[i].From)] = true
		}
		note := func(p string) { m.bases[m.fold(path.Base(p))] = true }
		for i := range m.sheet.Titles() {
			for _, p := range m.sheet.Holds(i) {
				known[m.fold(p)] = true
			}
			if m.sheet.Chosen[i] && m.sheet.Verdict(i).Kind.Goes() {
				for k := range m.sheet.Placement(i).Items {
					p := m.sheet.Placement(i).Items[k].Path
					known[m.fold(p)] = true
					note(p)
				}
			}
		}
		for _, e := range m.sheet.There() {
			if gone[m.fold(e.Path)] || target.IsTemporary(e.Path) {
				continue
			}
			note(e.Path)
			if !e.Folder && !known[m.fold(e.Path)] && !target.OfSystem(e.Path) {
				m.strays = append(m.strays, e.Path)
			}
		}
	}
	return m.strays, func(base string) bool { return m.bases[m.fold(base)] }
}

// leaving plans what goes: what the user marked, and what is not chosen on a target that is to
// hold exactly that.
func (m *maker) removing() {
	gone := map[string]bool{}
	remove := func(e target.Entry, why string) {
		if key := m.fold(e.Path); !gone[key] {
			gone[key] = true
			was := e
			m.removes = append(m.removes, Step{Kind: Remove, Path: e.Path, Why: why, Size: e.Size,
				Space: -m.facts.SpaceFor(e.Path, e.Size), Was: &was})
		}
	}
	for _, e := range m.sheet.There() {
		if why, leaves := m.sheet.Leaves(e); leaves && !target.IsTemporary(e.Path) {
			remove(e, why)
		}
	}
	wanted := map[string]bool{}
	unwanted := m.sheet.Unwanted()
	if len(unwanted) > 0 {
		for i := range m.sheet.Titles() {
			if m.sheet.Chosen[i] {
				for _, p := range m.sheet.Holds(i) {
					wanted[m.fold(p)] = true
				}
			}
		}
	}
	for _, i := range unwanted {
		for _, p := range m.sheet.Holds(i) {
			if e, there := m.sheet.At(p); there && !wanted[m.fold(p)] {
				remove(e,
					m.sheet.Titles()[i].Label()+" is not selected, and the target removes everything not selected")
			}
		}
	}
	slices.SortFunc(m.removes, func(a, b Step) int { return strings.Compare(a.Path, b.Path) })
}
