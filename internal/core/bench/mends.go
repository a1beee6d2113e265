package bench

import (
	"slices"

	"polytome/internal/core/mend"
)

// Mend takes up what mends findings at the place: changes of its files, and choices.
func (p *Place) Mend(all ...mend.Mend) {
	mends := slices.Clone(p.Mends) // earlier choices share it
	for _, m := range all {
		switch m.Do {
		case mend.Put:
			p.Want(true, m.Title)
			if m.Path == "" {
				continue
			}
			p.Allow(true, m.Path)
		case mend.Leave:
			p.Mark(true, m.Path)
			continue
		}
		if i := slices.IndexFunc(mends, func(o mend.Mend) bool { return m.Same(&o) }); i >= 0 {
			mends[i] = m
		} else {
			mends = append(mends, m)
		}
	}
	p.Mends = mends
}

// Mending reports whether all of the mends are taken up.
func (p *Place) Mending(all ...mend.Mend) bool {
	for _, m := range all {
		var has bool
		switch m.Do {
		case mend.Put:
			has = p.Wants(m.Title) && (m.Path == "" || slices.ContainsFunc(p.Mends, func(o mend.Mend) bool { return m.Same(&o) }))
		case mend.Leave:
			has = slices.Contains(p.Leaving, m.Path)
		default:
			has = slices.ContainsFunc(p.Mends, func(o mend.Mend) bool { return m.Same(&o) })
		}
		if !has {
			return false
		}
	}
	return len(all) > 0
}

// Unmend gives mends up again. That a title is wanted stays.
func (p *Place) Unmend(all ...mend.Mend) {
	mends := slices.Clone(p.Mends)
	for _, m := range all {
		switch m.Do {
		case mend.Put:
			p.Allow(false, m.Path)
		case mend.Leave:
			p.Mark(false, m.Path)
		}
		mends = slices.DeleteFunc(mends, func(o mend.Mend) bool { return m.Same(&o) })
	}
	p.Mends = mends
	if len(mends) == 0 {
		p.Mends = nil
	}
}

// Mended drops the changes that a run has made, by their paths and what they do, and the marks of files that went or were
// written over. It reports whether anything was dropped.
func (p *Place) Mended(done func(m *mend.Mend) bool) bool {
	left := slices.DeleteFunc(slices.Clone(p.Mends), func(m mend.Mend) bool {
		is := done(&m)
		if is && m.Do == mend.Put {
			p.Allow(false, m.Path)
		}
		return is
	})
	if len(left) == len(p.Mends) {
		return false
	}
	if p.Mends = left; len(left) == 0 {
		p.Mends = nil
	}
	return true
}

// Tick ticks a line of the checklist off, or takes the tick away.
func (p *Place) Tick(line string) {
	p.Ticked = marked(p.Ticked, !slices.Contains(p.Ticked, line), []string{line})
}
