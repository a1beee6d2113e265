package ui

import (
	tea "charm.land/bubbletea/v2"

	"polytome/internal/config"
	"polytome/internal/ui/state"
)

// settings are the entries of the palette that change how the program looks. What is chosen holds at once, and is kept.
func (a *app) settings() (out []entry) {
	set := func(key, value, say string) func() tea.Cmd {
		return func() tea.Cmd {
			if err := a.opts.Settings.Set(key, value); err != nil {
				a.state.Notice = state.Sentence(err.Error())
				return nil
			}
			a.setTheme()
			a.state.Notice, a.state.KeepAlways = say, a.opts.Settings.KeepSaves
			return a.keepSettings()
		}
	}
	for _, theme := range config.Themes {
		out = append(out, entry{"use the theme " + theme, "", "", "setting", set("theme", theme,
			"The theme is "+theme+" now.")})
	}
	switch {
	case a.opts.Settings.Blocks:
		out = append(out, entry{"show real pictures", "", "", "setting", set("blocks", "no",
			"Covers are shown as pictures, if the terminal takes them.")})
	case a.shows.gallery != nil:
		out = append(out, entry{"draw pictures in blocks", "", "", "setting", set("blocks", "yes",
			"Covers are drawn in coloured blocks.")})
	}
	if a.opts.Settings.KeepSaves {
		out = append(out, entry{"keep saves only when I say so", "", "", "setting", set("keep-saves", "no",
			"Saves are kept when you press v under Saves, and before anything on a target is removed.")})
	} else {
		out = append(out, entry{"keep saves after every look", "", "", "setting", set("keep-saves", "yes",
			"Saves that are newer than what is kept are kept whenever a target was looked at.")})
	}
	if a.opts.Settings.ASCII {
		return append(out, entry{"draw with lines and blocks", "", "", "setting", set("ascii", "no",
			"The screen is drawn with lines and blocks.")})
	}
	return append(out, entry{"draw with ASCII characters only", "", "", "setting", set("ascii", "yes",
		"The screen is drawn with ASCII characters only.")})
}

// A settingsMsg is why settings could not be kept.
type settingsMsg struct{ err error }

// keeping is whether settings are being written, and whether others came in the meantime: one writing follows another,
// so that the last ones stay.
type keeping struct{ now, again bool }

// keepSettings writes the settings to their file.
func (a *app) keepSettings() tea.Cmd {
	file, kept := a.opts.SettingsFile, a.opts.Settings
	if file == "" {
		return nil
	}
	if a.keeping.now {
		a.keeping.again = true
		return nil
	}
	a.keeping.now = true
	return func() tea.Msg { return settingsMsg{kept.Save(file)} }
}

// settingsKept says why settings could not be written, and writes those that came in the meantime.
func (a *app) settingsKept(m settingsMsg) tea.Cmd {
	if m.err != nil {
		a.state.Notice = state.Sentence(m.err.Error())
	}
	again := a.keeping.again
	a.keeping = keeping{}
	if again {
		return a.keepSettings()
	}
	return nil
}
