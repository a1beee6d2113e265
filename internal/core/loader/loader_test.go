package loader_test

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
)

func shippedProfile(t testing.TB) string {
	b, err := os.ReadFile("profiles/rowan.toml")
	require.NoError(t, err)
	return string(b)
}

func TestEverythingShippedIsSound(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	require.NotEmpty(t, set.Profiles)
	for _, p := range set.Profiles {
		assert.NotEmpty(t, p.Checklist, p.Name)
	}
}

func TestABrokenProfileSaysWhere(t *testing.T) {
	good := shippedProfile(t)
	line := func(part string) string { // the line on which the changed text stands
		return strconv.Itoa(1 + strings.Count(good[:strings.Index(good, part)], "\n"))
	}
	for name, c := range map[string]struct{ from, to, want string }{
		"misspelt key":       {"contiguous = true", "one-peice = true", `unknown key "attachment.one-peice"`},
		"misspelt table":     {"[accept.title]", "[accept.titel]", `did you mean "title"?`},
		"unknown filesystem": {`filesystems = ["fat32"]`, `filesystems = ["fat23"]`, `did you mean "fat32"?`},
		"unknown connection": {`via = "usb"`, `via = "ubs"`, `1: unknown connection "ubs": did you mean "usb"?`},
		"unknown field":      {"{id} - {title}", "{di} - {title}", `unknown field "di": did you mean`},
		"unknown transform":  {"{kind|upper}", "{kind|uper}", `unknown transform "uper": did you mean "upper"?`},
		"open brace":         {"{id} - {title}.iso", "{id} - {title.iso", "{title.iso\" has an unclosed"},
		"path climbs out":    {"{kind|upper}/{id}", "../{kind|upper}/{id}", "leads out of the target"},
		"path is absolute":   {`path = "{kind`, `path = "/{kind`, "must be relative to the target's root"},
		"path not unique": {"{kind|upper}/{id} - {title}.iso", "{kind|upper}/game.iso",
			"every title would get the same one"},
		"setting climbs out": {`file = "ROWAN/rowan.cfg"`, `file = "../rowan.cfg"`, "leads out of the target"},
		"a disc's extension": {`discs = " (Disc {disc})"`, `discs = " [Disc {disc}]"`,
			"'[' is added to the name of each disc, but is not allowed in a name"},
		"no space for a name": {"longest = 28", "longest = 5", "leave no space for a name"},
		"wrong type": {"longest = 28", `longest = "28"`,
			"longest is a TOML string, but must be a whole number"},
		"newer format":    {"format = 1", "format = 2", "it has format 2; this version reads format 1"},
		"backward range":  {`"A-Z"`, `"Z-A"`, "runs backwards"},
		"unknown verdict": {`when = "too big"`, `when = "to big"`, `did you mean "too big"?`},
		"unknown form":    {`forms = ["image"]`, `forms = ["imgae"]`, `did you mean "image"?`},
	} {
		t.Run(name, func(t *testing.T) {
			require.Contains(t, good, c.from)
			_, err := loader.ParseProfile("mine.toml", []byte(strings.Replace(good, c.from, c.to, 1)))
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.want)
			first, _, _ := strings.Cut(err.Error(), ": ")
			assert.Equal(t, "mine.toml:"+line(c.from), first[:strings.LastIndexByte(first, ':')],
				"the line that was changed")
		})
	}
}

func TestABrokenPlatformSaysWhere(t *testing.T) {
	b, err := os.ReadFile("platforms/vesper.toml")
	require.NoError(t, err)
	good := string(b)
	for name, c := range map[string]struct{ from, to, want string }{
		"misspelt key":  {"required = true", "requierd = true", `did you mean "required"?`},
		"bad pattern":   {"VSP-[0-9]{5}", "VSP-[0-9", "error parsing regexp"},
		"bad extension": {`".iso"`, `"iso"`, "must begin with a dot"},
		"no marker":     {`file = "VESPER.INF"`, ``, "an image is recognised by a file in it"},
		"other syntax":  {`"key=value"`, `"yaml"`, `unknown syntax "yaml": did you mean`},
		"no ID key":     {`key = "ID"`, ``, "needs to say where the value is: a key"},
		"impossible":    {"largest = 737_280_000", "largest = 5\nsmallest = 9", "cannot have at least 9 and at most 5"},
		"unknown form":  {`forms = ["image"]`, `forms = ["tape"]`, `unknown form "tape"; use one of`},
		"newer version": {"format = 1", "format = 7", "reads format 1"},
	} {
		t.Run(name, func(t *testing.T) {
			require.Contains(t, good, c.from)
			_, err := loader.ParsePlatform("mine.toml", []byte(strings.Replace(good, c.from, c.to, 1)))
			assert.ErrorContains(t, err, c.want)
			assert.ErrorContains(t, err, "mine.toml:")
		})
	}
}

func TestProfilesByNameAndByFile(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	_, err = set.Profile("rowna")
	assert.ErrorContains(t, err, `did you mean "rowan"?`)
	file := filepath.Join(t.TempDir(), "mine.toml")
	_, err = set.Profile(file)
	assert.ErrorContains(t, err, "reading the loader profile")
	require.NoError(t, os.WriteFile(file, []byte(shippedProfile(t)), 0o644))
	p, err := set.Profile(file)
	require.NoError(t, err)
	assert.Equal(t, "rowan", p.Name)
}

func TestTemplates(t *testing.T) {
	tpl, err := loader.ParseTemplate("{kind|upper}/{id} - {title}.iso")
	require.NoError(t, err)
	path := tpl.Fill(&loader.Values{loader.FieldKind: "full", loader.FieldID: "VSP-20417",
		loader.FieldTitle: "Salt - a Tale"})
	assert.Equal(t, "FULL/VSP-20417 - Salt - a Tale.iso", path)
	values, ok := tpl.Match("full/vsp-20417 - Salt - a Tale.ISO")
	require.True(t, ok)
	assert.Equal(t, loader.Values{loader.FieldKind: "full", loader.FieldID: "vsp-20417",
		loader.FieldTitle: "Salt - a Tale"}, values)
	for _, other := range []string{"FULL/VSP-20417.iso", "VSP-20417 - x.iso", "FULL/sub/VSP-20417 - x.iso",
		"FULL/VSP-20417 - x.img"} {
		_, ok := tpl.Match(other)
		assert.False(t, ok, other)
	}
	assert.Equal(t, []string{"FULL", "SHORT"},
		tpl.Folders(map[loader.Field][]string{loader.FieldKind: {"full", "short"}}))
	assert.Equal(t, "<kind>/<ID> - <title>.iso", tpl.Shape())
}

func FuzzParseProfile(f *testing.F) {
	f.Add(shippedProfile(f))
	f.Add("format = 1\n[[accept]]\npath = '{a|upper}{'\n")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := loader.ParseProfile("f.toml", []byte(text))
		if err != nil {
			return
		}
		for _, a := range p.Accepts {
			out := a.Path.Fill(&loader.Values{loader.FieldID: "X-1", loader.FieldTitle: "t", loader.FieldKind: "full"})
			if strings.HasPrefix(out, "/") || strings.Contains("/"+out+"/", "/../") {
				t.Fatalf("%q leaves the target", out)
			}
		}
	})
}

func FuzzParsePlatform(f *testing.F) {
	b, err := os.ReadFile("platforms/vesper.toml")
	require.NoError(f, err)
	f.Add(b)
	f.Fuzz(func(t *testing.T, text []byte) {
		p, err := loader.ParsePlatform("f.toml", text)
		if err == nil && (p.Name == "" || len(p.Forms) == 0) {
			t.Fatalf("accepted without what it needs: %+v", p)
		}
	})
}

func TestRulesSetOtherwise(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	rowan, err := set.Profile("rowan")
	require.NoError(t, err)
	with, err := rowan.With(map[string]string{"accept.1.too-large.part-size": "1GiB - 32KiB",
		"attachment.stick.contiguous": "", "accept.1.title.longest": "20", "attachment.share.largest-file": "8GiB"})
	require.NoError(t, err)
	assert.EqualValues(t, 1<<30-32<<10, with.Accepts[0].TooLarge.PartSize)
	assert.EqualValues(t, 8<<30, with.Attachments[3].LargestFile)
	assert.Equal(t, 20, with.Accepts[0].Title.Longest)
	assert.False(t, with.Attachments[0].Contiguous, "an empty value takes a key out")
	assert.True(t, rowan.Attachments[0].Contiguous, "the profile itself stays as it is")
	for key, c := range map[string]struct{ value, want string }{
		"acept.1.why": {"x", `unknown table "acept": did you mean "accept"?`},
		"accept.9.why": {"x",
			`rule accept.9.why: there are several accept (2), but "9" is none of them`},
		"accept.why":                  {"x", "choose one and its key, such as accept.1.KEY"},
		"accept.1.title.longets":      {"20", `did you mean "longest"?`},
		"accept.1.too-large.do":       {"pakc", `did you mean "pack"?`},
		"accept.1.title.longest":      {"many", "must be a whole number"},
		"attachment.stick.contiguous": {"perhaps", "must be true or false"},
	} {
		_, err := rowan.With(map[string]string{key: c.value})
		require.Error(t, err, key)
		assert.Contains(t, err.Error(), c.want, key)
		assert.NotContains(t, err.Error(), ".toml:", "no line of a text that nobody has seen")
	}
}
