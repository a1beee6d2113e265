package settings_test

import (
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/settings"
)

func TestOneValueIsSetAndNothingElseChanges(t *testing.T) {
	for name, c := range map[string]struct {
		syntax             settings.Syntax
		section, key, val  string
		text, want, before string
	}{
		"changed": {settings.KeyValue, "", "look", "stick", "# mine\nlook = disk\nvolume=7\n",
			"# mine\nlook = stick\nvolume=7\n", "disk"},
		"other case":           {settings.KeyValue, "", "look", "stick", "LOOK=disk\n", "LOOK=stick\n", "disk"},
		"the first one counts": {settings.KeyValue, "", "a", "3", "a=1\na=2\n", "a=3\na=2\n", "1"},
		"added":                {settings.KeyValue, "", "faces", "yes", "look=stick", "look=stick\nfaces=yes\n", ""},
		"to nothing":           {settings.KeyValue, "", "a", "1", "", "a=1\n", ""},
		"line ends stay":       {settings.KeyValue, "", "b", "2", "a=1\r\nb=1\r\n", "a=1\r\nb=2\r\n", "1"},
		"already so":           {settings.KeyValue, "", "a", "1", "a =1 \n", "a =1 \n", "1"},
		"hash in a value":      {settings.KeyValue, "", "a", "y", "a=x # 1\n", "a=y\n", "x # 1"},
		"ini section": {settings.INI, "video", "mode", "2",
			"mode=0\n[video]\nmode = 1 ; slow\n[sound]\nmode=9\n",
			"mode=0\n[video]\nmode = 2 ; slow\n[sound]\nmode=9\n", "1"},
		"ini added": {settings.INI, "video", "vsync", "on", "[video]\nmode=1\n\n[sound]\na=1\n",
			"[video]\nmode=1\nvsync=on\n\n[sound]\na=1\n", ""},
		"ini new section": {settings.INI, "net", "port", "21", "[video]\nmode=1\n",
			"[video]\nmode=1\n\n[net]\nport=21\n", ""},
		"ini before sections": {settings.INI, "", "a", "1", "[video]\nmode=1\n", "a=1\n[video]\nmode=1\n", ""},
		"toml text": {settings.TOML, "", "name", "Two Tides", "name = \"One\" # shown\nplayers = 1\n",
			"name = \"Two Tides\" # shown\nplayers = 1\n", "One"},
		"toml number":         {settings.TOML, "", "players", "2", "players = 1\n", "players = 2\n", "1"},
		"toml hash in a text": {settings.TOML, "", "n", "b", "n = \"a # b\" # c\n", "n = \"b\" # c\n", "a # b"},
		"toml long text": {settings.TOML, "", "b", "2", "a = \"\"\"\nb = 9\n\"\"\"\nb = 1\n",
			"a = \"\"\"\nb = 9\n\"\"\"\nb = 2\n", "1"},
		"toml table": {settings.TOML, "video", "mode", "fast", "[video]\nmode = 'slow'\n",
			"[video]\nmode = \"fast\"\n", "slow"},
	} {
		t.Run(name, func(t *testing.T) {
			was, _, err := settings.Get(c.text, c.syntax, c.section, c.key)
			require.NoError(t, err)
			assert.Equal(t, c.before, was)
			got, err := settings.Set(c.text, c.syntax, c.section, c.key, c.val)
			require.NoError(t, err)
			if c.syntax == settings.TOML {
				c.want = strings.ReplaceAll(c.want, `"`, `'`)
				got = strings.ReplaceAll(got, `"`, `'`)
			}
			assert.Equal(t, c.want, got)
			now, found, err := settings.Get(got, c.syntax, c.section, c.key)
			require.NoError(t, err)
			assert.True(t, found)
			assert.Equal(t, c.val, now)
		})
	}
	_, err := settings.Set("", settings.KeyValue, "", "a", "1\n2")
	assert.ErrorContains(t, err, "several lines")
}

func TestWhatBelongsToTheUserIsKept(t *testing.T) {
	fresh := "name = \"Two Tides\"\nplayers = 1\nfavourite = false\nlocked = []\n"
	old := "# mine\nname = \"2 Tides!\"\nplayers = 2\nfavourite = true\nlocked = [\"name\"]\n"
	got, err := settings.Keep(fresh, old, "", settings.TOML, []string{"favourite"}, "locked")
	require.NoError(t, err)
	var all map[string]any
	require.NoError(t, toml.Unmarshal([]byte(got), &all), got)
	assert.Equal(t, map[string]any{"name": "2 Tides!", "players": int64(1), "favourite": true, "locked": []any{"name"}},
		all)
	got, err = settings.Keep("name = \"New\"\nplayers = 1\nlocked = [\"name\"]\n", old, "locked = [\"name\"]\n",
		settings.TOML, nil, "locked")
	require.NoError(t, err)
	assert.Contains(t, got, "New", "what we locked ourselves we may change")
	got, err = settings.Keep("name = \"New\"\nlocked = []\n", old, "locked = []\n", settings.TOML, nil, "locked")
	require.NoError(t, err)
	assert.Equal(
		t,
		"name = \"2 Tides!\"\nlocked = [\"name\"]\n",
		got,
		"what a person locked stays, and so does the lock",
	)
	got, err = settings.Keep("[game]\nspeed=1\n[sound]\nspeed=1\n",
		"speed=9\n[game]\nSPEED=2\nspeed=3\n[sound]\nother=1\n", "",
		settings.INI, []string{"speed"}, "")
	require.NoError(t, err)
	assert.Equal(t, "speed=9\n[game]\nspeed=2\n[sound]\nspeed=1\n", got,
		"in whatever section, and the first of two counts")
	got, err = settings.Keep(
		"timing=a\ntray=shut\n",
		"TIMING=c\n",
		"",
		settings.KeyValue,
		[]string{"timing", "tray"},
		"",
	)
	require.NoError(t, err)
	assert.Equal(t, "timing=c\ntray=shut\n", got)
}

func FuzzSet(f *testing.F) {
	f.Add("a=1\n[b]\nc = 2 ; x\n", "b", "c", "3")
	f.Add("x = \"\"\"\na=1", "", "a", "")
	f.Fuzz(func(t *testing.T, text, section, key, value string) {
		for _, syntax := range []settings.Syntax{settings.KeyValue, settings.INI, settings.TOML} {
			_, _, _ = settings.Get(text, syntax, section, key)
			got, err := settings.Set(text, syntax, section, key, value)
			if err == nil && len(got) < len(text)-len(text)/2-len(value)-100 && len(text) > 400 {
				t.Fatalf("%d bytes became %d", len(text), len(got))
			}
		}
	})
}
