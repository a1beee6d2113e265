// Package ledger remembers what lies on every volume and share that was looked at, also on those in a drawer: titles,
// saves, free space, when it was seen and checked, its name and where it is kept. It is a cache: it can be deleted, and
// nothing is ever written to a target or removed from it because of what stands here.
package ledger

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/title"
)

// Kind is what a volume is.
type Kind string

// The kinds.
const (
	Drive  Kind = "drive"  // a volume that is plugged in, known by its serial number wherever that is
	Server Kind = "server" // a console or share at an address
	Folder Kind = "folder" // a folder of a computer, or an image in one
)

// A Volume is one that was looked at, as it was then.
type Volume struct {
	ID         string   `json:"id"` // what it is known by
	Kind       Kind     `json:"kind"`
	Label      string   `json:"label,omitempty"`
	Filesystem string   `json:"filesystem"`
	Capacity   int64    `json:"capacity"` // bytes
	Free       int64    `json:"free"`     // bytes
	Address    string   `json:"address"`  // where it was seen last
	Loaders    []string `json:"loaders"`  // names of their profiles
	Console    string   `json:"console,omitempty"`
	Model      string   `json:"model,omitempty"`
	Target     string   `json:"target,omitempty"` // of a bench, as which it was looked at last
	// Seen is when it was looked at last, Written when a run of Polytome last wrote to it, and Changed when it was
	// first seen with other contents than the last time without such a run; zero for never.
	Seen    time.Time `json:"seen"`
	Written time.Time `json:"written,omitzero"`
	Changed time.Time `json:"changed-elsewhere,omitzero"`
	Print   string    `json:"print"` // a fingerprint of names, sizes and dates
	Check   *Check    `json:"check,omitempty"`
	Titles  []Title   `json:"titles"`
	Saves   []Save    `json:"saves,omitempty"`

	// Name and Place are what its owner calls it and where it is kept; see [Store.Name].
	Name  string `json:"name,omitempty"`
	Place string `json:"place,omitempty"`
}

// A Check is how a volume was found when it was checked.
type Check struct {
	Taken    time.Time `json:"taken"`
	Depth    string    `json:"depth"`
	Listed   int       `json:"listed"`
	Starts   int       `json:"starts"`
	Problems int       `json:"problems"`      // findings that matter
	Kit      string    `json:"kit,omitempty"` // what of the loader's own files is missing, "" for nothing
}

// A Title is one that lies on a volume.
type Title struct {
	Key      string `json:"key,omitempty"` // on the bench, where it is known there
	ID       string `json:"id,omitempty"`
	Name     string `json:"name"`
	Platform string `json:"platform,omitempty"`
	Loader   string `json:"loader"`
	Path     string `json:"path"`
	Size     int64  `json:"size"` // bytes
	Starts   bool   `json:"starts"`
}

// A Save is what a player has reached that lies on a volume.
type Save struct {
	Path    string    `json:"path"`
	Of      string    `json:"of,omitempty"` // the title, in words; "" where nobody knows
	Changed time.Time `json:"changed,omitzero"`
	Kept    bool      `json:"kept"` // it is in the vault as it is there
}

// Called is what people call the volume: its name, or else that of its target, as alike sticks have the same label; its
// label, or its address.
func (v *Volume) Called() string {
	named := v.Target
	if strings.ContainsRune(named, '/') { // it was given by its place
		named = ""
	}
	return cmp.Or(v.Name, named, v.Label, v.Target, v.Address)
}

// stick is what the IDs of volumes begin with that are plugged in.
const stick = "vol-"

// OfStick is the ID of a volume that is plugged in.
func OfStick(volume string) string { return stick + volume }

// Stick is what a volume is known by that is plugged in; ok is false for any other one.
func (v *Volume) Stick() (volume string, ok bool) {
	volume, ok = strings.CutPrefix(v.ID, stick)
	return volume, ok && v.Kind == Drive
}

// IsOf reports whether it is the volume of a target of a bench: its stick, or, where that is not known, what was looked
// at as a target of that name.
func (v *Volume) IsOf(stick, name string) bool {
	if stick == "" {
		return v.Target == name
	}
	is, ok := v.Stick()
	return ok && is == stick
}

// Where says where it is kept, in a clause; "" where nobody has said.
func (v *Volume) Where() string {
	if v.Place == "" {
		return ""
	}
	return "in " + strings.TrimPrefix(v.Place, "in ")
}

// A Hit is a title on a volume.
type Hit struct {
	Volume *Volume
	Title  *Title
}

// Where finds titles by all words of a query in their IDs and names, the newest look first.
func Where(all []Volume, query string) (hits []Hit) {
	words := strings.Fields(strings.ToLower(query))
	for i := range all {
		for k := range all[i].Titles {
			t := &all[i].Titles[k]
			text := strings.ToLower(t.ID + " " + t.Name)
			lacks := func(w string) bool { return !strings.Contains(text, w) }
			if len(words) > 0 && !slices.ContainsFunc(words, lacks) {
				hits = append(hits, Hit{&all[i], t})
			}
		}
	}
	slices.SortStableFunc(hits, func(a, b Hit) int {
		return cmp.Or(strings.Compare(strings.ToLower(a.Title.Name), strings.ToLower(b.Title.Name)),
			b.Volume.Seen.Compare(a.Volume.Seen))
	})
	return hits
}

// Before is the volume that was seen at the address of another one before that was; nil for none. Then somebody plugged
// another stick in.
func Before(all []Volume, v *Volume) *Volume {
	for i := range all { // the newest look first
		if o := &all[i]; o.ID != v.ID && o.Kind == Drive && v.Kind == Drive && o.Address == v.Address &&
			!o.Seen.After(v.Seen) {
			return o
		}
	}
	return nil
}

// An Index finds the volumes of many titles at once.
type Index struct {
	byID, byName, byKey map[string][]*Volume
}

// NewIndex indexes volumes.
func NewIndex(all []Volume) *Index {
	x := &Index{map[string][]*Volume{}, map[string][]*Volume{}, map[string][]*Volume{}}
	add := func(m map[string][]*Volume, key string, v *Volume) {
		if on := m[key]; key != "" && (len(on) == 0 || on[len(on)-1] != v) {
			m[key] = append(on, v)
		}
	}
	for i := range all {
		for k := range all[i].Titles {
			t := &all[i].Titles[k]
			add(x.byKey, t.Key, &all[i])
			if t.ID != "" {
				add(x.byID, t.Platform+"\x00"+strings.ToUpper(t.ID), &all[i])
			}
			add(x.byName, t.Platform+"\x00"+strings.ToUpper(t.Name), &all[i])
		}
	}
	return x
}

// On are the volumes that hold a title of a bench: by its key there, by its platform and ID, or, where it has no ID, by
// its name.
func (x *Index) On(t *title.Title) (on []*Volume) {
	add := func(more []*Volume) {
		for _, v := range more {
			if !slices.Contains(on, v) {
				on = append(on, v)
			}
		}
	}
	add(x.byKey[t.Key])
	if t.ID != "" {
		add(x.byID[t.Platform+"\x00"+strings.ToUpper(t.ID)])
	} else {
		add(x.byName[t.Platform+"\x00"+strings.ToUpper(t.Name)])
	}
	return on
}

// Room are the volumes of a loader's that had space for so many bytes, the fullest of them first, so that the large
// ones stay for what is large.
func Room(all []Volume, takes func(*Volume) bool, bytes int64) (on []*Volume) {
	for i := range all {
		if all[i].Free >= bytes && takes(&all[i]) {
			on = append(on, &all[i])
		}
	}
	slices.SortStableFunc(on, func(a, b *Volume) int { return cmp.Compare(a.Free, b.Free) })
	return on
}
