package runview

import (
	"fmt"
	"image/color"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/discburn"
	"polytome/internal/core/discread"
	"polytome/internal/core/estimate"
	"polytome/internal/size"
	"polytome/internal/ui/discmap"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// discJob is the disc that the cursor is on; nil while it is on a target.
func (m *Model) discJob() *state.DiscJob {
	if m.disc < 0 || m.disc >= len(m.d.DiscJobs) || m.part == past {
		return nil
	}
	return m.d.DiscJobs[m.disc]
}

// discWord says in a word or two how far a disc is.
func discWord(t *style.Theme, j *state.DiscJob) (string, color.Color) {
	switch {
	case j.Paused:
		return "paused", t.Warn
	case !j.Running() && j.Err != nil:
		return "stopped", t.Bad
	case !j.Running() && j.Burns() && j.Burnt != nil && !j.Burnt.Verified:
		return "bad disc", t.Bad
	case !j.Running() && !j.Burns() && j.Bad > 0:
		return "blocks lack", t.Bad
	case !j.Running():
		return "done", t.Good
	case j.Waits:
		return "next disc?", t.Accent
	case j.Burns():
		word := map[discburn.Stage]string{discburn.Reading: "reading image", discburn.Testing: "testing",
			discburn.Writing: "writing", discburn.Finishing: "finishing", discburn.Verifying: "reading back"}[j.Stage]
		if word == "" {
			word = "begins"
		}
		return word, t.Accent
	}
	return "reading", t.Accent
}

// discLane draws a row for a disc that is read or burnt.
func (m *Model) discLane(t *style.Theme, w, n int) string {
	j := m.d.DiscJobs[n]
	wide := w >= 100
	nameWidth, stateWidth := 15, 12
	if wide {
		nameWidth, stateWidth = 17, 20
	}
	word, colour := discWord(t, j)
	cursor := m.disc == n && m.part == lanes
	cells := []style.Cell{{Text: j.Drive, Width: nameWidth, Bold: m.disc == n}, {Text: word, Width: stateWidth,
		FG: colour}}
	rest := w - 1 - nameWidth - stateWidth - 3
	if !j.Running() && !j.Paused || j.Waits || j.Of == 0 {
		say := j.What
		if !j.Running() && !j.Paused {
			say = j.Outcome()
		}
		return t.Row(w, cursor, append(cells, style.Cell{Text: say, Width: rest, FG: t.Dim})...)
	}
	cells = append(cells, style.Cell{Text: fmt.Sprintf("%d %%", int(100*j.Share())), Width: 5, Right: true})
	barWidth := rest - 6 - 13 - 1 - 13 - 2
	if wide {
		barWidth -= 10
	}
	if barWidth >= 6 {
		cells = append(cells, style.Cell{Text: plainBar(t, j.Share(), barWidth), Width: barWidth, FG: t.Written})
	}
	speed, left := discPace(j)
	cells = append(cells, style.Cell{Text: speed, Width: 13, Right: true, FG: t.Dim}, style.Cell{Text: left, Width: 13,
		Right: true})
	if wide {
		bad := ""
		if j.Bad > 0 {
			bad = size.Exact(j.Bad) + " bad"
		}
		cells = append(cells, style.Cell{Text: bad, Width: 9, FG: t.Bad})
	}
	return t.Row(w, cursor, cells...)
}

// discPace is how fast a disc is read or written, and how long it takes yet.
func discPace(j *state.DiscJob) (speed, left string) {
	sec := j.Pace()
	if sec <= 0 {
		return "", ""
	}
	speed = size.Format(int64(sec)) + "/s"
	if j.Running() {
		left = estimate.Words(time.Duration(float64(j.Of-j.Done)/sec*float64(time.Second))) + " left"
	}
	return speed, left
}

// drawDisc draws the map of a disc, and what there is to say of it.
func (m *Model) drawDisc(t *style.Theme, j *state.DiscJob, w, h int) []string {
	caption := "reading " + j.What
	if j.Burns() {
		caption = "burning " + j.What
	}
	out := []string{t.Rule(caption, w)}
	b := j.Blocks
	if j.Burns() {
		b = discmap.Upto(j.Block, j.Of/2048)
	}
	if b == nil {
		return append(out, "  "+t.Paint(t.Dim, "The drive is looking at the disc "+t.Glyph("…")))
	}
	busy := j.Running() && !j.Waits
	rows := max(2, min(10, h-9))
	at := j.Block
	if !busy {
		at = -1
	}
	for _, l := range discmap.Rows(t, b, at, w-4, rows) {
		out = append(out, "  "+l)
	}
	out = append(out, "  "+discmap.Legend(t), "")
	say := func(colour color.Color, format string, args ...any) {
		for _, l := range t.Wrap(fmt.Sprintf(format, args...), w-4) {
			out = append(out, "  "+t.Paint(colour, l))
		}
	}
	if j.File != "" {
		say(t.Dim, "Into %s", j.File)
	}
	if j.Shelf {
		say(t.Dim, "%s of this shelf read whole, %d not.", size.Count(j.Discs, "disc"), j.Lacking)
	}
	if j.Burns() {
		if r := j.Burnt; r != nil && !j.Running() {
			say(t.Text, "SHA-1 %s", r.SHA1)
			if r.Slowly > 0 {
				say(t.Warn, "%s read only slowly: the disc may not last.", size.Count(int(r.Slowly), "block"))
			}
		}
		return out
	}
	places := b.Of(discread.Bad)
	if len(places) > 0 {
		then := "cannot be read yet; they are tried again, slower each time, from both sides."
		if !busy {
			then = "could not be read. Another copy of the disc may have them; what was read stays."
		}
		say(t.Bad, "%s in %s %s", size.Count(int(b.In(discread.Bad)), "block"), size.Count(len(places), "place"), then)
		var words []string
		for _, s := range places[:min(len(places), 6)] {
			words = append(words, fmt.Sprintf("%s+%d", size.Exact(s.First), s.Count))
		}
		say(t.Dim, "At blocks %s%s", strings.Join(words, ", "), map[bool]string{true: " and more",
			false: ""}[len(places) > 6])
	}
	if r := j.Read; r != nil && r.Result != nil && !busy {
		if len(r.Result.Hit) > 0 {
			say(t.Bad, "Of these files: %s", strings.Join(r.Result.Hit[:min(len(r.Result.Hit), 5)], ", "))
		}
		if r.Result.SHA1 != "" {
			say(t.Text, "CRC-32 %s   SHA-1 %s", r.Result.CRC32, r.Result.SHA1)
		}
	}
	return out
}

// discActions are the keys for a disc.
func (m *Model) discActions(j *state.DiscJob) []state.Action {
	word, more := "pause", "what was read stays, also when you quit"
	if j.Paused {
		word, more = "resume", "go on where it ended"
	}
	return []state.Action{
		state.Do("p", word, func() tea.Cmd { return m.d.PauseDisc(j) }).Saying(more).When(j.Paused ||
			j.Running() && !j.Burns()),
		state.Do("s", "stop now", func() tea.Cmd {
			return m.stopDisc(j)
		}).Saying("end what the drive does").When(j.Running()),
		state.Do("i", "read the disc", func() tea.Cmd { return m.d.ReadDisc(j.At, false) }).
			Saying("that lies in the drive now, into your games").When(!j.Running() && !j.Paused),
		state.Do("e", "eject", func() tea.Cmd {
			return m.d.EjectDisc(j.At)
		}).Saying("open the tray").When(!j.Running()),
	}
}

func (m *Model) stopDisc(j *state.DiscJob) tea.Cmd {
	if !j.Burns() {
		j.Stop()
		return nil
	}
	m.d.Agree("Stop burning "+j.What+"?", "the disc is spoilt then", state.Just(j.Stop))
	return nil
}

// whyDisc says how a disc stands.
func (m *Model) whyDisc(j *state.DiscJob) state.Why {
	w := state.Why{Lead: j.What + ":"}
	switch {
	case j.Paused:
		w.Say, w.Ways = "paused. What was read stays, also when you quit.",
			[]string{"p resumes, with any copy of the disc"}
	case !j.Running():
		w.Lead, w.Say = "", j.Outcome()
		if !j.Burns() && j.Bad > 0 {
			w.Ways = []string{"put another copy in, or this one again: i reads what lacks"}
		}
	case j.Waits:
		w.Lead, w.Say, w.Ways = "Next disc:", "put the next one in; it is read by itself.", []string{"s ends the shelf"}
	case j.Burns() && j.Stage == discburn.Finishing:
		w.Say = "the disc is being finished, which takes a minute or more."
	case j.Burns():
		w.Say = "do not open the drive. You can use the other stages meanwhile."
	default:
		w.Say = "being read; the tray opens at the end. You can use the other stages meanwhile."
		w.Ways = []string{"p pauses, s stops; what was read stays"}
	}
	return w
}
