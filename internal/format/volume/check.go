package volume

import (
	"context"
	"errors"
	"fmt"
	"math/bits"
	"slices"

	"polytome/internal/size"
)

// Kind is what kind of thing is wrong.
type Kind string

const (
	Lost    Kind = "lost clusters"
	Crossed Kind = "cross-linked files"
	Twice   Kind = "one file under two names"
	Chain   Kind = "broken chain"
	Length  Kind = "wrong length"
	Entries Kind = "wrong entries"
	Unheld  Kind = "used clusters marked free"
	Tables  Kind = "tables that differ"
	Count   Kind = "wrong free space count"
	Unclean Kind = "not ejected cleanly"
	Boot    Kind = "wrong boot sector"
	Unread  Kind = "cannot be read"
)

// A Finding is something wrong on a volume.
type Finding struct {
	Kind Kind   `json:"kind"`
	Path string `json:"path,omitempty"`
	Say  string `json:"say"`
	// Repair is what repairing does about it, "" where nothing can be done.
	Repair string `json:"fix,omitempty"`
	fix    func() error
	node   *Node // that it is about
}

// A Health is what a check found.
type Health struct {
	Findings   []Finding `json:"findings"`
	Files      int       `json:"files"`
	Folders    int       `json:"folders"`
	Fragmented int       `json:"fragmented"` // files that lie in more than one
	Bytes      int64     `json:"bytes"`      // of the files
	Free       int64     `json:"free"`       // bytes
	strange    int       // folders that are none
}

// OK reports whether nothing is wrong.
func (h *Health) OK() bool { return len(h.Findings) == 0 }

// bitmap notes clusters.
type bitmap []uint64

func (b bitmap) has(c uint32) bool { return b[c/64]&(1<<(c%64)) != 0 }

// some reports whether any cluster of a run was noted.
func (b bitmap) some(r Run) bool {
	for c := r.First; c < r.End(); c++ {
		if b.has(c) {
			return true
		}
	}
	return false
}

// add notes a run, and returns the first cluster that was noted before, 0 for none.
func (b bitmap) add(r Run) (twice uint32) {
	for c := r.First; c < r.End(); c++ {
		if c%64 == 0 && r.End()-c >= 64 && b[c/64] == 0 {
			b[c/64] = ^uint64(0)
			c += 63
			continue
		}
		if b.has(c) && twice == 0 {
			twice = c
		}
		b[c/64] |= 1 << (c % 64)
	}
	return twice
}

// Check reads every folder and chain, and compares them with the tables. Nothing is written.
func (v *Volume) Check(ctx context.Context) (*Health, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.broken != nil {
		return nil, v.broken
	}
	if err := v.flush(); err != nil {
		return nil, err
	}
	return v.check(ctx)
}

// checker is a check under way.
type checker struct {
	v        *Volume
	h        *Health
	seen     bitmap
	unread   bool // something could not be read, so what seems lost may be of it
	crossing []*Node
	flats    []*Node // that are contiguous, as they say, and say that it is longer than can be
	lost     []Run   // taken, and nothing has them
	strange  []*Node // folders that are none, so that nothing is written to where they seem to lie
}

func (c *checker) add(kind Kind, n *Node, say, repair string, fix func() error) {
	f := Finding{Kind: kind, Say: say, Repair: repair, fix: fix, node: n}
	if n != nil {
		f.Path = n.Path()
	}
	c.h.Findings = append(c.h.Findings, f)
}

func (v *Volume) check(ctx context.Context) (*Health, error) {
	v.space = nil // as the tables have it
	if err := v.load(ctx); err != nil {
		return nil, err
	}
	c := &checker{v: v, h: &Health{Findings: []Finding{}}, seen: make(bitmap, (uint64(v.info.Clusters)+2+63)/64),
		unread: v.keepLost}
	if err := v.walk(ctx, c.node); err != nil {
		return nil, err
	}
	c.overlong()
	tables := make(bitmap, len(c.seen))
	if slices.ContainsFunc(v.f.Own(), func(r Run) bool { return c.seen.some(r) || tables.add(r) != 0 }) {
		c.h.Findings = []Finding{{Kind: Crossed,
			Say: "The volume's tables overlap each other or files: nothing in it can be trusted, so nothing is " +
				"repaired."}}
		return c.h, nil
	}
	held, err := c.compare()
	if err != nil {
		return nil, err
	}
	c.without(c.strange)
	if err := c.crossed(ctx); err != nil {
		return nil, err
	}
	c.tables(held)
	faults, err := v.f.Faults(ctx, uint32(v.space.free))
	if err != nil {
		return nil, err
	}
	for _, f := range faults {
		if f.FixIn != nil {
			f.Fix = func() error {
				run, ok := v.space.one(uint32(v.clusters(f.Need)))
				if !ok {
					return fmt.Errorf("there is no space for it: %w", ErrNoSpace)
				}
				if err := v.link([]Run{run}, false); err != nil {
					return err
				}
				if err := v.flush(); err != nil {
					return err
				}
				return f.FixIn(run)
			}
		}
		c.add(f.Kind, nil, f.Say, f.Repair, f.Fix)
	}
	v.keepLost = c.unread
	c.h.Free = int64(v.space.free) * v.info.Cluster
	return c.h, nil
}

// node looks at one file or folder.
func (c *checker) node(n *Node, err error) {
	v := c.v
	if n.Folder {
		c.h.Folders++
	} else {
		c.h.Files++
		c.h.Bytes += max(0, min(n.Size, v.info.Size))
	}
	runs, chainErr := v.runsOf(n)
	var ce *ChainError
	switch {
	case chainErr != nil && errors.As(chainErr, &ce):
		if n.Flat && len(runs) > 0 {
			c.flats = append(c.flats, n)
			return
		}
		c.chain(n, runs, chainErr)
	case chainErr != nil || err != nil:
		if chainErr == nil {
			chainErr = err
		}
		c.unread = true
		c.add(Unread, n, fmt.Sprintf("It cannot be read: %v.", chainErr), "", nil)
	case n.Folder && n.parent != nil && !v.f.IsFolder(n, n.dir.data):
		c.noFolder(n)
	case !n.Folder || v.f.FolderSizes() && n.parent != nil:
		c.length(n, runs)
	}
	if len(Merge(runs)) > 1 && !n.Folder {
		c.h.Fragmented++
	}
	c.take(n, runs)
	if n.Folder && err == nil && (n.parent == nil || v.f.IsFolder(n, n.dir.data)) {
		c.folder(n)
	}
}

// noFolder describes a folder that is where none is.
func (c *checker) noFolder(n *Node) {
	c.unread = true
	c.strange = append(c.strange, n)
	c.h.strange++
	c.add(Chain, n, "There is no folder where it should be.",
		"It becomes an empty folder. Clusters that nothing has stay as they are: what was in it may lie there.",
		func() error { return c.emptied(n) })
}

// take notes the clusters of a node.
func (c *checker) take(n *Node, runs []Run) {
	for _, r := range runs {
		if c.seen.add(r) != 0 && !slices.Contains(c.crossing, n) {
			c.crossing = append(c.crossing, n)
		}
	}
}

// overlong describes files and folders that are contiguous and say that it is longer than the volume: they end where
// clusters of others, or free ones, begin.
func (c *checker) overlong() {
	v := c.v
	for _, n := range c.flats {
		end := n.First + 1
		for _, r := range n.runs {
			for end < r.End() && !c.seen.has(end) && !v.space.has(end) {
				end++
			}
		}
		runs := []Run{{n.First, end - n.First}}
		have := count(runs) * v.info.Cluster
		c.unread = c.unread || n.Folder
		c.add(Chain, n, fmt.Sprintf("It says that it has %s, which is more than there is space for.",
			size.Format(n.Size)),
			fmt.Sprintf("It ends where clusters of others begin: %s stay.", size.Format(have)),
			func() error { return c.end(n, runs, have) })
		c.take(n, runs)
	}
}

// chain describes a chain that cannot be followed to its end.
func (c *checker) chain(n *Node, runs []Run, err error) {
	v := c.v
	have := count(runs) * v.info.Cluster
	c.unread = c.unread || n.Folder
	switch {
	case n.Folder && len(runs) == 0 && n.parent == nil:
		c.add(Chain, n, fmt.Sprintf("The folder cannot be read: %v.", err), "", nil)
	case n.Folder && len(runs) == 0:
		c.add(Chain, n, fmt.Sprintf("The folder cannot be read: %v.", err),
			"It becomes an empty folder. Clusters that nothing has stay as they are: what was in it may lie there.",
			func() error { return c.emptied(n) })
	case n.Folder && n.parent != nil && !c.begins(n, runs):
		c.noFolder(n)
	case n.Folder:
		c.add(Chain, n, fmt.Sprintf("After %s, %v.", size.Format(have), err),
			"It ends there. Clusters that nothing has stay as they are: what was named behind may lie there.",
			func() error {
				n.dir = &folder{fixed: n.dir.fixed}
				return c.end(n, runs, have)
			})
	default:
		c.add(Chain, n, fmt.Sprintf("After %s, %v.", size.Format(have), err),
			fmt.Sprintf("It ends there: %s of %s stay.", size.Format(min(have, n.Size)), size.Format(n.Size)),
			func() error { return c.end(n, runs, min(have, n.Size)) })
	}
}

// begins reports whether the first of some clusters is that of a folder.
func (c *checker) begins(n *Node, runs []Run) bool {
	b := make([]byte, c.v.info.Cluster)
	_, err := c.v.dev.ReadAt(b, c.v.offset(runs[0].First))
	return err == nil && c.v.f.IsFolder(n, b)
}

// length compares what a file or folder says that it has with what its clusters hold.
func (c *checker) length(n *Node, runs []Run) {
	v := c.v
	have, want := count(runs), v.clusters(n.Size)
	bytes := have * v.info.Cluster
	longer := fmt.Sprintf("It gets the length of its clusters, %s.", size.Format(bytes))
	switch {
	case n.Folder && n.Size != bytes:
		c.add(Length, n, fmt.Sprintf("It says that it has %s, and its clusters hold %s.", size.Format(n.Size),
			size.Format(bytes)), longer, func() error { return c.end(n, runs, bytes) })
	case n.Size > v.f.LargestFile():
		c.add(Length, n, "It is longer than a file can be.", longer,
			func() error { return c.end(n, runs, min(bytes, v.f.LargestFile())) })
	case have < want:
		c.add(Length, n, fmt.Sprintf("It says that it has %s, and its clusters hold %s.", size.Format(n.Size),
			size.Format(bytes)), longer, func() error { return c.end(n, runs, bytes) })
	case have > want:
		c.behind(n, runs, want)
	case n.Valid > n.Size:
		c.add(Length, n, "It says that more of it was written than it has.", "They are corrected.",
			func() error { n.Valid = n.Size; return v.patch(n) })
	}
}

// behind describes clusters that a file has behind its end. If anything is there, it may be the file's, whose length
// is wrong.
func (c *checker) behind(n *Node, runs []Run, want int64) {
	v := c.v
	head, tail := split(runs, want)
	say := fmt.Sprintf("It has %s, and clusters for %s.", size.Format(n.Size), size.Format(count(runs)*v.info.Cluster))
	zeros, err := v.allZeros(tail)
	switch {
	case err != nil:
		c.unread = true
		c.add(Unread, n, fmt.Sprintf("%s What follows its end cannot be read: %v.", say, err), "", nil)
	case zeros:
		c.add(Length, n, say, "The clusters behind its end are freed: there is nothing in them.", func() error {
			v.release = append(v.release, tail...)
			return c.end(n, head, n.Size)
		})
	default:
		name := v.freeName(n.parent.dir, nil, rest(n.Name))
		c.add(Length, n, say, fmt.Sprintf("What follows its end becomes a file of its own, %s.", name),
			func() error {
				name := v.freeName(n.parent.dir, nil, rest(n.Name)) // others may have got it meanwhile
				return c.apart(n, head, tail, name)
			})
	}
}

// folder looks at the entries of a folder.
func (c *checker) folder(n *Node) {
	v, d := c.v, n.dir
	wrong := slices.Clone(d.wrong) // new entries come last: they may stand where something else has to go first
	slices.SortStableFunc(wrong, func(a, b Wrong) int {
		switch {
		case a.Rename == b.Rename:
			return 0
		case a.Rename:
			return 1
		}
		return -1
	})
	for _, w := range wrong {
		k := slices.IndexFunc(d.kids, func(k *Node) bool { return k.at == w.At })
		switch {
		case w.Rename && k >= 0:
			kid := d.kids[k]
			c.add(Entries, n, upper(w.Say)+".", fmt.Sprintf("It is named %s from then on.",
				v.freeName(d, kid, kid.Name)), func() error {
				return v.rename(kid, n, v.freeName(d, kid, kid.Name), true)
			})
		case w.Repair != nil:
			c.add(Entries, n, upper(w.Say)+".", "The entries are put right.", func() error {
				w.Repair(d.data[w.At : w.At+w.N*entryLength])
				v.mark(n, w.At, w.N*entryLength)
				return nil
			})
		default:
			c.add(Entries, n, upper(w.Say)+".", "The entries are removed: they have no data.",
				func() error { v.vacate(n, w.At, w.N); return nil })
		}
	}
	if n.parent != nil && !v.f.HeadRight(d.data, n, n.parent) && v.f.IsFolder(n, d.data) {
		c.add(Entries, n, "Its entries for itself and its parent are wrong.", "They are corrected.",
			func() error { return c.head(n) })
	}
}

// head writes the first entries of a folder again. What stands there and is something else moves.
func (c *checker) head(n *Node) error {
	v, d := c.v, n.dir
	head := v.f.NewFolder(n, n.parent)
	for _, k := range slices.Clone(d.kids) {
		if k.at < len(head) {
			if err := v.rename(k, n, k.Name, false); err != nil {
				return err
			}
		}
	}
	copy(d.data, head)
	v.mark(n, 0, len(head))
	return nil
}

func upper(s string) string {
	if s == "" || s[0] < 'a' || s[0] > 'z' {
		return s
	}
	return string(s[0]-'a'+'A') + s[1:]
}

// crossed describes files that have clusters of others.
func (c *checker) crossed(ctx context.Context) error {
	v := c.v
	if len(c.crossing) == 0 {
		return nil
	}
	owner := map[uint32]*Node{} // by first cluster
	err := v.walk(ctx, func(n *Node, _ error) {
		if n.First != 0 && owner[n.First] == nil {
			owner[n.First] = n
		}
	})
	if count(c.lost) > 0 {
		c.unread = true // whoever points at another's clusters may have had those
	}
	for _, n := range c.crossing {
		if n.Folder { // nothing may be written to where it is not alone
			c.h.Findings = slices.DeleteFunc(c.h.Findings, func(f Finding) bool { return f.node == n })
		}
	}
	c.without(c.crossing)
	c.crossing = slices.DeleteFunc(c.crossing, func(n *Node) bool { return slices.Contains(c.strange, n) })
	for _, n := range c.crossing {
		runs := n.runs
		if o := owner[n.First]; o != nil && o != n && o.Folder == n.Folder && o.Size == n.Size && count(c.lost) == 0 {
			if n.Folder && o.parent != nil && n.dir != nil && o.dir != nil && v.f.HeadRight(n.dir.data, n, n.parent) &&
				!v.f.HeadRight(o.dir.data, o, o.parent) {
				n, o = o, n // the one that knows its place stays
			}
			if n.parent != nil {
				c.add(Twice, n, fmt.Sprintf("It is the same as %s: rewriting its label was interrupted.", o.Path()),
					"This name is removed; the other one stays, with all that is in it.",
					func() error { v.drop(n); return nil })
				continue
			}
		}
		if n.parent == nil {
			c.unread = true
			c.add(Crossed, n, "The root folder has clusters of something else.", "", nil)
			continue
		}
		if n.Folder && (n.dir == nil || !v.f.IsFolder(n, n.dir.data)) {
			c.unread = true
			c.add(Crossed, n, "The folder has clusters of something else, which are no folder.",
				"It becomes an empty folder. Clusters that nothing has stay as they are: what was in it may lie there.",
				func() error { return c.emptied(n) })
			continue
		}
		c.add(Crossed, n, "It has clusters of something else as well.",
			"It is copied to clusters of its own; only its content shows which of the two is damaged.", func() error {
				to, ok := v.space.some(uint32(count(runs)))
				if !ok {
					return fmt.Errorf("%s has clusters of something else, and there is no space to copy it: %w",
						n.Path(),
						ErrNoSpace)
				}
				rest := runs
				for _, r := range to {
					var part []Run
					part, rest = split(rest, int64(r.Count))
					if err := v.copyRuns(ctx, part, r, nil); err != nil {
						return err
					}
				}
				return v.resettle(n, nil, to) // the old ones are the other's
			})
	}
	return err
}

// without drops what was found inside of folders that are to be repaired first.
func (c *checker) without(folders []*Node) {
	c.h.Findings = slices.DeleteFunc(c.h.Findings, func(f Finding) bool {
		return f.node != nil && slices.ContainsFunc(folders,
			func(o *Node) bool { return o.Folder && inside(f.node, o) })
	})
	c.crossing = slices.DeleteFunc(c.crossing, func(n *Node) bool {
		return slices.ContainsFunc(folders, func(o *Node) bool { return o != n && o.Folder && inside(n, o) })
	})
}

// inside reports whether n lies somewhere below a folder.
func inside(n, folder *Node) bool {
	for a := n.parent; a != nil; a = a.parent {
		if a == folder {
			return true
		}
	}
	return false
}

// compare finds the clusters that are taken and nothing has, and those that are in use and called free.
func (c *checker) compare() (held []Run, err error) {
	v := c.v
	var lost []Run
	next := uint32(2)
	taken := func(r Run) {
		for at := r.First; at < r.End(); at++ {
			if at%64 == 0 && r.End()-at >= 64 && c.seen[at/64] == ^uint64(0) {
				at += 63
				continue
			}
			if !c.seen.has(at) {
				lost = Append(lost, Run{at, 1})
			}
		}
	}
	for _, r := range v.space.runs {
		taken(Run{next, r.First - next})
		for at := r.First; at < r.End(); at++ {
			if w := c.seen[at/64] >> (at % 64); w == 0 {
				at += 63 - at%64
			} else if at += uint32(bits.TrailingZeros64(w)); at < r.End() {
				held = Append(held, Run{at, 1})
			}
		}
		next = r.End()
	}
	taken(Run{next, v.info.Clusters + 2 - next})
	var free []Run
	for _, r := range lost {
		kept, err := v.f.Kept(r)
		if err != nil {
			return nil, err
		}
		at := r.First
		for _, k := range kept {
			free = append(free, Run{at, k.First - at})
			at = k.End()
		}
		free = append(free, Run{at, r.End() - at})
	}
	c.lost = Merge(free)
	return held, nil
}

// tables describes what the tables have wrong.
func (c *checker) tables(held []Run) {
	v, free := c.v, c.lost
	if n := count(free); n > 0 {
		f := Finding{Kind: Lost, Say: fmt.Sprintf(
			"%s, %s, that no file has: something was interrupted while it was written.", size.Count(int(n), "cluster"),
			size.Format(n*v.info.Cluster)),
			Repair: "They are freed.", fix: func() error { v.release = append(v.release, free...); return nil }}
		if c.unread {
			f.Repair, f.fix = "", nil
			f.Say += " They may belong to what cannot be read, so they stay."
		}
		c.h.Findings = append(c.h.Findings, f)
	}
	if n := count(held); n > 0 {
		c.add(Unheld, nil, fmt.Sprintf("%s that files have %s called free: the next thing written would damage them.",
			size.Count(int(n), "cluster"), are(n)), "They are marked as taken.", func() error {
			for _, r := range held {
				if !v.space.at(r) {
					return errors.New("clusters of files were given away")
				}
			}
			v.tables = true
			return v.f.Link(held, true)
		})
	}
}

func are(n int64) string {
	if n == 1 {
		return "is"
	}
	return "are"
}
