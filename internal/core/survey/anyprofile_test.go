package survey_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/core/run"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
)

// withDots is a platform whose IDs have dots in them.
const withDots = `format = 1
name = "harrow"
shown = "Harrow"
forms = ["image"]
extensions = [".hrw", ".iso"]

[[marker]]
file = "HARROW.TXT"
syntax = "lines"

[field.id]
line = 1
pattern = '^HRW\.[0-9]{3}\.[0-9]{2}$'
required = true

[field.name]
line = 2
`

// named is a platform whose games have a marker and no name, and one with IDs of no reported form.
const named = `format = 1
name = "tern"
shown = "Tern"
forms = ["image", "folder"]
extensions = [".iso"]

[[marker]]
file = "tern.set"
syntax = "key=value"

[field.id]
key = "code"
`

// knownTo are the descriptions of a user with platforms of their own, and one profile.
func knownTo(t coretest.T, dir, profile string) *loader.Set {
	coretest.Write(t, dir, "platforms/harrow.toml", []byte(withDots))
	coretest.Write(t, dir, "platforms/tern.toml", []byte(named))
	if profile != "" {
		coretest.Write(t, dir, "profiles/any.toml", []byte(profile))
	}
	set, err := loader.Known(dir)
	if err != nil || len(set.Broken) > 0 {
		t.Fatalf("%v %v\n%s", err, set.Broken, profile)
	}
	return set
}

// awkward writes games whose names and IDs are hard to tell apart in a path.
func awkward(t coretest.T, dir string) {
	put := func(name string, data []byte) { coretest.Write(t, dir, name, data) }
	image := func(marker, text string) []byte {
		b, err := demo.Volume("", marker, []byte(text))
		if err != nil {
			t.Fatalf("%v", err)
		}
		return b
	}
	for i, name := range []string{"Copper Tide", "Mr. Tin", "A.B.C", "Été à la mer", "VSP-00002",
		"Quarry - and Sons - 2", "The one with the name that goes on until nobody reads it any more, not even here",
		"x_y (1)"} {
		put(fmt.Sprintf("v%d.iso", i), coretest.Image(t, coretest.Inf(fmt.Sprintf("VSP-0000%d", i), name, "1/1",
			[]string{"full", "short"}[i%2])))
	}
	put("two1.iso", coretest.Image(t, coretest.Inf("VSP-30001", "Two Sails", "1/2", "full")))
	put("two2.iso", coretest.Image(t, coretest.Inf("VSP-30002", "Two Sails", "2/2", "full")))
	for i, name := range []string{"Slow Lantern", "Dr. Reed 2.0", "HRW.001.01"} {
		put(fmt.Sprintf("h%d.iso", i), image("HARROW.TXT", fmt.Sprintf("HRW.204.1%d\n%s\n", i, name)))
	}
	put("Ropewalk. Part Two.iso", image("tern.set", "code=T.1 - 2.x\n"))
	put("Salt Mill.iso", image("tern.set", "code=T2\n"))
	put("Tern Rock/tern.set", []byte("code=T 3.b\n"))
	put("Tern Rock/data.bin", []byte("x"))
	for _, name := range []string{"Ropewalk", "Dr. Owl", "Mill (1)"} {
		put(name+".w8", demo.Cartridge("WREN", name))
	}
	put("Reed.fin", demo.Cartridge("FNCH", "Reed"))
	for _, disc := range []string{"Lamp (Disc 1)", "Lamp (Disc 2)", "Heron v1.2"} {
		put(disc+"/"+disc+".cue", fmt.Appendf(nil,
			"FILE \"%s.bin\" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n", disc))
		put(disc+"/"+disc+".bin", coretest.Volume(t, "LAP_0000"+fmt.Sprint(len(disc) + int(disc[len(disc)-2]-'0'))[:1]))
	}
}

// anyProfile draws the rules of a loader.
func anyProfile(t *rapid.T) (text, via, filesystem string) {
	one := func(label string, from ...string) string { return rapid.SampledFrom(from).Draw(t, label) }
	some := func(label string) bool { return rapid.Bool().Draw(t, label) }
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	filesystem = one("filesystem", "fat32", "exfat", "ext4")
	say("format = 1\nname = \"any\"\nshown = \"Any\"\nconsole = \"Tern\"\n[[attachment]]\nname = \"stick\"\nvia = "+
		"\"usb\"\nfilesystems = [%q]\ncase = %q", filesystem, one("case", "ignored", "kept", "upper", "lower"))
	if some("limits") {
		say("longest-name = %d\nlongest-path = %d", rapid.IntRange(40, 90).Draw(t, "longest name"),
			rapid.IntRange(90, 200).Draw(t, "longest path"))
	}
	rule := func(platforms, forms, path string, more ...string) {
		say("[[accept]]\nplatforms = [%s]\nforms = [%s]\npath = %q", platforms, forms, path)
		for _, m := range more {
			say("%s", m)
		}
		say("[accept.title]\n%s", one("title", "", "longest = 20", "ascii = true", "forbidden = \".\"",
			"permitted = [\"A-Z\", \"a-z\", \"0-9\", \" -_()\"]", "longest = 16\ncount = \"utf-16\""))
	}

	id := one("id", "{id}", "{id}", "{id|lower}", "{id|replace:-:_}", "{id|replace:-:|replace:.:}")
	shape := one("shape", id+".{title}", id+" - {title}", "{title}."+id, "{title} ["+id+"]", id+"/{title}",
		"{title}/"+id, "{title|upper}_"+id, id+"-{title|max:10}")
	folder := one("folder", "G/", "{platform}/", "{platform|upper}/G/", "G/{if region}{region}{else}none{end}/",
		"a.b/{if kind}{kind}{else}all{end}/", "",
		"{title|group:3}/", "{id|hash:crc32|sub:0:2}/", "{title|letter}/", "{region|default:none|table:none=all}/")
	if some("another rule") { // for some of the games, by what they are
		rule(`"vesper", "harrow", "tern"`, `"image"`, "Q/"+shape+".iso", `archives = "unpack"`, fmt.Sprintf("when = %q",
			one("when", "kind is full", "kind in short, none or id matches [.]1[01]$", "size under 40KiB",
				"size over 1GiB",
				"discs over 1", "not discs and form is image", "tags is 1 or name matches ^.[^a]")))
		say("discs = \" (Disc {disc})\"")
	}
	rule(`"vesper", "harrow", "tern"`, `"image"`, folder+shape+one("ext", ".iso", "{ext}", ".img"),
		`archives = "unpack"`)
	say("discs = %q", one("discs", " (Disc {disc})", "-d{disc}", " {disc}"))
	base := "{base}"
	if some("split") { // a title's parts are distinguished by its ID, or by its own path
		base = "{title}"
		dir, parts := "P", one("parts", "/"+id+"/{index|pad:3}.prt", "/"+id+".{title}.{index}.prt",
			"/{title}/{index}.prt", "/"+id+"/{index|add:-1|hex:2}.prt", "/{title}/part-{index|letters}.prt")
		say("[accept.too-large]\ndo = \"split\"\nover = \"40KiB\"\npart-size = %q\nparts = %q",
			one("part size", "16KiB", "33KiB", "40KiB"), dir+parts)
		if some("manifest") {
			say("manifest = %q\nmanifest-text = %q", dir+parts[:strings.LastIndexByte(parts, '/')]+one("list",
				"/"+id+".lst", "/{title} "+id+".lst"), one("list text", "t={title}\n{each}{file} {size} {crc32}\n{end}",
				"{id}|{title}\n{each}{index}:{size}\n{end}"))
		}
	}
	if some("pages") {
		rule(`"wren8", "finch"`, `"cartridge"`, "C/{platform}/{if page}+{page}/{end}"+one("cart", "{title}{ext}",
			"{title}.bin"), `archives = "unpack"`, "overflow-after = 2")
	} else if some("numbered pages") {
		rule(`"wren8", "finch"`, `"cartridge"`, "C/{platform}/p{page|pad:2}/{title}{ext}", `archives = "unpack"`,
			"overflow-after = 2", "page-one = true")
	} else {
		rule(`"wren8", "finch"`, `"cartridge"`, "C/{platform}/"+one("cart", "{title}{ext}", "{title}.bin"),
			`archives = "unpack"`)
	}
	sheets := one("sheets", "T/{title}/{title}{if disc} (Disc {disc}){end}.cue",
		"T/{title}{if disc} (Disc {disc}){end}.cue", "T/{id}/{title}{if disc}-{disc}{end}.cue")
	rule(`"lapwing"`, `"tracks"`, sheets, fmt.Sprintf("tracks = %q", path.Dir(sheets)+"/{file}"))
	rule(`"tern"`, `"folder"`, one("folders", "F/{title}", "F/{id}.{title}", "F/{id}"))

	if strings.HasPrefix(sheets, "T/{title}/") { // one line for all discs
		say("[[companion]]\nis = \"playlist\"\nplatforms = [\"lapwing\"]\nwhen = \"discs over 1\"\npath = %q\ntext = %q", "{folder}/{title}."+one("playlist", "m3u", "lst"), one("playlist text", "{each}{file}\n{end}", "# {title}\n{each}{file}\n{end}"))
	}
	if some("launcher") {
		say("[[companion]]\nis = \"launcher\"\nplatforms = [\"wren8\", \"vesper\"]\nwhen = %q\npath = %q\ntext = %q",
			one("launched when", "size over 10", "kind is full or platform is wren8", "name matches [a-m]"),
			"L/{platform}/"+base+".run", one("launcher text", "start {file}\nwait\n",
				"name = \"{title}\"\nplayers = 2\n"))
	}
	if some("settings") {
		say("[[companion]]\nis = \"settings\"\nplatforms = [\"vesper\", \"harrow\"]\nper = \"disc\"\npath = %q\ntext "+
			"= \"mode=a\\n\"\nsyntax = \"key=value\"\nkeep = [\"mode\"]", "S/"+id+".set")
	}
	if some("listed") {
		say("[[list]]\nplatforms = [\"vesper\", \"wren8\"]\nwhen = %q\npath = \"all.lst\"\norder = [\"title\"]\n%s",
			one("listed when", "size over 10", "kind is short", "form is cartridge or discs over 1"), one("list",
				"header = \"all of them\\n\"\nline = \"{title}\\n\"",
				"header = \"all of them\\n\"\nline = \"{id};{title};{file}\\n\"",
				"make = \"csv\"\nkey = \"2\"\nheader = \"Title,File\\r\\n\"\nline = \"{title},{file}\\r\\n\"",
				"make = \"json\"\nkey = \"f\"\nheader = \"{{\\\"n\\\":{discs},\\\"g\\\":[\"\nline = "+
					"\"{{\\\"t\\\":\\\"{title}\\\",\\\"f\\\":"+
					"\\\"{file}\\\"}}\"\nbetween = \",\\n\"\nfooter = \"]}}\"",
				"make = \"xml\"\nkey = \"g/@f\"\nheader = \"<l>\\n\"\nline = \"<g "+
					"f=\\\"{file}\\\">{title}</g>\\n\"\nfooter = \"</l>\\n\"\n"+
					"encoding = \"utf-16be\"",
				"make = \"ini\"\nkey = \"[]\"\nline = \"[{file}]\\nt={title|upper}\\n\"",
				"header-length = 8\nrecord = 160\n[[list.header-field]]\noffset = 0\nlength = 2\nencoding = "+
					"\"number-be\"\n"+
					"value = \"{discs}\"\n[[list.header-field]]\noffset = 4\nlength = 4\nsum = "+
					"\"crc32\"\n[[list.field]]\noffset = 0\n"+
					"length = 100\nencoding = \"utf-8\"\nvalue = \"{file}\"\n[[list.field]]\noffset = 100\nlength = "+
					"60\n"+
					"encoding = \"latin-1\"\nvalue = \"{title}\""))
	}
	return b.String(), "usb", filesystem
}

// TestWhatWasFilledByAnyRulesIsListed fills targets by random rules, and checks them: what was said to go is listed and
// starts, and nothing is found wrong with it.
func TestWhatWasFilledByAnyRulesIsListed(t *testing.T) {
	games := t.TempDir()
	awkward(t, games)
	scanned, err := scan.Scan(t.Context(), []string{games}, scan.Options{Set: knownTo(t, t.TempDir(), "")})
	require.NoError(t, err)
	for i := range scanned.Titles {
		require.Nil(t, scanned.Titles[i].Fault(), "%s: %+v", scanned.Titles[i].Name, scanned.Titles[i].Findings)
	}
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp("", "any-")
		must(t, err)
		defer os.RemoveAll(dir)
		text, via, filesystem := anyProfile(t)
		set := knownTo(t, filepath.Join(dir, "known"), text)
		stick := filepath.Join(dir, "stick")
		must(t, os.MkdirAll(stick, 0o755))
		b := bench.New("")
		b.Targets = []bench.Target{{Name: "Stick", At: stick, Loader: "any", Via: via, As: filesystem,
			Capacity: 1 << 30, Everything: true}}
		take := func() *survey.Survey {
			s, err := survey.Take(context.Background(), b, 0, slices.Clone(scanned.Titles), survey.Options{Set: set})
			must(t, err)
			return s
		}
		s := take()
		to, err := s.Open(context.Background())
		must(t, err)
		defer to.Close()
		if r := run.Run(context.Background(), s.Plan(), to, run.Options{}, func(run.Event) {}); len(r.Failed) > 0 {
			t.Fatalf("%v\n%s", r.Failed, text)
		}
		for _, depth := range []check.Depth{check.Inside, check.Names} {
			r, err := s.Check(context.Background(), depth)
			must(t, err)
			want := 0
			for i := range s.Sheet.Titles() {
				if r := s.Sheet.Placement(i).Refusal; r != nil && strings.Contains(r.Say, "needs the") {
					t.Fatalf("%s has no place: %s\n%s", s.Sheet.Titles()[i].Label(), r.Say, text)
				}
				if !s.Sheet.Chosen[i] || !s.Sheet.Verdict(i).Kind.Goes() {
					continue
				}
				want++
				if !slices.ContainsFunc(r.Listed, func(l check.Listed) bool { return l.Starts && lies(s, i, l.Path) }) {
					t.Fatalf("%s went to %s and is not listed: %v\n%s\n%s", s.Sheet.Titles()[i].Label(),
						s.Sheet.Placement(i).Items[0].Path, r.Listed, findings(r), text)
				}
			}
			if want == 0 || len(r.Listed) < want {
				t.Fatalf("%d went, and %d are listed", want, len(r.Listed))
			}
			for _, f := range r.Findings {
				if f.Kind != check.Double { // names that were cut may be alike
					t.Fatalf("%s\n%s", findings(r), text)
				}
			}
			if len(r.Others) > 0 {
				t.Fatalf("strangers: %v\n%s", r.Others, text)
			}
		}
		if again := take(); !again.Plan().Empty() {
			there, _ := os.ReadFile(filepath.Join(stick, again.Plan().Steps[0].Path))
			t.Fatalf("a second fill has something to do: %+v %v, where there is %q\n%s", again.Plan().Steps,
				again.Plan().Notes, there, text)
		}
	})
}

// lies reports whether a line of the list is a title's.
func lies(s *survey.Survey, i int, line string) bool {
	for _, item := range s.Sheet.Placement(i).Items {
		at := item.Path
		if at == line || strings.HasPrefix(at, line+"/") {
			return true
		}
	}
	return false
}

func findings(r *check.Report) string {
	var b bytes.Buffer
	for _, f := range r.Findings {
		fmt.Fprintf(&b, "%s %s %s: %s\n", f.Grade, f.Kind, f.Path, f.Say)
	}
	return b.String()
}
