package prepare

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/kit"
	"polytome/internal/core/loader"
)

// kit finds the loader's own files in the folder where the user has them.
func (p *Plan) kit(r Request) error {
	if r.Profile == nil || len(r.Profile.Kit.Files) == 0 {
		if r.Kit != "" {
			return errors.New("there is no loader for the kit")
		}
		return nil
	}
	k := &r.Profile.Kit
	if len(k.On) > 0 && !slices.Contains(k.On, p.at.Name) {
		if r.Kit != "" {
			return fmt.Errorf("%s does not lie on such a drive: leave the kit out", k.Shown)
		}
		return nil
	}
	names, of := k.Axes()
	for _, chosen := range r.Editions {
		if !slices.ContainsFunc(k.Editions, func(e loader.Edition) bool { return e.Name == chosen }) {
			return fmt.Errorf("%s has no edition %q; there are: %s", k.Shown, chosen, k.EditionWords())
		}
	}
	for _, axis := range names {
		n := 0
		for _, e := range of[axis] {
			if slices.Contains(r.Editions, e.Name) {
				n++
			}
		}
		if n != 1 && r.Kit != "" {
			return fmt.Errorf("%s comes in editions; choose one%s: %s", k.Shown,
				map[bool]string{true: " of each kind"}[len(names) > 1], k.EditionWords())
		}
	}
	if r.Kit == "" {
		p.Notes = append(p.Notes, fmt.Sprintf(
			"No kit was given (%s): copy it to the drive before the loader can start.", k.Shown))
		return nil
	}
	search := kit.Search{Profile: r.Profile, Here: p.here(r.Profile), Editions: r.Editions}
	found, err := search.Find(r.Kit)
	if err != nil {
		return err
	}
	p.Notes = append(p.Notes, found.Notes...)
	for _, f := range found.Lacks {
		if !p.sets(f.To) {
			p.Notes = append(p.Notes, fmt.Sprintf("%s lacks %s (%s): %s.", r.Kit, f.To, f.Why,
				"copy it to the drive before the loader can start"))
		}
	}
	for _, f := range found.Files {
		p.Kit = append(p.Kit, File{f.From.Called(), f.To, f.From.Size, f.From})
		p.Notes = append(p.Notes, fmt.Sprintf("%s comes from %s.", f.To, f.From.Called()))
	}
	return p.ownSettings(r.Kit)
}

// sets reports whether the loader has settings in a file of its own.
func (p *Plan) sets(file string) bool {
	return slices.ContainsFunc(p.profile.Settings,
		func(s loader.Setting) bool { return strings.EqualFold(s.File, file) && p.holds(&s) })
}

// ownSettings has the files written that the kit lacks and of which it is known what must stand in them: without that
// the loader lists nothing.
func (p *Plan) ownSettings(at string) error {
	for i := range p.profile.Settings {
		s := &p.profile.Settings[i]
		if !p.holds(s) || slices.ContainsFunc(p.Kit, func(f File) bool { return strings.EqualFold(f.To, s.File) }) {
			continue
		}
		f := File{To: s.File}
		text, err := p.text(f)
		if err != nil {
			return err
		}
		f.Size = int64(len(text))
		p.Kit = append(p.Kit, f)
		p.Notes = append(p.Notes, fmt.Sprintf("%s lacks %s: it is created with the required settings, %s.", at, s.File,
			strings.Join(strings.Fields(string(text)), " and ")))
	}
	return nil
}
