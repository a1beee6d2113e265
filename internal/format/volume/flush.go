package volume

import (
	"fmt"
	"slices"
)

// Flush brings all changes to the device, in the order that keeps a cut from doing damage.
func (v *Volume) Flush() error {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.flush()
}

func (v *Volume) flush() error {
	if v.broken != nil {
		return v.broken
	}
	if !v.begun {
		return nil
	}
	steps := []func() error{v.writeTables, v.dev.Sync}
	if len(v.joins) > 0 {
		steps = append(steps, v.writeJoins, v.writeTables, v.dev.Sync)
	}
	if len(v.dirty) > 0 {
		steps = append(steps, v.writeFolders, v.dev.Sync)
	}
	for _, step := range steps {
		if err := v.failing(step()); err != nil {
			return err
		}
	}
	if len(v.release) == 0 && len(v.ends) == 0 {
		return nil
	}
	for _, c := range v.ends {
		if err := v.failing(v.f.End(c)); err != nil {
			return err
		}
	}
	if err := v.failing(v.f.Release(v.release)); err != nil {
		return err
	}
	for _, r := range v.release {
		v.space.give(r)
	}
	v.release, v.ends = nil, nil
	return v.failing(v.f.WriteTables())
}

func (v *Volume) writeTables() error {
	v.tables = false
	return v.f.WriteTables()
}

func (v *Volume) writeJoins() error {
	for _, j := range v.joins {
		if err := v.f.Join(j.last, j.next); err != nil {
			return err
		}
	}
	v.joins = nil
	return nil
}

// writeFolders writes folders that changed, the deepest first: what is in a new folder comes before its name.
func (v *Volume) writeFolders() error {
	type deep struct {
		n     *Node
		depth int
	}
	var list []deep
	for n := range v.dirty {
		d := deep{n: n}
		for a := n.parent; a != nil; a = a.parent {
			d.depth++
		}
		list = append(list, d)
	}
	slices.SortFunc(list, func(a, b deep) int {
		if a.depth != b.depth {
			return b.depth - a.depth
		}
		return int(int64(a.n.First) - int64(b.n.First))
	})
	for _, d := range list {
		if err := v.writeFolder(d.n); err != nil {
			return fmt.Errorf("writing the folder %s: %w", d.n.Path(), err)
		}
	}
	clear(v.dirty)
	return nil
}
