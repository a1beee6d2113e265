package plan

import (
	"path"
	"slices"
	"strings"

	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/target"
)

// order puts the steps together.
func (m *maker) order() *Plan {
	p := m.plan
	m.goOn()
	m.identify(m.clears, m.removes, m.folders, m.moves, m.puts, m.texts, m.listed)
	swaps := m.swapsFirst(m.tie())
	early, late := m.spaceFirst(swaps)
	backups := m.backups(early, late, swaps, m.puts, m.texts, m.listed)
	p.Steps = inOrder(m.clears, backups, early, m.folders, m.moves, swaps, m.puts, m.texts, m.listed, late)
	m.emptied()
	p.count()
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Writes() {
			p.Shaping += s.Make.Cost(m.o.Processors)
		}
	}
	return p
}

// identify gives steps their identities, by which they need one another until they have their order.
func (m *maker) identify(groups ...[]Step) {
	for _, group := range groups {
		for i := range group {
			m.ids++
			group[i].id = m.ids
		}
	}
}

// inOrder puts groups of steps one behind the other, and what a step needs before it. What they need is said by their
// numbers afterwards.
func inOrder(groups ...[]Step) []Step {
	all := slices.Concat(groups...)
	most := 0
	for i := range all {
		most = max(most, all[i].id)
	}
	of := make([]int, most+1) // identity -> index in all
	for i := range all {
		of[all[i].id] = i
	}
	number := make([]int, len(all)) // index in all -> number in the plan; 0 while it has none, else one more
	order := make([]int, 0, len(all))
	var place func(i int)
	place = func(i int) {
		if number[i] != 0 {
			return
		}
		number[i] = -1
		for _, id := range all[i].Needs {
			place(of[id])
		}
		order = append(order, i)
		number[i] = len(order)
	}
	for i := range all {
		place(i)
	}
	out := all
	if !slices.IsSorted(order) {
		out = make([]Step, len(all))
		for k, i := range order {
			out[k] = all[i]
		}
	}
	for i := range out {
		s := &out[i]
		s.id = 0
		needs := s.Needs // which other steps of its title may share
		if s.Needs = nil; len(needs) > 0 {
			s.Needs = make([]int, len(needs))
			for k, id := range needs {
				s.Needs[k] = number[of[id]] - 1
			}
		}
	}
	return out
}

// goOn leaves what an interrupted run has left of files that are written now: they are resumed.
func (m *maker) goOn() {
	if len(m.clears) == 0 {
		return
	}
	wanted := map[string]bool{}
	for _, group := range [][]Step{m.puts, m.texts, m.listed} {
		for i := range group {
			wanted[m.fold(target.TemporaryName(group[i].Path))] = true
		}
	}
	m.clears = slices.DeleteFunc(m.clears, func(s Step) bool { return wanted[m.fold(s.Path)] })
}

// swapsFirst takes what is written in place of other files out of the rest, but for texts that are tied to files. While
// both files are there they take more space than afterwards, so these steps come before all others that write, in the
// order in which they need the least.
func (m *maker) swapsFirst(tied map[int]bool) (swaps []Step) {
	take := func(from []Step) []Step {
		is := func(s Step) bool { return s.Kind == Replace && !tied[s.id] }
		if !slices.ContainsFunc(from, is) {
			return from
		}
		var rest []Step
		for i := range from {
			if is(from[i]) {
				swaps = append(swaps, from[i])
			} else {
				rest = append(rest, from[i])
			}
		}
		return rest
	}
	m.puts, m.texts = take(m.puts), take(m.texts)
	slices.SortStableFunc(swaps, func(a, b Step) int { return m.swap(&a).Before(m.swap(&b)) })
	return swaps
}

// swap is the space of a step that writes a file in place of another one.
func (m *maker) swap(s *Step) fit.Swap {
	old := m.facts.SpaceFor(s.Was.Path, s.Was.Size)
	return fit.Swap{New: s.Space + old, Old: old}
}

// spaceFirst tells removals that have to come before anything is written, as there is no space
// otherwise or as something else comes under their path, from those that can wait.
func (m *maker) spaceFirst(swaps []Step) (early, late []Step) {
	if len(m.removes) == 0 {
		return nil, nil
	}
	destinations := map[string]bool{}
	taken := []fit.Swap{{New: int64(len(m.folders)) * m.facts.Cluster}}
	for _, group := range [][]Step{m.moves, swaps, m.puts, m.texts, m.listed} {
		for i := range group {
			destinations[m.fold(group[i].Path)] = true
			if group[i].Kind == Replace {
				taken = append(taken, m.swap(&group[i]))
			} else {
				taken = append(taken, fit.Swap{New: group[i].Space})
			}
		}
	}
	missing := fit.Peak(taken) - m.facts.Free
	for i := range m.clears {
		missing += m.clears[i].Space
	}
	for _, s := range m.removes {
		if missing > 0 || destinations[m.fold(s.Path)] {
			early = append(early, s)
			missing += s.Space
		} else {
			late = append(late, s)
		}
	}
	return early, late
}

// backups copies what goes to this computer first.
func (m *maker) backups(groups ...[]Step) (out []Step) {
	if m.o.BackupTo == "" {
		return nil
	}
	m.plan.BackupTo = m.o.BackupTo
	for _, group := range groups {
		for i := range group {
			s := &group[i]
			if s.Kind != Remove && s.Kind != Replace {
				continue
			}
			out = append(out, Step{Kind: Backup, Path: s.Path, Why: "it is removed, and backed up first",
				Size: s.Was.Size,
				Was:  s.Was})
			m.identify(out[len(out)-1:])
			s.Needs = slices.Concat([]int{m.ids}, s.Needs)
		}
	}
	return out
}

// tie has what is written for titles need the files that they consist of: a list of parts, a playlist or a cover
// without its game is of no use. It returns the identities of those that are tied.
func (m *maker) tie() map[int]bool {
	tied := map[int]bool{}
	for _, t := range m.ties {
		var needs []int
		for _, s := range m.moves[t.moves[0]:t.moves[1]] {
			needs = append(needs, s.id)
		}
		for _, s := range m.puts[t.puts[0]:t.puts[1]] {
			needs = append(needs, s.id)
		}
		for k := t.texts[0]; k < t.texts[1]; k++ {
			m.texts[k].Needs = needs
			tied[m.texts[k].id] = true
		}
	}
	return tied
}

// emptied removes the folders that nothing is left in. Folders at the root stay, and so do those
// that a console makes by itself.
func (m *maker) emptied() {
	if len(m.clears)+len(m.removes)+len(m.moves) == 0 {
		return
	}
	left := map[string]int{} // entries of each folder, by folded path
	touched := map[string]bool{}
	up := func(p string) string { return path.Dir(m.fold(p)) }
	for _, e := range m.sheet.There() {
		left[up(e.Path)]++
	}
	for i := range m.plan.Steps {
		s := &m.plan.Steps[i]
		switch s.Kind {
		case Clear, Remove:
			left[up(s.Path)]--
			touched[up(s.Path)] = true
		case Move:
			left[up(s.From)]--
			touched[up(s.From)] = true
			left[up(s.Path)]++
		case Copy, MakeFolder:
			left[up(s.Path)]++
		}
	}
	boot := map[string]bool{}
	for _, l := range m.sheet.Loaders() {
		for _, f := range layout.FirstBoot(l.Profile) {
			boot[m.fold(f)] = true
		}
	}
	var folders []string
	for key := range touched {
		for key != "." && left[key] == 0 && !boot[key] && strings.Contains(key, "/") && m.spelled[key] != "" {
			folders = append(folders, m.spelled[key])
			left[key] = -1 // once
			key = path.Dir(key)
			left[key]--
		}
	}
	slices.SortFunc(folders, func(a, b string) int { // what is deeper comes first
		if d := strings.Count(b, "/") - strings.Count(a, "/"); d != 0 {
			return d
		}
		return strings.Compare(a, b)
	})
	for _, f := range folders {
		m.plan.Steps = append(m.plan.Steps, Step{Kind: RemoveFolder, Path: f, Why: "nothing is left in it"})
	}
}
