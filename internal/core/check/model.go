package check

import (
	"fmt"
	"strings"

	"polytome/internal/core/loader"
)

// shows is what the console shows: the titles that are built into it first, and then those that are here, as many as
// its list holds.
func (y *loaderAudit) shows() (out []Listed) {
	m, err := y.profile.Model(y.o.Model)
	if err != nil { // it is a model of another loader's console
		m = nil
	}
	if m != nil {
		out = y.builtIn(m)
	}
	if m != nil && len(m.BuiltIn) > 0 && y.o.Depth == Names && len(y.lines) > 0 {
		y.r.Unchecked = append(y.r.Unchecked,
			"whether a title here hides one that is built in: the names alone do not "+
				"show its ID")
	}
	in := len(out)
	for _, l := range y.lines {
		out = append(out, l.Listed)
	}
	if m == nil || m.Most == 0 || len(out) <= m.Most {
		return out
	}
	var names []string
	for _, l := range out[m.Most:] {
		names = append(names, l.Name)
	}
	beyond := strings.Join(names[:min(len(names), 3)], ", ")
	if len(names) > 3 {
		beyond += ", …"
	}
	y.report(Finding{Kind: Crowded, Grade: Fault, Say: fmt.Sprintf(
		"the list of the %s holds %d titles, %d of them built in: the last %d are not shown, which are %s", m.Shown,
		m.Most,
		in, len(names), beyond), Remedy: "remove as many, or put some on another stick"})
	return out[:m.Most]
}

// builtIn are the titles that are built into a model, in the order of their names. A title here with the same ID hides
// one.
func (y *loaderAudit) builtIn(m *loader.Model) (out []Listed) {
	for _, b := range m.All(y.added(m)) {
		hidden := false
		for _, l := range y.lines {
			id := l.ID
			if l.in != nil && l.in.ID != "" {
				id = l.in.ID
			}
			f := Finding{Kind: Double, Grade: Remark, Path: l.Listed.Path}
			switch {
			case l.Platform != m.Platform:
			case strings.EqualFold(id, b.ID):
				hidden = true
				f.Say = fmt.Sprintf("it has the ID of %s, which is built into the %s, and hides that", b.Name, m.Shown)
				f.Matters, f.Remedy = "the console starts this one", "leave it, or remove it to play the built-in one"
				y.report(f)
			case strings.EqualFold(l.Name, b.Name):
				f.Say = fmt.Sprintf("%s is built into the %s, too", b.Name, m.Shown)
				f.Remedy = "remove it, or leave both"
				y.report(f)
			}
		}
		if !hidden {
			out = append(out, Listed{Loader: y.profile.Name, ID: b.ID, Name: b.Name, Kind: "built in",
				Platform: m.Platform, Starts: true, BuiltIn: true})
		}
	}
	return out
}

// added is what the console has written of titles that it got later.
func (y *loaderAudit) added(m *loader.Model) string {
	e, ok := y.tree.file(m.Added)
	if m.Added == "" || !ok {
		return ""
	}
	y.claimed[y.tree.fold(e.Path)] = true
	text, err := y.tree.text(e)
	if err != nil {
		y.report(Finding{Kind: Unreadable, Grade: Remark, Path: e.Path, Say: fmt.Sprintf("it cannot be read: %v", err),
			Remedy: "nothing: the console writes it again"})
	}
	return text
}
