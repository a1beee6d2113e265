package state

import (
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/loader"
)

// A BuiltIn is a title that is in a console itself: no file is of it, and nothing can be done with it.
type BuiltIn struct {
	loader.BuiltIn
	Console string // such as "Pipit Mini North"
	targets []int  // that are for that console
}

// builtIn are the titles that are in the consoles of the targets, by console.
func (d *State) builtIn() (out []BuiltIn) {
	for n, t := range d.Targets {
		if t.Survey == nil || t.Survey.Model() == nil {
			continue
		}
		console := t.Survey.Model().Shown
		for _, b := range t.Survey.BuiltIn() {
			k := slices.IndexFunc(out, func(o BuiltIn) bool { return o.Console == console && o.ID == b.ID })
			if k >= 0 {
				out[k].targets = append(out[k].targets, n)
				continue
			}
			out = append(out, BuiltIn{b, console, []int{n}})
		}
	}
	slices.SortStableFunc(out, func(a, b BuiltIn) int { return strings.Compare(a.Console, b.Console) })
	return out
}

// addBuiltIn lists what is built into consoles below the titles, where these are grouped by platform, or found by
// words.
func (r *TitleRows) addBuiltIn() {
	if r.order != 0 || r.only != nil {
		return
	}
	heading := -1
	all := r.of.builtIn()
	for i := range all {
		b := &all[i]
		if r.filter != "" && !HasWords(b.ID+" "+b.Name+" built in "+b.Console, r.filter) {
			continue
		}
		if heading < 0 || r.rows[heading].heading != b.Console {
			heading = len(r.rows)
			r.rows = append(r.rows, row{title: -1, heading: b.Console, builtIn: b})
		}
		r.rows[heading].count++
		r.rows = append(r.rows, row{title: -1, builtIn: b})
	}
}

// BuiltIn is what is built into a console under the cursor; nil for none.
func (r *TitleRows) BuiltIn() *BuiltIn {
	if c := r.List.Cursor; c >= 0 && c < len(r.rows) && r.rows[c].heading == "" {
		return r.rows[c].builtIn
	}
	return nil
}

// BuiltInAt is what holds for a title of a console at target n, in a word; "" for another console's.
func (d *State) BuiltInAt(n int, b *BuiltIn) string {
	if !slices.Contains(b.targets, n) || d.At(n).Survey == nil {
		return ""
	}
	if _, hidden := d.At(n).Survey.Hides(&b.BuiltIn); hidden {
		return "hidden"
	}
	return "built in"
}

// BuiltInWhy explains a title of a console.
func (d *State) BuiltInWhy(b *BuiltIn) Why {
	w := Why{
		Lead: b.Name,
		Say:  fmt.Sprintf("is built into the %s. It takes no room, and cannot be removed.", b.Console),
	}
	if b.Later {
		w.Say = fmt.Sprintf("came to the %s later. It takes no room on your targets.", b.Console)
	}
	for _, n := range b.targets {
		if s := d.At(n).Survey; s != nil {
			if i, hidden := s.Hides(&b.BuiltIn); hidden {
				w.Say += fmt.Sprintf(" On %s, %s has its ID and hides it.", s.Config.Name, s.Titles[i].Label())
			}
		}
	}
	return w
}

// Doubles says where title i is in a console already, in sentences; "" for nowhere.
func (d *State) Doubles(i int) (say string) {
	seen := map[string]bool{}
	for _, t := range d.Targets {
		if s := t.Survey; d.known(s, i) {
			if x := s.Double(i); x != "" && !seen[x] {
				seen[x] = true
				say += " " + x
			}
		}
	}
	return say
}
