package state

import (
	"cmp"
	"fmt"
	"image/color"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/filter"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/style"
)

// TitleRows is the list of titles, grouped by platform, around which Scan and
// Fit are made. Some of its rows are headings, where the cursor does not rest.
type TitleRows struct {
	List scroll.List

	filter string
	asked  filter.Filter
	texts  []string // of the titles, to find words in
	known  int      // the titles that the texts are of
	order  int      // index in orders
	orders []order
	stage  string           // under which the order is kept, "" for nowhere
	only   func(i int) bool // titles that it does not hold for are left out; nil keeps all
	hide   func(i int) bool // titles that are not shown unless they are looked for; nil for none
	hidden int
	rows   []row
	titles int // titles shown
	// placed reports what holds for a title at the target that is shown; nil where none is.
	placed func(i int) filter.Placed
	of     *State
	made   string // what the rows were made from
}

// row is a title, or the heading of a platform or one that is built into a console when title is negative.
type row struct {
	title   int
	heading string
	count   int // of titles under the heading
	builtIn *BuiltIn
}

// NewTitleRows lists the titles of a desk.
func NewTitleRows(d *State) *TitleRows {
	r := &TitleRows{of: d, orders: orders}
	r.List.Stops = func(i int) bool {
		return i < len(r.rows) && (r.rows[i].title >= 0 || r.rows[i].builtIn != nil && r.rows[i].heading == "")
	}
	return r
}

// SetFilter shows only titles that have all the words.
func (r *TitleRows) SetFilter(f string) {
	r.filter = f
	r.asked = filter.Parse(f)
	was := r.made
	r.Refresh()
	if r.made != was { // the title that the cursor was on is not shown
		r.List.Home()
		r.note()
	}
}

// Trouble is what of the filter cannot be understood, "" for nothing.
func (r *TitleRows) Trouble() string {
	if r.asked.Trouble == "" && r.asked.Placed && r.placed == nil {
		return strings.Join(append(slices.Clone(filter.PlacedFields), filter.PlacedStates...), ", ") +
			" belong to a target: use them in Fit"
	}
	return r.asked.Trouble
}

// AtTarget has titles seen at the target that is shown, so that they can be found and ordered by what holds
// there.
func (r *TitleRows) AtTarget() {
	r.orders = append(slices.Clone(r.orders), placedOrders...)
	r.placed = func(i int) filter.Placed {
		d := r.of
		if d.Target >= len(d.Targets) {
			return filter.Placed{}
		}
		v, chosen, ok := d.Verdict(d.Target, i)
		if !ok {
			return filter.Placed{}
		}
		key := d.Scan.Titles[i].Key
		return filter.Placed{Verdict: v.Word(), Goes: v.Kind.Goes(), Wanted: chosen, Favourite: d.Bench.Favours(key),
			Priority: d.Bench.Priorities[key], Minutes: d.Targets[d.Target].Survey.Time(i).Middle().Minutes()}
	}
}

// orders are those in which titles can be listed. Without a comparison, they are grouped by platform.
var orders = []order{
	{name: "by platform"},
	{name: "worst first", less: func(a, b *title.Title) int { return grade(b) - grade(a) }},
	{name: "largest first", less: func(a, b *title.Title) int { return cmp.Compare(b.Size(), a.Size()) }},
	{name: "by name", less: func(a, b *title.Title) int {
		return strings.Compare(strings.ToLower(a.Label()), strings.ToLower(b.Label()))
	}},
	{name: "by ID", less: func(a, b *title.Title) int {
		return cmp.Or(cmp.Compare(len(b.ID)/64+min(1, len(b.ID)), len(a.ID)/64+min(1, len(a.ID))),
			strings.Compare(a.ID, b.ID))
	}},
	{name: "newest first", less: func(a,
		b *title.Title) int {
		return b.Discs[0].File.Modified.Compare(a.Discs[0].File.Modified)
	}},
}

// order is one in which titles can be listed. Without a comparison, they are grouped by platform.
type order struct {
	name string
	less func(a, b *title.Title) int
	// at is what titles are compared by that holds at the target that is shown, the largest first.
	at func(d *State, i int) int64
}

// placedOrders are those by what holds at the target that is shown.
var placedOrders = []order{
	{name: "by verdict", at: func(d *State, i int) int64 { // what does not go comes first
		v, _, _ := d.Verdict(d.Target, i)
		return int64(v.Kind)
	}},
	{name: "most space first", at: func(d *State, i int) int64 {
		v, _, _ := d.Verdict(d.Target, i)
		return v.Space
	}},
	{name: "highest priority first", at: func(d *State, i int) int64 {
		_, wanted, _ := d.Verdict(d.Target, i)
		return 2*int64(d.Bench.Rank(d.Scan.Titles[i].Key)) + int64(boolInt(wanted))
	}},
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// grade is how bad the worst finding of a title is.
func grade(t *title.Title) (worst int) {
	for i := range t.Findings {
		worst = max(worst, map[title.Grade]int{title.Note: 1, title.Suspicion: 2, title.Fault: 3}[t.Findings[i].Grade])
	}
	return worst
}

// Kept has the order of the list kept on the bench, under the name of its stage.
func (r *TitleRows) Kept(stage string) {
	r.stage = stage
	if i := slices.IndexFunc(r.orders, func(o order) bool { return o.name == r.of.Bench.Orders[stage] }); i >= 0 {
		r.order = i
	}
}

// NextOrder lists the titles in another order, keeps it on the bench, and reports which.
func (r *TitleRows) NextOrder() tea.Cmd {
	r.order = (r.order + 1) % len(r.orders)
	name := r.orders[r.order].name
	defer func() { r.of.Notice = "Titles are listed " + name + "." }()
	var cmd tea.Cmd
	if r.of.Bench.ReadOnly() == "" && r.stage != "" {
		kept := name
		if r.order == 0 {
			kept = ""
		}
		r.of.Bench.SetOrder(r.stage, kept)
		cmd = r.of.save()
	}
	r.Refresh()
	r.List.Home()
	r.note()
	return cmd
}

// Narrow shows only titles that the function holds for, or all again when it is
// called while the list is narrow.
func (r *TitleRows) Narrow(only func(i int) bool) {
	if r.only != nil {
		only = nil
	}
	r.only = only
	r.Refresh()
}

// Hide leaves titles out that the function holds for, unless they are looked for.
func (r *TitleRows) Hide(hide func(i int) bool) { r.hide = hide }

// Hidden counts the titles that are left out by [TitleRows.Hide].
func (r *TitleRows) Hidden() int { return r.hidden }

// Narrowed reports whether titles are left out.
func (r *TitleRows) Narrowed() bool { return r.only != nil || r.filter != "" }

// Escape shows all titles again; it reports whether some were left out.
func (r *TitleRows) Escape() bool {
	had := r.Narrowed()
	r.only, r.filter, r.asked = nil, "", filter.Filter{}
	r.Refresh()
	return had
}

// Wheel scrolls.
func (r *TitleRows) Wheel(by int) { r.List.Move(by) }

// Refresh makes the rows again, and keeps the cursor on its title where that is
// still shown.
func (r *TitleRows) Refresh() {
	at := ""
	if !r.of.Touched {
		r.List.Home()
	} else if i, ok := r.Title(); ok && i < len(r.of.Scan.Titles) {
		at = r.made
	}
	r.rows, r.titles, r.hidden = r.rows[:0], 0, 0
	heading := -1
	cursor := -1
	for _, i := range r.listed() {
		t := &r.of.Scan.Titles[i]
		if (!r.asked.Empty() && !r.asked.MatchAt(t, r.texts[i], r.at(i))) || (r.only != nil && !r.only(i)) {
			continue
		}
		if r.hide != nil && r.filter == "" && r.hide(i) {
			r.hidden++
			continue
		}
		if group := r.group(t); heading < 0 || r.rows[heading].heading != group {
			heading = len(r.rows)
			r.rows = append(r.rows, row{title: -1, heading: group})
		}
		r.rows[heading].count++
		r.titles++
		if at != "" && t.Key == at {
			cursor = len(r.rows)
		}
		r.rows = append(r.rows, row{title: i})
	}
	r.addBuiltIn()
	if cursor >= 0 {
		r.List.Cursor = cursor
	}
	r.List.Resize(len(r.rows), r.height())
	r.note()
}

// listed are the titles in the order that was asked for; with it, the texts for a filter are made
// where they are needed.
func (r *TitleRows) listed() []int {
	all := r.of.Scan.Titles
	if !r.asked.Empty() && (r.known != r.of.Generation || len(r.texts) != len(all)) {
		r.texts, r.known = make([]string, len(all)), r.of.Generation
		for i := range all {
			r.texts[i] = filter.Text(&all[i])
		}
	}
	out := make([]int, len(all))
	for i := range out {
		out[i] = i
	}
	switch o := &r.orders[r.order]; {
	case o.less != nil:
		slices.SortStableFunc(out, func(a, b int) int { return o.less(&all[a], &all[b]) })
	case o.at != nil && r.of.Target < len(r.of.Targets):
		keys := make([]int64, len(all)) // each is worked out once
		for i := range keys {
			keys[i] = o.at(r.of, i)
		}
		slices.SortStableFunc(out, func(a, b int) int { return cmp.Compare(keys[b], keys[a]) })
	}
	return out
}

// at is what holds for a title at the target that is shown.
func (r *TitleRows) at(i int) filter.Placed {
	if r.placed == nil || !r.asked.Placed {
		return filter.Placed{}
	}
	return r.placed(i)
}

// group is the heading that a title stands under.
func (r *TitleRows) group(t *title.Title) string {
	if r.order == 0 {
		return t.Platform
	}
	return ordered
}

// ordered is the one heading of lists that are not grouped by platform.
const ordered = "\x00"

func (r *TitleRows) height() int {
	from, to := r.List.Window()
	return max(1, to-from)
}

// note remembers which title the cursor is on.
func (r *TitleRows) note() {
	r.made = ""
	if i, ok := r.Title(); ok {
		r.made = r.of.Scan.Titles[i].Key
	}
}

// Title is the index of the title under the cursor.
func (r *TitleRows) Title() (i int, ok bool) {
	c := r.List.Cursor
	if c < 0 || c >= len(r.rows) || r.rows[c].title < 0 || r.rows[c].title >= len(r.of.Scan.Titles) {
		return 0, false
	}
	return r.rows[c].title, true
}

// Select puts the cursor on a title, which is shown whatever the list was narrowed to.
func (r *TitleRows) Select(key string) {
	r.of.Touched = true
	r.only = nil
	r.SetFilter("")
	for i, row := range r.rows {
		if row.title >= 0 && r.of.Scan.Titles[row.title].Key == key {
			r.List.Cursor = i
			r.List.Move(0)
			r.note()
		}
	}
}

// Platform lists the titles under the same heading as the cursor.
func (r *TitleRows) Platform() []int {
	c := min(r.List.Cursor, len(r.rows)-1)
	for c >= 0 && r.rows[c].title >= 0 {
		c--
	}
	var out []int
	for c++; c < len(r.rows) && r.rows[c].title >= 0; c++ {
		out = append(out, r.rows[c].title)
	}
	return out
}

// All lists the titles that are shown, in their order.
func (r *TitleRows) All() (out []int) {
	for _, x := range r.rows {
		if x.title >= 0 {
			out = append(out, x.title)
		}
	}
	return out
}

// Shown counts the titles in the list.
func (r *TitleRows) Shown() int { return r.titles }

// Draw draws the rows in w by h cells; line draws one title, and own one that is built into a console.
func (r *TitleRows) Draw(t *style.Theme, w, h int, line func(title int, cursor bool) string,
	own func(b *BuiltIn, cursor bool) string) []string {
	r.List.Resize(len(r.rows), h)
	r.note()
	from, to := r.List.Window()
	out := make([]string, 0, h)
	for i := from; i < to; i++ {
		if b := r.rows[i].builtIn; b != nil && r.rows[i].heading == "" {
			out = append(out, own(b, i == r.List.Cursor))
			continue
		}
		if r.rows[i].title < 0 {
			out = append(out, r.heading(t, w, r.rows[i]))
			continue
		}
		out = append(out, line(r.rows[i].title, i == r.List.Cursor))
	}
	return t.Block(out, w, h)
}

func (r *TitleRows) heading(t *style.Theme, w int, h row) string {
	name := "UNKNOWN"
	if h.builtIn != nil {
		return t.Row(w, false, style.Cell{Text: fmt.Sprintf("%s  %s built in", strings.ToUpper(h.heading),
			size.Count(h.count, "title")), Width: w - 2, FG: t.Accent, Bold: true})
	}
	if h.heading == ordered {
		name = strings.ToUpper(r.orders[r.order].name)
	} else if p := r.of.Set.Platform(h.heading); p != nil {
		name = strings.ToUpper(p.Shown)
	}
	text := name + "  " + size.Count(h.count, "title")
	return t.Row(w, false, style.Cell{Text: text, Width: w - 2, FG: t.Accent, Bold: true})
}

// VerdictColour is the colour in which a verdict's word is shown.
func VerdictColour(t *style.Theme, goes, chosen bool) color.Color {
	switch {
	case goes && chosen:
		return t.Good
	case goes:
		return t.Dim
	case chosen:
		return t.Bad
	}
	return t.Warn
}
