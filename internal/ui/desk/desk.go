// Package desk is the state that all screens share: the bench, the titles, what
// every place makes of them, the runs under way and the proofs. Screens read it
// and call its methods; slow work goes on in commands and comes back as messages.
package desk

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
	"polytome/internal/core/intake"
	"polytome/internal/core/loader"
	"polytome/internal/core/proof"
	"polytome/internal/core/seen"
	"polytome/internal/core/survey"
)

// A Desk is the shared state. Only the interface's own goroutine touches it.
type Desk struct {
	Ctx   context.Context
	Bench *bench.Bench
	Set   *loader.Set
	// OwnDir is the folder of the user's own profiles and platforms, "" for none.
	OwnDir string
	// CacheFile is where scans keep what they have seen, "" for nowhere.
	CacheFile string
	// Watch has changes of the user's own files noticed.
	Watch bool
	// Generation counts how often the titles became others.
	Generation int
	// Loaders counts how often the loaders were read anew.
	Loaders int

	Scan     intake.Result
	Scanning bool
	// Verifying is the check of files under way, nil for none.
	Verifying *Verifying
	// Question is what is asked at the foot, nil for nothing.
	Question *Question
	Unsound  int // titles with a fault

	Surveys []*survey.Survey // by place; nil until looked at
	Trouble []error          // by place: why it could not be looked at
	Lanes   []*Lane          // by place: its run, nil for none yet
	Proofs  []*proof.Report  // by place; nil until made
	Proving []bool

	Place  int    // the place that Tree, Run and Proof show
	Notice string // the last thing that happened, in a sentence

	defaultRate int64 // bytes a second, for places without a rate
	undo, redo  []bench.Choices
	saver       *saver
	unsaved     bool           // names were given that the bench has to keep
	saved       int            // number of the newest change known to be saved
	saveFailed  bool           // the last try to save failed
	fresh       bool           // there was no bench file at the start
	running     sync.WaitGroup // runs under way
	changes     int            // of the choices; what was begun before the last one is dropped
	scanned     bool           // a scan has come to its end
	listened    int            // number of the scan that is listened to
	watched     int            // folders of the user's files that are watched
	stopWatch   func()
	stopScan    context.CancelFunc
}

// New makes a desk for a bench.
func New(ctx context.Context, b *bench.Bench, set *loader.Set, rate int64) *Desk {
	_, err := os.Stat(b.File())
	d := &Desk{fresh: err != nil, Ctx: ctx, Bench: b, Set: set, defaultRate: rate, saver: &saver{}, stopScan: func() {}}
	d.resize()
	return d
}

// resize fits what is kept by place to the bench's places.
func (d *Desk) resize() {
	n := len(d.Bench.Places)
	d.Surveys = make([]*survey.Survey, n)
	d.Trouble = make([]error, n)
	d.Lanes = make([]*Lane, n)
	d.Proofs = make([]*proof.Report, n)
	d.Proving = make([]bool, n)
}

// An Action is something that a screen can do: its key, and its name for the
// command line and the help.
type Action struct {
	Key key.Binding
	Do  func() tea.Cmd
	// More says in the help what the name, which is short for the line at the foot, does not; ""
	// where the name is enough.
	More string
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
	Result intake.Result
	Done   bool
	number int
	next   <-chan ScanMsg
}

// StartScan looks through the sources in the background. A scan under way is
// given up.
func (d *Desk) StartScan() tea.Cmd {
	if len(d.Bench.Sources) == 0 {
		return nil
	}
	d.stopScan()
	ctx, cancel := context.WithCancel(d.Ctx)
	d.stopScan = cancel
	d.Scanning = true
	d.listened++
	number, sources, o := d.listened, d.Bench.SourcePaths(), intake.For(d.Bench, d.Set, nil)
	cache := d.CacheFile
	found := make(chan ScanMsg, 1)
	go func() {
		defer close(found)
		send := func(m ScanMsg) {
			select { // only the newest state matters
			case <-found:
			default:
			}
			found <- m
		}
		o.Progress = func(r intake.Result) { send(ScanMsg{Result: r, number: number, next: found}) }
		var trouble error
		if cache != "" {
			o.Cache, trouble = seen.Open(cache)
			defer o.Cache.Close()
		}
		r, err := intake.Scan(ctx, sources, o)
		if trouble != nil {
			r.Notes = append(r.Notes, trouble.Error())
		}
		if err == nil {
			send(ScanMsg{Result: r, Done: true, number: number, next: found})
		}
	}()
	return listen(found)
}

func listen(found <-chan ScanMsg) tea.Cmd {
	return func() tea.Msg {
		if m, ok := <-found; ok {
			return m
		}
		return nil
	}
}

// judgeWhileScanning is the number of titles up to which places are judged while a scan
// still goes on.
const judgeWhileScanning = 5000

// SetScan takes over what a scan has found.
func (d *Desk) SetScan(m ScanMsg) tea.Cmd {
	if m.number != d.listened {
		return nil
	}
	if !m.Done && d.scanned {
		return listen(m.next) // what is known is shown until the new look is complete
	}
	d.scanned = d.scanned || m.Done
	d.Scan = m.Result
	d.Generation++
	if m.Done && len(m.Result.Notes) > 0 && d.Notice == "" {
		d.Notice = strings.Join(m.Result.Notes, " ")
	}
	d.Unsound = 0
	for i := range d.Scan.Titles {
		if !d.Scan.Titles[i].Sound() {
			d.Unsound++
		}
	}
	var cmds []tea.Cmd
	if m.Done {
		d.Scanning = false
	} else {
		cmds = append(cmds, listen(m.next))
	}
	if m.Done || len(d.Scan.Titles) < judgeWhileScanning {
		cmds = append(cmds, d.Survey())
	}
	return tea.Batch(cmds...)
}

// A SurveyMsg is a fresh look at a place.
type SurveyMsg struct {
	Place  int
	Survey *survey.Survey
	Err    error
}

// Survey looks at all places anew, in the background.
func (d *Desk) Survey() tea.Cmd {
	var cmds []tea.Cmd
	for i := range d.Bench.Places {
		cmds = append(cmds, d.SurveyPlace(i))
	}
	return tea.Batch(cmds...)
}

// SurveyPlace looks at one place anew.
func (d *Desk) SurveyPlace(n int) tea.Cmd {
	b, titles, set, ctx := d.Bench.Clone(), d.Scan.Titles, d.Set, d.Ctx
	return func() tea.Msg {
		s, err := survey.Take(ctx, b, n, titles, set)
		return SurveyMsg{n, s, err}
	}
}

// SetSurvey takes over a look at a place. One that was made with other titles than
// are known now is dropped: a newer one is on its way.
func (d *Desk) SetSurvey(m SurveyMsg) {
	if m.Place >= len(d.Surveys) {
		return
	}
	d.Trouble[m.Place] = m.Err
	if m.Err != nil {
		d.Surveys[m.Place] = nil
		d.Notice = m.Err.Error()
		return
	}
	if len(m.Survey.Titles) != len(d.Scan.Titles) {
		return
	}
	m.Survey.Choose(d.Bench, m.Place)
	d.Surveys[m.Place] = m.Survey
	if d.Bench.Places[m.Place].Remember(m.Survey.Tree.Contested()) {
		d.unsaved = true
	}
}

// Current is the survey of the place that is shown, nil when there is none.
func (d *Desk) Current() *survey.Survey {
	if d.Place < len(d.Surveys) {
		return d.Surveys[d.Place]
	}
	return nil
}

// Want puts titles on a place's list or takes them off: all on when one of them
// was off, else all off.
func (d *Desk) Want(n int, titles []int) tea.Cmd {
	if n >= len(d.Bench.Places) || len(titles) == 0 {
		return nil
	}
	if d.busy() {
		return nil
	}
	p := &d.Bench.Places[n]
	put := slices.ContainsFunc(titles, func(i int) bool { return !p.Wants(d.Scan.Titles[i].Key) })
	d.remember()
	keys := make([]string, len(titles))
	for k, i := range titles {
		keys[k] = d.Scan.Titles[i].Key
	}
	p.Want(put, keys...)
	doing := "put on"
	if !put {
		doing = "taken off"
	}
	what := fmt.Sprintf("%d titles", len(titles))
	if len(titles) == 1 {
		what = d.Scan.Titles[titles[0]].Label()
	}
	d.Notice = fmt.Sprintf("%s %s %s. u takes it back.", what, doing, p.Name)
	return d.changed()
}

// Declare says what filesystem a place stands for; "" reads it off the place.
func (d *Desk) Declare(n int, filesystem string) tea.Cmd {
	if d.busy() {
		return nil
	}
	d.remember()
	d.Bench.Places[n].As = filesystem
	return tea.Batch(d.SurveyPlace(n), d.changed())
}

// busy reports, and says, that choices must wait for the end of a run: what it
// was planned with would no longer be what is shown.
func (d *Desk) busy() bool {
	if d.Running() {
		d.Notice = "A run is going on; stop it before changing what goes where."
	}
	return d.Running()
}

func (d *Desk) remember() {
	d.undo = append(d.undo, d.Bench.Choices())
	d.redo = nil
}

// Undo goes back to the choices before the last change, Redo forward again.
func (d *Desk) Undo() tea.Cmd { return d.step(&d.undo, &d.redo, "undo") }

// Redo takes the last undo back.
func (d *Desk) Redo() tea.Cmd { return d.step(&d.redo, &d.undo, "redo") }

func (d *Desk) step(from, to *[]bench.Choices, name string) tea.Cmd {
	if d.busy() {
		return nil
	}
	if len(*from) == 0 {
		d.Notice = fmt.Sprintf("There is nothing to %s.", name)
		return nil
	}
	*to = append(*to, d.Bench.Choices())
	edited := d.Bench.Restore((*from)[len(*from)-1])
	*from = (*from)[:len(*from)-1]
	d.Notice = strings.ToUpper(name[:1]) + name[1:] + ": the choices are as they were."
	if edited {
		return tea.Batch(d.StartScan(), d.changed())
	}
	return tea.Batch(d.Survey(), d.changed())
}

// changed judges again and saves. Runs that have ended and proofs that were made
// belong to other choices, and are put away.
func (d *Desk) changed() tea.Cmd {
	d.changes++
	clear(d.Lanes)
	clear(d.Proofs)
	clear(d.Proving)
	for i, s := range d.Surveys {
		if s != nil {
			s.Choose(d.Bench, i)
		}
	}
	return d.save()
}

// SavedMsg says that the bench was saved, or why not.
type SavedMsg struct {
	Err    error
	number int
}

// SetSaved takes over how saving went.
func (d *Desk) SetSaved(m SavedMsg) {
	d.saved, d.saveFailed = max(d.saved, m.number), m.Err != nil
	if m.Err != nil {
		d.Notice = m.Err.Error()
	}
}

// SaveState says in a word whether the bench is on disk.
func (d *Desk) SaveState() string {
	switch {
	case d.Bench.File() == "":
		return "not kept"
	case d.saveFailed:
		return "NOT SAVED"
	case d.saved < d.saver.number:
		return "saving"
	case d.fresh && d.saved == 0:
		return "new"
	}
	return "saved"
}

// saver writes benches in the order in which they were changed.
type saver struct {
	mu      sync.Mutex
	number  int // of the newest change
	written int // of the newest one on disk
}

func (d *Desk) save() tea.Cmd {
	d.saver.number++
	b, n, s := d.Bench.Clone(), d.saver.number, d.saver
	return func() tea.Msg {
		s.mu.Lock()
		defer s.mu.Unlock()
		if n <= s.written {
			return SavedMsg{number: n}
		}
		s.written = n
		return SavedMsg{b.Save(), n}
	}
}

// Begin sets up an empty bench: one source and one place.
func (d *Desk) Begin(source string, p bench.Place) tea.Cmd {
	d.Bench.Sources = []bench.Source{{Path: source}}
	d.Bench.Places = []bench.Place{p}
	d.resize()
	return tea.Batch(d.StartScan(), d.save())
}

// Chosen counts the titles that go to a place or are there, and all that its loader has to
// do with.
func (d *Desk) Chosen(n int) (goes, all int) {
	if s := d.Surveys[n]; s != nil {
		return s.Sheet.Count, s.Sheet.Mine
	}
	return 0, len(d.Scan.Titles)
}

// Verdict is what holds for a title at a place; ok is false while it is not
// known.
func (d *Desk) Verdict(n, titleIndex int) (v fit.Verdict, chosen, ok bool) {
	s := d.Surveys[n]
	if s == nil || titleIndex >= len(s.Titles) || s.Titles[titleIndex].Key != d.Scan.Titles[titleIndex].Key {
		return v, false, false // while a scan goes on, a look at the place may be a moment behind
	}
	return s.Sheet.Verdicts[titleIndex], s.Sheet.Chosen[titleIndex], true
}

// Foreign reports whether no place of the bench has anything to do with a title. While a
// place has not been looked at, nothing is foreign.
func (d *Desk) Foreign(i int) bool {
	for n := range d.Surveys {
		if v, _, ok := d.Verdict(n, i); !ok || v.Kind != fit.Foreign {
			return false
		}
	}
	return len(d.Surveys) > 0
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
