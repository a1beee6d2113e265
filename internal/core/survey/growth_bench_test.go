package survey_test

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/proof"
	"polytome/internal/core/title"
	"polytome/internal/coretest"
	"polytome/internal/place"
	"polytome/internal/size"
)

// listed is a place of which the listing alone is asked for.
type listed struct {
	place.Place
	facts place.Facts
	there []place.Entry
}

func (l *listed) List(context.Context, func(string, error)) ([]place.Entry, error) {
	return l.there, nil
}

func (l *listed) Facts(context.Context, []place.Entry) (place.Facts, error) { return l.facts, nil }

// share is one with n titles chosen for it, and the same with all of them there.
func share(b *testing.B, n int) (*fit.Sheet, *listed) {
	titles := make([]title.Title, n)
	for i := range titles {
		titles[i] = coretest.Vesper(i, fmt.Sprint("Title ", i), "full", size.MiB)
	}
	p := coretest.Rowan(b)
	fs, err := place.FilesystemNamed("ext4")
	require.NoError(b, err)
	f := place.Facts{Filesystem: fs, Capacity: 1 << 50, Free: 1 << 50, Cluster: 4096}
	tree := layout.Lay(titles, p, layout.Target{Attachment: p.Attachment("smb", "ext4"), Filesystem: fs})
	sheet := fit.Judge(fit.Case{Titles: titles, Loaders: []fit.Loader{{Profile: p, Tree: tree}}, Road: "smb", Facts: f})
	l := &listed{facts: f, there: []place.Entry{{Path: "FULL", Folder: true}}}
	for i := range tree.Placements {
		l.there = append(l.there, place.Entry{Path: tree.Placements[i].Items[0].Path, Size: size.MiB})
	}
	slices.SortFunc(l.there[1:], func(x, y place.Entry) int {
		if x.Path < y.Path {
			return -1
		}
		return 1
	})
	return sheet, l
}

// quickest is the least time of some turns, a title.
func quickest(n int, do func()) time.Duration {
	least := time.Duration(1 << 62)
	for range 3 {
		runtime.GC()
		began := time.Now()
		do()
		least = min(least, time.Since(began))
	}
	return least / time.Duration(n)
}

// BenchmarkCostGrowsWithTheTitles reckons what a title costs among 1,000, 10,000 and 50,000: to be judged and planned anew, as undo and redo do, and proved; at one place and at six. Among more it may
// cost at most twice as much. The memory after a hundred undos is that before them, but for a fifth.
func BenchmarkCostGrowsWithTheTitles(b *testing.B) {
	set := coretest.Set(b)
	for b.Loop() {
		for _, places := range []int{1, 6} {
			each := map[string][]time.Duration{}
			for _, n := range []int{1000, 10_000, 50_000} {
				var sheets []*fit.Sheet
				var lists []*listed
				for range places {
					s, l := share(b, n)
					sheets, lists = append(sheets, s), append(lists, l)
				}
				undo := func(turn int) {
					planAll(sheets, func(_, i int) bool { return i%7 != turn%7 })
				}
				each["undo"] = append(each["undo"], quickest(n*places, func() { undo(1); undo(2) }))
				each["fit"] = append(each["fit"], quickest(n*places, func() {
					for range places {
						share(b, n)
					}
				}))
				each["proof"] = append(each["proof"], quickest(n*places, func() {
					for _, l := range lists {
						r, err := proof.Audit(b.Context(), l, []*loader.Profile{coretest.Rowan(b)}, set, proof.Options{Road: "smb", Depth: proof.Names})
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
						b.Fatalf("%d places: %d bytes before 100 undos, and %d after", places, before, after)
					}
				}
			}
			for what, cost := range each {
				b.ReportMetric(float64(cost[2])/float64(cost[1]), fmt.Sprintf("%s-at-%d:50000/10000", what, places))
				if cost[2] > 2*cost[1] {
					b.Fatalf("%s at %d places: a title costs %v among 10,000, and %v among 50,000", what, places, cost[1], cost[2])
				}
			}
		}
	}
}

func heap() int64 {
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}
