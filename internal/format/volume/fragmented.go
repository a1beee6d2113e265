package volume

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"io/fs"
	"math"
	"slices"
	"strings"
)

// A Piece is a file or folder and where it lies.
type Piece struct {
	Path   string `json:"path"`
	Folder bool   `json:"folder,omitempty"`
	Size   int64  `json:"size"` // bytes
	Runs   []Run  `json:"runs"` // clusters; those that lie one behind the other are one
	Err    string `json:"error,omitempty"`
}

// Files lists every file and folder with its clusters, the root folder first, then sorted by path. What cannot be read
// is listed with the reason.
func (v *Volume) Files(ctx context.Context) ([]Piece, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	var out []Piece
	err := v.walk(ctx, func(n *Node, err error) {
		runs, chainErr := v.runsOf(n)
		p := Piece{Path: n.Path(), Folder: n.Folder, Size: n.Size, Runs: Merge(runs)}
		if n.Folder {
			p.Size = count(runs) * v.info.Cluster
		}
		if err == nil {
			err = chainErr
		}
		if err != nil {
			p.Err = err.Error()
		}
		out = append(out, p)
	})
	if len(out) > 1 {
		slices.SortFunc(out[1:], func(a, b Piece) int { return strings.Compare(a.Path, b.Path) })
	}
	return out, err
}

// Unplaced tries to find contiguous free space for files of so many clusters, one after another as they would be
// written, in free pieces and what is given up before. It returns the numbers of the files for which there is none,
// each
// with how many clusters the largest free piece has then.
func Unplaced(free, gone []Run, files []int64) map[int]int64 {
	s := newSpace(slices.Clone(free))
	for _, r := range gone {
		s.give(r)
	}
	lack := map[int]int64{}
	for i, need := range files {
		if need == 0 {
			continue
		}
		if _, ok := s.one(uint32(min(need, math.MaxUint32))); !ok {
			lack[i] = int64(s.largest())
		}
	}
	return lack
}

// walk goes through all nodes, parents first. A folder that cannot be read is reported with the error.
func (v *Volume) walk(ctx context.Context, see func(n *Node, err error)) error {
	stack := []*Node{v.root}
	for len(stack) > 0 {
		if err := ctx.Err(); err != nil {
			return err
		}
		n := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if !n.Folder {
			see(n, nil)
			continue
		}
		if depth(n) > maxDepth {
			see(n, errors.New("folders nest too deep"))
			continue
		}
		d, err := v.open(n)
		see(n, err)
		if err == nil {
			for i := len(d.kids) - 1; i >= 0; i-- {
				stack = append(stack, d.kids[i])
			}
		}
	}
	return nil
}

const maxDepth = 128

func depth(n *Node) int {
	k := 0
	for a := n.parent; a != nil; a = a.parent {
		k++
	}
	return k
}

// A NoHoleError reports that a file cannot be made contiguous.
type NoHoleError struct {
	Path string
	FragmentedError
}

func (e *NoHoleError) Error() string {
	return fmt.Sprintf("%s cannot be brought into one piece: %s, also after moving what may be moved", e.Path,
		e.FragmentedError.Error())
}

// Defragment brings a file into one piece, by writing it again into a free one; the old one stays until that is done.
// Where no free piece is large enough, others are moved out of the way if move is set, each in the same safe way. It
// reports which were moved. progress is reported the bytes that were copied.
func (v *Volume) Defragment(ctx context.Context, name string, move bool, progress func(n int64)) (moved []string,
	err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	n, err := v.find("defragment", name)
	if err != nil {
		return nil, err
	}
	if n.Folder {
		return nil, &fs.PathError{Op: "defragment", Path: name, Err: errors.New("it is a folder")}
	}
	runs, err := v.runsOf(n)
	if err != nil {
		return nil, &fs.PathError{Op: "defragment", Path: name, Err: err}
	}
	if len(Merge(runs)) < 2 {
		return nil, nil
	}
	if err := v.beginWrite(ctx); err != nil {
		return nil, err
	}
	if err := v.flush(); err != nil {
		return nil, err
	}
	need := uint32(count(runs))
	if to, ok := v.space.one(need); ok {
		return nil, v.relocate(ctx, n, to, progress)
	}
	largest := int64(v.space.largest())
	if !move {
		return nil, &FragmentedError{int64(need) * v.info.Cluster, largest * v.info.Cluster}
	}
	window, movers, ok, err := v.window(ctx, n, need)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, &NoHoleError{name, FragmentedError{int64(need) * v.info.Cluster, largest * v.info.Cluster}}
	}
	for _, m := range movers {
		if err := v.relocate(ctx, m.n, m.to, progress); err != nil {
			return moved, err
		}
		moved = append(moved, m.n.Path())
	}
	if !v.space.at(window) {
		return moved, errors.New("the piece that was made free is taken")
	}
	return moved, v.relocate(ctx, n, window, progress)
}

// segment is a run of clusters of one kind: free, of a file that may be moved, or of what stays.
type segment struct {
	Run
	n    *Node // nil for free ones and for what stays
	free bool
}

// mover is a file that is moved, and where to.
type mover struct {
	n  *Node
	to Run
}

// windowsTried is for how many positions it is tried whether the files there can go elsewhere.
const windowsTried = 64

// window finds need clusters one behind the other for a file, with the least to be moved away, and reserves where that
// goes. The free clusters of the window are given back, to be taken when the others are free too.
func (v *Volume) window(ctx context.Context, destination *Node, need uint32) (w Run, movers []mover, ok bool,
	err error) {
	segs, err := v.segments(ctx, destination)
	if err != nil {
		return w, nil, false, err
	}
	type candidate struct {
		at   Run
		from int // segment
		cost int64
	}
	var all []candidate
	for i := range segs {
		c := candidate{at: Run{segs[i].First, need}, from: i}
		seen := map[*Node]bool{}
		end := segs[i].First
		fine := true
		for k := i; k < len(segs) && end < c.at.End(); k++ {
			s := segs[k]
			if !s.free && s.n == nil {
				fine = false
				break
			}
			if s.n != nil && !seen[s.n] {
				seen[s.n] = true
				c.cost += count(s.n.runs)
			}
			end = s.End()
		}
		if fine && end >= c.at.End() {
			all = append(all, c)
		}
	}
	slices.SortStableFunc(all, func(a, b candidate) int { return int(min(max(a.cost-b.cost, -1), 1)) })
	for _, c := range all[:min(len(all), windowsTried)] {
		if movers, ok := v.clear(segs, c.from, c.at); ok {
			return c.at, movers, true, nil
		}
	}
	return w, nil, false, nil
}

// clear reserves space elsewhere, contiguous each, for the files that are in a window.
func (v *Volume) clear(segs []segment, from int, w Run) ([]mover, bool) {
	var held []Run
	var movers []mover
	seen := map[*Node]bool{}
	for k := from; k < len(segs) && segs[k].First < w.End(); k++ {
		if segs[k].free {
			r := Run{segs[k].First, min(segs[k].End(), w.End()) - segs[k].First}
			if v.space.at(r) {
				held = append(held, r)
			}
		}
	}
	fine := true
	for k := from; fine && k < len(segs) && segs[k].First < w.End(); k++ {
		n := segs[k].n
		if n == nil || seen[n] {
			continue
		}
		seen[n] = true
		to, ok := v.space.one(uint32(count(n.runs)))
		if fine = ok; ok {
			movers = append(movers, mover{n, to})
		}
	}
	for _, r := range held {
		v.space.give(r)
	}
	if !fine {
		for _, m := range movers {
			v.space.give(m.to)
		}
	}
	return movers, fine
}

// segments are all clusters in order, with what they are of. Folders, and what the volume itself uses, stay.
func (v *Volume) segments(ctx context.Context, destination *Node) ([]segment, error) {
	var used []segment
	err := v.walk(ctx, func(n *Node, err error) {
		runs, chainErr := v.runsOf(n)
		for _, r := range runs {
			s := segment{Run: r}
			if !n.Folder && n != destination && chainErr == nil {
				s.n = n
			}
			used = append(used, s)
		}
	})
	if err != nil {
		return nil, err
	}
	for _, r := range v.space.runs {
		used = append(used, segment{Run: r, free: true})
	}
	slices.SortFunc(used, func(a, b segment) int { return int(int64(a.First) - int64(b.First)) })
	var out []segment
	next := uint32(2)
	for _, s := range used {
		if s.First < next { // crossed: it stays
			continue
		}
		if s.First > next {
			out = append(out, segment{Run: Run{next, s.First - next}})
		}
		out = append(out, s)
		next = s.End()
	}
	return out, nil
}

// copyUnit is how much is copied at once, in bytes.
const copyUnit = 4 << 20

// relocate copies a file into reserved clusters, and gives the old ones back once its entries describe the new ones.
func (v *Volume) relocate(ctx context.Context, n *Node, to Run, progress func(int64)) error {
	old, err := v.runsOf(n)
	if err == nil && !v.rehearsal {
		err = v.copyRuns(ctx, old, to, progress)
	}
	if err != nil {
		v.space.give(to)
		return fmt.Errorf("moving %s: %w", n.Path(), err)
	}
	return v.resettle(n, old, []Run{to})
}

// resettle has a file lie in other clusters, which hold its bytes.
func (v *Volume) resettle(n *Node, old, to []Run) error {
	flat := len(to) == 1 && v.f.FolderSizes()
	if err := v.link(to, flat); err != nil {
		return err
	}
	n.First, n.Flat, n.runs = to[0].First, flat, to
	if err := v.patch(n); err != nil {
		return err
	}
	v.release = append(v.release, old...)
	return v.flush()
}

// hole is how many bytes from off on, up to end, the device knows to be zeros.
func (v *Volume) hole(off, end int64) int64 {
	h, ok := v.dev.(interface {
		Data(off int64) (start, end int64)
	})
	if !ok {
		return 0
	}
	start, _ := h.Data(off)
	return min(start, end) - off
}

// copyRuns copies clusters, and reads them back.
func (v *Volume) copyRuns(ctx context.Context, from []Run, to Run, progress func(int64)) error {
	buf, back := make([]byte, copyUnit), make([]byte, copyUnit)
	at := v.offset(to.First)
	for _, r := range from {
		for off, end := v.offset(r.First), v.offset(r.First)+int64(r.Count)*v.info.Cluster; off < end; {
			if err := ctx.Err(); err != nil {
				return err
			}
			b := buf[:min(copyUnit, end-off)]
			if n := v.hole(off, end); n > 0 { // of an image that knows where nothing was written
				if err := v.zero(at, n); err != nil {
					return v.failing(err)
				}
				off, at = off+n, at+n
				if progress != nil {
					progress(n)
				}
				continue
			}
			if _, err := v.dev.ReadAt(b, off); err != nil && !errors.Is(err, io.EOF) {
				return err
			}
			if _, err := v.dev.WriteAt(b, at); err != nil {
				return v.failing(err)
			}
			if c, ok := v.dev.(interface{ Drop(off, n int64) error }); ok { // not out of the system's memory
				if err := c.Drop(at, int64(len(b))); err != nil {
					return v.failing(err)
				}
			}
			if _, err := v.dev.ReadAt(back[:len(b)], at); err != nil && !errors.Is(err, io.EOF) {
				return err
			}
			if string(b) != string(back[:len(b)]) {
				return errors.New("it reads back differently: the drive is probably failing")
			}
			off += int64(len(b))
			at += int64(len(b))
			if progress != nil {
				progress(int64(len(b)))
			}
		}
	}
	return nil
}

// Each calls see for every file and folder but the root, parents first. A folder that cannot be read is reported to
// problem, and the rest goes on.
func (v *Volume) Each(ctx context.Context, see func(path string, n *Node), problem func(path string, err error)) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	var rootErr error
	err := v.walk(ctx, func(n *Node, err error) {
		p := n.Path()
		if n.parent != nil {
			see(p, n)
		} else if err != nil {
			rootErr = err
		}
		if err != nil && n.parent != nil && problem != nil {
			problem(p, err)
		}
	})
	if err == nil {
		err = rootErr
	}
	return err
}

// Sum is a hash of all folders: another one when files or folders came, went or changed.
func (v *Volume) Sum(ctx context.Context) (uint64, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	h := fnv.New64a()
	var rootErr error
	err := v.walk(ctx, func(n *Node, err error) {
		if n.parent == nil {
			rootErr = err
		}
		if n.Folder && err == nil {
			_, _ = h.Write(n.dir.data[:n.dir.end])
		}
	})
	if err == nil {
		err = rootErr
	}
	return h.Sum64(), err
}
