// Package arrange gives titles their places and sections in the list that a console shows: by name, by hand, by
// letters, in sections of so many, or all in one. It is pure: titles and wishes go in, places come out.
package arrange

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"

	"polytome/internal/nearest"
)

// Wishes are how a list is wanted. The zero value leaves it as the console sorts it.
type Wishes struct {
	// Sections are what the list is divided into; "" where nobody has said.
	Sections Sections `toml:"sections,omitempty"`
	// Most is how many titles a section holds, for [Parts].
	Most int `toml:"at-most,omitempty"`
	// Name is the section of all titles, for [One]; "" for [UsualName].
	Name string `toml:"section,omitempty"`
	// Sequence are the keys of titles that come first, in this order.
	Sequence []string `toml:"sequence,omitempty"`
	// In are the sections of titles by hand, by their keys, before what Sections says; "" is the list itself.
	In map[string]string `toml:"in,omitempty"`
}

// Sections are ways to divide a list.
type Sections string

// The ways.
const (
	None    Sections = "none"    // one list
	Letters Sections = "letters" // a section for each first letter
	Parts   Sections = "parts"   // sections of at most so many titles, in the order of the list
	One     Sections = "one"     // one section with everything that is on the target
)

// Ways are all ways, as they are written.
var Ways = []Sections{None, Letters, Parts, One}

// UsualName is the section with everything that is on a target, beside what is built into the console; UsualMost is
// how many titles are in a part.
const (
	UsualName = "Added"
	UsualMost = 40
)

// mostName is how many characters the name of a section has at most.
const mostName = 24

// ParseSections reads a way to divide a list, with what belongs to it: "none", "letters", "parts", "parts:40", "one",
// "one:Added".
func ParseSections(text string) (w Wishes, err error) {
	way, rest, more := strings.Cut(text, ":")
	if !slices.Contains(Ways, Sections(way)) {
		var names []string
		for _, s := range Ways {
			names = append(names, string(s))
		}
		return w, nearest.Unknown("way to divide the list", way, names)
	}
	w.Sections = Sections(way)
	switch {
	case w.Sections == One:
		w.Name = strings.TrimSpace(rest)
		err = CheckName(w.Name)
	case w.Sections == Parts && more:
		_, err = fmt.Sscanf(rest, "%d", &w.Most)
		if err != nil || w.Most < 1 || fmt.Sprint(w.Most) != rest {
			return w, fmt.Errorf("%q is no number of titles in a section: write parts:40, for example", rest)
		}
	case more:
		err = fmt.Errorf("%s has nothing behind a colon", way)
	}
	return w, err
}

// CheckName is an error for what cannot be the name of a section.
func CheckName(name string) error {
	switch {
	case len([]rune(name)) > mostName:
		return fmt.Errorf("the section %q has more than %d characters", name, mostName)
	case strings.ContainsFunc(name, unicode.IsControl), strings.ContainsAny(name, `/\:`):
		return fmt.Errorf(`the section %q cannot have /, \ or : in its name`, name)
	case strings.Trim(name, ". ") != name:
		return fmt.Errorf("the section %q cannot begin or end with a dot or space", name)
	}
	return nil
}

// Empty reports whether nothing is wished: then the list is as it is.
func (w *Wishes) Empty() bool {
	return w.Sections == "" && len(w.Sequence) == 0 && len(w.In) == 0
}

// String says in words how the list is wanted.
func (w *Wishes) String() string {
	var all []string
	if len(w.Sequence) > 0 {
		all = append(all, "by hand")
	}
	switch w.Sections {
	case Letters:
		all = append(all, "a section for each letter")
	case Parts:
		all = append(all, fmt.Sprintf("sections of %d", w.most()))
	case One:
		all = append(all, "all in "+cmp.Or(w.Name, UsualName))
	case None, "":
		if len(w.In) > 0 {
			all = append(all, "sections by hand")
		}
	}
	if len(all) == 0 {
		return "by name"
	}
	return strings.Join(all, ", ")
}

func (w *Wishes) most() int { return cmp.Or(w.Most, UsualMost) }

// A Title is one that will be in a list; those of several lists are divided apart from one another.
type Title struct{ Key, Name, List string }

// A Slot is where a title stands.
type Slot struct {
	Place   int    // from 1; 0 for one that the console sorts
	Section string // "" for the list itself
}

// Slots are where titles stand, by their keys; a title that is where the console has it anyhow has none.
func (w *Wishes) Slots(titles []Title) map[string]Slot {
	if w.Empty() {
		return nil
	}
	first := make(map[string]int, len(w.Sequence))
	for i, key := range w.Sequence {
		first[key] = i + 1
	}
	rank := func(key string) int { return cmp.Or(first[key], len(first)+1) }
	order := slices.Clone(titles)
	slices.SortFunc(order, func(a, b Title) int {
		return cmp.Or(cmp.Compare(rank(a.Key), rank(b.Key)),
			strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), strings.Compare(a.Key, b.Key))
	})
	out := map[string]Slot{}
	place, parted, n := 0, map[string]int{}, map[string]int{}
	for _, t := range order {
		if _, by := w.In[t.Key]; !by {
			n[t.List]++
		}
	}
	for _, t := range order {
		s := Slot{}
		if first[t.Key] > 0 {
			place++
			s.Place = place
		}
		section, by := w.In[t.Key]
		switch {
		case by:
			s.Section = section
		case w.Sections == Letters:
			s.Section = letter(t.Name)
		case w.Sections == Parts && n[t.List] > w.most():
			s.Section = part(parted[t.List], w.most(), n[t.List])
			parted[t.List]++
		case w.Sections == One:
			s.Section = cmp.Or(w.Name, UsualName)
		}
		if s != (Slot{}) {
			out[t.Key] = s
		}
	}
	return out
}

// letter is the section of a name by its first letter; what begins with none is in "0-9".
func letter(name string) string {
	for _, r := range name {
		if unicode.IsLetter(r) {
			return string(unicode.ToUpper(r))
		}
		if unicode.IsDigit(r) {
			break
		}
	}
	return "0-9"
}

// part names the section of number i of n titles: its name stays the same when titles come and go, and sorts as it
// counts.
func part(i, most, n int) string {
	wide := max(3, len(fmt.Sprint((n+most-1)/most*most)))
	from := i/most*most + 1
	return fmt.Sprintf("Titles %0*d-%0*d", wide, from, wide, from+most-1)
}

// Move puts a title earlier or later by so many places, among those that stand in its section as they are shown. From
// then on these are in this order; a title that comes later stands behind them. It reports whether there was a place to
// go to.
func (w *Wishes) Move(key string, by int, section []string) bool {
	i := slices.Index(section, key)
	if i < 0 || i+by < 0 || i+by >= len(section) || by == 0 {
		return false
	}
	order := slices.Clone(section)
	order = slices.Insert(slices.Delete(order, i, i+1), i+by, key)
	rest := slices.DeleteFunc(slices.Clone(w.Sequence), func(k string) bool { return slices.Contains(section, k) })
	w.Sequence = append(rest, order...)
	return true
}

// Put has a title stand in a section; "" is the list itself, whatever is said of others.
func (w *Wishes) Put(key, section string) error {
	if err := CheckName(section); err != nil {
		return err
	}
	in := maps.Clone(w.In) // earlier choices share it
	if in == nil {
		in = map[string]string{}
	}
	in[key] = section
	if section == "" && (w.Sections == None || w.Sections == "") {
		delete(in, key)
	}
	if w.In = in; len(in) == 0 {
		w.In = nil
	}
	return nil
}
