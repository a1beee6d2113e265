package bench

import (
	"slices"

	"polytome/internal/core/fix"
)

// Fix takes up what fixes findings at the target: changes of its files, and choices.
func (p *Target) Fix(all ...fix.Fix) {
	fixes := slices.Clone(p.Fixes) // earlier choices share it
	for _, m := range all {
		switch m.Do {
		case fix.Copy:
			p.Want(true, m.Title)
			if m.Path == "" {
				continue
			}
			p.Allow(true, m.Path)
		case fix.Remove:
			p.Mark(true, m.Path)
			continue
		}
		if i := slices.IndexFunc(fixes, func(o fix.Fix) bool { return m.Same(&o) }); i >= 0 {
			fixes[i] = m
		} else {
			fixes = append(fixes, m)
		}
	}
	p.Fixes = fixes
}

// Fixing reports whether all of the fixes are taken up.
func (p *Target) Fixing(all ...fix.Fix) bool {
	for _, m := range all {
		var has bool
		switch m.Do {
		case fix.Copy:
			has = p.Wants(m.Title) && (m.Path == "" || slices.ContainsFunc(p.Fixes,
				func(o fix.Fix) bool { return m.Same(&o) }))
		case fix.Remove:
			has = slices.Contains(p.Removing, m.Path)
		default:
			has = slices.ContainsFunc(p.Fixes, func(o fix.Fix) bool { return m.Same(&o) })
		}
		if !has {
			return false
		}
	}
	return len(all) > 0
}

// Unmend gives fixes up again. That a title is wanted stays.
func (p *Target) Unfix(all ...fix.Fix) {
	fixes := slices.Clone(p.Fixes)
	for _, m := range all {
		switch m.Do {
		case fix.Copy:
			p.Allow(false, m.Path)
		case fix.Remove:
			p.Mark(false, m.Path)
		}
		fixes = slices.DeleteFunc(fixes, func(o fix.Fix) bool { return m.Same(&o) })
	}
	p.Fixes = fixes
	if len(fixes) == 0 {
		p.Fixes = nil
	}
}

// Fixed drops the changes that a run has made, by their paths and what they do, and the marks of files that went or
// were written over. It reports whether anything was dropped.
func (p *Target) Fixed(done func(m *fix.Fix) bool) bool {
	left := slices.DeleteFunc(slices.Clone(p.Fixes), func(m fix.Fix) bool {
		is := done(&m)
		if is && m.Do == fix.Copy {
			p.Allow(false, m.Path)
		}
		return is
	})
	if len(left) == len(p.Fixes) {
		return false
	}
	if p.Fixes = left; len(left) == 0 {
		p.Fixes = nil
	}
	return true
}

// Tick ticks a line of the checklist off, or takes the tick away.
func (p *Target) Tick(line string) {
	p.Ticked = marked(p.Ticked, !slices.Contains(p.Ticked, line), []string{line})
}
