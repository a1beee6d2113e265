package teach

import (
	"path"
	"slices"
	"strings"
)

// shelved names platforms after the folders that their games lie in, where several have a folder of their own side by
// side, and takes in games of which nothing but such a folder says what they are. The others are classes that nothing
// in their files tells.
func shelved(taken, others []candidate) []candidate {
	above := map[string][]candidate{} // by the folder that the folders lie in
	for _, t := range taken {
		if dir := t.c.shelf(); dir != "" {
			above[path.Dir(dir)] = append(above[path.Dir(dir)], t)
		}
	}
	for _, o := range others {
		dir := o.c.shelf()
		if dir == "" || len(above[path.Dir(dir)]) < 2 || o.of(taken) || o.c.parts {
			continue
		}
		if !slices.ContainsFunc(taken, func(t candidate) bool { return t.c.shelf() == dir }) {
			taken = append(taken, o)
			above[path.Dir(dir)] = append(above[path.Dir(dir)], o)
		}
	}
	for dir, all := range above {
		if len(all) < 2 || dir == "." && len(all) < 3 {
			continue
		}
		for _, t := range all {
			t.p.Name = platformName(path.Base(t.c.shelf()))
			t.p.Shown = path.Base(t.c.shelf())
			t.p.Shown = strings.ToUpper(t.p.Shown[:1]) + t.p.Shown[1:]
			t.p.Shelf = true
		}
	}
	return taken
}

// shelf is the folder that all games of a class lie in, the deepest one; "" for none.
func (c *class) shelf() string {
	at := path.Dir(c.all[0].path)
	for _, s := range c.all {
		for at != "." && !strings.HasPrefix(s.path, at+"/") {
			at = path.Dir(at)
		}
	}
	if at == "." || platformName(path.Base(at)) == "" {
		return ""
	}
	return at
}
