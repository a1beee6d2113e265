package survey

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/plan"
	"polytome/internal/core/saves"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// reached are the saves that were there when a target was looked at, found once.
type reached struct {
	once  sync.Once
	all   []Reached
	goes  []plan.Save // what follows titles, and what comes along
	sheet sync.Once   // for goes
}

// A Reached is a save on a target, with whose it is.
type Reached struct {
	saves.Save
	// Titles are those that it belongs to, by their numbers: one, or for a shared one, those that are linked with it,
	// as far as that was read. It has none where the title is not known.
	Titles []int
	State  saves.State
	Kept   int // number of the newest version from there; 0 for none
}

// Saves are what players have reached on the target, as it was looked at.
func (s *Survey) Saves() []Reached {
	s.reached.once.Do(func() {
		found := s.savesIn(s.There)
		owners := map[string]int{}
		for i := range s.Titles {
			if len(found) == 0 {
				break
			}
			for _, p := range append(s.savePaths(i), s.savePathsNow(i)...) {
				if key := s.Facts.Filesystem.Fold(p); p != "" {
					if _, known := owners[key]; !known {
						owners[key] = i
					}
				}
			}
		}
		for _, x := range found {
			r := Reached{Save: x}
			if r.Titles = s.linked[s.Facts.Filesystem.Fold(x.Path)]; x.Shared {
				r.Titles = slices.Clone(r.Titles)
			} else if i, known := owners[s.Facts.Filesystem.Fold(x.Path)]; known {
				r.Titles = []int{i}
			}
			var v *saves.Version
			if r.State, v = saves.Compare(s.versions[x.Key()], s.place().ID, &x); v != nil {
				r.Kept = v.Number
			}
			s.reached.all = append(s.reached.all, r)
		}
	})
	return s.reached.all
}

// Unkept are the saves on the target that are newer than what is kept of them, or not kept at all.
func (s *Survey) Unkept() (out []saves.Save) {
	for _, r := range s.Saves() {
		if r.State != saves.IsKept {
			out = append(out, r.Save)
		}
	}
	return out
}

// place is where the saves of the target are, for the vault.
func (s *Survey) place() saves.Place {
	return saves.Place{Name: s.Config.Name, ID: PlaceID(&s.Config, s.dir)}
}

// PlaceID is what the vault knows a target at an address by: its stick, wherever that is plugged in, or the address.
func PlaceID(c *bench.Target, at string) string {
	if c.Stick != "" {
		return "volume:" + c.Stick
	}
	return absolute(at)
}

// KeepSaves keeps the saves that are on the target now, and returns how many, and how many of them are new or changed.
func (s *Survey) KeepSaves(ctx context.Context, why string) (all, fresh int, err error) {
	to, err := s.Open(ctx)
	if err != nil {
		return 0, 0, err
	}
	defer func() { err = errors.Join(err, to.Close()) }()
	p := s.place()
	p.Target, p.Why = to, why
	return s.keep(ctx, p)
}

// keep keeps what is at a place. What cannot be read there is an error only where saves were seen.
func (s *Survey) keep(ctx context.Context, p saves.Place) (all, fresh int, err error) {
	seen := s.savesIn(s.There)
	var bad error
	entries, err := p.Target.List(ctx, func(path string, err error) {
		for i := range seen { // what cannot be read elsewhere is none of theirs
			if strings.HasPrefix(seen[i].Path+"/", path+"/") {
				bad = fmt.Errorf("%s: %w", path, err)
			}
		}
	})
	if err == nil {
		err = bad
	}
	if err != nil {
		return 0, 0, err
	}
	kept, fresh, err := s.vault.Keep(ctx, p, s.savesIn(entries))
	return len(kept), fresh, err
}

// savesIn finds the saves of all of the target's loaders in a listing.
func (s *Survey) savesIn(entries []target.Entry) []saves.Save {
	return saves.FindAll(s.Profiles, func(p *loader.Profile) string {
		if a := s.attachment(p); a != nil {
			return a.Name
		}
		return ""
	}, entries)
}

func (s *Survey) attachment(p *loader.Profile) *loader.Attachment {
	return p.Attachment(s.Config.Via, s.Facts.Filesystem.Name)
}

// savePaths are where the loader looks for the saves of title i, where it is to be.
func (s *Survey) savePaths(i int) []string {
	l := s.Sheet.Loader(i)
	if len(l.Profile.Saves) == 0 {
		return nil
	}
	return saves.Paths(l.Profile, s.attachment(l.Profile), s.Titles[i].Platform, l.Tree.Values(i))
}

// savePathsNow are where the saves of title i lie while it has another name on the target, in the order of
// [Survey.savePaths]; "" for one that does not follow the title's name. It is nil for a title that has its name.
func (s *Survey) savePathsNow(i int) (out []string) {
	found := s.Sheet.Found(i)
	if len(found) == 0 {
		return nil
	}
	pl := s.Sheet.Placement(i)
	for _, wanted := range s.savePaths(i) {
		now := ""
		for k, was := range found {
			if was == "" {
				continue
			}
			is := pl.Items[k].Path
			stem := strings.TrimSuffix(is, path.Ext(is))
			if wanted == stem+path.Ext(wanted) { // beside it
				now = strings.TrimSuffix(was, path.Ext(was)) + path.Ext(wanted)
			} else if own := path.Dir(is); own != "." && strings.HasPrefix(wanted, own+"/") { // in its folder
				now = path.Dir(was) + strings.TrimPrefix(wanted, own)
			}
			if now != "" {
				break
			}
		}
		out = append(out, now)
	}
	return out
}

// following are the saves that follow titles to their new names, and those that titles bring along from the vault.
func (s *Survey) following() []plan.Save {
	if s.carries != nil || s.Stays() {
		return nil
	}
	s.reached.sheet.Do(func() { s.reached.goes = s.follow() })
	if s.Config.NoSaves {
		return slices.DeleteFunc(slices.Clone(s.reached.goes), func(x plan.Save) bool { return x.From == "" })
	}
	return s.reached.goes
}

func (s *Survey) follow() (out []plan.Save) {
	for i := range s.Titles {
		if len(s.versions) == 0 && s.Sheet.Found(i) == nil {
			continue
		}
		wanted := s.savePaths(i)
		for k, now := range s.savePathsNow(i) {
			if e, there := s.Sheet.At(now); there && e.Path != wanted[k] {
				out = append(out, plan.Save{Title: i, From: e.Path, To: wanted[k]})
			}
		}
		out = append(out, s.along(i, wanted)...)
	}
	return out
}

// along are the saves of title i that are in the vault and not on the target. One that was here once is brought only
// with the title: what a player deleted at the console stays deleted.
func (s *Survey) along(i int, wanted []string) (out []plan.Save) {
	p := s.Sheet.Loader(i).Profile
	for _, to := range wanted {
		for _, folder := range []bool{false, true} {
			of := s.versions[saves.KeyAt(p, to, folder)]
			if len(of) == 0 || of[0].Folder != folder {
				continue
			}
			if _, there := s.Sheet.At(to); there {
				continue
			}
			x := plan.Save{Title: i, To: to}
			here := func(v saves.Version) bool { return v.ID == s.place().ID }
			if slices.ContainsFunc(of, here) {
				x.WithTitle = true
			}
			tips := saves.Tips(of)
			if len(tips) > 1 {
				x.Note = fmt.Sprintf("%s has %s that somebody played on in: choose one under Saves",
					s.Titles[i].Label(), size.Count(len(tips), "save"))
				out = append(out, x)
				continue
			}
			x.Version = tips[0]
			for _, f := range tips[0].Files {
				from := title.File{Path: s.vault.File(f), Size: f.Size}
				if info, err := os.Stat(from.Path); err == nil { // else the run says what is wrong with it
					from.Modified = info.ModTime()
				}
				x.Files = append(x.Files, from)
			}
			x.Why = fmt.Sprintf("the save from %s, number %d of those that are kept", tips[0].Target, tips[0].Number)
			out = append(out, x)
		}
	}
	return out
}

// disturbs reports whether a plan removes, replaces or renames something that is there: what belongs to the player is
// kept before.
func disturbs(p *plan.Plan) bool {
	if p.Loses() > 0 {
		return true
	}
	for i := range p.Steps {
		if p.Steps[i].Kind == plan.Move {
			return true
		}
	}
	return false
}

// saveNotes say what a plan does for the sake of saves.
func (s *Survey) saveNotes(p *plan.Plan) (out []string) {
	if n := len(s.savesIn(s.There)); n > 0 && disturbs(p) {
		out = append(out, fmt.Sprintf("%s on it %s kept first, in %s", size.Count(n, "save"),
			map[bool]string{true: "is", false: "are"}[n == 1], s.vault.Dir))
	}
	if n := len(p.Saves); n > 0 {
		out = append(out, fmt.Sprintf("%s %s along with the titles, from what is kept", size.Count(n, "save"),
			map[bool]string{true: "comes", false: "come"}[n == 1]))
	}
	return out
}

// savesFirst keeps the saves that are on the target before a plan is carried out that disturbs it; nil for a plan that
// does not.
func (s *Survey) savesFirst(p *plan.Plan) func(ctx context.Context, to target.Target) error {
	if !disturbs(p) || len(s.savesIn(s.There)) == 0 {
		return nil
	}
	place := s.place()
	place.Why = "before a run removed, replaced or renamed something"
	return func(ctx context.Context, to target.Target) error {
		place.Target = to
		if _, _, err := s.keep(ctx, place); err != nil {
			return fmt.Errorf("the saves on it cannot be kept: %w", err)
		}
		return nil
	}
}

// savesLast notes which saves came along, when they are there; nil for a plan with none.
func (s *Survey) savesLast(p *plan.Plan) func(ctx context.Context, done func(step int) bool) error {
	if len(p.Saves) == 0 {
		return nil
	}
	place, vault := s.place(), s.vault
	return func(ctx context.Context, done func(step int) bool) error {
		there := map[string]bool{}
		for i := range p.Steps {
			there[p.Steps[i].Path] = p.Steps[i].Writes() && done(i)
		}
		came := slices.DeleteFunc(slices.Clone(p.Saves), func(v saves.Version) bool {
			return slices.ContainsFunc(v.Files, func(f saves.File) bool { return !there[path.Join(v.Path, f.Path)] })
		})
		if err := vault.Put(ctx, place, came); err != nil {
			return fmt.Errorf("it cannot be noted which saves came along: %w", err)
		}
		return nil
	}
}

// kept reads what the vault has.
func (l *Look) kept(v saves.Vault) {
	if v.Dir == "" {
		v = saves.Usual()
	}
	l.vault = v
	if abs, err := filepath.Abs(v.Dir); err == nil {
		l.vault.Dir = abs
	}
	if !slices.ContainsFunc(l.Profiles, func(p *loader.Profile) bool { return len(p.Saves) > 0 }) {
		return
	}
	all, err := l.vault.Versions()
	if err != nil {
		l.Notes = append(l.Notes, fmt.Sprintf("What is kept of saves cannot be read: %v.", err))
	}
	l.versions = saves.ByKey(all)
}

// PutBack puts a version on the target, to a path there ("" for its own). What is there is kept first.
func (s *Survey) PutBack(ctx context.Context, v *saves.Version, to string) (r saves.Restored, err error) {
	t, err := s.Open(ctx)
	if err != nil {
		return r, err
	}
	defer func() { err = errors.Join(err, t.Close()) }()
	p := s.place()
	p.Target, p.Why = t, "before another version was put back"
	return s.vault.Restore(ctx, p, v, to)
}

// KeepSave keeps the save at a path of the target, and returns the version.
func (s *Survey) KeepSave(ctx context.Context, file, why string) (v *saves.Version, err error) {
	t, err := s.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, t.Close()) }()
	entries, err := t.List(ctx, func(string, error) {})
	if err != nil {
		return nil, err
	}
	for _, x := range s.savesIn(entries) {
		if x.Path == file {
			p := s.place()
			p.Target, p.Why = t, why
			kept, _, err := s.vault.Keep(ctx, p, []saves.Save{x})
			if err != nil {
				return nil, err
			}
			return &kept[0], nil
		}
	}
	return nil, fmt.Errorf("%s is no longer on %s", file, s.Config.Name)
}

// ReadsSaves reports whether one of the target's loaders is of a name, and keeps saves.
func (s *Survey) ReadsSaves(name string) bool {
	return slices.ContainsFunc(s.Profiles, func(p *loader.Profile) bool { return p.Name == name && len(p.Saves) > 0 })
}
