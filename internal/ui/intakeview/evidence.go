package intakeview

import (
	"fmt"
	"path/filepath"
	"strings"

	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/ui/style"
)

// labels is the width of what stands in front of evidence, in cells.
const labels = 10

// evidence shows where each value was read, and what is wrong.
func (m *Model) evidence(t *style.Theme, w, h int) []string {
	i, ok := m.Title()
	if !ok {
		return t.Block([]string{t.Rule("evidence", w)}, w, h)
	}
	tt := &m.d.Scan.Titles[i]
	lines := []string{t.Rule("evidence for "+style.Clean(tt.Label()), w)}
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
	for _, d := range tt.Discs {
		name := "file"
		if tt.Of > 1 {
			name = fmt.Sprintf("disc %d", d.Number)
		}
		bytes := "  " + size.Exact(d.File.Size) + " bytes"
		if tt.Form == title.Folder && tt.Archive == "" {
			bytes = "  " + size.Count(len(d.Parts), "file") + ", " + size.Exact(d.Size()) + " bytes"
		}
		lines = append(lines, " "+t.Paint(t.Dim, t.Pad(name, labels))+t.Paint(t.Text, t.Clip(style.Clean(d.File.Path), w-labels-2-len(bytes)))+t.Paint(t.Dim, bytes))
		lines = append(lines, m.files(t, w, tt, &d)...)
		room := 0 // what was read takes as much as it needs, so that the place it was read in has the rest
		for _, e := range d.Evidence {
			room = max(room, style.Width(style.Clean(e.Value)))
		}
		room = min(room+1, 44, w-38)
		for _, e := range d.Evidence {
			lines = append(lines, " "+t.Paint(t.Dim, t.Pad(e.Field, labels))+
				t.Paint(t.Text, t.Pad(style.Clean(e.Value), room))+t.Paint(t.Dim, t.Clip(" from "+style.Clean(e.From), w-labels-1-room)))
		}
	}
	return t.Block(lines, w, h)
}

// shownFiles is how many of a title's files are named.
const shownFiles = 3

// files names what else belongs to a disc: parts, volumes, and what lies beside it.
func (m *Model) files(t *style.Theme, w int, tt *title.Title, d *title.Disc) (lines []string) {
	add := func(label string, names []string) {
		if len(names) == 0 {
			return
		}
		text := strings.Join(names[:min(len(names), shownFiles)], ", ")
		if more := len(names) - shownFiles; more > 0 {
			text += fmt.Sprintf(" and %d more", more)
		}
		lines = append(lines, " "+t.Paint(t.Dim, t.Pad(label, labels))+t.Paint(t.Text, t.Clip(style.Clean(text), w-labels-2)))
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
