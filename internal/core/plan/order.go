package plan

import (
	"path"
	"slices"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/place"
)

// order puts the steps together.
func (m *maker) order() *Plan {
	p := &m.plan
	m.goOn()
	early, late := m.roomFirst()
	p.Steps = make([]Step, 0, len(m.clears)+2*len(m.removes)+len(m.folders)+len(m.moves)+len(m.puts)+len(m.texts)+len(m.listed))
	p.Steps = append(p.Steps, m.clears...)
	m.keep(early)
	m.keep(late)
	m.keep(m.puts)
	m.keep(m.texts)
	m.keep(m.listed)
	var begins []int
	for _, group := range [][]Step{early, m.folders, m.moves, m.puts, m.texts, m.listed, late} {
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
	m.needFiles(begins[2], begins[3], begins[4])
	m.emptied()
	p.count()
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Writes() {
			p.Shaping += s.Make.Cost(m.o.Processors)
		}
	}
	return p
}

// goOn leaves what a broken-off run has left of files that are written now: they are gone on with.
func (m *maker) goOn() {
	if len(m.clears) == 0 {
		return
	}
	wanted := map[string]bool{}
	for _, group := range [][]Step{m.puts, m.texts, m.listed} {
		for i := range group {
			wanted[m.fold(place.TemporaryName(group[i].Path))] = true
		}
	}
	m.clears = slices.DeleteFunc(m.clears, func(s Step) bool { return wanted[m.fold(s.Path)] })
}

// roomFirst tells removals that have to come before anything is written, as there is no room
// otherwise or as something else comes under their path, from those that can wait.
func (m *maker) roomFirst() (early, late []Step) {
	if len(m.removes) == 0 {
		return nil, nil
	}
	missing := -m.facts.Free
	targets := map[string]bool{}
	for _, group := range [][]Step{m.puts, m.texts, m.listed, m.moves} {
		for i := range group {
			targets[m.fold(group[i].Path)] = true
			missing += group[i].Room
			if group[i].Kind == Replace { // both are there for a while
				missing += m.facts.RoomFor(group[i].Was.Size)
			}
		}
	}
	for i := range m.clears {
		missing += m.clears[i].Room
	}
	missing += int64(len(m.folders)) * m.facts.Cluster
	for _, s := range m.removes {
		if missing > 0 || targets[m.fold(s.Path)] {
			early = append(early, s)
			missing += s.Room
		} else {
			late = append(late, s)
		}
	}
	return early, late
}

// keep copies what goes to safety.
func (m *maker) keep(steps []Step) {
	if m.o.KeepIn == "" {
		return
	}
	m.plan.KeptIn = m.o.KeepIn
	for i := range steps {
		s := &steps[i]
		if s.Kind != Remove && s.Kind != Replace {
			continue
		}
		m.kept[s.Path] = len(m.plan.Steps)
		m.plan.Steps = append(m.plan.Steps, Step{Kind: Keep, Path: s.Path, Why: "it goes, and is copied to safety first", Size: s.Was.Size, Was: s.Was})
	}
}

// needFiles ties what is written for titles to the files that they consist of: a list of parts, a
// playlist or a cover without its game is of no use. The groups of steps begin at these numbers.
func (m *maker) needFiles(moves, puts, texts int) {
	all := make([]int, puts+len(m.puts)) // the numbers of the steps: what is needed is a part of them
	for i := range all {
		all[i] = i
	}
	for _, t := range m.ties {
		for k := t.texts[0]; k < t.texts[1]; k++ {
			s := &m.plan.Steps[texts+k]
			needs := all[puts+t.puts[0] : puts+t.puts[1] : puts+t.puts[1]]
			if t.moves[0] < t.moves[1] {
				needs = append(slices.Clone(all[moves+t.moves[0]:moves+t.moves[1]]), needs...)
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
		case Put, MakeFolder:
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
