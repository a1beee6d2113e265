// Package layout decides where a loader wants every title: a profile and titles
// go in, a tree of paths with the rule behind each comes out. It is pure: the
// same input gives the same tree, and nothing is looked up.
package layout

import (
	"fmt"
	"path"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

// A Tree is where all titles go, in the order in which they were given.
type Tree struct {
	Placements []Placement `json:"placements"`
}

// A Placement is where one title goes, or why the loader does not want it.
type Placement struct {
	Items   []Item   `json:"items,omitempty"`   // one for each disc
	Refusal *Refusal `json:"refusal,omitempty"` // set when there are no items
	// Rivals are the indexes of other titles that would get one of the same
	// paths, when letter case is ignored.
	Rivals []int `json:"rivals,omitempty"`
}

// An Item is one file on the place.
type Item struct {
	Disc int    `json:"disc"` // index into the title's discs
	Path string `json:"path"` // from the place's root, with slashes
	Rule string `json:"rule"` // why it is there and so named, a plain sentence
}

// A Refusal is why a loader does not take a title.
type Refusal struct {
	Say  string   `json:"say"`
	Ways []string `json:"ways,omitempty"`
}

// Lay places every title by the profile's rules.
func Lay(titles []title.Title, p *loader.Profile) *Tree {
	t := &Tree{Placements: make([]Placement, len(titles))}
	owners := make(map[string][]int, len(titles))
	for i := range titles {
		pl := &t.Placements[i]
		*pl = placeTitle(&titles[i], p)
		for _, item := range pl.Items {
			key := strings.ToUpper(item.Path)
			owners[key] = append(owners[key], i)
		}
	}
	for _, all := range owners {
		if len(all) < 2 {
			continue
		}
		for _, i := range all {
			for _, j := range all {
				if i != j {
					t.Placements[i].Rivals = append(t.Placements[i].Rivals, j)
				}
			}
		}
	}
	return t
}

func placeTitle(t *title.Title, p *loader.Profile) Placement {
	if t.Platform == "" {
		return refuse("it is not known what this file is", "see the evidence at Intake")
	}
	rule := p.Accept(t.Platform, t.Form)
	if rule == nil {
		return refuse(fmt.Sprintf("%s does not read %s titles", p.Shown, t.Platform))
	}
	var pl Placement
	for i := range t.Discs {
		values := valuesOf(t, i)
		for _, f := range rule.Path.Fields() {
			if f != "title" && values[f] == "" {
				return refuse(fmt.Sprintf("%s needs the %s in the path %s, and none was found in the file", p.Shown, f, rule.Path))
			}
		}
		suffix := ""
		if t.Of > 1 {
			suffix = rule.Title.Discs.Fill(values)
		}
		name, how := Name(t.Name, rule.Title.Permits, rule.Title.Longest-len([]rune(suffix)), rule.Title.Longest > 0)
		if name == "" {
			name, how = values["id"], "its name has no character that "+p.Shown+" permits, so the ID stands for it"
		}
		if name == "" {
			return refuse(fmt.Sprintf("its name %q has no character that %s permits", t.Name, p.Shown))
		}
		values["title"] = name + suffix
		item := Item{Disc: i, Path: rule.Path.Fill(values), Rule: rule.Why}
		if how != "" {
			item.Rule += "; " + how
		}
		pl.Items = append(pl.Items, item)
	}
	return pl
}

func refuse(say string, ways ...string) Placement {
	return Placement{Refusal: &Refusal{Say: say, Ways: ways}}
}

var slashes = strings.NewReplacer("/", "-", `\`, "-")

// valuesOf collects the fields of one disc. A value can never make a folder.
func valuesOf(t *title.Title, disc int) map[string]string {
	d := t.Discs[disc]
	v := map[string]string{
		"id": d.ID, "kind": d.Kind, "region": t.Region, "platform": t.Platform,
		"disc": strconv.Itoa(d.Number), "discs": strconv.Itoa(t.Of),
	}
	for k, s := range v {
		if strings.ContainsAny(s, `/\`) {
			v[k] = slashes.Replace(s)
		}
	}
	return v
}

// Folders lists the folders above a path, the outermost first.
func Folders(file string) []string {
	var out []string
	for dir := path.Dir(file); dir != "." && dir != "/"; dir = path.Dir(dir) {
		out = append([]string{dir}, out...)
	}
	return out
}
