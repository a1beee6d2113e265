// Command history reads the records of benchmarks, keeps them, and compares two commits: see scripts/bench.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"polytome/internal/testkit/versus"
)

// A Run is all that was measured at a commit on one day.
type Run struct {
	Commit  string          `json:"commit"`
	Date    time.Time       `json:"date"`
	Machine string          `json:"machine"` // processors and their kind: figures of two machines are not compared
	Records []versus.Record `json:"records"`
}

const usage = `history table RECORDS
history plot RECORDS DRAWING
history keep RECORDS HISTORY COMMIT MACHINE
history compare HISTORY BEFORE AFTER`

func main() {
	if err := do(os.Args[1:], os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "history:", err)
		os.Exit(1)
	}
}

func do(args []string, out io.Writer) error {
	switch {
	case len(args) == 2 && args[0] == "table":
		records, err := read[versus.Record](args[1])
		if err != nil {
			return err
		}
		return table(out, records)
	case len(args) == 3 && args[0] == "plot":
		records, err := read[versus.Record](args[1])
		if err != nil {
			return err
		}
		return plot(args[2], records, time.Now())
	case len(args) == 5 && args[0] == "keep":
		records, err := read[versus.Record](args[1])
		if err != nil {
			return err
		}
		return keep(args[2], Run{Commit: args[3], Date: time.Now().UTC().Truncate(time.Second), Machine: args[4],
			Records: records})
	case len(args) == 4 && args[0] == "compare":
		runs, err := read[Run](args[1])
		if err != nil {
			return err
		}
		before, err := find(runs, args[2])
		if err != nil {
			return err
		}
		after, err := find(runs, args[3])
		if err != nil {
			return err
		}
		return compare(out, before, after)
	}
	return fmt.Errorf("usage:\n%s", usage)
}

// read reads lines of JSON.
func read[T any](name string) (all []T, err error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 16<<20)
	for n := 1; lines.Scan(); n++ {
		var v T
		if err := json.Unmarshal(lines.Bytes(), &v); err != nil {
			return nil, fmt.Errorf("%s, line %d: %w", name, n, err)
		}
		all = append(all, v)
	}
	return all, lines.Err()
}

// keep appends a run to the history.
func keep(name string, r Run) error {
	line, err := json.Marshal(r)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(append(line, '\n'))
	if closed := f.Close(); err == nil {
		err = closed
	}
	return err
}

// find is what is kept of a commit, which may be given by its beginning: of several runs on the machine of the newest,
// the newest record of each benchmark.
func find(runs []Run, commit string) (found Run, err error) {
	for _, r := range slices.Backward(runs) {
		if !strings.HasPrefix(r.Commit, commit) {
			continue
		}
		if found.Commit == "" {
			found, commit = r, r.Commit
			found.Records = slices.Clone(r.Records)
		} else if r.Machine == found.Machine {
			for _, record := range r.Records {
				if !slices.ContainsFunc(found.Records, func(x versus.Record) bool { return x.Name == record.Name }) {
					found.Records = append(found.Records, record)
				}
			}
		}
	}
	if found.Commit == "" {
		return Run{}, fmt.Errorf("nothing is kept of the commit %s", commit)
	}
	return found, nil
}

// peers are the contenders beside ours, by name.
func peers(r *versus.Record) (all []string) {
	for name := range r.Seconds {
		if name != r.Ours {
			all = append(all, name)
		}
	}
	slices.Sort(all)
	return all
}

// table prints the ratios of all records. The spread is that of the ratios turn by turn.
func table(out io.Writer, records []versus.Record) error {
	w := tabwriter.NewWriter(out, 0, 4, 2, ' ', 0)
	fmt.Fprintln(w, "benchmark\tours\tpeer\tits time\tratio\tspread\twanted\t")
	for i := range records {
		r := &records[i]
		name := strings.TrimPrefix(r.Name, "Benchmark")
		if len(r.Titles) > 0 {
			for _, what := range peers(r) {
				all := r.Seconds[what]
				grows := versus.Grows(all)
				fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%.2f\t\tat most %.2f\t%s\n", name, each(all[len(all)-1]), what,
					each(all[0]), grows, r.Most[what], verdict(grows, r.Most[what]))
			}
			continue
		}
		ours := r.Seconds[r.Ours]
		if most, ok := r.Most[r.Ours]; ok {
			took := versus.Median(ours)
			fmt.Fprintf(w, "%s\t%s\t\t\t\t%s\tat most %s\t%s\n", name, shown(took), between(ours, shown), shown(most),
				verdict(took, most))
		}
		for _, peer := range peers(r) {
			theirs := r.Seconds[peer]
			var each []float64
			for k := range min(len(ours), len(theirs)) {
				each = append(each, ours[k]/theirs[k])
			}
			ratio, wanted, said := versus.Median(ours)/versus.Median(theirs), "", ""
			if most, ok := r.Most[peer]; ok {
				wanted, said = fmt.Sprintf("at most %.2f", most), verdict(ratio, most)
			}
			if least, ok := r.Least[peer]; ok {
				wanted = fmt.Sprintf("%.2f to %.2f", least, r.Most[peer])
				if ratio < least {
					said = "missed"
				}
			}
			spread := between(each, func(v float64) string { return fmt.Sprintf("%.2f", v) })
			fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%.2f\t%s\t%s\t%s\n", name, shown(versus.Median(ours)), peer,
				shown(versus.Median(theirs)), ratio, spread, wanted, said)
		}
	}
	return w.Flush()
}

func between(v []float64, shown func(float64) string) string {
	return shown(slices.Min(v)) + " to " + shown(slices.Max(v))
}

func shown(seconds float64) string {
	if seconds < 10 {
		return fmt.Sprintf("%.0f ms", seconds*1000)
	}
	return fmt.Sprintf("%.1f s", seconds)
}

func verdict(is, most float64) string {
	if is <= most {
		return "reached"
	}
	return "missed"
}

// slower is by how much something must be slower to be pointed at.
const slower = 1.2

// compare prints how the ratios have changed between two runs; of what has no peer, the times, where the machine is the
// same.
func compare(out io.Writer, before, after Run) error {
	w := tabwriter.NewWriter(out, 0, 4, 2, ' ', 0)
	fmt.Fprintf(w, "benchmark\tagainst\t%.8s\t%.8s\tchange\t\n", before.Commit, after.Commit)
	row := func(name, peer string, was, is float64) {
		said := ""
		if is > was*slower {
			said = "slower"
		} else if was > is*slower {
			said = "quicker"
		}
		fmt.Fprintf(w, "%s\t%s\t%.3f\t%.3f\t%+.0f %%\t%s\n", name, peer, was, is, 100*(is/was-1), said)
	}
	for i := range after.Records {
		a := &after.Records[i]
		k := slices.IndexFunc(before.Records, func(r versus.Record) bool { return r.Name == a.Name })
		if k < 0 {
			continue
		}
		b, name := &before.Records[k], strings.TrimPrefix(a.Name, "Benchmark")
		of := func(r *versus.Record, who string) float64 { return versus.Median(r.Seconds[who]) }
		others := peers(a)
		if len(a.Titles) > 0 {
			for _, what := range others {
				if before.Machine == after.Machine && len(b.Seconds[what]) > 0 {
					row(name, what, of(b, what), of(a, what))
				}
			}
			continue
		}
		for _, peer := range others {
			if len(b.Seconds[peer]) > 0 {
				row(name, peer, of(b, b.Ours)/of(b, peer), of(a, a.Ours)/of(a, peer))
			}
		}
		if len(others) == 0 && before.Machine == after.Machine {
			row(name, "seconds", of(b, b.Ours), of(a, a.Ours))
		}
	}
	return w.Flush()
}
