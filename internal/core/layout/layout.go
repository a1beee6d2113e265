// Package layout decides where a loader wants every title: a profile and titles
// go in, a tree of paths with the rule behind each comes out. It is pure: the
// same input gives the same tree, and nothing is looked up.
package layout

import (
	"path"
	"strings"

	"polytome/internal/core/arrange"
	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/target"
)

// A Target is where titles are laid out for.
type Destination struct {
	// Attachment is how the loader reaches the target; nil when it does not.
	Attachment *loader.Attachment
	Filesystem target.Filesystem
	// Volume is which of the attachment's volumes it is, by its name, and Capacity its bytes; "" and 0 where that is
	// not known.
	Volume   string
	Capacity int64
	// Held are names that titles have been given before, by their keys. They keep
	// them, whatever else comes.
	Held map[string]string
	// Slots are where titles stand in the loader's list, by their keys, and Favourites which are favourites; it may be
	// nil.
	Slots      map[string]arrange.Slot
	Favourites func(key string) bool
	// File is how many bytes a file on the target has; ok is false where there is none. With a nil File all are there.
	File func(path string) (bytes int64, ok bool)
	// Set knows how platforms are written for people; it may be nil.
	Set *loader.Set
}

// LargestFile is how many bytes a file there can have.
func (t *Destination) LargestFile() int64 {
	limit := t.Filesystem.LargestFile
	if t.Attachment != nil && t.Attachment.LargestFile > 0 {
		limit = min(limit, int64(t.Attachment.LargestFile))
	}
	return limit
}

// Here is the target as rules can ask for it.
func (t *Destination) Here() loader.Here {
	h := loader.Here{Attachment: t.attachment(), Filesystem: t.Filesystem.Name, Volume: t.Volume, Capacity: t.Capacity}
	if t.Attachment != nil {
		h.Via = t.Attachment.Via
	}
	return h
}

// file is how many bytes a file on the target has.
func (t *Destination) file(path string) (bytes int64, ok bool) {
	if t.File == nil {
		return 0, true
	}
	return t.File(path)
}

// attachment is the name of the attachment, "" for none.
func (t *Destination) attachment() string {
	if t.Attachment == nil {
		return ""
	}
	return t.Attachment.Name
}

// A Placement is where one title goes, or why the loader does not want it.
type Placement struct {
	Items   []Item   `json:"items,omitempty"`
	Refusal *Refusal `json:"refusal,omitempty"` // set when there are no items
	// Rivals are the indexes of other titles that would get one of the same
	// paths, when letter case is ignored.
	Rivals []int `json:"rivals,omitempty"`
	// Name is the title as it is written in the paths.
	Name string `json:"name,omitempty"`
	// How says what was done to the name beyond the rule, "" for nothing.
	How string `json:"how,omitempty"`
	// Rule is the profile's rule that the paths come from.
	Rule *loader.Accept `json:"-"`

	claims  []string // folded paths that no other title may have
	shelf   *shelf   // where it is among the titles of its folder; nil where the rule knows no pages and numbers
	settled bool     // the claims are made, and stay
	// contested is set where another title wanted the same name.
	contested bool
}

// shelf is where a title is among those of its folder, which has pages.
type shelf struct {
	page    int    // from 1; 0 while it has none
	folder  string // what its pages have in common
	entries int    // that it makes there
	order   string // by which the titles of a folder are sorted
	number  int    // its running number, from 1; 0 while it has none
	apart   bool   // every disc has a number of its own
}

// An Item is one file on the target.
type Item struct {
	Disc   int    `json:"disc"`             // index into the title's discs
	Path   string `json:"path"`             // from the target's root, with slashes
	Folder bool   `json:"folder,omitempty"` // a folder, whose content is known only when it is unpacked
	// Spec is what its bytes are made of.
	shape.Spec
	Rule string `json:"rule"` // why it is there, a plain sentence
}

// A Refusal is why a loader does not take a title.
type Refusal struct {
	Say  string   `json:"say"`
	Ways []string `json:"ways,omitempty"`
	// Foreign is set when the loader has nothing to do with such titles at all.
	Foreign bool `json:"foreign,omitempty"`
	// Name is set when it is for its name that the title has no path.
	Name bool `json:"name,omitempty"`
	// NoPicture is set where only covers are wanted and there is none.
	NoPicture bool `json:"no-picture,omitempty"`
}

// Because is the rule behind an item of the placement, with what was done to the name.
func (p *Placement) Because(item *Item) string {
	if p.How == "" {
		return item.Rule
	}
	return item.Rule + "; " + p.How
}

// Ready reports whether a run can make the item: everything but what is unpacked without its files
// being known.
func (i *Item) Ready() bool { return !i.Folder }

// Ready reports whether a run can make all items.
func (p *Placement) Ready() bool {
	for i := range p.Items {
		if !p.Items[i].Ready() {
			return false
		}
	}
	return true
}

// Common is the folder in which all of a placement's files lie, or the path of its only one.
func Common(p *Placement) string {
	if len(p.Items) == 1 {
		return p.Items[0].Path
	}
	dir := path.Dir(p.Items[0].Path)
	for i := range p.Items {
		for dir != "." && !strings.HasPrefix(p.Items[i].Path, dir+"/") {
			dir = path.Dir(dir)
		}
	}
	return dir
}

// Folders lists the folders above a path, the outermost first.
func Folders(file string) []string {
	var out []string
	for dir := path.Dir(file); dir != "." && dir != "/"; dir = path.Dir(dir) {
		out = append([]string{dir}, out...)
	}
	return out
}
