package share_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
	"polytome/internal/core/share"
	"polytome/internal/testkit/coretest"
)

const platformText = `# Krn: learnt from 5 games, such as PLAY/Aunt Odile.krn.
format = 1
name = "krn"
shown = "Krn"
forms = ["cartridge"]
extensions = [".krn"]

[[marker]]
hex = "91 17 c4 05"
offset = 0
syntax = "binary"

# in 5 of 5, byte 0x28; Aunt Odile
[field.name]
offset = 40
length = 40
encoding = "ascii"

[field.region]
offset = 8
length = 1
encoding = "ascii"
values = { "E" = "East", "N" = "North" }
`

const profileText = `# A draft. Aunt Odile's stick.
format = 1
name = "wharf"
shown = "Wharf"
console = "Heron"
list-order = ["title"]

[[attachment]]
name = "stick"
via = "usb"
filesystems = ["exfat"]

[[accept]]
platforms = ["krn"]
forms = ["cartridge"]
path = "PLAY/{region}/{title}{ext}"
why = "learnt from 5 titles, such as PLAY/Aunt Odile.krn"

[[kit.file]]
to = "start.cfg"
text = '''
# no remark
fast=1

'''
why = "it starts slowly otherwise"
`

// own is a folder with the descriptions of somebody's own console.
func own(t *testing.T) *loader.Set {
	dir := t.TempDir()
	require.NoError(t, loader.WriteNew(filepath.Join(dir, loader.PlatformDir, "krn.toml"), platformText))
	require.NoError(t, loader.WriteNew(loader.OwnFile(dir, "wharf"), profileText))
	set, err := loader.Known(dir)
	require.NoError(t, err)
	require.Empty(t, set.Broken)
	return set
}

func profile(t *testing.T, set *loader.Set) *loader.Profile {
	p, err := set.Profile("wharf")
	require.NoError(t, err)
	return p
}

// TestWhatIsSharedSaysTheSame: what arrives has the same rules, an example that holds, and nothing of the giver's
// games.
func TestWhatIsSharedSaysTheSame(t *testing.T) {
	set := own(t)
	parcel, err := share.Of(profile(t, set), set, "For the red model.\nTried with 5 games.")
	require.NoError(t, err)
	text := parcel.String()
	assert.NotContains(t, text, "Odile")
	assert.Contains(t, text, "it starts slowly otherwise", "a reason that a person has written stays")
	assert.Contains(t, text, "# no remark", "a text that is written to the target stays as it is")

	for _, sent := range []string{text, strings.ReplaceAll(text, "\n", "\r\n")} {
		got, err := share.Parse(sent)
		require.NoError(t, err)
		assert.Equal(t, "For the red model.\nTried with 5 games.", got.Notes)
		r, err := got.Read(coretest.Set(t))
		require.NoError(t, err)
		assert.Empty(t, r.Failed)
		require.Len(t, r.Platforms, 1)
		require.Len(t, r.Profile.Examples, 1)
		assert.Equal(t, []string{"PLAY/East/Some Game.krn"}, r.Profile.Examples[0].Paths)
		assert.Empty(t, share.Differences(profile(t, set).Explain(), r.Profile.Explain()))
	}
}

func TestDifferencesAreSaid(t *testing.T) {
	set := own(t)
	parcel, err := share.Of(profile(t, set), set, "")
	require.NoError(t, err)
	got, err := share.Parse(strings.ReplaceAll(parcel.String(), "PLAY/", "GAMES/"))
	require.NoError(t, err)
	r, err := got.Read(coretest.Set(t))
	require.NoError(t, err)
	all := strings.Join(share.Differences(profile(t, set).Explain(), r.Profile.Explain()), "\n")
	assert.Contains(t, all, "- ")
	assert.Contains(t, all, "+ ")
	assert.Contains(t, all, "GAMES/{region}/{title}{ext}")
}

func TestWhatShipsIsNotSent(t *testing.T) {
	set := coretest.Set(t)
	p, err := set.Profile("rowan")
	require.NoError(t, err)
	parcel, err := share.Of(p, set, "")
	require.NoError(t, err)
	require.Len(t, parcel.Documents, 1)
	_, err = parcel.Read(set)
	assert.NoError(t, err)
}

func TestAParcelThatIsNoneIsRefused(t *testing.T) {
	set := own(t)
	parcel, err := share.Of(profile(t, set), set, "")
	require.NoError(t, err)
	good := parcel.String()
	for name, c := range map[string]struct{ text, say string }{
		"nothing":      {"", "no loader that was shared"},
		"another file": {"format = 1\n", "no loader that was shared"},
		"no loader":    {good[:strings.Index(good, "#== loader")], "it has no loader"},
		"a path out":   {strings.ReplaceAll(good, "PLAY/{region}", "../{region}"), "leads out of the target"},
		"a name out": {strings.Replace(good, "#== platform krn", "#== platform ../krn", 1),
			"neither a platform nor a loader"},
		"another kind": {strings.Replace(good, "#== platform krn", "#== program krn", 1),
			"neither a platform nor a loader"},
		"two of one": {good + good[strings.Index(good, "#== loader"):], "twice"},
		"another name": {strings.Replace(good, "#== loader wharf", "#== loader rowan", 1),
			"it describes wharf"},
		"an unknown key": {strings.Replace(good, "console = ", "command = \"rm\"\nconsole = ", 1),
			"unknown key"},
		"a platform it has not": {strings.Replace(good, "#== platform krn", "#== platform krm", 1), "it describes krn"},
	} {
		t.Run(name, func(t *testing.T) {
			p, err := share.Parse(c.text)
			if err == nil {
				_, err = p.Read(coretest.Set(t))
			}
			assert.ErrorContains(t, err, c.say)
		})
	}
	broken, err := share.Parse(strings.Replace(good, "PLAY/East/Some Game.krn", "PLAY/East/Other.krn", 1))
	require.NoError(t, err)
	r, err := broken.Read(coretest.Set(t))
	require.NoError(t, err)
	assert.NotEmpty(t, r.Failed, "an example that does not hold is said")
}

// FuzzParse: no file that somebody sends makes the program fail, and what is read is written again as it was.
func FuzzParse(f *testing.F) {
	f.Add("# A loader for Polytome.\n#: notes\n\n#== platform a\nformat = 1\n#== loader b\nformat = 1\n")
	if b, err := os.ReadFile("share.go"); err == nil {
		f.Add(string(b))
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := share.Parse(text)
		if err != nil {
			return
		}
		again, err := share.Parse(p.String())
		if assert.NoError(t, err) {
			assert.Equal(t, p.Documents, again.Documents)
		}
	})
}
