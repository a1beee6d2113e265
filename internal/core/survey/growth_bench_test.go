package survey_test

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/versus"
)

// listed is a target of which the listing alone is asked for.
type listed struct {
	target.Target
	facts target.Facts
	there []target.Entry
}

func (l *listed) List(context.Context, func(string, error)) ([]target.Entry, error) {
	return l.there, nil
}

func (l *listed) Facts(context.Context, []target.Entry) (target.Facts, error) { return l.facts, nil }

// share is one with n titles chosen for it, and the same with all of them there.
func share(b *testing.B, p *loader.Profile, n int) (*fit.Sheet, *listed) {
	titles := make([]title.Title, n)
	for i := range titles {
		titles[i] = coretest.Vesper(i, fmt.Sprint("Title ", i), "full", size.MiB)
	}
	fs, err := target.FilesystemNamed("ext4")
	require.NoError(b, err)
	f := target.Facts{Filesystem: fs, Capacity: 1 << 50, Free: 1 << 50, Cluster: 4096}
	tree := layout.Lay(titles, p, layout.Destination{Attachment: p.Attachment("smb", "ext4"), Filesystem: fs})
	sheet := fit.Judge(fit.Case{Titles: titles, Loaders: []fit.Loader{{Profile: p, Tree: tree}}, Via: "smb", Facts: f})
	l := &listed{facts: f, there: []target.Entry{{Path: "FULL", Folder: true}}}
	for i := range tree.Placements {
		l.there = append(l.there, target.Entry{Path: tree.Placements[i].Items[0].Path, Size: size.MiB})
	}
	slices.SortFunc(l.there[1:], func(x, y target.Entry) int {
		if x.Path < y.Path {
			return -1
		}
		return 1
	})
	return sheet, l
}

// quickest is the least time of some turns, a title. Few titles take many turns, so that as much is measured.
func quickest(n int, do func()) time.Duration {
	least := time.Duration(1 << 62)
	for range max(2, 10_000/n) {
		runtime.GC()
		began := time.Now()
		do()
		least = min(least, time.Since(began))
	}
	return least / time.Duration(n)
}

// BenchmarkCostGrowsWithTheTitles measures what a title costs among 1,000, 10,000 and 100,000: to be laid out and
// judged, to be judged and planned again, as undo and redo do, and to be checked; at one target and at six. The memory
// after a hundred undos is that before them, but for a fifth.
func BenchmarkCostGrowsWithTheTitles(b *testing.B) {
	set, rowan := coretest.Set(b), coretest.Rowan(b)
	all := []int{1000, 10_000, 100_000}
	for _, targets := range []int{1, 6} {
		b.Run(fmt.Sprintf("targets-%d", targets), func(b *testing.B) {
			for b.Loop() {
				cost := map[string][]float64{}
				for _, n := range all {
					growth(b, set, rowan, n, targets, func(what string, each time.Duration) {
						cost[what] = append(cost[what], each.Seconds())
					})
				}
				versus.Growth(b, all, cost, 2)
			}
		})
	}
}

// growth measures what one of n titles costs at some targets.
func growth(b *testing.B, set *loader.Set, rowan *loader.Profile, n, targets int,
	found func(what string, each time.Duration)) {
	var sheets []*fit.Sheet
	var lists []*listed
	for range targets {
		s, l := share(b, rowan, n)
		sheets, lists = append(sheets, s), append(lists, l)
	}
	undo := func(turn int) { planAll(sheets, func(_, i int) bool { return i%7 != turn%7 }) }
	found("undo and redo", quickest(n*targets, func() { undo(1); undo(2) }))
	found("lay out and judge", quickest(n*targets, func() {
		for range targets {
			share(b, rowan, n)
		}
	}))
	found("check", quickest(n*targets, func() {
		for _, l := range lists {
			r, err := check.Audit(b.Context(), l, []*loader.Profile{rowan}, set,
				check.Options{Via: "smb", Depth: check.Names})
			require.NoError(b, err)
			require.Len(b, r.Listed, n)
		}
	}))
	if n == 10_000 {
		before := heap()
		for turn := range 100 {
			undo(turn)
		}
		if after := heap(); after > before+before/5 {
			b.Fatalf("%d targets: %d bytes before 100 undos, and %d after", targets, before, after)
		}
	}
}

func heap() int64 {
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}
