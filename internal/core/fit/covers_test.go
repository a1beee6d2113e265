package fit_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
)

// pictured gives titles a picture of the front and of the disc.
func pictured(titles []title.Title, kinds ...string) []title.Title {
	titles = slices.Clone(titles)
	for i := range titles {
		for _, of := range kinds {
			titles[i].Pictures = append(titles[i].Pictures, title.Picture{Of: of, File: title.File{Path: "/pictures/" +
				titles[i].ID + of + ".png", Size: 9}})
		}
	}
	return titles
}

// TestCoversGetWhatTitlesLeave puts and takes titles with covers in any order, on targets with any space and budget:
// all is as if they were chosen at once, no title is kept away by a cover, and neither space nor budget is overdrawn.
func TestCoversGetWhatTitlesLeave(t *testing.T) {
	p := coretest.Rowan(t)
	rapid.Check(t, func(t *rapid.T) {
		var titles []title.Title
		for i := range rapid.IntRange(1, 20).Draw(t, "titles") {
			tt := vesper(rapid.IntRange(1, 25).Draw(t, "id"), fmt.Sprint("Game ", i), rapid.Int64Range(1, 400_000).
				Draw(t, "size"))
			tt.Key = fmt.Sprint("k", i)
			for _, of := range []string{"front", "disc"} {
				if rapid.Bool().Draw(t, of) {
					tt.Pictures = append(tt.Pictures, title.Picture{Of: of, File: title.File{Path: "/p.png"}})
				}
			}
			titles = append(titles, tt)
		}
		f := facts("fat32", 1<<30, rapid.Int64Range(0, 6_000_000).Draw(t, "free"))
		f.Cluster = rapid.SampledFrom([]int64{512, 4096, 32768}).Draw(t, "cluster")
		var there []target.Entry
		if rapid.Bool().Draw(t, "some there") {
			there = append(there, target.Entry{Path: "FACES", Folder: true}, target.Entry{Path: "FACES/front",
				Folder: true}, target.Entry{Path: "FACES/front/VSP-00003.jpg", Size: 20000})
		}
		c := fit.Case{Loaders: []fit.Loader{{Profile: p, Tree: layout.Lay(titles, p, destination(p, f))}},
			Titles: titles, Via: "usb", Facts: f, There: there, Covers: true}
		if rapid.Bool().Draw(t, "budget") {
			most := rapid.Int64Range(0, 600_000).Draw(t, "most")
			c.CoversMost = &most
		}
		if rapid.Bool().Draw(t, "ranked") {
			c.Ranks = make([]int8, len(titles))
			for i := range c.Ranks {
				c.Ranks[i] = int8(rapid.IntRange(-1, 1).Draw(t, "rank"))
			}
		}
		s := fit.Judge(c)
		chosen := make([]bool, len(titles))
		for range rapid.IntRange(0, 50).Draw(t, "changes") {
			i := rapid.IntRange(0, len(titles)-1).Draw(t, "title")
			chosen[i] = !chosen[i]
			s.Put(i, chosen[i])
		}
		whole, bare := fit.Judge(c), c
		whole.Choose(func(i int) bool { return chosen[i] })
		bare.Covers = false
		without := fit.Judge(bare)
		without.Choose(func(i int) bool { return chosen[i] })
		if s.Covers() != whole.Covers() || s.Planned != whole.Planned || s.Count != whole.Count {
			t.Fatalf("one by one: %+v, %d; at once: %+v, %d", s.Covers(), s.Planned, whole.Covers(), whole.Planned)
		}
		if s.Planned-s.Covers().Planned != without.Planned || s.Count != without.Count {
			t.Fatalf("with covers %d titles of %d bytes go, without %d of %d", s.Count, s.Planned-s.Covers().Planned,
				without.Count, without.Planned)
		}
		covers := 0
		for i := range titles {
			if s.Verdict(i).Kind != without.Verdict(i).Kind {
				t.Fatalf("title %d: %v with covers, %v without", i, s.Verdict(i).Kind, without.Verdict(i).Kind)
			}
			if !slices.EqualFunc(s.Companions(i), whole.Companions(i),
				func(a, b layout.Companion) bool { return a.Path == b.Path }) {
				t.Fatalf("title %d has other companions", i)
			}
			if chosen[i] && s.Verdict(i).Kind.Goes() && s.CoverLacks(i) == "" {
				covers += len(slices.DeleteFunc(s.Companions(i),
					func(c layout.Companion) bool { return c.Is != "cover" }))
			}
		}
		if d := s.Covers(); d.Most >= 0 && d.Planned > 0 && d.There+d.Planned > d.Most ||
			d.Planned > 0 != (covers > 0) {
			t.Fatalf("%+v, and %d covers", d, covers)
		}
		if s.Free() < 0 && s.Planned > 0 {
			t.Fatalf("overdrawn by %d", -s.Free())
		}
		clone := s.Clone()
		for i := range titles {
			s.Put(i, !chosen[i])
		}
		if clone.Covers() != whole.Covers() {
			t.Fatal("a clone changes with the sheet")
		}
	})
}

func TestTheMostWantedKeepTheirCovers(t *testing.T) {
	var titles []title.Title
	for i := range 6 {
		titles = append(titles, vesper(i+1, fmt.Sprint("Game ", i), size.MiB))
	}
	titles = pictured(titles, "front")
	p := coretest.Rowan(t)
	f := facts("fat32", 58*size.GiB, 50*size.GiB)
	most := int64(200_000) // with 32 KiB clusters, and the folders FACES and FACES/front, that is four covers
	s := fit.Judge(fit.Case{Titles: titles,
		Loaders: []fit.Loader{{Profile: p, Tree: layout.Lay(titles, p, destination(p, f))}}, Via: "usb", Facts: f,
		Covers: true, CoversMost: &most})
	s.Choose(func(int) bool { return true })
	dressed := func() (out []int) {
		for i := range titles {
			if s.CoverLacks(i) == "" {
				out = append(out, i)
			}
		}
		return out
	}
	assert.Equal(t, []int{0, 1, 2, 3}, dressed())
	assert.Contains(t, s.Explain(5).Say, "no cover: covers may use 195.31 KiB here")
	assert.Contains(t, s.Explain(0).Say, "is copied to")
	c := s.Covers()
	assert.Equal(t, "Covers take 192.00 KiB of the 195.31 KiB they may use; those of 2 titles do not fit.", c.Say())
	s.Rank([]int8{0, -1, 0, 0, 5, 5})
	assert.Equal(t, []int{0, 2, 4, 5}, dressed(), "the most wanted first")
	s.Put(4, false)
	assert.Equal(t, []int{0, 2, 3, 4, 5}, dressed(),
		"what is given up is for the next one; one that is not wanted lacks nothing")
	assert.Equal(t, 6, func() int { s.Put(4, true); return s.Count }(), "all titles that fit in any case")

	zero := int64(0)
	s = fit.Judge(fit.Case{Titles: titles,
		Loaders: []fit.Loader{{Profile: p, Tree: layout.Lay(titles, p, destination(p, f))}}, Via: "usb", Facts: f,
		Covers: true, CoversMost: &zero})
	s.Choose(func(int) bool { return true })
	assert.Zero(t, s.Covers().Going, "a budget of nothing is none")
}

func TestCoversThatAreThereCanMakeSpace(t *testing.T) {
	titles := pictured([]title.Title{vesper(1, "Small", size.MiB), vesper(2, "Large", 40*size.MiB)}, "front")
	p := coretest.Rowan(t)
	f := facts("fat32", 100*size.MiB, 39*size.MiB)
	s := fit.Judge(fit.Case{Titles: titles,
		Loaders: []fit.Loader{{Profile: p, Tree: layout.Lay(titles, p, destination(p, f))}}, Via: "usb", Facts: f,
		Covers: true,
		There: []target.Entry{{Path: "FACES", Folder: true}, {Path: "FACES/front", Folder: true},
			{Path: "FACES/front/VSP-00001.jpg", Size: 4 * size.MiB}}})
	s.Choose(func(i int) bool { return i == 1 })
	e := s.Explain(1)
	assert.Equal(t, fit.NoSpace, e.Verdict)
	assert.Contains(t, e.Words(), "remove the covers on it (1 file, 4.00 MiB): mark them in Tree")
}
