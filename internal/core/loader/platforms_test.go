package loader_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
	"polytome/internal/testkit/judge"
)

func TestWrongValuesInPlatformsAreReported(t *testing.T) {
	for _, c := range []struct{ file, from, to, want string }{
		{"skua", `magic = "SKUADISC"`, ``,
			"an image is recognised by a file in it, by magic bytes or by its volume identifier"},
		{"skua", `offset = 0x10`, `offset = 0x100000`, "must be in the first or the last 1048576 bytes"},
		{"skua", `offset = 0x10`, `offset = -4`, "must be in the first or the last 1048576 bytes"},
		{"skua", `magic = "SKUADISC"`, `hex = "53 4b 5"`,
			`"5" is not a byte: write two digits 0-9 and a-f, or ?? for any`},
		{"skua", `magic = "SKUADISC"`, "magic = \"SKUADISC\"\nhex = \"53\"", "either magic (text) or hex (bytes)"},
		{"skua", `magic = "SKUADISC"`, `pattern = "SKUA"`, "needs the length, in bytes, of what is looked through"},
		{"skua", "offset = 0x18\nlength = 1", "offset = 0x18\nlength = 9", "a number has at most 8 bytes"},
		{"siskin", "line = 1\npattern = '^SK-[0-9]{4}$'", "search = true", "what is looked for stands in pattern"},
		{"siskin", `pattern = '^SK-[0-9]{4}$'`, `pattern = '^(?P<name>SK-[0-9]{4})$'`,
			`group "name" must be named "id", or "value"`},
		{"siskin", `pattern = '^SK-[0-9]{4}$'`, `as = "uper"`, `did you mean "upper"?`},
		{"siskin", `line = 2`, `of = "disc"`, "the disc is not known yet when the name is read"},
		{"siskin", `line = 2`, `of = "nme"`, `did you mean "name"?`},
		{"siskin", `line = 2`, "file = \"a.xml\"\nsyntax = \"yml\"\nkey = \"a\"", `did you mean "xml"?`},
		{"siskin", `line = 2`, "file = \"a.ini\"\nsyntax = \"ini\"\nkey = \"a\"",
			"a section and the syntax ini go together"},
		{"siskin", `line = 2`, "file = \"a.txt\"\nline = 1\nencoding = \"utf8\"", `did you mean "utf-8"?`},
		{"siskin", `line = 2`, "line = 2\n[[field.name.or]]\nkey = \"x\"", "mine.toml:"},
		{"wren8", `to = 0x3E`, "is = \"crc17\"\nto = 0x3E", `did you mean "crc16"?`},
		{"wren8", `to = 0x3E`, "is = \"length\"", "a length has 2, 4 or 8 bytes"},
		{"skua", `encoding = "utf-8"`, `encoding = "utf8"`, `did you mean "utf-8"?`},
		{"skua", `syntax = "binary"`, `syntax = "lines"`, "an offset needs the syntax binary"},
		{"siskin", `line = 1`, `line = -1`, "needs to say where the value is: a key"},
		{"siskin", `line = 1`, `key = "ID"`, "a key needs the syntax key=value, ini, json or xml"},
		{"meridian", `packages = [".mdp"]`, ``, "the form package and the extensions of packages go together"},
		{"meridian", `".iso"`, `".ISO"`, "must begin with a dot and be in lower case"},
		{"dulcimer", `file = "*.prog"`, ``, "a folder is recognised by a file in it"},
		{"dulcimer", `file = "*.prog"`, `file = "[.prog"`, "has an unclosed bracket"},
		{"wren8", `to = 0x3E`, `to = 0x20000`, "must be in its first 65536 bytes"},
		{"wren8", `name = "wren8"`, `name = "Wren 8"`, "lower-case letters, digits and hyphens"},
		{"wren8", `shown = "Wren 8"`, ``, "display name) is missing"},
		{"lapwing", `volume = '^LAP_[0-9]{5}$'`, `volume = '^LAP_[0-9'`, "missing closing"},
		{"vesper", `smallest = 737_280_001`, "smallest = 5\nlargest = 4", "cannot have at least 5 and at most 4 bytes"},
	} {
		t.Run(c.file+" "+c.to, func(t *testing.T) {
			data, err := os.ReadFile("platforms/" + c.file + ".toml")
			require.NoError(t, err)
			require.Contains(t, string(data), c.from)
			_, err = loader.ParsePlatform("mine.toml", []byte(strings.Replace(string(data), c.from, c.to, 1)))
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.want)
			assert.Contains(t, err.Error(), "mine.toml")
		})
	}
}

func TestOwnFilesOfAllSorts(t *testing.T) {
	judge.NotWindows(t, "a file where a folder should be is no folder there, and nothing else")
	dir := t.TempDir()
	set, err := loader.Known(dir)
	require.NoError(t, err, "an empty folder is nothing")
	assert.Len(t, set.Profiles, 7)
	assert.Len(t, set.Platforms, 24)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "profiles", "deeper.toml"), 0o755))
	for name, text := range map[string]string{".hidden.toml": "x", "notes.txt": "x", "empty.toml": "",
		"tern.toml": "format = 1\nname = \"tern\"\nshown = \"Tern\"\n[[attachment]]\nname = \"s\"\nvia = " +
			"\"usb\"\nfilesystems = [\"any\"]\n[[accept]]\nplatforms = [\"wren9\"]\npath = \"{title}\"\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "profiles", name), []byte(text), 0o644))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "platforms"), []byte("a file where a folder should be"), 0o644))
	set, err = loader.Known(dir)
	require.NoError(t, err)
	var broken []string
	for _, b := range set.Broken {
		broken = append(broken, filepath.Base(b.File))
	}
	assert.ElementsMatch(t, []string{"empty.toml", "tern.toml", "platforms"}, broken)
	assert.Len(t, set.Profiles, 7, "what ships works on")
	_, err = set.Profile("tern")
	assert.ErrorContains(t, err, `unknown platform "wren9":`)
	assert.ErrorContains(t, err, `did you mean "wren8"?`)
	_, err = set.Profile("rowan")
	assert.NoError(t, err)
}

func TestACopyIsOnesOwn(t *testing.T) {
	dir := t.TempDir()
	set, err := loader.Shipped()
	require.NoError(t, err)
	for _, p := range set.Profiles {
		file, err := p.Copy(dir)
		require.NoError(t, err)
		assert.Equal(t, loader.OwnFile(dir, p.Name), file)
		_, err = p.Copy(dir)
		assert.ErrorContains(t, err, "already exists and was not changed")
	}
	mine, err := loader.Known(dir)
	require.NoError(t, err)
	require.Empty(t, mine.Broken)
	require.Len(t, mine.Profiles, 7)
	for _, p := range mine.Profiles {
		assert.True(t, p.Own)
		text, err := p.Text()
		require.NoError(t, err)
		assert.NotEmpty(t, text)
		_, err = p.Copy(dir)
		assert.ErrorContains(t, err, "is already yours")
	}
}
