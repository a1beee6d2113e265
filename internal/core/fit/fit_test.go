package fit_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

func vesper(n int, name string, bytes int64) title.Title {
	return coretest.Vesper(n, name, "full", bytes)
}

func destination(p *loader.Profile, f target.Facts) layout.Destination {
	return layout.Destination{Attachment: p.Attachment("usb", f.Filesystem.Name), Filesystem: f.Filesystem}
}

func facts(filesystem string, capacity, free int64) target.Facts {
	f, err := target.FilesystemNamed(filesystem)
	if err != nil {
		panic(err)
	}
	return target.Facts{Filesystem: f, Capacity: capacity, Free: free, Cluster: f.Cluster(capacity)}
}

func judged(t testing.TB, titles []title.Title, f target.Facts, there ...target.Entry) *fit.Sheet {
	p := coretest.Rowan(t)
	s := fit.Judge(fit.Case{Titles: titles,
		Loaders: []fit.Loader{{Profile: p, Tree: layout.Lay(titles, p, destination(p, f))}}, Via: "usb", Facts: f,
		There: there})
	s.Choose(func(int) bool { return true })
	return s
}

func TestVerdicts(t *testing.T) {
	stick := facts("fat32", 58*size.GiB, 50*size.GiB)
	bad := vesper(1, "Velvet Ballast", 100)
	bad.Findings = []title.Finding{{Grade: title.Fault, Say: "the image is cut short", Remedy: "copy it again"}}
	file := func(path string, n int64) target.Entry { return target.Entry{Path: path, Size: n} }
	for name, c := range map[string]struct {
		title title.Title
		facts target.Facts
		there []target.Entry
		want  fit.Kind
		say   string
	}{
		"fits": {vesper(1, "A", 100), stick, nil, fit.Copy,
			"is copied to FULL/VSP-00001 - A.iso and takes 64.00 KiB"},
		"at the limit": {vesper(1, "A", 1<<32-1), stick, nil, fit.Copy, ""},
		"one byte over": {vesper(1, "A", 1<<32), stick, nil, fit.Parts,
			"files up to 4,294,967,295 bytes; this image is 4.00 GiB. Rowan reads it in 3 parts, which take 4.00 GiB"},
		"far over": {vesper(1, "A", 5<<30), stick, nil, fit.Parts,
			"Rowan reads it in 3 parts, which take 5.00 GiB"},
		"there": {vesper(1, "A", 100), stick, []target.Entry{file("FULL/VSP-00001 - A.iso", 100)},
			fit.Present, "is already there, as"},
		"there, other case": {vesper(1, "A", 100), stick, []target.Entry{file("full/vsp-00001 - a.ISO", 100)},
			fit.Present, "is already there, as"},
		"other length": {vesper(1, "A", 100), stick, []target.Entry{file("FULL/VSP-00001 - A.iso", 99)},
			fit.Differs, "a file of another size is already at its path"},
		"folder in the way": {vesper(1, "A", 100), stick, []target.Entry{{Path: "FULL/VSP-00001 - A.iso",
			Folder: true}}, fit.Differs, "a folder is already at its path"},
		"file in the way": {vesper(1, "A", 100), stick, []target.Entry{file("FULL", 3)}, fit.Differs,
			"a file is already at its path FULL"},
		"wrong filesystem": {vesper(1, "A", 100), facts("exfat", 58*size.GiB, 50*size.GiB), nil, fit.Unsupported,
			"Rowan reads only FAT32 over USB; this target is exFAT"},
		"bad": {bad, stick, nil, fit.Bad, "cut short"},
		"no space": {vesper(1, "A", 3<<30), facts("fat32", 58*size.GiB, 2*size.GiB), nil, fit.NoSpace,
			"1.00 GiB short"},
		"not recognised": {title.Title{Of: 1, Discs: []title.Disc{{}}}, stick, nil, fit.Unsupported,
			"the file was not recognized"},
	} {
		t.Run(name, func(t *testing.T) {
			s := judged(t, []title.Title{c.title}, c.facts, c.there...)
			e := s.Explain(0)
			assert.Equal(t, c.want, e.Verdict)
			assert.Contains(t, e.Say, c.say)
			if !e.Verdict.Goes() {
				assert.NotEmpty(t, e.Say)
			}
			if c.want == fit.Parts {
				assert.Equal(t, "split 3", s.Verdict(0).Word())
			}
		})
	}
}

func TestClashGoesToTheChosenOne(t *testing.T) {
	a, b := vesper(1, "Same", 100), vesper(1, "Same", 200)
	b.Key = "/games/other.iso"
	s := judged(t, []title.Title{a, b}, facts("fat32", 58*size.GiB, 50*size.GiB))
	assert.Equal(t, []fit.Kind{fit.Copy, fit.Clash}, []fit.Kind{s.Verdict(0).Kind, s.Verdict(1).Kind})
	assert.Contains(t, s.Explain(1).Say, "would get the same path as Same")
	s.Choose(func(i int) bool { return i == 1 })
	assert.Equal(t, []fit.Kind{fit.Clash, fit.Copy}, []fit.Kind{s.Verdict(0).Kind, s.Verdict(1).Kind})
	s = judged(t, []title.Title{a, b}, facts("fat32", 58*size.GiB, 50*size.GiB),
		target.Entry{Path: "FULL/VSP-00001 - Same.iso", Size: 200})
	assert.Equal(t, fit.Clash, s.Verdict(0).Kind, "what is there is the other one, which is wanted")
	assert.Equal(t, fit.Present, s.Verdict(1).Kind, "what is there already keeps its path")
	s.Choose(func(i int) bool { return i == 0 })
	assert.Equal(t, fit.Differs, s.Verdict(0).Kind, "it can be replaced where the other one is not wanted")
}

func TestSpaceIsNeverOverdrawn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		free := rapid.Int64Range(0, 4*size.GiB).Draw(t, "free")
		sizes := rapid.SliceOfN(rapid.Int64Range(1, size.GiB), 1, 30).Draw(t, "sizes")
		var titles []title.Title
		for i, n := range sizes {
			titles = append(titles, vesper(i, fmt.Sprint("Title ", i), n))
		}
		p := coretest.Rowan(t)
		f := facts("fat32", 58*size.GiB, free)
		s := fit.Judge(fit.Case{Titles: titles,
			Loaders: []fit.Loader{{Profile: p, Tree: layout.Lay(titles, p, destination(p, f))}}, Via: "usb", Facts: f})
		picks := rapid.SliceOfN(rapid.Bool(), len(sizes), len(sizes)).Draw(t, "picks")
		s.Choose(func(i int) bool { return picks[i] })
		if s.Planned > free || s.Free() < 0 {
			t.Fatalf("%d planned with %d free", s.Planned, free)
		}
		var files int64
		for i, v := range verdicts(s) {
			if s.Chosen[i] && v.Kind == fit.Copy {
				files += v.Space
			}
			if v.Kind == fit.NoSpace && v.Number <= 0 {
				t.Fatalf("no space, but nothing is missing")
			}
		}
		if over := s.Planned - files; over < 0 || over > 8*f.Cluster {
			t.Fatalf("folders cannot take %d", over)
		}
		before := fmt.Sprint(verdicts(s))
		s.Choose(func(i int) bool { return !picks[i] })
		s.Choose(func(i int) bool { return picks[i] })
		if fmt.Sprint(verdicts(s)) != before {
			t.Fatal("putting and taking changes the verdicts")
		}
	})
}

// TestSpaceAgreesWithARealVolume fills a FAT32 volume with foreign tools, and compares
// the clusters that are then in use with those that were foretold.
func TestSpaceAgreesWithARealVolume(t *testing.T) {
	dir := t.TempDir()
	img, src := filepath.Join(dir, "stick.img"), filepath.Join(dir, "src")
	require.NoError(t, os.WriteFile(img, nil, 0o644))
	require.NoError(t, os.Truncate(img, 64*size.MiB))
	judge.Run(t, "mkfs.fat", "-F", "32", "-s", "1", img)
	used := func() int64 {
		out, _ := judge.Try(t, "fsck.fat", "-n", img)
		m := regexp.MustCompile(`(\d+)/\d+ clusters`).FindStringSubmatch(out)
		require.NotNil(t, m, out)
		n, _ := strconv.ParseInt(m[1], 10, 64)
		return n
	}
	before := used()
	var titles []title.Title
	for i := range 40 {
		titles = append(titles, vesper(i, fmt.Sprintf("Nine Bells to Marrowby %d", i), int64(i*997)))
	}
	f := facts("fat32", 64*size.MiB, 60*size.MiB)
	f.Cluster = 512
	s := judged(t, titles, f)
	for i := range titles {
		require.Equal(t, fit.Copy, s.Verdict(i).Kind)
		file := filepath.Join(src, "FULL", s.Paths(i)[0])
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, make([]byte, titles[i].Discs[0].File.Size), 0o644))
		for _, c := range s.Companions(i) {
			file := filepath.Join(src, filepath.FromSlash(c.Path))
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
			require.NoError(t, os.WriteFile(file, []byte(c.Text), 0o644))
		}
	}
	judge.Run(t, "mcopy", "-s", "-i", img, filepath.Join(src, "FULL"), filepath.Join(src, "TUNE"), "::/")
	assert.InDelta(t, s.Planned/512, used()-before, 1, "within a cluster of what the volume really uses")
}

func bench50000(b *testing.B) (*fit.Sheet, []title.Title) {
	titles := make([]title.Title, 50_000)
	for i := range titles {
		titles[i] = vesper(i, fmt.Sprint("Title ", i), size.MiB)
	}
	return judged(b, titles, facts("fat32", 60*size.GiB, 40*size.GiB)), titles
}

func BenchmarkPutOrTakeAmong50000(b *testing.B) {
	s, titles := bench50000(b)
	for i := 0; b.Loop(); i++ {
		s.Choose(func(j int) bool { return j != i%len(titles) })
	}
}

// verdicts are those of all titles.
func verdicts(s *fit.Sheet) []fit.Verdict {
	out := make([]fit.Verdict, len(s.Titles()))
	for i := range out {
		out[i] = s.Verdict(i)
	}
	return out
}
