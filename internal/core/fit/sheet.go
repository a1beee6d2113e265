package fit

import (
	"cmp"
	"maps"
	"slices"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/parallel"
	"polytome/internal/target"
)

// A Case is everything that verdicts depend on.
type Case struct {
	Titles []title.Title
	// Loaders are those that the target is filled for. A title is the first one's that takes it.
	Loaders []Loader
	Via     string
	Facts   target.Facts
	There   []target.Entry
	// Found are titles that are on the target under other paths, by their indexes: for each item
	// where it is now, "" where it has to be written.
	Found map[int][]string
	// Changed are the paths on the target, as it spells them, of files that have the length which a title
	// wants there and other content.
	Changed map[string]bool
	// Leaving are the paths that the user has marked to be removed; Replace those that may be
	// written over. Both are as the target spells them.
	Removing, Replace []string
	// Exactly has everything leave that a loader knows and that is not chosen.
	DeleteOthers bool
	// Covers are estimated in. CoversMost is how many bytes they may take; nil for any number.
	Covers     bool
	CoversMost *int64
	// Carried is set where titles consist of their covers alone, see [layout.Tree.Carried]: no loader reads them
	// from here.
	Carried bool
	// Reserve is how many bytes are to stay free.
	Reserve int64
	// Ranks are how much each title is wanted, the most wanted first in the space; nil for all alike.
	Ranks []int8
}

// A Loader is one that the target is filled for, with the tree that it wants of all titles.
type Loader struct {
	Profile *loader.Profile
	Tree    *layout.Tree
}

// A Sheet holds the verdicts for all titles at one target: what holds whatever is chosen, which all clones of it share
// and nobody changes, and what follows from the choices.
type Sheet struct {
	*judged

	Chosen   []bool
	Planned  int64 // bytes that the chosen titles will add
	Released int64 // bytes of what leaves because it is not chosen
	Count    int   // chosen titles that go or are there
	New      int   // those of them that are not there yet

	ranks   []int8  // how much each title is wanted; nil for all alike
	order   []int32 // in which titles get space; nil for that of the list
	placed  []bool  // chosen titles that have their space
	missing []int64 // by title: how many bytes a chosen one lacks
	lacking int     // chosen titles that lack space, or whose folder is full
	names   *names
	lists   []listSpace
	swaps   []Swap // of placed titles, in their order
	// of placed titles: space of the largest text that one takes the place of when all is there
	follows map[int]int64
	crowded []int32              // the full folder of a chosen title, and one more; 0 for none
	gone    func(i int) bool     // was deleted on the target; nil for none
	others  map[string]Elsewhere // by attachment: the console's own disks
	dressed []bool               // titles whose covers have their space
	dress   Covers
	bare    map[int]bool // titles that are there, and have no space for what is missing beside them
	yield   *yielding    // what could give way, worked out when it is asked for
}

// judged is what holds at a target whatever is chosen.
type judged struct {
	Kept  int64 // bytes used by what is there already and stays, with the filesystem's own structures
	Freed int64 // bytes of what leaves whatever is chosen
	Mine  int   // titles that some loader concerns at all

	of   Case
	base []Verdict
	by   []uint8 // which loader takes a title
	// titles that are no matter of their own: they have rivals, or need another disk too
	apart    []bool
	bySize   []int32                 // titles by their largest file, the largest first
	present  map[string]target.Entry // by folded path, without what leaves
	removing map[string]bool         // folded paths
	replace  map[string]bool         // folded paths
	closed   []map[string]bool       // by loader: folders that the console did not make
	dirs     map[string]dirCheck     // by folded path: what was found out about folders
	freedBy  map[int]int64           // Exactly: what a title frees when it is not chosen
	extras   [][]layout.Beside       // by title; nil where there are none at all
	covers   []coverSpace            // by title
}

// Elsewhere is the space on another target of the same console.
type Elsewhere struct {
	Name string
	Free int64
}

// listSpace is the file in which a loader wants all titles listed.
type listSpace struct {
	path   string
	was    int64         // bytes that it has on the target
	around int64         // bytes that it has before and behind its lines, at most
	bytes  int64         // of the lines of chosen titles
	fresh  int64         // of those that are not there, which come to what it has: what others have written in it stays
	lines  map[int]int32 // by title
	bare   bool          // no title is named in it: it has what stands around them alone
}

// Judge gives the verdicts with nothing chosen. What an interrupted run left is
// estimated as free, since the next run clears it.
func Judge(c Case) *Sheet {
	n := len(c.Titles)
	s := &Sheet{
		judged: &judged{of: c, base: make([]Verdict, n), by: make([]uint8, n), apart: make([]bool, n),
			removing: map[string]bool{}, replace: map[string]bool{}, dirs: map[string]dirCheck{}},
		Chosen: make([]bool, n), placed: make([]bool, n), missing: make([]int64, n), bare: map[int]bool{},
		follows: map[int]int64{}, crowded: make([]int32, n),
	}
	for _, p := range c.Removing {
		s.removing[s.fold(p)] = true
	}
	for _, p := range c.Replace {
		s.replace[s.fold(p)] = true
	}
	s.present = make(map[string]target.Entry, len(c.There))
	stays := make([]target.Entry, 0, len(c.There))
	s.Kept = c.Facts.Capacity - c.Facts.Free
	for _, e := range c.There {
		key := s.fold(e.Path)
		if !e.Folder && (target.IsTemporary(e.Path) || s.leaves(key)) {
			space := c.Facts.SpaceFor(e.Path, e.Size)
			s.Kept -= space
			if !target.IsTemporary(e.Path) {
				s.Freed += space
				s.removing[key] = true
			}
			continue
		}
		s.present[key] = e
		stays = append(stays, e)
	}
	s.assign()
	s.closeFolders()
	s.names = newNames(c.Facts, stays, s.fold, 2*n)
	s.Kept += s.estimateStart()
	s.judgeAll()
	s.rankAll(c.Ranks)
	s.settle()
	return s
}

// Again gives the verdicts for other trees, and for titles that are found under other paths, with nothing chosen.
func (s *Sheet) Again(loaders []Loader, found map[int][]string) *Sheet {
	c := s.of
	c.Loaders, c.Found, c.Ranks = loaders, found, s.ranks
	out := Judge(c)
	out.others, out.gone = s.others, s.gone
	return out
}

// leaves reports whether a marked path, or a folder above it, is to be removed.
func (s *Sheet) leaves(key string) bool {
	if len(s.removing) == 0 {
		return false
	}
	for at := key; at != "."; at = parent(at) {
		if s.removing[at] {
			return true
		}
	}
	return false
}

// assign finds the loader of every title: the first that has a path for it, else the first that
// concerns it.
func (s *Sheet) assign() {
	if len(s.of.Loaders) < 2 {
		return
	}
	for i := range s.of.Titles {
		best := -1
		for k := range s.of.Loaders {
			r := s.of.Loaders[k].Tree.Placements[i].Refusal
			if r == nil {
				best = k
				break
			}
			if !r.Foreign && best < 0 {
				best = k
			}
		}
		s.by[i] = uint8(max(best, 0))
	}
}

// judgeAll finds what holds for all titles whatever else is chosen. Folders are numbered in order,
// everything else is done for several titles at once.
func (s *Sheet) judgeAll() {
	n := len(s.of.Titles)
	s.checkFolders()
	s.findCompanions()
	parallel.Each(n, func(i int) { s.base[i] = s.judge(i).Verdict })
	for i := range n {
		if s.base[i].Kind != Foreign {
			s.Mine++
		}
		if s.base[i].Kind.Goes() {
			s.noteNames(i)
		} else {
			s.names.note(nil)
		}
		rule := s.Placement(i).Rule
		s.apart[i] = len(s.Placement(i).Rivals) > 0 || rule != nil && rule.AlsoNeeds != ""
	}
	s.findCovers()
	for i := range n {
		s.noteCovers(i)
	}
	s.noteLists()
	s.noteFreed()
	s.sortBySize()
}

// sortBySize orders the titles by their largest file.
func (s *Sheet) sortBySize() {
	largest := make([]int64, len(s.base))
	s.bySize = make([]int32, 0, len(s.base))
	for i := range s.base {
		if !s.base[i].Kind.Goes() {
			continue
		}
		pl := s.Placement(i)
		for k := range pl.Items {
			largest[i] = max(largest[i], pl.Items[k].Size)
		}
		s.bySize = append(s.bySize, int32(i))
	}
	slices.SortFunc(s.bySize, func(a, b int32) int {
		return cmp.Or(cmp.Compare(largest[b], largest[a]), cmp.Compare(a, b))
	})
}

// BySize are the titles that can go, by their indexes, those with the largest files first.
func (s *Sheet) BySize() []int32 { return s.bySize }

// Titles are those that were judged.
func (s *Sheet) Titles() []title.Title { return s.of.Titles }

// Facts are what the target can hold.
func (s *Sheet) Facts() target.Facts { return s.of.Facts }

// There is what is on the target.
func (s *Sheet) There() []target.Entry { return s.of.There }

// Loader is the loader that title i is for.
func (s *Sheet) Loader(i int) *Loader { return &s.of.Loaders[s.by[i]] }

// Loaders are those that the target is filled for.
func (s *Sheet) Loaders() []Loader { return s.of.Loaders }

// Placement is where title i goes.
func (s *Sheet) Placement(i int) *layout.Placement {
	return &s.of.Loaders[s.by[i]].Tree.Placements[i]
}

// Found are the paths under which title i is on the target while it should have others; nil for
// none.
func (s *Sheet) Found(i int) []string { return s.of.Found[i] }

// Limit is how many bytes a file can have.
func (s *Sheet) Limit() int64 { return s.of.Loaders[0].Tree.Destination().LargestFile() }

// Free is the space left when the chosen titles are there, in bytes; what is held in reserve is
// no part of it.
func (s *Sheet) Free() int64 { return s.space() + s.Released - s.Planned }

// space is what chosen titles can take.
func (s *Sheet) space() int64 {
	return s.of.Facts.Capacity - s.Kept - s.of.Reserve
}

// Choose sets which titles are wanted, by index. Titles that no loader concerns are never
// chosen.
func (s *Sheet) Choose(chosen func(i int) bool) {
	for i := range s.Chosen {
		s.Chosen[i] = s.base[i].Kind != Foreign && chosen(i)
	}
	s.settle()
}

// SetGone says which titles were deleted on the target, by index.
func (s *Sheet) SetGone(gone func(i int) bool) { s.gone = gone }

// Put sets whether one title is wanted. While everything has space, that is a matter of this title
// alone.
func (s *Sheet) Put(i int, wanted bool) {
	if s.Chosen[i] == wanted || s.base[i].Kind == Foreign {
		return
	}
	s.Chosen[i], s.yield = wanted, nil
	if s.lacking > 0 || s.apart[i] || s.freedBy != nil || s.bareHeads() {
		s.settle()
		return
	}
	if !wanted {
		s.drop(i)
		return
	}
	if s.target(i); s.lacking > 0 || s.placed[i] && !s.dressOne(i) {
		s.settle()
	}
}

// Rank sets how much titles are wanted; nil for all alike.
func (s *Sheet) Rank(ranks []int8) {
	s.rankAll(ranks)
	s.settle()
}

func (s *Sheet) rankAll(ranks []int8) {
	s.ranks, s.order = ranks, nil
	if !slices.ContainsFunc(ranks, func(r int8) bool { return r != 0 }) {
		return
	}
	s.order = make([]int32, len(s.base))
	for i := range s.order {
		s.order[i] = int32(i)
	}
	slices.SortStableFunc(s.order, func(a, b int32) int { return int(ranks[b]) - int(ranks[a]) })
}

// rank is how much a title is wanted.
func (s *Sheet) rank(i int) int8 {
	if s.ranks == nil {
		return 0
	}
	return s.ranks[i]
}

// SetElsewhere reports how much space there is on another target of the same console, by the name of its
// attachment.
func (s *Sheet) SetElsewhere(others map[string]Elsewhere) {
	s.others = others
	s.settle()
}

// settle decides clashes and space, which depend on what is chosen. Chosen titles get space in
// the order of their rank, then of the list; one that finds too little is skipped, and
// smaller ones behind it may still go. Covers get what is left.
func (s *Sheet) settle() {
	s.Planned, s.Released, s.Count, s.New, s.yield = 0, 0, 0, 0, nil
	clear(s.placed)
	clear(s.missing)
	s.lacking = 0
	clear(s.bare)
	clear(s.follows)
	clear(s.crowded)
	s.swaps = nil
	clear(s.dressed)
	s.dress.Wanted, s.dress.Going, s.dress.Planned = 0, 0, 0
	s.names.reset()
	for k := range s.lists {
		s.lists[k].bytes, s.lists[k].fresh = 0, 0
	}
	for i, bytes := range s.freedBy {
		if !s.Chosen[i] {
			s.Released += bytes
		}
	}
	if s.order == nil {
		for i := range s.Chosen {
			if s.Chosen[i] {
				s.target(i)
			}
		}
	} else {
		for _, i := range s.order {
			if s.Chosen[i] {
				s.target(int(i))
			}
		}
	}
	s.dressAll()
}

// target gives a chosen title its space, or notes how much is missing.
func (s *Sheet) target(i int) {
	v := &s.base[i]
	if !v.Kind.Goes() {
		return
	}
	if s.apart[i] {
		if _, clash := s.rival(i); clash {
			return
		}
		if _, _, lacks := s.lacksDisk(i); lacks {
			return
		}
	}
	need, bare := int64(0), false
	if folder := s.names.crowds(i); folder >= 0 {
		if bare = v.Kind == Present; !bare {
			s.crowded[i] = folder + 1
			s.lacking++
			return
		}
	} else {
		need = v.Need + s.names.put(i) + s.emit(i, 1)
		if missing := s.lacks(i, need); missing > 0 {
			s.names.take(i)
			s.emit(i, -1)
			if bare = v.Kind == Present; !bare {
				s.missing[i] = missing
				s.lacking++
				return
			}
		}
	}
	if bare {
		s.bare[i], need = true, 0
	}
	s.placed[i] = true
	s.swap(i)
	s.Planned += need
	s.Count++
	if v.Kind != Present {
		s.New++
	}
}

// drop takes the space of a title back.
func (s *Sheet) drop(i int) {
	if !s.placed[i] {
		return
	}
	s.undress(i)
	s.unswap(i)
	s.placed[i] = false
	s.Count--
	if s.base[i].Kind != Present {
		s.New--
	}
	if s.bare[i] {
		delete(s.bare, i)
		return
	}
	s.Planned += s.emit(i, -1) - s.base[i].Need - s.names.take(i)
}

// Verdict is what holds for title i.
func (s *Sheet) Verdict(i int) Verdict {
	v := s.base[i]
	if v.Kind == Differs {
		// what is there is another title's that stays
		if other, clash := s.rival(i); clash && s.base[other].Kind == Present && s.Chosen[other] {
			v.Kind, v.Other = Clash, int32(other)
		}
	}
	if !v.Kind.Goes() || s.placed[i] {
		return v
	}
	if s.gone != nil && s.gone(i) {
		v.Kind = Deleted
		return v
	}
	if other, clash := s.rival(i); clash {
		v.Kind, v.Other = Clash, int32(other)
		return v
	}
	if _, missing, lacks := s.lacksDisk(i); lacks {
		v.Kind, v.Number = NeedsDisk, missing
		return v
	}
	if missing := s.missing[i]; missing > 0 {
		v.Kind, v.Number = NoSpace, missing
		return v
	}
	if folder := s.crowded[i]; folder > 0 {
		v.Kind, v.Number = FullFolder, int64(folder-1)
		return v
	}
	if s.Chosen[i] || v.Kind == Present {
		return v
	}
	if folder := s.names.crowds(i); folder >= 0 {
		v.Kind, v.Number = FullFolder, int64(folder)
		return v
	}
	if missing := s.lacks(i, s.Takes(i)-s.dress.Planned); missing > 0 {
		v.Kind, v.Number = NoSpace, missing
	}
	return v
}

// Fits is the verdict on title i if there were space for everything.
func (s *Sheet) Fits(i int) Verdict { return s.base[i] }

// Takes is the space that title i, which is not chosen, would take now, in bytes: its files, and what folders and lists
// grow by.
func (s *Sheet) Takes(i int) int64 {
	if v := &s.base[i]; v.Kind.Goes() {
		return v.Need + s.names.growth(i) + s.emitting(i, 1)
	}
	return s.base[i].Need
}

// lacksDisk reports whether a title that the console copies to its own disk first finds no space
// there.
func (s *Sheet) lacksDisk(i int) (on Elsewhere, missing int64, lacks bool) {
	rule := s.Placement(i).Rule
	if rule == nil || rule.AlsoNeeds == "" {
		return on, 0, false
	}
	on, ok := s.others[rule.AlsoNeeds]
	if missing = s.of.Titles[i].Size() - on.Free; !ok || missing <= 0 {
		return on, 0, false
	}
	return on, missing, true
}

// Lacks reports whether a title that the console copies to its own disk first finds no space there.
func (s *Sheet) Lacks(i int) bool {
	_, _, lacks := s.lacksDisk(i)
	return lacks
}

// rival returns the title that has this one's path: what is on the target
// already, else the first chosen one, else the first of them all.
func (s *Sheet) rival(i int) (int, bool) {
	rivals := s.Placement(i).Rivals
	if len(rivals) == 0 {
		return i, false
	}
	rank := func(j int) int {
		r := j
		if !s.Chosen[j] {
			r += len(s.base)
		}
		if s.base[j].Kind != Present {
			r += 2 * len(s.base)
		}
		return r
	}
	best := i
	for _, j := range rivals {
		if s.by[j] == s.by[i] && s.base[j].Kind.Goes() && rank(j) < rank(best) {
			best = j
		}
	}
	return best, best != i
}

// Clone copies the sheet as far as choices change it, so that another goroutine can read it.
func (s *Sheet) Clone() *Sheet {
	c := *s
	c.Chosen, c.placed = slices.Clone(s.Chosen), slices.Clone(s.placed)
	c.missing, c.dressed = slices.Clone(s.missing), slices.Clone(s.dressed)
	n := *s.names
	n.all = slices.Clone(s.names.all)
	c.names = &n
	c.lists = slices.Clone(s.lists)
	c.bare, c.follows, c.crowded, c.yield = maps.Clone(s.bare), maps.Clone(s.follows), slices.Clone(s.crowded), nil
	return &c
}
