package fit

import (
	"path"

	"polytome/internal/target"
)

// names estimates the space that folders take: a cluster for each new one, and more when the names
// in it outgrow what it has. Folders are numbered once, so that putting or taking a title is
// plain arithmetic. What a set of titles takes does not depend on the order in which they are
// put.
type names struct {
	fs      target.Filesystem
	cluster int64
	numbers map[string]int32 // folded path -> number
	all     []folderNames
	touches []touch // of all titles, one after another
	// most is how many bytes of names a folder holds, and rootMost those of the root; 0 for no limit.
	most, rootMost int64
	from           []int32 // where the touches of each title begin, and at the end where the last end
}

// folderNames is one folder and the names in it.
type folderNames struct {
	path   string
	parent int32 // -1 for the root
	own    int64 // bytes that its own name takes in its parent
	exists bool
	before int64 // bytes of the names in it now
	holds  int64 // bytes of names that its clusters have space for, as far as that is known
	count  int32 // names that titles have added
	bytes  int64 // of those
}

// touch is what a title adds to one folder.
type touch struct {
	folder int32
	count  int32
	bytes  int32
	raised bool // its own name is added to its parent
}

const root = int32(0)

func newNames(facts target.Facts, there []target.Entry, fold func(string) string, titles int) *names {
	n := &names{fs: facts.Filesystem, cluster: facts.Cluster, numbers: map[string]int32{".": root},
		all: []folderNames{{parent: -1, exists: true, before: -facts.Filesystem.Dots()}}, from: make([]int32, 1,
			titles+1)}
	n.most, n.rootMost = n.fs.FolderMost(false), n.fs.FolderMost(true)
	for _, e := range there {
		if e.Folder {
			n.all[n.number(e.Path, fold)].exists = true
		}
	}
	for _, e := range there {
		n.all[n.number(path.Dir(e.Path), fold)].before += n.fs.EntryBytes(path.Base(e.Path))
	}
	return n
}

// number finds the number of a folder, and gives it one where it has none.
func (n *names) number(dir string, fold func(string) string) int32 {
	if dir == "." || dir == "" {
		return root
	}
	key := fold(dir)
	if at, ok := n.numbers[key]; ok {
		return at
	}
	above := path.Dir(dir)
	if above == dir { // no path of a target
		return root
	}
	parent := n.number(above, fold)
	at := int32(len(n.all))
	n.numbers[key] = at
	n.all = append(n.all, folderNames{path: dir, parent: parent, own: n.fs.EntryBytes(path.Base(dir))})
	return at
}

// reserve books the name of a file that is written whatever is chosen, makes the folders above it where there are none,
// and returns the bytes by which folders grow.
func (n *names) reserve(file string, fold func(string) string) (grown int64) {
	return n.name(n.number(path.Dir(file), fold), n.fs.EntryBytes(path.Base(file)))
}

// name adds a name to those that a folder has now.
func (n *names) name(folder int32, bytes int64) (grown int64) {
	f := &n.all[folder]
	if f.exists {
		grown = -n.fs.FolderSpace(f.before, n.cluster)
	} else {
		grown = n.name(f.parent, f.own)
		f.exists = true
	}
	f.before += bytes
	return grown + n.fs.FolderSpace(f.before, n.cluster)
}

// add notes that a title has a file in a folder.
func add(list []touch, folder int32, bytes int64) []touch {
	for i := range list {
		if list[i].folder == folder {
			list[i].count++
			list[i].bytes += int32(bytes)
			return list
		}
	}
	return append(list, touch{folder: folder, count: 1, bytes: int32(bytes)})
}

// closure adds the folders that have to be made for a title, or that go with it when it is taken,
// to what it touches: a folder with its first name gets one in its parent, and loses it with
// its last.
func (n *names) closure(list []touch, taken bool) []touch {
	for again := true; again; {
		again = false
		for i := 0; i < len(list); i++ {
			t := &list[i]
			f := &n.all[t.folder]
			turns := f.count == 0
			if taken {
				turns = f.count == t.count
			}
			if t.raised || !turns || f.exists || f.parent < 0 {
				continue
			}
			t.raised, again = true, true
			list = add(list, f.parent, f.own)
		}
	}
	return list
}

// cost is the change in space of what is touched, in bytes.
func (n *names) cost(list []touch, sign int32) (grown int64) {
	for _, t := range list {
		f := &n.all[t.folder]
		grown += n.space(f, f.count+sign*t.count, f.bytes+int64(sign*t.bytes)) - n.space(f, f.count, f.bytes)
	}
	return grown
}

// space is what a folder takes beyond what it has now.
func (n *names) space(f *folderNames, count int32, bytes int64) int64 {
	switch {
	case f.exists:
		return n.fs.FolderSpace(f.before+bytes, n.cluster) - n.fs.FolderSpace(f.before, n.cluster)
	case count == 0:
		return 0
	}
	return n.fs.FolderSpace(bytes, n.cluster)
}

func (n *names) apply(list []touch, sign int32) {
	for _, t := range list {
		f := &n.all[t.folder]
		f.count += sign * t.count
		f.bytes += int64(sign * t.bytes)
		f.holds = 0
	}
}

// underWay is what the folder of a file holds for a moment beside all names: one under which it is written, and what
// the volume keeps there itself.
const underWay = 1024

// crowded finds the folder that cannot hold what is touched, -1 for none.
func (n *names) crowded(list []touch) int32 {
	for _, t := range list {
		f := &n.all[t.folder]
		most := n.most
		if t.folder == root {
			most = n.rootMost
		}
		if bytes := f.before + f.bytes + int64(t.bytes); most > 0 && (bytes > most-underWay ||
			n.fs.FolderSpace(bytes, 1) > most-underWay) {
			return t.folder
		}
	}
	return -1
}

// crowds is the folder that cannot hold what title i adds, -1 for none.
func (n *names) crowds(i int) int32 {
	if n.most == 0 {
		return -1
	}
	list := n.of(i)
	for k := range list {
		if f := &n.all[list[k].folder]; !f.exists && f.count == 0 { // it has to be made, and has a name itself
			var space [few]touch
			return n.crowded(n.closure(append(space[:0], list...), false))
		}
	}
	return n.crowded(list)
}

// few is how many folders a title seldom has more of.
const few = 12

// note takes in what the next title adds.
func (n *names) note(list []touch) {
	n.touches = append(n.touches, list...)
	n.from = append(n.from, int32(len(n.touches)))
}

// of is what title i adds.
func (n *names) of(i int) []touch { return n.touches[n.from[i]:n.from[i+1]] }

// growth is by how many bytes folders would grow with title i.
func (n *names) growth(i int) int64 {
	var space [few]touch
	return n.cost(n.closure(append(space[:0], n.of(i)...), false), 1)
}

// put books title i's names, and returns the bytes by which folders grow.
func (n *names) put(i int) int64 {
	if grown, ok := n.putQuickly(i); ok {
		return grown
	}
	var space [few]touch
	list := n.closure(append(space[:0], n.of(i)...), false)
	grown := n.cost(list, 1)
	n.apply(list, 1)
	return grown
}

// putQuickly is put for a title all of whose folders are there or wanted by others already: then
// nothing but their lengths changes.
func (n *names) putQuickly(i int) (grown int64, ok bool) {
	list := n.of(i)
	for k := range list {
		if f := &n.all[list[k].folder]; !f.exists && f.count == 0 {
			return 0, false
		}
	}
	for k := range list {
		t := &list[k]
		f := &n.all[t.folder]
		before := f.before + f.bytes // of a folder that is new, nothing is there before
		f.count += t.count
		f.bytes += int64(t.bytes)
		if after := before + int64(t.bytes); after > f.holds {
			had := n.fs.FolderSpace(before, n.cluster)
			space := n.fs.FolderSpace(after, n.cluster)
			grown += space - had
			f.holds = n.fs.FolderHolds(space)
		}
	}
	return grown, true
}

// take takes title i's names back, and returns the bytes by which folders shrink.
func (n *names) take(i int) int64 {
	var space [few]touch
	list := n.closure(append(space[:0], n.of(i)...), true)
	shrunk := n.cost(list, -1)
	n.apply(list, -1)
	return -shrunk
}

func (n *names) reset() {
	for i := range n.all {
		n.all[i].count, n.all[i].bytes, n.all[i].holds = 0, 0, 0
	}
}

// portion is what title i adds to the space that folders take, as far as it can be known for it alone: the
// bytes of its names, and the clusters of the folders that only it needs.
func (n *names) portion(i int, users []int32) (bytes int64) {
	for _, t := range n.of(i) {
		f := &n.all[t.folder]
		if f.exists || users[t.folder] > 1 {
			bytes += int64(t.bytes)
			continue
		}
		bytes += n.fs.FolderSpace(int64(t.bytes), n.cluster) + f.own
	}
	return bytes
}

// users counts the titles that have files in each folder.
func (n *names) users() []int32 {
	out := make([]int32, len(n.all))
	for _, t := range n.touches {
		out[t.folder]++
	}
	return out
}

// slack is how much space the folders that several titles use may take beyond their portions: a
// cluster of each, and those above them.
func (n *names) slack(users []int32) (bytes int64) {
	shared := map[int32]bool{}
	for i := range users {
		if users[i] > 1 || users[i] == 1 && n.all[i].exists {
			for at := int32(i); at >= 0 && !shared[at]; at = n.all[at].parent {
				shared[at] = true
			}
		}
	}
	return int64(len(shared)) * n.cluster
}

// Portions reports what each title takes on the target, as a share of the whole that does not depend on
// which others are there, and how much of the target's space is to be left for what cannot be
// distributed so. Titles that do not go have none.
func (s *Sheet) Portions() (of func(i int) int64, slack int64) {
	users := s.names.users()
	return func(i int) int64 {
		if !s.base[i].Kind.Goes() {
			return 0
		}
		return s.base[i].Need + s.names.portion(i, users) // covers get what is left
	}, s.names.slack(users)
}

// Space is what chosen titles can take in all, beside what is there and stays, less the reserve.
func (s *Sheet) Space() int64 { return s.space() }

// folderName is a folder by its number, for what is reported.
func (s *Sheet) folderName(folder int32) string {
	if folder == root {
		return "the root folder"
	}
	return s.names.all[folder].path
}
