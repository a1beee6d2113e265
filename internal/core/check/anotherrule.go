package check

import (
	"cmp"
	"slices"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

// byAnotherRule takes a line for one of the rule that holds for what is in it, where that makes the same path.
func (y *loaderAudit) byAnotherRule(l *line) bool {
	rule, _ := y.profile.Accept(l.in.Platform, l.in.Form, y.on, y.facts.Filesystem.Name, y.factsOf(l))
	return rule != nil && y.takeAs(l, rule)
}

// byRuleThatFits takes a line for one of another rule, where its path is none that its own one makes of the ID inside:
// a path may be read by several rules.
func (y *loaderAudit) byRuleThatFits(l *line, t *title.Title) bool {
	was := *l
	for i := range y.profile.Accepts {
		rule := &y.profile.Accepts[i]
		if rule == was.rule || !slices.Contains(rule.Platforms, t.Platform) || !y.holds(rule) || !y.takeAs(l, rule) {
			continue
		}
		if may, _ := y.asks(rule.When, l); may && y.splitAgain(l, t) {
			return true
		}
		*l = was
	}
	return false
}

// takeAs takes a line for one of a rule, where that can make its path.
func (y *loaderAudit) takeAs(l *line, rule *loader.Accept) bool {
	by := rule.Path
	_, v, ok := layout.TitleAt(y.set, rule, l.e.Path, l.e.Folder)
	if l.parts != nil {
		by = rule.TooLarge.Parts
		_, v, ok = layout.Split(y.set, rule, by, l.e.Path)
		ok = ok && rule.TooLarge.PartSize == l.rule.TooLarge.PartSize
	}
	if !ok {
		return false
	}
	l.rule, l.by, l.v = rule, by, v
	l.ID, l.v[loader.FieldPlatform] = v[loader.FieldID], l.in.Platform
	l.Name = cmp.Or(v[loader.FieldTitle], l.ID)
	l.Name = y.shownAs(l)
	return true
}
