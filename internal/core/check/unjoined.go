package check

import (
	"fmt"
	"io"
	"path"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/target"
)

// unjoined looks into a file that is joined of several: its header must be right, and where the pieces are discs, they
// must be those of one title, in their order.
func (y *loaderAudit) unjoined(l *line) {
	parts := l.parts
	if parts == nil {
		parts = []*target.Entry{l.e}
	}
	c, err := y.join(parts)
	if err != nil {
		y.judge(l, nil, err)
		return
	}
	defer c.Close()
	wrong := func(say string) { l.broken(y, y.whole(l, Finding{Kind: Damaged, Say: say})) }
	found, err := layout.Pieces(&l.rule.Join, c, c.Size())
	for _, rule := range y.held { // several may have such a path
		if err == nil || l.parts != nil || rule == l.rule || !rule.Joins() {
			continue
		}
		if _, v, ok := layout.TitleAt(y.set, rule, l.e.Path, false); ok {
			if other, wrong := layout.Pieces(&rule.Join, c, c.Size()); wrong == nil {
				found, err = other, nil
				l.rule, l.by, l.v = rule, rule.Path, v
				l.v[loader.FieldPlatform] = l.Platform
			}
		}
	}
	if err != nil {
		wrong(err.Error())
		return
	}
	if l.rule.Join.Of != "discs" {
		return
	}
	var whole *title.Title
	for i, p := range found {
		t, err := scan.Identify(io.NewSectionReader(c, p.Offset, p.Size), p.Size, y.discName(l, p.Name), y.set)
		switch {
		case err != nil || t == nil || t.Platform == "":
			y.judge(l, t, err)
			return
		case t.Of > len(found):
			wrong(fmt.Sprintf("it has %d of the %d discs of %s", len(found), t.Of, t.Name))
			return
		case len(found) > 1 && (t.Of != len(found) && t.Of != 0 || t.Discs[0].Number != i+1):
			wrong(fmt.Sprintf("piece %d of %d in it is disc %d of %d", i+1, len(found), t.Discs[0].Number, t.Of))
			return
		case whole == nil:
			whole = t
		case !strings.EqualFold(t.Name, whole.Name) || t.Platform != whole.Platform:
			wrong(fmt.Sprintf("piece %d in it is a disc of %s", i+1, t.Name))
			return
		default:
			whole.Discs = append(whole.Discs, t.Discs...)
		}
	}
	y.judge(l, whole, nil)
}

// discName is what a disc in a joined file may have been called: as its header says, or with an extension that games
// of the platform have.
func (y *loaderAudit) discName(l *line, name string) string {
	p := y.set.Platform(l.Platform)
	if name == "" || p == nil || path.Ext(name) == "" {
		name = "disc"
		if p != nil && len(p.Extensions) > 0 {
			name += p.Extensions[0]
		}
	}
	return name
}
