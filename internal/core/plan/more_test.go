package plan_test

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/fit"
	"polytome/internal/core/fix"
	"polytome/internal/core/layout"
	"polytome/internal/core/plan"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
)

// situation is what a plan is made for.
type situation struct {
	titles       []title.Title
	there        []target.Entry
	found        map[int][]string
	removing     []string
	replace      []string
	deleteOthers bool
	free         int64
	backupTo     string
	wants        func(i int) bool
	fixes        []fix.Fix
}

func (s situation) plan(t coretest.T) *plan.Plan {
	t.Helper()
	p := coretest.Rowan(t)
	fs, _ := target.FilesystemNamed("fat32")
	if s.free == 0 {
		s.free = 50 * size.GiB
	}
	facts := target.Facts{Filesystem: fs, Capacity: 58 * size.GiB, Free: s.free, Cluster: 32 * size.KiB}
	tree := layout.Lay(s.titles, p, layout.Destination{Attachment: p.Attachment("usb", "fat32"), Filesystem: fs})
	sheet := fit.Judge(fit.Case{Titles: s.titles, Loaders: []fit.Loader{{Profile: p, Tree: tree}}, Via: "usb",
		Facts: facts, There: s.there,
		Found: s.found, Removing: s.removing, Replace: s.replace, DeleteOthers: s.deleteOthers})
	if s.wants == nil {
		s.wants = func(int) bool { return true }
	}
	sheet.Choose(s.wants)
	return plan.Make(sheet, plan.Options{BackupTo: s.backupTo, Fixes: s.fixes})
}

func say(p *plan.Plan) (out []string) {
	for i := range p.Steps {
		s := &p.Steps[i]
		line := string(s.Kind) + " " + s.Path
		if s.From != "" {
			line += " from " + s.From
		}
		out = append(out, line)
	}
	return out
}

func file(path string, n int64) target.Entry {
	return target.Entry{Path: path, Size: n, Modified: time.Unix(1e9, 0)}
}

// settings are those of a title that is on the target.
func settings(n int) target.Entry { return file(fmt.Sprintf("TUNE/VSP-%05d.tune", n), 19) }

func dirs(names ...string) (out []target.Entry) {
	for _, n := range names {
		out = append(out, target.Entry{Path: n, Folder: true})
	}
	return out
}

func TestWhatIsThereUnderAnotherNameIsRenamed(t *testing.T) {
	s := situation{titles: []title.Title{vesper(1, "full", 100)},
		there: append(dirs("old", "old/deep"), file("old/deep/tide.iso", 100)),
		found: map[int][]string{0: {"old/deep/tide.iso"}}}
	p := s.plan(t)
	assert.Equal(t, []string{"folder FULL", "folder TUNE",
		"move FULL/VSP-00001 - Copper Tide.iso from old/deep/tide.iso", "copy TUNE/VSP-00001.tune",
		"remove-folder old/deep"}, say(p))
	assert.EqualValues(t, 19, p.Bytes, "no byte of the game is copied")
	assert.Equal(t, "old/deep/tide.iso", p.Steps[2].Was.Path, "it is looked at again before it is touched")
	assert.Equal(t, []int{2}, p.Steps[3].Needs, "its settings are for nothing without it")
}

func TestOnlyWhatIsMarkedLeaves(t *testing.T) {
	there := append(dirs("FULL", "TUNE", "mine"), file("FULL/VSP-00001 - Copper Tide.iso", 100),
		file("FULL/VSP-00002 - Copper Tide.iso", 200), settings(1), settings(2),
		file("FULL/VSP-09999 - Somebody Else.iso", 7), file("mine/rota.txt", 3), file("mine/old.txt", 4))
	s := situation{titles: []title.Title{vesper(1, "full", 100), vesper(2, "full", 200)}, there: there,
		wants: func(i int) bool { return i == 0 }}
	assert.Empty(t, say(s.plan(t)), "what is no longer wanted stays")

	s.removing = []string{"mine"}
	assert.Equal(t, []string{"remove mine/old.txt", "remove mine/rota.txt"}, say(s.plan(t)))
	s.removing, s.deleteOthers = nil, true
	p := s.plan(t)
	assert.Equal(t, []string{"remove FULL/VSP-00002 - Copper Tide.iso", "remove FULL/VSP-09999 - Somebody Else.iso",
		"remove TUNE/VSP-00002.tune"}, say(p),
		"remove others takes what a loader knows and nobody wants, and never what no loader knows")
	assert.EqualValues(t, 226, p.Freed)
	assert.Equal(t, 3, p.Loses())

	s.backupTo = "/kept/here"
	p = s.plan(t)
	assert.Equal(t, []string{"backup FULL/VSP-00002 - Copper Tide.iso", "backup FULL/VSP-09999 - Somebody Else.iso",
		"backup TUNE/VSP-00002.tune",
		"remove FULL/VSP-00002 - Copper Tide.iso", "remove FULL/VSP-09999 - Somebody Else.iso",
		"remove TUNE/VSP-00002.tune"}, say(p))
	assert.Equal(t, []int{0}, p.Steps[3].Needs, "nothing goes that is not safe")
	assert.Equal(t, "/kept/here", p.BackupTo)
}

func TestSpaceComesFirstWhereItIsNeeded(t *testing.T) {
	s := situation{titles: []title.Title{vesper(1, "full", size.GiB)}, there: append(dirs("FULL", "TUNE", "mine"),
		settings(1), file("mine/a.mov", size.GiB), file("mine/b.mov", size.GiB)),
		removing: []string{"mine/a.mov", "mine/b.mov"}}
	assert.Equal(t, []string{"copy FULL/VSP-00001 - Copper Tide.iso", "remove mine/a.mov", "remove mine/b.mov"},
		say(s.plan(t)), "with space enough, what leaves leaves last")
	s.free = size.GiB / 2
	assert.Equal(t, []string{"remove mine/a.mov", "copy FULL/VSP-00001 - Copper Tide.iso", "remove mine/b.mov"},
		say(s.plan(t)), "only as much as is needed goes before")
}

// TestWhatIsNeededFirstGoesFirst holds, byte by byte, what a plan needs against what is free: a removal comes before
// what is written exactly when there is a byte too little.
func TestWhatIsNeededFirstGoesFirst(t *testing.T) {
	const cluster = 32 * size.KiB
	game, stray := "FULL/VSP-00001 - Copper Tide.iso", file("mine/a.mov", 3*size.GiB)
	for name, c := range map[string]struct {
		there   []target.Entry
		replace []string
		needs   int64
	}{
		"a file and its settings": {append(dirs("FULL", "TUNE", "mine"), stray), nil,
			size.GiB + cluster},
		"with its folders": {append(dirs("mine"), stray), nil, size.GiB + 3*cluster},
		"what is replaced stays until the new one is whole": {append(dirs("FULL", "TUNE", "mine"), stray,
			file(game, size.GiB/2), settings(1)), []string{game}, size.GiB},
		"what an interrupted run left goes anyway": {append(dirs("FULL", "TUNE", "mine"), stray, settings(1),
			file("FULL/"+target.TemporaryName("FULL/other.iso"), size.GiB/4)), nil, size.GiB - size.GiB/4},
	} {
		t.Run(name, func(t *testing.T) {
			for short, early := range []bool{false, true} {
				s := situation{titles: []title.Title{vesper(1, "full", size.GiB)}, there: c.there, replace: c.replace,
					removing: []string{"mine/a.mov"}, free: c.needs - int64(short)}
				p := s.plan(t)
				require.Empty(t, p.Left)
				removed := slices.IndexFunc(p.Steps, func(s plan.Step) bool { return s.Kind == plan.Remove })
				wrote := slices.IndexFunc(p.Steps, func(s plan.Step) bool { return s.Writes() })
				assert.Equal(t, early, removed < wrote, "%d free: %v", s.free, say(p))
			}
		})
	}
}

// TestWhatWasInterruptedIsResumed has an interrupted run leave half of a file that is written now, and half of one
// that is not.
func TestWhatWasInterruptedIsResumed(t *testing.T) {
	ours, other := target.TemporaryName("FULL/VSP-00001 - Copper Tide.iso"),
		"FULL/"+path.Base(target.TemporaryName("FULL/gone.iso"))
	s := situation{titles: []title.Title{vesper(1, "full", size.GiB)}, there: append(dirs("FULL", "TUNE"), settings(1),
		file(ours, 7), file(other, 9))}
	p := s.plan(t)
	assert.Equal(t, []string{"clear " + other, "copy FULL/VSP-00001 - Copper Tide.iso"}, say(p),
		"what can be resumed stays")
	assert.EqualValues(t, -32*size.KiB, p.Steps[0].Space)
}

// TestEmptyFoldersGo removes files out of nested folders: those that nothing is left in go, the deeper ones first and
// each once; what is at the root stays.
func TestEmptyFoldersGo(t *testing.T) {
	there := append(dirs("FULL", "TUNE", "a", "a/b", "a/b/c", "a/b/d", "x", "x/y"),
		file("a/b/c/1.mov", 1), file("a/b/c/2.mov", 1), file("a/b/d/3.mov", 1), file("x/y/4.mov", 1))
	folders := func(removing ...string) (out []string) {
		for _, step := range say(situation{there: there, removing: removing}.plan(t)) {
			if f, is := strings.CutPrefix(step, "remove-folder "); is {
				out = append(out, f)
			}
		}
		return out
	}
	assert.Empty(t, folders("a/b/c/1.mov"))
	assert.Equal(t, []string{"a/b/d"}, folders("a/b/d/3.mov"))
	assert.Equal(t, []string{"x/y"}, folders("x/y/4.mov"), "a folder at the root stays")
	assert.Equal(t, []string{"a/b/c", "a/b/d", "a/b"}, folders("a/b/c/1.mov", "a/b/c/2.mov", "a/b/d/3.mov"))
	assert.Equal(t, []string{"a/b/c", "a/b/d", "a/b", "x/y"}, folders("x/y/4.mov", "a/b/c/1.mov", "a/b/c/2.mov",
		"a/b/d/3.mov"))
}

func TestAFolderThatSomethingComesIntoStays(t *testing.T) {
	s := situation{titles: []title.Title{vesper(3, "full", 5*size.GiB)}, there: append(dirs("LONG", "LONG/VSP-00003",
		"TUNE"), file("LONG/VSP-00003/old.txt", 3), settings(3)),
		removing: []string{"LONG/VSP-00003/old.txt"}}
	for stay := range 6 { // however many are in it besides
		steps := say(s.plan(t))
		assert.Contains(t, steps, "copy LONG/VSP-00003/001.rwn")
		assert.NotContains(t, steps, "remove-folder LONG/VSP-00003")
		s.there = append(s.there, file(fmt.Sprintf("LONG/VSP-00003/%d.txt", stay), 3))
	}
}

// TestWhatIsWrittenForATitleNeedsItsOwnFiles has two titles be renamed and one be copied: the settings of each need its
// own file and no other.
func TestWhatIsWrittenForATitleNeedsItsOwnFiles(t *testing.T) {
	s := situation{titles: []title.Title{vesper(1, "full", 300), vesper(2, "full", 200), vesper(3, "full", 100)},
		there: append(dirs("FULL", "TUNE", "old"), file("old/one.iso", 300), file("old/two.iso", 200)),
		found: map[int][]string{0: {"old/one.iso"}, 1: {"old/two.iso"}}}
	p := s.plan(t)
	seen := 0
	for _, step := range p.Steps {
		if id, is := strings.CutPrefix(step.Path, "TUNE/"); is {
			seen++
			require.Len(t, step.Needs, 1)
			assert.Contains(t, p.Steps[step.Needs[0]].Path, strings.TrimSuffix(id, ".tune"))
		}
	}
	assert.Equal(t, 3, seen)
	assert.Equal(t, 2, p.Moves)
	assert.Equal(t, 4, p.Files)
	assert.EqualValues(t, 100+3*19, p.Bytes)
}

func TestAPlanCountsWhatItDoes(t *testing.T) {
	s := situation{there: append(dirs("mine"), file("mine/a.mov", 10), file("mine/b.mov", 5), file("mine/c.mov", 1)),
		removing: []string{"mine/a.mov", "mine/b.mov"}, backupTo: "/kept"}
	p := s.plan(t)
	assert.Equal(t, []int{2, 2, 0, 0}, []int{p.Removes, p.Kept, p.Moves, p.Files})
	assert.EqualValues(t, 15, p.Freed)
	assert.Zero(t, p.Bytes)
}

func TestReplacingWantsAMark(t *testing.T) {
	s := situation{titles: []title.Title{vesper(1, "full", 100)}, there: append(dirs("FULL", "TUNE"),
		file("FULL/VSP-00001 - Copper Tide.iso", 99), settings(1))}
	p := s.plan(t)
	assert.Empty(t, p.Steps)
	require.Len(t, p.Left, 1)
	assert.Equal(t, fit.Differs, p.Left[0].Why.Verdict)
	assert.Contains(t, p.Left[0].Why.Say, "with 99 bytes instead of 100 bytes")
	assert.Equal(t, "mark it in Tree to be replaced", p.Left[0].Why.Ways[0].Say)
	s.replace, s.backupTo = []string{"FULL/VSP-00001 - Copper Tide.iso"}, "/kept"
	p = s.plan(t)
	assert.Equal(t, []string{"backup FULL/VSP-00001 - Copper Tide.iso", "replace FULL/VSP-00001 - Copper Tide.iso"},
		say(p))
	assert.Equal(t, []int{0}, p.Steps[1].Needs)
	assert.EqualValues(t, 99, p.Steps[1].Was.Size)
}

func TestAFolderTitleMovesInOneStep(t *testing.T) {
	p := coretest.Profile(t, "gantry")
	fs, _ := target.FilesystemNamed("exfat")
	part := func(name string, n int64) title.Part {
		return title.Part{Name: name, File: title.File{Path: "/games/lane/" + name, Size: n}}
	}
	titles := []title.Title{{Key: "k", Platform: "corvane", Form: title.Folder, ID: "CVN00117", Name: "Hollow Lane",
		Of: 1,
		Discs: []title.Disc{{Number: 1, File: title.File{Path: "/games/lane"},
			Parts: []title.Part{part("main.run", 100), part("art/big.dat", 200)}}}}}
	tree := layout.Lay(titles, p, layout.Destination{Attachment: p.Attachment("ftp", "exfat"), Filesystem: fs})
	sheet := fit.Judge(fit.Case{Titles: titles, Loaders: []fit.Loader{{Profile: p, Tree: tree}}, Via: "ftp",
		Facts: target.Facts{Filesystem: fs, Capacity: 1 << 40, Free: 1 << 39, Cluster: 1 << 15},
		There: append(dirs("Games", "Games/lane v2", "Games/lane v2/art"), file("Games/lane v2/main.run", 100),
			file("Games/lane v2/art/big.dat", 200)),
		Found: map[int][]string{0: {"Games/lane v2/main.run", "Games/lane v2/art/big.dat"}}})
	sheet.Choose(func(int) bool { return true })
	assert.Equal(t, []string{"move Games/Hollow Lane from Games/lane v2"}, say(plan.Make(sheet, plan.Options{})))
}

func TestPuttingBack(t *testing.T) {
	fs, _ := target.FilesystemNamed("fat32")
	facts := target.Facts{Filesystem: fs, Cluster: 512}
	files := []plan.Returned{{Path: "a/b/one.iso", Copy: "/kept/one", Size: 5}, {Path: "two.iso", Copy: "/kept/two",
		Size: 6}}
	there := []target.Entry{file("TWO.ISO", 9)}
	p := plan.Restore(files, facts, there, false)
	assert.Equal(t, []string{"folder a", "folder a/b", "copy a/b/one.iso"}, say(p))
	assert.Equal(t, []string{"TWO.ISO already exists, and stays"}, p.Notes)
	p = plan.Restore(files, facts, there, true)
	assert.Equal(t, []string{"folder a", "folder a/b", "copy a/b/one.iso", "replace TWO.ISO"}, say(p))
}

// TestAnyPlanLeadsWhereItShould carries out plans for all sorts of marks and choices on a listing: what is wanted
// is there afterwards, what was not marked is untouched, and there is nothing left to do.
func TestAnyPlanLeadsWhereItShould(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := situation{deleteOthers: rapid.Bool().Draw(t, "delete-others"), found: map[int][]string{}}
		if rapid.Bool().Draw(t, "keep") {
			s.backupTo = "/kept"
		}
		seen := map[string]bool{}
		lay := func(e target.Entry) {
			for _, d := range layout.Folders(e.Path) {
				if !seen[d] {
					seen[d] = true
					s.there = append(s.there, target.Entry{Path: d, Folder: true})
				}
			}
			if !seen[e.Path] {
				seen[e.Path] = true
				s.there = append(s.there, e)
			}
		}
		var chosen []bool
		for i := range rapid.IntRange(1, 8).Draw(t, "titles") {
			n := rapid.Int64Range(1, 6<<30).Draw(t, "size")
			s.titles = append(s.titles, vesper(i, "full", n))
			chosen = append(chosen, rapid.Bool().Draw(t, "wanted"))
			at := fmt.Sprintf("FULL/VSP-%05d - Copper Tide.iso", i)
			switch rapid.IntRange(0, 4).Draw(t, "there") {
			case 0:
				if n < 1<<32 {
					lay(file(at, n))
				}
			case 1:
				lay(file(at, n+1))
				if rapid.Bool().Draw(t, "replace") {
					s.replace = append(s.replace, at)
				}
			case 2:
				if n < 1<<32 {
					stray := fmt.Sprintf("elsewhere/%d/tide.iso", i)
					lay(file(stray, n))
					s.found[i] = []string{stray}
				}
			}
		}
		for i := range rapid.IntRange(0, 3).Draw(t, "others") {
			e := file(fmt.Sprintf("mine/%d.txt", i), 5)
			lay(e)
			if rapid.Bool().Draw(t, "leaves") {
				s.removing = append(s.removing, e.Path)
			}
		}
		s.wants = func(i int) bool { return chosen[i] }
		p := s.plan(t)
		before := map[string]target.Entry{}
		at := map[string]target.Entry{}
		for _, e := range s.there {
			at[e.Path], before[e.Path] = e, e
		}
		done := map[int]bool{}
		touched := map[string]bool{}
		for k, step := range p.Steps {
			for _, n := range step.Needs {
				if n >= k || !done[n] {
					t.Fatalf("step %d comes before step %d, which it needs", k, n)
				}
			}
			done[k] = true
			if step.Was != nil {
				from := step.Path
				if step.Kind == plan.Move {
					from = step.From
				}
				if at[from] != *step.Was {
					t.Fatalf("%s %s: it is %v by then, and was to be %v", step.Kind, from, at[from], *step.Was)
				}
			}
			if parent := step.Path[:max(0, strings.LastIndexByte(step.Path, '/'))]; parent != "" && !at[parent].Folder {
				t.Fatalf("%s %s comes before its folder", step.Kind, step.Path)
			}
			touched[step.Path], touched[step.From] = true, true
			_, exists := at[step.Path]
			switch step.Kind {
			case plan.Backup:
			case plan.Remove, plan.RemoveFolder:
				for other := range at {
					if strings.HasPrefix(other, step.Path+"/") {
						t.Fatalf("%s is removed with %s in it", step.Path, other)
					}
				}
				delete(at, step.Path)
			case plan.Move:
				if exists {
					t.Fatalf("%s is there already", step.Path)
				}
				e := at[step.From]
				delete(at, step.From)
				e.Path = step.Path
				at[step.Path] = e
			case plan.Copy, plan.MakeFolder:
				if exists {
					t.Fatalf("%s is there already", step.Path)
				}
				at[step.Path] = target.Entry{Path: step.Path, Folder: step.Kind == plan.MakeFolder, Size: step.Size,
					Modified: time.Unix(1e9, 0)}
			case plan.Replace:
				at[step.Path] = target.Entry{Path: step.Path, Size: step.Size, Modified: time.Unix(1e9, 0)}
			}
		}
		for path, e := range before {
			marked := slices.Contains(s.removing, path)
			if strings.HasPrefix(path, "mine/") && (at[path] == e) == marked {
				t.Fatalf("%s: marked %v, there afterwards %v", path, marked, at[path])
			}
			if !touched[path] && at[path] != e {
				t.Fatalf("%s changed without a step", path)
			}
		}
		var after []target.Entry
		for _, e := range at {
			after = append(after, e)
		}
		again := s
		again.there, again.found, again.replace = after, nil, nil
		if left := again.plan(t); len(left.Steps) > 0 && !s.deleteOthers || len(left.Left) > len(p.Left) {
			t.Fatalf("still to do: %v, after %v", say(left), say(p))
		}
	})
}
