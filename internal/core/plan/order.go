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
	p := &m.plan
	m.goOn()
	swaps, puts, texts := m.swapsFirst()
	early, late := m.spaceFirst(swaps)
	p.Steps = make([]Step, 0, len(m.clears)+2*len(m.removes)+len(m.folders)+len(m.moves)+len(swaps)+len(m.puts)+len(
		m.texts)+len(m.listed))
	p.Steps = append(p.Steps, m.clears...)
	m.keep(early)
	m.keep(late)
	m.keep(swaps)
	m.keep(m.puts)
	m.keep(m.texts)
	m.keep(m.listed)
	var begins []int
	for _, group := range [][]Step{early, m.folders, m.moves, swaps, m.puts, m.texts, m.listed, late} {
		begins = append(begins, len(p.Steps))
		for i := range group {
			if len(m.kept) == 0 {
				break
			}
			if n, kept := m.kept[group[i].Path]; kept && (group[i].Kind == Remove || group[i].Kind == Replace) {
				group[i].Needs = append(group[i].Needs, n)
			}
		}
		p.Steps = append(p.Steps, group...)
	}
	m.needFiles(begins[2], begins[3], puts, texts)
	m.emptied()
	p.count()
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Writes() {
			p.Shaping += s.Make.Cost(m.o.Processors)
		}
	}
	return p
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

// swapsFirst takes what is written in place of other files out of the rest, but for texts that need what is put before
// them. While both files are there they take more space than afterwards, so these steps come before all others that
// write, in the order in which they need the least. It returns where the steps of puts and of texts are then, counted
// from the first of the swaps.
func (m *maker) swapsFirst() (swaps []Step, puts, texts []int) {
	tied := make([]bool, len(m.texts))
	for _, t := range m.ties {
		for k := t.texts[0]; k < t.texts[1]; k++ {
			tied[k] = true
		}
	}
	type from struct {
		step *Step
		at   *int
	}
	var all []from
	part := func(steps []Step, stays func(k int) bool) (rest []Step, at []int) {
		at = make([]int, len(steps))
		for k := range steps {
			if steps[k].Kind == Replace && !stays(k) {
				all = append(all, from{&steps[k], &at[k]})
			}
		}
		if len(all) == 0 {
			for k := range at {
				at[k] = k
			}
			return steps, at
		}
		for k := range steps {
			if steps[k].Kind != Replace || stays(k) {
				at[k] = len(rest)
				rest = append(rest, steps[k])
			}
		}
		return rest, at
	}
	restPuts, puts := part(m.puts, func(int) bool { return false })
	restTexts, texts := part(m.texts, func(k int) bool { return tied[k] })
	slices.SortStableFunc(all, func(a, b from) int { return m.swap(a.step).Before(m.swap(b.step)) })
	for k := range m.puts {
		puts[k] += len(all)
	}
	for k := range m.texts {
		texts[k] += len(all) + len(restPuts)
	}
	for n, f := range all {
		swaps, *f.at = append(swaps, *f.step), n
	}
	m.puts, m.texts = restPuts, restTexts
	return swaps, puts, texts
}

// swap is the space of a step that writes a file in place of another one.
func (m *maker) swap(s *Step) fit.Swap {
	old := m.facts.SpaceFor(s.Was.Size)
	return fit.Swap{New: s.Space + old, Old: old}
}

// spaceFirst tells removals that have to come before anything is written, as there is no space
// otherwise or as something else comes under their path, from those that can wait.
func (m *maker) spaceFirst(swaps []Step) (early, late []Step) {
	if len(m.removes) == 0 {
		return nil, nil
	}
	destinations := map[string]bool{}
	filled, most := int64(len(m.folders))*m.facts.Cluster, int64(0)
	for _, group := range [][]Step{m.moves, swaps, m.puts, m.texts, m.listed} {
		for i := range group {
			destinations[m.fold(group[i].Path)] = true
			if group[i].Kind == Replace { // both are there for a while
				most = max(most, filled+m.swap(&group[i]).New)
			}
			filled += group[i].Space
			most = max(most, filled)
		}
	}
	missing := most - m.facts.Free
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

// keep copies what goes to safety.
func (m *maker) keep(steps []Step) {
	if m.o.BackupTo == "" {
		return
	}
	m.plan.BackupTo = m.o.BackupTo
	for i := range steps {
		s := &steps[i]
		if s.Kind != Remove && s.Kind != Replace {
			continue
		}
		m.kept[s.Path] = len(m.plan.Steps)
		m.plan.Steps = append(m.plan.Steps, Step{Kind: Backup, Path: s.Path, Why: "it is removed, and backed up first",
			Size: s.Was.Size, Was: s.Was})
	}
}

// needFiles ties what is written for titles to the files that they consist of: a list of parts, a
// playlist or a cover without its game is of no use. Moves and swaps begin at these numbers; puts and texts are counted
// from there.
func (m *maker) needFiles(moves, swaps int, puts, texts []int) {
	for k := range puts { // the numbers of the steps: what is needed is a part of them
		puts[k] += swaps
	}
	for _, t := range m.ties {
		for k := t.texts[0]; k < t.texts[1]; k++ {
			s := &m.plan.Steps[swaps+texts[k]]
			needs := puts[t.puts[0]:t.puts[1]:t.puts[1]]
			if t.moves[0] < t.moves[1] {
				var renamed []int
				for n := t.moves[0]; n < t.moves[1]; n++ {
					renamed = append(renamed, moves+n)
				}
				needs = append(renamed, needs...)
			}
			if len(s.Needs) > 0 {
				needs = append(slices.Clone(s.Needs), needs...)
			}
			if len(needs) > 0 {
				s.Needs = needs
			}
		}
	}
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
