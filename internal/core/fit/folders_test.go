package fit_test

import (
	"fmt"
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
	"polytome/internal/format/fat"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/volumetest"
)

// telling is a profile that lists all titles in a file, on every filesystem.
func emitting(t testing.TB, at string) *loader.Profile {
	p := *coretest.Rowan(t)
	p.Lists = slices.Clone(p.Lists)
	l := &p.Lists[0]
	l.On = nil
	require.NoError(t, l.Path.UnmarshalText([]byte(at)))
	require.NoError(t, l.Header.UnmarshalText(
		[]byte("all {discs} of them"+strings.Repeat(", and whatever else is written down here", 20)+"\n")))
	require.NoError(t, l.Footer.UnmarshalText([]byte("that is all\n")))
	return &p
}

// TestFoldersTakeTheSpaceOfTheirNames plans titles for targets that have folders and files already, puts and takes some
// of them one by one, and counts what the target would take with all that is planned and what it takes now: to the byte
// what was foretold, on each filesystem, also where folders grow with every other name.
func TestFoldersTakeTheSpaceOfTheirNames(t *testing.T) {
	bellows, rowan := coretest.Profile(t, "bellows"), emitting(t, "sets/deep/rowan-net.lst")
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.SampledFrom([]string{"fat32", "exfat"}).Draw(t, "filesystem")
		fs, err := target.FilesystemNamed(name)
		if err != nil {
			t.Fatal(err)
		}
		long := func(what string) string {
			return what + strings.Repeat(" and so on", rapid.IntRange(0, 12).Draw(t, "length"))
		}
		p, folders := bellows, []string{"Titles", "Carts", "Carts/wren8", "of somebody else"}
		flat := rapid.Bool().Draw(t, "flat")
		if flat {
			p, folders = rowan, []string{"FULL", "TUNE", "of somebody else"}
		}
		var titles []title.Title
		for i := range rapid.IntRange(1, 40).Draw(t, "titles") {
			if flat { // several files in a folder that others have files in, too
				tt := vesper(i, long(fmt.Sprint("Game ", i)), 1)
				tt.Of = rapid.IntRange(1, 4).Draw(t, "discs")
				for k := 1; k < tt.Of; k++ {
					d := tt.Discs[0]
					d.Number, d.ID = k+1, fmt.Sprintf("VSP-%05d", 1000+10*i+k)
					tt.Discs = append(tt.Discs, d)
				}
				titles = append(titles, tt)
				continue
			}
			if rapid.Bool().Draw(t, "tracks") { // in a folder of its own
				d := title.Disc{Number: 1, File: title.File{Path: fmt.Sprintf("/games/%d.cue", i), Size: 100}}
				for k := range rapid.IntRange(1, 9).Draw(t, "tracks") {
					d.Parts = append(d.Parts, title.Part{Name: fmt.Sprintf("track %d.bin", k),
						File: title.File{Path: "/games/x.bin", Size: int64(k * 600)}})
				}
				titles = append(titles, title.Title{Key: fmt.Sprint("k", i), Platform: "lapwing", Form: title.Tracks,
					ID: fmt.Sprintf("LAP_%05d", i), Name: long(fmt.Sprint("Game ", i)), Of: 1, Discs: []title.Disc{d}})
				continue
			}
			d := title.Disc{Number: 1, File: title.File{Path: fmt.Sprintf("/games/%d.w8", i), Size: rapid.Int64Range(1,
				5000).Draw(t, "size")}}
			titles = append(titles, title.Title{Key: fmt.Sprint("k", i), Platform: "wren8", Form: title.Cartridge,
				Name: long(fmt.Sprint("Game ", i)), Of: 1, Discs: []title.Disc{d}})
		}
		var there []target.Entry
		for k := range rapid.IntRange(0, 12).Draw(t, "files") {
			there = append(there, target.Entry{Path: long(fmt.Sprint("note ", k)) + ".txt", Size: int64(k)})
		}
		for _, folder := range folders {
			if rapid.Bool().Draw(t, folder) && (folder != "Carts/wren8" || slices.ContainsFunc(there,
				func(e target.Entry) bool { return e.Path == "Carts" })) {
				there = append(there, target.Entry{Path: folder, Folder: true})
				for k := range rapid.IntRange(0, 20).Draw(t, "files") {
					there = append(there, target.Entry{Path: folder + "/" + long(fmt.Sprint("note ", k)) + ".txt",
						Size: int64(k)})
				}
			}
		}
		f := target.Facts{Filesystem: fs, Capacity: size.GiB, Free: rapid.Int64Range(0, 1_000_000).Draw(t, "free"),
			Cluster: rapid.SampledFrom([]int64{512, 2048, 32768}).Draw(t, "cluster")}
		tree := layout.Lay(titles, p, layout.Destination{Attachment: p.Attachment("usb", "fat32"), Filesystem: fs})
		s := fit.Judge(fit.Case{Titles: titles, Loaders: []fit.Loader{{Profile: p, Tree: tree}}, Via: "usb", Facts: f,
			There: there})
		chosen := make([]bool, len(titles))
		for range rapid.IntRange(0, 80).Draw(t, "changes") {
			i := rapid.IntRange(0, len(titles)-1).Draw(t, "title")
			chosen[i] = !chosen[i]
			s.Put(i, chosen[i])
		}
		after := slices.Clone(there)
		for _, step := range plan.Make(s, plan.Options{}).Steps {
			after = append(after, target.Entry{Path: step.Path, Folder: step.Kind == plan.MakeFolder, Size: step.Size})
		}
		var own []target.Entry // what is reserved for the list, whatever is chosen
		reported := false
		for i := range titles {
			reported = reported || flat && s.Fits(i).Kind.Goes()
		}
		if reported {
			own = []target.Entry{{Path: "sets", Folder: true}, {Path: "sets/deep", Folder: true},
				{Path: "sets/deep/rowan-net.lst"}}
		}
		reserved := f.Used(append(slices.Clone(there), own...)) - f.Used(there)
		if s.Kept != f.Capacity-f.Free+reserved {
			t.Fatalf("%d bytes are kept, and %d are there and %d reserved", s.Kept, f.Capacity-f.Free, reserved)
		}
		grows := f.Used(after) - f.Used(there) - reserved
		// a list may be shorter than the longest that it can be
		if over := s.Planned - grows; s.Count > 0 && (over < 0 || over > 0 && (!flat || over > f.Cluster)) {
			t.Fatalf("%d bytes are planned for %d titles, and what is planned takes %d", s.Planned, s.Count, grows)
		}
	})
}

// TestWhatIsSaidOfATitleIsWhatComesWhenItIsWanted: before a title is chosen it is said whether there is space for it
// and how much is missing; choosing it then says the same, to the byte, with folders that grow and a list that all
// titles are listed in.
func TestWhatIsSaidOfATitleIsWhatComesWhenItIsWanted(t *testing.T) {
	p := emitting(t, "rowan-net.lst")
	rapid.Check(t, func(t *rapid.T) {
		var titles []title.Title
		for i := range rapid.IntRange(1, 30).Draw(t, "titles") {
			titles = append(titles, vesper(i, "Game"+strings.Repeat(" and so on", rapid.IntRange(0, 9).
				Draw(t, "length")), rapid.Int64Range(0, 3000).Draw(t, "size")))
		}
		f := facts("fat32", size.GiB, rapid.Int64Range(0, 60_000).Draw(t, "free"))
		f.Cluster = rapid.SampledFrom([]int64{512, 2048}).Draw(t, "cluster")
		s := fit.Judge(fit.Case{Titles: titles,
			Loaders: []fit.Loader{{Profile: p, Tree: layout.Lay(titles, p, destination(p, f))}}, Via: "usb", Facts: f})
		for i := range titles { // one that comes before others takes their space
			planned, said, takes := s.Planned, s.Verdict(i), s.Takes(i)
			s.Put(i, true)
			if got := s.Verdict(i); got != said {
				t.Fatalf("%s: %v is said, and then it is %v", titles[i].Name, said, got)
			}
			if said.Kind.Goes() && s.Planned-planned != takes {
				t.Fatalf("it is said to take %d, and %d more are planned", takes, s.Planned-planned)
			}
			if rapid.Bool().Draw(t, "remove it") {
				s.Put(i, false)
			}
		}
	})
}

// TestAFolderThatIsFull: more names than a folder of FAT can hold are reported beforehand, and those that are said to
// go do go on a real volume.
func TestAFolderThatIsFull(t *testing.T) {
	p := coretest.Rowan(t)
	var titles []title.Title
	for i := range 17_000 {
		titles = append(titles, vesper(i, fmt.Sprintf("The Uncommonly Patient Lighthouse %d", i), 0))
	}
	f := facts("fat32", 2*size.GiB, 2*size.GiB)
	f.Cluster = 4096
	s := fit.Judge(fit.Case{Titles: titles,
		Loaders: []fit.Loader{{Profile: p, Tree: layout.Lay(titles, p, destination(p, f))}}, Via: "usb", Facts: f})
	s.Choose(func(int) bool { return true })
	require.Positive(t, s.Count)
	require.Less(t, s.Count, len(titles))
	last := len(titles) - 1
	require.Equal(t, fit.FullFolder, s.Verdict(last).Kind)
	e := s.Explain(last)
	assert.Contains(t, e.Say, "its folder, FULL, can hold no more names: on FAT32 a folder has space for 2.00 MiB of "+
		"names, and long")
	assert.Contains(t, e.Words(), "give titles shorter names")

	d := &volumetest.Disk{B: make([]byte, 48*size.MiB)}
	require.NoError(t, fat.Format(d, int64(len(d.B)), fat.Options{Bits: 32, Cluster: 512}))
	v, err := fat.Open(d, int64(len(d.B)))
	require.NoError(t, err)
	for _, step := range plan.Make(s, plan.Options{}).Steps {
		switch {
		case step.Kind == plan.MakeFolder:
			require.NoError(t, v.MakeFolder(t.Context(), step.Path))
		case strings.HasPrefix(step.Path, "FULL/"):
			require.NoError(t, volumetest.Put(v, step.Path, nil), step.Path)
		}
	}
	var full error
	for i := 0; i < 20 && full == nil; i++ {
		full = volumetest.Put(v, fmt.Sprintf("FULL/VSP-%05d - The Uncommonly Patient Lighthouse %d.iso", last-i,
			last-i), nil)
	}
	require.ErrorIs(t, full, volume.ErrNoSpace, "few more would have gone")

	first := slices.IndexFunc(titles,
		func(t title.Title) bool { i, _ := strconv.Atoi(t.ID[4:]); return s.Verdict(i).Kind == fit.FullFolder })
	require.Positive(t, first)
	s.Put(0, false)
	assert.Equal(t, fit.Copy, s.Verdict(first).Kind, "what is taken off frees space for the next")
}
