package check

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/fix"
	"polytome/internal/core/loader"
	"polytome/internal/size"
	"polytome/internal/target"
)

// A Promise is a title that the user wants on the target, and where.
type Promise struct {
	Label string
	Path  string
	Size  int64 // in bytes; negative for a text that may be changed by hand
	Key   string
}

// Options are what an audit needs beside the target and its loaders.
type Options struct {
	Via string
	// Volume is which of the attachment's volumes the target is; "" for none that is known.
	Volume string
	Depth  Depth // "" for the usual one of the connection
	// Promises are what is to be here, by loader; nil for nothing.
	Promises func(of *loader.Profile) []Promise
	// Source finds the title of the user's games of which a file goes to a path, and all of its files; nil where no
	// games are known.
	Source func(of *loader.Profile, path string) (files []Promise, ok bool)
	// Situation is what the bench did here; see [loader.Situations].
	Situation []string
	// Near opens what holds, byte for byte, what a run has just read back at a path of the target, or returns nil: it
	// is looked into instead, unless every byte of the target is to be read. Several goroutines may call it at a time.
	// It may be nil.
	Near func(path string) target.Content
	// Unmade reports whether what is in a file is not known yet: it is not looked into. It may be nil.
	Unmade func(path string) bool
	// Model is which variant of the console it is for; "" for none that matters.
	Model string
	// NoCovers says that none are wanted.
	NoCovers bool
}

// Readable is what an audit needs of a target. One that is a [target.FragmentCounter] or knows its partition table is
// looked at more closely.
type Readable interface {
	Facts(ctx context.Context, listed []target.Entry) (target.Facts, error)
	List(ctx context.Context, problem func(path string, err error)) ([]target.Entry, error)
	Open(ctx context.Context, path string) (target.Content, error)
}

// Audit reads a target as the loaders would. What cannot be read is reported, and the rest goes on.
func Audit(ctx context.Context, p Readable, profiles []*loader.Profile, set *loader.Set, o Options) (*Report,
	error) {
	if o.Depth == "" {
		o.Depth = UsualDepth(o.Via)
	}
	a := &audit{ctx: ctx, target: p, profiles: profiles, set: set, o: o, claimed: map[string]bool{},
		r: Report{Listed: []Listed{}, Depth: o.Depth, Taken: time.Now()}}
	if err := a.list(); err != nil {
		return nil, err
	}
	var names []string
	for _, profile := range profiles {
		names = append(names, profile.Name)
		if err := a.look(profile); err != nil {
			return nil, err
		}
	}
	a.r.Loader = strings.Join(names, " and ")
	a.strays()
	a.space()
	a.guard()
	if a.unlooked > 0 {
		what := "whether %s are complete and start: only names and sizes were checked"
		if o.Depth == Inside {
			what = "whether every byte of %s is readable"
		}
		a.r.Unchecked = append(a.r.Unchecked, fmt.Sprintf(what, size.Count(a.unlooked, "title")))
	}
	a.r.sort()
	for _, c := range a.checklists(profiles) {
		a.r.Checklist = append(a.r.Checklist, c.Say)
	}
	return &a.r, nil
}

// list lists the target, and looks for what interrupted runs have left.
func (a *audit) list() error {
	entries, err := a.target.List(a.ctx, func(path string, err error) {
		a.report(Finding{Kind: Unreadable, Grade: Fault, Path: path, Say: fmt.Sprintf("it cannot be read: %v", err),
			Remedy: "check the drive for errors, or fix the permissions; the rest was checked"})
	})
	if err != nil {
		return err
	}
	if a.facts, err = a.target.Facts(a.ctx, entries); err != nil {
		return err
	}
	a.r.Facts = &a.facts
	a.r.Filesystem, a.r.Label, a.r.Capacity, a.r.Free = a.facts.Filesystem.Shown, a.facts.Label, a.facts.Capacity,
		a.facts.Free
	entries = slices.DeleteFunc(slices.Clone(entries), func(e target.Entry) bool { return target.OfSystem(e.Path) })
	a.known = newLooked()
	a.tree = newTree(a, entries, a.facts.Filesystem.Fold)
	a.leftovers()
	return nil
}

// audit is one look at a target.
type audit struct {
	ctx      context.Context
	target   Readable
	profiles []*loader.Profile // all of the target
	set      *loader.Set
	o        Options
	facts    target.Facts
	tree     *tree
	claimed  map[string]bool // folded paths of files that some loader knows
	looks    []*loaderAudit
	unlooked int // listed titles of which not everything was looked at
	covers   bool
	r        Report

	known *looked // what was found in files, by where they lie
	// imagined is set for a target as it would be: where what is in it lies now, and what would be written into it, by
	// folded paths.
	imagined bool
	lies     map[string]string
	wrote    map[string]string
}

// report takes a finding up.
func (a *audit) report(f Finding) {
	if f.Matters == "" {
		f.Matters = factsOf(f.Kind).matters
	}
	for i := range f.Fixes {
		m := &f.Fixes[i]
		if m.Why == "" {
			m.Why = f.Say
		}
		if e, ok := a.tree.file(m.Path); ok && m.Do != fix.Remove {
			m.Seen = fix.Seen(e.Size, e.Modified)
		}
	}
	a.r.Findings = append(a.r.Findings, f)
}

func (a *audit) claim(path string) { a.claimed[a.tree.fold(path)] = true }

// leftovers describes what interrupted runs have left, or a run that is under way.
func (a *audit) leftovers() {
	for i := range a.tree.entries {
		e := &a.tree.entries[i]
		if e.Folder || !target.IsTemporary(e.Path) {
			continue
		}
		a.claim(e.Path)
		say := "an interrupted run left this half-written file"
		if time.Since(e.Modified).Abs() < justNow {
			say = "a run is writing this file, or was interrupted a moment ago"
		}
		a.report(Finding{Kind: Leftover, Grade: Remark, Path: e.Path, Say: say,
			Remedy: "run again: the next run resumes it or removes it"})
	}
}

// justNow is how old a half-written file is at most that a run may still be writing.
const justNow = time.Minute

// space describes a target on which nothing more fits.
func (a *audit) space() {
	if a.facts.Capacity > 0 && a.facts.Free < a.facts.Cluster {
		a.report(Finding{Kind: Space, Grade: Remark, Say: fmt.Sprintf("the target is full: none of its %s is free",
			size.Format(a.facts.Capacity)), Remedy: "remove a title to leave space for saves and settings"})
	}
}
