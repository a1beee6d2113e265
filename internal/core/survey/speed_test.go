package survey_test

import (
	"fmt"
	"runtime"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/plan"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/versus"
)

// sixTargets are 50,000 titles judged at six targets: sticks with both filesystems, shares, disks of
// different sizes, one of them nearly full.
func sixTargets(b *testing.B) []*fit.Sheet {
	titles := make([]title.Title, 50_000)
	for i := range titles {
		titles[i] = coretest.Vesper(i, fmt.Sprint("Title ", i), "full", size.MiB+int64(i%977)*size.KiB)
	}
	p := coretest.Rowan(b)
	out := make([]*fit.Sheet, 6)
	for n := range out {
		as, via := []string{"fat32", "ext4"}[n%2], []string{"usb", "smb"}[n%2]
		fs, err := target.FilesystemNamed(as)
		require.NoError(b, err)
		space := []int64{200, 400, 120, 800, 58, 1600}[n] * size.GiB
		f := target.Facts{Filesystem: fs, Capacity: space, Free: space, Cluster: fs.Cluster(space)}
		at := p.Attachment(via, as)
		tree := layout.Lay(titles, p, layout.Destination{Attachment: at, Filesystem: fs})
		out[n] = fit.Judge(fit.Case{Titles: titles, Loaders: []fit.Loader{{Profile: p, Tree: tree}}, Via: via,
			Facts: f})
	}
	return out
}

// planAll chooses titles at all targets and plans them, as a change of all choices does.
func planAll(all []*fit.Sheet, wants func(n, i int) bool) (steps int) {
	plans := make([]*plan.Plan, len(all))
	done := make(chan int)
	for n := range all {
		go func() {
			all[n].Choose(func(i int) bool { return wants(n, i) })
			plans[n] = plan.Make(all[n], plan.Options{})
			done <- n
		}()
	}
	for range all {
		steps += len(plans[<-done].Steps)
	}
	return steps
}

// BenchmarkPlan50000TitlesAt6Targets plans again: every title at one of the targets, and every title at every
// target.
func BenchmarkPlan50000TitlesAt6Targets(b *testing.B) {
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	all := sixTargets(b)
	runtime.GC()
	runtime.ReadMemStats(&after)
	mib := float64(after.HeapAlloc-before.HeapAlloc) / float64(size.MiB) // titles, trees and verdicts
	for name, wants := range map[string]func(n, i int) bool{
		"each at one target":   func(n, i int) bool { return i%6 == n },
		"each at every target": func(int, int) bool { return true },
	} {
		b.Run(name, func(b *testing.B) {
			versus.Goal(b, 1, 0.2, func() { planAll(all, wants) })
			b.ReportMetric(mib, "MiB-for-six-targets")
		})
	}
}

// BenchmarkPutOrTakeAmong50000 takes and puts single titles, where the folder cannot hold all of them.
func BenchmarkPutOrTakeAmong50000(b *testing.B) {
	s := sixTargets(b)[0]
	everything := func(int) bool { return true }
	s.Choose(everything)
	i := 0
	versus.Goal(b, 100, 0.005, func() {
		s.Put(i/2*7919%50_000, i%2 == 1)
		i++
	})
}

// BenchmarkPutOrTakeWhereNotAllFits is the same at a target with too little space, where every choice can
// move the others.
func BenchmarkPutOrTakeWhereNotAllFits(b *testing.B) {
	s := sixTargets(b)[4]
	s.Choose(func(int) bool { return true })
	i := 0
	versus.Goal(b, 100, 0.005, func() {
		s.Put(i*7919%50_000, i%2 == 1)
		i++
	})
}

// BenchmarkJudge50000 gives the verdicts of one target whatever is chosen.
func BenchmarkJudge50000(b *testing.B) {
	s := sixTargets(b)[0]
	c := fit.Case{Titles: s.Titles(), Loaders: slices.Clone(s.Loaders()), Via: "usb", Facts: s.Facts()}
	for b.Loop() {
		fit.Judge(c)
	}
}
