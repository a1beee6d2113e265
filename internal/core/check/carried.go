package check

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/fix"
	"polytome/internal/format/picture"
	"polytome/internal/size"
	"polytome/internal/target"
)

// A Carried is a cover that is to be on a target which carries the covers of another.
type Carried struct {
	Promise
	Picture *picture.Rule // how it is wanted
}

// A CarriedList is a file in which titles are listed that is to be on such a target.
type CarriedList struct {
	Path   string
	Data   []byte
	Titles int // in it
}

// AuditCarried reads a target that carries the covers of another one: no loader reads from it, so what counts is that
// every cover is there, as it is wanted, and that nothing else is carried along. Its checklist says how they get over.
func AuditCarried(ctx context.Context, p target.Target, of string, shown string, wanted []Carried,
	lists []CarriedList, depth Depth) (*Report, error) {
	if depth == "" {
		depth = Inside
	}
	a := &audit{ctx: ctx, target: p, o: Options{Depth: depth}, claimed: map[string]bool{}, r: Report{Loader: shown,
		Listed: []Listed{}, Depth: depth, Taken: time.Now()}}
	if err := a.list(); err != nil {
		return nil, err
	}
	lacks := 0
	var fixes []fix.Fix
	for _, c := range wanted {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		e, ok := a.tree.file(c.Path)
		if !ok {
			lacks++
			fixes = append(fixes, fix.Fix{Do: fix.Copy, Path: c.Path, Title: c.Key})
			continue
		}
		a.claim(e.Path)
		l := Listed{Name: c.Label, Path: e.Path, Size: e.Size, Starts: true, Cover: e.Path}
		if depth != Names {
			say := ""
			if s, err := a.measure(e); err != nil {
				say = err.Error()
			} else {
				say = c.Picture.Off(s, e.Size)
			}
			if say != "" {
				l.Starts = false
				a.report(Finding{Kind: Cover, Grade: Fault, Path: e.Path, Title: c.Label,
					Say: fmt.Sprintf("the cover of %s: %s", c.Label, say), Remedy: "resize it",
					Fixes: []fix.Fix{{Do: fix.Fit, Path: e.Path, To: e.Path, Picture: c.Picture}}})
			}
		}
		a.r.Listed = append(a.r.Listed, l)
	}
	if lacks > 0 {
		a.report(Finding{Kind: Promised, Grade: Fault, Say: fmt.Sprintf("of %s to carry, %d are not here",
			size.Count(len(wanted), "cover"), lacks), Matters: "the console will show no picture for them",
			Remedy: "run again: only what is missing is copied", Fixes: fixes})
	}
	for i := range lists {
		if err := a.carriedList(&lists[i], of, shown); err != nil {
			return nil, err
		}
	}
	for i := range a.tree.entries {
		e := &a.tree.entries[i]
		if !e.Folder && !a.claimed[a.tree.fold(e.Path)] {
			a.r.Others = append(a.r.Others, e.Path)
		} else if !e.Folder {
			a.r.Files++
		}
	}
	a.r.Files += len(a.r.Others)
	slices.SortStableFunc(a.r.Listed, func(x, y Listed) int {
		return cmp.Or(strings.Compare(strings.ToLower(x.Name), strings.ToLower(y.Name)), strings.Compare(x.Path,
			y.Path))
	})
	a.space()
	a.r.sort()
	if len(lists) > 0 { // it is the console's own stick
		a.r.Checklist = []string{fmt.Sprintf("Have %s read its list again", shown)}
		return &a.r, nil
	}
	a.r.Checklist = []string{
		"Eject the stick, and plug it into the console",
		fmt.Sprintf("Copy everything on it over the console's files of %s, in the console's own file manager, and "+
			"merge folders: only covers are replaced", of),
		fmt.Sprintf("Restart %s, or have it rescan", shown),
	}
	return &a.r, nil
}

// carriedList compares a list with what it shall say.
func (a *audit) carriedList(l *CarriedList, of, shown string) error {
	if a.ctx.Err() != nil {
		return a.ctx.Err()
	}
	f := Finding{Kind: Promised, Grade: Stops, Path: l.Path, Remedy: "run again: only what has changed is copied",
		Matters: shown + " shows the titles that stand in it, and no others"}
	e, there := a.tree.file(l.Path)
	if !there {
		f.Say = fmt.Sprintf("%s waits for its first list: %s is not here", shown, l.Path)
		a.report(f)
		return nil
	}
	a.claim(e.Path)
	text, err := a.tree.text(e)
	switch {
	case err != nil:
		f.Say = fmt.Sprintf("%s cannot be read: %v", l.Path, err)
	case text != string(l.Data):
		f.Say = fmt.Sprintf("%s is not the list of the %s on %s", l.Path, size.Count(l.Titles, "title"), of)
	default:
		return nil
	}
	a.report(f)
	return nil
}
