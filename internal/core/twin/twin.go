// Package twin plans how a target becomes like another one: by what is on it, file by file, and not by its sectors, so
// that size and filesystem may differ. A target whose files are damaged is fixed the same way.
package twin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/layout"
	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// Options are how a target is to become like another one.
type Options struct {
	// Fix compares files of the same length and date byte by byte, too: those that differ or cannot be read are written
	// again.
	Fix bool
	// DeleteOthers has files go that the other one does not have.
	DeleteOthers bool
	// Stay finds the paths that are left as they are, with what is below them: what players have reached there. Nil for
	// none.
	Stay func(target.Facts, []target.Entry) []string
	// BackupTo is a folder of this computer to which files are copied before they are replaced or go; "" for none.
	BackupTo string
	// Progress gets how many bytes of a file were compared; nil for no one.
	Progress func(path string, bytes int64)
}

// A Twin is what makes a target like another one.
type Twin struct {
	Plan *plan.Plan `json:"plan"`
	// Alike is how many files are the same on both already.
	Alike int `json:"alike"`
	// Left are files of the other one that cannot be on this one, or cannot be read, with the reason in a clause.
	Left []Left `json:"left,omitempty"`
	// Stayed are files that were left as they are because they are what players have reached.
	Stayed []string `json:"stayed,omitempty"`

	volume string // what the copy is known by
}

// Open opens the copy for a run. One that is not what was looked at is not written to: another stick may be plugged in
// there by now.
func (t *Twin) Open(ctx context.Context, open func(ctx context.Context) (target.Target, error)) (target.Target, error) {
	to, err := open(ctx)
	if err != nil {
		return nil, err
	}
	f, err := to.Facts(ctx, []target.Entry{})
	if err == nil && f.Volume != t.volume {
		err = fmt.Errorf("another volume is plugged in there now, so compare again: %w", target.ErrChanged)
	}
	if err != nil {
		return nil, errors.Join(err, to.Close())
	}
	return to, nil
}

// A Left is a file that stays out.
type Left struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// ErrNoSpace reports that not everything fits.
var ErrNoSpace = errors.New("it does not fit")

// side is one of the two targets, with what is on it.
type side struct {
	t     target.Target
	facts target.Facts
	all   []target.Entry
}

func look(ctx context.Context, t target.Target) (*side, error) {
	var bad error
	all, err := t.List(ctx, func(path string, err error) { bad = errors.Join(bad, fmt.Errorf("%s: %w", path, err)) })
	if err = errors.Join(err, bad); err != nil { // what cannot be listed would be taken for missing
		return nil, err
	}
	facts, err := t.Facts(ctx, all)
	return &side{t, facts, all}, err
}

// making is a twin that is being planned.
type making struct {
	Options
	from, to *side
	out      *Twin
	there    map[string]*target.Entry // on the target, by folded path
	wanted   map[string]bool          // folded paths that the other one has, and the folders above them
	puts     []plan.Step
	stay     []string
	space    int64
}

// Make plans how a target becomes like another one. Both stay open for the run; nothing is written. [ErrNoSpace] says
// that the files would not fit.
func Make(ctx context.Context, from, to target.Target, o Options) (*Twin, error) {
	if o.Progress == nil {
		o.Progress = func(string, int64) {}
	}
	m := &making{Options: o, out: &Twin{Plan: &plan.Plan{BackupTo: o.BackupTo}}, there: map[string]*target.Entry{},
		wanted: map[string]bool{}}
	var err error
	if m.from, err = look(ctx, from); err != nil {
		return nil, fmt.Errorf("looking at what is copied: %w", err)
	}
	if m.to, err = look(ctx, to); err != nil {
		return nil, fmt.Errorf("looking at the copy: %w", err)
	}
	m.out.volume = m.to.facts.Volume
	for i := range m.to.all {
		m.there[m.fold(m.to.all[i].Path)] = &m.to.all[i]
	}
	if o.Stay != nil {
		m.stay = o.Stay(m.to.facts, m.to.all)
	}
	for i := range m.from.all {
		if err := m.entry(ctx, &m.from.all[i]); err != nil {
			return nil, err
		}
	}
	if o.DeleteOthers {
		m.remove()
	}
	p := m.out.Plan
	p.Steps = append(p.Steps, m.puts...)
	if free := m.to.facts.Free; m.space > free && !m.to.facts.Unknown {
		return m.out, fmt.Errorf("%w: %s more are needed, and %s are free", ErrNoSpace, size.Format(m.space),
			size.Format(max(0, free)))
	}
	return m.out, nil
}

func (m *making) fold(path string) string { return m.to.facts.Filesystem.Fold(path) }

// skipped reports whether a file or folder is of no concern: what systems leave, and what is half written.
func skipped(path string) bool {
	return target.OfSystem(path) || target.IsTemporary(path)
}

// stays reports whether a path is to be left as it is.
func (m *making) stays(path string) bool {
	return slices.ContainsFunc(m.stay, func(s string) bool {
		return m.fold(path) == m.fold(s) || strings.HasPrefix(m.fold(path), m.fold(s)+"/")
	})
}

// entry plans one file or folder of the other target.
func (m *making) entry(ctx context.Context, e *target.Entry) error {
	if skipped(e.Path) {
		return nil
	}
	left := func(format string, args ...any) error {
		m.out.Left = append(m.out.Left, Left{e.Path, fmt.Sprintf(format, args...)})
		return nil
	}
	fs := &m.to.facts.Filesystem
	for name := range strings.SplitSeq(e.Path, "/") {
		if why := fs.CheckName(name); why != "" {
			return left("%s", why)
		}
	}
	key := m.fold(e.Path)
	if m.wanted[key] && !e.Folder {
		return left("its name differs from that of another file in capital letters alone, which %s does not tell apart",
			fs.Shown)
	}
	m.wanted[key] = true
	is := m.there[key]
	switch {
	case e.Folder && is == nil:
		m.folder(e.Path)
		return nil
	case e.Folder && !is.Folder, !e.Folder && is != nil && is.Folder:
		return left("%s is a folder on one of them, and a file on the other", is.Path)
	case e.Folder:
		return nil
	case is != nil && m.stays(is.Path):
		if !is.Modified.Equal(e.Modified) || is.Size != e.Size {
			m.out.Stayed = append(m.out.Stayed, is.Path)
		}
		return nil
	case e.Size > fs.LargestFile:
		return left("it has %s, and a file on %s has %s at most", size.Format(e.Size), fs.Shown,
			size.Format(fs.LargestFile))
	}
	if is != nil && is.Size == e.Size {
		same, why, err := m.same(ctx, e, is)
		switch {
		case err != nil:
			return err
		case why != "":
			return left("%s", why)
		case same:
			m.out.Alike++
			return nil
		}
	}
	m.put(e, is)
	return nil
}

// clockSteps is how far two dates of one file may lie apart: FAT keeps every other second.
const clockSteps = 2 * time.Second

// same reports whether two files of one length are alike: by their dates, or by their bytes. Why says in a clause that
// the one that would be copied cannot be read.
func (m *making) same(ctx context.Context, e, is *target.Entry) (same bool, why string, err error) {
	if !m.Fix && e.Modified.Sub(is.Modified).Abs() <= clockSteps {
		return true, "", nil
	}
	a, err := m.from.t.Open(ctx, e.Path)
	if err != nil {
		return false, fmt.Sprintf("it cannot be read: %v", err), ctx.Err()
	}
	defer a.Close()
	b, err := m.to.t.Open(ctx, is.Path)
	if err == nil {
		defer b.Close()
	}
	const block = 1 << 20
	x, y := make([]byte, block), make([]byte, block)
	same = err == nil
	for off := int64(0); off < e.Size; off += block {
		n := min(block, e.Size-off)
		if err := whole(a, x[:n], off); err != nil {
			return false, fmt.Sprintf("it cannot be read: %v", err), ctx.Err()
		}
		if same && (whole(b, y[:n], off) != nil || !bytes.Equal(x[:n], y[:n])) {
			same = false // the rest is read all the same: it has to be had whole
		}
		if ctx.Err() != nil {
			return false, "", ctx.Err()
		}
		m.Progress(e.Path, off+n)
	}
	return same, "", nil
}

// whole reads so many bytes, or fails.
func whole(c io.ReaderAt, b []byte, off int64) error {
	n, err := c.ReadAt(b, off)
	if n == len(b) {
		return nil
	}
	if err == nil || errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// folder plans a folder, with those above it.
func (m *making) folder(dir string) {
	for _, d := range append(layout.Folders(dir), dir) {
		if key := m.fold(d); m.there[key] == nil {
			m.there[key] = &target.Entry{Path: d, Folder: true}
			m.out.Plan.Steps = append(m.out.Plan.Steps, plan.Step{Kind: plan.MakeFolder, Path: d,
				Why: "it is on the other one"})
		}
	}
}

// put plans a file that is written, over what is there where there is something.
func (m *making) put(e, is *target.Entry) {
	p := m.out.Plan
	s := plan.Step{Kind: plan.Copy, Path: e.Path, Size: e.Size, Space: m.to.facts.SpaceFor(e.Path, e.Size),
		Why: "it is on the other one", Make: &shape.Spec{Size: e.Size,
			Source: title.File{Path: e.Path, Size: e.Size, Modified: e.Modified},
			With:   &shape.With{Placed: true, Elsewhere: true, Dated: e.Modified}}}
	if dir := path.Dir(e.Path); dir != "." {
		m.folder(dir)
	}
	if is != nil {
		s.Kind, s.Path, s.Was, s.Why = plan.Replace, is.Path, is, "it is another one there"
		s.Space -= m.to.facts.SpaceFor(is.Path, is.Size)
		m.backup(is, &s)
	}
	m.space += s.Space
	m.puts = append(m.puts, s)
	p.Files++
	p.Bytes += e.Size
}

// backup plans that a file is copied to this computer before a step, which then needs that.
func (m *making) backup(e *target.Entry, s *plan.Step) {
	if m.BackupTo == "" {
		return
	}
	p := m.out.Plan
	p.Steps = append(p.Steps, plan.Step{Kind: plan.Backup, Path: e.Path, Size: e.Size, Was: e, Why: s.Why})
	s.Needs = []int{len(p.Steps) - 1}
	p.Kept++
}

// remove plans that what the other one does not have goes: files, and then folders that are empty by then.
func (m *making) remove() {
	p := m.out.Plan
	full := map[string]bool{}
	for key := range m.wanted {
		for _, d := range layout.Folders(key) {
			full[d] = true
		}
	}
	var folders []plan.Step
	for i := range m.to.all {
		e := &m.to.all[i]
		key := m.fold(e.Path)
		switch {
		case m.wanted[key]:
		case skipped(e.Path) || !e.Folder && m.stays(e.Path):
			if !target.OfSystem(e.Path) && !e.Folder {
				m.out.Stayed = append(m.out.Stayed, e.Path)
			}
			for _, d := range layout.Folders(key) {
				full[d] = true
			}
		case e.Folder:
			folders = append(folders, plan.Step{Kind: plan.RemoveFolder, Path: e.Path, Why: "it is empty", Was: e})
		default:
			s := plan.Step{Kind: plan.Remove, Path: e.Path, Size: e.Size, Was: e, Why: "it is not on the other one",
				Space: -m.to.facts.SpaceFor(e.Path, e.Size)}
			m.backup(e, &s)
			m.space += s.Space
			p.Steps = append(p.Steps, s)
			p.Removes++
			p.Freed += e.Size
		}
	}
	slices.Reverse(folders) // the lower ones first
	for _, s := range folders {
		if !full[m.fold(s.Path)] {
			m.puts = append(m.puts, s)
		}
	}
}
