package scan

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/format/archive"
	"polytome/internal/format/sums"
	"polytome/internal/size"
	"polytome/internal/sparse"
)

type platform = loader.Platform

// unit is what is identified as one: a file, or all parts of an archive.
type unit struct {
	first   *item
	missing string // the name of a first part that is not there
	further []*item
}

// files looks at the files of the folder: those that are as they were are known.
func (l *look) files(was *kept) {
	now := stamp(l.all)
	for i := range l.all {
		if l.all[i].kind == isFile && !skipped(l.all[i].name) {
			l.count++
		}
	}
	if was != nil && was.Stamp == now {
		if rec := was.decode(l.dir); rec != nil && !rec.whole && l.sameOutside(rec) {
			l.titles, l.outside, l.passed, l.reused, l.done = rec.titles, rec.outside, rec.passed, l.count, true
			l.publish()
			return
		}
	}
	l.fresh = true
	var old *record
	if was != nil {
		old = was.decode(l.dir)
	}
	if old == nil && l.count > 0 {
		old = l.moved()
	}
	if old != nil && old.whole {
		old = nil
	}
	units := l.units()
	var tasks []func()
	for _, u := range units {
		if old != nil && l.take(old, u) {
			continue
		}
		tasks = append(tasks, func() {
			give := l.s.disks.take(u.first.device)
			defer l.ended()
			defer give()
			l.identify(u)
		})
	}
	l.mu.Lock()
	l.pending = len(tasks) + 1
	l.publish()
	l.mu.Unlock()
	l.s.push(tasks...)
	l.ended()
}

// sameOutside reports whether the files in other folders are as they were.
func (l *look) sameOutside(rec *record) bool {
	for i := range rec.outside {
		it := &rec.outside[i]
		info, err := os.Stat(filepath.Join(l.dir, it.name))
		if err != nil || info.Size() != it.size || info.ModTime().UnixNano() != it.modified {
			return false
		}
	}
	return true
}

// units puts the parts of archives together.
func (l *look) units() (out []unit) {
	sets := map[string]int{} // of archives in parts -> index in out
	add := func(set string, it *item, v archive.Volume) {
		i, ok := sets[set]
		if !ok {
			i = len(out)
			sets[set] = i
			out = append(out, unit{missing: v.Name(1)})
		}
		if strings.EqualFold(it.name, v.Name(1)) {
			out[i].missing = ""
			if out[i].first != nil {
				out[i].further = append(out[i].further, out[i].first)
			}
			out[i].first = it
			return
		}
		if out[i].first == nil {
			out[i].first = it
		} else {
			out[i].further = append(out[i].further, it)
		}
	}
	for i := range l.all {
		it := &l.all[i]
		if it.kind != isFile || skipped(it.name) {
			continue
		}
		if v, ok := archive.VolumeOf(it.name); ok {
			add(v.Base, it, v)
			continue
		}
		if isBeside(it.name) && !known(filepath.Ext(it.name), l.s.set) {
			continue
		}
		out = append(out, unit{first: it})
	}
	// The first part of old RAR names looks like an archive by itself.
	for i := len(out) - 1; i >= 0; i-- {
		u := &out[i]
		if u.missing != "" || len(u.further) > 0 {
			continue
		}
		if k, ok := sets[strings.ToLower(u.first.name)]; ok && k != i {
			out[k].further = append(out[k].further, out[k].first)
			out[k].first, out[k].missing = u.first, ""
			out = slices.Delete(out, i, i+1)
			for set, at := range sets {
				if at > i {
					sets[set] = at - 1
				}
			}
		}
	}
	return out
}

// take takes over what is known of a unit, if nothing of it has changed.
func (l *look) take(old *record, u unit) bool {
	unchanged := func(it *item) bool {
		was := find(old.files, it.name)
		return was != nil && it.same(was)
	}
	if !unchanged(u.first) || slices.ContainsFunc(u.further, func(it *item) bool { return !unchanged(it) }) {
		return false
	}
	path := filepath.Join(l.dir, u.first.name)
	var mine []title.Title
	for _, t := range old.titles {
		if t.Source() != path {
			continue
		}
		if t.Fault() != nil { // what was missing may be there now
			return false
		}
		for _, d := range t.Discs {
			for _, p := range d.Parts {
				if p.File.Entry != "" {
					continue
				}
				it := find(l.all, strings.TrimPrefix(p.File.Path, l.dir+string(filepath.Separator)))
				if it == nil || !unchanged(it) {
					return false
				}
			}
			if len(d.Volumes) != len(u.further) {
				return false
			}
		}
		for i := range t.Discs {
			t.Discs[i].Beside = nil // they are looked for again
		}
		mine = append(mine, t)
	}
	l.mu.Lock()
	l.titles = append(l.titles, mine...)
	l.reused += 1 + len(u.further)
	l.mu.Unlock()
	return true
}

// ended ends one task; the last one completes the folder.
func (l *look) ended() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.pending--; l.pending > 0 {
		return
	}
	l.titles = slices.Clone(l.titles) // what was published stays as it is
	slices.SortFunc(l.titles, func(a, b title.Title) int { return title.CompareSource(&a, &b) })
	used := map[string]bool{}
	for i := range l.titles {
		for _, d := range l.titles[i].Discs {
			used[d.File.Path] = true
			for _, p := range d.Parts {
				used[p.File.Path] = true
				if p.File.Entry == "" && filepath.Dir(p.File.Path) != l.dir {
					l.outer(p.File)
				}
			}
			for _, v := range d.Volumes {
				used[v.Path] = true
			}
		}
	}
	l.besides(used)
	for i := range l.all {
		if it := &l.all[i]; it.kind == isFile && !skipped(it.name) && !used[filepath.Join(l.dir, it.name)] &&
			!slices.Contains(l.failed, it.name) {
			l.passed++
		}
	}
	l.done = true
	l.publish()
}

// outer notes a file of another folder that a title here depends on.
func (l *look) outer(f title.File) {
	if rel, err := filepath.Rel(l.dir, f.Path); err == nil {
		l.outside = append(l.outside, item{name: rel, kind: isFile, size: f.Size, modified: f.Modified.UnixNano()})
	}
}

// mistake keeps a mistake of the readers, which some strange file brings to light, from extension
// the program.
func (s *scan) mistake(path string) {
	if r := recover(); r != nil {
		s.problem(path, fmt.Errorf("reading this file failed because of a bug in Polytome: %v %s", r,
			strings.SplitN(string(debug.Stack()), "\n", 2)[0]))
	}
}

// identify finds out what a unit is.
func (l *look) identify(u unit) {
	path := filepath.Join(l.dir, u.first.name)
	defer l.s.mistake(path)
	titles, err := l.s.titlesOf(l.dir, u)
	if err != nil {
		l.s.problem(path, err)
		if t := l.s.unread(path, u.first, err); t != nil {
			titles = append(titles, *t)
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if err != nil {
		l.failed = append(l.failed, u.first.name)
	}
	l.titles = append(l.titles, titles...)
	l.publish()
}

// unread is a title that cannot be read for now, known by its extension; nil for what may be anything.
func (s *scan) unread(path string, it *item, err error) *title.Title {
	ext := strings.ToLower(filepath.Ext(path))
	for _, p := range s.set.Platforms {
		if !slices.Contains(p.Extensions, ext) && !slices.Contains(p.Packages, ext) {
			continue
		}
		t := &title.Title{Platform: p.Name, Form: p.FileForm(), Name: nameOfFile(base(path)), Of: 1,
			Discs: []title.Disc{{Number: 1, File: it.file(path)}}}
		if slices.ContainsFunc(s.set.Platforms,
			func(q *platform) bool { return q != p && slices.Contains(q.Extensions, ext) }) {
			t.Platform = ""
		}
		t.Findings = append(t.Findings, fault("it could not be read: "+sayProblem(err), "fix that, and scan again"))
		return t
	}
	return nil
}

// errChanged reports a file that changed during the scan.
var errChanged = errors.New("it changed while being read; scan again when it is complete")

// titlesOf finds the titles in a unit.
func (s *scan) titlesOf(dir string, u unit) ([]title.Title, error) {
	path := filepath.Join(dir, u.first.name)
	ext := strings.ToLower(filepath.Ext(u.first.name))
	if u.missing != "" {
		t := title.Title{Of: 1, Archive: ext, Discs: []title.Disc{{Number: 1, File: u.first.file(path)}}}
		for _, it := range u.further {
			t.Discs[0].Volumes = append(t.Discs[0].Volumes, it.file(filepath.Join(dir, it.name)))
		}
		return []title.Title{*unopened(t, &archive.MissingPart{Name: u.missing})}, nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	sign, head, err := signature(f, u.first.size)
	if err != nil {
		return nil, err
	}
	var titles []title.Title
	switch kind := archive.KindOf(head); {
	case isUnfinished(u.first.name):
		titles = []title.Title{*unfinished(f, u.first, path, s.set)}
	case kind != "" || len(u.further) > 0 || slices.Contains(archiveExtensions, ext):
		o := s.open
		o.Allow = s.allow[absolute(path)]
		titles, err = packed(path, s.set, o)
		if errors.Is(err, archive.ErrNotArchive) {
			titles, err = s.noArchive(f, u.first, path, ext)
		}
	case tracksOf(ext, s.set) != nil:
		var t *title.Title
		if t, err = tracks(diskShelf(dir), u.first.name, s.set); t != nil {
			titles = []title.Title{*t}
		}
	default:
		var t *title.Title
		if t, err = Identify(f, u.first.size, u.first.name, s.set); t != nil {
			if h := holes(f, u.first.size); h != nil {
				t.Findings = append(t.Findings, *h)
			}
			titles = []title.Title{*t}
		}
	}
	if err != nil {
		return nil, err
	}
	if info, err := f.Stat(); err == nil && (info.Size() != u.first.size || info.ModTime().
		UnixNano() != u.first.modified) {
		return nil, errChanged
	}
	for i := range titles {
		t := &titles[i]
		d := &t.Discs[0]
		d.File, d.Sign = u.first.file(path), sign
		if len(u.further) > 0 && len(d.Volumes) == 0 {
			for _, it := range u.further {
				d.Volumes = append(d.Volumes, it.file(filepath.Join(dir, it.name)))
			}
		}
		if !utf8.ValidString(u.first.name) {
			t.Findings = append(t.Findings,
				note("the file's name is not UTF-8, so unreadable characters are shown as marks; its copy gets a "+
					"valid name"))
		}
	}
	return titles, nil
}

// noArchive is what is made of a file whose name ends as an archive's does.
func (s *scan) noArchive(f *os.File, it *item, path, ext string) ([]title.Title, error) {
	if slices.Contains(archiveExtensions, ext) {
		t := title.Title{Of: 1, Archive: ext, Name: nameOfFile(base(path)), Discs: []title.Disc{{Number: 1}}}
		for _, p := range ofPackages(s.set, ext).Platforms {
			t.Platform, t.Form, t.Archive = p.Name, title.Package, ""
		}
		t.Findings = append(t.Findings, fault(fmt.Sprintf("the name ends in %s, but the file is not an archive", ext),
			"get or copy it again"))
		return []title.Title{t}, nil
	}
	t, err := Identify(f, it.size, it.name, s.set)
	if t == nil || err != nil {
		return nil, err
	}
	return []title.Title{*t}, nil
}

// emptyEighth is the length of a file from which parts of it that were never written are looked
// for.
const emptyEighth = 8 << 20

// holes suspects files of which a whole eighth was never written: copies that were interrupted
// after their space had been set aside. Nothing is read.
func holes(f *os.File, n int64) *title.Finding {
	if n < emptyEighth || !sparse.Known {
		return nil
	}
	for i := int64(0); i < 8; i++ {
		from := n / 8 * i
		if start, _ := sparse.Data(f, from, n); start >= from+n/8 {
			return &title.Finding{Grade: title.Suspicion,
				Say: fmt.Sprintf("from byte %s on, %s of the file are only zeros that were never written",
					size.Exact(from), size.Format(start-from)),
				Remedy: "it may be an interrupted copy; verify it, or get it again"}
		}
	}
	return nil
}

// modified is a file's date in the unit of items.
func modified(t time.Time) int64 { return t.UnixNano() }

// sums are the checksum lists in the folder.
func (l *look) sums() (out []string) {
	for i := range l.all {
		it := &l.all[i]
		if n := len(it.name); n < 4 || it.kind != isFile || it.name[0] == '.' {
			continue
		}
		if dot := strings.LastIndexByte(it.name, '.'); dot >= 0 && len(it.name)-dot <= 7 &&
			sums.Extensions[strings.ToLower(it.name[dot:])] != "" {
			out = append(out, filepath.Join(l.dir, it.name))
		}
	}
	return out
}
