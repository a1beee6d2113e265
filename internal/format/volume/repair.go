package volume

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf16"
)

// Repairs keep to this: an entry that has data is renamed, and never removed, unless the same data has another name;
// clusters that an entry points to are not freed, unless there is nothing in them; a file ends where the clusters of
// another one begin; and what stays wrong is reported.

// order is in which repairs are made.
var order = []Kind{Unheld, Twice, Crossed, Chain, Entries, Length, Lost, Tables, Boot, Count, Unclean}

// alone are those after which everything is looked at again, as it may be otherwise.
var alone = []Kind{Twice, Crossed, Chain, Entries, Length}

// passes is how often is checked again after repairs, which can bring others to light.
const passes = 12

// Repair checks, repairs what can be repaired, and checks again. It returns what was found at first, and what is left.
func (v *Volume) Repair(ctx context.Context) (first, left *Health, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.flush(); err != nil {
		return nil, nil, err
	}
	v.keepLost = false
	if first, err = v.check(ctx); err != nil {
		return nil, nil, err
	}
	defer func() { v.keepLost = false }()
	if v.info.Repairable {
		v.info.ReadOnly = ""
	}
	left = first
	if first.nonsense() {
		for i := range first.Findings {
			first.Findings[i].Repair, first.Findings[i].fix = "", nil
		}
		first.Findings = append(first.Findings,
			Finding{Kind: Boot, Say: "More is wrong than right, so the volume is probably read in a wrong way, as " +
				"its boot sector is damaged: nothing is repaired."})
		return first, first, nil
	}
	failed := map[string]string{} // what could not be repaired, and why
	hopeless := func(f Finding) bool { return f.fix == nil || failed[f.Path+f.Say] != "" }
	for range passes {
		if !slices.ContainsFunc(left.Findings, func(f Finding) bool { return !hopeless(f) }) {
			break
		}
		if err := v.beginWrite(ctx); err != nil {
			return first, left, err
		}
		for _, kind := range order {
			some := false
			for _, f := range left.Findings {
				if f.Kind != kind || hopeless(f) {
					continue
				}
				if err := f.fix(); err != nil {
					if v.broken != nil || ctx.Err() != nil {
						return first, left, err
					}
					failed[f.Path+f.Say] = err.Error()
				} else {
					some = true
				}
			}
			if some {
				if err := v.flush(); err != nil {
					return first, left, err
				}
				if slices.Contains(alone, kind) {
					break
				}
			}
		}
		v.forget()
		if left, err = v.check(ctx); err != nil {
			return first, left, err
		}
	}
	for i := range left.Findings {
		if f := &left.Findings[i]; failed[f.Path+f.Say] != "" {
			f.Say += " That could not be repaired: " + failed[f.Path+f.Say] + "."
			f.Repair, f.fix = "", nil
		}
	}
	if !slices.ContainsFunc(left.Findings, func(f Finding) bool { return f.Kind != Count && f.Kind != Unclean }) {
		v.f.MarkWhole()
	}
	return first, left, nil
}

// nonsense reports whether so much is wrong that what is read is probably no folders and files at all.
func (h *Health) nonsense() bool {
	wrong := 0
	for _, f := range h.Findings {
		switch f.Kind {
		case Entries, Chain, Crossed, Twice, Length:
			wrong++
		}
	}
	return wrong > 12 && wrong > h.Files+h.Folders || h.strange > 1 && h.strange >= h.Folders-1
}

// forget has everything be read again.
func (v *Volume) forget() {
	n, at, length := v.f.Root()
	n.Folder = true
	n.dir = &folder{fixed: length}
	v.root, v.rootAt = n, at
	clear(v.dirty)
}

// end has a node have these clusters, of which length bytes count. Nothing is freed.
func (c *checker) end(n *Node, runs []Run, length int64) error {
	v := c.v
	n.runs, n.runErr, n.known = runs, nil, true
	n.Size = length
	n.Valid = min(n.Valid, n.Size)
	if n.Folder {
		if n.Valid = n.Size; !v.f.FolderSizes() {
			n.Size, n.Valid = 0, 0
		}
	}
	switch {
	case len(runs) == 0:
		n.First, n.Flat = 0, false
	case !n.Flat:
		v.ends = append(v.ends, runs[len(runs)-1].End()-1)
	}
	if n.parent == nil {
		return nil
	}
	return v.patch(n)
}

// apart makes a file of the clusters behind a file's end. It has its name before the first one is made shorter.
func (c *checker) apart(n *Node, head, tail []Run, name string) error {
	v := c.v
	other := &Node{Name: name, Attr: n.Attr &^ FolderAttr, Modified: n.Modified, First: tail[0].First, runs: tail,
		known: true}
	other.Size = min(count(tail)*v.info.Cluster, v.f.LargestFile())
	other.Valid = other.Size
	if n.Flat {
		return errors.New("it has no chain")
	}
	if err := v.add(n.parent, other); err != nil {
		return err
	}
	if err := v.flush(); err != nil {
		return err
	}
	return c.end(n, head, n.Size)
}

// emptied has a folder whose clusters cannot be found have a new one, with nothing in it.
func (c *checker) emptied(n *Node) error {
	v := c.v
	run, ok := v.space.one(1)
	if !ok {
		return fmt.Errorf("there is no cluster for an empty folder: %w", ErrNoSpace)
	}
	n.First, n.runs, n.runErr, n.known = run.First, []Run{run}, nil, true
	n.Flat = v.f.FolderSizes()
	if v.f.FolderSizes() {
		n.Size, n.Valid = v.info.Cluster, v.info.Cluster
	}
	data := make([]byte, v.info.Cluster)
	copy(data, v.f.NewFolder(n, n.parent))
	if _, err := v.dev.WriteAt(data, v.offset(run.First)); err != nil {
		return v.failing(err)
	}
	if err := v.link(n.runs, n.Flat); err != nil {
		return err
	}
	n.dir = nil
	return v.patch(n)
}

// allZeros reports whether there is nothing in clusters.
func (v *Volume) allZeros(runs []Run) (bool, error) {
	buf, zero := make([]byte, 1<<16), make([]byte, 1<<16)
	for _, r := range runs {
		for off, end := v.offset(r.First), v.offset(r.First)+int64(r.Count)*v.info.Cluster; off < end; {
			if n := v.hole(off, end); n > 0 {
				off += n
				continue
			}
			b := buf[:min(int64(len(buf)), end-off)]
			if _, err := v.dev.ReadAt(b, off); err != nil {
				return false, err
			}
			if !bytes.Equal(b, zero[:len(b)]) {
				return false, nil
			}
			off += int64(len(b))
		}
	}
	return true, nil
}

// rest is how what is behind the end of a file is named.
func rest(name string) string {
	ext := path.Ext(name)
	return strings.TrimSuffix(name, ext) + " (behind its end)" + ext
}

// mostName is how many UTF-16 units a name has that is made here, so that a number can still be added.
const mostName = 200

// freeName is a name like another one that a node of a folder can have, and no one else has there.
func (v *Volume) freeName(d *folder, n *Node, name string) string {
	name = strings.TrimRight(strings.Map(func(r rune) rune {
		if CheckName("", "x"+string(r)+"x") != "" {
			return '_'
		}
		return r
	}, strings.ToValidUTF8(name, "_")), ". ")
	if name == "" {
		name = "_"
	}
	ext := path.Ext(name)
	if len(ext) > 10 || ext == name {
		ext = ""
	}
	base := []rune(strings.TrimSuffix(name, ext))
	for len(utf16.Encode(base)) > mostName {
		base = base[:len(base)-1]
	}
	for k := 1; ; k++ {
		try := string(base) + ext
		if k > 1 {
			try = fmt.Sprintf("%s (%d)%s", strings.TrimRight(string(base), " "), k, ext)
		}
		if o := d.names[v.f.Fold(try)]; (o == nil || o == n) && CheckName("", try) == "" {
			return try
		}
	}
}
