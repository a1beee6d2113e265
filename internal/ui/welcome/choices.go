package welcome

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/gamefolders"
	"polytome/internal/core/loader"
	"polytome/internal/drives"
	"polytome/internal/size"
	"polytome/internal/target/drive"
	"polytome/internal/target/protocols"
	"polytome/internal/target/served"
	"polytome/internal/ui/state"
)

// gamesChoices are the folders that are likely to hold games.
func (m *Model) gamesChoices() (out []choice) {
	for _, f := range m.games {
		out = append(out, choice{name: state.Short(f.Path), say: gamesWords(&f),
			do: func() (tea.Cmd, bool) { return m.takeGames(f.Path) }})
	}
	return append(out, choice{name: "Look round first", say: "an empty bench; everything can be added later",
		apart: true,
		do:    m.lookRound})
}

func gamesWords(f *gamefolders.Folder) string {
	ends := f.Extensions
	if len(ends) > 3 {
		ends = append(slices.Clone(ends[:3]), "…")
	}
	return fmt.Sprintf("%s, %s  %s", size.Count(f.Files, "file"), size.Format(f.Bytes), strings.Join(ends, " "))
}

// fillChoices are what can be filled: volumes that are mounted, drives, and what is typed; and the ways out.
func (m *Model) fillChoices() (out []choice) {
	out = m.drivesFound()
	if len(out) == 0 {
		out = append(out, choice{name: "No drive is plugged in", say: "one that you plug in appears here",
			do: func() (tea.Cmd, bool) {
				m.problem = "Plug a drive in, or type what shall be filled."
				return nil, false
			}})
	}
	return append(out,
		choice{name: "None of these: teach a new console", apart: true,
			say: "its rules are learnt from a stick that works: type where that is, then choose this",
			do:  m.teachTyped},
		choice{name: "None of these: answer questions", say: "a dozen, about how the console wants its games",
			do: func() (tea.Cmd, bool) { return tea.Batch(m.empty(), m.d.Interview()), true }},
		choice{name: "Look round first", say: "what shall be filled can be added later", do: m.lookRound})
}

// drivesFound are the drives that may be filled, and their volumes.
func (m *Model) drivesFound() (out []choice) {
	for i := range m.d.Drives {
		if f := &m.d.Drives[i]; !ofSystem(f) {
			out = append(out, m.driveChoices(f)...)
		}
	}
	slices.SortStableFunc(out, func(x, y choice) int { return rank(x.say) - rank(y.say) })
	return out
}

// rank brings what loaders are known of before the rest.
func rank(say string) int {
	switch {
	case strings.Contains(say, " for "):
		return 0
	case strings.Contains(say, "blank"):
		return 2
	}
	return 1
}

// ofSystem reports whether a drive is one that is never written to.
func ofSystem(f *state.Found) bool {
	if f.Trouble != "" {
		return true
	}
	return slices.ContainsFunc(f.Uses, func(u drives.Use) bool { return u.Kind != drives.Mounted })
}

// driveChoices are the volumes of a drive, or the drive where it has none.
func (m *Model) driveChoices(f *state.Found) (out []choice) {
	built := ""
	if f.Fixed() {
		built = ", built in"
	}
	for i := range f.Volumes {
		v := &f.Volumes[i]
		if v.Trouble != "" || !v.Ours() && len(v.MountedAt) == 0 {
			continue
		}
		name := v.Label
		if name == "" {
			name = f.Name()
		}
		at, where := m.d.AddressOf(f.Drive, v), whichDrive(f)
		if len(v.MountedAt) > 0 {
			at, where = v.MountedAt[0], v.MountedAt[0]
		}
		out = append(out, choice{name: name, say: fmt.Sprintf("%s, %s: %s  (%s%s)", size.Format(v.Size), v.Shown(),
			f.Contents[i].Words(), where, built), do: func() (tea.Cmd, bool) { return m.takeVolume(f, i, name, at) }})
	}
	if len(out) == 0 && f.Refusal() == nil {
		out = append(out, choice{name: f.Name(), say: fmt.Sprintf("%s, blank: it is prepared first  (%s%s)",
			size.Format(f.Size), whichDrive(f), built), do: func() (tea.Cmd, bool) {
			m.target, m.bare = bench.Target{Name: f.Name(), At: drive.Address{Drive: f.Key()}.String()}, f
			m.ask(whichLoader)
			return nil, false
		}})
	}
	return out
}

// whichDrive says which drive it is that a volume is on.
func whichDrive(f *state.Found) string {
	switch {
	case f.Image:
		return "an image file"
	case f.Serial != "":
		return f.Name() + ", " + f.Serial
	}
	return f.Name()
}

// takeVolume fills a volume. Where it is plain which loader reads it, that is all.
func (m *Model) takeVolume(f *state.Found, i int, name, at string) (tea.Cmd, bool) {
	m.target, m.bare = bench.Target{Name: name, At: at}, nil
	if all := f.Contents[i].Loaders; len(all) == 1 || len(all) > 1 && all[0].Titles > 2*all[1].Titles {
		if p, err := m.d.Set.Profile(all[0].Name); err == nil {
			return m.begin(p)
		}
	}
	m.ask(whichLoader)
	return nil, false
}

// loaderChoices are the loaders that may read what shall be filled.
func (m *Model) loaderChoices() (out []choice) {
	for _, p := range m.d.Set.Profiles {
		if !m.reads(p) {
			continue
		}
		var platforms []string
		for _, x := range m.d.Set.Platforms {
			if p.Knows(x.Name) {
				platforms = append(platforms, x.Shown)
			}
		}
		rank := m.likely(p)
		if m.shared(p) {
			rank += 1000 // the share has the name that this loader wants
		}
		out = append(out, choice{name: p.Shown, say: strings.Join(platforms, ", "), rank: rank,
			do: func() (tea.Cmd, bool) { return m.begin(p) }})
	}
	slices.SortStableFunc(out, func(x, y choice) int { return y.rank - x.rank })
	return append(out, choice{name: "None of these: teach a new console", apart: true,
		say: "its rules are learnt from what is on it", do: m.teach})
}

// likely is how many of the extensions of the games are those of platforms that a loader knows, in parts of all that
// it knows: a loader for these games alone comes before one for everything.
func (m *Model) likely(p *loader.Profile) int {
	i := slices.IndexFunc(m.games, func(f gamefolders.Folder) bool { return f.Path == m.source })
	if i < 0 {
		return 0
	}
	known, all := 0, 0
	for _, x := range m.d.Set.Platforms {
		if !p.Knows(x.Name) {
			continue
		}
		all++
		if slices.ContainsFunc(x.Extensions, func(ext string) bool {
			return slices.Contains(m.games[i].Extensions,
				ext)
		}) {
			known++
		}
	}
	return known * 100 / max(1, all)
}

// reads reports whether a loader may read what shall be filled.
func (m *Model) reads(p *loader.Profile) bool {
	if protocol, _, _ := protocols.Parse(m.target.At); protocol != nil {
		return slices.ContainsFunc(p.Attachments, func(a loader.Attachment) bool { return a.Via == protocol.Name })
	}
	if m.bare != nil {
		return p.OnDrive("", m.bare.Network) != nil
	}
	return true
}

// shared reports whether what shall be filled is a share of the name that a loader looks for.
func (m *Model) shared(p *loader.Profile) bool {
	protocol, _, _ := protocols.Parse(m.target.At)
	return protocol != nil && slices.ContainsFunc(p.Attachments, func(a loader.Attachment) bool {
		return a.Via == protocol.Name && a.Share != "" && strings.EqualFold(a.Share, path.Base(m.target.At))
	})
}

// lookRound begins with what is known so far.
func (m *Model) lookRound() (tea.Cmd, bool) { return m.empty(), true }

// empty sets the bench up without anything to fill.
func (m *Model) empty() tea.Cmd {
	if m.source == "" {
		return m.d.Begin(nil, nil)
	}
	return m.d.Begin([]bench.Source{{Path: m.source}}, nil)
}

// teachTyped has a console be learnt from what was typed.
func (m *Model) teachTyped() (tea.Cmd, bool) {
	m.problem = "Type the folder, image or address of a stick that the console reads; press enter, then choose teach."
	return nil, false
}

// teach has a console be learnt from what shall be filled.
func (m *Model) teach() (tea.Cmd, bool) {
	if m.bare != nil {
		m.problem = "There is nothing on it to learn from: esc goes back, to choose a stick that the console reads."
		return nil, false
	}
	return m.d.BeginTeaching(m.source, m.target.At), true
}

// begin sets the bench up for the answers.
func (m *Model) begin(p *loader.Profile) (tea.Cmd, bool) {
	t := state.NewTarget(m.target.At, p)
	if m.target.Name != "" {
		t.Name = m.target.Name
	}
	if m.bare != nil {
		m.preparing = m.bare.Path
	}
	return m.d.Begin([]bench.Source{{Path: m.source}}, []bench.Target{t}), true
}

// Prepares is the path of the drive that has to be prepared for the bench that was set up, "" for none.
func (m *Model) Prepares() string { return m.preparing }

// heading is what is asked, and what is typed instead of choosing.
func (m *Model) heading() (ask, typing string) {
	if m.at == whichLoader {
		return "Which loader reads " + m.targetName() + "?", "or type its name"
	}
	return headings(m.at)
}

func headings(at question) (ask, typing string) {
	if at == whereGames {
		return "Where are your games?", "or type the path of a folder"
	}
	return "What shall be filled?",
		"or type a folder, an image, " + protocols.Examples("or") + ", or " + served.Scheme + "NAME"
}

func (m *Model) targetName() string {
	if m.target.Name != "" {
		return m.target.Name
	}
	return filepath.Base(m.target.At)
}
