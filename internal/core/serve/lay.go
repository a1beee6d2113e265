package serve

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"

	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/core/survey"
	"polytome/internal/target"
	"polytome/internal/target/served"
)

// A Laid is what became of laying an export out.
type Laid struct {
	Plan   *plan.Plan
	Report run.Report
	// Stay are files that would go, and stay as the folder of their games is away.
	Stay []string
}

// Changed reports whether anything is other than before.
func (l *Laid) Changed() bool { return l.Report.Put+l.Report.Moved+l.Report.Removed > 0 }

// Lay has an export show what is chosen for it in a survey. What would go because the folder of its games is away
// stays, and can be read again when that is back.
func Lay(ctx context.Context, b *bench.Bench, s *survey.Survey, e *served.Export) Laid {
	l := Laid{Plan: s.Plan()}
	away := folders(b)
	stays := map[int]bool{}
	for i := range l.Plan.Steps {
		step := &l.Plan.Steps[i]
		if step.Kind != plan.Remove {
			continue
		}
		for _, file := range sources(e, step.Path) {
			if away(file) {
				stays[i] = true
				l.Stay = append(l.Stay, step.Path)
				break
			}
		}
	}
	if len(stays) > 0 {
		l.Plan = l.Plan.Without(func(i int) bool { return stays[i] || l.Plan.Steps[i].Kind == plan.RemoveFolder })
	}
	if !l.Plan.Empty() {
		job := s.Job(b, l.Plan)
		job.Patience = -1
		l.Report = run.Start(ctx, job).Wait()
	}
	return l
}

// Relink has the games of an export that lie somewhere else now, or were written again, be read from there. They
// stay at their places on the volume. It returns how many files it was about.
func Relink(ctx context.Context, s *survey.Survey, e *served.Export) (n int, err error) {
	var to target.Target
	opener := &source.Opener{}
	defer func() { err = errors.Join(err, opener.Close()) }()
	for i := range s.Titles {
		if !s.Sheet.Chosen[i] || s.Sheet.Verdict(i).Kind != fit.Present {
			continue
		}
		items := s.Sheet.Placement(i).Items
		for k := range items {
			spec := &items[k].Spec
			was := e.Recipe(items[k].Path)
			if now, bad := json.Marshal(spec); was == nil || bad != nil || bytes.Equal(was, now) {
				continue
			}
			recipe, ok, bad := opener.Recipe(spec)
			if bad != nil || !ok || source.Unchanged(spec) != nil {
				continue // it is tried again the next time
			}
			if to == nil {
				if to, err = s.Open(ctx); err != nil {
					return n, err
				}
				defer func() { err = errors.Join(err, to.Close()) }()
			}
			err := to.(target.Referrer).Refer(ctx, target.Referral{Path: items[k].Path, Size: spec.Size,
				Modified: spec.Source.Modified, Recipe: recipe, Over: true})
			if err != nil {
				return n, err
			}
			n++
		}
	}
	return n, nil
}

// folders reports of a file whether the folder of games that it is in is away: it is not there, or has nothing in
// it, as one has where a drive was mounted.
func folders(b *bench.Bench) (away func(file string) bool) {
	known := map[string]bool{}
	return func(file string) bool {
		for _, dir := range b.SourcePaths() {
			if rel, err := filepath.Rel(dir, file); err != nil || !filepath.IsLocal(rel) {
				continue
			}
			if _, looked := known[dir]; !looked {
				all, err := os.ReadDir(dir)
				known[dir] = err != nil || len(all) == 0
			}
			return known[dir]
		}
		return false // it is no folder of the bench any longer
	}
}

// sources are the files of this computer that a file of an export is made of.
func sources(e *served.Export, path string) []string {
	var spec shape.Spec
	if json.Unmarshal(e.Recipe(path), &spec) != nil {
		return nil
	}
	return spec.Reads()
}

// Shown reports for each title of a survey whether an export has all of its files: others are not listed.
func Shown(s *survey.Survey, of *survey.Survey, there []target.Entry) []bool {
	has := map[string]bool{}
	fold := of.Facts.Filesystem.Fold
	for _, e := range there {
		has[fold(e.Path)] = true
	}
	byKey := map[string]bool{}
	for i := range of.Titles {
		items := of.Sheet.Placement(i).Items
		all := of.Sheet.Chosen[i] && len(items) > 0
		for k := range items {
			all = all && has[fold(items[k].Path)]
		}
		byKey[of.Titles[i].Key] = all
	}
	out := make([]bool, len(s.Titles))
	for i := range s.Titles {
		out[i] = byKey[s.Titles[i].Key]
	}
	return out
}
