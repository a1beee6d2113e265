// Package survey brings together what the places of a bench would make of its titles: their facts,
// what is on them, the trees, the verdicts and the plans. Screens and commands both work on it.
package survey

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
	"polytome/internal/core/loader"
	"polytome/internal/core/mend"
	"polytome/internal/core/plan"
	"polytome/internal/core/seen"
	"polytome/internal/core/title"
	"polytome/internal/place"
	"polytome/internal/place/remote"
)

// A Survey is one place seen with the titles in mind, at one moment.
type Survey struct {
	Config   bench.Place
	Profile  *loader.Profile   // the place's first loader
	Profiles []*loader.Profile // all of them
	Titles   []title.Title
	Listing
	Sheet *fit.Sheet
	// Problems are entries of the place that could not be read.
	Problems []string
	// Away is why the place cannot be looked at; what is shown is what was on it at Taken. nil for
	// one that is there.
	Away error
	// Notes are what else is to be known, in sentences.
	Notes []string
	// Conflicts are texts on the place that a person and a rule have changed to different things, by path, with
	// what to do about it.
	Conflicts map[string]string

	carries *carried // the place whose covers alone are put here, nil for none

	set    *loader.Set
	dir    string
	keepIn string
	trees  map[string]*fit.Loader // by profile, road and filesystem: what was laid already
	found  map[int][]string
	// changed are files on the place that only look like a title's.
	changed map[string]bool
	strange map[string]bool // packed images on the place that are of something else
	texts   map[string]string
	last    map[string]string // texts as they were last written, by path
	updates []plan.Update
	plan    *plan.Plan // for the present choices; nil until asked for
}

// A Listing is what a place can hold and what lies on it, as it was at one time.
type Listing struct {
	Facts place.Facts
	There []place.Entry
	Taken time.Time
	Took  time.Duration // that opening and listing it whole took
	Fresh bool          // it was listed, or found unchanged, just now
}

// Options are what a look at a place needs beside the bench.
type Options struct {
	Set   *loader.Set
	Cache *seen.Store // nil remembers nothing
}

// Take looks at place number n of a bench, and judges the titles for it. A place that is away is
// judged by what was on it last, where that is remembered, and [Survey.Away] says so.
func Take(ctx context.Context, b *bench.Bench, n int, titles []title.Title, o Options) (*Survey, error) {
	s := &Survey{Config: b.Places[n], Titles: titles, set: o.Set, dir: b.Resolve(b.Places[n].At), trees: map[string]*fit.Loader{}, strange: map[string]bool{}}
	if err := s.profiles(b); err != nil {
		return nil, err
	}
	if err := s.list(ctx, o.Cache); err != nil {
		return nil, err
	}
	s.keepUnder(b)
	s.remembered(o.Cache)
	s.judge(ctx, b, n)
	return s, nil
}

// profiles finds the loaders of the place.
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
			return fmt.Errorf("the place %s: %w", s.Config.Name, err)
		}
		if len(s.Profiles) == 0 && len(s.Config.Rules) > 0 {
			if p, err = p.With(s.Config.Rules); err == nil {
				err = s.set.Check(p)
			}
			if err != nil {
				return fmt.Errorf("the place %s: %w", s.Config.Name, err)
			}
		}
		s.Profiles = append(s.Profiles, p)
	}
	s.Profile = s.Profiles[0]
	switch {
	case s.Config.Road != "":
	case s.carries != nil:
		s.Config.Road = "usb"
	default:
		s.Config.Road = RoadTo(s.dir, s.Profile)
	}
	return nil
}

// RoadTo is the road to an address: the one that it names itself, where the loader takes it, or the loader's usual one.
func RoadTo(at string, p *loader.Profile) string {
	if a, ok, _ := remote.Parse(at, remote.FTP, remote.FTPS, remote.SMB); ok {
		road := map[string]string{remote.FTPS: remote.FTP}[a.Scheme]
		if road == "" {
			road = a.Scheme
		}
		if slices.ContainsFunc(p.Attachments, func(x loader.Attachment) bool { return x.Road == road }) {
			return road
		}
	}
	return p.UsualRoad()
}

// keepUnder decides where what goes is copied to: a folder of its own for each look at the place.
func (s *Survey) keepUnder(b *bench.Bench) {
	s.keepIn = ""
	if s.Config.KeepIn != "" {
		name := strings.Map(func(r rune) rune {
			if strings.ContainsRune(`/\:*?"<>|`, r) || r < ' ' {
				return '-'
			}
			return r
		}, s.Config.Name)
		s.keepIn = filepath.Join(b.Resolve(s.Config.KeepIn), name, s.Taken.Format("2006-01-02 150405"))
	}
}

// judge finds what is there under other names, lays the trees and gives the verdicts.
func (s *Survey) judge(ctx context.Context, b *bench.Bench, n int) {
	s.Notes = nil
	if s.Facts.Unclean && s.Away == nil {
		s.Notes = append(s.Notes, s.Config.Name+" was not let go of in order: a run was killed, or it was pulled. Check it (polytome drives check), as files may be damaged.")
	}
	if say := s.shared(b); say != "" {
		s.Notes = append(s.Notes, say)
	}
	c := s.kase(b)
	for i := range c.Loaders {
		c.Loaders[i] = *s.lay(ctx, s.Profiles[i])
	}
	c.Leaving = s.settled(b, n, c.Loaders)
	c.Ranks = b.Ranks(s.Titles)
	s.Sheet = fit.Judge(c)
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
	} else {
		s.Notes = append(s.Notes, fmt.Sprintf("%s is away (%v). What is shown was on it at %s.", s.Config.Name, s.Away, s.Taken.Local().Format("2006-01-02 15:04")))
	}
	s.Choose(b, n)
}

// withDamaged are the files that only look like a title's: those that were found so, and those that the user wants to be put again.
func (s *Survey) withDamaged() map[string]bool {
	out := s.changed
	for i := range s.Config.Mends {
		m := &s.Config.Mends[i]
		k := slices.IndexFunc(s.There, func(e place.Entry) bool { return m.Do == mend.Put && e.Path == m.Path })
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

// kase is what the verdicts depend on, but for the trees.
func (s *Survey) kase(b *bench.Bench) fit.Case {
	c := fit.Case{
		Carried: s.carries != nil,
		Titles:  s.Titles, Loaders: make([]fit.Loader, len(s.Profiles)), Road: s.Config.Road, Facts: s.Facts, There: s.There,
		Replace: s.Config.Replace, Exactly: s.Config.Exactly, Covers: !s.Config.NoCovers, Reserve: int64(s.Config.Reserve),
	}
	if most, ok := s.Config.CoversMost.Bytes(s.Facts.Capacity); ok {
		c.CoversMost = &most
	}
	return c
}

// settled are the marks of what leaves, without those on files of titles that are wanted: these stay,
// and a note says so.
func (s *Survey) settled(b *bench.Bench, n int, loaders []fit.Loader) []string {
	if len(s.Config.Leaving) == 0 {
		return nil
	}
	fold := s.Facts.Filesystem.Fold
	marks := map[string]bool{}
	for _, m := range s.Config.Leaving {
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
					s.Notes = append(s.Notes, fmt.Sprintf("%s is marked to leave %s, and belongs to %s, which is wanted there: it stays.", item.Path, s.Config.Name, s.Titles[i].Label()))
				}
			}
		}
	}
	var out []string
	for _, m := range s.Config.Leaving {
		if marks[fold(m)] {
			out = append(out, m)
		}
	}
	return out
}

// Choose takes over the choices of a bench.
func (s *Survey) Choose(b *bench.Bench, n int) {
	road := s.Config.Road
	s.configure(b, n, road)
	s.Sheet.Choose(b.Wanted(n, s.Titles))
}

// configure takes over how the place is set up, without what does not change the listing.
func (s *Survey) configure(b *bench.Bench, n int, road string) {
	loaders := s.Config
	s.Config, s.plan = b.Places[n], nil
	if s.Config.Road == "" {
		s.Config.Road = road
	}
	if s.carries != nil {
		s.Config.Loader, s.Config.Also, s.Config.Rules = loaders.Loader, loaders.Also, loaders.Rules
	}
}

// Rejudge judges the titles anew after the place was set up otherwise: what may be written over, and what leaves. The listing stays.
func (s *Survey) Rejudge(ctx context.Context, b *bench.Bench, n int) error {
	s.Config = b.Places[n]
	if err := s.profiles(b); err != nil {
		return err
	}
	s.judge(ctx, b, n)
	return nil
}

// Put takes over the choice of one title.
func (s *Survey) Put(b *bench.Bench, n, title int) {
	road := s.Config.Road
	s.configure(b, n, road)
	s.Sheet.Put(title, b.Wants(n, s.Titles[title].Key))
}

// Shown names the loaders of the place.
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
	s.Sheet.Choose(func(i int) bool { return keep[i] && wants(i) })
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
	p := plan.Make(sheet, plan.Options{Texts: s.texts, Last: s.last, KeepIn: s.keepIn, Updates: s.updates, Mends: s.Config.Mends, Processors: runtime.GOMAXPROCS(0)})
	p.Notes = append(p.Notes, s.Notes...)
	for _, path := range slices.Sorted(maps.Keys(s.Conflicts)) {
		p.Notes = append(p.Notes, path+": "+s.Conflicts[path]+".")
	}
	return p
}
