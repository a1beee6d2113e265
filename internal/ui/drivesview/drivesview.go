// Package drivesview is the panel of the drives: devices and images as upright volumes, what is on them and what may be
// done, the block map of a volume, and preparing, checking and letting go of drives.
package drivesview

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/blockmap"
	"polytome/internal/core/prepare"
	"polytome/internal/draw"
	"polytome/internal/drives"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/target/drive"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
	"polytome/internal/ui/tape"
)

// sheet is what the panel shows.
type sheet int

const (
	listing   sheet = iota // all drives
	mapping                // what is where on a volume
	preparing              // what a drive will become
	checking               // what is wrong with a volume
	titles                 // what is on a console's own disk
	repairing              // what is wrong with one
	trays                  // disc drives
)

// Model is the panel.
type Model struct {
	d    *state.State
	at   int    // the drive that is shown
	path string // its path, to find it again
	want string // path of one that is being looked for, to be shown when it comes
	vol  int    // volume of it
	show sheet
	seen int // look at the drives that is shown

	busy    string // what is being done, "" for nothing
	copying bool   // to a twin, which can be stopped
	cancel  context.CancelFunc

	tape  *tape.Tape // what is where on the volume
	layOf volumeName
	rows  int // of drives, where they are rows

	plan    *prepare.Plan
	request prepare.Request
	event   prepare.Event
	report  *prepare.Report
	health  *volume.Health
	left    *volume.Health // after repairing
	lines   scroll.List    // of preparing and checking

	tray    int // the disc drive under the cursor
	disk    disk
	wrong   *wrong
	of      sheet // to which map and repairing go back
	counted int64 // bytes of what is being done

	subject *drives.Drive                 // what the sheets that follow are of
	open    func() (*drive.Target, error) // opens its volume
	tops    []int                         // columns at which drives begin, for clicks
	listed  bool                          // there is little width: drives are rows
	from    int                           // the first row
	top     int
}

// volumeName names a volume on a drive.
type volumeName struct {
	path string
	part int
}

// New makes the panel.
func New(d *state.State) *Model { return &Model{d: d} }

// Open looks at the drives, and begins to notice those that come and go.
func (m *Model) Open() tea.Cmd {
	return tea.Batch(m.d.FindDrives(), m.d.WatchDrives(), m.d.FindDiscs())
}

// Name is the panel's name.
func (m *Model) Name() string { return "Drives" }

// Number is the number of drives.
func (m *Model) Number() string { return fmt.Sprint(len(m.d.Drives)) }

// Refresh finds the drive that was shown again.
func (m *Model) Refresh() {
	if m.seen == m.d.DrivesSeen {
		return
	}
	m.seen = m.d.DrivesSeen
	m.at = max(0, min(m.at, len(m.d.Drives)-1))
	found := false
	for i, f := range m.d.Drives {
		if f.Path == m.path && (!m.follows() || f.Identity() == m.subject.Identity()) {
			m.at, found = i, true
		}
	}
	for i, f := range m.d.Drives {
		if f.Path == m.want {
			m.at, m.vol, m.want, found = i, 0, "", true
		}
	}
	if !found {
		m.vol = 0
		if m.show != listing && m.show != trays && m.busy == "" {
			m.show = listing
			m.d.Notice = "The drive that was shown is no longer there."
		}
		m.at = m.first()
	}
	if f := m.current(); f != nil {
		m.path = f.Path
		m.vol = max(0, min(m.vol, len(f.Volumes)-1))
	}
}

// follows reports whether the sheet is of a drive as it was looked at.
func (m *Model) follows() bool {
	return m.show != listing && m.show != preparing && m.show != trays
}

// first is the first drive that may be written to.
func (m *Model) first() int {
	for i, f := range m.d.Drives {
		if f.Refusal() == nil {
			return i
		}
	}
	return max(0, min(m.at, len(m.d.Drives)-1))
}

// current is the drive that is shown, nil for none.
func (m *Model) current() *state.Found {
	if m.at < 0 || m.at >= len(m.d.Drives) {
		return nil
	}
	return &m.d.Drives[m.at]
}

// volume is the volume that is shown, nil for none.
func (m *Model) volume() *drives.Volume {
	f := m.current()
	if f == nil || m.vol < 0 || m.vol >= len(f.Volumes) {
		return nil
	}
	return &f.Volumes[m.vol]
}

// SetFilter goes to the drive, or on the map to the file, that has the words.
func (m *Model) SetFilter(f string) {
	switch {
	case f == "":
	case m.show == listing:
		for i, d := range m.d.Drives {
			text := d.Name() + " " + d.Serial + " " + d.Path
			for _, v := range d.Volumes {
				text += " " + v.Label
			}
			if state.HasWords(text, f) {
				m.turn(i - m.at)
				return
			}
		}
	case m.show == mapping && m.tape != nil:
		m.tape.Find(func(l blockmap.Length) bool {
			if l.File < 0 {
				return false
			}
			what, _ := m.tape.Map.Say(l)
			return state.HasWords(m.tape.Map.Files[l.File].Path+" "+what, f)
		})
	case m.show == titles:
		for i, t := range m.disk.titles {
			if state.HasWords(t.ID+" "+t.Name, f) {
				m.disk.list.Move(i - m.disk.list.Cursor)
				return
			}
		}
	}
}

// Escape goes back to the drives; it reports whether it did.
func (m *Model) Escape() bool {
	if m.show == listing {
		if m.copying {
			m.cancel()
		}
		return m.copying
	}
	if m.busy != "" {
		if m.cancel != nil && m.show != preparing {
			m.cancel()
		}
		if m.show == preparing {
			m.d.Notice = "The drive is being prepared. It takes a moment, and stopping now would leave it unusable."
			return true
		}
	}
	switch {
	case m.show == titles && m.disk.turning:
		m.disk.turning = false
	case m.show == titles && len(m.disk.wish) > 0:
		m.disk.wish = map[string]map[string]string{}
		m.d.Notice = "The switches that were turned and not written are as they were. b goes back to the drives."
	case (m.show == mapping || m.show == repairing) && m.of == titles:
		m.show, m.of = titles, listing
	default:
		m.show, m.plan, m.report, m.health, m.left, m.wrong, m.of = listing, nil, nil, nil, nil, nil, listing
	}
	return true
}

// Drawing is what paper shows of the panel: the map of the volume, or the drive before and after it is prepared.
func (m *Model) Drawing() draw.Request {
	r := draw.Request{Kind: draw.KindMap, Target: -1}
	f := m.current()
	if f == nil || m.Preparing() {
		return m.d.Drawn(draw.KindRack)
	}
	r.Drive = f.Path
	switch v := m.volume(); {
	case m.show == preparing && m.plan != nil && m.report == nil:
		wanted := m.request
		r.Ready = &wanted
	case v != nil && v.Number > 0:
		r.Drive = fmt.Sprintf("%s#%d", f.Path, v.Number)
	}
	return r
}

// Title is the title under the cursor.
func (m *Model) Title() (int, bool) { return 0, false }

// Actions are the keys of the sheet that is shown.
func (m *Model) Actions() []state.Action {
	switch m.show {
	case mapping:
		return m.mapActions()
	case preparing:
		var out []state.Action
		if m.report == nil {
			out = append(out, state.Do("W", "prepare it", m.askConsent).Writing(),
				state.Do("enter", "prepare it", m.askConsent), state.Do("f", "add the loader's own files",
					m.askKit))
		}
		return append(append(out, state.Do("b", "back to the drives", state.Just(func() { m.Escape() }))),
			state.Movement(&m.lines)...)
	case checking:
		var out []state.Action
		if m.health != nil && m.left == nil && slices.ContainsFunc(m.health.Findings,
			func(f volume.Finding) bool { return f.Repair != "" }) {
			out = append(out, state.Do("W", "repair all", m.askRepair).Writing())
		}
		return append(append(out, state.Do("b", "back to the drives", state.Just(func() { m.Escape() }))),
			state.Movement(&m.lines)...)
	case titles:
		return m.diskActions()
	case trays:
		return m.trayActions()
	case repairing:
		var out []state.Action
		if w := m.wrong; w != nil && !w.done && len(w.repair.Do) > 0 {
			out = append(out, state.Do("W", "repair it", m.askRepairDisk).Writing())
		}
		return append(append(out, state.Do("b", "back", state.Just(func() { m.Escape() }))),
			state.Movement(&m.lines)...)
	}
	moves := []state.Action{
		state.Do("left h", "the drive before", state.Just(func() { m.turn(-1) })),
		state.Do("right l", "the next drive", state.Just(func() { m.turn(1) })),
		state.Do("up k", "the volume above", state.Just(func() { m.step(1) })),
		state.Do("down j", "the volume below", state.Just(func() { m.step(-1) })),
	}
	if m.listed { // as rows, one below the other
		moves = []state.Action{
			state.Do("up k", "the drive before", state.Just(func() { m.turn(-1) })),
			state.Do("down j", "the next drive", state.Just(func() { m.turn(1) })),
			state.Do("left h", "the volume before", state.Just(func() { m.step(-1) })),
			state.Do("right l", "the next volume", state.Just(func() { m.step(1) })),
		}
	}
	f := m.current()
	some, laid := f != nil, f != nil && m.volume() != nil
	mounted := some && slices.ContainsFunc(f.Volumes, func(v drives.Volume) bool { return len(v.MountedAt) > 0 })
	return append(moves,
		state.Do("enter", "what is on it", m.openMap).Saying("the block map, or the titles of a console's own disk").
			When(laid),
		state.Do("W", "prepare", m.askLoader).Saying("it for a loader").Writing().When(some),
		state.Do("c", "check", m.check).When(laid || some && f.Denied()),
		state.Do("e", "eject", m.eject).Saying("write pending data, unmount and power off; then it is safe to unplug").
			When(some),
		state.Do("m", "unmount only", m.unmount).When(mounted),
		state.Do("p", "make it a target, to be filled", m.use).When(some),
		state.Do("t", "twin", m.askTwin).Saying("copy what is on it to another stick, file by file").When(laid),
		state.Do("n", "teach: learn a console from it", m.teach).When(laid),
		state.Do("a", "an image or address", m.askImage).
			Saying("open or create an image file, or look at what a console exports"),
		state.Do("d", "disc drives", state.Just(func() { m.show = trays })).
			Saying("what lies in them; read and burn discs").When(len(m.d.Discs) > 0),
		state.Do("r", "look again", func() tea.Cmd { return tea.Batch(m.d.FindDrives(), m.d.FindDiscs()) }).
			Saying("which drives there are"),
	)
}

func (m *Model) turn(by int) {
	if n := len(m.d.Drives); n > 0 {
		m.at = (m.at + by + n) % n
		m.path, m.vol = m.d.Drives[m.at].Path, 0
	}
}

func (m *Model) step(by int) {
	if f := m.current(); f != nil {
		m.vol = max(0, min(m.vol+by, len(f.Volumes)-1))
	}
}

// An eventMsg is how far preparing is.
type eventMsg struct {
	event prepare.Event
	next  <-chan prepare.Event
}

// Update takes a message of the panel's in; ok is false for another one.
func (m *Model) Update(msg tea.Msg, _ bool) (t state.Taken, ok bool) {
	switch msg := msg.(type) {
	case state.DrivesMsg:
		m.d.SetDrives(msg)
		m.Refresh()
		return t, true
	case state.ExportsMsg:
		m.d.SetExports(msg)
		m.Refresh()
		return t, true
	case eventMsg:
		m.event = msg.event
		t.Cmd = follow(msg.next)
		return t, true
	case doneMsg:
		m.busy, m.cancel, m.copying = "", nil, false
		if msg.say != "" {
			m.d.Notice = msg.say
		}
		if msg.err != nil && !errors.Is(msg.err, context.Canceled) {
			m.d.Notice = state.Sentence(msg.err.Error())
		}
		if msg.take != nil {
			msg.take(m)
		}
		if msg.change {
			t.Cmd = m.d.DrivesChanged()
		}
		if msg.then != nil {
			t.Cmd = tea.Batch(t.Cmd, msg.then(m))
		}
		return t, true
	case countedMsg:
		m.counted = msg.bytes
		t.Cmd = count(msg.next)
		return t, true
	}
	return t, false
}

// takeUp has the sheets that follow work on the volume that is shown now, whatever comes to be shown or plugged in at
// its path.
func (m *Model) takeUp() {
	sys, d, v := m.d.System, m.current().Drive, *m.volume()
	m.subject = d
	m.open = func() (*drive.Target, error) {
		return drive.OnVolume(context.Background(), sys, d, &v, drive.Options{})
	}
}

// Preparing reports whether a drive is being prepared, which must not be interrupted.
func (m *Model) Preparing() bool { return m.busy != "" && m.show == preparing && m.event.Step >= 0 }

// Stays is why the program must not end now.
func (m *Model) Stays() string {
	if m.Preparing() {
		return "A drive is being prepared. It takes a moment, and stopping now would leave the drive unusable."
	}
	if m.copying {
		return "A stick is being copied: esc in Drives stops that."
	}
	return ""
}

// fit reports, and says, whether the volume that is shown is one that is read here. Where that takes the rights of an
// administrator, ask asks for them.
func (m *Model) fit() (ask tea.Cmd, ok bool) {
	v := m.volume()
	switch {
	case m.current() != nil && m.current().Denied():
		return m.elevate(), false
	case v == nil && m.current() != nil && m.current().Refusal() != nil:
		m.d.Notice = "There is no volume on it that can be read here."
	case v == nil:
		m.d.Notice = "There is no volume on it: W prepares it."
	case v.Trouble != "":
		m.d.Notice = state.Sentence(v.Trouble)
	case !v.Ours():
		m.d.Notice = fmt.Sprintf("It is %s. Only FAT16, FAT32, exFAT and slab disks can be examined here.", v.Shown())
	default:
		return nil, true
	}
	return nil, false
}

// elevate asks for the rights to read a drive that only an administrator may read; then it is shown like any other.
func (m *Model) elevate() tea.Cmd {
	if !m.idle() {
		return nil
	}
	sys, d := m.d.System, m.current().Drive
	m.d.Notice = "Your system asks you for the rights of an administrator, to open " + d.Name() + "."
	return m.do("waiting for your answer", func(ctx context.Context) doneMsg {
		if _, err := sys.Readable(ctx, d); err != nil {
			return doneMsg{err: err}
		}
		return doneMsg{say: d.Name() + " can be read now: choose again what to do.", change: true}
	})
}

func (m *Model) check() tea.Cmd {
	if v := m.volume(); v != nil && v.Filesystem == drives.Slab && m.idle() { // even where it cannot be read
		m.subject = m.current().Drive
		return m.checkDisk(false)
	}
	if !m.idle() {
		return nil
	}
	if ask, ok := m.fit(); !ok {
		return ask
	}
	m.takeUp()
	m.show, m.health, m.left = checking, nil, nil
	m.lines.Home()
	open := m.open
	return m.do("checking", func(ctx context.Context) doneMsg {
		p, err := open()
		if err != nil {
			return doneMsg{err: err}
		}
		defer p.Close()
		h, err := p.Volume().Check(ctx)
		return doneMsg{err: err, take: func(m *Model) { m.health = h }}
	})
}

// askRepair asks whether what was found shall be repaired.
func (m *Model) askRepair() tea.Cmd {
	if m.idle() {
		m.d.Agree(fmt.Sprintf("Repair %s on %s?", size.Count(len(m.health.Findings), "problem"), m.subject.Name()),
			"it does what is listed here", m.repair)
	}
	return nil
}

func (m *Model) repair() tea.Cmd {
	if !m.idle() {
		return nil
	}
	open := m.open
	return m.do("fixing", func(ctx context.Context) (done doneMsg) {
		p, err := open()
		if err != nil {
			return doneMsg{err: err}
		}
		defer func() { done.err = errors.Join(done.err, p.Close()) }()
		v, err := p.Write(ctx)
		if err != nil {
			return doneMsg{err: err}
		}
		first, left, err := v.Repair(ctx)
		return doneMsg{err: err, change: true, take: func(m *Model) { m.health, m.left = first, left }}
	})
}

func (m *Model) eject() tea.Cmd   { return m.letGo(true) }
func (m *Model) unmount() tea.Cmd { return m.letGo(false) }

func (m *Model) letGo(off bool) tea.Cmd {
	f := m.current()
	if f == nil || !m.idle() {
		return nil
	}
	sys, d := m.d.System, f.Drive
	m.d.Notice = "Not yet: writing pending data to " + d.Name() + " …"
	return m.do("ejecting "+d.Name(), func(ctx context.Context) doneMsg {
		do := sys.Eject
		if !off {
			do = sys.Unmount
		}
		r, err := do(ctx, d, nil)
		var busy *drives.BusyError
		if errors.As(err, &busy) {
			return doneMsg{say: state.Sentence(err.Error()) + " e tries again.", change: true}
		}
		if err != nil {
			return doneMsg{err: err, change: true}
		}
		return doneMsg{say: r.Say, change: true}
	})
}

// use makes the drive a target of the bench.
func (m *Model) use() tea.Cmd {
	f := m.current()
	if f == nil {
		return nil
	}
	if ask, ok := m.fit(); !ok {
		return ask
	}
	if n := m.d.TargetOn(f.Drive); n >= 0 {
		m.d.Target = n
		m.d.Notice = m.d.Bench.Targets[n].Name + " is already a target on it: select titles for it in Fit."
		return nil
	}
	v := *m.volume()
	d := f.Drive
	var names []string
	value := ""
	for _, p := range m.d.Set.Profiles {
		if p.OnDrive(v.Filesystem, d.Network) != nil {
			names = append(names, p.Name)
		}
	}
	if c := f.Contents[m.vol]; len(c.Loaders) > 0 {
		value = c.Loaders[0].Name
	}
	m.d.Ask(state.Question{Prompt: "Fill it for which loader? ", Value: value, Suggestions: names,
		Hint: strings.Join(names, ", "), Done: func(answer string) tea.Cmd {
			p, err := m.d.Set.Profile(answer)
			if err != nil {
				m.d.Notice = state.Sentence(err.Error())
				return nil
			}
			return m.d.AddDrive(d, &v, p.Name)
		}})
	return nil
}

// teach has an unknown console be learnt from what is on the volume.
func (m *Model) teach() tea.Cmd {
	f := m.current()
	if f == nil {
		return nil
	}
	if ask, ok := m.fit(); !ok {
		return ask
	}
	a := m.d.AddressOf(f.Drive, m.volume())
	return m.d.Teach(state.Teaching{At: m.d.Bench.Resolve(a), Name: f.Drive.Name(),
		Config: bench.Target{Name: f.Drive.Name(),
			At: a}})
}

// Click chooses a drive, or a part of the map.
func (m *Model) Click(x, y int) tea.Cmd {
	switch m.show {
	case listing:
		if i := m.from + y; m.listed && y < m.rows && i < len(m.d.Drives) {
			if i == m.at {
				return m.openMap()
			}
			m.turn(i - m.at)
			return nil
		}
		for i := len(m.tops) - 1; i >= 0; i-- {
			if m.tops[i] >= 0 && x >= m.tops[i] {
				if i == m.at {
					return m.openMap()
				}
				m.turn(i - m.at)
				return nil
			}
		}
	case titles:
		if m.disk.list.Click(y - m.top) {
			m.mark()
		}
	case mapping:
		if m.tape != nil {
			m.tape.Click(x, y-m.top)
		}
	}
	return nil
}

// Wheel moves in the list, or in the map.
func (m *Model) Wheel(by int) {
	switch m.show {
	case mapping:
		if m.tape != nil {
			m.tape.List.Move(by)
		}
	case listing:
	case titles:
		m.disk.list.Move(by)
	default:
		m.lines.Move(by)
	}
}

// Why says what may be done with the drive and why, or what is under the cursor.
func (m *Model) Why() state.Why {
	if m.show == trays {
		return m.whyTray()
	}
	f := m.current()
	switch {
	case m.busy != "" && m.show != preparing && m.show != titles && m.show != repairing:
		w := state.Why{Say: state.Sentence(m.busy + " …")}
		if m.copying {
			w.Say = state.Sentence(m.busy + ": " + size.Format(m.counted) + " so far")
			w.Ways = []string{"esc stops it; what is copied stays"}
		}
		return w
	case m.d.DrivesErr != nil:
		return state.Why{Say: state.Sentence(m.d.DrivesErr.Error()),
			Ways: []string{"a opens an image file, or what is exported at an address"}}
	case f == nil:
		return state.Why{Say: "There are no drives. One that you plug in appears within two seconds.",
			Ways: []string{"a opens or creates an image file"}}
	}
	switch m.show {
	case mapping:
		return m.mapWhy()
	case preparing:
		return m.readyWhy()
	case checking:
		return m.checkWhy()
	case titles:
		return m.diskWhy()
	case repairing:
		return m.repairWhy()
	}
	w := state.Why{Lead: f.Name() + "."}
	if r := f.Refusal(); r != nil {
		w.Say = "Polytome does not write to it: " + r.Say + "."
		if mounted(f.Drive) {
			w.Ways = []string{"e ejects it, m only unmounts it"}
		}
		return w
	}
	v := m.volume()
	switch {
	case f.Denied():
		w.Say, w.Ways = "Only an administrator may read it.", []string{
			"c asks for that now; then it is shown like any other",
		}
	case v == nil:
		w.Say, w.Ways = "It is blank: there is no readable volume on it.", []string{"W prepares it for a loader"}
	case v.Dirty:
		w.Say, w.Ways = fmt.Sprintf("%s was not ejected cleanly: it was pulled out or switched off.", volumeWords(v)),
			[]string{"c checks it"}
	default:
		w.Say = fmt.Sprintf("%s holds %s.", volumeWords(v), f.Contents[m.vol].Words())
		if n := m.d.TargetOn(f.Drive); n >= 0 {
			w.Ways = append(w.Ways, "it is filled as "+m.d.Bench.Targets[n].Name)
		} else if v.Ours() {
			w.Ways = append(w.Ways, "p makes it a target to fill")
		}
	}
	if f.Fixed() {
		w.Ways = append(w.Ways, "it is built in: preparing it needs a second confirmation")
	}
	return w
}

func mounted(d *drives.Drive) bool {
	return len(d.Uses) > 0 && !slices.ContainsFunc(d.Uses, func(u drives.Use) bool { return u.Kind != drives.Mounted })
}

// volumeWords names a volume.
func volumeWords(v *drives.Volume) string {
	name := "The volume"
	if v.Label != "" {
		name = v.Label
	}
	return fmt.Sprintf("%s (%s, %s)", name, v.Shown(), size.Format(v.Size))
}
