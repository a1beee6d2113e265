// Package check audits a target: what will its loaders list, what will they skip, what keeps a title from
// starting, and how all of that is fixed. It reads the target itself, not the plan, so it also judges what others have
// put there.
//
// An audit lists the target once. Each loader looks at the listing with its own eyes (eyes.go), and what none of
// them knows is looked at in the end (stray.go). How closely files are looked at is the [Depth].
package check

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/fix"
	"polytome/internal/target"
	"polytome/internal/target/protocols"
)

// Grade is how much a finding matters.
type Grade string

// The grades, the worst first.
const (
	Stops  Grade = "stops"  // the loader lists nothing at all
	Fault  Grade = "fault"  // a title is not listed, or will not start, or something of it is not shown
	Remark Grade = "remark" // good to know
)

var grades = []Grade{Stops, Fault, Remark}

// Depth is how closely files are looked at.
type Depth string

// The depths. Names costs one listing; over FTP that is one for each folder.
const (
	Names  Depth = "quick"  // names and sizes, and the loader's own settings
	Inside Depth = "inside" // also what decides whether a title starts: headers, sheets, lists, pictures
	Whole  Depth = "full"   // every byte, with all checksums
)

// Depths are all depths, the quickest first.
var Depths = []Depth{Names, Inside, Whole}

// UsualDepth is how closely a target is looked at when no one says: where every file that is looked into costs a
// transfer of its own, at names and sizes.
func UsualDepth(via string) Depth {
	if p := protocols.Named(via); p != nil && p.Costly {
		return Names
	}
	return Inside
}

// A Listed is one line of a loader's list, as it will show.
type Listed struct {
	Loader   string `json:"loader"` // name of its profile
	ID       string `json:"id"`
	Name     string `json:"name"` // as the loader shows it
	Kind     string `json:"kind,omitempty"`
	Platform string `json:"platform,omitempty"`
	Path     string `json:"path"`
	Starts   bool   `json:"starts"` // false when a finding keeps it from starting
	// Section is the part of the list that it is shown in, "" for the list itself, and Place where, 0 for where its
	// name has it.
	Section   string `json:"section,omitempty"`
	Place     int    `json:"place,omitempty"`
	Favourite bool   `json:"favourite,omitempty"`
	Discs     int    `json:"discs,omitempty"`    // that lie behind the line, where there are several
	Size      int64  `json:"size"`               // in bytes
	BuiltIn   bool   `json:"built-in,omitempty"` // into the console: it has no path, and takes no room
	// Cover is the picture that the console will show beside it, "" for none.
	Cover string `json:"cover,omitempty"`
}

// A Finding is something that the loader, or the person, will stumble over.
type Finding struct {
	Kind    Kind   `json:"kind"`
	Grade   Grade  `json:"grade"`
	Loader  string `json:"loader,omitempty"` // name of the profile that it is about, "" for all
	Path    string `json:"path,omitempty"`   // "" for the whole target
	Title   string `json:"title,omitempty"`  // of one that was promised
	Say     string `json:"say"`              // what is the matter
	Matters string `json:"matters,omitempty"`
	Remedy  string `json:"remedy,omitempty"` // what to do, in words
	// Fixes do it; empty where only a person can.
	Fixes []fix.Fix `json:"fixes,omitempty"`
}

// A Report is the result of an audit.
type Report struct {
	Loader     string    `json:"loader"` // its name; of several, with "and" between them
	Depth      Depth     `json:"depth"`
	Taken      time.Time `json:"taken"`
	Filesystem string    `json:"filesystem"`
	Label      string    `json:"label,omitempty"` // of the volume
	Capacity   int64     `json:"capacity,omitempty"`
	Free       int64     `json:"free,omitempty"`
	Listed     []Listed  `json:"listed"` // in the order of the loader's list
	Findings   []Finding `json:"findings,omitempty"`
	Unchecked  []string  `json:"unchecked,omitempty"` // what could not be checked here, and why
	Checklist  []string  `json:"checklist,omitempty"`
	Others     []string  `json:"others,omitempty"` // files that no loader knows; they are left alone
	Files      int       `json:"files"`            // all of them
	// Changes are what differs from the check before; nil without one.
	Changes *Change       `json:"since-last,omitempty"`
	Facts   *target.Facts `json:"-"`
}

// Good reports whether the loaders will list and start everything.
func (r *Report) Good() bool {
	return !slices.ContainsFunc(r.Findings, func(f Finding) bool { return f.Grade != Remark })
}

// Starts counts the lines that start.
func (r *Report) Starts() (n int) {
	for i := range r.Listed {
		if r.Listed[i].Starts {
			n++
		}
	}
	return n
}

// BuiltIn counts the lines of what is built into the console.
func (r *Report) BuiltIn() (n int) {
	for i := range r.Listed {
		if r.Listed[i].BuiltIn {
			n++
		}
	}
	return n
}

// Fixes are those of all findings, or of those of one kind.
func (r *Report) Fixes(of ...Kind) (out []fix.Fix) {
	for i := range r.Findings {
		f := &r.Findings[i]
		if len(of) > 0 && !slices.Contains(of, f.Kind) {
			continue
		}
		for _, m := range f.Fixes {
			if !slices.ContainsFunc(out, func(o fix.Fix) bool { return m.Same(&o) }) {
				out = append(out, m)
			}
		}
	}
	return out
}

// sort brings the findings into the order of their weight, and of their kinds within.
func (r *Report) sort() {
	slices.SortStableFunc(r.Findings, func(x, y Finding) int {
		return cmp.Or(
			cmp.Compare(slices.Index(grades, x.Grade), slices.Index(grades, y.Grade)),
			cmp.Compare(slices.IndexFunc(kinds, func(k kindFacts) bool { return k.kind == x.Kind }),
				slices.IndexFunc(kinds, func(k kindFacts) bool { return k.kind == y.Kind })),
			strings.Compare(x.Path, y.Path),
		)
	})
}

// A Change is what differs between two checks of a target.
type Change struct {
	Came  []string  `json:"came,omitempty"` // lines that are new in the list, or start now
	Went  []string  `json:"went,omitempty"` // lines that are gone, or start no longer
	Fixed []Finding `json:"fixed,omitempty"`
	New   []Finding `json:"new,omitempty"`
}

// Since compares a check with an earlier one. What only one of them was deep enough to see is no difference.
func (r *Report) Since(before *Report) *Change {
	c := &Change{}
	lines := func(r *Report) map[string]string {
		out := map[string]string{}
		for _, l := range r.Listed {
			if l.Starts {
				out[l.Loader+"\x00"+l.Path] = l.Name
			}
		}
		return out
	}
	was, is := lines(before), lines(r)
	for _, l := range r.Listed {
		if _, ok := was[l.Loader+"\x00"+l.Path]; l.Starts && !ok {
			c.Came = append(c.Came, l.Name)
		}
	}
	for _, l := range before.Listed {
		if _, ok := is[l.Loader+"\x00"+l.Path]; l.Starts && !ok {
			c.Went = append(c.Went, l.Name)
		}
	}
	same := func(all []Finding, f *Finding) bool {
		return slices.ContainsFunc(all, func(o Finding) bool {
			return o.Kind == f.Kind && o.Path == f.Path && o.Loader == f.Loader && o.Title == f.Title
		})
	}
	least := min(slices.Index(Depths, before.Depth), slices.Index(Depths, r.Depth))
	seen := func(f *Finding) bool { return slices.Index(Depths, factsOf(f.Kind).from) <= least }
	for i := range before.Findings {
		if f := &before.Findings[i]; seen(f) && !same(r.Findings, f) {
			c.Fixed = append(c.Fixed, *f)
		}
	}
	for i := range r.Findings {
		if f := &r.Findings[i]; seen(f) && !same(before.Findings, f) {
			c.New = append(c.New, *f)
		}
	}
	return c
}

// Words sum up what differs.
func (c *Change) Words() string {
	var out []string
	for _, x := range []struct {
		n    int
		word string
	}{{len(c.Fixed), "fixed"}, {len(c.New), "new"}, {len(c.Came), "more listed"}, {len(c.Went), "fewer listed"}} {
		if x.n > 0 {
			out = append(out, fmt.Sprintf("%d %s", x.n, x.word))
		}
	}
	return strings.Join(out, ", ")
}

// Empty reports whether nothing differs.
func (c *Change) Empty() bool { return len(c.Came)+len(c.Went)+len(c.Fixed)+len(c.New) == 0 }
