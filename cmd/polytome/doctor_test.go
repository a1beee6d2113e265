package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/testkit/demoworld"
)

// ownFolders has the program keep everything in folders of the test's own.
func ownFolders(t testing.TB) (dir string) {
	dir = t.TempDir()
	for _, name := range []string{"DATA", "STATE", "CACHE", "CONFIG"} {
		t.Setenv("XDG_"+name+"_HOME", filepath.Join(dir, strings.ToLower(name)))
	}
	return dir
}

func TestTheDoctorFindsWhatIsWrong(t *testing.T) {
	dir := ownFolders(t)
	diagnoses := func() map[string]diagnosis {
		_, out, _ := polytome(t, "doctor", "--json")
		var all []diagnosis
		require.NoError(t, json.Unmarshal([]byte(out), &all), out)
		by := map[string]diagnosis{}
		for _, d := range all {
			by[d.What] = d
		}
		return by
	}
	well := diagnoses()
	for _, what := range []string{"bench", "settings", "state", "cache", "kept", "loaders"} {
		assert.True(t, well[what].OK, well[what].Say)
	}
	assert.Equal(t, "nothing yet", well["kept"].Say)
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, entries, "it leaves nothing")

	profile := filepath.Join(dir, "config", "polytome", "profiles", "mine.toml")
	for file, text := range map[string]string{profile: "format = 1\nnmae = 'x'\n",
		filepath.Join(dir, "data", "polytome", "bench.toml"): "format = 1\nnmae = 'x'\n",
		filepath.Join(dir, "cache"):                          "a file where a folder should be"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	}
	ill := diagnoses()
	assert.False(t, ill["loaders"].OK)
	assert.Contains(t, ill["loaders"].Do, "polytome loaders check "+profile)
	assert.False(t, ill["kept"].OK)
	assert.Contains(t, ill["kept"].Say, `did you mean "name"?`)
	assert.False(t, ill["cache"].OK)
	status, out, _ := polytome(t, "doctor")
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "PROBLEM  loaders")
}

func TestShellsCompleteWhatFlagsMayBe(t *testing.T) {
	ownFolders(t)
	w := demoworld.Open(t)
	for _, c := range []struct {
		args []string
		has  string
	}{
		{[]string{"fill", "--loader", ""}, "rowan\tRowan, Vesper"},
		{[]string{"fill", "--bench", w.Bench, "--target", ""}, "North stick\trowan at north-stick"},
		{[]string{"fit", "--via", ""}, "usb"},
		{[]string{"fit", "--as", ""}, "exfat"},
		{[]string{"fill", "--only", "bad platform:v"}, "bad platform:vesper"},
		{[]string{"loaders", "show", ""}, "gantry"},
		{[]string{"dri"}, "drives"},
	} {
		out := ok(t, append([]string{"__complete"}, c.args...)...)
		assert.Contains(t, out, c.has, c.args)
	}
	for _, shell := range []string{"bash", "zsh", "fish", "powershell"} {
		assert.Contains(t, ok(t, "completion", shell), "polytome", shell)
	}
	script := filepath.Join(t.TempDir(), "completion.bash")
	require.NoError(t, os.WriteFile(script, []byte(ok(t, "completion", "bash")), 0o600))
	out, err := exec.Command("bash", "-n", script).CombinedOutput()
	assert.NoError(t, err, string(out))
}

func TestSettingsOfTheProgram(t *testing.T) {
	dir := ownFolders(t)
	assert.Contains(t, ok(t, "config"), "theme        auto")
	ok(t, "config", "theme", "contrast")
	assert.Equal(t, "contrast\n", ok(t, "config", "theme"))
	assert.FileExists(t, filepath.Join(dir, "config", "polytome", "config.toml"))
	status, _, stderr := polytome(t, "config", "theme", "drak")
	assert.Equal(t, statusUsage, status)
	assert.Contains(t, stderr, `did you mean "dark"?`)
	assert.Contains(t, ok(t, "__complete", "config", "theme", ""), "colour-blind")

	file := filepath.Join(dir, "other", "season.toml")
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	ok(t, "config", "bench", file)
	term := open(t, 100, 30, binary)
	term.wait("Where are your games?", "season.toml")
	term.keys("C-c")
}

func TestTheVersionIsSaid(t *testing.T) {
	assert.Regexp(t, `^Polytome \S`, ok(t, "--version"))
}
