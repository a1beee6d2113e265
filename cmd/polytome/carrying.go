package main

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"

	"polytome/internal/core/journal"
	"polytome/internal/core/run"
	"polytome/internal/nearest"
)

// progressReader is how progress is reported.
type progressReader string

const (
	progressAuto  progressReader = "auto"  // a passing line where somebody is looking
	progressPlain progressReader = "plain" // lines only
	progressJSON  progressReader = "json"  // every event as a line of JSON beside what is printed
)

// carrying is how a run is to be carried out, as the command line says it.
type carrying struct {
	verify      string
	progress    string
	moveSources string
	readAtOnce  bool
}

func (c *carrying) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&c.verify, "verify", "",
		"how files are verified: none, size (compare the length), full (read back and compare)")
	cmd.Flags().BoolVar(&c.readAtOnce, "read-at-once", false,
		"read sources for all targets at the same time, even from one disk (default: take turns)")
	cmd.Flags().StringVar(&c.progress, "progress", string(progressAuto),
		"how to show progress on standard error: auto, plain or json")
}

func (c *carrying) check() error {
	if c.verify != "" {
		if _, err := run.ParseVerify(c.verify); err != nil {
			return usageError{fmt.Errorf("--verify: %w", err)}
		}
	}
	ways := []string{string(progressAuto), string(progressPlain), string(progressJSON)}
	if !slices.Contains(ways, c.progress) {
		return usageError{fmt.Errorf("--progress: %w", nearest.Unknown("value", c.progress, ways))}
	}
	return nil
}

func (c *carrying) reader(f *os.File) progressReader {
	if c.progress == string(progressAuto) && (!isTerminal(f) || prints.quiet) {
		return progressPlain
	}
	return progressReader(c.progress)
}

// autoProgress is a passing line where someone is looking.
func autoProgress() progressReader {
	return (&carrying{progress: string(progressAuto)}).reader(os.Stderr)
}

// journalFile is where runs are written down.
func journalFile() string { return filepath.Join(xdg.StateHome, "polytome", "runs.sqlite") }

// openJournal opens the journal of runs. Without one, runs are not written down, and that is said.
func openJournal() (*journal.Journal, error) { return openJournalAt(journalFile()) }

// openJournalAt is openJournal for another file.
func openJournalAt(file string) (*journal.Journal, error) {
	j, err := journal.Open(file)
	if err == nil && j.Note() != "" {
		return j, fmt.Errorf("%s", j.Note())
	}
	return j, err
}

// passing is a line on a terminal that is drawn over again and again.
type passing struct {
	out   *os.File
	want  bool
	drawn time.Time
}

func (p *passing) draw(line func() string) {
	if !p.want || time.Since(p.drawn) < 100*time.Millisecond {
		return
	}
	p.drawn = time.Now()
	fmt.Fprint(p.out, "\r\x1b[K"+within(p.out, line()))
}

func (p *passing) clear() {
	if !p.drawn.IsZero() {
		fmt.Fprint(p.out, "\r\x1b[K")
		p.drawn = time.Time{}
	}
}
