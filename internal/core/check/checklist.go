package check

import (
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/loader"
)

// Checklist is what to do at a console, in its order: the lines of the profile whose conditions hold.
func Checklist(p *loader.Profile, here loader.Here, situation []string) (out []string) {
	now := loader.Values{loader.FieldSituation: strings.Join(situation, " ")}
	here.Put(&now)
	for _, c := range p.Checklist {
		if c.When.Holds(&now) {
			out = append(out, c.Say)
		}
	}
	return out
}

// A Step is one line of a checklist.
type Step struct {
	Loader string
	Say    string
}

// checklists are the checklists of all loaders of a target; a line that two have is reported once.
func (a *audit) checklists(profiles []*loader.Profile) (out []Step) {
	situation := slices.Clone(a.o.Situation)
	if a.covers {
		situation = append(situation, "covers")
	}
	if slices.ContainsFunc(a.looks, func(y *loaderAudit) bool {
		return slices.ContainsFunc(y.lines, func(l *line) bool { return l.Discs > 1 || hasDiscs(l) })
	}) {
		situation = append(situation, "several-discs")
	}
	for _, p := range profiles {
		for _, say := range Checklist(p, loader.Here{Via: a.o.Via, Filesystem: a.facts.Filesystem.Name,
			Volume:   a.o.Volume,
			Capacity: a.facts.Capacity}, situation) {
			if !slices.ContainsFunc(out, func(s Step) bool { return s.Say == say }) {
				out = append(out, Step{p.Name, say})
			}
		}
	}
	if slices.Contains(situation, "direct-cable") && !slices.ContainsFunc(profiles, reportsOfCables) {
		out = append(out, Step{Say: "Set the addresses of the computer and the console back to what they were before " +
			"the cable"})
	}
	return out
}

// hasDiscs reports whether a line is a disc of a title that has several.
func hasDiscs(l *line) bool {
	if l.in != nil {
		return l.in.Of > 1 || l.in.Discs[0].Number > 1
	}
	_, n := withoutDisc(l)
	return n > 0 || l.v[loader.FieldDisc] != ""
}

// reportsOfCables reports whether a profile has a line of its own for a direct cable.
func reportsOfCables(p *loader.Profile) bool {
	return slices.ContainsFunc(p.Checklist,
		func(c loader.Check) bool { return strings.Contains(c.When.String(), "direct-cable") })
}

// ChecklistText is a checklist as plain text, to be printed or kept beside the console: a box for each line, with what
// was ticked off.
func ChecklistText(target string, lines []string, ticked func(string) bool) string {
	var b strings.Builder
	fmt.Fprintf(&b, "At the console: %s\n\n", target)
	for i, l := range lines {
		box := "[ ]"
		if ticked != nil && ticked(l) {
			box = "[x]"
		}
		fmt.Fprintf(&b, "%s %d. %s.\n", box, i+1, l)
	}
	if len(lines) == 0 {
		b.WriteString("Nothing to do at the console.\n")
	}
	return b.String()
}
