// Package coversview is the panel of covers: a contact sheet of all titles, the missing ones first, and the pictures
// that one of them may have beside one another, to choose from.
package coversview

import (
	"fmt"
	"image"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/cover"
	"polytome/internal/core/title"
	"polytome/internal/draw"
	"polytome/internal/format/picture"
	"polytome/internal/size"
	"polytome/internal/ui/pixels"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
)

// entry is one picture of the sheet: of a title, or of one of its discs.
type entry struct {
	title, disc int
	status      string // one of the states of [cover.Outcome]
	say         string
	file        title.File // of what is found or proposed
	from        string
}

// Model is the panel.
type Model struct {
	d      *state.State
	of     string // the kind of picture that is shown
	filter string
	lacks  bool // only what is not there
	all    []entry
	counts map[string]int // of them, by status
	made   sheetOf
	rows   scroll.List // of the sheet
	at     int         // index of the entry under the cursor
	key    string      // of the title under the cursor, and its disc: where it goes when the sheet is made again
	grid   grid

	side   *choice // what is chosen from, nil while the sheet is shown
	cache  pixels.Cache
	larges map[string]large
	asked  map[string]bool

	states   state.CoverStatesMsg // what is there of titles without a picture, as far as it was found out
	askedFor [2]any               // the generation and kind that it was asked for
}

// sheetOf is what a sheet was made of.
type sheetOf struct {
	generation int
	of, filter string
	lacks      bool
	fetching   *cover.Report
	states     int // of which generation they are known; 0 for none
}

// grid is how the sheet is drawn.
type grid struct {
	across       int // pictures in a row
	wide, high   int // cells of one, with what is written below it
	top, visible int // rows of the window above the sheet, and rows of pictures that are shown
}

// large is a picture in large.
type large struct {
	picture image.Image
	err     error
}

// choice is the pictures of one entry, beside one another.
type choice struct {
	entry      entry
	candidates []cover.Candidate
	at         int
	crop       *[4]int // what is cut off the picture, while that is being chosen
}

// New makes the panel.
func New(d *state.State) *Model {
	return &Model{d: d, of: title.PictureKinds[0], larges: map[string]large{}, asked: map[string]bool{}}
}

// Name is the panel's name.
func (m *Model) Name() string { return "Covers" }

// Number is how many pictures of the kind are there.
func (m *Model) Number() string {
	m.make()
	return fmt.Sprintf("%d/%d", m.counts[cover.Found], len(m.all))
}

// Open shows the sheet.
func (m *Model) Open() tea.Cmd {
	m.side = nil
	m.Refresh()
	return nil
}

// Refresh takes over changed titles.
func (m *Model) Refresh() {
	m.make()
	if c := m.side; c != nil { // what it is of may have other pictures now
		i := slices.IndexFunc(m.all, func(e entry) bool { return m.keyOf(e) == m.key })
		if i < 0 || m.d.Finder == nil {
			m.side = nil
			return
		}
		m.open(m.all[i])
	}
}

// SetFilter shows only titles that have all the words.
func (m *Model) SetFilter(f string) {
	m.filter, m.side = f, nil
	m.make()
	m.at = 0
	m.note()
}

// Escape goes back: from cropping, from the pictures of one title, from the filter.
func (m *Model) Escape() bool {
	switch {
	case m.side != nil && m.side.crop != nil:
		m.side.crop = nil
	case m.side != nil:
		m.side = nil
	case m.filter != "" || m.lacks:
		m.filter, m.lacks = "", false
		m.make()
	default:
		return false
	}
	return true
}

// Drawing is what paper shows of the panel: the card of the target, with covers.
func (m *Model) Drawing() draw.Request { return m.d.Drawn(draw.KindCard) }

// Title is the title under the cursor.
func (m *Model) Title() (int, bool) {
	if e, ok := m.entry(); ok {
		return e.title, true
	}
	return 0, false
}

func (m *Model) entry() (entry, bool) {
	if m.side != nil {
		return m.side.entry, true
	}
	if m.at < 0 || m.at >= len(m.all) {
		return entry{}, false
	}
	return m.all[m.at], true
}

// rank is the order of the sheet: what is to be done first.
var rank = map[string]int{cover.Refused: 0, cover.Proposed: 1, cover.Missing: 2, cover.Found: 3}

// make makes the sheet again when something has changed.
func (m *Model) make() {
	now := sheetOf{generation: m.d.Generation, of: m.of, filter: m.filter, lacks: m.lacks, fetching: m.d.Fetched}
	known := m.states.Of == m.of && m.states.Generation == m.d.Generation
	if known {
		now.states = m.states.Generation
	}
	if now == m.made && m.all != nil {
		return
	}
	m.made = now
	m.all, m.counts = make([]entry, 0, len(m.d.Scan.Titles)), map[string]int{}
	say := map[string]cover.Outcome{}
	if m.d.Fetched != nil {
		for _, o := range m.d.Fetched.Outcomes {
			if o.Of == m.of && o.State != cover.Found {
				say[fmt.Sprintf("%s %d", o.Title, o.Disc)] = o
			}
		}
	}
	for i := range m.d.Scan.Titles {
		t := &m.d.Scan.Titles[i]
		if m.filter != "" && !state.HasWords(t.Label()+" "+t.ID+" "+t.Platform, m.filter) {
			continue
		}
		discs := 1
		if m.of == "disc" {
			discs = len(t.Discs)
		}
		for disc := range discs {
			e := entry{title: i, disc: disc, status: cover.Missing}
			var own *title.Picture
			for k := range t.Pictures {
				if p := &t.Pictures[k]; p.Of == m.of && p.Disc == disc {
					own = p
				}
			}
			switch {
			case own != nil:
				e.status, e.file, e.from = cover.Found, own.File, own.From
			case m.none(t, disc):
				e.status, e.from, e.say = cover.Found, "chosen by hand", "none, by choice"
			default:
				if o, has := m.states.States[[2]int{i, disc}]; known && has && o.State != cover.Found {
					e.status, e.from, e.say, e.file = o.State, o.From, o.Say, o.Proposal
				}
				number := 0
				if t.Of > 1 {
					number = t.Discs[disc].Number
				}
				if o := say[fmt.Sprintf("%s %d", t.Key, number)]; e.status == cover.Missing && o.Say != "" {
					e.say = o.Say
				}
			}
			if m.lacks && e.status == cover.Found {
				continue
			}
			m.all = append(m.all, e)
			m.counts[e.status]++
		}
	}
	slices.SortStableFunc(m.all, func(a, b entry) int { return rank[a.status] - rank[b.status] })
	if m.at > 0 { // at the top, it stays there: what is to be done first may become known only now
		if i := slices.IndexFunc(m.all, func(e entry) bool { return m.keyOf(e) == m.key }); i >= 0 && m.key != "" {
			m.at = i
		}
	}
	m.at = max(0, min(m.at, len(m.all)-1))
	m.note()
}

// none reports whether the user wants no such picture.
func (m *Model) none(t *title.Title, disc int) bool {
	return slices.ContainsFunc(t.Discs[disc].Chosen, func(c title.Chosen) bool { return c.Of == m.of && c.None })
}

func (m *Model) keyOf(e entry) string {
	return fmt.Sprintf("%s %d", m.d.Scan.Titles[e.title].Key, e.disc)
}

func (m *Model) note() {
	m.key = ""
	if m.at < len(m.all) && len(m.all) > 0 {
		m.key = m.keyOf(m.all[m.at])
	}
}

// move moves the cursor on the sheet.
func (m *Model) move(by int) {
	m.at = max(0, min(m.at+by, len(m.all)-1))
	m.note()
}

// scroll brings the picture under the cursor into the window.
func (m *Model) scroll() {
	g := &m.grid
	m.rows.Resize((len(m.all)+g.across-1)/g.across, g.visible)
	m.rows.Cursor = m.at / g.across
	m.rows.Move(0)
}

// Actions are the keys of the panel.
func (m *Model) Actions() []state.Action {
	switch {
	case m.side != nil && m.side.crop != nil:
		return m.cropActions()
	case m.side != nil:
		return m.choiceActions()
	}
	fetch, row := "fetch what is missing", max(1, m.grid.across)
	if m.d.Fetching != nil {
		fetch = "stop fetching"
	}
	e, some := m.entry()
	asks := len(m.d.Bench.Covers.Servers) > 0
	return []state.Action{
		state.Do("enter", "compare", state.Just(m.compare)).
			Saying("see the pictures found for the title: choose one, crop it, or none").When(some),
		state.Do("f", fetch, func() tea.Cmd { return m.d.FetchCovers(m.shown(), false) }).
			Saying("ask the bench's servers for the pictures missing here; again: stop").When(asks),
		state.Do("F", "fetch again", func() tea.Cmd { return m.d.FetchCovers(m.shown(), true) }).
			Saying("also ask for what was not there last time, and for changed pictures").When(asks),
		state.Do("m", "missing only", state.Just(func() { m.lacks = !m.lacks; m.make() })).Saying("or all again"),
		state.Do("o", "kind", state.Just(m.nextKind)).Saying("front, disc, screen, logo"),
		state.Do("y", "accept the proposal", m.take).Saying("use the picture with the similar name").
			When(some && e.status == cover.Proposed),
		state.Do("Y", "accept all proposals", m.takeAll).Saying("of what is shown").
			When(m.counts[cover.Proposed] > 0),
		state.Do("n", "none", func() tea.Cmd { return m.choose(title.Chosen{Of: m.of, None: true}) }).
			Saying("the title goes without this picture").When(some),
		state.Do("a", "add a folder", state.Just(m.d.AskCoverFolder)).Saying("with pictures of yours"),
		state.Do("A", "add a server", state.Just(m.d.AskCoverServer)).Saying("that has pictures"),
		state.Do("b", "budget", state.Just(func() { m.d.AskCoverBudget(m.d.Target) })).
			Saying("how much space covers may use on this target"),
		state.Do("t", "carry stick", state.Just(func() { m.d.AskCarry(m.d.Target) })).
			Saying("a stick with only the covers of this target, to be merged at the console"),
		state.Do("up k", "up", state.Just(func() { m.move(-row) })),
		state.Do("down j", "down", state.Just(func() { m.move(row) })),
		state.Do("left h", "left", state.Just(func() { m.move(-1) })),
		state.Do("right l", "right", state.Just(func() { m.move(1) })),
		state.Do("pgup ctrl+b", "a screen up", state.Just(func() { m.move(-row * max(1, m.grid.visible)) })),
		state.Do("pgdown ctrl+f", "a screen down", state.Just(func() { m.move(row * max(1, m.grid.visible)) })),
		state.Do("home g", "to the top", state.Just(func() { m.move(-len(m.all)) })),
		state.Do("end G", "to the bottom", state.Just(func() { m.move(len(m.all)) })),
	}
}

// shown are the titles of the sheet, each once.
func (m *Model) shown() (out []int) {
	seen := map[int]bool{}
	for _, e := range m.all {
		if !seen[e.title] {
			seen[e.title] = true
			out = append(out, e.title)
		}
	}
	slices.Sort(out)
	return out
}

func (m *Model) nextKind() {
	k := slices.Index(title.PictureKinds, m.of)
	m.of = title.PictureKinds[(k+1)%len(title.PictureKinds)]
	m.make()
	m.d.Notice = "Pictures of the " + m.of + " are shown."
}

// compare opens the pictures of the entry under the cursor.
func (m *Model) compare() {
	if m.at < len(m.all) && m.d.Finder != nil {
		m.open(m.all[m.at])
		m.side.at = 0
	}
}

func (m *Model) open(e entry) {
	at := 0
	var crop *[4]int
	if m.side != nil && m.keyOf(m.side.entry) == m.keyOf(e) {
		at, crop = m.side.at, m.side.crop
	}
	all := m.d.Finder.Candidates(&m.d.Scan.Titles[e.title], e.disc, m.of)
	m.side = &choice{entry: e, candidates: all, at: max(0, min(at, len(all)-1)), crop: crop}
}

// choose sets the picture of the entry under the cursor.
func (m *Model) choose(c title.Chosen) tea.Cmd {
	e, ok := m.entry()
	if !ok {
		return nil
	}
	return m.d.ChoosePicture(m.d.Scan.Titles[e.title], e.disc, c)
}

// take takes what is proposed for the entry under the cursor.
func (m *Model) take() tea.Cmd {
	e, ok := m.entry()
	if !ok || e.status != cover.Proposed {
		m.d.Notice = "There is no proposal for it: enter shows the pictures found."
		return nil
	}
	return m.choose(title.Chosen{Of: m.of, File: e.file.Path})
}

// takeAll takes all that is proposed.
func (m *Model) takeAll() tea.Cmd {
	var all []entry
	for _, e := range m.all {
		if e.status == cover.Proposed {
			all = append(all, e)
		}
	}
	if len(all) == 0 {
		m.d.Notice = "There are no proposals here."
		return nil
	}
	return m.d.Fix(size.Count(len(all), "proposal")+" accepted.", func() {
		for _, e := range all {
			t := &m.d.Scan.Titles[e.title]
			d := &t.Discs[e.disc]
			m.d.Bench.Edit(d.Where(t.Among > 1), d.Sign, func(x *title.Edit) {
				x.Choose(title.Chosen{Of: m.of, File: m.d.Bench.Relative(e.file.Path)})
			})
		}
	})
}

func (m *Model) choiceActions() []state.Action {
	c := m.side
	step := func(by int) func() tea.Cmd {
		return state.Just(func() { c.at = max(0, min(c.at+by, len(c.candidates)-1)) })
	}
	return []state.Action{
		state.Do("enter", "choose this one", m.chooseThis),
		state.Do("c", "crop", state.Just(m.crop)).Saying("cut off its edges"),
		state.Do("n", "none", func() tea.Cmd { return m.choose(title.Chosen{Of: m.of, None: true}) }).
			Saying("the title goes without this picture"),
		state.Do("delete backspace", "use what is found", func() tea.Cmd { return m.choose(title.Chosen{Of: m.of}) }).
			Saying("forget the choice"),
		state.Do("p", "choose a file", state.Just(m.askPath)).Saying("any picture on this computer"),
		state.Do("left h", "the one to the left", step(-1)),
		state.Do("right l", "the one to the right", step(1)),
		state.Do("up k", "the title before", state.Just(func() { m.neighbour(-1) })),
		state.Do("down j", "the next title", state.Just(func() { m.neighbour(1) })),
	}
}

// neighbour opens the pictures of another title of the sheet.
func (m *Model) neighbour(by int) {
	m.side = nil
	m.move(by)
	m.compare()
}

func (m *Model) chooseThis() tea.Cmd {
	c := m.side
	if c.at >= len(c.candidates) {
		m.d.Notice = "There is no picture to choose: p chooses a file, f in the contact sheet downloads."
		return nil
	}
	p := &c.candidates[c.at]
	if p.Bad != "" {
		m.d.Notice = "This picture cannot be used: " + p.Bad + "."
		return nil
	}
	if p.File.Entry != "" { // it lies in the game itself
		if c.at == 0 {
			return m.choose(title.Chosen{Of: m.of})
		}
		m.d.Notice = "The picture inside the game is used only when no other is found: r forgets the choice."
		return nil
	}
	return m.choose(title.Chosen{Of: m.of, File: p.File.Path, Crop: p.Crop})
}

func (m *Model) askPath() {
	m.d.Ask(state.Question{Prompt: "Picture: ", Hint: "path of a picture on this computer: " +
		strings.Join(picture.Extensions, " "), Done: func(answer string) tea.Cmd {
		if answer == "" {
			return nil
		}
		file, err := cover.Usable(state.Expand(answer))
		if err != nil {
			m.d.Notice = state.Sentence(err.Error())
			return nil
		}
		return m.choose(title.Chosen{Of: m.of, File: file})
	}})
}

// crop begins to cut something off the picture under the cursor.
func (m *Model) crop() {
	c := m.side
	if c.at >= len(c.candidates) || c.candidates[c.at].Bad != "" {
		m.d.Notice = "There is no picture to crop."
		return
	}
	was := c.candidates[c.at].Crop
	if c.at == 0 {
		for _, chosen := range m.d.Scan.Titles[c.entry.title].Discs[c.entry.disc].Chosen {
			if chosen.Of == m.of {
				was = chosen.Crop
			}
		}
	}
	c.crop = &was
}

// cropStep is how much is cut off with one key, in thousandths.
const cropStep = 20

func (m *Model) cropActions() []state.Action {
	c := m.side
	cut := func(side, by int) func() tea.Cmd {
		return state.Just(func() {
			next := *c.crop
			next[side] = max(0, next[side]+by)
			if next[0]+next[2] <= 900 && next[1]+next[3] <= 900 {
				*c.crop = next
			}
		})
	}
	return []state.Action{
		state.Do("enter", "keep it so", m.keepCrop),
		state.Do("delete backspace", "the whole picture", state.Just(func() { *c.crop = [4]int{} })),
		state.Do("right l", "cut off at the left", cut(0, cropStep)),
		state.Do("left h", "cut off at the right", cut(2, cropStep)),
		state.Do("down j", "cut off at the top", cut(1, cropStep)),
		state.Do("up k", "cut off at the bottom", cut(3, cropStep)),
		state.Do("shift+right", "give back at the left", cut(0, -cropStep)),
		state.Do("shift+left", "give back at the right", cut(2, -cropStep)),
		state.Do("shift+down", "give back at the top", cut(1, -cropStep)),
		state.Do("shift+up", "give back at the bottom", cut(3, -cropStep)),
	}
}

func (m *Model) keepCrop() tea.Cmd {
	c := m.side
	p := &c.candidates[c.at]
	choice := title.Chosen{Of: m.of, Crop: *c.crop}
	if p.File.Entry == "" && (c.at > 0 || p.Source == cover.ByHand) {
		choice.File = p.File.Path
	}
	if c.at > 0 && p.File.Entry != "" {
		m.d.Notice = "A picture inside the game can be cropped only while it is the one in use."
		return nil
	}
	c.crop = nil
	return m.choose(choice)
}

// Click moves the cursor to the picture that was clicked; a second click compares.
func (m *Model) Click(x, y int) tea.Cmd {
	if c := m.side; c != nil {
		if n := len(c.candidates); n > 0 && m.grid.across > 0 {
			c.at = max(0, min(c.first(m.grid.across)+x/max(1, m.grid.wide), n-1))
		}
		return nil
	}
	g := m.grid
	if g.across == 0 || y < g.top || x/g.wide >= g.across {
		return nil
	}
	i := (m.rows.Top+(y-g.top)/g.high)*g.across + x/g.wide
	if i >= len(m.all) {
		return nil
	}
	if i == m.at {
		m.compare()
		return nil
	}
	m.at = i
	m.note()
	return nil
}

// first is the first of the candidates that are shown.
func (c *choice) first(shown int) int { return max(0, min(c.at-shown/2, len(c.candidates)-shown)) }

// Wheel scrolls.
func (m *Model) Wheel(by int) {
	if m.side != nil {
		m.side.at = max(0, min(m.side.at+by/3, len(m.side.candidates)-1))
		return
	}
	row := 1
	if by < 0 {
		row = -1
	}
	m.move(row * max(1, m.grid.across))
}

// Work has the pictures that are shown looked at.
func (m *Model) Work() tea.Cmd {
	if c := m.side; c != nil {
		var all []tea.Cmd
		for i := c.first(max(1, m.grid.across)); i < len(c.candidates) && i < c.first(max(1, m.grid.across))+max(1,
			m.grid.across); i++ {
			p := &c.candidates[i]
			key := state.PictureKey(&p.File)
			if p.Bad != "" || m.asked[key] {
				continue
			}
			m.asked[key] = true
			all = append(all, m.d.Large(p.File), m.d.LookAtPictures([]title.File{p.File}))
		}
		return tea.Batch(all...)
	}
	var states tea.Cmd
	if now := [2]any{m.d.Generation, m.of}; m.d.Finder != nil && m.askedFor != now {
		m.askedFor = now
		states = m.d.CoverStates(m.of)
	}
	m.make()
	if m.grid.across == 0 { // nothing was drawn yet: as many as a usual window shows
		m.grid.across, m.grid.visible = 9, 3
	}
	m.scroll()
	var files []title.File
	from := m.rows.Top * m.grid.across
	for i := from; i < min(len(m.all), from+m.grid.across*(m.grid.visible+1)); i++ {
		if e := &m.all[i]; e.file.Path != "" {
			files = append(files, e.file)
		}
	}
	return tea.Batch(states, m.d.LookAtPictures(files))
}

// Update takes over what is known of titles without a picture, and pictures in large.
func (m *Model) Update(msg tea.Msg, _ bool) (t state.Taken, ok bool) {
	switch msg := msg.(type) {
	case state.CoverStatesMsg:
		m.states = msg
		m.make()
	case state.LargeMsg:
		m.setLarge(msg)
	default:
		return t, false
	}
	return t, true
}

// mostLarge is how many large pictures are kept.
const mostLarge = 24

// setLarge takes over a picture in large.
func (m *Model) setLarge(msg state.LargeMsg) {
	if len(m.larges) >= mostLarge {
		clear(m.larges)
		clear(m.asked)
	}
	m.asked[msg.Key] = true
	m.larges[msg.Key] = large{msg.Picture, msg.Err}
}
