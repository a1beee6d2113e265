package survey

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"

	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/drive"
	"polytome/internal/target/protocols"
)

// CheckPlanned is the check of the target as a plan would leave it: what the console will list after the run, and
// what will
// be wrong then, before a byte is written. It reads the listing of the survey, the sources of what is written, and of
// the target the small files of its loaders; deeper than [check.Names], also games that are there.
func (s *Survey) CheckPlanned(ctx context.Context, p *plan.Plan, depth check.Depth) (*check.Report, error) {
	switch {
	case s.Away != nil:
		return nil, s.Away
	case s.carries != nil:
		return nil, fmt.Errorf("what it brings to the console is listed with %s", s.carries.name)
	}
	if depth == "" {
		depth = check.UsualDepth(s.Config.Via)
	}
	at := s.after(ctx, p, depth)
	defer at.Close()
	var over check.Readable = at
	if protocol, _, _ := protocols.Parse(s.dir); protocol == nil && !s.Stays() { // here, where it can be known
		to, err := at.real()
		if err != nil {
			return nil, err
		}
		if d, ok := to.(onDrive); ok {
			over = afterOnDrive{at, d}
		} else if c, ok := to.(target.FragmentCounter); ok {
			over = afterInPieces{at, c}
		}
	}
	sheet := s.Sheet.Clone()
	r, err := check.Audit(ctx, over, s.Profiles, s.set, check.Options{
		Via: s.Config.Via, Volume: s.volume(s.Profile), Model: s.Config.Model, Depth: depth,
		NoCovers: s.Config.NoCovers,
		Unmade:   at.unmade, Situation: []string{"added"},
		Promises: func(of *loader.Profile) []check.Promise { return check.Promises(sheet, of) },
	})
	if d, ok := at.opened.(*drive.Target); err == nil && ok && s.contiguous() {
		err = s.withoutPlace(ctx, r, p, d.Volume())
	}
	return r, err
}

// withoutPlace adds what will find no contiguous free space on a drive, although there is enough in all.
func (s *Survey) withoutPlace(ctx context.Context, r *check.Report, p *plan.Plan, v *volume.Volume) error {
	const pieces = "\x00free" // no path
	free, ok := s.small.Load(pieces)
	if !ok {
		runs, err := v.FreeRuns(ctx)
		if err != nil {
			return err
		}
		free, _ = s.small.LoadOrStore(pieces, runs)
	}
	cluster := v.Info().Cluster
	var gone []volume.Run
	var need []int64
	var of []*plan.Step
	for i := range p.Steps {
		switch st := &p.Steps[i]; {
		case st.Kind == plan.Remove || st.Kind == plan.Clear:
			if runs, err := v.Extents(st.Path); err == nil {
				gone = append(gone, runs...)
			}
		case st.Writes():
			need, of = append(need, (st.Size+cluster-1)/cluster), append(of, st)
		}
	}
	lack := volume.Unplaced(free.([]volume.Run), gone, need)
	for _, i := range slices.Sorted(maps.Keys(lack)) {
		r.Findings = append(r.Findings, check.Finding{Kind: check.Fragmented, Grade: check.Fault, Path: of[i].Path,
			Title: of[i].Label, Say: fmt.Sprintf("it needs %s in one piece, and the largest free one will have %s",
				size.Format(of[i].Size), size.Format(lack[i]*cluster)), Matters: "it cannot be written",
			Remedy: "first bring the free space together: in Drives, or with polytome drives map --defragment"})
	}
	return nil
}

// after is a target as a plan would leave it.
type after struct {
	ctx   context.Context
	s     *Survey
	facts target.Facts
	all   []target.Entry
	made  map[string]*shape.Spec // folded path -> what will be written there
	lies  map[string]string      // folded path -> where it lies now, of what is moved
	open  map[string]bool        // folded paths of files of which it is known only later what is in them
	real  func() (target.Target, error)

	opened target.Target
}

func (s *Survey) after(ctx context.Context, p *plan.Plan, depth check.Depth) *after {
	a := &after{ctx: ctx, s: s, facts: s.Facts, made: map[string]*shape.Spec{}, lies: map[string]string{},
		open: map[string]bool{}}
	a.real = sync.OnceValues(func() (target.Target, error) {
		to, err := s.Open(ctx)
		if err != nil {
			return nil, err
		}
		if s.contiguous() {
			to = withFragments(ctx, to, s.dir)
		}
		a.opened = to
		return to, nil
	})
	a.carryOut(p, depth)
	return a
}

// carryOut works out what will be where.
func (a *after) carryOut(p *plan.Plan, depth check.Depth) {
	fold := a.facts.Filesystem.Fold
	packed := map[string]bool{} // titles by their keys
	now := make(map[string]target.Entry, len(a.s.There)+len(p.Steps))
	for _, e := range a.s.There {
		now[fold(e.Path)] = e
	}
	for i := range p.Steps {
		st := &p.Steps[i]
		a.facts.Free -= st.Space
		switch st.Kind {
		case plan.Clear, plan.Remove, plan.RemoveFolder:
			delete(now, fold(st.Path))
		case plan.MakeFolder:
			now[fold(st.Path)] = target.Entry{Path: st.Path, Folder: true}
		case plan.Copy, plan.Replace:
			e := target.Entry{Path: st.Path, Size: st.Size}
			if st.Make.AtMost && (st.Make.Shape == shape.Sheet || st.Make.Shape == shape.Plain &&
				depth != check.Names) {
				e.Size = a.length(st.Make)
			}
			if st.Make.AtMost && st.Make.Shape == shape.Pack {
				packed[st.Title] = true
				if st.Make.Offset > 0 {
					continue // a part that there may be nothing for
				}
			}
			now[fold(st.Path)] = e
			a.made[fold(st.Path)] = st.Make
		case plan.Move:
			a.move(now, st.From, st.Path)
		case plan.Backup:
		}
	}
	a.facts.Free = max(0, a.facts.Free)
	for i := range a.s.Titles {
		if !packed[a.s.Titles[i].Key] {
			continue
		}
		items := a.s.Sheet.Placement(i).Items
		for k := range items { // also parts that are there: they say nothing without the rest
			a.open[fold(items[k].Path)] = true
		}
	}
	a.all = slices.SortedFunc(maps.Values(now), func(x, y target.Entry) int { return strings.Compare(x.Path, y.Path) })
}

// length is how many bytes a file will have of which only the most is known.
func (a *after) length(spec *shape.Spec) int64 {
	c, err := a.make(a.ctx, spec)
	if err != nil {
		return spec.Size // the run says why
	}
	defer c.Close()
	return c.Size()
}

// unmade reports whether what a file will hold is known only when it is written.
func (a *after) unmade(name string) bool {
	return a.open[a.facts.Filesystem.Fold(name)]
}

// move has a file, or a folder with all that is in it, lie elsewhere.
func (a *after) move(now map[string]target.Entry, from, to string) {
	fold := a.facts.Filesystem.Fold
	below := fold(from) + "/"
	moved := map[string]target.Entry{}
	for key, e := range now {
		if key != fold(from) && !strings.HasPrefix(key, below) {
			continue
		}
		delete(now, key)
		was := e.Path
		e.Path = to + e.Path[min(len(from), len(e.Path)):]
		moved[fold(e.Path)] = e
		if spec, ok := a.made[key]; ok {
			delete(a.made, key)
			a.made[fold(e.Path)] = spec
			continue
		}
		if earlier, ok := a.lies[key]; ok {
			delete(a.lies, key)
			was = earlier
		}
		a.lies[fold(e.Path)] = was
	}
	maps.Copy(now, moved)
}

// Facts are those of the target, with what will be free.
func (a *after) Facts(context.Context, []target.Entry) (target.Facts, error) { return a.facts, nil }

// List is what will be there.
func (a *after) List(context.Context, func(string, error)) ([]target.Entry, error) { return a.all, nil }

// Open opens what will be in a file.
func (a *after) Open(ctx context.Context, name string) (target.Content, error) {
	if spec, ok := a.made[a.facts.Filesystem.Fold(name)]; ok {
		return a.make(ctx, spec)
	}
	return a.placed(ctx, a.now(name))
}

// make opens what will be written. Each file is opened by itself, as several may be open.
func (a *after) make(ctx context.Context, spec *shape.Spec) (target.Content, error) {
	if len(spec.Sums) > 0 { // what they are of would have to be read, and nobody looks at them here
		plain := *spec
		plain.Sums = nil
		spec = &plain
	}
	from := &source.Opener{At: a.placed, Passwords: a.s.passwords}
	c, err := from.Make(ctx, spec)
	if err != nil {
		return nil, errors.Join(err, from.Close())
	}
	return madeContent{c, from}, nil
}

// now is where a file lies now.
func (a *after) now(name string) string {
	if was, ok := a.lies[a.facts.Filesystem.Fold(name)]; ok {
		return was
	}
	return name
}

// keptText is up to how many bytes a file has that is read once for all plans of a look.
const keptText = 64 << 10

// placed opens a file that is on the target.
func (a *after) placed(ctx context.Context, name string) (target.Content, error) {
	if b, ok := a.s.small.Load(name); ok {
		return readText(b.([]byte)), nil
	}
	to, err := a.real()
	if err != nil {
		return nil, err
	}
	c, err := to.Open(ctx, name)
	if err != nil || c.Size() > keptText {
		return c, err
	}
	b := make([]byte, c.Size())
	_, err = io.ReadFull(io.NewSectionReader(c, 0, c.Size()), b)
	if err = errors.Join(err, c.Close()); err != nil {
		return nil, err
	}
	a.s.small.Store(name, b)
	return readText(b), nil
}

// Close lets go of what is open.
func (a *after) Close() error {
	if a.opened == nil {
		return nil
	}
	return a.opened.Close()
}

// madeContent is what will be in a file, with what it is made by.
type madeContent struct {
	target.Content
	from *source.Opener
}

// Close lets go of both.
func (c madeContent) Close() error { return errors.Join(c.Content.Close(), c.from.Close()) }

// fragments asks in how many pieces a file that is there lies; what is written where that counts is in one.
func (a *after) fragments(ctx context.Context, of target.FragmentCounter, name string) (int, error) {
	if _, ok := a.made[a.facts.Filesystem.Fold(name)]; ok {
		return 1, nil
	}
	return of.Fragments(ctx, a.now(name))
}

// onDrive is a target that knows its partition table, and where files lie.
type onDrive interface {
	target.FragmentCounter
	PartitionTable() string
}

// afterOnDrive is one that is a drive.
type afterOnDrive struct {
	*after
	drive onDrive
}

// PartitionTable is the drive's.
func (a afterOnDrive) PartitionTable() string { return a.drive.PartitionTable() }

// Fragments counts the pieces of a file.
func (a afterOnDrive) Fragments(ctx context.Context, name string) (int, error) {
	return a.fragments(ctx, a.drive, name)
}

// afterInPieces is one that knows where files lie.
type afterInPieces struct {
	*after
	counter target.FragmentCounter
}

// Fragments counts the pieces of a file.
func (a afterInPieces) Fragments(ctx context.Context, name string) (int, error) {
	return a.fragments(ctx, a.counter, name)
}

// smallText is a small file in memory.
type smallText struct{ *strings.Reader }

func readText(b []byte) target.Content { return smallText{strings.NewReader(string(b))} }

// Close does nothing.
func (smallText) Close() error { return nil }

// Data is all of it.
func (t smallText) Data(off int64) (start, end int64) { return min(off, t.Size()), t.Size() }

// Foresee finds what a check would complain of after a plan was carried out, whatever it writes: so hours of writing do
// not end with a list of nothing. What matters to nobody is left out. The whole check is returned too, nil for none.
func (s *Survey) Foresee(ctx context.Context, p *plan.Plan) ([]check.Finding, *check.Report, error) {
	if s.carries != nil || s.Away != nil {
		return nil, nil, nil
	}
	r, err := s.CheckPlanned(ctx, p, check.Names)
	if err != nil {
		return nil, nil, err
	}
	all := slices.DeleteFunc(slices.Clone(r.Findings), func(f check.Finding) bool { return f.Grade == check.Remark })
	return all, r, nil
}
