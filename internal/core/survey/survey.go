// Package survey brings together what the targets of a bench would make of its titles: their facts,
// what is on them, the trees, the verdicts and the plans. Screens and commands both work on it.
package survey

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"polytome/internal/core/arrange"
	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
	"polytome/internal/core/fix"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/plan"
	"polytome/internal/core/saves"
	"polytome/internal/core/scancache"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/drive"
	"polytome/internal/target/protocols"
	"polytome/internal/target/served"
)

// A Survey is one target seen with the titles in mind: a look at it, and what of the titles is chosen for it. The look
// may be shared; the choices have one owner, who may change them.
type Survey struct {
	*Look
	Config bench.Target // how the target is set up, with the connection and the loaders that follow from it
	Sheet  *fit.Sheet   // the verdicts, and the choices

	plan *plan.Plan // for the present choices; nil until asked for
	// takes reports whether the target whose lists are carried takes a title; nil where none are.
	takes func(i int) bool
}

// A Look is what was found on a target, at one moment, and what follows from that and from how it is set up, whatever
// is chosen. It does not change once it is handed out: where the target is set up otherwise, there is another one.
type Look struct {
	Profile  *loader.Profile   // the target's first loader
	Profiles []*loader.Profile // all of them
	Titles   []title.Title
	Listing
	// Problems are entries of the target that could not be read.
	Problems []string
	// Away is why the target cannot be looked at; what is shown is what was on it at Taken. nil for
	// one that is there.
	Away error
	// Notes are what else is to be known, in sentences.
	Notes []string
	// Conflicts are texts on the target that a person and a rule have changed to different things, by path, with
	// what to do about it.
	Conflicts map[string]string

	carries *carried // the target whose covers alone are put here, nil for none

	set      *loader.Set
	dir      string
	backupTo string
	trees    map[string]*fit.Loader     // by profile, connection and filesystem: what was laid already
	shelf    *layout.Shelf              // what was laid for other targets; it may be nil
	reached  *reached                   // what players have
	vault    saves.Vault                // where it is kept
	linked   map[string][]int           // titles by the folded paths of the cards that they share
	versions map[string][]saves.Version // that are kept, by what they are of
	found    map[int][]string
	// had are titles that were there before, by their keys, with a path of each, and hadStored what is remembered of
	// that; deleted are those that are gone.
	had, hadStored map[string]string
	deleted        map[int]bool
	copyDeleted    bool             // they are copied again
	builtIn        []loader.BuiltIn // titles that are in the console itself
	sameID         map[string][]int // titles by the IDs, in capital letters, of those
	// changed are files on the target that only look like a title's.
	changed map[string]bool
	strange map[string]bool // packed images on the target that are of something else
	texts   map[string]string
	last    map[string]string // texts as they were last written, by path
	updates []plan.Update
	// passwords are tried on archives that are read.
	passwords []string
	// favourites are titles that are marked as such where a list can have it; wanted are those that its sections are
	// of.
	favourites bench.Keys
	wanted     bench.Target
	going      *fit.Sheet // while trees are laid: what goes at all, nil while that is not known
	small      *sync.Map  // small files of the target that were read for plans: path -> bytes
}

// again begins another look from what this one has found.
func (l *Look) again() *Look {
	c := *l
	c.Notes, c.trees, c.strange, c.reached = nil, maps.Clone(l.trees), maps.Clone(l.strange), &reached{}
	return &c
}

// A Listing is what a target can hold and what is on it, as it was at one time.
type Listing struct {
	Facts target.Facts
	There []target.Entry
	Taken time.Time
	Took  time.Duration // that opening and listing it whole took
	Fresh bool          // it was listed, or found unchanged, just now
}

// Options are what a look at a target needs beside the bench.
type Options struct {
	Set   *loader.Set
	Cache *scancache.Store // nil remembers nothing
	Vault saves.Vault      // where saves are kept; the usual one where it has no folder
	// Trees are in use for other targets with the same titles, and shared with those that are alike; nil shares none.
	Trees *layout.Shelf
	// CopyDeleted has titles that were deleted on the target copied again.
	CopyDeleted bool
}

// Take looks at target number n of a bench, and judges the titles for it. A target that is away is
// judged by what was on it last, where that is remembered, and [Survey.Away] says so.
func Take(ctx context.Context, b *bench.Bench, n int, titles []title.Title, o Options) (*Survey, error) {
	s := &Survey{Config: b.Targets[n], Look: &Look{Titles: titles, set: o.Set, reached: &reached{}, shelf: o.Trees,
		dir:   b.Address(n),
		trees: map[string]*fit.Loader{}, strange: map[string]bool{}, small: &sync.Map{},
		passwords: slices.Clone(b.Passwords)}}
	if err := s.profiles(b); err != nil {
		return nil, err
	}
	if err := s.list(ctx, o.Cache); err != nil {
		return nil, err
	}
	if s.carries == nil && b.Targets[n].Via == "" { // what is there is known by now
		s.Config.Via = WayTo(s.dir, s.Profile, s.Facts.Filesystem.Name)
	}
	s.keepUnder(b)
	s.kept(o.Vault)
	s.remembered(o.Cache)
	s.copyDeleted = o.CopyDeleted
	s.recallHad(o.Cache)
	s.judge(ctx, b, n)
	s.rememberHad(o.Cache, b, n)
	s.Saves() // while nobody waits for a frame
	return s, nil
}

// profiles finds the loaders of the target.
func (s *Survey) profiles(b *bench.Bench) error {
	s.Profiles = nil
	if err := s.carry(b); err != nil {
		return err
	}
	for _, name := range s.Config.Loaders() {
		if loader.IsFile(name) { // the file of a profile is relative to the bench
			name = b.Resolve(name)
		}
		p, err := s.set.Profile(name)
		if err != nil {
			return fmt.Errorf("the target %s: %w", s.Config.Name, err)
		}
		if len(s.Profiles) == 0 && len(s.Config.Rules) > 0 {
			if p, err = p.With(s.Config.Rules); err == nil {
				err = s.set.Check(p)
			}
			if err != nil {
				return fmt.Errorf("the target %s: %w", s.Config.Name, err)
			}
		}
		s.Profiles = append(s.Profiles, p)
	}
	s.Profile = s.Profiles[0]
	if err := knownModel(s.Profiles, s.Config.Model); err != nil {
		return fmt.Errorf("the target %s: %w", s.Config.Name, err)
	}
	switch {
	case s.Config.Via != "":
	case s.carries != nil:
		s.Config.Via = "usb"
	default:
		s.Config.Via = WayTo(s.dir, s.Profile, s.Facts.Filesystem.Name)
	}
	return nil
}

// knownModel is an error where none of the loaders knows the model of a console.
func knownModel(all []*loader.Profile, name string) (err error) {
	for _, p := range all {
		if _, err = p.Model(name); err == nil {
			return nil
		}
	}
	return err
}

// Model is the model of the console that the target is for; nil for none that matters.
func (s *Survey) Model() *loader.Model {
	for _, p := range s.Profiles {
		if m, err := p.Model(s.Config.Model); err == nil && m != nil {
			return m
		}
	}
	return nil
}

// WayTo is the connection to an address: the one that it names itself, where the loader has rules for it, on a drive
// the one by which the loader reads the filesystem that is there, or else the loader's usual one. "" is for a
// filesystem that is not known.
func WayTo(at string, p *loader.Profile, filesystem string) string {
	if a, ok := drive.ParseAddress(at); ok {
		if on := cmp.Or(p.OnDrive(filesystem, a.Network()), p.OnDrive("", a.Network())); on != nil {
			return on.Via
		}
	}
	if served.Is(at) {
		if on := cmp.Or(p.NetworkDisk(filesystem), p.NetworkDisk("")); on != nil {
			return on.Via
		}
	}
	if protocol, _, _ := protocols.Parse(at); protocol != nil && p.Attachment(protocol.Name, "") != nil {
		return protocol.Name
	}
	return p.UsualVia()
}

// keepUnder decides where what goes is copied to: a folder of its own for each look at the target.
func (s *Survey) keepUnder(b *bench.Bench) {
	s.backupTo = ""
	if s.Config.BackupTo != "" {
		name := strings.Map(func(r rune) rune {
			if strings.ContainsRune(`/\:*?"<>|`, r) || r < ' ' {
				return '-'
			}
			return r
		}, s.Config.Name)
		s.backupTo = filepath.Join(b.Resolve(s.Config.BackupTo), name, s.Taken.Format("2006-01-02 150405"))
	}
}

// judge finds what is there under other names, lays the trees and gives the verdicts.
func (s *Survey) judge(ctx context.Context, b *bench.Bench, n int) {
	s.Config.Speed = b.Learnt(n, s.Facts.Adapter)
	if s.Facts.Unclean && s.Away == nil {
		s.Notes = append(s.Notes, s.Config.Name+" was not ejected cleanly: a run was killed or it was pulled out. "+
			"Check it (polytome drives check): files may be damaged.")
	}
	if !s.Config.List.Empty() && s.carries == nil && s.Arranges().None() {
		s.Notes = append(s.Notes, fmt.Sprintf("%s sorts its list itself: how the list of %s is wished has no effect.",
			s.Shown(), s.Config.Name))
	}
	if say := s.shared(b); say != "" {
		s.Notes = append(s.Notes, say)
	}
	c := s.input(b)
	s.favourites, s.wanted = b.Favourites, b.Targets[n]
	for i := range c.Loaders {
		c.Loaders[i] = *s.lay(ctx, s.Profiles[i])
	}
	c.Removing = s.settled(b, n, c.Loaders)
	c.Ranks = b.Ranks(s.Titles)
	s.Sheet = fit.Judge(c)
	if s.Config.List.Sections == arrange.Parts { // of those that go, which is known now
		s.going = s.Sheet
		for i := range c.Loaders {
			c.Loaders[i] = *s.lay(ctx, s.Profiles[i])
		}
		s.Sheet, s.going = fit.Judge(c), nil
	}
	if s.Away == nil {
		if s.carries != nil { // covers are looked up by their names only
			s.found, s.changed = map[int][]string{}, map[string]bool{}
		}
		if s.found == nil {
			s.found = s.findMoved(ctx)
		}
		if s.changed == nil {
			s.changed = s.findChanged(ctx)
			maps.Copy(s.changed, s.strange)
		}
		if changed := s.withDamaged(); len(s.found)+len(changed) > 0 {
			c.Found, c.Changed = s.found, changed
			s.Sheet = fit.Judge(c)
		}
		if s.texts == nil {
			s.readTexts(ctx)
		}
		if s.linked == nil {
			s.readLinks(ctx)
		}
	} else {
		s.Notes = append(s.Notes, fmt.Sprintf("%s is not connected (%v). It is shown as it was at %s.", s.Config.Name,
			s.Away, s.Taken.Local().Format("2006-01-02 15:04")))
	}
	s.readBuiltIn(ctx)
	s.findDeleted(b, n)
	s.Choose(b, n)
}

// withDamaged are the files that only look like a title's: those that were found so, and those that the user wants to
// be put again.
func (s *Survey) withDamaged() map[string]bool {
	out := s.changed
	for i := range s.Config.Fixes {
		m := &s.Config.Fixes[i]
		k := slices.IndexFunc(s.There, func(e target.Entry) bool { return m.Do == fix.Copy && e.Path == m.Path })
		if k < 0 || m.Changed(s.There[k].Size, s.There[k].Modified) {
			continue
		}
		if len(out) == len(s.changed) {
			if out = maps.Clone(s.changed); out == nil {
				out = map[string]bool{}
			}
		}
		out[m.Path] = true
	}
	return out
}

// input is what the verdicts depend on, but for the trees.
func (s *Survey) input(b *bench.Bench) fit.Case {
	c := fit.Case{
		Carried: s.carries != nil,
		Titles:  s.Titles, Loaders: make([]fit.Loader, len(s.Profiles)), Via: s.Config.Via, Facts: s.Facts,
		There:   s.There,
		Replace: s.Config.Replace, DeleteOthers: s.Config.DeleteOthers, Covers: !s.Config.NoCovers,
		Reserve: s.reserve(),
	}
	if most, ok := s.Config.CoversMost.Bytes(s.Facts.Capacity); ok {
		c.CoversMost = &most
	}
	return c
}

// settled are the marks of what leaves, without those on files of titles that are wanted: these stay,
// and a note says so.
func (s *Survey) settled(b *bench.Bench, n int, loaders []fit.Loader) []string {
	if len(s.Config.Removing) == 0 {
		return nil
	}
	fold := s.Facts.Filesystem.Fold
	marks := map[string]bool{}
	for _, m := range s.Config.Removing {
		marks[fold(m)] = true
	}
	for i := range s.Titles {
		if !b.Wants(n, s.Titles[i].Key) {
			continue
		}
		for k := range loaders {
			items := loaders[k].Tree.Placements[i].Items
			for _, item := range items {
				if marks[fold(item.Path)] {
					delete(marks, fold(item.Path))
					s.Notes = append(s.Notes, fmt.Sprintf(
						"%s is marked to be removed from %s, but belongs to %s, which is selected there: it stays.",
						item.Path, s.Config.Name, s.Titles[i].Label()))
				}
			}
		}
	}
	var out []string
	for _, m := range s.Config.Removing {
		if marks[fold(m)] {
			out = append(out, m)
		}
	}
	return out
}

// Choose takes over the choices of a bench.
func (s *Survey) Choose(b *bench.Bench, n int) {
	via := s.Config.Via
	s.configure(b, n, via)
	s.choose(b.Wanted(n, s.Titles))
}

// configure takes over how the target is set up, without what does not change the listing.
func (s *Survey) configure(b *bench.Bench, n int, via string) {
	loaders := s.Config
	s.Config, s.plan = b.Targets[n], nil
	if s.Config.Via == "" {
		s.Config.Via = via
	}
	if s.carries != nil {
		s.Config.Loader, s.Config.Also, s.Config.Rules = loaders.Loader, loaders.Also, loaders.Rules
	}
}

// Rejudge judges the titles again after the target was set up otherwise: what may be written over, and what leaves. The
// listing stays.
func (s *Survey) Rejudge(ctx context.Context, b *bench.Bench, n int) error {
	c := Survey{Look: s.again(), Config: b.Targets[n]}
	if err := c.profiles(b); err != nil {
		return err
	}
	c.judge(ctx, b, n)
	*s = c
	return nil
}

// Put takes over the choice of one title.
func (s *Survey) Put(b *bench.Bench, n, title int) {
	via := s.Config.Via
	s.configure(b, n, via)
	if s.Sheet.Loader(title).Tree.Numbered() {
		s.choose(b.Wanted(n, s.Titles))
		return
	}
	s.Sheet.SetGone(s.Gone)
	s.Sheet.Put(title, b.Wants(n, s.Titles[title].Key) && !s.Gone(title) && (s.takes == nil || s.takes(title)))
}

// Shown names the loaders of the target.
func (s *Survey) Shown() string {
	var all []string
	for _, p := range s.Profiles {
		all = append(all, p.Shown)
	}
	return strings.Join(all, " and ")
}

// Narrow leaves only those of the wanted titles chosen that are to be kept, by index.
func (s *Survey) Narrow(b *bench.Bench, n int, keep []bool) {
	wants := b.Wanted(n, s.Titles)
	s.plan = nil
	s.choose(func(i int) bool { return keep[i] && wants(i) })
}

// Plan is the steps for the present choices. It is made once for them, and must
// not be changed.
func (s *Survey) Plan() *plan.Plan {
	if s.plan == nil {
		s.plan = s.MakePlan(s.Sheet)
	}
	return s.plan
}

// Planned is the plan for the present choices if it was made already, else nil.
func (s *Survey) Planned() *plan.Plan { return s.plan }

// SetPlan takes over a plan that was made with a clone of the present sheet.
func (s *Survey) SetPlan(p *plan.Plan) { s.plan = p }

// MakePlan plans for a sheet of the survey, which may be a clone that another goroutine works on.
func (s *Survey) MakePlan(sheet *fit.Sheet) *plan.Plan {
	p := plan.Make(sheet, plan.Options{Texts: s.texts, Last: s.last, BackupTo: s.backupTo, Updates: s.updates,
		Fixes: s.Config.Fixes, Saves: s.following(), Processors: runtime.GOMAXPROCS(0)})
	p.Refers = s.Stays()
	p.Notes = append(p.Notes, s.Notes...)
	p.Notes = append(p.Notes, s.saveNotes(p)...)
	if say := s.DeletedNote(); say != "" {
		p.Notes = append(p.Notes, say)
	}
	if n := renumbering(sheet); n > 0 {
		p.Notes = append(p.Notes, fmt.Sprintf(
			"%s another number and %s renamed: the numbers follow the order of the list.",
			size.Count(n, "title")+map[bool]string{true: " gets", false: " get"}[n == 1],
			map[bool]string{true: "is", false: "are"}[n == 1]))
	}
	for _, path := range slices.Sorted(maps.Keys(s.Conflicts)) {
		p.Notes = append(p.Notes, path+": "+s.Conflicts[path]+".")
	}
	return p
}
