// Package state is the state that all screens share: the bench, the titles, what
// every target makes of them, the runs under way and the checks. Screens read it
// and call its methods; slow work goes on in commands and comes back as messages.
package state

import (
	"context"
	"os"
	"strings"
	"sync"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/connections"
	"polytome/internal/core/cover"
	"polytome/internal/core/journal"
	"polytome/internal/core/layout"
	"polytome/internal/core/ledger"
	"polytome/internal/core/loader"
	"polytome/internal/core/saves"
	"polytome/internal/core/scan"
	"polytome/internal/core/scancache"
	"polytome/internal/drives"
	"polytome/internal/netcards"
)

// A Desk is the shared state. Only the interface's own goroutine touches it.
type State struct {
	Ctx   context.Context
	Bench *bench.Bench
	Set   *loader.Set
	// Teaching is what the next unknown console is learnt from; empty for the target that is shown.
	Teaching Teaching
	// Learnt is the loader that was written last, until the loaders have shown it; "" for none.
	Learnt string
	// onceLoaded is done when the loaders were read again; nil for nothing.
	onceLoaded func() tea.Cmd
	// OwnDir is the folder of the user's own profiles and platforms, "" for none.
	OwnDir string
	// CacheFile is where scans keep what they have seen, "" for nowhere.
	CacheFile string
	// Vault is where saves are kept; KeepSaves has them kept after each look at a target.
	Vault      saves.Vault
	KeepAlways bool
	Kept       Kept
	// Ledger is where it is remembered what lies on volumes, with no folder for nowhere; Remembered is what it knows.
	Ledger     ledger.Store
	Remembered Remembered
	lags       map[string]lag // how far volumes are behind, by their IDs
	// Dock is the dock while it is open; nil while it is not.
	Dock      *Docking
	DockEvery time.Duration // how often it is looked whether something came; 0 for what is usual
	// Journal is where runs are written down, nil for nowhere. History are the newest runs.
	Journal *journal.Journal
	History []journal.Run
	// Watch has changes of the user's own files noticed.
	Watch bool
	trees layout.Shelf // of all targets
	// Generation counts how often the titles became others.
	Generation int
	// Loaders counts how often the loaders were read again.
	Loaders int

	Scan     scan.Result
	Scanning bool
	// Touched is that a person has moved or done something in a list: from then on its cursor stays on its title,
	// whatever a scan finds before it. Until then it stands at the top.
	Touched bool
	// Verifying is the check of files under way, nil for none.
	Verifying *Verifying
	// Question is what is asked at the foot, nil for nothing.
	Question *Question
	Bad      int // titles with a fault
	toWrite  writing

	Targets []*Target // in the order of the bench

	// Sharing is homes that are proposed and not taken over yet, nil for none.
	Sharing *Sharing
	// Supposing is what would be different if a target were set up otherwise, nil for nothing.
	Supposing *Supposing

	// System is where drives are found; Drives those that were, DrivesSeen how often it was looked. Images are image
	// files that were named beside.
	System     drives.System
	Drives     []Found
	DrivesErr  error
	DrivesSeen int
	Images     []string

	// DiscAccess is how disc drives are found; Discs those that were; DiscJobs what they read and burn, and what came
	// of it.
	DiscAccess DiscAccess
	Discs      []DiscDrive
	DiscJobs   []*DiscJob

	// Cards is where interfaces are found; Connections how everything is joined, nil until looked at.
	Cards       netcards.System
	Connections *connections.Connections

	// Finder finds the pictures of titles, nil until they were scanned; Fetching is a fetch of covers that goes on, nil
	// for none; Fetched what the last one brought.
	Finder   *cover.Finder
	Fetching *Fetching
	Fetched  *cover.Report
	// Patience is how failures of servers of covers are met; the zero value is the usual one.
	Patience cover.Patience

	Target int    // the target that Tree, Run and Check show
	Notice string // the last thing that happened, in a sentence

	jobs           jobs // that are for no target
	stale          bool // loaders were read again while a run went on
	coverStore     *coverStore
	seen           map[string]Seen // pictures that were looked at
	lookingAt      map[string]bool
	looking        bool            // at the links
	lookComes      bool            // the links are looked at again in a while
	plain          map[string]bool // what was said of plain connections
	offered        bool            // runs that were interrupted were asked about
	defaultRate    int64           // bytes a second, for targets without a rate
	undo, redo     []choice
	saver          *saver
	unsaved        bool           // names were given that the bench has to keep
	saved          int            // number of the newest change known to be saved
	saveFailed     bool           // the last try to save failed
	fresh          bool           // there was no bench file at the start
	running        sync.WaitGroup // runs under way
	changes        int            // of the choices; what was begun before the last one is dropped
	scanned        bool           // a scan has come to its end
	listened       int            // number of the scan that is listened to
	drivesKnown    string
	discSigns      map[string]string // what drives said when they were looked at
	watchingDrives bool
	local          []Found // of Drives: those of this computer, and images
	exported       []Found // and those that are exported over the network
	watched        int     // folders of the user's files that are watched
	stopWatch      func()
	stopScan       context.CancelFunc
}

// New makes a desk for a bench.
func New(ctx context.Context, b *bench.Bench, set *loader.Set, rate int64) *State {
	_, err := os.Stat(b.File())
	d := &State{Vault: saves.Usual(), System: drives.Here, Cards: netcards.Here, coverStore: &coverStore{},
		seen: map[string]Seen{}, lookingAt: map[string]bool{}, fresh: err != nil, Ctx: ctx, Bench: b, Set: set,
		defaultRate: rate, saver: &saver{}, plain: map[string]bool{}, stopScan: func() {}}
	d.resize()
	return d
}

// An Action is something that a screen can do: its key, and its name for the
// command line and the help.
type Action struct {
	Key key.Binding
	Do  func() tea.Cmd
	// More says in the help what the name, which is short for the line at the foot, does not; ""
	// where the name is enough.
	More string
	// Writes is set for what changes the bytes of a drive or target, after somebody agreed.
	Writes bool
	// Off is set while the action would only say why it cannot be done: the foot leaves it out.
	Off bool
}

// When leaves the action out of the foot while something does not hold.
func (a Action) When(can bool) Action {
	a.Off = !can
	return a
}

// Writing marks an action that changes the bytes of a drive or target.
func (a Action) Writing() Action {
	a.Writes = true
	return a
}

// Saying adds what the help says.
func (a Action) Saying(more string) Action {
	a.More = more
	return a
}

// Do makes an action. Keys are separated by spaces; the first is shown.
func Do(keys, name string, do func() tea.Cmd) Action {
	list := strings.Fields(keys)
	return Action{Key: key.NewBinding(key.WithKeys(list...), key.WithHelp(list[0], name)), Do: do}
}

// Just wraps a function that needs no command.
func Just(f func()) func() tea.Cmd {
	return func() tea.Cmd { f(); return nil }
}

// Why is the line at the foot: what holds for the thing under the cursor.
type Why struct {
	Lead string   // what it is about
	Say  string   // the verdict and its reason
	Ways []string // the ways out
}

// A ScanMsg is what a scan has found so far, or at its end.
type ScanMsg struct {
	Result scan.Result
	Done   bool
	finder *cover.Finder
	number int
	feed   feed[ScanMsg]
}

// StartScan looks through the sources in the background. A scan under way is
// given up.
func (d *State) StartScan() tea.Cmd {
	if len(d.Bench.Sources) == 0 {
		return nil
	}
	d.stopScan()
	ctx, cancel := context.WithCancel(d.Ctx)
	d.stopScan = cancel
	d.Scanning = true
	d.listened++
	number, sources, o := d.listened, d.Bench.SourcePaths(), scan.For(d.Bench, d.Set, nil)
	cache, covers, b, set := d.CacheFile, d.coverStore, d.Bench.Clone(), d.Set
	found := newest[ScanMsg]()
	var r scan.Result
	found.start(func() {
		o.Progress = func(r scan.Result) { found.emit(ScanMsg{Result: r, number: number, feed: found}) }
		store, coverTrouble := covers.open()
		o.Covers = cover.NewFinder(b, set, store)
		var trouble error
		if cache != "" {
			o.Cache, trouble = scancache.Open(cache)
			defer o.Cache.Close()
		}
		var err error
		r, err = scan.Scan(ctx, sources, o)
		for _, err := range []error{trouble, coverTrouble} {
			if err != nil {
				r.Notes = append(r.Notes, Sentence(err.Error()))
			}
		}
		if err == nil {
			found.emit(ScanMsg{Result: r, Done: true, finder: o.Covers, number: number})
		}
	}, func(err error) ScanMsg {
		r.Notes = append(r.Notes, Sentence("the scan: "+err.Error()))
		return ScanMsg{Result: r, Done: true, finder: o.Covers, number: number}
	})
	return found.next
}

// judgeWhileScanning is the number of titles up to which targets are judged while a scan
// still goes on.
const judgeWhileScanning = 5000

// SetScan takes over what a scan has found.
func (d *State) SetScan(m ScanMsg) tea.Cmd {
	if m.number != d.listened {
		return nil
	}
	if !m.Done && d.scanned {
		return m.feed.next // what is known is shown until the new look is complete
	}
	d.scanned = d.scanned || m.Done
	d.Scan = m.Result
	d.Generation++
	if m.Done && len(m.Result.Notes) > 0 && d.Notice == "" {
		d.Notice = strings.Join(m.Result.Notes, " ")
	}
	d.Bad = 0
	for i := range d.Scan.Titles {
		if !d.Scan.Titles[i].OK() {
			d.Bad++
		}
	}
	var cmds []tea.Cmd
	if m.Done {
		d.Scanning, d.Finder = false, m.finder
	} else {
		cmds = append(cmds, m.feed.next)
	}
	if m.Done || len(d.Scan.Titles) < judgeWhileScanning {
		cmds = append(cmds, d.Survey())
	}
	return tea.Batch(cmds...)
}

// Begin sets up an empty bench.
func (d *State) Begin(sources []bench.Source, targets []bench.Target) tea.Cmd {
	d.Bench.Sources, d.Bench.Targets = sources, targets
	d.resize()
	return tea.Batch(d.StartScan(), d.save())
}

// HasWords reports whether a text has all the words of a filter, whatever their letter
// case.
func HasWords(text, filter string) bool {
	text = strings.ToLower(text)
	for w := range strings.FieldsSeq(strings.ToLower(filter)) {
		if !strings.Contains(text, w) {
			return false
		}
	}
	return true
}

// Sentence makes a sentence of what an error or a rule says.
func Sentence(s string) string {
	if s == "" {
		return ""
	}
	return strings.ToUpper(s[:1]) + strings.TrimSuffix(s[1:], ".") + "."
}

// Short writes a path with ~ for the home folder.
func Short(p string) string {
	home, err := os.UserHomeDir()
	if err != nil || home == "" || home == string(os.PathSeparator) {
		return p
	}
	if rest, ok := strings.CutPrefix(p, home); ok && (rest == "" || os.IsPathSeparator(rest[0])) {
		return "~" + rest
	}
	return p
}

// Expand turns a leading ~ into the home folder.
func Expand(p string) string {
	if rest, ok := strings.CutPrefix(p, "~"); ok && (rest == "" || os.IsPathSeparator(rest[0])) {
		if home, err := os.UserHomeDir(); err == nil {
			return home + rest
		}
	}
	return p
}
