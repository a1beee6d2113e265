package runview

import (
	"fmt"
	"image/color"
	"path"
	"time"

	"polytome/internal/size"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// serving is how the target that is shown is served; nil where it is not.
func (m *Model) serving() *state.Serving { return m.d.At(m.d.Target).Serving }

// stays reports whether the games of the target that is shown stay on this computer.
func (m *Model) stays() bool {
	s := m.d.Current()
	return s != nil && s.Stays()
}

// servedWord says in a few words how an export is served.
func servedWord(s *state.Serving) string {
	switch n := len(s.Clients); {
	case s.At == "":
		return "begins to serve"
	case n == 0:
		return "serving, none there"
	case n == 1:
		return "serving, 1 plays"
	default:
		return fmt.Sprintf("serving, %d play", n)
	}
}

// servedSay is where an export is found, and what is read of it.
func servedSay(s *state.Serving) string {
	if s.At == "" {
		return ""
	}
	say := s.Address()
	if s.Speed > 0 {
		say += " · " + size.Format(int64(s.Speed)) + "/s"
	}
	if n := len(s.Failing); n > 0 {
		say += " · " + size.Count(n, "file") + " cannot be read"
	}
	if playing := s.Playing(); playing != "" {
		say += " · " + playing
	}
	return say
}

// drawServed draws who plays what, what cannot be read, and which reads were slow.
func (m *Model) drawServed(t *style.Theme, s *state.Serving, w, h int) []string {
	out := []string{t.Rule("who plays at "+m.name(), w)}
	wide := w >= 100
	row := func(from, plays, since, speed, read, slow string, colour color.Color) string {
		cells := []style.Cell{{Text: from, Width: 15, Bold: true, FG: colour}, {Text: plays, Width: max(10,
			w-15-8-13-9-5),
			FG: colour}, {Text: since, Width: 8, FG: t.Dim}, {Text: speed, Width: 13, Right: true, FG: colour}}
		if wide {
			cells[1].Width -= 14
			cells = append(cells, style.Cell{Text: read, Width: 13, Right: true, FG: t.Dim})
		}
		return t.Row(w, false, append(cells, style.Cell{Text: slow, Width: 9, Right: true, FG: t.Warn})...)
	}
	if len(s.Clients) > 0 {
		out = append(out, row("console", "plays", "for", "now", "read so far", "", t.Dim))
	}
	for i := range s.Clients {
		c := &s.Clients[i]
		slow := ""
		if c.Slow > 0 {
			slow = fmt.Sprintf("%d slow", c.Slow)
		}
		plays, since := "has read no game yet", c.Since
		if c.Plays != "" {
			plays, since = s.Title(c.Plays), c.Played
		}
		out = append(out, row(c.From, plays, lasting(since), size.Format(int64(c.Speed))+"/s", size.Format(c.Bytes),
			slow,
			t.Text))
	}
	if len(s.Clients) == 0 {
		out = append(out, "  "+t.Paint(t.Dim, "Nobody is connected: start the loader on the console, and choose the "+
			"network disk."))
	}
	if len(s.Failing) > 0 {
		out = append(out, t.Rule("cannot be read", w))
		for _, f := range s.Failing {
			out = append(out, t.Row(w, false, style.Cell{Text: s.Title(f.Path), Width: 30, FG: t.Bad}, style.Cell{
				Text: f.Say, Width: w - 33}))
		}
	}
	if len(s.Slow) > 0 && len(out) < h-1 {
		out = append(out, t.Rule("slow reads, the newest first", w))
		for _, r := range s.Slow {
			of := "folders"
			if r.Path != "" {
				of = path.Base(s.Title(r.Path))
			}
			out = append(out, t.Row(w, false, style.Cell{Text: r.At.Local().Format(time.TimeOnly), Width: 8, FG: t.Dim},
				style.Cell{Text: r.Took.Round(time.Millisecond).String(), Width: 8, Right: true, FG: t.Warn},
				style.Cell{Text: of, Width: 30}, style.Cell{Text: r.Why, Width: max(10, w-8-8-30-4)}))
		}
	}
	return out
}

// lasting is how long something has gone on, in a few letters.
func lasting(since time.Time) string {
	d := time.Since(since)
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}

// whyServed says how the export that is shown is served, or how it will be.
func (m *Model) whyServed(name string) state.Why {
	waits, way := m.d.WaitsForList(m.d.Target)
	s := m.serving()
	if s == nil {
		w := state.Why{Lead: name + ":", Say: "the console can play its games from here.",
			Ways: []string{"v serves them"}}
		if waits != "" {
			w.Say = waits + "."
			if way != "" {
				w.Ways = append([]string{way}, w.Ways...)
			}
		}
		return w
	}
	w := state.Why{Lead: name + ":",
		Say:  "served at " + s.Address() + ". The computer stays awake while somebody plays.",
		Ways: []string{"v ends it"}}
	switch playing := s.Playing(); {
	case waits != "":
		w.Say = "served at " + s.Address() + "; " + waits + "."
		if way != "" {
			w.Ways = append([]string{way}, w.Ways...)
		}
	case len(s.Failing) > 0:
		w.Say = fmt.Sprintf("%s cannot be read: %s. The others can.", s.Title(s.Failing[0].Path), s.Failing[0].Say)
	case playing != "":
		w.Say = playing + "."
	}
	return w
}
