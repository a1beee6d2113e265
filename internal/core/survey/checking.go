package survey

import (
	"context"
	"encoding/json"
	"slices"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/fit"
	"polytome/internal/core/fix"
	"polytome/internal/core/journal"
	"polytome/internal/core/loader"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/scancache"
	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/target"
)

// A Prover audits a target. It is made while nothing is changed, and then works by itself: another goroutine may have
// it.
type Checker struct {
	of     Survey
	sheet  *fit.Sheet
	bench  *bench.Bench
	number int // of the target on it
	runs   []journal.Run
	depth  check.Depth
	// Journal is where it is read what was done here last, when no runs were given; nil for nowhere.
	Journal *journal.Journal
	goes    map[string]int         // folded path of a file of a title -> its number
	near    map[string]*shape.Spec // folded path of a file that a run has just read back -> what it was made of
}

// JustRan has the prover look into the sources of what a run has just written and read back, and not once more into
// what it wrote over a network.
func (p *Checker) JustRan(pl *plan.Plan, r *run.Report) {
	if p.of.Facts.Network == "" || pl == nil || r == nil || r.Verify != run.VerifyFull {
		return
	}
	p.near = map[string]*shape.Spec{}
	for i := range pl.Steps {
		if st := &pl.Steps[i]; st.Writes() && !r.Undone[i] && plain(st.Make) {
			p.near[p.of.Facts.Filesystem.Fold(st.Path)] = st.Make
		}
	}
}

// plain reports whether what a file is made of is opened at once, wherever one reads in it: a file of this computer, a
// part of one, or a text.
func plain(s *shape.Spec) bool {
	switch s.Shape {
	case shape.Whole, shape.Split:
		return s.Source.Entry == "" && !s.OnTarget()
	case shape.Written:
		return len(s.Sums) == 0
	}
	return false
}

// open opens what a file that a run has just read back was made of, nil where it is none, or its source is another by
// now.
func (p *Checker) open(ctx context.Context) func(path string) target.Content {
	if p.near == nil {
		return nil
	}
	return func(path string) target.Content {
		s, ok := p.near[p.of.Facts.Filesystem.Fold(path)]
		if !ok {
			return nil
		}
		c, err := (&source.Opener{}).Make(ctx, s)
		if err != nil {
			return nil
		}
		return c
	}
}

// Prover makes one for the target. The runs are those that are written down, the newest first; nil for none.
func (s *Survey) Checker(b *bench.Bench, n int, depth check.Depth, runs []journal.Run) *Checker {
	p := &Checker{of: *s, sheet: s.Sheet.Clone(), depth: depth}
	if b != nil {
		p.bench, p.number, p.runs = b.Clone(), n, runs
	}
	return p
}

// Situation is what was done at a target, for the conditions of a checklist: what the newest run did, whether it was
// the first, and how the target is joined to this computer.
func Situation(b *bench.Bench, n int, runs []journal.Run) (out []string) {
	before := false
	for i := range runs {
		r := &runs[i]
		if !Lies(r, b, n) || r.Report == nil {
			continue
		}
		if len(out) > 0 || r.Report.Put+r.Report.Moved+r.Report.Removed == 0 {
			before = before || r.Report.Put > 0
			continue
		}
		if r.Report.Put+r.Report.Moved > 0 {
			out = append(out, "added")
		}
		if r.Report.Removed > 0 {
			out = append(out, "removed")
		}
	}
	if len(out) > 0 && !before {
		out = append(out, "first-time")
	}
	if b.Targets[n].Cable != nil {
		out = append(out, "direct-cable")
	}
	return out
}

// Check audits the target as it is now, with the eyes of each of its loaders.
func (p *Checker) Check(ctx context.Context) (*check.Report, error) {
	s := &p.of
	if s.carries != nil {
		return p.checkCarried(ctx)
	}
	promises := map[string][]check.Promise{} // by profile
	chosen := false
	for _, profile := range s.Profiles {
		promises[profile.Name] = check.Promises(p.sheet, profile)
		chosen = chosen || len(promises[profile.Name]) > 0
	}
	var situation []string
	switch {
	case p.bench != nil:
		if p.runs == nil && p.Journal != nil {
			p.runs, _ = p.Journal.Runs(lookBack) // without it, less of the checklist holds
		}
		situation = Situation(p.bench, p.number, p.runs)
	case chosen:
		situation = []string{"added", "removed"}
	}
	to, err := s.Open(ctx)
	if err != nil {
		return nil, err
	}
	if s.contiguous() {
		to = withFragments(ctx, to, s.dir)
	}
	defer to.Close()
	return check.Audit(ctx, to, s.Profiles, s.set, check.Options{
		Via: s.Config.Via, Volume: s.volume(s.Profile), Model: s.Config.Model, Depth: p.depth, Situation: situation,
		NoCovers: s.Config.NoCovers,
		Promises: func(of *loader.Profile) []check.Promise { return promises[of.Name] },
		Source:   p.source, Near: p.open(ctx),
	})
}

// checkCarried audits a target that carries the covers of another one.
func (p *Checker) checkCarried(ctx context.Context) (*check.Report, error) {
	s := &p.of
	var wanted []check.Carried
	for i := range p.sheet.Titles() {
		if !p.sheet.Chosen[i] || !p.sheet.Verdict(i).Kind.Goes() {
			continue
		}
		t := &p.sheet.Titles()[i]
		for _, it := range p.sheet.Placement(i).Items {
			wanted = append(wanted, check.Carried{Promise: check.Promise{Label: t.Label(), Key: t.Key, Path: it.Path,
				Size: -1}, Picture: it.With.Picture})
		}
	}
	var lists []check.CarriedList
	listed := func(i int) bool { return p.sheet.Chosen[i] && p.sheet.Verdict(i).Kind.Goes() }
	for _, l := range p.sheet.Loaders() {
		for _, f := range l.Tree.Lists(listed) {
			lists = append(lists, check.CarriedList{Path: f.Path, Data: f.Data, Titles: f.Entries()})
		}
	}
	to, err := s.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer to.Close()
	return check.AuditCarried(ctx, to, s.carries.name, s.Shown(), wanted, lists, p.depth)
}

// lookBack is how many runs are looked at for what was done at a target last.
const lookBack = 100

// CheckAgain is Check, and returns the check that was made before, too, as far as the cache remembers one. It takes its
// target there.
func (p *Checker) CheckAgain(ctx context.Context, cache *scancache.Store) (r, before *check.Report, err error) {
	if r, err = p.Check(ctx); err != nil || cache == nil {
		return r, nil, err
	}
	name := "check " + p.of.cacheName()
	if was, ok, err := cache.Target(name); err == nil && ok {
		before = &check.Report{}
		if json.Unmarshal(was.Data, before) != nil || before.Loader != r.Loader {
			before = nil
		}
	}
	if b, err := json.Marshal(r); err == nil { // a cache that cannot be written to costs the comparison only
		_ = cache.PutTarget(scancache.Target{Name: name, At: r.Taken.Unix(), Data: b})
	}
	if before != nil {
		r.Changes = r.Since(before)
	}
	return r, before, nil
}

// source finds the title of which a file goes to a path.
func (p *Checker) source(of *loader.Profile, path string) (files []check.Promise, ok bool) {
	fold := p.of.Facts.Filesystem.Fold
	if p.goes == nil {
		p.goes = map[string]int{}
		for i := range p.sheet.Titles() {
			if p.sheet.Placement(i).Refusal != nil || p.sheet.Loader(i).Profile != of {
				continue
			}
			items := p.sheet.Placement(i).Items
			for k := range items {
				p.goes[fold(items[k].Path)] = i
			}
		}
	}
	i, ok := p.goes[fold(path)]
	if !ok || p.sheet.Loader(i).Profile != of {
		return nil, false
	}
	t := &p.sheet.Titles()[i]
	items := p.sheet.Placement(i).Items
	for k := range items {
		f := check.Promise{Label: t.Label(), Key: t.Key, Path: items[k].Path, Size: items[k].Size}
		if items[k].AtMost || items[k].Shape == shape.Written {
			f.Size = -1
		}
		files = append(files, f)
	}
	return files, t.OK() && len(files) > 0
}

// Fixed reports which of the bench's fixes a run of a plan has made: all of them, when nothing of it was left undone.
func (s *Survey) Fixed(p *plan.Plan, r *run.Report) func(*fix.Fix) bool {
	fold := s.Facts.Filesystem.Fold
	done := map[string]bool{}
	for i := range p.Steps {
		if st := &p.Steps[i]; (st.Fix || st.Writes() && st.Title != "") && !r.Undone[i] {
			done[fold(st.Path)] = true
			if st.From != "" {
				done[fold(st.From)] = true
			}
		}
	}
	return func(m *fix.Fix) bool {
		return r.All() && !r.Stopped || done[fold(m.Path)] || m.To != "" && done[fold(m.To)]
	}
}

// Check audits the target as it is now, with what is chosen for it.
func (s *Survey) Check(ctx context.Context, depth check.Depth) (*check.Report, error) {
	return s.Checker(nil, 0, depth, nil).Check(ctx)
}

// Ticked says which lines of a checklist were ticked off at a target.
func Ticked(c *bench.Target) func(string) bool {
	return func(line string) bool { return slices.Contains(c.Ticked, line) }
}
