package config_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/config"
)

func TestSettingsAreKept(t *testing.T) {
	file := filepath.Join(t.TempDir(), "in", "config.toml")
	c, err := config.Load(file)
	require.NoError(t, err, "one that is not there sets nothing")
	for key, value := range map[string]string{"theme": "light", "ascii": "yes", "bench": "/home/odile/season.toml",
		"folders": "~/games" + string(filepath.ListSeparator) + "/media/shelf", "keys": "ctrl+d=pgdown ==W"} {
		require.NoError(t, c.Set(key, value))
	}
	require.NoError(t, c.Save(file))
	again, err := config.Load(file)
	require.NoError(t, err)
	assert.Equal(t, c, again)
	assert.Equal(t, []string{"~/games", "/media/shelf"}, again.Folders)
	assert.Equal(t, map[string]string{"ctrl+d": "pgdown", "=": "W"}, again.Keys)
	for _, key := range config.Keys {
		require.NoError(t, again.Set(key, ""))
		_, err := again.Get(key)
		require.NoError(t, err)
	}
	assert.Equal(t, config.Config{}, again)

	assert.ErrorContains(t, c.Set("theme", "drak"), `did you mean "dark"?`)
	assert.ErrorContains(t, c.Set("them", "dark"), `did you mean "theme"?`)
	assert.ErrorContains(t, c.Set("ascii", "perhaps"), "perhaps")
	for _, keys := range []string{"x", "=", "x=", "=x"} {
		assert.ErrorContains(t, c.Set("keys", keys), "write ctrl+d=pgdown", keys)
	}
	for text, says := range map[string]string{"theme = 'lihgt'": `did you mean "light"?`,
		"them = 'x'":       `did you mean "theme"?`,
		"theme = ":         "config.toml:1",
		"[keys]\n'x' = ''": "a key stands for another one"} {
		require.NoError(t, os.WriteFile(file, []byte(text+"\n"), 0o600))
		_, err := config.Load(file)
		assert.ErrorContains(t, err, says, text)
	}
}
