package loader_test

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
)

var keyLine = regexp.MustCompile(`^([a-z0-9-]+)( = )(.*)$`)
var tableLine = regexp.MustCompile(`^(\[\[?)([a-z0-9.-]+)(\]\]?)$`)

// TestABrokenCopyOfEachKeyIsReported takes every line of every shipped file, breaks it in
// several ways, and wants a message that points at that line.
func TestABrokenCopyOfEachKeyIsReported(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	files, err := filepath.Glob("pro*/*.toml")
	require.NoError(t, err)
	require.Len(t, files, 7)
	more, err := filepath.Glob("platforms/*.toml")
	require.NoError(t, err)
	require.Len(t, more, 24)
	broken := 0
	for _, file := range append(files, more...) {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		check := func(text string) error {
			if strings.HasPrefix(file, "platforms") {
				_, err := loader.ParsePlatform("mine.toml", []byte(text))
				return err
			}
			p, err := loader.ParseProfile("mine.toml", []byte(text))
			if err == nil {
				err = set.Check(p)
			}
			return err
		}
		require.NoError(t, check(string(data)), file)
		lines := strings.Split(string(data), "\n")
		inText := false
		for n, line := range lines {
			if strings.Count(line, `"""`) == 1 {
				inText = !inText
				if inText {
					continue
				}
			}
			if inText {
				continue
			}
			with := func(changed string) string {
				copied := append([]string(nil), lines...)
				copied[n] = changed
				return strings.Join(copied, "\n")
			}
			at := fmt.Sprintf("mine.toml:%d:", n+1)
			if m := tableLine.FindStringSubmatch(line); m != nil {
				err := check(with(m[1] + m[2] + "x" + m[3]))
				require.Error(t, err, "%s: %s", file, line)
				assert.Contains(t, err.Error(), "unknown key", "%s: %s", file, line)
				broken++
				continue
			}
			m := keyLine.FindStringSubmatch(line)
			if m == nil {
				continue
			}
			broken += 2
			err := check(with(m[1][:1] + m[1] + m[2] + m[3]))
			require.Error(t, err, "%s: %s", file, line)
			assert.Contains(t, err.Error(), at, "%s: %s", file, line)
			assert.Contains(t, err.Error(), fmt.Sprintf("did you mean %q?", m[1]), "%s: %s", file, line)

			err = check(with(m[1] + m[2] + "[[1979-05-27]]"))
			require.Error(t, err, "%s: %s", file, line)
			assert.Contains(t, err.Error(), at, "%s: %s", file, line)
		}
	}
	assert.Greater(t, broken, 1500)
}

// TestWrongValuesAreReported has a wrong value for the keys that take words, paths, numbers or
// refer to others.
func TestWrongValuesAreReported(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	for i, c := range []struct{ file, from, to, want string }{
		{"bellows", `added = "bellows/own.lst"
editions = ["north"]`, `editions = ["nort"]`, `unknown edition "nort": did you mean "north"?`},
		{"bellows", `added = "bellows/own.lst"`, `added = "../own.lst"`,
			`the path "../own.lst" leads out of the target`},
		{"bellows", `most-titles = 150`, `room = -1`, "a size cannot be negative"},
		{"bellows", `syntax = "toml"
locked-by = "locked"`, `locked-by = "locked"`, "needs the key syntax"},
		{"rowan", `list-order = ["title", "id"]`, `list-order = ["titel"]`, `did you mean "title"?`},
		{"rowan", `partition-table = "mbr"`, `partition-table = "mrb"`, `did you mean "mbr"?`},
		{"rowan", `case = "ignored"`, `case = "ignore"`, `did you mean "ignored"?`},
		{"rowan", `on = ["stick", "share", "network-disk"]`, `on = ["stik"]`,
			`unknown attachment "stik": did you mean "stick"?`},
		{"rowan", `platforms = ["vesper"]`, `platforms = ["vespers"]`,
			`unknown platform "vespers": did you mean "vesper"?`},
		{"rowan", `forms = ["image"]`, `forms = ["folder"]`, "games of the platform vesper have other forms: [image]"},
		{"rowan", `archives = "unpack"`, `archives = "unpakc"`, `did you mean "unpack"?`},
		{"rowan", `do = "split"`, `do = "spilt"`, `did you mean "split"?`},
		{"rowan", `part-size = "2GiB - 64KiB"`, `part-size = "5GiB"`, "is too large for FAT32, which"},
		{"rowan", `part-size = "2GiB - 64KiB"`, `part-size = "lots"`, `"lots" is not a size`},
		{"rowan", `part-size = "2GiB - 64KiB"`, `over = "1GiB"`, "needs the size of a part"},
		{"rowan", `parts = "LONG/{id}/{index|pad:3}.rwn"`, `parts = "LONG/{id}/part.rwn"`,
			"needs {index}, and {id} or {title}"},
		{"rowan", `{index|pad:3}`, `{index|pad:many}`, "pad takes a number of digits"},
		{"rowan", `manifest = "LONG/{id}/parts.toml"`, ``, "needs both its path (manifest) and its text"},
		{"rowan", `manifest = "LONG/{id}/parts.toml"`, `manifest = "LONG/parts.toml"`,
			"path has neither {id} nor {title}"},
		{"rowan", `crc32 = "{crc32}"`, `crc32 = "{crc23}"`, `did you mean "crc32"?`},
		{"rowan", "{each}\n[[part]]", "{each part}\n[[part]]", `{each} takes no word`},
		{"rowan", "{end}\"\"\"", "\"\"\"", "an {each} has no {end}"},
		{"rowan", `is = "settings"`, `is = "setting"`, `did you mean "settings"?`},
		{"rowan", `is = "settings"`, `is = "cover"`, "a cover has a picture and no text"},
		{"rowan", `path = "TUNE/{id}.tune"`, `path = "TUNE/all.tune"`, "every title would get the same one"},
		{"rowan", `path = "TUNE/{id}.tune"`, `path = "TUNE/{page}.tune"`, `the field "page" cannot be used here`},
		{"rowan", "syntax = \"key=value\"\n", "", "keep, switch and locked-by need the key syntax"},
		{"rowan", `values = ["off", "on"]`, `values = ["off"]`, "a switch has a key, two values or more"},
		{"rowan", `of = "front"`, `of = "fornt"`, `did you mean "front"?`},
		{"rowan", "width = 256\n", "", "width and height, in pixels, go together"},
		{"rowan", `fit = "exact"`, `fit = "exactly"`, `did you mean "exact"?`},
		{"rowan", `to = "ROWAN/rowan.run"`, `to = "C:/rowan.run"`, "must be relative to the target's root"},
		{"rowan", `from = ["rowan.run", "rowan-*.run"]`, `from = ["rowan-[.run"]`, "has an unclosed bracket"},
		{"rowan", `to = "ROWAN/rowan.run"`, `to = "ROWAN/rowan.cfg"`, "has the same path ROWAN/rowan.cfg"},
		{"rowan", `when = "via is usb"`, `when = "vai is usb"`, `did you mean "via"?`},
		{"rowan", `when = "via is usb"`, `when = "via is ubs"`, `did you mean "usb"?`},
		{"rowan", "[[setting]]", "[[setting]]\nwhen = \"title is usb\"", "the title is none of the target's"},
		{"rowan", "[[kit.file]]", "[[kit.file]]\nwhen = \"via is ubs\"", `did you mean "usb"?`},
		{"rowan", `when = "via is usb"`, `when = "title is usb"`, "a checklist cannot test the title"},
		{"rowan", `when = "via is nbd and filesystem is exfat and added"`, `when = "via is nbd and"`,
			`1: unknown connection "nbd and"; use one of`},
		{"rowan", `line = "{id};{kind};{title};{file}\n"`, ``, "a list needs the text of its lines"},
		{"rowan", `line = "{id};{kind};{title};{file}\n"`, `record = 8`, "the records have no [[list.field]]"},
		{"rowan", `name = "share"`, `name = "stick"`, `toml:40:1: two attachments are named "stick"`},
		{"rowan", `name = "rowan"`, `name = "Rowan!"`, "lower-case letters, digits and hyphens"},
		{"gantry", `largest-file = "4GiB - 1"`, `largest-file = "3TiB"`,
			"does not fit on a volume of at most 2.00 TiB"},
		{"gantry", `longest-name = 48`, `longest-name = 300`, "a name of 300 does not fit in a path of at most 220"},
		{"gantry", `count = "characters"`, `count = "letters"`, "unknown way to count \"letters\"; use one of"},
		{"gantry", `port = 21`, `port = 70000`, "is not between 1 and 65535"},
		{"gantry", `listing = "unix-no-year"`, `listing = "unix-no-yaer"`, `did you mean "unix-no-year"?`},
		{"gantry", `idle = "60s"`, `idle = "a minute"`, `"a minute" is not a duration`},
		{"gantry", `full-reply = 552`, `full-reply = 226`, "is not an error"},
		{"gantry", `images = "extract"`, `images = "extracted"`, `did you mean "extract"?`},
		{"gantry", `folders = ["gantry/shelf/{platform}"`, `folders = ["gantry/shelf/{title}"`,
			`the field "title" cannot be used here`},
		{"bellows", `label = "PIPIT"`, `label = "PIPIT-IS-TOO-LONG"`, "a volume label has at most 11 characters"},
		{"bellows", `label = "PIPIT"`, "label = \"PIPIT\"\nlabel-not = [\"PIPIT\"]", "both required and forbidden"},
		{"bellows", "overflow-after = 60", "overflow-after = 61",
			"mine.toml:26:1: the stick shows only 60 entries in a folder, not 61"},
		{"bellows", "overflow-after = 60\n", "", "{page} needs the key overflow-after"},
		{"bellows", "{if page}+{page}/{end}", "", "the path has no {page}"},
		{"bellows", "{if disc} (Disc {disc}){end}.cue", "{if disc} (Disc {disc}).cue", "an {if} has no {end}"},
		{"bellows", "{if disc} (Disc {disc}){end}.cue", "{end}.cue", "an {end} without its {if}"},
		{"bellows", `{title}/{file}"`, `music.bin"`, "must distinguish titles and tracks: it needs"},
		{"bellows", `editions = ["north"]`, `editions = ["nort"]`, `did you mean "north"?`},
		{"bellows", `when = "discs over 1"`, `when = "discs over one"`, `"one" is not a number`},
		{"bellows", `longest = 64`, `longest = -1`, "cannot have at most -1 characters"},
		{"bellows", "ascii = true\nforbidden = '<>:\"|?*;+'", `permitted = ["0-9"]`, "no letter is allowed, so"},
		{"bellows", "ascii = true\nforbidden = '<>:\"|?*;+'", "permitted = [\"a-z\"]\nforbidden = \"b\"",
			"is both allowed and forbidden"},
		{"trellis", `filesystems = ["exfat"]`, `filesystems = ["ntfs"]`, "no attachment of this rule reads ntfs"},
		{"trellis", `also-needs-space-on = "disk"`, `also-needs-space-on = "disc"`, `did you mean "disk"?`},
		{"trellis", `say = "Trellis starts Meridian games only from the internal disk"`, ``, "must say why"},
		{"plover", `sums = ["0bf9`, `sums = ["xbf9`, "is no CRC-32, MD5, SHA-1 or SHA-256 sum"},
		{"plover", `drop = ["data/**/*.bak"]`, `drop = ["data/**"]`, "both kept and dropped"},
		{"plover", `to = "start.prog"`, `to = "../start.prog"`, "leads out of the target"},
		{"plover", `key = "saves"`, ``, "a setting needs a file and a key"},
		{"plover", `syntax = "key=value"`, "syntax = \"key=value\"\nsection = \"main\"",
			"only ini and toml files have sections"},
		{"mica", `over = "3GiB"`, `over = "1GiB"`, "is larger than the limit of"},
	} {
		t.Run(strconv.Itoa(i)+" "+c.to, func(t *testing.T) {
			data, err := os.ReadFile("profiles/" + c.file + ".toml")
			require.NoError(t, err)
			require.Contains(t, string(data), c.from)
			text := strings.Replace(string(data), c.from, c.to, 1)
			p, err := loader.ParseProfile("mine.toml", []byte(text))
			if err == nil {
				err = set.Check(p)
			}
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.want)
			assert.Regexp(t, `^mine\.toml:[1-9][0-9]*:[0-9]+: `, err.Error())
		})
	}
}

func TestTemplatesThatWouldLeaveTheTarget(t *testing.T) {
	for _, text := range []string{"../{id}", "/{id}", "a/../../{id}", "C:/{id}", `a\{id}`, "a\x00{id}", "a\n{id}",
		"{id}/.."} {
		_, err := loader.ParseTemplate(text)
		assert.Error(t, err, "%q", text)
	}
}

func TestTemplatesWithConditionsAndTransforms(t *testing.T) {
	v := loader.Values{loader.FieldTitle: "Éire – Ferry", loader.FieldID: "ab-7", loader.FieldDisc: "2",
		loader.FieldDiscs: "3", loader.FieldRegion: "North"}
	for text, want := range map[string]string{
		"{title|ascii}":                                           "Eire - Ferry",
		"{title|slug}":                                            "eire-ferry",
		"{title|max:4}":                                           "Éire",
		"{id|sub:0:2|upper}":                                      "AB",
		"{id|sub:-1}{id|sub:1:1}{id|sub:9}":                       "7b",
		"{disc|add:-1}{disc|add:9|hex:2}":                         "10b",
		"{discs|letters}{disc|add:51|letters}":                    "cba",
		"{title|letter}{title|group:3}":                           "ED-F",
		"{disc|group:3}{region|group:1}":                          "0-9N",
		"{kind|default:none}":                                     "none",
		"{region|table:North=N:East=E}":                           "N",
		"{kind|table:=x}{id|table:x=y}":                           "xab-7",
		"{id|hash:crc32|upper}":                                   "711AAFD4",
		"{id|hash:md5|sub:0:6}":                                   "9c8ecc",
		"{id|hash:sha1|sub:0:6}":                                  "86ccd5",
		"{id|hash:crc16}":                                         "a4e2",
		"{id|upper}":                                              "AB-7",
		"{disc|pad:3}":                                            "002",
		"{id|replace:-:_}":                                        "ab_7",
		"{title|ascii|upper|replace: :.|max:6}":                   "EIRE",
		"{if discs over 2}many{else}few{end}":                     "many",
		"{if discs over 3}many{else}few{end}":                     "few",
		"{if region is north and not kind}x{end}y":                "xy",
		"{if region is not North}x{else}{if disc}d{end}{end}{id}": "dab-7",
		"{{{id}}}": "{ab-7}",
	} {
		tpl, err := loader.ParseTemplate(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, tpl.Fill(&v), text)
	}
	for text, want := range map[string]string{
		"{id|hex:0}": "hex takes a number of digits from 1 to 16", "{id|sub:x}": "sub takes the first character",
		"{id|sub:0:0}": "sub takes the first character", "{id|hash:crc31}": "hash takes one of crc16",
		"{id|table:a}": "table takes pairs", "{id|default:}": "default takes the text",
		"{id|uper}":         `did you mean "upper"?`,
		"{id|default:..}/x": "is no part of a name", "{id|table:a=b/c}": "is no part of a name",
		`{id|replace:a:\}`: "has a forbidden character", "{id|replace:a:b/}": "is no part of a name",
		"{kind|table:full=..:short=..}/{id}.cfg": "is no part of a name",
		"{id|unit:MiX}":                          "unit takes a unit", "{id|group:27}": "group takes how many letters",
		"{id|trim:3}": "takes no value",
	} {
		_, err := loader.ParseTemplate(text)
		assert.ErrorContains(t, err, want, text)
	}
	v[loader.FieldSize] = "2097153"
	var line loader.Text
	require.NoError(t, line.UnmarshalText([]byte("{size|unit:MiB} {size|unit:KiB|add:1}")))
	assert.Equal(t, "3 2050", line.Fill(&v))
	bomb, err := loader.ParseTemplate("{title" + strings.Repeat("|replace:e:eeeeeeee", 40) + "}")
	require.NoError(t, err)
	assert.LessOrEqual(t, len(bomb.Fill(&v)), 4096, "no chain of replacements grows without bounds")
	tpl, err := loader.ParseTemplate("T/{if page}+{page}/{end}{title}/{title}{if disc} (Disc {disc}){end}.cue")
	require.NoError(t, err)
	got, ok := tpl.Match("T/+2/Two Tides/Two Tides (Disc 2).cue")
	require.True(t, ok)
	assert.Equal(t, []string{"2", "Two Tides", "2"}, []string{got[loader.FieldPage], got[loader.FieldTitle],
		got[loader.FieldDisc]})
	_, ok = tpl.Match("T/Two Tides/Other.cue")
	assert.False(t, ok, "a field that stands twice is the same both times")
}

func TestPatterns(t *testing.T) {
	for _, c := range []struct {
		pattern, file string
		want          bool
	}{
		{"*.prog", "Mirror.PROG", true}, {"*.prog", "a/mirror.prog", false}, {"data/**", "data/a/b.dat", true},
		{"data/**", "data", false},
		{"**/*.bak", "a/b/c.bak", true}, {"**/*.bak", "c.bak", true}, {"disk.?", "disk.1", true},
		{"disk.?", "disk.10", false}, {"a/**/z", "a/b/c/z", true}, {"[", "x", false},
	} {
		assert.Equal(t, c.want, loader.MatchFile(c.pattern, c.file), "%s %s", c.pattern, c.file)
	}
}

func TestATargetReportsItsLoader(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	assert.Equal(t, "rowan", set.Guess([]string{"ROWAN", "HALL-VIDEO", "short"}).Name)
	assert.Equal(t, "oxbow", set.Guess([]string{"oxbow", "oxbow/play"}).Name)
	assert.Nil(t, set.Guess([]string{"holiday"}))
}

func FuzzTemplate(f *testing.F) {
	for _, s := range []string{"{id|sub:0:1|replace:X:.}{id|sub:0:1|replace:X:.}/{title|group:3}",
		"{id|hash:md5|max:4|hex:2}", "{if disc}a{else}b{end}", "{each}{file}\n{end}", "{id|max:3|pad:2}", "{{}}",
		"{if discs over 1 and region is x}{end}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		tpl, err := loader.ParseTemplate(text)
		if err != nil {
			return
		}
		v := loader.Values{loader.FieldID: "X-1", loader.FieldTitle: "T", loader.FieldDisc: "1"}
		for _, odd := range []string{"..", ".", "a/..", "\xff"} { // as titles may come to be
			w := v
			for f := range w {
				w[f] = odd
			}
			if p := tpl.FillPath(&w); p != "" && !fs.ValidPath(p) {
				t.Fatalf("%q makes %q", text, p)
			}
		}
		out := tpl.FillPath(&v)
		if strings.HasPrefix(out, "/") || strings.Contains("/"+out+"/", "/../") {
			t.Fatalf("%q makes %q, which leaves the target", text, out)
		}
		tpl.Match(out)
	})
}
