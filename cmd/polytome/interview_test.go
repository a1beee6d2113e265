package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

func lines(all ...string) string { return strings.Join(all, "\n") + "\n" }

// TestAnInterviewShowsWhatGamesSay: the platform of games that nobody has described is worked out, and what is written
// is tried on them at the end.
func TestAnInterviewShowsWhatGamesSay(t *testing.T) {
	config, games := t.TempDir(), filepath.Join(strange(t), "PLAY")
	status, out, questions := own(t, config, lines("Wharf", "Heron", "usb", "exfat", "", games, "", "", "RUN", "no",
		"{id} {title}", "", "no", "", "", ""), "loaders", "new")
	require.Equal(t, 0, status, questions)
	assert.Contains(t, questions, `Is "KST-1200" the id of`)
	assert.Contains(t, questions, "games are alike, such as")
	assert.Contains(t, out, "KST-1200 Alder Gate.krn", "where they would go")
	set, err := loader.Known(filepath.Join(config, "polytome"))
	require.NoError(t, err)
	assert.Empty(t, set.Broken)
	assert.NotNil(t, set.Platform("krn"))

	// What was found is not right: the person says what it is, or that there is none.
	status, _, questions = own(t, t.TempDir(), lines("Wharf", "Heron", "usb", "exfat", "", games, "no", "Alder Gate",
		"RUN",
		"no", "{title}", "", "no", "", "", ""), "loaders", "new")
	require.Equal(t, 0, status, questions)
	status, _, questions = own(t, t.TempDir(), lines("Wharf", "Heron", "usb", "exfat", "", filepath.Join(games, "gone"),
		""),
		"loaders", "new")
	assert.Equal(t, 1, status)
	assert.Contains(t, questions, "is no folder")
}

func TestAnInterviewAsksAboutDiscsAndTracks(t *testing.T) {
	config := t.TempDir()
	status, _, questions := own(t, config, lines("Wharf", "Heron", "usb", "exfat", "", "", "vault", "tracks", "GAMES",
		"no",
		"{title}", "no braces", "-{disc}", "no index", "GAMES/{title} {index|pad:2}.bin", "", "no", "", "", ""),
		"loaders", "new")
	require.Equal(t, 0, status, questions)
	assert.Contains(t, questions, "it needs {disc}")
	assert.Contains(t, questions, "it needs {index}")
	set, err := loader.Known(filepath.Join(config, "polytome"))
	require.NoError(t, err)
	require.Empty(t, set.Broken)
	p, err := set.Profile("wharf")
	require.NoError(t, err)
	assert.Equal(t, []title.Form{title.Tracks}, p.Accepts[0].Forms)
	assert.Equal(t, " -{disc}", p.Accepts[0].Title.Discs.String())
}

func TestAnInterruptedInterviewGoesOn(t *testing.T) {
	config := t.TempDir()
	status, _, errOut := own(t, config, lines("Wharf", "Heron", "usb"), "loaders", "new")
	assert.Equal(t, 1, status)
	assert.Contains(t, errOut, "your 3 answers are kept")
	kept := filepath.Join(config, "polytome", "interview.txt")
	assert.FileExists(t, kept)

	rest := []string{"exfat", "", "", "tern", "", ".ter", "GAMES", "no", "{title}", "", "no", "", "", ""}
	status, out, errOut := own(t, config, lines(append([]string{"yes"}, rest...)...), "loaders", "new")
	require.Equal(t, 0, status, errOut)
	assert.Contains(t, errOut, "There are 3 answers of an interview that was interrupted")
	assert.Contains(t, out, "wharf.toml")
	assert.NoFileExists(t, kept)

	require.NoError(t, os.Remove(filepath.Join(config, "polytome", "profiles", "wharf.toml")))
	require.NoError(t, os.Remove(filepath.Join(config, "polytome", "platforms", "tern.toml")))
	status, _, _ = own(t, config, lines("Quay", "Heron"), "loaders", "new")
	assert.Equal(t, 1, status)
	status, _, errOut = own(t, config, lines(append([]string{"no", "Wharf", "Heron", "usb"}, rest...)...), "loaders",
		"new")
	require.Equal(t, 0, status, errOut)
	assert.NoFileExists(t, kept, "what was not resumed is dropped")
}
