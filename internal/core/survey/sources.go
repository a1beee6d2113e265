package survey

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/core/plan"
)

// real is a path without links, as far as it is there.
func real(path string) string {
	if r, err := filepath.EvalSymlinks(path); err == nil {
		return r
	}
	if r, err := filepath.EvalSymlinks(filepath.Dir(path)); err == nil {
		return filepath.Join(r, filepath.Base(path))
	}
	return filepath.Clean(path)
}

// below reports whether a path is a folder or is in it.
func below(path, dir string) bool {
	return path == dir || strings.HasPrefix(path, strings.TrimSuffix(dir, string(filepath.Separator))+string(
		filepath.Separator))
}

// shared says that games are taken from the target itself, or from what the target is a part of; "" where they are not.
func (s *Survey) shared(b *bench.Bench) string {
	if strings.Contains(s.dir, "://") {
		return ""
	}
	mine := real(s.dir)
	for _, source := range b.SourcePaths() {
		if from := real(source); below(from, mine) || below(mine, from) {
			return fmt.Sprintf("The games of %s are on %s itself: what it renames or removes there is your only copy.",
				source, s.Config.Name)
		}
	}
	return ""
}

// Takes reports whether carrying out a plan takes files away that another one reads, on this computer.
func (s *Survey) Takes(p *plan.Plan, other *plan.Plan) bool {
	if strings.Contains(s.dir, "://") {
		return false
	}
	dir := real(s.dir)
	var taken []string
	for i := range p.Steps {
		switch st := &p.Steps[i]; st.Kind {
		case plan.Move:
			taken = append(taken, filepath.Join(dir, filepath.FromSlash(st.From)))
		case plan.Remove, plan.Replace, plan.RemoveFolder:
			taken = append(taken, filepath.Join(dir, filepath.FromSlash(st.Path)))
		}
	}
	if len(taken) == 0 {
		return false
	}
	at := map[string]bool{}
	for _, t := range taken {
		at[t] = true
	}
	dirs := map[string]string{} // real folders
	for i := range other.Steps {
		if other.Steps[i].Make == nil || other.Steps[i].Make.OnTarget() {
			continue
		}
		for _, path := range other.Steps[i].Make.Reads() {
			parent := filepath.Dir(path)
			r, ok := dirs[parent]
			if !ok {
				r = real(parent)
				dirs[parent] = r
			}
			for f := filepath.Join(r, filepath.Base(path)); below(f, dir) && f != dir; f = filepath.Dir(f) {
				if at[f] {
					return true
				}
			}
		}
	}
	return false
}

// Waits are, by target, the other targets whose runs have to end before its own begins, as it takes away what they
// read. No targets wait for one another in a circle.
func (b Board) Waits(plans []*plan.Plan) [][]int {
	out := make([][]int, len(b))
	var reaches func(from, to int) bool
	reaches = func(from, to int) bool {
		return from == to || slices.ContainsFunc(out[from], func(m int) bool { return reaches(m, to) })
	}
	for n, s := range b {
		for m := range b {
			if n != m && s != nil && b[m] != nil && plans[n] != nil && plans[m] != nil && s.Takes(plans[n], plans[m]) &&
				!reaches(m, n) {
				out[n] = append(out[n], m)
			}
		}
	}
	return out
}
