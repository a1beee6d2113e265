// Package ui is the full-screen interface: five stages in the order of the work,
// the rack of targets, and the line that says why.
package ui

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync/atomic"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"polytome/internal/config"
	"polytome/internal/core/bench"
	"polytome/internal/core/journal"
	"polytome/internal/core/ledger"
	"polytome/internal/core/loader"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// Options are how the interface is to look and behave.
type Options struct {
	ASCII bool // draw with ASCII characters only, whatever is set
	// Settings are those of the person; SettingsFile is where they are kept, "" for nowhere.
	Settings     config.Config
	SettingsFile string
	// Colours are how many colours are used; ColoursAsked for what the terminal says.
	Colours Colours
	// OwnDir is the folder of the user's own profiles and platforms, "" for none.
	OwnDir string
	// CacheFile is where scans keep what they have seen, "" for nowhere.
	CacheFile string
	// CoversDir is the folder in which what was fetched from servers of covers is kept, "" for nowhere.
	CoversDir string
	// JournalFile is where runs are written down, "" for nowhere.
	JournalFile string
	// Ledger is where it is remembered what lies on volumes; with no folder, nowhere.
	Ledger ledger.Store
	// Discs is how disc drives are found and opened.
	Discs state.DiscAccess
	Rate  int64 // bytes a second for targets that set no rate; 0 for no limit
}

// Colours are how many colours are used.
type Colours byte

const (
	ColoursAsked Colours = iota // what the terminal and NO_COLOR say
	ColoursAll
	ColoursNone
)

// Run shows the interface until the user quits. The terminal is left as it was,
// also when the context is cancelled or the program fails.
func Run(ctx context.Context, b *bench.Bench, set *loader.Set, o Options) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel() // whatever still goes on ends with the screen
	a := newApp(ctx, b, set, o)
	a.state.Watch = true
	if o.JournalFile != "" {
		j, err := journal.Open(o.JournalFile)
		if err != nil {
			a.state.Notice = state.Sentence(err.Error())
		} else {
			a.state.Notice = state.Sentence(j.Note())
		}
		a.state.Journal = j
		defer j.Close()
	}
	return show(ctx, cancel, a)
}

// shown counts the full screens that are open.
var shown atomic.Int32

// Shown reports whether a full screen is open, so that nothing else may be printed.
func Shown() bool { return shown.Load() > 0 }

// show runs the program until it ends.
func show(ctx context.Context, cancel context.CancelFunc, m *app) error {
	how := []tea.ProgramOption{tea.WithContext(ctx), tea.WithFPS(style.Frames)}
	switch m.opts.Colours {
	case ColoursAll:
		how = append(how, tea.WithColorProfile(colorprofile.TrueColor))
	case ColoursNone:
		how = append(how, tea.WithColorProfile(colorprofile.ASCII))
	case ColoursAsked:
	}
	shown.Add(1)
	_, err := tea.NewProgram(m, how...).Run()
	shown.Add(-1)
	fmt.Fprint(os.Stdout, m.shows.gallery.Clear())
	m.state.StopRuns()
	cancel()
	m.state.Wait()
	m.state.CloseCovers()
	for s := range m.screens() {
		if c, ok := s.(interface{ Close() }); ok {
			c.Close()
		}
	}
	if errors.Is(err, tea.ErrInterrupted) || errors.Is(err, context.Canceled) ||
		(errors.Is(err, tea.ErrProgramKilled) && !errors.Is(err, tea.ErrProgramPanic)) {
		return nil // asked for from outside: not a failure
	}
	if err != nil {
		return fmt.Errorf("the screen: %w", err)
	}
	return nil
}
