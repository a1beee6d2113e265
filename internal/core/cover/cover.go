// Package cover finds pictures and descriptions for titles: beside the games, in folders of the user's, in the games
// themselves, and on servers that the user has set up. What was fetched from those is kept, so that only [Fetch] ever
// asks them; everything else works on what is on this computer.
package cover

import (
	"path"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/core/titlelist"
	"polytome/internal/parallel"
)

// A Finder finds pictures for titles among what is on this computer.
type Finder struct {
	settings *bench.Covers
	folders  []*shelf
	servers  []*Server
	store    *Store
	inner    map[string][]loader.InnerPicture // by platform
	// Trouble is what of the user's settings cannot be used, in sentences.
	Trouble []string
}

// NewFinder makes one for a bench. The folders of pictures are listed. The store may be nil: then nothing was fetched.
func NewFinder(b *bench.Bench, set *loader.Set, store *Store) *Finder {
	f := &Finder{settings: &b.Covers, store: store, inner: map[string][]loader.InnerPicture{}}
	for _, p := range set.Platforms {
		if len(p.Pictures) > 0 {
			f.inner[p.Name] = p.Pictures
		}
	}
	platforms := map[string]bool{}
	for _, p := range set.Platforms {
		platforms[p.Name] = true
	}
	for _, c := range b.CoverFolders() {
		s, err := list(c, platforms)
		if err != nil {
			f.Trouble = append(f.Trouble, "the folder of pictures "+c.Path+" cannot be read: "+plain(err))
			continue
		}
		if s.cut {
			f.Trouble = append(f.Trouble, "the folder of pictures "+c.Path+" holds too many files; name its "+
				"subfolders instead")
		}
		f.folders = append(f.folders, s)
	}
	for i := range b.Covers.Servers {
		f.servers = append(f.servers, newServer(&b.Covers.Servers[i]))
	}
	return f
}

// plain is an error without the path that it is reported with.
func plain(err error) string {
	if i := strings.LastIndex(err.Error(), ": "); i >= 0 {
		return err.Error()[i+2:]
	}
	return err.Error()
}

// A Candidate is a picture that may be one of a title.
type Candidate struct {
	title.Picture
	// Proposal is set where the name is only nearly that of the title: it is taken by hand or not at all.
	Proposal bool
	// Source is where it was found, one of [bench.CoverSources], or hand.
	Source string
	// Bad is why it cannot be used, as far as it was looked at; "" for nothing.
	Bad string
}

// Dress gives titles their pictures, and what is not known of them from descriptions that were fetched. Earlier ones
// are forgotten. A nil finder looks beside the games only.
func (f *Finder) Dress(titles []title.Title) {
	if f == nil {
		f = &Finder{settings: &bench.Covers{}}
	}
	bare := len(f.folders) == 0 && f.store.Empty()
	parallel.Each(len(titles), func(i int) {
		t := &titles[i]
		t.Pictures = nil
		if bare && !f.has(t) { // as most are, where no one has gathered pictures
			return
		}
		for d := range t.Discs {
			for _, of := range title.PictureKinds {
				if p := f.Picture(t, d, of); p != nil {
					t.Pictures = append(t.Pictures, *p)
				}
			}
		}
		f.describe(t)
	})
}

// has reports whether there may be pictures of a title beside its files or in them.
func (f *Finder) has(t *title.Title) bool {
	if t.Form == title.Folder || t.Form == title.Package {
		return true
	}
	for i := range t.Discs {
		if d := &t.Discs[i]; len(d.Beside)+len(d.Inside)+len(d.Chosen) > 0 {
			return true
		}
	}
	return false
}

// Picture is the best picture of a kind for a disc of a title, nil for none.
func (f *Finder) Picture(t *title.Title, disc int, of string) *title.Picture {
	if c := f.best(t, disc, of); c != nil {
		return &c.Picture
	}
	return nil
}

func (f *Finder) best(t *title.Title, disc int, of string) (found *Candidate) {
	crop, none := [4]int{}, false
	for _, c := range t.Discs[disc].Chosen {
		if c.Of == of {
			crop, none = c.Crop, c.None
		}
	}
	if none {
		return nil
	}
	f.each(t, disc, of, func(p *Candidate) bool {
		if p.Bad != "" {
			return true
		}
		found = p
		return false
	})
	if found != nil && found.Crop == [4]int{} {
		found.Crop = crop
	}
	return found
}

// Candidates are all pictures of a kind that may be a disc's: the best first, and the proposals last.
func (f *Finder) Candidates(t *title.Title, disc int, of string) (all []Candidate) {
	seen := map[string]bool{}
	add := func(p *Candidate) bool {
		if key := p.File.Called(); !seen[key] {
			seen[key] = true
			all = append(all, *p)
		}
		return true
	}
	f.each(t, disc, of, add)
	for _, s := range f.folders {
		s.near(t, disc, of, add)
	}
	return all
}

// Propose is the picture whose name comes nearest to that of a disc; nil for none.
func (f *Finder) Propose(t *title.Title, disc int, of string) (found *Candidate) {
	for _, s := range f.folders {
		s.near(t, disc, of, func(p *Candidate) bool { found = p; return false })
		if found != nil {
			return found
		}
	}
	return nil
}

// each goes through the pictures of a kind for a disc, the best first, until no more is wanted.
func (f *Finder) each(t *title.Title, disc int, of string, want func(*Candidate) bool) {
	d := &t.Discs[disc]
	source := ByHand
	give := func(file title.File, from string, crop [4]int) bool {
		if file.Path == "" {
			file.Path = d.File.Path
		}
		return want(&Candidate{Picture: title.Picture{Of: of, Disc: disc, File: file, From: from, Crop: crop},
			Source: source, Bad: f.store.Bad(&file)})
	}
	for _, c := range d.Chosen {
		if c.Of == of && c.File != "" {
			file, err := stat(c.File)
			if err != nil {
				if !want(&Candidate{Picture: title.Picture{Of: of, Disc: disc, File: title.File{Path: c.File},
					From: "chosen by hand"}, Source: ByHand, Bad: "it no longer exists: " + plain(err)}) {
					return
				}
			} else if !give(file, "chosen by hand", c.Crop) {
				return
			}
		}
	}
	for _, source = range f.settings.Sources(of) {
		switch source {
		case "beside":
			for i := range d.Beside {
				if b := &d.Beside[i]; b.Kind == "cover" && besideKind(b.File.Path) == of &&
					!give(b.File, "beside the game", [4]int{}) {
					return
				}
			}
		case "folders":
			for _, s := range f.folders {
				if !s.match(t, disc, of, func(file title.File,
					from string) bool {
					return give(file, from, [4]int{})
				}) {
					return
				}
			}
		case "inside":
			if !f.inside(t, disc, of, func(
				file title.File) bool {
				return give(file, "in the game itself", [4]int{})
			}) {
				return
			}
		case "servers":
			if !f.fetched(t, disc, of, func(file title.File, from string) bool { return give(file, from, [4]int{}) }) {
				return
			}
		}
	}
}

// ByHand is the source of what the user has chosen.
const ByHand = "hand"

// besideKind is the kind of a picture beside a game: what its name ends in, behind a dot, hyphen or in brackets; else
// that of the front.
func besideKind(file string) string {
	if _, of := title.MarkOf(strings.TrimSuffix(filepath.Base(file), filepath.Ext(file))); of != "" {
		return of
	}
	return "front"
}

// inside gives the pictures that are in a game's own file or folder.
func (f *Finder) inside(t *title.Title, disc int, of string, give func(title.File) bool) bool {
	d := &t.Discs[disc]
	if t.Archive == "" {
		for _, in := range d.Inside {
			if in.Of == of && !give(in.File) {
				return false
			}
		}
	}
	if t.Form != title.Folder && t.Form != title.Package {
		return true
	}
	for _, pic := range f.inner[t.Platform] {
		if pic.Of != of {
			continue
		}
		want := strings.ToLower(pic.File)
		for i := range d.Parts {
			if ok, _ := path.Match(want, strings.ToLower(d.Parts[i].Name)); ok && !give(d.Parts[i].File) {
				return false
			}
		}
	}
	return true
}

// fetched gives the pictures that servers had for a title.
func (f *Finder) fetched(t *title.Title, disc int, of string, give func(title.File, string) bool) bool {
	if f.store.Empty() {
		return true
	}
	for _, s := range f.servers {
		if g, ok := f.store.got(s.want(t, disc, of)); ok && g.State == got && !give(f.store.picture(g),
			"from "+s.Name) {
			return false
		}
	}
	return true
}

// describe takes over what descriptions report that is not known otherwise.
func (f *Finder) describe(t *title.Title) {
	if f.store.Empty() {
		return
	}
	for _, s := range f.servers {
		g, ok := f.store.got(s.want(t, 0, aboutKind))
		if !ok || g.State != got {
			continue
		}
		a, err := parseAbout([]byte(g.Text))
		if err != nil {
			continue
		}
		for _, field := range aboutFields {
			into, value := t.Value(field), a[field]
			if into == nil || *into != "" || value == "" || slices.Contains(t.Locked, field) {
				continue
			}
			*into = value
			t.Discs = slices.Clone(t.Discs) // it may be shared with what was scanned
			t.Discs[0].Evidence = append(slices.Clone(t.Discs[0].Evidence), title.Evidence{Field: field, Value: value,
				From: s.Name})
		}
	}
}

// bare is a name without what stands in brackets.
func bare(name string) string {
	depth := 0
	out := strings.Map(func(r rune) rune {
		switch r {
		case '(', '[':
			depth++
		case ')', ']':
			depth = max(0, depth-1)
			return -1
		}
		if depth > 0 {
			return -1
		}
		return r
	}, name)
	return strings.TrimSpace(out)
}

// fold brings a name into a form in which spellings of it are equal.
func fold(name string) string { return titlelist.Fold(name) }

// stem is the base name of a file without its extension.
func stem(file string) string {
	b := filepath.Base(file)
	return strings.TrimSuffix(b, filepath.Ext(b))
}

// sumsOf are the checksums of a disc's file, by the algorithm.
func sumsOf(d *title.Disc) map[string]string {
	out := map[string]string{}
	for s := range strings.FieldsSeq(d.Sums) {
		if a, v, ok := strings.Cut(s, ":"); ok {
			out[a] = strings.ToLower(v)
		}
	}
	return out
}
