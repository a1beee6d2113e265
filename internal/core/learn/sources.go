package learn

import (
	"cmp"
	"context"
	"os"
	"path/filepath"
	"slices"

	"polytome/internal/core/loader"
	"polytome/internal/sparse"
	"polytome/internal/target"
	"polytome/internal/target/protocols"
)

// Sources are what to learn from, beside the target itself.
type Sources struct {
	// Games are folders of games as they were before they came to the target.
	Games   []string
	Answers Answers
}

// FromTarget looks at a target, and learns from it. What is no folder of this computer is looked at through a temporary
// one, which has what is read of it.
func FromTarget(ctx context.Context, at string, p target.Target, set *loader.Set, from Sources) (*Draft, error) {
	l, done, err := LookAt(ctx, at, p, from)
	if err != nil {
		return nil, err
	}
	defer done()
	return Learn(ctx, l, set)
}

// LookAt is what there is to learn from a target. The caller calls done when nothing is read from it any longer.
func LookAt(ctx context.Context, at string, p target.Target, from Sources) (l Look, done func(), err error) {
	done = func() {}
	facts, err := p.Facts(ctx, nil)
	if err != nil {
		return l, done, err
	}
	entries, err := p.List(ctx, nil)
	if err != nil {
		return l, done, err
	}
	if protocol, _, err := protocols.Parse(at); err == nil && protocol != nil {
		l.Via = protocol.Name
	}
	l = Look{Dir: at, Via: l.Via, Facts: facts, Entries: entries, Label: facts.Label, Sources: from,
		Name: filepath.Base(at),
		Open: func(path string) (target.Content, error) { return p.Open(ctx, path) }}
	if c, ok := p.(target.FragmentCounter); ok {
		l.Pieces = piecesOf(ctx, c, entries, facts.Cluster)
	}
	if l.Packed, err = packedImages(ctx, p, entries); err != nil {
		return l, done, err
	}
	if info, err := os.Stat(at); err == nil && info.IsDir() && len(l.Packed) == 0 {
		return l, done, nil
	}
	dir, err := os.MkdirTemp("", "polytome-learn-")
	if err != nil {
		return l, done, err
	}
	done = func() { _ = os.RemoveAll(dir) } // holds nothing that is not on the target
	if l.Unread, err = mirror(ctx, p, entries, l.Packed, dir); err != nil {
		done()
		return l, func() {}, err
	}
	l.Dir = dir
	l.Open = func(path string) (target.Content, error) {
		return sparse.Open(filepath.Join(dir, filepath.FromSlash(path)))
	}
	return l, done, nil
}

// mostPieced is of how many files it is looked at in how many pieces they lie: the largest ones.
const mostPieced = 100

// piecesOf counts the pieces of the largest files that have more than one cluster.
func piecesOf(ctx context.Context, c target.FragmentCounter, entries []target.Entry, cluster int64) map[string]int {
	out := map[string]int{}
	large := slices.DeleteFunc(slices.Clone(entries),
		func(e target.Entry) bool { return e.Folder || e.Size <= cluster })
	slices.SortStableFunc(large, func(a, b target.Entry) int { return cmp.Compare(b.Size, a.Size) })
	for _, e := range large[:min(len(large), mostPieced)] {
		if n, err := c.Fragments(ctx, e.Path); err == nil && n > 0 { // what cannot be read is said elsewhere
			out[e.Path] = n
		}
	}
	return out
}
