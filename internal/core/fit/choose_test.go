package fit_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/plan"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// TestPuttingOneByOneIsLikeChoosingAll puts and takes titles in any order, and compares with choosing the same ones
// at once: verdicts, space and counts are the same, also where not everything fits, with ranks and rivals.
func TestPuttingOneByOneIsLikeChoosingAll(t *testing.T) {
	p := coretest.Profile(t, "bellows")
	fs, _ := target.FilesystemNamed("fat32")
	rapid.Check(t, func(t *rapid.T) {
		var titles []title.Title
		for i := range rapid.IntRange(1, 25).Draw(t, "titles") {
			name := fmt.Sprintf("Game %d", rapid.IntRange(0, 12).Draw(t, "name")) // some have one name, and some one ID
			tt := title.Title{Key: fmt.Sprint("k", i), Platform: "lapwing", Form: title.Tracks,
				ID: fmt.Sprintf("LAP_%05d", rapid.IntRange(0, 20).Draw(t, "id")), Name: name, Of: 1}
			d := title.Disc{Number: 1, File: title.File{Path: fmt.Sprintf("/games/%d.cue", i), Size: 100}}
			for k := range rapid.IntRange(1, 3).Draw(t, "tracks") {
				d.Parts = append(d.Parts, title.Part{Name: fmt.Sprintf("track %d.bin", k),
					File: title.File{Path: "/games/x.bin", Size: rapid.Int64Range(1, 900_000).Draw(t, "size")}})
			}
			tt.Discs = []title.Disc{d}
			titles = append(titles, tt)
		}
		f := target.Facts{Filesystem: fs, Capacity: 1 << 30, Free: rapid.Int64Range(0, 20_000_000).Draw(t, "free"),
			Cluster: rapid.SampledFrom([]int64{512, 4096, 32768}).Draw(t, "cluster")}
		tree := layout.Lay(titles, p, layout.Destination{Attachment: p.Attachment("usb", "fat32"), Filesystem: fs})
		ranks := make([]int8, len(titles))
		if rapid.Bool().Draw(t, "ranked") {
			for i := range ranks {
				ranks[i] = int8(rapid.IntRange(-1, 1).Draw(t, "rank"))
			}
		}
		judgeAll := func() *fit.Sheet {
			return fit.Judge(fit.Case{Titles: titles, Loaders: []fit.Loader{{Profile: p, Tree: tree}}, Via: "usb",
				Facts: f, Ranks: ranks, Reserve: 1000})
		}
		s := judgeAll()
		chosen := make([]bool, len(titles))
		for range rapid.IntRange(0, 60).Draw(t, "changes") {
			i := rapid.IntRange(0, len(titles)-1).Draw(t, "title")
			chosen[i] = !chosen[i]
			s.Put(i, chosen[i])
		}
		whole := judgeAll()
		whole.Choose(func(i int) bool { return chosen[i] })
		if s.Planned != whole.Planned || s.Count != whole.Count || s.New != whole.New {
			t.Fatalf("one by one: %d bytes, %d titles; at once: %d bytes, %d titles", s.Planned, s.Count, whole.Planned,
				whole.Count)
		}
		for i := range titles {
			if s.Verdict(i) != whole.Verdict(i) {
				t.Fatalf("title %d: %v, and at once %v", i, s.Verdict(i), whole.Verdict(i))
			}
		}
		if s.Free() < 0 && s.Planned > 0 {
			t.Fatalf("overdrawn by %d", -s.Free())
		}
		clone := s.Clone()
		for i := range titles {
			s.Put(i, !chosen[i])
		}
		for i := range titles {
			if clone.Verdict(i) != whole.Verdict(i) {
				t.Fatalf("a clone changes with the sheet")
			}
		}
	})
}

func TestTheMostWantedGetsTheSpace(t *testing.T) {
	titles := []title.Title{vesper(1, "First", size.GiB), vesper(2, "Second", size.GiB), vesper(3, "Third", size.GiB/2)}
	p := coretest.Rowan(t)
	f := facts("fat32", 58*size.GiB, size.GiB+10*size.MiB)
	s := fit.Judge(fit.Case{Titles: titles,
		Loaders: []fit.Loader{{Profile: p, Tree: layout.Lay(titles, p, destination(p, f))}}, Via: "usb", Facts: f})
	s.Choose(func(int) bool { return true })
	assert.Equal(t, fit.Copy, s.Verdict(0).Kind)
	assert.Equal(t, fit.NoSpace, s.Verdict(1).Kind)
	s.Rank([]int8{0, 2, -1})
	assert.Equal(t, fit.NoSpace, s.Verdict(0).Kind)
	assert.Equal(t, fit.Copy, s.Verdict(1).Kind)
	e := s.Explain(0)
	assert.NotContains(t, e.Words(), "take off Second", "what is wanted more is no way out")
	s.Rank([]int8{0, -2, -1})
	s.Choose(func(i int) bool { return i > 0 })
	s.Put(0, true)
	s.Rank([]int8{-3, 2, 0})
	e = s.Explain(0)
	require.Equal(t, fit.NoSpace, e.Verdict)
}

// TestWhatLeavesMakesSpace has a target hold exactly what is chosen: what is there and not chosen gives its space to
// what is.
func TestWhatLeavesMakesSpace(t *testing.T) {
	const cluster = 32 * size.KiB
	titles := []title.Title{vesper(1, "There", 3*size.GiB), vesper(2, "New", 3*size.GiB)}
	settings := func(n int) target.Entry { return target.Entry{Path: fmt.Sprintf("TUNE/VSP-%05d.tune", n), Size: 19} }
	there := []target.Entry{{Path: "FULL", Folder: true}, {Path: "TUNE", Folder: true},
		{Path: "FULL/VSP-00001 - There.iso", Size: 3 * size.GiB}, settings(1)}
	p := coretest.Rowan(t)
	judge := func(free int64, deleteOthers bool) *fit.Sheet {
		f := facts("fat32", 58*size.GiB, free)
		f.Cluster = cluster
		return fit.Judge(fit.Case{Titles: titles,
			Loaders: []fit.Loader{{Profile: p, Tree: layout.Lay(titles, p, destination(p, f))}}, Via: "usb", Facts: f,
			There: there, DeleteOthers: deleteOthers})
	}
	s := judge(size.GiB, true)
	s.Choose(func(i int) bool { return i == 1 })
	require.Equal(t, fit.Copy, s.Verdict(1).Kind, "it takes the space of the one that goes")
	assert.EqualValues(t, 3*size.GiB+cluster, s.Released)
	assert.EqualValues(t, size.GiB, s.Free(), "as much leaves as comes")
	s.Put(0, true)
	assert.Zero(t, s.Released)
	assert.Equal(t, fit.Present, s.Verdict(0).Kind)
	assert.Equal(t, fit.NoSpace, s.Verdict(1).Kind, "the one that is there stays, and takes its space")
	assert.EqualValues(t, 2*size.GiB+cluster, s.Verdict(1).Number)
	assert.EqualValues(t, size.GiB, s.Free())
	for short, want := range []fit.Kind{fit.Copy, fit.NoSpace} { // to the byte
		s = judge(int64(-short), true)
		s.Choose(func(i int) bool { return i == 1 })
		assert.Equal(t, want, s.Verdict(1).Kind)
	}
	s = judge(size.GiB, false)
	s.Choose(func(i int) bool { return i == 1 })
	assert.Equal(t, fit.NoSpace, s.Verdict(1).Kind, "where the others stay, they give no space")
	assert.Zero(t, s.Released)
}

// TestListsTakeTheirSpace has a file in which all titles are listed grow beyond a cluster: what is foretold is what
// the plan writes, and where the space of that one cluster is missing, the title is skipped.
func TestListsTakeTheirSpace(t *testing.T) {
	p := emitting(t, "rowan-net.lst")
	var titles []title.Title
	for i := range 40 {
		titles = append(titles, vesper(i, fmt.Sprintf("Ropewalk %02d", i), 100))
	}
	judge := func(free int64, there ...target.Entry) *fit.Sheet {
		f := facts("fat32", 58*size.GiB, free)
		f.Cluster = 512
		return fit.Judge(fit.Case{Titles: titles,
			Loaders: []fit.Loader{{Profile: p, Tree: layout.Lay(titles, p, destination(p, f))}}, Via: "usb", Facts: f,
			There: there})
	}
	listed := func(s *fit.Sheet) (space, all int64, text string) {
		for _, step := range plan.Make(s, plan.Options{}).Steps {
			if step.Kind == plan.MakeFolder {
				continue // folders are accounted for their entries
			}
			if all += step.Space; step.Path == "rowan-net.lst" {
				space, text = step.Space, string(step.Make.Text)
			}
		}
		return space, all, text
	}
	s := judge(50 * size.GiB)
	for n := range titles {
		s.Put(n, true)
		space, all, text := listed(s)
		require.EqualValues(t, (len(text)+511)/512*512, space, "the list of %d titles", n+1)
		folders := s.Planned - all
		require.GreaterOrEqual(t, folders, int64(0), "nothing is written that was not accounted for: %d titles", n+1)
		require.Less(t, folders, int64(20*512), "and little is estimated twice: %d titles", n+1)
	}
	whole, text := s.Planned, ""
	_, _, text = listed(s)
	require.Greater(t, len(text), 3*512)
	s.Choose(func(int) bool { return false })
	assert.Zero(t, s.Planned, "it is given back")

	s = judge(50*size.GiB, target.Entry{Path: "ROWAN-NET.LST", Size: int64(len(text))})
	s.Choose(func(int) bool { return true })
	around := strings.IndexByte(text, '\n') + 1 + len("that is all\n")
	space := func(n int) int64 { return int64((n + 511) / 512 * 512) }
	assert.EqualValues(t, whole-space(len(text))+space(2*len(text)-around)-space(len(text)), s.Planned,
		"what others have written in it stays")
	there := append([]target.Entry{{Path: "ROWAN-NET.LST", Size: int64(len(text))}}, onIt(t, judge(50*size.GiB))...)
	s = judge(50*size.GiB, there...)
	s.Choose(func(int) bool { return true })
	assert.Zero(t, s.Planned, "where all are there and reported, it does not grow")

	s = judge(whole)
	s.Choose(func(int) bool { return true })
	assert.Equal(t, len(titles), s.Count)
	assert.Zero(t, s.Free())
	s = judge(whole - 1)
	s.Choose(func(int) bool { return true })
	assert.Equal(t, len(titles)-1, s.Count, "a byte too little")
}

// onIt is what a target has when all that is planned for it is done.
func onIt(t testing.TB, s *fit.Sheet) (out []target.Entry) {
	s.Choose(func(int) bool { return true })
	for _, step := range plan.Make(s, plan.Options{}).Steps {
		if !strings.HasSuffix(step.Path, ".lst") {
			out = append(out, target.Entry{Path: step.Path, Folder: step.Kind == plan.MakeFolder, Size: step.Size})
		}
	}
	return out
}

func TestAReserveStaysFree(t *testing.T) {
	titles := []title.Title{vesper(1, "A", size.GiB)}
	p := coretest.Rowan(t)
	f := facts("fat32", 58*size.GiB, size.GiB+100*size.MiB)
	for reserve, want := range map[int64]fit.Kind{0: fit.Copy, size.GiB: fit.NoSpace} {
		s := fit.Judge(fit.Case{Titles: titles,
			Loaders: []fit.Loader{{Profile: p, Tree: layout.Lay(titles, p, destination(p, f))}}, Via: "usb", Facts: f,
			Reserve: reserve})
		s.Choose(func(int) bool { return true })
		assert.Equal(t, want, s.Verdict(0).Kind)
		if reserve > 0 {
			assert.Contains(t, s.Explain(0).Say, "1.00 GiB are kept in reserve")
		}
	}
}

func TestANameThatCannotBeMadeLegal(t *testing.T) {
	tt := title.Title{Key: "k", Platform: "dulcimer", Form: title.Folder, Name: "☃", Of: 1,
		Discs: []title.Disc{{Number: 1,
			File:  title.File{Path: "/games/☃"},
			Parts: []title.Part{{Name: "x.prog", File: title.File{Path: "/games/☃/x.prog", Size: 9}}}}}}
	e, _ := judgedBy(t, "plover", "usb", facts("fat32", 58*size.GiB, 50*size.GiB), tt)
	assert.Equal(t, fit.BadName, e.Verdict)
	assert.Contains(t, e.Say, "has no character that Plover allows")
	assert.Contains(t, e.Words(), "rename it in Games")
}

// collection is titles of many forms: images contiguous and in parts, folders, and small ones.
func collection() (out []title.Title) {
	for i := range 30 {
		out = append(out, vesper(i, fmt.Sprintf("Long Water to Nine Bells %d", i), int64(i*i)*3001+17))
	}
	for i := range 3 {
		out = append(out, vesper(100+i, fmt.Sprintf("In parts %d", i), 5_000_000+int64(i)*1_234_567))
	}
	return out
}

// cutting is the profile of the tests with parts of a size that small volumes have space for.
func cutting(t testing.TB) *loader.Profile {
	p := *coretest.Rowan(t)
	p.Accepts = slices.Clone(p.Accepts)
	for i := range p.Accepts {
		if p.Accepts[i].TooLarge.Do == "split" {
			p.Accepts[i].TooLarge.Over, p.Accepts[i].TooLarge.PartSize = 3_000_000, 1_000_001
		}
	}
	for i := range p.Attachments { // the same tree, also where the loader would not read it
		p.Attachments[i].Filesystems = []string{"any"}
	}
	return &p
}

// laid writes the files of a plan below a folder, as long as they shall be.
func laid(t testing.TB, p *plan.Plan, dir string) {
	for _, s := range p.Steps {
		file := filepath.Join(dir, filepath.FromSlash(s.Path))
		if s.Kind == plan.MakeFolder {
			require.NoError(t, os.MkdirAll(file, 0o755))
			continue
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, make([]byte, s.Size), 0o644))
	}
}

// TestSpaceAgreesWithVolumesThatWereFilled fills real FAT32 and exFAT volumes with what was planned for them, and holds
// what they really use, and what they have in all, against what was foretold.
func TestSpaceAgreesWithVolumesThatWereFilled(t *testing.T) {
	const capacity = 512 * size.MiB
	for name, c := range map[string]struct {
		cluster int64
		make    func(t *testing.T, img string)
		fill    func(t *testing.T, img, src string)
		used    func(t *testing.T, img string) (used, all int64)
	}{
		"fat32": {4 * size.KiB, func(t *testing.T, img string) { judge.Run(t, "mkfs.fat", "-F", "32", "-s", "8", img) },
			func(t *testing.T, img, src string) {
				judge.Run(t, "sh", "-c", fmt.Sprintf("mcopy -s -i %q %s/* ::/", img, src))
			},
			func(t *testing.T, img string) (int64, int64) {
				out, _ := judge.Try(t, "fsck.fat", "-n", img)
				return clusters(t, out, `(\d+)/(\d+) clusters`, 4*size.KiB)
			}},
		"exfat": {32 * size.KiB, func(t *testing.T, img string) { judge.Run(t, "mkfs.exfat", "-c", "32K", img) },
			func(t *testing.T, img, src string) {
				dir, device := t.TempDir(), strings.TrimSpace(judge.Root(t, "losetup", "-f", "--show", img))
				defer judge.Root(t, "losetup", "-d", device)
				judge.Root(t, "mount.exfat-fuse", device, dir)
				defer judge.Root(t, "umount", dir)
				judge.Root(t, "sh", "-c", fmt.Sprintf("cp -r %s/* %s/ && sync", src, dir))
			},
			func(t *testing.T, img string) (int64, int64) {
				out := judge.Run(t, "sh", "-c", fmt.Sprintf("dump.exfat %q", img))
				all := number(t, out, `(?i)cluster count:\s*(\d+)`)
				free := number(t, out, `(?i)free clusters:\s*(\d+)`)
				return (all - free) * 32 * size.KiB, all * 32 * size.KiB
			}},
	} {
		t.Run(name, func(t *testing.T) {
			img, src := filepath.Join(t.TempDir(), "stick.img"), t.TempDir()
			require.NoError(t, os.WriteFile(img, nil, 0o644))
			require.NoError(t, os.Truncate(img, capacity))
			c.make(t, img)
			before, all := c.used(t, img)
			fs, err := target.FilesystemNamed(name)
			require.NoError(t, err)
			space := capacity - fs.Structures(capacity, c.cluster)
			assert.InEpsilon(t, all-before, space, 0.001, "the space of an empty volume, and what its structures take")

			p, titles := cutting(t), collection()
			f := target.Facts{Filesystem: fs, Capacity: capacity, Free: space, Cluster: c.cluster}
			tree := layout.Lay(titles, p, layout.Destination{Attachment: p.Attachment("usb", name), Filesystem: fs})
			s := fit.Judge(fit.Case{Titles: titles, Loaders: []fit.Loader{{Profile: p, Tree: tree}}, Via: "usb",
				Facts: f})
			s.Choose(func(int) bool { return true })
			require.Equal(t, len(titles), s.Count)
			assert.Equal(t, fit.Parts, s.Verdict(30).Kind)
			todo := plan.Make(s, plan.Options{})
			laid(t, todo, src)
			c.fill(t, img, src)
			after, _ := c.used(t, img)
			assert.InEpsilon(t, after-before, s.Planned, 0.001, "what the volume really uses")

			var entries []target.Entry
			for _, step := range todo.Steps {
				entries = append(entries, target.Entry{Path: step.Path, Folder: step.Kind == plan.MakeFolder,
					Size: step.Size})
			}
			assert.InEpsilon(t, after-before, f.Used(entries), 0.001, "and what a listing of it tells")
		})
	}
}

func clusters(t testing.TB, out, pattern string, cluster int64) (used, all int64) {
	m := regexp.MustCompile(pattern).FindStringSubmatch(out)
	require.NotNil(t, m, out)
	used, _ = strconv.ParseInt(m[1], 10, 64)
	all, _ = strconv.ParseInt(m[2], 10, 64)
	return used * cluster, all * cluster
}

func number(t testing.TB, out, pattern string) int64 {
	m := regexp.MustCompile(pattern).FindStringSubmatch(out)
	require.NotNil(t, m, out)
	n, _ := strconv.ParseInt(m[1], 10, 64)
	return n
}
