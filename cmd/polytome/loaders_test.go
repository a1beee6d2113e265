package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/learn"
	"polytome/internal/core/loader"
	"polytome/internal/testkit/coretest"
)

// own runs the program with a config folder of the test's own.
func own(t *testing.T, config, stdin string, args ...string) (status int, out, errOut string) {
	cmd := exec.Command(binary, args...)
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+config)
	cmd.Stdin = strings.NewReader(stdin)
	return finish(t, cmd)
}

func TestLoadersAreListedAndShown(t *testing.T) {
	config := t.TempDir()
	status, out, _ := own(t, config, "", "loaders")
	assert.Equal(t, 0, status)
	for _, name := range []string{"bellows", "gantry", "mica", "oxbow", "plover", "rowan", "trellis"} {
		assert.Contains(t, out, name)
		status, shown, _ := own(t, config, "", "loaders", "show", name)
		assert.Equal(t, 0, status)
		for _, section := range []string{"How it is connected", "What it supports, and where", "At the console"} {
			assert.Contains(t, shown, section, name)
		}
		assert.NotRegexp(t, regexp.MustCompile(`%!|\.\.\n|<nil>|  \n`), shown)
	}
	status, _, errOut := own(t, config, "", "loaders", "show", "rowna")
	assert.Equal(t, 1, status)
	assert.Contains(t, errOut, `did you mean "rowan"?`)
}

func TestOwnFilesAddAndReplaceAndMayBeBroken(t *testing.T) {
	config := t.TempDir()
	text, err := coretest.Profile(t, "rowan").Text()
	require.NoError(t, err)
	put := func(name, text string) { coretest.Write(t, config, "polytome/"+name, []byte(text)) }
	put("profiles/rowan.toml", strings.Replace(string(text), "{id} - {title}.iso", "{title} - {id}.iso", 1))
	put("profiles/wharf.toml", strings.Replace(string(text), `name = "rowan"`, `name = "wharf"`, 1))
	put("profiles/bad.toml", strings.Replace(string(text), "contiguous = true", "contigous = true", 1))
	put("platforms/tern.toml", "format = 1\nname = \"tern\"\nshown = \"Tern\"\nforms = [\"cartridge\"]\nextensions = "+
		"[\".ter\"]\n")
	put("platforms/none.toml", "format = 1\nname = \"none\"\n")
	status, out, _ := own(t, config, "", "loaders")
	assert.Equal(t, 0, status)
	assert.Contains(t, out, "wharf")
	assert.Contains(t, out, "(yours: ")
	assert.Contains(t, out, `bad.toml:15:1: unknown key "attachment.contigous": did you mean "contiguous"?`)
	assert.Contains(t, out, "none.toml")

	games := t.TempDir()
	coretest.Write(t, games, "a.iso", coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full")))
	coretest.Write(t, games, "b.ter", []byte("tern"))
	status, out, errOut := own(t, config, "", "tree", "--from", games, "--loader", "rowan")
	assert.Equal(t, 0, status)
	assert.Contains(t, out, "Copper Tide - VSP-20417.iso", "the user's own replaces what ships")
	assert.Contains(t, errOut, "bad.toml has a mistake")
	status, _, errOut = own(t, config, "", "tree", "--from", games, "--loader", "bad")
	assert.Equal(t, 1, status)
	assert.Contains(t, errOut, "contigous")
	_, out, _ = own(t, config, "", "scan", games)
	assert.Contains(t, out, "2 titles", "the user's own platform is known")

	status, out, _ = own(t, config, "", "loaders", "check", filepath.Join(config, "polytome/profiles/wharf.toml"),
		filepath.Join(config, "polytome/profiles/bad.toml"),
		filepath.Join(config, "polytome/platforms/tern.toml"), filepath.Join(config, "nowhere.toml"))
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "wharf.toml: the profile of Rowan is OK")
	assert.Contains(t, out, "tern.toml: the platform tern is OK")
	assert.Contains(t, out, "bad.toml:15:1:")
	assert.Contains(t, out, "no such file")
}

func TestAProfileFromAnswers(t *testing.T) {
	config := t.TempDir()
	file := filepath.Join(t.TempDir(), "mine.toml")
	answers := "Wharf House\nTern\nusb\nfat99\nfat32,exfat\nWHARF\n\ntern\n\n.ter\n" +
		"GAMES\nyes\n{nonsense}\n{title}\n24\nyes\n\nrestart it\n\n"
	status, out, questions := own(t, config, answers, "loaders", "new", "-o", file)
	require.Equal(t, 0, status, questions)
	assert.Contains(t, out, "mine.toml")
	assert.Contains(t, questions, "please answer one of: fat32")
	assert.Contains(t, questions, `unknown field "nonsense"`)
	status, out, _ = own(t, config, "", "loaders", "check", file)
	assert.Equal(t, 0, status, out)
	set, err := loader.Known(filepath.Join(config, "polytome"))
	require.NoError(t, err)
	p, err := set.ReadProfile(file)
	require.NoError(t, err)
	assert.Equal(t, []any{"wharf-house", "WHARF", 24, "GAMES/{title}/{title}{ext}"},
		[]any{p.Name, p.Attachments[0].Label, p.Accepts[0].Title.Longest, p.Accepts[0].Path.String()})
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Greater(t, strings.Count(string(text), "#"), 4, "with comments")

	games := t.TempDir()
	coretest.Write(t, games, "Été à la mer.ter", []byte("x"))
	status, out, _ = own(t, config, "", "loaders", "try", file, "--from", games)
	assert.Equal(t, 0, status)
	assert.Contains(t, out, "Ete a la mer.ter")

	status, _, errOut := own(t, config, answers, "loaders", "new", "-o", file)
	assert.Equal(t, 1, status)
	assert.Contains(t, errOut, "already exists")
	status, _, errOut = own(t, config, "Wharf\n", "loaders", "new")
	assert.Equal(t, 1, status)
	assert.Contains(t, errOut, "the answers ended before the questions")
	assert.NoDirExists(t, filepath.Join(config, "polytome", "profiles"))
}

func TestAProfileLearntFromATarget(t *testing.T) {
	w := world(t)
	config := t.TempDir()
	status, _, errOut := own(t, config, "", "fill", "--bench", w.Bench)
	require.Equal(t, 3, status, errOut)
	status, out, errOut := own(t, config, "", "loaders", "learn", w.Stick, "--as", "fat32", "--json")
	require.Equal(t, 0, status, errOut)
	var learnt struct {
		Findings []struct{ Say, Evidence, Confidence string }
		Open     []learn.Question
		Titles   int
		Profile  string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &learnt))
	assert.Equal(t, 15, learnt.Titles)
	assert.Contains(t, learnt.Profile, `path = "{kind|upper}/{id} - {title}{if disc} (Disc {disc}){end}.iso"`)
	assert.NotEmpty(t, learnt.Open)
	for _, f := range learnt.Findings {
		assert.NotEmpty(t, f.Evidence)
	}
	file := filepath.Join(t.TempDir(), "learnt.toml")
	status, out, _ = own(t, config, "", "loaders", "learn", w.Stick, "--as", "fat32", "-o", file)
	assert.Equal(t, 0, status)
	assert.Contains(t, out, "vesper images go to {kind|upper}/{id} - {title}{if disc} (Disc {disc}){end}.iso")

	// The target was filled right by what was learnt, too: there is nothing to do.
	status, out, _ = own(t, config, "", "fill", "--from", w.Games, "--loader", file, "--to", w.Stick, "--as", "fat32",
		"--capacity", "58GiB", "--no-covers", "--dry-run")
	assert.Equal(t, 3, status)
	assert.Contains(t, out, "0 files to write, 0 bytes; 15 already there")
	assert.Contains(t, learnt.Profile, `of = "disc"`, "what a picture shows follows from its folder")

	status, _, errOut = own(t, config, "", "loaders", "learn", filepath.Join(w.Dir, "nowhere"))
	assert.Equal(t, 1, status)
	assert.Contains(t, errOut, "no folder")
	status, _, errOut = own(t, config, "", "loaders", "learn", t.TempDir())
	assert.Equal(t, 1, status)
	assert.Contains(t, errOut, "shows where games go")
}

func TestTheTree(t *testing.T) {
	w := world(t)
	status, out, _ := polytome(t, "tree", "--from", w.Games, "--from", w.Shelf, "--loader", "bellows")
	assert.Equal(t, 0, status)
	for _, want := range []string{"Two Tides (Disc 1).cue", "Two Tides.m3u", "title.toml", "Tollbridge.h16",
		"Tollbridge (2).h16", "BAD", "Rules:", "Bellows does not read Vesper titles"} {
		assert.Contains(t, out, want)
	}
	_, out, _ = polytome(t, "tree", "--from", w.Games, "--loader", "rowan", "--json")
	var tree struct {
		Loader, Filesystem string
		Tree               []struct{ Path, Rule, Shape string }
		Left               []struct{ Label string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &tree))
	assert.Equal(t, "fat32", tree.Filesystem)
	parts := 0
	for _, l := range tree.Tree {
		assert.NotEmpty(t, l.Rule, l.Path)
		if l.Shape == "split" {
			parts++
		}
	}
	assert.Equal(t, 9, parts, "three images over the limit, three parts each")
	for _, c := range []struct {
		args []string
		say  string
	}{
		{[]string{"--from", w.Games}, "--loader NAME are both needed"},
		{[]string{"--from", w.Games, "--loader", "rowan", "--via", "ftp"},
			"its connections are: usb, adapter, nbd, smb"},
		{[]string{"--from", w.Games, "--loader", "rowan", "--as", "ntfs"}, "does not read NTFS over usb"},
		{[]string{"--from", w.Games, "--loader", "rowan", "--as", "fat99"}, "fat99"},
	} {
		status, _, errOut := polytome(t, append([]string{"tree"}, c.args...)...)
		assert.Equal(t, 2, status, c.say)
		assert.Contains(t, errOut, c.say)
	}
}

func TestAnyLoaderIsFilledFromTheCommandLine(t *testing.T) {
	w := world(t)
	disk := t.TempDir()
	status, out, errOut := polytome(t, "fill", "--from", w.Shelf, "--loader", "gantry", "--to", disk, "--as", "exfat",
		"--capacity", "1GiB")
	assert.Equal(t, 3, status, errOut)
	assert.Contains(t, out, "21 files copied, read back",
		"over FTP, the loader's usual connection, for which the folder stands")
	assert.Contains(t, out, "Games/Gorse Common/MAIN.RUN",
		"an image that the loader does not read goes as the folder in it")
	assert.FileExists(t, filepath.Join(disk, "Games", "Hollow Lane", "art", "title.dat"))
	status, out, _ = polytome(t, "simulate", "gantry", disk)
	assert.Equal(t, 0, status)
	assert.Contains(t, out, "Hollow Lane")
	assert.NotContains(t, out, "skipped")
	status, out, _ = polytome(t, "check", "--loader", "gantry", "--to", disk, "--as", "exfat")
	assert.Equal(t, 0, status)
	assert.Contains(t, out, "Gantry will list 17 titles")

	status, out, _ = polytome(t, "fit", "--from", w.Shelf, "--loader", "trellis", "--to", disk, "--via", "usb", "--as",
		"fat32")
	assert.Equal(t, 3, status)
	assert.Contains(t, out, "from a FAT32 stick, Trellis reads only Siskin images")
	assert.Contains(t, out, "-> a stick with exFAT")
	assert.Contains(t, out, "Trellis does not use")
	status, _, errOut = polytome(t, "fit", "--from", w.Shelf, "--loader", "trellis", "--to", disk, "--via", "ubs")
	assert.Equal(t, 2, status)
	assert.Contains(t, errOut, `--via: unknown connection "ubs": did you mean "usb"?`)
}

// TestAGameIsExplainedAndExamplesAreRun walks folders through a description that stands in a file of its own, and
// breaks one of its examples.
func TestAGameIsExplainedAndExamplesAreRun(t *testing.T) {
	config, dir := t.TempDir(), t.TempDir()
	pelican := `format = 1
name = "pelican"
shown = "Pelican"
forms = ["folder"]
[[marker]]
file = "MENU.TXT"
[field.id]
search = true
pattern = '/bin/(?P<id>PLV-[0-9]{4})\.run'
[[example]]
files = { "menu.txt" = "exec \"card:/bin/PLV-0192.run\" 3" }
id = "PLV-0192"
`
	coretest.Write(t, dir, "pelican.toml", []byte(pelican))
	coretest.Write(t, dir, "wrong.toml", []byte(strings.Replace(pelican, `id = "PLV-0192"`, `id = "PLV-0193"`, 1)))
	coretest.Write(t, dir, "ledger/menu.txt", []byte("# menu\nexec \"card:/bin/PLV-0200.run\" 3\n"))
	coretest.Write(t, dir, "notes/read.me", []byte("x"))
	file := filepath.Join(dir, "pelican.toml")

	status, out, _ := own(t, config, "", "loaders", "explain", file, filepath.Join(dir, "ledger"))
	assert.Equal(t, 0, status)
	assert.Contains(t, out, "Is it a Pelican game?\n  yes  the file MENU.TXT is in it\n")
	assert.Contains(t, out, "  yes  ID: PLV-0200 (menu.txt, line 2)\n")
	status, out, _ = own(t, config, "", "loaders", "explain", file, filepath.Join(dir, "notes"), "--json")
	assert.Equal(t, 3, status)
	var account struct {
		Sections []struct {
			Title string
			Steps []struct {
				OK  bool
				Say string
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &account))
	last := account.Sections[len(account.Sections)-1]
	assert.Equal(t, "Is it a Pelican game?", last.Title)
	assert.False(t, last.Steps[0].OK)

	status, out, _ = own(t, config, "", "loaders", "test", file, "rowan", "vesper")
	assert.Equal(t, 0, status)
	assert.Contains(t, out, "pelican.toml: 1 example\n  yes  example 1 (PLV-0192)\n")
	assert.Contains(t, out, "rowan: 1 example\n")
	status, out, _ = own(t, config, "", "loaders", "test", filepath.Join(dir, "wrong.toml"))
	assert.Equal(t, 3, status)
	assert.Contains(t, out, `the id is "PLV-0192" instead of "PLV-0193"`)
	status, out, _ = own(t, config, "", "loaders", "check", filepath.Join(dir, "wrong.toml"))
	assert.Equal(t, 1, status)
	assert.Contains(t, out, `the id is "PLV-0192" instead of "PLV-0193"`)
	status, out, _ = own(t, config, "", "loaders", "check", file)
	assert.Equal(t, 0, status)
	assert.Contains(t, out, "is OK\n\nHow a game is known\n")
	assert.Contains(t, out, "The name is that of the game's own file.")

	for _, args := range [][]string{{"explain", file}, {"explain", file, filepath.Join(dir, "no")},
		{"explain", filepath.Join(dir, "none.toml"), dir}, {"test", "rowna"}, {"explain", "rowan", dir, dir}} {
		status, _, errOut := own(t, config, "", append([]string{"loaders"}, args...)...)
		assert.Contains(t, []int{1, 2}, status, args)
		assert.NotEmpty(t, errOut)
	}
}

func TestSchemasArePrinted(t *testing.T) {
	for _, kind := range []string{"profile", "platform"} {
		status, out, _ := own(t, t.TempDir(), "", "loaders", "schema", kind)
		assert.Equal(t, 0, status)
		var schema map[string]any
		require.NoError(t, json.Unmarshal([]byte(out), &schema))
		assert.Equal(t, "Polytome "+kind, schema["title"])
	}
	status, _, errOut := own(t, t.TempDir(), "", "loaders", "schema", "profil")
	assert.Equal(t, 2, status)
	assert.Contains(t, errOut, `did you mean "profile"?`)
}
