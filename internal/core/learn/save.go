package learn

import (
	"errors"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/strict"
)

// Save checks a draft and writes it to a file, also where it cannot be used yet: then what keeps it from that is open.
// It writes the platforms that it needs to the user's own ones below dir. It never writes over a file. It returns what
// it wrote.
func (d *Draft) Save(file, dir string, set *loader.Set) (wrote []string, err error) {
	text := d.TOML()
	with := With(set, d.Taught)
	for _, p := range d.Platforms {
		described, err := loader.ParsePlatform(p.Name+".toml", []byte(p.TOML()))
		if err != nil {
			return nil, err
		}
		with.Platforms = append(with.Platforms, described)
	}
	slices.SortFunc(with.Platforms, func(a, b *loader.Platform) int { return strings.Compare(a.Name, b.Name) })
	p, err := loader.ParseProfile(file, []byte(text))
	if err == nil {
		err = with.Check(p)
	}
	if err != nil {
		for _, e := range mistakes(err) {
			d.Against = append(d.Against, "it cannot be used before this is fixed: "+e)
		}
		text = d.TOML()
	}
	if err := loader.WriteNew(file, text); err != nil {
		return nil, err
	}
	wrote = append(wrote, file)
	platforms := map[string]string{}
	for _, p := range d.Platforms {
		platforms[p.Name] = p.TOML()
	}
	for _, p := range d.Taught {
		platforms[p.Name] = p.TOML()
	}
	for _, name := range slices.Sorted(maps.Keys(platforms)) {
		at := filepath.Join(dir, loader.PlatformDir, name+".toml")
		if err := loader.WriteNew(at, platforms[name]); err != nil {
			return wrote, err
		}
		wrote = append(wrote, at)
	}
	return wrote, nil
}

// mistakes are the sentences of joined errors, without where in the file they are.
func mistakes(err error) (out []string) {
	all := []error{err}
	if many, ok := err.(interface{ Unwrap() []error }); ok {
		all = many.Unwrap()
	}
	for _, e := range all {
		var at *strict.Error
		if errors.As(e, &at) {
			out = append(out, at.Say)
		} else {
			out = append(out, e.Error())
		}
	}
	return out
}
