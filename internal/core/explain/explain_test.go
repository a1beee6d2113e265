package explain_test

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/explain"
	"polytome/internal/core/loader"
	"polytome/internal/testkit/coretest"
)

func wrong(all []explain.Step) (out []string) {
	for _, s := range all {
		if !s.OK {
			out = append(out, s.Say)
		}
	}
	return out
}

func TestTheExamplesOfWhatShipsHold(t *testing.T) {
	set := coretest.Set(t)
	count := 0
	for _, p := range set.Profiles {
		all := explain.Examples(p, set)
		count += len(all)
		assert.Empty(t, wrong(all), p.Name)
	}
	for _, p := range set.Platforms {
		all := explain.Games(p)
		count += len(all)
		assert.Empty(t, wrong(all), p.Name)
		for _, s := range explain.Platform(p) {
			assert.NotEmpty(t, s.Lines)
			for _, l := range s.Lines {
				assert.NotContains(t, l, "%!")
			}
		}
	}
	assert.GreaterOrEqual(t, count, 5)
}

// TestTheExamplesOfTheDocumentHold runs those in docs/profile-format.md.
func TestTheExamplesOfTheDocumentHold(t *testing.T) {
	text, err := os.ReadFile("../../../docs/profile-format.md")
	require.NoError(t, err)
	set, count := coretest.Set(t), 0
	for _, m := range regexp.MustCompile("(?s)```toml( platform)?\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		if !strings.Contains(m[2], "[[example]]") {
			continue
		}
		var all []explain.Step
		if m[1] != "" {
			p, err := loader.ParsePlatform("docs", []byte(m[2]))
			require.NoError(t, err)
			all = explain.Games(p)
		} else {
			p, err := loader.ParseProfile("docs", []byte("format = 1\nname = \"mine\"\nshown = \"Mine\"\n"+m[2]))
			require.NoError(t, err)
			all = explain.Examples(p, set)
		}
		assert.Empty(t, wrong(all), m[2])
		count += len(all)
	}
	assert.GreaterOrEqual(t, count, 4)
}

// TestAnExampleThatFailsSaysWhatCameOut spoils what examples want, and their games.
func TestAnExampleThatFailsSaysWhatCameOut(t *testing.T) {
	set := coretest.Set(t)
	profile, err := os.ReadFile("../loader/profiles/rowan.toml")
	require.NoError(t, err)
	for _, c := range []struct{ from, to, want string }{
		{`paths = ["FULL/VSP-20417`, `paths = ["FALL/VSP-20417`,
			"there is no FALL/VSP-20417 - Copper Tide - North.iso"},
		{`, "TUNE/VSP-20417.tune"]`, `]`, "there is TUNE/VSP-20417.tune"},
		{`size = "3GiB"`, `size = "5GiB"`, "there is LONG/VSP-20417/001.rwn"},
		{"kind = \"full\"\nsize", "size", "it is not taken: Rowan needs the kind"},
		{`paths = ["FULL/VSP-20417 - Copper Tide - North.iso", "TUNE/VSP-20417.tune"]`, `refused = "too old"`,
			"it is taken, and goes to FULL/VSP-20417"},
		{`paths = ["FULL/`, "lists = { \"none.lst\" = \"x\" }\npaths = [\"FULL/", "it is listed in no none.lst"},
	} {
		p, err := loader.ParseProfile("mine.toml", []byte(strings.Replace(string(profile), c.from, c.to, 1)))
		require.NoError(t, err, c.to)
		assert.Contains(t, strings.Join(wrong(explain.Examples(p, set)), "\n"), c.want, c.to)
	}
	platform, err := os.ReadFile("../loader/platforms/vesper.toml")
	require.NoError(t, err)
	for _, c := range []struct{ from, to, want string }{
		{`"vesper.inf"`, `"vespa.inf"`, "it is taken for no game: there is no VESPER.INF"},
		{`"readme.txt"`, `"vesper.inf"`, "it is taken for a game: the file VESPER.INF is in it"},
		{`NAME=Copper Tide`, `NAME=Copper Tid`, `the name is "Copper Tid" instead of "Copper Tide"`},
		{`ID=VSP-20417\r`, `ID=VSP-2041\r`, `"VSP-2041" does not fit the pattern of the id`},
	} {
		p, err := loader.ParsePlatform("mine.toml", []byte(strings.Replace(string(platform), c.from, c.to, 1)))
		require.NoError(t, err, c.to)
		assert.Contains(t, strings.Join(wrong(explain.Games(p)), "\n"), c.want, c.to)
	}
}

// asText is an account as text.
func asText(a *explain.Account) string {
	var b strings.Builder
	for _, s := range a.Sections {
		fmt.Fprintf(&b, "%s\n", s.Title)
		for _, x := range s.Steps {
			fmt.Fprintf(&b, "%v %s\n", x.OK, x.Say)
		}
	}
	return b.String()
}

func TestAGameIsWalkedThroughStepByStep(t *testing.T) {
	set, dir := coretest.Set(t), t.TempDir()
	rowan, err := set.Profile("rowan")
	require.NoError(t, err)
	coretest.Write(t, dir, "tide.iso", coretest.Image(t, coretest.Inf("VSP-20417", "Copper: Tide", "1/1", "full")))
	coretest.Write(t, dir, "short.iso", coretest.Image(t, coretest.Inf("VSP-204", "Copper Tide", "1/1", "full")))
	coretest.Write(t, dir, "none.iso", coretest.Image(t, ""))
	coretest.Write(t, dir, "empty/notes.txt", []byte("x"))
	coretest.Write(t, dir, "text.txt", []byte("x"))
	coretest.Write(t, dir, "game/main.run", make([]byte, 512))

	a, err := explain.Game(filepath.Join(dir, "tide.iso"), set, rowan, explain.Where{Filesystem: "exfat"})
	require.NoError(t, err)
	assert.Equal(t, "vesper", a.Platform)
	assert.Contains(t, a.Paths, "FULL/VSP-20417 - Copper - Tide.iso")
	said := asText(a)
	for _, want := range []string{"Is it a Vesper game?\ntrue the file VESPER.INF is in it",
		"true ID: VSP-20417 (VESPER.INF, line 1)", "true rule 1 holds: {kind|upper}/{id} - {title}.iso",
		`true its name is written "Copper - Tide"`, "true TUNE/VSP-20417.tune (settings): "} {
		assert.Contains(t, said, want)
	}

	for name, c := range map[string]struct {
		via, want string
	}{
		"short.iso": {"", `false VESPER.INF, line 1: "VSP-204" does not fit how the ID of a Vesper is described`},
		"none.iso":  {"", "false the file VESPER.INF is in it: there is no VESPER.INF in it"},
		"empty":     {"", "No platform has folders like that."},
		"text.txt":  {"", "No platform has files that end in .txt, and none is known by its bytes."},
		"tide.iso":  {"ftp", "false the loader is not reached that way: ftp; it is by usb"},
	} {
		a, err := explain.Game(filepath.Join(dir, name), set, rowan, explain.Where{Via: c.via})
		require.NoError(t, err, name)
		assert.Contains(t, asText(a), c.want, name)
		assert.Empty(t, a.Paths, name)
	}
	_, err = explain.Game(filepath.Join(dir, "no"), set, rowan, explain.Where{})
	assert.True(t, errors.Is(err, fs.ErrNotExist))
	gantry, err := set.Profile("gantry")
	require.NoError(t, err)
	a, err = explain.Game(filepath.Join(dir, "tide.iso"), set, gantry, explain.Where{})
	require.NoError(t, err)
	assert.Contains(t, asText(a), "it is for corvane", "and why each rule does not hold")
	assert.Contains(t, asText(a), "Gantry does not read Vesper titles")
}
