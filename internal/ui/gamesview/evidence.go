package gamesview

import (
	"fmt"
	"image"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/saves"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/ui/pixels"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// labels is the width of what stands in front of evidence, in cells.
const labels = 10

// roomy is the height from which long texts are broken and not cut.
const roomy = 16

// evidence shows where each value was read, and what is wrong.
func (m *Model) evidence(t *style.Theme, w, h int) []string {
	i, ok := m.Title()
	if b := m.BuiltIn(); b != nil {
		from := "built in"
		if b.Later {
			from = "came later"
		}
		return t.Block([]string{t.Rule("evidence for "+b.Name, w),
			" " + t.Paint(t.Dim, t.Pad("ID", labels)) + b.ID,
			" " + t.Paint(t.Dim, t.Pad("console", labels)) + b.Console + ": " + from,
			" " + t.Paint(t.Dim, t.Pad("files", labels)) + "none of yours"}, w, h)
	}
	if !ok {
		return t.Block([]string{t.Rule("evidence", w)}, w, h)
	}
	tt := &m.d.Scan.Titles[i]
	whole, pic := w, m.cover(t, tt, w, h-1)
	wide := 0
	for _, line := range pic {
		wide = max(wide, style.Width(line))
	}
	if wide > 0 {
		w -= wide + 3
	}
	lines := []string{t.Rule("evidence for "+style.Clean(tt.Label()), whole)}
	for _, f := range tt.Findings {
		colour, word := t.Warn, "note"
		switch f.Grade {
		case title.Fault:
			colour, word = t.Bad, "fault"
		case title.Suspicion:
			word = "doubt"
		}
		text := f.Say
		if f.Remedy != "" {
			text += " " + t.Glyph("→") + " " + f.Remedy
		}
		for k, l := range t.Wrap(style.Clean(text), w-labels-2) {
			label := ""
			if k == 0 {
				label = word
			}
			lines = append(lines, " "+t.Paint(colour, t.Pad(label, labels))+t.Paint(t.Text, l))
		}
	}
	lines = append(lines, m.reached(t, i, w)...)
	for _, d := range tt.Discs {
		name := "file"
		if tt.Of > 1 {
			name = fmt.Sprintf("disc %d", d.Number)
		}
		bytes := "  " + size.Exact(d.File.Size) + " bytes"
		if tt.Form == title.Folder && tt.Archive == "" {
			bytes = "  " + size.Count(len(d.Parts), "file") + ", " + size.Exact(d.Size()) + " bytes"
		}
		path := []string{t.Clip(style.Clean(d.File.Path), w-labels-2-len(bytes))}
		if h > roomy {
			path = t.Wrap(style.Clean(d.File.Path), w-labels-2-len(bytes))
		}
		for k, l := range path {
			if k > 0 {
				name, bytes = "", ""
			}
			lines = append(lines, " "+t.Paint(t.Dim, t.Pad(name, labels))+t.Paint(t.Text, l)+t.Paint(t.Dim, bytes))
		}
		lines = append(lines, m.files(t, w, tt, &d)...)
		space := 0 // what was read takes as much as it needs, so that the place it was read from has the rest
		for _, e := range d.Evidence {
			space = max(space, style.Width(style.Clean(e.Value)))
		}
		space = min(space+1, 44, w-38)
		for _, e := range d.Evidence {
			field, value, rest := e.Field, style.Clean(e.Value), w-labels-2-space
			from := []string{t.Clip("from "+style.Clean(e.From), rest)}
			if h > roomy {
				from = t.Wrap("from "+style.Clean(e.From), rest)
			}
			for k, l := range from {
				if k > 0 {
					field, value = "", ""
				}
				lines = append(lines, " "+t.Paint(t.Dim, t.Pad(field, labels))+t.Paint(t.Text, t.Pad(value, space))+
					" "+t.Paint(t.Dim, l))
			}
		}
	}
	lines = t.Block(lines, whole, h)
	if wide == 0 {
		return lines
	}
	lines = append(lines[:1:1], t.Block(lines[1:], w, h-1)...)
	for y := range lines[1:] {
		picked := strings.Repeat(" ", wide)
		if y < len(pic) {
			picked = pic[y] + strings.Repeat(" ", wide-style.Width(pic[y]))
		}
		lines[y+1] += "  " + picked + " "
	}
	return lines
}

// reached are the saves of title i, on whatever target, a line each.
func (m *Model) reached(t *style.Theme, i, w int) (out []string) {
	for n := range m.d.Targets {
		for _, r := range m.d.SavesAt(n, i) {
			label := ""
			if len(out) == 0 {
				label = "save"
			}
			say := fmt.Sprintf("%s on %s, %s, %s", size.Format(r.Bytes), style.Clean(m.d.Bench.Targets[n].Name),
				r.Modified.Local().Format("2006-01-02 15:04"), string(r.State))
			if r.Shared {
				say += ", on the card " + style.Clean(r.Path)
			}
			fg := t.Text
			if r.State != saves.IsKept {
				say += " " + t.Glyph("→") + " S shows and keeps it"
				fg = t.Warn
			}
			out = append(out, " "+t.Paint(t.Dim, t.Pad(label, labels))+t.Paint(fg, t.Clip(say, w-labels-2)))
		}
	}
	return out
}

// coverHigh is how many rows a cover has at least to be shown; in a narrow window there is none.
const coverHigh, coverFrom = 6, 90

// cover draws the picture of a title's front, nil where there is none or no space for it.
func (m *Model) cover(t *style.Theme, tt *title.Title, w, h int) []string {
	p := tt.Picture(title.PictureKinds[0], 0)
	if p == nil || h < coverHigh || w < coverFrom {
		return nil
	}
	switch s, known := m.d.Picture(&p.File); {
	case !known:
		return pixels.Card(t, []string{"looking at", "the cover"}, 16, h)
	case s.Picture == nil:
		return pixels.Card(t, []string{"a cover", "that cannot", "be shown"}, 16, h)
	default:
		return m.drawn.Draw(t, state.PictureKey(&p.File), s.Picture, image.Pt(s.Width, s.Height),
			max(24, min(w*2/5, 2*h)), h)
	}
}

// Work has the cover of the title under the cursor looked at.
func (m *Model) Work() tea.Cmd {
	i, ok := m.Title()
	if !ok {
		return nil
	}
	p := m.d.Scan.Titles[i].Picture(title.PictureKinds[0], 0)
	if p == nil {
		return nil
	}
	return m.d.LookAtPictures([]title.File{p.File})
}

// shownFiles is how many of a title's files are named.
const shownFiles = 3

// files names what else belongs to a disc: parts, volumes, and what is beside it.
func (m *Model) files(t *style.Theme, w int, tt *title.Title, d *title.Disc) (lines []string) {
	add := func(label string, names []string) {
		if len(names) == 0 {
			return
		}
		text := strings.Join(names[:min(len(names), shownFiles)], ", ")
		if more := len(names) - shownFiles; more > 0 {
			text += fmt.Sprintf(" and %d more", more)
		}
		lines = append(lines, " "+t.Paint(t.Dim, t.Pad(label, labels))+t.Paint(t.Text, t.Clip(style.Clean(text),
			w-labels-2)))
	}
	var parts, volumes []string
	for i := range d.Parts {
		parts = append(parts, d.Parts[i].Name)
	}
	for i := range d.Volumes {
		volumes = append(volumes, filepath.Base(d.Volumes[i].Path))
	}
	switch {
	case tt.Archive != "" || tt.Form == title.Package:
		add("in it", parts)
	case tt.Form == title.Tracks:
		add("tracks", parts)
	}
	add("parts", volumes)
	beside := map[string][]string{}
	var kinds []string
	for i := range d.Beside {
		k := d.Beside[i].Kind
		if beside[k] == nil {
			kinds = append(kinds, k)
		}
		beside[k] = append(beside[k], filepath.Base(d.Beside[i].File.Path))
	}
	for _, k := range kinds {
		label := k
		if label == "checksums" {
			label = "sums"
		}
		add(label, beside[k])
	}
	return lines
}
