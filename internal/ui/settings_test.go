package ui

import (
	"path/filepath"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/config"
)

// TestSettingsAreChosenByTheirNames: they hold at once, and the next time.
func TestSettingsAreChosenByTheirNames(t *testing.T) {
	file := filepath.Join(t.TempDir(), "config.toml")
	a, _ := demoApp(t, Options{SettingsFile: file, Settings: config.Config{Keys: map[string]string{"ctrl+d": "end",
		"j": "j"}}})
	light := a.theme.Text
	press(a, ":")
	a.Update(tea.PasteMsg{Content: "theme light"})
	press(a, "enter")
	assert.Contains(t, text(a), "The theme is light now.")
	assert.NotEqual(t, light, a.theme.Text)
	press(a, ":")
	a.Update(tea.PasteMsg{Content: "ascii"})
	press(a, "enter")
	assert.NotContains(t, text(a), "─")
	kept, err := config.Load(file)
	require.NoError(t, err)
	assert.Equal(t, config.Config{Theme: "light", ASCII: true, Keys: a.opts.Settings.Keys}, kept)
	a.opts.SettingsFile = filepath.Join(file, "x") // where nothing can be kept
	press(a, ":")
	a.Update(tea.PasteMsg{Content: "lines and blocks"})
	press(a, "enter")
	assert.Contains(t, text(a), "─")
	assert.Contains(t, text(a), "Saving the settings: ")
}

func TestAKeyOfOnesOwn(t *testing.T) {
	a, _ := demoApp(t, Options{Settings: config.Config{Keys: map[string]string{"ctrl+d": "end"}}})
	press(a, "end")
	last := text(a)
	press(a, "home")
	require.NotEqual(t, last, text(a))
	a.Update(tea.KeyPressMsg{Code: 'd', Mod: tea.ModCtrl})
	assert.Equal(t, last, text(a))
	press(a, "?")
	assert.Contains(t, text(a), "your own: ctrl+d=end")
}

// TestTheLastSettingStays, also when the one before is still being written.
func TestTheLastSettingStays(t *testing.T) {
	file := filepath.Join(t.TempDir(), "config.toml")
	a, _ := demoApp(t, Options{SettingsFile: file})
	theme := func(name string) tea.Cmd {
		for _, e := range a.settings() {
			if e.name == "use the theme "+name {
				return e.do()
			}
		}
		return nil
	}
	first := theme("light")
	assert.Nil(t, theme("contrast"), "it waits")
	assert.Nil(t, theme("dark"))
	pump(a, first)
	kept, err := config.Load(file)
	require.NoError(t, err)
	assert.Equal(t, "dark", kept.Theme)
}
