package survey_test

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/layout"
	"polytome/internal/core/scan"
	"polytome/internal/testkit/coretest"
)

// stickCase draws profiles out of all that rules can say, for titles whose names are written as they are.
type stickCase struct {
	*rand.Rand
	strings.Builder
}

func (c *stickCase) one(from ...string) string { return from[c.Intn(len(from))] }
func (c *stickCase) some(n int) bool           { return c.Intn(n) == 0 }
func (c *stickCase) say(format string, args ...any) {
	fmt.Fprintf(c, format+"\n", args...)
}

func (c *stickCase) when(asks ...string) string {
	out := c.one("", "not ") + c.one(asks...)
	for c.some(3) {
		out += c.one(" and ", " or ") + c.one(asks...)
	}
	return out
}

var ofTitles = []string{"kind is full", "kind in short, none", "region", "region is North", "discs", "discs over 2",
	"name matches [aeiou]{2}", "id matches [02468]$", "size over 40KiB", "size under 40KiB", "form is image",
	"volume is front", "capacity over 512MiB", "via is usb", "filesystem is exfat", "ext is .iso"}

func (c *stickCase) accept(last bool) {
	c.say("[[accept]]\nplatforms = [\"vesper\"]\nforms = [\"image\"]")
	if !last {
		c.say("when = %q", c.when(ofTitles...))
	}
	in := c.one("A", "B") + c.one("/", "/{kind}/", "/{region|default:none|upper}/", "/{title|letter}/",
		"/{title|group:5}/",
		"/{if discs over 1}many/{end}", "/{size|unit:KiB}/")
	if c.some(3) {
		c.say("path = %q", in+"{title}"+c.one(".box", " {id}.box"))
		c.say("[accept.join]\nof = \"discs\"\nheader-length = %q\ntable = 64\nrecord = 40\nalign = %d\nfill = "+
			"%d\ntrailer-length "+
			"= %d", c.one("1KiB", "2KiB", "4KiB"), []int{1, 16, 512}[c.Intn(3)], c.Intn(256), 16)
		c.say("[[accept.join.header]]\noffset = 0\nlength = 4\nvalue = \"BOX1\"\nencoding = \"ascii\"")
		c.say("[[accept.join.header]]\noffset = %d\nlength = 4\nvalue = \"{parts}\"\nencoding = %q", 4+c.Intn(8),
			c.one("number-le", "number-be"))
		c.say("[[accept.join.header]]\noffset = 20\nlength = 30\nvalue = \"{id} {name}\"\nencoding = %q\nfill = 32",
			c.one("ascii", "utf-8", "utf-16be"))
		c.say("[[accept.join.row]]\noffset = 0\nlength = 8\nvalue = \"{offset}\"\nencoding = %q",
			c.one("number-le", "number-be"))
		c.say("[[accept.join.row]]\noffset = 8\nlength = 8\nvalue = \"{size}\"\nencoding = %q",
			c.one("number-le", "number-be"))
		c.say("[[accept.join.row]]\noffset = 16\nlength = 9\nvalue = \"{id}\"\nencoding = \"ascii\"")
		c.say("[[accept.join.trailer]]\noffset = 0\nlength = 8\nvalue = \"{offset}\"\nencoding = \"number-be\"")
		return
	}
	number, disc := "", c.one("{if disc} {disc}{end}", "{if disc}-{disc|letters}{end}")
	if c.some(2) {
		number = c.one("{number|pad:3} ", "{number|add:9|hex:2}-", "{number|letters}.")
	}
	ext := c.one(".iso", "{ext}", ".img")
	title := c.one("{title}", "{title}."+c.one("{id|lower}", "{id}"))
	file := c.one(number+title+disc+ext, number+title+"/{title}"+disc+ext, number+title+disc+"/game"+ext)
	c.say("path = %q", in+file)
	if c.some(2) {
		folder := c.one("", "P/", "P/{kind}/", "P/{title|letter}/", "P/{region|default:none}/")
		if number != "" {
			folder += number + "{title}/"
		}
		c.say("[accept.too-large]\ndo = \"split\"\nover = \"40KiB\"\npart-size = %q\nparts = %q",
			c.one("16KiB", "33KiB"),
			folder+"P{title}"+disc+c.one(".{index|pad:2}of{parts}", "/{index}.prt",
				".{if index over 1}{index|add:-2}{else}x{end}"))
	}
}

func (c *stickCase) companions() {
	if c.some(2) {
		c.say("[[companion]]\nis = \"launcher\"\nplatforms = [\"vesper\"]\nwhen = %q\npath = %q",
			c.when(ofTitles[:10]...),
			c.one("L/{title}.run", "{folder}/{title}.go"))
		if c.some(2) {
			c.say("length = 64\n[[companion.bytes]]\noffset = %d\nlength = 9\nvalue = \"{id}\"\nencoding = "+
				"\"ascii\"\nfill = 46",
				c.Intn(20))
			c.say("[[companion.bytes]]\noffset = 40\nlength = 4\nvalue = \"{size}\"\nencoding = %q",
				c.one("number-le", "number-be"))
		} else {
			c.say("text = %q\nencoding = %q", c.one("start {file}\n", "{name} in {folder}\n{{{parts}}}"),
				c.one("utf-8", "utf-16le",
					"latin-1"))
		}
	}
	if c.some(2) {
		c.say("[[companion]]\nis = \"playlist\"\nplatforms = [\"vesper\"]\nwhen = \"discs over 1\"\npath = "+
			"\"M/{title}.lst\"\n"+
			"text = %q", c.one("{each}{folder}/{file}\n{end}", "# {title}\n{each}{folder}/{file}\n{end}"))
	}
}

func (c *stickCase) lists() {
	for n := range c.Intn(3) {
		c.say("[[list]]\npath = %q\norder = [%q]", fmt.Sprintf(c.one("all%d.lst", "N/{kind}%d.lst",
			"{folder}/of%d.lst"), n),
			c.one("title", "id"))
		if c.some(3) {
			c.say("when = %q", c.when(ofTitles[:10]...))
		}
		c.say("%s", c.one("line = \"{index|pad:3} {id};{title};{file}\\n\"",
			"header = \"{discs}\\n\"\nline = \"{file}|{title|upper}\\n\"\nencoding = \"utf-16be\"",
			"per = \"title\"\nline = \"{title}:{each} {file}{end}\\n\"",
			"per = \"title\"\nmake = \"json\"\nkey = \"id\"\nheader = \"[\"\nbetween = \",\\n\"\nfooter = "+
				"\"]\"\nline = "+
				"'{{\"id\": \"{id}\", \"t\": \"{title}\", \"d\": [{each}{if index over 1}, {end}\"{file}\"{end}]}}'",
			"header = \"games are here\\n\"",
			"record = 80\nheader-length = 4\n[[list.header-field]]\noffset = 0\nlength = 2\nvalue = "+
				"\"{discs}\"\nencoding = "+
				"\"number-be\"\n[[list.field]]\noffset = 0\nlength = 48\nvalue = \"{file}\"\nencoding = \"utf-8\"\n"+
				"[[list.field]]\noffset = 48\nlength = 32\nvalue = \"{title}\"\nencoding = \"ascii\"\nfill = 32"))
	}
}

func (c *stickCase) profile() string {
	c.Reset()
	c.say("format = 1\nname = \"any\"\nshown = \"Any\"\nlist-order = [\"title\"]\n[[attachment]]\nname = " +
		"\"stick\"\nvia = " +
		"\"usb\"\nfilesystems = [\"exfat\"]")
	for _, v := range []string{"front", "store"} {
		c.say("[[attachment.volume]]\nname = %q\nfor = \"games\"", v)
	}
	for range c.Intn(3) {
		c.accept(false)
	}
	c.accept(true)
	c.companions()
	c.lists()
	return c.String()
}

// said is what the judge says of a stick.
type said struct {
	Placed, Starts, Strangers, Missing []string
	// Those that are not as they should be: games with their own files, files beside games, lists.
	Astray, Beside, Lists []string
}

// TestAnotherConsoleListsTheSameGames: whatever rules a profile has, a stick that is filled by it has every byte that a
// judge of its own works out from the same rules, and no other file; and after any damage the check lists as starting
// just those games that the judge does.
func TestAnotherConsoleListsTheSameGames(t *testing.T) {
	games := t.TempDir()
	put := func(n int, name, kind, region string, discs int) {
		for d := range discs {
			id := fmt.Sprintf("VSP-%05d", n*10+d)
			coretest.Write(t, games, fmt.Sprintf("%s %d.iso", name, d+1), coretest.Image(t, "REGION="+region+"\n"+
				coretest.Inf(id, name, fmt.Sprintf("%d/%d", d+1, discs), kind)))
		}
	}
	put(1, "Alder Lane", "full", "N", 1)
	put(2, "brook", "short", "E", 1)
	put(3, "Copper Tide", "full", "W", 3)
	put(4, "Dune 7", "short", "N", 2)
	put(5, "Owl and Oar", "full", "E", 1)
	put(6, "7 Sails", "short", "W", 1)
	seeds := 24
	if os.Getenv("POLYTOME_TEST_ALL") != "" {
		seeds = 1000
	}
	for seed := range seeds {
		c := &stickCase{Rand: rand.New(rand.NewSource(int64(seed)))}
		text := c.profile()
		dir := t.TempDir()
		set := knownTo(t, filepath.Join(dir, "known"), text)
		r, err := scan.Scan(t.Context(), []string{games}, scan.Options{Set: set})
		require.NoError(t, err)
		w := oneStick(t, dir, set, "any", "exfat", r.Titles)
		w.bench.Targets[0].Volume = c.one("", "front", "store")
		w.fill(0)
		judge := func() (out said) {
			cmd := exec.Command("/usr/bin/python3", "testdata/stick.py", filepath.Join(dir, "known/profiles/any.toml"),
				asFacts(t, w), w.at("Stick", ""),
				fmt.Sprintf(`{"via": "usb", "filesystem": "exfat", "volume": %q, "capacity": "%d"}`,
					w.bench.Targets[0].Volume, w.look(0).Facts.Capacity))
			cmd.Stderr = os.Stderr
			b, err := cmd.Output()
			require.NoError(t, err, "seed %d\n%s", seed, text)
			require.NoError(t, json.Unmarshal(b, &out))
			return out
		}
		all := judge()
		require.Equal(t, all.Placed, all.Starts, "seed %d\n%s\n%s", seed, text, w.files())
		require.Empty(t, all.Lists, "seed %d\n%s", seed, text)
		require.Empty(t, append(all.Strangers, all.Missing...), "seed %d\n%s", seed, text)
		require.Equal(t, all.Placed, starting(t, w, false, fmt.Sprintf("seed %d\n%s", seed, text)), "seed %d\n%s", seed,
			text)
		require.True(t, w.look(0).Plan().Empty(), "seed %d\n%s", seed, text)
		for range 3 {
			what := damage(t, c, w.at("Stick", ""))
			now := judge()
			faulty := len(now.Lists) > 0 || len(now.Starts) < len(now.Placed)
			listed := starting(t, w, faulty, fmt.Sprintf("seed %d %s\n%s", seed, what, text))
			if !strings.HasPrefix(what, "cut M/") { // the other discs do start
				require.Equal(t, now.Starts, listed, "seed %d, %s\n%s", seed, what, text)
			}
			require.NoError(t, os.RemoveAll(w.at("Stick", "")))
			require.NoError(t, os.MkdirAll(w.at("Stick", ""), 0o755))
			w.fill(0)
		}
	}
}

// asFacts writes down what the games of a bench are, and returns the file.
func asFacts(t *testing.T, w *workshop) string {
	type disc struct {
		File string `json:"file"`
		ID   string `json:"id"`
		Kind string `json:"kind"`
	}
	type game struct {
		ID     string `json:"id"`
		Name   string `json:"name"`
		Region string `json:"region"`
		Discs  []disc `json:"discs"`
	}
	var all []game
	for i := range w.titles {
		tt := &w.titles[i]
		g := game{ID: tt.ID, Name: tt.Name, Region: tt.Region}
		for _, d := range tt.Discs {
			g.Discs = append(g.Discs, disc{d.File.Path, d.ID, d.Kind})
		}
		all = append(all, g)
	}
	b, err := json.Marshal(all)
	require.NoError(t, err)
	file := filepath.Join(w.dir, "facts.json")
	require.NoError(t, os.WriteFile(file, b, 0o644))
	return file
}

// starting are the games that the check lists as starting with all their discs, by name; faulty is whether it is to
// find something.
func starting(t *testing.T, w *workshop, faulty bool, of string) []string {
	out, faults := checked(t, w)
	require.Equal(t, faulty, faults != "", "%s\n%s", faults, of)
	return out
}

// checked are the games that the check lists as starting with all their discs, by name, and what it finds to be wrong.
func checked(t *testing.T, w *workshop) (out []string, faults string) {
	s := w.look(0)
	report, err := s.Check(t.Context(), check.Inside)
	require.NoError(t, err)
	if slices.ContainsFunc(report.Findings, func(f check.Finding) bool { return f.Grade != check.Remark }) {
		faults = findings(report)
	}
	out = []string{}
	for i := range s.Titles {
		p := s.Sheet.Placement(i)
		if p.Refusal != nil {
			continue
		}
		starts := true
		for d := range s.Titles[i].Discs {
			k := slices.IndexFunc(p.Items, func(it layout.Item) bool { return it.Disc == d })
			if k < 0 {
				continue // it is in the file of another one
			}
			starts = starts && slices.ContainsFunc(report.Listed, func(l check.Listed) bool {
				at, is := strings.ToUpper(p.Items[k].Path), strings.ToUpper(l.Path)
				return l.Starts && (at == is || strings.HasPrefix(at, is+"/")) // of a folder, the folder is listed
			})
		}
		if starts {
			out = append(out, s.Titles[i].Name)
		}
	}
	slices.Sort(out)
	return out, faults
}

// damage does something to one file of a stick, and says what.
func damage(t *testing.T, c *stickCase, dir string) string {
	var files []string
	require.NoError(t, filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			files = append(files, p)
		}
		return err
	}))
	file := files[c.Intn(len(files))]
	name, err := filepath.Rel(dir, file)
	require.NoError(t, err)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	edited := len(b) < 1000 && (strings.HasSuffix(name, ".run") || strings.HasSuffix(name, ".go")) && len(b) != 64 ||
		// an entry may have been, behind its file
		string(b) == "games are here\n" || strings.ContainsAny(string(b), "|;")
	switch n := c.Intn(4); {
	case n == 0:
		require.NoError(t, os.Remove(file))
		return "removed " + name
	case n == 1 && !edited: // a text may have been edited
		require.NoError(t, os.WriteFile(file, b[:len(b)/2], 0o644))
		return "cut " + name
	case n == 2:
		require.NoError(t, os.WriteFile(file, nil, 0o644))
		return "emptied " + name
	}
	require.NoError(t, os.Rename(file, file+".bak"))
	return "renamed " + name
}
