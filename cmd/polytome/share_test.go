package main

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/testkit/coretest"
)

// strange is a stick of a console that nobody knows.
func strange(t *testing.T) string {
	dir := t.TempDir()
	list := ""
	for n, name := range []string{"Alder Gate", "Brook Lane", "Copper Tide", "Dune Post"} {
		b := make([]byte, 2000+n)
		copy(b, "\x91\x17\xC4\x05")
		id := fmt.Sprintf("KST-%04d", 1200+n*37)
		copy(b[16:], id)
		copy(b[40:], name)
		coretest.Write(t, dir, "PLAY/"+name+".krn", b)
		list += id + ";" + name + "\n"
	}
	coretest.Write(t, dir, "PLAY/titles.lst", []byte(list))
	return dir
}

func TestALoaderIsLearntSharedAndAdded(t *testing.T) {
	config, elsewhere, dir := t.TempDir(), t.TempDir(), t.TempDir()
	answers := filepath.Join(dir, "answers.toml")
	require.NoError(t, os.WriteFile(answers, []byte("[[answer]]\nquestion = \"names\"\nanswer = \"Wharf, Heron\"\n"),
		0o644))
	file := filepath.Join(config, "polytome", "profiles", "wharf.toml")
	status, out, errOut := own(t, config, "", "loaders", "learn", strange(t), "--as", "fat32", "--answers", answers,
		"-o",
		file)
	require.Equal(t, 0, status, errOut)
	assert.Contains(t, out, "certain: 4 of 4 are stored like this")
	assert.NotContains(t, out, "what are the names")

	parcel := filepath.Join(dir, "wharf.loader")
	status, out, errOut = own(t, config, "", "loaders", "share", "wharf", "-o", parcel, "--notes", "For the red model.")
	require.Equal(t, 0, status, errOut)
	assert.Contains(t, out, "written: "+parcel)
	text, err := os.ReadFile(parcel)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "Alder", "no game of the giver's is in it")
	status, _, errOut = own(t, config, "", "loaders", "share", "wharf", "-o", parcel)
	assert.Equal(t, 1, status)
	assert.Contains(t, errOut, "already exists")
	status, _, _ = own(t, config, "", "loaders", "share", "wharf")
	assert.Equal(t, 2, status)

	status, out, _ = own(t, elsewhere, "no\n", "loaders", "add", parcel)
	assert.Equal(t, 0, status)
	assert.Contains(t, out, "For the red model.")
	assert.Contains(t, out, "Krn cartridges go to PLAY/{title}{ext}.")
	assert.Contains(t, out, "Nothing was added.")
	assert.NoDirExists(t, filepath.Join(elsewhere, "polytome", "profiles"))
	status, _, errOut = own(t, elsewhere, "yes\n", "loaders", "add", parcel)
	require.Equal(t, 0, status, errOut)
	status, out, _ = own(t, elsewhere, "", "loaders", "test", "wharf")
	assert.Equal(t, 0, status, out)

	status, out, errOut = own(t, elsewhere, "", "loaders", "add", parcel, "--yes")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "which says the same")
	assert.Contains(t, errOut, "is there already")
	status, out, _ = own(t, elsewhere, "", "loaders", "add", parcel, "--yes", "--replace")
	assert.Equal(t, 0, status)
	assert.FileExists(t, filepath.Join(elsewhere, "polytome", "profiles", "wharf.toml.before"))
	assert.Contains(t, out, "kept: wharf.toml.before")
	status, out, _ = own(t, elsewhere, "", "loaders", "add", parcel, "--yes", "--replace")
	assert.Equal(t, 0, status)
	assert.Contains(t, out, "kept: wharf.toml.before-2", "an earlier one is not lost")
}

func TestPlatformsOfAFolderOfGames(t *testing.T) {
	games := filepath.Join(strange(t), "PLAY")
	status, out, errOut := own(t, t.TempDir(), "", "loaders", "learn", "--games", games)
	require.Equal(t, 0, status, errOut)
	assert.Contains(t, out, `extensions = [".krn"]`)
	assert.Contains(t, out, "[field.name]")
	status, _, errOut = own(t, t.TempDir(), "", "loaders", "learn")
	assert.Equal(t, 2, status)
	assert.Contains(t, errOut, "a prepared target is needed")
	status, _, errOut = own(t, t.TempDir(), "", "loaders", "learn", games, "--answers", filepath.Join(games, "no.toml"))
	assert.Equal(t, 1, status)
	assert.Contains(t, errOut, "no.toml")
}

// TestWhatTheConsoleMadeIsLearntToo: a target that was filled, and that a console has used since.
func TestWhatTheConsoleMadeIsLearntToo(t *testing.T) {
	config, stick := t.TempDir(), strange(t)
	file := filepath.Join(config, "polytome", "profiles", "wharf.toml")
	status, _, errOut := own(t, config, "", "loaders", "learn", stick, "--as", "fat32", "-o", file)
	require.Equal(t, 0, status, errOut)
	status, out, errOut := own(t, config, "", "loaders", "learn", stick, "--as", "fat32", "--beyond", file)
	require.Equal(t, 0, status, errOut)
	assert.Contains(t, out, "Nothing is there that the profile of")

	recent := ""
	for n, name := range []string{"Alder Gate", "Brook Lane", "Copper Tide", "Dune Post"} {
		coretest.Write(t, stick, fmt.Sprintf("KEEP/KST-%04d.set", 1200+n*37), []byte("title="+name+"\nvolume=5\n"))
		recent += name + ".krn\r\n"
	}
	coretest.Write(t, stick, "KEEP/recent.lst", []byte(recent))
	require.NoError(t, os.MkdirAll(filepath.Join(stick, "SHOTS"), 0o755))
	status, out, errOut = own(t, config, "", "loaders", "learn", stick, "--as", "fat32", "--beyond", file)
	require.Equal(t, 0, status, errOut)
	for _, want := range []string{"each title has settings: KEEP/{id}.set", "titles are listed in KEEP/recent.lst",
		"the console makes 1 folder by itself, such as SHOTS", "To add to the profile (--add does it):",
		`path = "KEEP/{id}.set"`} {
		assert.Contains(t, out, want)
	}
	assert.NotContains(t, out, "titles.lst", "what the profile has is not learnt again")

	status, out, errOut = own(t, config, "", "loaders", "learn", stick, "--as", "fat32", "--beyond", file, "--add")
	require.Equal(t, 0, status, errOut)
	assert.Contains(t, out, "added to "+file)
	status, out, _ = own(t, config, "", "loaders", "check", file)
	assert.Equal(t, 0, status, out)
	status, out, errOut = own(t, config, "", "loaders", "learn", stick, "--as", "fat32", "--beyond", file, "--add")
	assert.Contains(t, out, "SHOTS", "the folder is no rule's")
	assert.Equal(t, 1, status)
	assert.Contains(t, errOut, "nothing was learnt that could be added")
	status, _, errOut = own(t, config, "", "loaders", "learn", stick, "--add")
	assert.Equal(t, 2, status)
	assert.Contains(t, errOut, "--add needs --beyond")

	status, _, errOut = own(t, config, "", "loaders", "learn", t.TempDir(), "--as", "fat32", "--beyond", file)
	assert.Equal(t, 1, status)
	assert.Contains(t, errOut, "no title on")
}
