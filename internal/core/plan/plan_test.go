package plan_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/plan"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
)

func planned(t coretest.T, titles []title.Title, there []target.Entry) *plan.Plan {
	t.Helper()
	p := coretest.Rowan(t)
	fs, _ := target.FilesystemNamed("fat32")
	facts := target.Facts{Filesystem: fs, Capacity: 58 * size.GiB, Free: 50 * size.GiB, Cluster: 32 * size.KiB}
	tree := layout.Lay(titles, p, layout.Destination{Attachment: p.Attachment("usb", "fat32"),
		Filesystem: facts.Filesystem})
	sheet := fit.Judge(fit.Case{Titles: titles, Loaders: []fit.Loader{{Profile: p, Tree: tree}}, Via: "usb",
		Facts: facts, There: there})
	sheet.Choose(func(int) bool { return true })
	return plan.Make(sheet, plan.Options{})
}

func vesper(n int, kind string, bytes int64) title.Title {
	return coretest.Vesper(n, "Copper Tide", kind, bytes)
}

// apply carries a plan out on a listing, and fails where a step is impossible.
func apply(t coretest.T, p *plan.Plan, there []target.Entry) []target.Entry {
	t.Helper()
	at := map[string]target.Entry{}
	for _, e := range there {
		at[e.Path] = e
	}
	for _, s := range p.Steps {
		parent := s.Path[:max(0, strings.LastIndexByte(s.Path, '/'))]
		_, exists := at[s.Path]
		switch {
		case s.Kind == plan.Clear:
			if !exists {
				t.Fatalf("%s is to be cleared and is not there", s.Path)
			}
			delete(at, s.Path)
			continue
		case exists:
			t.Fatalf("%s is there already", s.Path)
		case parent != "" && !at[parent].Folder:
			t.Fatalf("%s comes before its folder", s.Path)
		}
		at[s.Path] = target.Entry{Path: s.Path, Folder: s.Kind == plan.MakeFolder, Size: s.Size}
	}
	var out []target.Entry
	for _, e := range at {
		out = append(out, e)
	}
	return out
}

func TestAPlanWritesTheDifference(t *testing.T) {
	titles := []title.Title{vesper(1, "full", 100), vesper(2, "short", 200), vesper(3, "full", 5<<30),
		vesper(4, "full", 7)}
	titles[3].Findings = []title.Finding{{Grade: title.Fault, Say: "it is cut short"}}
	there := []target.Entry{
		{Path: "full", Folder: true}, {Path: "full/VSP-00001 - Copper Tide.iso", Size: 100},
		{Path: "polytome-0123456789abcdef.begun", Size: 7}, {Path: "mine.txt", Size: 3},
	}
	p := planned(t, titles, there)
	var steps []string
	for _, s := range p.Steps {
		steps = append(steps, string(s.Kind)+" "+s.Path)
	}
	assert.Equal(t, []string{
		"clear polytome-0123456789abcdef.begun",
		"folder LONG", "folder LONG/VSP-00003", "folder TUNE", "folder SHORT",
		"copy LONG/VSP-00003/001.rwn", "copy LONG/VSP-00003/002.rwn", "copy LONG/VSP-00003/003.rwn",
		"copy SHORT/VSP-00002 - Copper Tide.iso",
		"copy LONG/VSP-00003/parts.toml", "copy TUNE/VSP-00003.tune", "copy TUNE/VSP-00002.tune",
		"copy TUNE/VSP-00001.tune",
	}, steps, "space first, then folders, then large files before small ones, and what names them last")
	assert.Equal(t, []int{5, 6, 7}, p.Steps[9].Needs, "the list of parts is written only when the parts are there")
	assert.Equal(t, 8, p.Files)
	assert.Equal(t, 1, p.There)
	require.Len(t, p.Left, 1)
	assert.Equal(t, fit.Bad, p.Left[0].Why.Verdict)
	_, err := json.Marshal(p)
	require.NoError(t, err)
}

func TestFoldersAreUsedAsTheyAreSpelled(t *testing.T) {
	p := planned(t, []title.Title{vesper(1, "full", 100)}, []target.Entry{{Path: "Full", Folder: true}})
	require.Len(t, p.Steps, 3)
	assert.Equal(t, "Full/VSP-00001 - Copper Tide.iso", p.Steps[1].Path)
}

func TestAfterARunThereIsNothingLeftToDo(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var titles []title.Title
		var there []target.Entry
		for i := range rapid.IntRange(1, 12).Draw(t, "titles") {
			v := vesper(i, rapid.SampledFrom([]string{"full", "short"}).Draw(t, "kind"), rapid.Int64Range(0, 6<<30).
				Draw(t, "size"))
			if rapid.Bool().Draw(t, "two discs") {
				second := v.Discs[0]
				second.Number, second.ID = 2, second.ID[:4]+"9"+second.ID[5:]
				v.Of, v.Discs = 2, append(v.Discs, second)
			}
			titles = append(titles, v)
		}
		first := planned(t, titles, nil)
		for _, s := range first.Steps { // any part of it may be there already
			if s.Kind == plan.Copy && rapid.Bool().Draw(t, "there") {
				for _, dir := range layout.Folders(s.Path) {
					there = append(there, target.Entry{Path: dir, Folder: true})
				}
				there = append(there, target.Entry{Path: s.Path, Size: s.Size})
			}
		}
		p := planned(t, titles, there)
		after := apply(t, p, there)
		if again := planned(t, titles, after); !again.Empty() || len(again.Left) != len(p.Left) {
			t.Fatalf("still to do: %v, left %v", again.Steps, again.Left)
		}
	})
}
