package plan_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/fit"
	"polytome/internal/core/plan"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// TestReplacingNeedsSpaceForBoth: the old file stays until the new one is whole.
func TestReplacingNeedsSpaceForBoth(t *testing.T) {
	const old, again = 25 * size.MiB, 30 * size.MiB
	there := append(dirs("FULL", "TUNE"), file("FULL/VSP-00001 - Copper Tide.iso", old), settings(1))
	s := situation{titles: []title.Title{vesper(1, "full", again)}, there: there,
		replace: []string{"FULL/VSP-00001 - Copper Tide.iso"}, free: 20 * size.MiB}
	p := s.plan(t)
	assert.Empty(t, p.Steps, "nothing is begun that cannot be ended")
	require.Len(t, p.Left, 1)
	assert.Equal(t, fit.NoSpace, p.Left[0].Why.Verdict)
	assert.Contains(t, p.Left[0].Why.Say,
		"replaces another file, which stays until the new one is complete: 10.00 MiB short for both at once")
	s.free = again
	assert.Equal(t, []string{"replace FULL/VSP-00001 - Copper Tide.iso"}, say(s.plan(t)))
	s.free--
	assert.Empty(t, s.plan(t).Steps)
}

// TestNoStepOfAPlanFindsTooLittleSpace carries plans out on listings of targets that are nearly full, with files that
// are written in place of others, that grow and that shrink: at no time, also while both files are there, more is taken
// than there is.
func TestNoStepOfAPlanFindsTooLittleSpace(t *testing.T) {
	replaced, refused := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		there := dirs("FULL", "TUNE")
		grow := rapid.Bool().Draw(t, "all grow")
		s := situation{free: rapid.Int64Range(3, 64).Draw(t, "free") * 32 * size.KiB,
			wants: func(i int) bool { return i%5 != 4 }}
		for i := range rapid.IntRange(1, 14).Draw(t, "titles") {
			bytes := rapid.Int64Range(1, 32).Draw(t, "size") * 32 * size.KiB
			s.titles = append(s.titles, vesper(i, "full", bytes))
			path := fmt.Sprintf("FULL/VSP-%05d - Copper Tide.iso", i)
			switch rapid.IntRange(0, 3).Draw(t, "there") {
			case 0:
				there = append(there, file(path, bytes), settings(i))
			case 1, 2:
				old := rapid.Int64Range(1, 32).Draw(t, "old") * 32 * size.KiB
				if grow {
					bytes += 8 * 32 * size.KiB
					s.titles[i] = vesper(i, "full", bytes)
					old = bytes / 2
				}
				there = append(there, file(path, old), settings(i))
				s.replace = append(s.replace, path)
			}
		}
		s.there = there
		p := s.plan(t)
		fs, _ := target.FilesystemNamed("fat32")
		f := target.Facts{Filesystem: fs, Cluster: 32 * size.KiB}
		now := map[string]target.Entry{}
		for _, e := range there {
			now[e.Path] = e
		}
		used := func(more ...target.Entry) int64 {
			for _, e := range now {
				more = append(more, e)
			}
			return f.Used(more)
		}
		before := used()
		for i := range p.Steps {
			step := &p.Steps[i]
			again := target.Entry{Path: step.Path, Folder: step.Kind == plan.MakeFolder, Size: step.Size}
			most := used(again)
			if step.Kind == plan.Replace { // under its temporary name
				replaced++
				most -= f.SpaceFor(step.Path, 0)
			}
			if most-before > s.free+f.Cluster { // a temporary name may take another cluster of its folder
				t.Fatalf("step %d, %s %s, needs %d bytes, and %d are free", i, step.Kind, step.Path, most-before,
					s.free)
			}
			now[step.Path] = again
		}
		if used()-before > s.free {
			t.Fatalf("at the end %d bytes are taken, and %d were free", used()-before, s.free)
		}
		for _, l := range p.Left {
			if l.Why.Verdict == fit.NoSpace {
				refused++
			}
		}
	})
	assert.Positive(t, replaced)
	assert.Positive(t, refused)
}

// TestSwapsInTheirOrderNeedTheLeastSpace tries all orders.
func TestSwapsInTheirOrderNeedTheLeastSpace(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var swaps []fit.Swap
		for range rapid.IntRange(1, 6).Draw(t, "swaps") {
			swaps = append(swaps, fit.Swap{New: rapid.Int64Range(0, 9).Draw(t, "new"), Old: rapid.Int64Range(0, 9).
				Draw(t, "old")})
		}
		least := int64(1 << 40)
		var try func(k int)
		try = func(k int) {
			if k == len(swaps) {
				least = min(least, fit.Peak(swaps))
			}
			for i := k; i < len(swaps); i++ {
				swaps[k], swaps[i] = swaps[i], swaps[k]
				try(k + 1)
				swaps[k], swaps[i] = swaps[i], swaps[k]
			}
		}
		try(0)
		sorted := append([]fit.Swap(nil), swaps...)
		for i := range sorted { // as a plan does
			for k := i; k > 0 && sorted[k].Before(sorted[k-1]) < 0; k-- {
				sorted[k], sorted[k-1] = sorted[k-1], sorted[k]
			}
		}
		if got := fit.Peak(sorted); got != least {
			t.Fatalf("%v needs %d, and another order %d", sorted, got, least)
		}
	})
}

// TestNothingToDoIsSaidAsItIs: that everything is there is said only where it is.
func TestNothingToDoIsSaidAsItIs(t *testing.T) {
	there := append(dirs("FULL", "TUNE"), file("FULL/VSP-00001 - Copper Tide.iso", 100), settings(1))
	s := situation{titles: []title.Title{vesper(1, "full", 100), vesper(2, "full", 70*size.GiB),
		vesper(3, "full", 80*size.GiB)}, there: there, free: size.GiB}
	for wanted, want := range map[int]string{
		0: "no title is selected for it",
		1: "everything selected is already there",
		2: "1 wanted title do not fit, first Copper Tide (no space)",
		7: "1 title already there, 2 wanted titles do not fit, first Copper Tide (no space)",
	} {
		s.wants = func(i int) bool { return wanted>>i&1 == 1 }
		p := s.plan(t)
		assert.True(t, p.Empty(), say(p))
		assert.Equal(t, want, p.Idle())
	}
}
