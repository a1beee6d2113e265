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

// The kinds.
const (
	Lost    Kind = "lost clusters"
	Crossed Kind = "crossed files"
	Twice   Kind = "one file under two names"
	Chain   Kind = "broken chain"
	Length  Kind = "wrong length"
	Entries Kind = "wrong entries"
	Unheld  Kind = "clusters called free"
	Tables  Kind = "tables that differ"
	Count   Kind = "wrong count of what is free"
	Unclean Kind = "not let go of"
	Boot    Kind = "wrong boot sector"
	Unread  Kind = "cannot be read"
)

// A Finding is something wrong on a volume.
type Finding struct {
	Kind Kind   `json:"kind"`
	Path string `json:"path,omitempty"`
	Say  string `json:"say"`
	// Mend is what repairing does about it, "" where nothing can be done.
	Mend string `json:"mend,omitempty"`
	fix  func() error
}

// A Health is what a check found.
type Health struct {
	Findings []Finding `json:"findings"`
	Files    int       `json:"files"`
	Folders  int       `json:"folders"`
	InPieces int       `json:"in-pieces"` // files that lie in more than one
	Bytes    int64     `json:"bytes"`     // of the files
	Free     int64     `json:"free"`      // bytes
}

// Sound reports whether nothing is wrong.
func (h *Health) Sound() bool { return len(h.Findings) == 0 }

// bitmap notes clusters.
type bitmap []uint64

func (b bitmap) has(c uint32) bool { return b[c/64]&(1<<(c%64)) != 0 }

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
}

func (c *checker) add(kind Kind, n *Node, say, mend string, fix func() error) {
	f := Finding{Kind: kind, Say: say, Mend: mend, fix: fix}
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
	c := &checker{v: v, h: &Health{Findings: []Finding{}}, seen: make(bitmap, (uint64(v.info.Clusters)+2+63)/64)}
	if err := v.walk(ctx, c.node); err != nil {
		return nil, err
	}
	if err := c.crossed(ctx); err != nil {
		return nil, err
	}
	if err := c.lost(); err != nil {
		return nil, err
	}
	faults, err := v.f.Faults(ctx, uint32(v.space.free))
	if err != nil {
		return nil, err
	}
	for _, f := range faults {
		c.add(f.Kind, nil, f.Say, f.Mend, f.Fix)
	}
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
		c.h.Bytes += n.Size
	}
	runs, chainErr := v.runsOf(n)
	var ce *ChainError
	switch {
	case chainErr != nil && errors.As(chainErr, &ce):
		c.chain(n, runs, chainErr)
	case chainErr != nil || err != nil:
		if chainErr == nil {
			chainErr = err
		}
		c.unread = true
		c.add(Unread, n, fmt.Sprintf("It cannot be read: %v.", chainErr), "", nil)
	case !n.Folder || v.f.FolderSizes() && n.parent != nil:
		c.length(n, runs)
	}
	if len(Merge(runs)) > 1 && !n.Folder {
		c.h.InPieces++
	}
	for _, r := range runs {
		if c.seen.add(r) != 0 && !slices.Contains(c.crossing, n) {
			c.crossing = append(c.crossing, n)
		}
	}
	if n.Folder && err == nil {
		c.folder(n)
	}
}

// chain tells of a chain that cannot be followed to its end.
func (c *checker) chain(n *Node, runs []Run, err error) {
	v := c.v
	have := count(runs) * v.info.Cluster
	if n.Folder && (len(runs) == 0 || n.parent == nil) {
		c.unread = n.parent == nil
		mend := "The folder is removed; what was in it becomes lost clusters."
		fix := func() error { v.drop(n); return nil }
		if n.parent == nil {
			mend, fix = "", nil
		}
		c.add(Chain, n, fmt.Sprintf("The folder cannot be read: %v.", err), mend, fix)
		return
	}
	mend := fmt.Sprintf("It is cut there: %s of %s stay.", size.Format(min(have, n.Size)), size.Format(n.Size))
	if n.Folder {
		mend = "It is cut there; what was named behind becomes lost clusters."
	}
	c.add(Chain, n, fmt.Sprintf("After %s, %v.", size.Format(have), err), mend, func() error {
		n.runs, n.runErr = runs, nil
		if n.dir != nil {
			n.dir = &folder{fixed: n.dir.fixed}
		}
		return c.cut(n, runs, min(n.Size, have))
	})
}

// cut gives a node so many bytes, and ends its chain behind them.
func (c *checker) cut(n *Node, runs []Run, length int64) error {
	v := c.v
	keep := v.clusters(length)
	if n.Folder {
		keep = count(runs)
	}
	head, tail := split(runs, keep)
	n.runs = head
	if n.Size = length; n.Folder {
		n.Size = 0
		if v.f.FolderSizes() {
			n.Size = keep * v.info.Cluster
		}
	}
	n.Valid = min(n.Valid, n.Size)
	switch {
	case len(head) == 0:
		n.First, n.Flat = 0, false
	case !n.Flat:
		v.ends = append(v.ends, head[len(head)-1].End()-1)
	}
	v.release = append(v.release, tail...)
	if n.parent == nil {
		return nil
	}
	return v.patch(n)
}

func (c *checker) length(n *Node, runs []Run) {
	v := c.v
	have, want := count(runs), v.clusters(n.Size)
	switch {
	case n.Size > v.f.LargestFile():
		c.add(Length, n, "It is longer than a file can be.", fmt.Sprintf("It gets the length of its clusters, %s.", size.Format(have*v.info.Cluster)), func() error {
			return c.cut(n, runs, min(have*v.info.Cluster, v.f.LargestFile()))
		})
	case have < want:
		c.add(Length, n, fmt.Sprintf("It says that it has %s, and its clusters hold %s.", size.Format(n.Size), size.Format(have*v.info.Cluster)),
			fmt.Sprintf("It gets the length of its clusters, %s.", size.Format(have*v.info.Cluster)), func() error { return c.cut(n, runs, have*v.info.Cluster) })
	case have > want:
		c.add(Length, n, fmt.Sprintf("It has %s, and clusters for %s.", size.Format(n.Size), size.Format(have*v.info.Cluster)),
			"The clusters behind its end are freed.", func() error { return c.cut(n, runs, n.Size) })
	case n.Valid > n.Size:
		c.add(Length, n, "It says that more of it was written than it has.", "That is put right.", func() error { n.Valid = n.Size; return v.patch(n) })
	}
}

// folder looks at the entries of a folder.
func (c *checker) folder(n *Node) {
	v, d := c.v, n.dir
	for _, w := range d.wrong {
		mend := "The entries are removed."
		if w.Mend != nil {
			mend = "The entries are put right."
		}
		c.add(Entries, n, upper(w.Say)+".", mend, func() error {
			if w.Mend == nil {
				v.vacate(n, w.At, w.N)
				return nil
			}
			w.Mend(d.data[w.At : w.At+w.N*entryLength])
			v.mark(n, w.At, w.N*entryLength)
			return nil
		})
	}
	if n.parent != nil && !v.f.HeadRight(d.data, n, n.parent) {
		c.add(Entries, n, "It does not tell rightly where it lies and what is above it.", "That is put right.", func() error {
			head := v.f.NewFolder(n, n.parent)
			copy(d.data, head)
			v.mark(n, 0, len(head))
			return nil
		})
	}
}

func upper(s string) string {
	if s == "" || s[0] < 'a' || s[0] > 'z' {
		return s
	}
	return string(s[0]-'a'+'A') + s[1:]
}

// crossed tells of files that have clusters of others.
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
	for _, n := range c.crossing {
		if slices.ContainsFunc(c.crossing, func(o *Node) bool { return o.Folder && inside(n, o) }) {
			continue // what is in a folder that is there twice is there twice as well
		}
		runs := n.runs
		if o := owner[n.First]; o != nil && o != n && o.Folder == n.Folder && o.Size == n.Size {
			if n.Folder && o.parent != nil && n.dir != nil && o.dir != nil && v.f.HeadRight(n.dir.data, n, n.parent) && !v.f.HeadRight(o.dir.data, o, o.parent) {
				n, o = o, n // the one that knows its place stays
			}
			c.add(Twice, n, fmt.Sprintf("It is the same as %s: renaming it was broken off.", o.Path()), "This name is removed; the other one stays, with all that is in it.", func() error { v.drop(n); return nil })
			continue
		}
		if n.Folder {
			c.add(Crossed, n, "The folder has clusters of something else.", "The folder is removed.", func() error { v.drop(n); return nil })
			continue
		}
		c.add(Crossed, n, "It has clusters of another file as well.", "It is copied to clusters of its own; which of the two is damaged, only its content tells.", func() error {
			to, ok := v.space.some(uint32(count(runs)))
			if !ok {
				return fmt.Errorf("%s has clusters of another file, and there is no room to copy it: %w", n.Path(), ErrFull)
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

// inside reports whether n lies somewhere below a folder.
func inside(n, folder *Node) bool {
	for a := n.parent; a != nil; a = a.parent {
		if a == folder {
			return true
		}
	}
	return false
}

// lost tells of clusters that are taken and nothing has, and of the opposite.
func (c *checker) lost() error {
	v := c.v
	var lost []Run
	var held []Run // in use and called free
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
			return err
		}
		at := r.First
		for _, k := range kept {
			free = append(free, Run{at, k.First - at})
			at = k.End()
		}
		free = append(free, Run{at, r.End() - at})
	}
	free = Merge(free)
	if n := count(free); n > 0 {
		f := Finding{Kind: Lost, Say: fmt.Sprintf("%s, %s, that no file has: something was broken off while it was written.", size.Count(int(n), "cluster"), size.Format(n*v.info.Cluster)),
			Mend: "They are freed.", fix: func() error { v.release = append(v.release, free...); return nil }}
		if c.unread {
			f.Mend, f.fix = "", nil
			f.Say += " They may belong to what cannot be read, so they stay."
		}
		c.h.Findings = append(c.h.Findings, f)
	}
	if n := count(held); n > 0 {
		c.add(Unheld, nil, fmt.Sprintf("%s that files have %s called free: the next thing written would damage them.", size.Count(int(n), "cluster"), are(n)), "They are marked as taken.", func() error {
			for _, r := range held {
				if !v.space.at(r) {
					return errors.New("clusters of files were given away")
				}
			}
			v.tables = true
			return v.f.Link(held, true)
		})
	}
	return nil
}

func are(n int64) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

// order is in which repairs are made.
var order = []Kind{Unheld, Twice, Entries, Chain, Crossed, Length, Lost, Tables, Boot, Count, Unclean}

// passes is how often is checked again after repairs, which can bring others to light.
const passes = 6

// Repair checks, mends what can be mended, and checks again. It returns what was found at first, and what is left.
func (v *Volume) Repair(ctx context.Context) (first, left *Health, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.flush(); err != nil {
		return nil, nil, err
	}
	if first, err = v.check(ctx); err != nil {
		return nil, nil, err
	}
	left = first
	for range passes {
		if !slices.ContainsFunc(left.Findings, func(f Finding) bool { return f.fix != nil }) {
			break
		}
		if err := v.may(ctx); err != nil {
			return first, left, err
		}
		var trouble error
		for _, kind := range order {
			some := false
			for _, f := range left.Findings {
				if f.Kind == kind && f.fix != nil {
					some = true
					if err := f.fix(); err != nil {
						trouble = errors.Join(trouble, err)
					}
				}
			}
			if some {
				if err := v.flush(); err != nil {
					return first, left, err
				}
				if kind == Entries || kind == Twice || kind == Chain || kind == Crossed {
					break // what else was found may be otherwise now
				}
			}
		}
		v.forget()
		if left, err = v.check(ctx); err != nil {
			return first, left, err
		}
		if trouble != nil {
			return first, left, trouble
		}
	}
	if !slices.ContainsFunc(left.Findings, func(f Finding) bool { return f.Kind != Count && f.Kind != Unclean }) {
		v.f.MarkWhole()
	}
	return first, left, nil
}

// forget has everything be read anew.
func (v *Volume) forget() {
	n, at, length := v.f.Root()
	n.Folder = true
	n.dir = &folder{fixed: length}
	v.root, v.rootAt = n, at
	clear(v.dirty)
}
