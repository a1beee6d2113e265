package survey_test

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/plan"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/testkit/coretest"
)

// withNumbers is a loader whose folders have running numbers.
func withNumbers(how string) string {
	return `format = 1
name = "any"
shown = "Any"
list-order = ["title"]
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["fat32"]
[[accept]]
platforms = ["vesper"]
path = "{kind|upper}/{number|add:1|pad:3}-{title}/{title}{if disc} {disc}{end}.iso"
numbers = "` + how + `"
[accept.too-large]
do = "split"
over = "400KB"
part-size = "100KB"
parts = "{kind|upper}/{number|add:1|pad:3}-{title}/{title}.{index}of{parts}"
[[companion]]
is = "launcher"
platforms = ["vesper"]
path = "{kind|upper}/{number|add:1|pad:3}-{title}/start.run"
text = "{number} {file}"
[[companion]]
is = "settings"
platforms = ["vesper"]
path = "opt/{number|hex:2} {title}.txt"
text = "loud = 1"
[[list]]
path = "all.lst"
line = "{number} {title}\n"
`
}

// numbered is a bench with a stick for such a loader and a function that adds a game.
func numbered(t *testing.T, how string) (w *workshop, add func(name string, more int)) {
	dir := t.TempDir()
	set := knownTo(t, filepath.Join(dir, "known"), withNumbers(how))
	w = oneStick(t, dir, set, "any", "fat32", nil)
	n := 0
	return w, func(name string, more int) {
		n++
		kind := map[bool]string{true: "full", false: "short"}[name != "Short One"]
		data := coretest.Image(t, coretest.Inf(fmt.Sprintf("VSP-%05d", n), name, "1/1", kind))
		coretest.Write(t, dir, "games/"+name+".iso", append(data, make([]byte, more)...))
		r, err := scan.Scan(t.Context(), []string{filepath.Join(dir, "games")}, scan.Options{Set: set})
		require.NoError(t, err)
		w.titles = r.Titles
	}
}

// files are the paths on the stick.
func (w *workshop) files() []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(contents(w.t, w.at("Stick", "")))),
		func(p string) bool { return strings.HasSuffix(p, "/") })
}

func games(files []string) (out []string) {
	for _, f := range files {
		if strings.HasPrefix(f, "FULL") || strings.HasPrefix(f, "SHORT") {
			out = append(out, f)
		}
	}
	return out
}

// TestRunningNumbersFollowTheOrder: a game that comes renames those behind it, parts and launchers too, without a byte
// being copied again, and this is said before.
func TestRunningNumbersFollowTheOrder(t *testing.T) {
	w, add := numbered(t, "in-order")
	add("Copper Tide", 0)
	add("Owl", 500_000)
	add("Short One", 0)
	w.fill(0)
	lies := contents(t, w.at("Stick", ""))
	whole := lies["FULL/002-Copper Tide/Copper Tide.iso"]
	assert.Equal(t, "1 Copper Tide.iso", lies["FULL/002-Copper Tide/start.run"])
	assert.Equal(t, "2 Owl.1of"+parts(lies), lies["FULL/003-Owl/start.run"])
	assert.Equal(t, "1 Short One.iso", lies["SHORT/002-Short One/start.run"], "each folder counts by itself")
	assert.Equal(t, "1 Copper Tide\n2 Owl\n1 Short One\n", lies["all.lst"])
	assert.True(t, w.look(0).Plan().Empty())

	w.bench.Targets[0].Everything = false
	for i := range w.titles {
		w.bench.Targets[0].Want(true, w.titles[i].Key)
	}
	add("Beacon", 0)
	s := w.look(0)
	at := slices.IndexFunc(s.Titles, func(x title.Title) bool { return x.Name == "Beacon" })
	assert.Contains(t, s.Sheet.Explain(at).Say, "2 titles behind it in the list would get another number")
	assert.True(t, s.Plan().Empty(), "while it is not wanted, nothing changes")
	w.bench.Targets[0].Want(true, w.titles[at].Key)
	s.Put(w.bench, 0, at)
	assert.Contains(t, strings.Join(s.Plan().Notes, "\n"), "2 titles get another number and are renamed")
	bytes := int64(0)
	for _, x := range s.Plan().Steps {
		if x.Kind == plan.Copy {
			bytes += x.Size
		}
	}
	assert.Less(t, bytes, int64(450_000), "only the new game is copied")
	w.fill(0)
	now := contents(t, w.at("Stick", ""))
	assert.Equal(t, whole, now["FULL/003-Copper Tide/Copper Tide.iso"])
	assert.Contains(t, now, "FULL/002-Beacon/Beacon.iso")
	assert.Contains(t, now, "FULL/004-Owl/Owl.1of"+parts(lies))
	assert.NotContains(t, now, "FULL/003-Owl/Owl.1of"+parts(lies))
	assert.NoDirExists(t, w.at("Stick", "FULL/003-Owl"))
	assert.Equal(t, "1 Beacon\n2 Copper Tide\n3 Owl\n1 Short One\n", now["all.lst"])
	assert.True(t, w.look(0).Plan().Empty(), "%v", w.look(0).Plan().Steps)
	for _, depth := range []check.Depth{check.Inside, check.Names} {
		report, err := w.look(0).Check(t.Context(), depth)
		require.NoError(t, err)
		assert.Empty(t, findings(report))
		assert.Len(t, report.Listed, 4)
	}
}

// parts is in how many parts the long one is.
func parts(lies map[string]string) string {
	for n := range 20 {
		if _, ok := lies[fmt.Sprintf("FULL/003-Owl/Owl.1of%d", n)]; ok {
			return fmt.Sprint(n)
		}
	}
	return "?"
}

// TestRunningNumbersThatStay: with numbers that are appended, a new game is the last, whatever its name, and a number
// that somebody else's game has is left to it.
func TestRunningNumbersThatStay(t *testing.T) {
	w, add := numbered(t, "append")
	add("Copper Tide", 0)
	add("Owl", 0)
	w.fill(0)
	require.NoError(t, os.MkdirAll(w.at("Stick", "FULL/004-Somebody"), 0o755))
	require.NoError(t, os.WriteFile(w.at("Stick", "FULL/004-Somebody/Somebody.iso"), []byte("x"), 0o644))
	add("Beacon", 0)
	for range 2 {
		w.fill(0)
		assert.Equal(t, []string{"FULL/002-Copper Tide/Copper Tide.iso", "FULL/002-Copper Tide/start.run",
			"FULL/003-Owl/Owl.iso", "FULL/003-Owl/start.run", "FULL/004-Somebody/Somebody.iso",
			"FULL/005-Beacon/Beacon.iso", "FULL/005-Beacon/start.run"}, games(w.files()))
	}
	require.NoError(t, os.Rename(w.at("Stick", "FULL/004-Somebody"), w.at("Stick", "FULL/003-Somebody")))
	report, err := w.look(0).Check(t.Context(), check.Names)
	require.NoError(t, err)
	assert.Contains(t, findings(report), "another title in its folder has the number 2 too")

	w.bench.Targets[0].Everything = false
	w.bench.Targets[0].Want(true, w.titles[0].Key, w.titles[1].Key)
	s := w.look(0)
	for i := range s.Titles {
		assert.Equal(t, "present", s.Sheet.Fits(i).Word(), s.Titles[i].Name)
	}
}

// TestNumbersOfFoldersAndOfTitlesThatBeginAlikeStay: a stick that was filled needs nothing more, where whole folders
// have the numbers, and where a path has of a title only its letter and a changed form.
func TestNumbersOfFoldersAndOfTitlesThatBeginAlikeStay(t *testing.T) {
	for name, rule := range map[string]string{
		"folders": "platforms = [\"tern\"]\nforms = [\"folder\"]\npath = \"play/{title|letter}/{number|pad:3} {title}\"",
		"beside": "platforms = [\"tern\"]\nforms = [\"folder\"]\npath = \"play/{number|pad:3}-{title}\"\n" +
			"[[companion]]\nis = \"settings\"\nplatforms = [\"tern\"]\npath = \"{folder}/{base}.cfg\"\ntext = \"x\"",
		"many": "platforms = [\"tern\"]\nforms = [\"folder\"]\npath = \"play/{if kind}many/{end}{number|pad:3} " +
			"{title}\"",
		"changed": "platforms = [\"vesper\"]\npath = " +
			"\"play/{title|letter}/{number|pad:2}-{title|lower|replace: :_}/game{ext}\"",
	} {
		for _, how := range []string{"in-order", "append"} {
			t.Run(name+" "+how, func(t *testing.T) {
				dir := t.TempDir()
				set := knownTo(t, filepath.Join(dir, "known"), "format = 1\nname = \"any\"\nshown = \"Any\"\n"+
					"list-order = [\"title\"]\n[[attachment]]\nname = \"stick\"\nvia = \"usb\"\nfilesystems = "+
					"[\"fat32\"]\n"+
					"[[accept]]\nnumbers = \""+how+"\"\n"+rule+"\n")
				for n, name := range []string{"Gate", "Gate Pier", "Gate Quarry", "Owl", "Owl Post"} {
					coretest.Write(t, dir, "games/"+name+".iso",
						coretest.Image(t, coretest.Inf(fmt.Sprintf("VSP-%05d", n),
							name, "1/1", "full")))
					coretest.Write(t, dir, "games/"+name+"/tern.set", fmt.Appendf(nil, "code=TRN-%04d\n", n))
					coretest.Write(t, dir, "games/"+name+"/data.bin", []byte(name))
				}
				r, err := scan.Scan(t.Context(), []string{filepath.Join(dir, "games")}, scan.Options{Set: set})
				require.NoError(t, err)
				w := oneStick(t, dir, set, "any", "fat32", r.Titles)
				w.fill(0)
				require.Greater(t, len(w.files()), 4)
				assert.Empty(t, w.look(0).Plan().Steps)
				report, err := w.look(0).Check(t.Context(), check.Inside)
				require.NoError(t, err)
				assert.Empty(t, report.Findings)
				assert.Len(t, report.Listed, 5)
			})
		}
	}
}
