// Package movesources moves the files of titles that have been copied, when the user asks for it: to a folder or to the
// trash. Nothing is ever deleted, and nothing is moved that was not read back on every target that it was wanted on.
package movesources

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/shape"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
	"polytome/internal/target/folder"
	"polytome/internal/trash"
)

// Trash is the name that stands for the trash.
const Trash = "trash"

// A Carried is what was done at one target.
type Carried struct {
	Survey *survey.Survey
	Plan   *plan.Plan
	Report *run.Report
}

// A Found is which files can be moved, and why others cannot.
type Found struct {
	Titles []string // their names
	Files  []title.File
	Stay   []string // sentences
}

// Find finds the files of titles that were written whole and read back at all targets where they are wanted.
func Find(all []Carried) Found {
	var out Found
	if len(all) == 0 {
		return out
	}
	titles := all[0].Survey.Titles
	files := map[string]title.File{} // by path
	moves := map[string]bool{}       // by path: all titles that it belongs to have been copied
	labels := map[string]string{}
	for i := range titles {
		t := &titles[i]
		over, why := wentOver(all, i)
		for _, f := range filesOf(t) {
			if _, ok := files[f.Path]; !ok {
				files[f.Path], moves[f.Path] = f, true
			}
			moves[f.Path] = moves[f.Path] && over
		}
		if over {
			labels[t.Key] = t.Label()
		} else if why != "" {
			out.Stay = append(out.Stay, t.Label()+" stays: "+why)
		}
	}
	gone := map[string]bool{}
	for i := range titles { // a title goes with all of its files, or with none
		t := &titles[i]
		label, over := labels[t.Key]
		if !over {
			continue
		}
		mine := filesOf(t)
		if slices.ContainsFunc(mine, func(f title.File) bool { return !moves[f.Path] }) {
			out.Stay = append(out.Stay, label+" stays: some of its files belong to titles that were not copied")
			continue
		}
		out.Titles = append(out.Titles, label)
		for _, f := range mine {
			if !gone[f.Path] {
				gone[f.Path] = true
				out.Files = append(out.Files, f)
			}
		}
	}
	return out
}

// wentOver reports whether a title was put at all targets where it is wanted, and read back; why is said of one that
// was put only in part.
func wentOver(all []Carried, i int) (over bool, why string) {
	put := false
	for _, c := range all {
		s := c.Survey
		if !s.Sheet.Chosen[i] {
			continue
		}
		if s.Stays() {
			return false, fmt.Sprintf("the console plays it from where it lies (%s)", s.Config.Name)
		}
		steps, done := 0, 0
		for n := range c.Plan.Steps {
			if st := &c.Plan.Steps[n]; st.Title == s.Titles[i].Key && st.Writes() {
				steps++
				if !c.Report.Undone[n] {
					done++
				}
			}
		}
		pl := s.Sheet.Placement(i)
		switch {
		case done < steps:
			return false, fmt.Sprintf("not all of it was copied to %s", s.Config.Name)
		case steps == 0:
			return false, "" // it does not go there, or is there already, and nobody has looked how well
		case pl == nil || done < len(pl.Items):
			return false, fmt.Sprintf("a part of it was already on %s and was not read back this time", s.Config.Name)
		case c.Report.Verify != run.VerifyFull:
			return false, fmt.Sprintf("on %s it was not read back (use --verify full)", s.Config.Name)
		}
		put = true
	}
	return put, ""
}

// filesOf are all files of a title on this computer.
func filesOf(t *title.Title) []title.File {
	var out []title.File
	seen := map[string]bool{}
	add := func(f title.File) {
		if f.Path != "" && !seen[f.Path] {
			seen[f.Path] = true
			out = append(out, f)
		}
	}
	for d := range t.Discs {
		disc := &t.Discs[d]
		if t.Form != title.Folder || disc.File.Entry != "" {
			add(disc.File)
		}
		for _, p := range disc.Parts {
			add(p.File)
		}
		for _, v := range disc.Volumes {
			add(v)
		}
	}
	return out
}

// A Moved is how moving ended.
type Moved struct {
	Files int
	Bytes int64
	// Failed are what could not be moved; it stays where it was.
	Failed []error
}

// Move moves files to the trash, or to a folder, below which they keep their paths below the roots that they are under.
// A file on another disk is copied, read back, and only then removed.
func Move(ctx context.Context, files []title.File, roots []string, to string) (Moved, error) {
	var m Moved
	if to != Trash {
		if err := os.MkdirAll(to, 0o755); err != nil {
			return m, fmt.Errorf("making the folder for copied sources: %w", err)
		}
		if inside(roots, to) {
			return m, fmt.Errorf("%s is in a source folder, so moved files would be scanned again; choose another "+
				"folder", to)
		}
	}
	for _, f := range files {
		if ctx.Err() != nil {
			return m, ctx.Err()
		}
		info, err := os.Lstat(f.Path)
		switch {
		case err != nil:
		case f.Entry == "" && info.Size() != f.Size || f.Entry == "" && !info.ModTime().Equal(f.Modified):
			err = fmt.Errorf("%s has changed since, and stays", f.Path)
		case to == Trash:
			err = trash.Move(f.Path)
		default:
			err = moveTo(ctx, f.Path, info, filepath.Join(to, below(roots, f.Path)))
		}
		if err != nil {
			m.Failed = append(m.Failed, err)
			continue
		}
		m.Files++
		m.Bytes += info.Size()
	}
	return m, nil
}

func inside(roots []string, dir string) bool {
	abs, err := filepath.Abs(dir)
	return err == nil && slices.ContainsFunc(roots, func(r string) bool {
		rel, err := filepath.Rel(r, abs)
		return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
	})
}

// below is a path below the root that it is under, with the root's own name.
func below(roots []string, name string) string {
	for _, r := range roots {
		if rel, err := filepath.Rel(r, name); err == nil && filepath.IsLocal(rel) {
			return filepath.Join(filepath.Base(r), rel)
		}
	}
	return filepath.Base(name)
}

// moveTo gives a file another path, where nothing must be.
func moveTo(ctx context.Context, name string, info os.FileInfo, to string) error {
	if _, err := os.Lstat(to); err == nil {
		return fmt.Errorf("%s already exists, so %s stays", to, name)
	}
	dir := filepath.Dir(to)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	err := os.Rename(name, to)
	if err == nil || !crosses(err) {
		return err
	}
	p, err := folder.Open(dir, folder.Options{})
	if err != nil {
		return err
	}
	defer p.Close()
	source := title.File{Path: name, Size: info.Size(), Modified: info.ModTime()}
	step := plan.Step{Kind: plan.Copy, Path: filepath.Base(to), Size: info.Size(), Make: &shape.Spec{Size: info.Size(),
		Source: source}}
	r := run.Run(ctx, &plan.Plan{Steps: []plan.Step{step}}, p, run.Options{Verify: run.VerifyFull}, func(run.Event) {})
	if !r.All() {
		return errors.New(r.Failed[0].Say)
	}
	if err := os.Chtimes(to, info.ModTime(), info.ModTime()); err != nil {
		return err
	}
	return os.Remove(name)
}
