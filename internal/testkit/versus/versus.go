// Package versus measures work of ours in turns with programs that do the same, in one run on one machine: what counts
// is the ratio, not the time.
package versus

import (
	"encoding/json"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Turns is how often each contender takes its turn, at least.
const Turns = 5

// Contender is one way to do the work.
type Contender struct {
	Name string // as it stands in the name of a ratio, without blanks
	Do   func() // what is timed
	// Most is the ratio of ours to it that is wanted at most, and of ours the seconds; 0 where nothing is.
	Most float64
}

// Record is what a benchmark measured. It is kept, see scripts/bench.
type Record struct {
	Name    string               `json:"name"`
	Seconds map[string][]float64 `json:"seconds"`         // by contender, in the order of turns
	Most    map[string]float64   `json:"most,omitempty"`  // see [Contender]
	Least   map[string]float64   `json:"least,omitempty"` // the ratio of ours to it that is wanted at least
	Ours    string               `json:"ours"`
	// Titles are among how many titles each of the seconds was measured, where it is measured how cost grows. The
	// seconds are of one title then, and by what is done with it; see [Growth].
	Titles []int `json:"titles,omitempty"`
}

// recordTo names the variable with the file to which records are appended, one line of JSON each.
const recordTo = "POLYTOME_BENCH_RECORDS"

// Race has all contenders take turns, the first of which is ours, and reports. Between any two, clear makes the place
// as it was, and the system writes what waits for the disk.
func Race(b *testing.B, clear func(), all ...Contender) {
	b.Helper()
	r := Record{Name: b.Name(), Seconds: map[string][]float64{}, Most: map[string]float64{}, Ours: all[0].Name}
	for b.Loop() {
		for i := range Turns {
			for k := range all { // whoever comes first finds other memory than who comes next
				c := &all[(i+k)%len(all)]
				settled()
				began := time.Now()
				c.Do()
				r.Seconds[c.Name] = append(r.Seconds[c.Name], time.Since(began).Seconds())
				clear()
			}
		}
	}
	for _, c := range all {
		if c.Most > 0 {
			r.Most[c.Name] = c.Most
		}
	}
	Report(b, r)
}

// Report reports what was measured: the ratios of the medians, each contender's median in milliseconds, and by how many
// percent the times of ours lie apart.
func Report(b *testing.B, r Record) {
	b.Helper()
	all := r.Seconds[r.Ours]
	ours := Median(all)
	for name, seconds := range r.Seconds {
		b.ReportMetric(Median(seconds)*1000, name+"-ms")
		if name != r.Ours {
			b.ReportMetric(ours/Median(seconds), r.Ours+"/"+name)
		}
	}
	b.ReportMetric(100*(slices.Max(all)-slices.Min(all))/ours, "%-spread")
	b.ReportMetric(0, "ns/op")
	keep(b, r)
}

// Growth reports what work with a title costs among so many titles, in seconds: from one number of titles to the next,
// it may become a few times as much, at most.
func Growth(b *testing.B, titles []int, seconds map[string][]float64, most float64) {
	b.Helper()
	r := Record{Name: b.Name(), Seconds: seconds, Most: map[string]float64{}, Titles: titles}
	for what, each := range seconds {
		r.Most[what] = most
		b.ReportMetric(Grows(each), strings.ReplaceAll(what, " ", "-")+"-grows")
	}
	b.ReportMetric(0, "ns/op")
	keep(b, r)
}

// Grows is the most by which one of some figures is more than the one before it.
func Grows(each []float64) (most float64) {
	for i := range each[1:] {
		most = max(most, each[i+1]/each[i])
	}
	return most
}

// Goal measures ours alone, where no program does the same: a turn is n times the work, which shall take so many
// seconds at most each.
func Goal(b *testing.B, n int, seconds float64, do func()) {
	b.Helper()
	GoalOf(b, seconds, func() time.Duration {
		began := time.Now()
		for range n {
			do()
		}
		return time.Since(began) / time.Duration(n)
	})
}

// GoalOf is Goal for work that takes its own time: of each turn, what it returns counts.
func GoalOf(b *testing.B, seconds float64, turn func() time.Duration) {
	b.Helper()
	r := Record{Name: b.Name(), Seconds: map[string][]float64{}, Most: map[string]float64{"polytome": seconds},
		Ours: "polytome"}
	for b.Loop() {
		for range Turns {
			r.Seconds["polytome"] = append(r.Seconds["polytome"], turn().Seconds())
		}
	}
	b.ReportMetric(Median(r.Seconds["polytome"])*1000, "ms")
	b.ReportMetric(seconds*1000, "ms-wanted")
	b.ReportMetric(0, "ns/op")
	keep(b, r)
}

// keep appends the record where one is wanted.
func keep(b *testing.B, r Record) {
	name := os.Getenv(recordTo)
	if name == "" {
		return
	}
	line, err := json.Marshal(r)
	require.NoError(b, err)
	f, err := os.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	require.NoError(b, err)
	_, err = f.Write(append(line, '\n'))
	require.NoError(b, err)
	require.NoError(b, f.Close())
}

// settled has the system write what waits for the disk.
func settled() {
	if sync, err := exec.LookPath("sync"); err == nil {
		_ = exec.Command(sync).Run()
	}
}

// Median of some figures; they are not changed.
func Median(v []float64) float64 {
	v = slices.Sorted(slices.Values(v))
	return v[len(v)/2]
}

// Run runs a program, which must succeed.
func Run(b *testing.B, program string, args ...string) {
	b.Helper()
	out, err := exec.Command(program, args...).CombinedOutput()
	require.NoError(b, err, "%s %v: %s", program, args, out)
}

// Shell runs a script of the shell, which must succeed.
func Shell(b *testing.B, script string, args ...string) {
	b.Helper()
	Run(b, "sh", append([]string{"-ec", script, "sh"}, args...)...)
}
