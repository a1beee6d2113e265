package draw_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/cover"
	"polytome/internal/core/fit"
	"polytome/internal/core/journal"
	"polytome/internal/core/ledger"
	"polytome/internal/core/loader"
	"polytome/internal/core/run"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/draw"
	"polytome/internal/draw/scene"
	"polytome/internal/drives"
	"polytome/internal/netcards"
	"polytome/internal/testkit/scenetest"
)

// season3 is the demo with three of its targets looked at.
func season3(t *testing.T) *draw.Source {
	w, err := demo.Open(filepath.Join(t.TempDir(), "world"), demo.Seed)
	require.NoError(t, err)
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	b.Targets = b.Targets[:3]
	set, err := loader.Shipped()
	require.NoError(t, err)
	src := &draw.Source{Bench: b, Set: set, Cards: netcards.Here, Drives: drives.Here}
	look(t, src)
	return src
}

// look looks at the sources and the targets of a bench.
func look(t *testing.T, src *draw.Source) {
	o := scan.For(src.Bench, src.Set, nil)
	o.Covers = cover.NewFinder(src.Bench, src.Set, nil)
	r, err := scan.Scan(t.Context(), src.Bench.SourcePaths(), o)
	require.NoError(t, err)
	src.Titles, src.Board = r.Titles, make(survey.Board, len(src.Bench.Targets))
	for n := range src.Bench.Targets {
		src.Board[n], err = survey.Take(t.Context(), src.Bench, n, r.Titles, survey.Options{Set: src.Set})
		require.NoError(t, err)
	}
	src.Board.Relate(nil)
}

// fill carries out what is planned for a target.
func fill(t *testing.T, src *draw.Source, n int) {
	s := src.Board[n]
	to, err := s.Open(t.Context())
	require.NoError(t, err)
	r := run.Run(t.Context(), s.Plan(), to, run.Options{}, func(run.Event) {})
	require.Empty(t, r.Failed)
	require.NoError(t, to.Close())
	look(t, src)
}

// rackAgrees holds the rack against the board, and returns it.
func rackAgrees(t *testing.T, src *draw.Source) draw.Rack {
	r := draw.RackOf(src.Bench, src.Board, src.Set)
	require.Len(t, r.Targets, 3)
	for n, v := range r.Targets {
		s := src.Board[n]
		assert.Equal(t, s.Facts.Capacity, v.Capacity)
		assert.Equal(t, s.Sheet.Free(), v.Free()-v.Reserve, v.Name)
		var kept, planned int64
		there, come := 0, 0
		for _, sh := range v.Shares {
			kept, planned, there, come = kept+sh.Kept, planned+sh.Planned, there+sh.KeptTitles, come+sh.NewTitles
		}
		assert.LessOrEqual(t, kept, v.Kept, v.Name)
		assert.LessOrEqual(t, planned, v.Planned, v.Name)
		goes, not, renamed := 0, 0, 0
		for i := range s.Titles {
			switch kind := s.Sheet.Verdict(i).Kind; {
			case !s.Sheet.Chosen[i]:
			case kind == fit.Renamed: // its bytes are there already
				renamed++
				goes++
			case kind.Goes():
				goes++
			default:
				not++
			}
		}
		assert.Equal(t, not, v.OverTitles, v.Name)
		assert.Equal(t, s.Sheet.New, come+renamed, v.Name)
		assert.GreaterOrEqual(t, there+come, goes, v.Name)
	}
	return r
}

func TestTheFitSheetIsWhatTheBoardSays(t *testing.T) {
	src := season3(t)
	f := draw.FitOf(src.Board, src.Set)
	require.Len(t, f.Targets, 3)
	require.Len(t, f.Titles, len(src.Titles))
	seen := 0
	for _, row := range f.Titles {
		same := func(x title.Title) bool {
			return x.Label() == row.Name && x.ID == row.ID && x.Platform == row.Platform && x.Size() == row.Size
		}
		i := slices.IndexFunc(src.Titles, same)
		require.GreaterOrEqual(t, i, 0, row.Name)
		if slices.ContainsFunc(src.Titles[i+1:], same) {
			continue // which of two twins a row is of cannot be reported
		}
		home := false
		for n, c := range row.Cells {
			v := src.Board[n].Sheet.Verdict(i)
			if v.Kind == fit.Foreign {
				assert.Empty(t, c.Word)
				continue
			}
			assert.Equal(t, v.Kind.Goes(), c.Goes)
			assert.Equal(t, src.Board[n].Sheet.Chosen[i], c.Wanted)
			home = home || c.Goes && c.Wanted
			seen++
		}
		for n, c := range row.Cells {
			if c.Word != "" && !c.Goes && (c.Wanted || !home) {
				assert.Equal(t, src.Board.Explain(n, i).Say, c.Say)
			} else {
				assert.Empty(t, c.Say, "what nobody asks is not reported")
			}
		}
	}
	assert.Greater(t, seen, 50)
}

// TestRackCardAndTreeAreWhatWillBeThere draws a rack, a card and a tree, carries the plan out, and holds them against
// what is there and what the loader will list.
func TestRackCardAndTreeAreWhatWillBeThere(t *testing.T) {
	src := season3(t)
	before := rackAgrees(t, src)
	card := draw.CardOf(src.Board[0], src.Set, draw.Folds[0], nil, nil)
	tree := draw.TreeOf(src.Board[0], true)
	fill(t, src, 0)
	after := rackAgrees(t, src)
	assert.Positive(t, before.Targets[0].Planned)
	assert.Zero(t, after.Targets[0].Planned, "all of it is there")
	assert.Equal(t, 15, after.Targets[0].Shares[0].KeptTitles)

	report, err := src.Board[0].Check(t.Context(), check.Names)
	require.NoError(t, err)
	var lists, reported []string
	for _, l := range report.Listed {
		lists = append(lists, l.ID)
	}
	for _, c := range card.Titles {
		reported = append(reported, c.ID)
		if c.Discs > 1 { // each disc has a line in the list
			i := slices.IndexFunc(src.Titles, func(x title.Title) bool { return x.ID == c.ID })
			for _, d := range src.Titles[i].Discs[1:] {
				reported = append(reported, d.ID)
			}
		}
	}
	slices.Sort(lists)
	slices.Sort(reported)
	assert.Equal(t, lists, reported)

	var will, is []string
	for _, l := range tree.Lines {
		if l.State != survey.Removing && l.State != survey.Leftover {
			will = append(will, l.Path)
		}
	}
	for _, e := range src.Board[0].There {
		is = append(is, e.Path)
	}
	slices.Sort(will)
	slices.Sort(is)
	assert.Equal(t, is, slices.Compact(will))
	for _, l := range draw.TreeOf(src.Board[0], true).Lines {
		assert.Equal(t, survey.Kept, l.State, l.Path)
	}
}

func TestATargetThatCouldNotBeLookedAtIsOnTheRack(t *testing.T) {
	src := season3(t)
	src.Board[1] = nil
	r := draw.RackOf(src.Bench, src.Board, src.Set)
	assert.Equal(t, "it could not be read", r.Targets[1].Away)
	d := r.Draw(options("a4"))
	assert.Empty(t, scenetest.Wrong(d))
	assert.Contains(t, textOf(d), "Ferry share")
}

// TestACardHasTheNameOfItsStick, and where that is kept, as the ledger knows them.
func TestACardHasTheNameOfItsStick(t *testing.T) {
	src := season3(t)
	id, _ := src.Board[0].VolumeID()
	require.NotEmpty(t, id)
	src.Volumes = []ledger.Volume{{ID: "vol-other", Name: "Hall 1", Place: "drawer 1"},
		{ID: id, Name: "Hall 3", Place: "drawer 2"}}
	d, err := src.Make(t.Context(), draw.Request{Kind: draw.KindCard, Target: 0}, options("a4"))
	require.NoError(t, err)
	assert.Contains(t, textOf(d), "Hall 3")
	assert.Contains(t, textOf(d), "kept in drawer 2")
	assert.NotContains(t, textOf(d), "Hall 1")
}

func TestCoversComeOntoTheCard(t *testing.T) {
	src := season3(t)
	src.Looker = &cover.Looker{}
	d, err := src.Make(t.Context(), draw.Request{Kind: draw.KindCard, Target: 0}, options("a4"))
	require.NoError(t, err)
	names := map[string]int{}
	for _, p := range d.Pages {
		for _, item := range p.Items {
			if v, ok := item.(*scene.Picture); ok {
				names[v.Name]++
				assert.Equal(t, []byte{0xFF, 0xD8, 0xFF}, v.JPEG[:3])
				assert.True(t, v.W <= 42.01 && v.H <= 56.01, "%s is %f x %f", v.Name, v.W, v.H)
			}
		}
	}
	assert.Equal(t, 2, names["Copper Tide"], "on the front, and beside the title")
	assert.NotEmpty(t, names["Saffron Circuit"])

	cropped := src.Titles
	for i := range cropped {
		for k := range cropped[i].Pictures {
			cropped[i].Pictures[k].Crop = [4]int{250, 0, 250, 0}
		}
	}
	wide := func(d *scene.Drawing) (w float64) {
		for _, item := range d.Pages[0].Items {
			if v, ok := item.(*scene.Picture); ok && v.Name == "Copper Tide" {
				return v.W / v.H
			}
		}
		return 0
	}
	again, err := src.Make(t.Context(), draw.Request{Kind: draw.KindCard, Target: 0}, options("a4"))
	require.NoError(t, err)
	assert.InDelta(t, wide(d)/2, wide(again), 0.02, "it is drawn as it was cropped")
}

func TestWhatASourceCannotDraw(t *testing.T) {
	src := season3(t)
	for _, kind := range []draw.Kind{draw.KindTree, draw.KindMap} {
		_, err := src.Make(t.Context(), draw.Request{Kind: kind, Target: -1}, options("a4"))
		assert.ErrorIs(t, err, draw.ErrAmbiguousTarget, kind)
	}
	var unknown *draw.UnknownKindError
	_, err := src.Make(t.Context(), draw.Request{Kind: "poster"}, options("a4"))
	assert.ErrorAs(t, err, &unknown)
	_, err = src.Make(t.Context(), draw.Request{Kind: draw.KindRun, Run: 7}, options("a4"))
	assert.ErrorIs(t, err, journal.ErrNotFound)

	gone, cancel := context.WithCancel(t.Context())
	cancel()
	for _, kind := range draw.Kinds {
		_, err := src.Make(gone, draw.Request{Kind: kind, Target: 0}, options("a4"))
		assert.Error(t, err, "%s after it was given up", kind)
	}

	// A target that went away after it was looked at.
	require.NoError(t, os.RemoveAll(src.Board[0].Config.At))
	require.NoError(t, os.RemoveAll(src.Bench.Resolve(src.Bench.Targets[0].At)))
	d, err := src.Make(t.Context(), draw.Request{Kind: draw.KindCard, Target: 0}, options("a4"))
	require.NoError(t, err, "the card needs no look")
	assert.Contains(t, textOf(d), "What to do at the console is unknown, as the target could not be read:")
	assert.Empty(t, scenetest.Wrong(d))
	_, err = src.Make(t.Context(), draw.Request{Kind: draw.KindChecklist, Target: 0}, options("a4"))
	assert.Error(t, err)
	d, err = src.Make(t.Context(), draw.Request{Kind: draw.KindChecklist, Target: -1}, options("a4"))
	require.NoError(t, err, "the others are reported")
	assert.Contains(t, textOf(d), "could not be read")
	assert.Contains(t, textOf(d), "Hall pocket")
	src.Board[0] = nil
	_, err = src.Make(t.Context(), draw.Request{Kind: draw.KindTree, Target: 0}, options("a4"))
	assert.ErrorContains(t, err, "North stick could not be read")
}

// textOf is everything that is written in a drawing.
func textOf(d *scene.Drawing) string {
	var b strings.Builder
	for _, p := range d.Pages {
		for _, item := range p.Items {
			if v, ok := item.(*scene.Text); ok {
				b.WriteString(v.S + " ")
			}
		}
	}
	return b.String()
}

func TestOneOfSeveralTargetsIsDrawn(t *testing.T) {
	src := season3(t)
	for kind, says := range map[draw.Kind]string{draw.KindRack: "The rack",
		draw.KindFit: "What goes where, and why not", draw.KindConnections: "What is plugged into what",
		draw.KindChecklist: "At the console"} {
		d, err := src.Make(t.Context(), draw.Request{Kind: kind, Target: 2}, options("a4"))
		require.NoError(t, err)
		s := textOf(d)
		assert.Contains(t, s, says)
		assert.Contains(t, s, "Hall pocket", kind)
		if kind != draw.KindFit { // which tells the ways out
			assert.NotContains(t, s, "Ferry share", kind)
		}
	}
}
