package prepare

import (
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

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
	if len(k.Editions) > 0 && r.Edition == "" && r.Kit != "" {
		var names []string
		for _, e := range k.Editions {
			names = append(names, e.Name+" ("+e.Shown+")")
		}
		return fmt.Errorf("%s comes in editions; choose one: %s", k.Shown, strings.Join(names, ", "))
	}
	if r.Edition != "" && !slices.ContainsFunc(k.Editions, func(e loader.Edition) bool { return e.Name == r.Edition }) {
		return fmt.Errorf("%s has no edition %q", k.Shown, r.Edition)
	}
	if r.Kit == "" {
		p.Notes = append(p.Notes, fmt.Sprintf(
			"No kit was given (%s): copy it to the drive before the loader can start.", k.Shown))
		return nil
	}
	files, err := kitFiles(r.Kit)
	if err != nil {
		return err
	}
	for _, f := range k.Files {
		if len(f.Editions) > 0 && !slices.Contains(f.Editions, r.Edition) || !p.here(r.Profile).Needs(&f) {
			continue
		}
		found := matching(files, f.From)
		if len(found) == 0 && !f.Optional && f.Text == "" && len(f.From) > 0 && !p.sets(f.To) {
			p.Notes = append(p.Notes, fmt.Sprintf("%s lacks %s (%s): %s.", r.Kit, f.To, f.Why,
				"copy it to the drive before the loader can start"))
		}
		for _, from := range found {
			to := f.To
			if from.inside != "" {
				to = path.Join(f.To, from.inside)
			}
			p.Kit = append(p.Kit, File{from.path, to, from.size})
			p.Notes = append(p.Notes, fmt.Sprintf("%s comes from %s.", to, from.path))
		}
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
func (p *Plan) ownSettings(kit string) error {
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
		p.Notes = append(p.Notes, fmt.Sprintf("%s lacks %s: it is created with the required settings, %s.", kit, s.File,
			strings.Join(strings.Fields(string(text)), " and ")))
	}
	return nil
}

// kitFile is a file in the folder of a kit.
type kitFile struct {
	path   string
	rel    string
	inside string // path below the folder that fitted, "" for a file that did
	size   int64
}

// mostKit is how many files a kit has at most.
const mostKit = 20_000

func kitFiles(dir string) ([]kitFile, error) {
	var out []kitFile
	err := filepath.WalkDir(dir, func(name string, e os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		if info.Mode().IsRegular() {
			rel, err := filepath.Rel(dir, name)
			if err != nil {
				return err
			}
			out = append(out, kitFile{path: name, rel: filepath.ToSlash(rel), size: info.Size()})
		}
		if len(out) > mostKit {
			return fmt.Errorf("%s has more than %d files, so it is not a kit", dir, mostKit)
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("reading the kit: %w", err)
	}
	return out, nil
}

// matching are the files whose name, or the name of a folder above them, fits one of the patterns. The first pattern
// that fits something counts; of several files the newest name does. Files of the kit lie at its top, or in the one
// folder that it was unpacked to, unless the pattern names folders; hidden ones are never meant.
func matching(files []kitFile, patterns []string) []kitFile {
	wrapped := 0 // folders around all of it, as archives are unpacked to
	if n := len(files); n > 0 {
		top, _, in := strings.Cut(files[0].rel, "/")
		if in && !slices.ContainsFunc(files, func(f kitFile) bool { return !strings.HasPrefix(f.rel, top+"/") }) {
			wrapped = 1
		}
	}
	for _, p := range patterns {
		var whole *kitFile
		var inside []kitFile
		for i := range files {
			f := &files[i]
			parts := strings.Split(f.rel, "/")
			if slices.ContainsFunc(parts, func(s string) bool { return strings.HasPrefix(s, ".") }) {
				continue
			}
			deep := strings.Count(p, "/")
			for k := range parts {
				if k < deep || k > deep+wrapped {
					continue
				}
				if !loader.MatchFile(strings.ToLower(p), strings.ToLower(strings.Join(parts[k-deep:k+1], "/"))) {
					continue
				}
				if k == len(parts)-1 {
					if whole == nil || f.rel > whole.rel {
						whole = f
					}
				} else {
					in := *f
					in.inside = strings.Join(parts[k+1:], "/")
					inside = append(inside, in)
				}
				break
			}
		}
		if whole != nil {
			return []kitFile{*whole}
		}
		if len(inside) > 0 {
			return inside
		}
	}
	return nil
}
