package teachview

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/layout"
	"polytome/internal/core/learn"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/size"
	"polytome/internal/ui/state"
)

// A LookedMsg is that a target was looked at.
type LookedMsg struct {
	number  int
	session *session
	answers learn.Answers // that were given before
	unread  string        // why those could not be read
	err     error
}

// A LearntMsg is what was learnt.
type LearntMsg struct {
	number int
	draft  *learn.Draft
	beyond *learn.Draft // what the loader that the target is filled for does not account for; nil where none is
	err    error
}

// A LaidMsg is where the user's own titles would go.
type LaidMsg struct {
	number int
	games  []game
	err    error
}

// A SavedMsg is that the profile was written.
type SavedMsg struct {
	number int
	name   string
	files  []string
	err    error
}

// look opens the target, and has what is needed of it be local.
func (m *Model) look() tea.Cmd {
	ctx, number := m.begin("looking at " + m.from.Name)
	from, own := m.from, m.d.OwnDir
	from.Config.Loader = "" // its rules are what is not known
	return func() tea.Msg {
		p, err := survey.OpenTarget(ctx, from.At, from.Config, nil, false)
		if err != nil {
			return LookedMsg{number: number, err: err}
		}
		l, done, err := learn.LookAt(ctx, from.At, p, learn.Sources{})
		if err != nil {
			return LookedMsg{number: number, err: errors.Join(err, p.Close())}
		}
		l.Name = from.Name
		msg := LookedMsg{number: number, session: &session{l, func() {
			done()
			_ = p.Close() // which was read from
		}}}
		msg.answers, msg.unread = kept(own, from)
		return msg
	}
}

// learn has everything be learnt again, with what was answered so far.
func (m *Model) learn() tea.Cmd {
	if m.session == nil {
		return nil
	}
	ctx, number := m.begin("learning")
	l, set := m.session.look, m.d.Set
	l.Answers = slices.Clone(m.answers)
	name := m.from.Config.Loader
	return func() tea.Msg {
		msg := LearntMsg{number: number}
		msg.draft, msg.err = learn.Learn(ctx, l, set)
		if p, err := set.Profile(name); name != "" && err == nil {
			if d, err := learn.Beyond(ctx, l, p, set); err == nil && len(d.Findings) > 0 {
				msg.beyond = d
			}
		}
		if ctx.Err() != nil {
			msg.err = ctx.Err()
		}
		return msg
	}
}

// lay finds where the user's own titles would go by what was learnt.
func (m *Model) lay() tea.Cmd {
	if m.draft == nil || m.session == nil {
		return nil
	}
	ctx, number := m.begin("laying your games out")
	d, l := m.draft, m.session.look
	set := learn.With(m.d.Set, d.Taught)
	var sources []string
	for _, s := range m.d.Bench.Sources {
		sources = append(sources, m.d.Bench.Resolve(s.Path))
	}
	return func() tea.Msg {
		p, err := loader.ParseProfile("draft.toml", []byte(d.TOML()))
		if err == nil {
			err = set.Check(p)
		}
		if err != nil {
			return LaidMsg{number: number, err: err}
		}
		r, err := scan.Scan(ctx, sources, scan.Options{Set: set})
		if err != nil {
			return LaidMsg{number: number, err: err}
		}
		t := layout.Lay(r.Titles, p, layout.Destination{Attachment: &p.Attachments[0], Filesystem: l.Facts.Filesystem,
			Set: set})
		msg := LaidMsg{number: number}
		for i := range r.Titles {
			if r.Titles[i].Platform == "" {
				continue
			}
			pl := &t.Placements[i]
			g := game{name: r.Titles[i].Name}
			switch {
			case pl.Refusal == nil:
				g.path = pl.Items[0].Path
			case pl.Refusal.Foreign:
				continue // of another console
			default:
				g.path, g.refused = pl.Refusal.Say, true
			}
			msg.games = append(msg.games, g)
		}
		return msg
	}
}

// save writes the profile, and the platforms that it needs.
// askSave asks whether the profile shall be written.
func (m *Model) askSave() tea.Cmd {
	switch {
	case m.draft == nil || len(m.draft.Rules) == 0:
		m.d.Notice = "There is nothing to write yet."
		return nil
	case m.d.OwnDir == "":
		m.d.Notice = "There is no folder for your own profiles."
		return nil
	}
	m.d.Agree("Write what was learnt as a loader of your own?", "one text file in "+m.d.OwnDir+"; what is there stays",
		m.save)
	return nil
}

func (m *Model) save() tea.Cmd {
	if m.draft == nil {
		return nil
	}
	number, own, set := m.number, m.d.OwnDir, m.d.Set
	d := *m.draft
	return func() tea.Msg {
		name := d.Name
		for n := 2; ; n++ { // an earlier one is kept
			if _, err := os.Stat(loader.OwnFile(own, d.Name)); errors.Is(err, fs.ErrNotExist) && !slices.ContainsFunc(
				set.Profiles, func(p *loader.Profile) bool { return p.Name == d.Name }) {
				break
			}
			d.Name = fmt.Sprintf("%s-%d", name, n)
		}
		files, err := d.Save(loader.OwnFile(own, d.Name), own, set)
		return SavedMsg{number, d.Name, files, err}
	}
}

// An AddedMsg is that what the console has made was added to the profile of its loader.
type AddedMsg struct {
	number int
	file   string
	err    error
}

// add puts what the target's loader does not account for into its profile.
// askAdd asks whether what the console has made shall be added to its profile.
func (m *Model) askAdd() tea.Cmd {
	if m.d.OwnDir == "" {
		m.d.Notice = "There is no folder for your own profiles."
		return nil
	}
	m.d.Agree("Add this to the profile?", "one that ships is copied to your own first", m.add)
	return nil
}

func (m *Model) add() tea.Cmd {
	if m.beyond == nil {
		return nil
	}
	number, own, set, d := m.number, m.d.OwnDir, m.d.Set, *m.beyond
	p, err := set.Profile(m.from.Config.Loader)
	if err != nil {
		m.d.Notice = state.Sentence(err.Error())
		return nil
	}
	return func() tea.Msg {
		file, err := d.AddTo(p, own, set)
		return AddedMsg{number, file, err}
	}
}

// Update takes in what comes of the panel's own work.
func (m *Model) Update(msg tea.Msg, _ bool) (t state.Taken, ok bool) {
	switch msg := msg.(type) {
	case LookedMsg:
		if msg.number != m.number {
			t.Cmd = msg.session.close()
			return t, true
		}
		m.busy = ""
		if msg.err != nil {
			m.problem = state.Sentence(msg.err.Error())
			return t, true
		}
		m.session, m.answers, m.unread = msg.session, msg.answers, msg.unread
		if n := len(m.answers); n > 0 {
			m.d.Notice = fmt.Sprintf("Your %s of the last time %s: u takes back the last one.",
				size.Count(n, "answer"), map[bool]string{true: "counts", false: "count"}[n == 1])
		}
		if m.unread != "" {
			m.d.Notice = m.unread
		}
		t.Cmd = m.learn()
	case LearntMsg:
		if msg.number == m.number {
			m.setDraft(msg)
		}
	case LaidMsg:
		if msg.number == m.number {
			m.busy, m.games, m.laid = "", msg.games, true
			if msg.err != nil {
				m.problem = state.Sentence(msg.err.Error())
			}
			m.width = 0
		}
	case KeptMsg:
		if msg.err != nil {
			m.d.Notice = state.Sentence("keeping your answers: " + msg.err.Error())
		}
	case BytesMsg:
		m.setBytes(msg)
	case AddedMsg:
		if msg.err != nil {
			m.d.Notice = state.Sentence(msg.err.Error())
			return t, true
		}
		m.d.Notice = "Added to " + msg.file + "."
		if msg.number == m.number {
			m.beyond, m.width = nil, 0
		}
		t.Cmd = tea.Batch(m.d.Reload(), m.d.WatchLoaders())
	case SavedMsg:
		m.saved(msg)
		if msg.err == nil {
			m.d.Learnt = msg.name
			m.d.Taught(m.from, msg.name)
		}
		t.Cmd = tea.Batch(m.d.Reload(), m.d.WatchLoaders())
	default:
		return t, false
	}
	return t, true
}

// setDraft takes over what was learnt.
func (m *Model) setDraft(msg LearntMsg) {
	m.busy, m.problem, m.laid, m.games = "", "", false, nil
	if msg.err != nil {
		m.problem = state.Sentence(msg.err.Error())
	}
	if msg.draft != nil {
		m.draft = msg.draft
		m.countRules()
	}
	m.beyond = msg.beyond
	m.asked = max(0, min(m.asked, len(m.questions())-1))
	m.width = 0
	m.list()
}

func (m *Model) saved(msg SavedMsg) {
	if msg.err != nil {
		m.d.Notice = state.Sentence(msg.err.Error())
		return
	}
	m.d.Notice = fmt.Sprintf("Written: %s. L shows the loader %s; p there fills the target for it.",
		strings.Join(msg.files, ", "), msg.name)
}
