package cover

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"polytome/internal/core/title"
	"polytome/internal/format/picture"
	"polytome/internal/parallel"
)

// A Need is a picture that is wanted for a disc of a title, or a description.
type Need struct {
	Title int // index
	Disc  int
	Of    string // one of [title.PictureKinds], or about
}

// An Outcome is what became of a need.
type Outcome struct {
	Title string `json:"title"` // its key
	Label string `json:"label"`
	Disc  int    `json:"disc,omitempty"` // its number, where the title has several
	Of    string `json:"of"`
	// State is found, proposed, missing or refused.
	State string `json:"state"`
	// From is where a picture was found, in words, and File which it is.
	From string `json:"from,omitempty"`
	File string `json:"file,omitempty"`
	Say  string `json:"say,omitempty"`
}

const (
	Found    = "found"
	Proposed = "proposed" // one whose name is nearly the same: it is for the user to take it
	Missing  = "missing"
	Refused  = "refused" // there is one, and it cannot be used
)

// A Report is what is known of the pictures of titles.
type Report struct {
	Outcomes []Outcome `json:"outcomes"`
	Found    int       `json:"found"`
	Proposed int       `json:"proposed"`
	Missing  int       `json:"missing"`
	Refused  int       `json:"refused"`
	// Fetched are how many pictures and descriptions were new, Same how many had not changed, Asked how many requests
	// were made, and Bytes how much they brought.
	Fetched int   `json:"fetched"`
	Same    int   `json:"same"`
	Asked   int   `json:"asked"`
	Bytes   int64 `json:"bytes"`
	// Trouble are servers and folders that could not be used, in sentences.
	Trouble []string `json:"trouble,omitempty"`
	Stopped bool     `json:"stopped,omitempty"`
}

// Say tells a report in a sentence.
func (r *Report) Say() string {
	var parts []string
	for _, p := range []struct {
		n    int
		word string
	}{{r.Found, "found"}, {r.Proposed, "proposed"}, {r.Missing, "missing"}, {r.Refused, "refused"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.word))
		}
	}
	if len(parts) == 0 {
		return "No pictures are needed."
	}
	return "Pictures: " + strings.Join(parts, ", ") + "."
}

func (r *Report) add(o Outcome) {
	r.Outcomes = append(r.Outcomes, o)
	switch o.State {
	case Found:
		r.Found++
	case Proposed:
		r.Proposed++
	case Missing:
		r.Missing++
	case Refused:
		r.Refused++
	}
}

// Needs are the pictures that are wanted of titles, by their indexes.
func Needs(titles []title.Title, which []int, kinds Kinds) (out []Need) {
	for _, i := range which {
		for d := range titles[i].Discs {
			for _, of := range kinds(&titles[i]) {
				if d == 0 || of == "disc" {
					out = append(out, Need{i, d, of})
				}
			}
		}
	}
	return out
}

// Report reports what is there for the needs, and asks no one.
func (f *Finder) Report(titles []title.Title, needs []Need) *Report {
	r := &Report{Trouble: slices.Clone(f.Trouble)}
	for _, n := range needs {
		if n.Of != aboutKind {
			r.add(f.outcome(&titles[n.Title], n))
		}
	}
	return r
}

// Outcome reports what is there of one picture.
func (f *Finder) Outcome(t *title.Title, disc int, of string) Outcome {
	return f.outcome(t, Need{Disc: disc, Of: of})
}

func (f *Finder) outcome(t *title.Title, n Need) Outcome {
	o := Outcome{Title: t.Key, Label: t.Label(), Of: n.Of}
	if t.Of > 1 {
		o.Disc = t.Discs[n.Disc].Number
	}
	if p := f.Picture(t, n.Disc, n.Of); p != nil {
		o.State, o.From, o.File = Found, p.From, p.File.Called()
		return o
	}
	for _, c := range t.Discs[n.Disc].Chosen {
		if c.Of == n.Of && c.None {
			o.State, o.From, o.Say = Found, "chosen by hand", "none is wanted"
			return o
		}
	}
	f.each(t, n.Disc, n.Of, func(c *Candidate) bool {
		if c.Bad != "" {
			o.State, o.File, o.Say = Refused, c.File.Called(), c.Bad
		}
		return false
	})
	if o.State == "" {
		for _, s := range f.servers {
			if g, ok := f.store.got(s.want(t, n.Disc, n.Of)); ok && g.State == refused {
				o.State, o.From, o.File, o.Say = Refused, "from "+s.Name, g.URL, g.Say
				break
			}
		}
	}
	if c := f.Propose(t, n.Disc, n.Of); c != nil {
		o.State, o.From, o.File = Proposed, c.From, c.File.Called()
	}
	if o.State == "" {
		o.State = Missing
	}
	return o
}

// Progress is how far fetching has come.
type Progress struct {
	Done, Total int // needs
	Fetched     int // pictures that came
	Now         string
}

// FetchOptions are how servers are asked.
type FetchOptions struct {
	// Again asks again for what came from servers, as far as it has changed, and for what they had not. Without it,
	// what they had not is asked for again after a week.
	Again    bool
	Patience Patience
	// Progress gets how far it has come, for each need that is done; nil for no one. It is named by one goroutine at a
	// time.
	Progress func(Progress)
}

// askAgain is after which time a server is asked again for what it had not.
const askAgain = 7 * 24 * time.Hour

// Fetch asks the user's servers for what is needed and not there, and keeps it. What fails is in the report, and the
// rest goes on. Titles need not be dressed before; afterwards they want to be dressed again.
func (f *Finder) Fetch(ctx context.Context, titles []title.Title, needs []Need, o FetchOptions) *Report {
	if f.store == nil {
		r := f.Report(titles, needs)
		r.Trouble = append(r.Trouble, "there is no folder to store downloads in")
		return r
	}
	hosts := map[string]bool{}
	for _, s := range f.servers {
		hosts[s.host] = true
	}
	w := &fetching{f: f, o: o, total: len(needs), tally: &Report{}}
	workers := 0
	for _, s := range f.servers {
		a := newAsker(s, hosts, o.Patience)
		defer a.close()
		w.askers = append(w.askers, a)
		workers += cap(a.slots)
	}
	next := make(chan Need)
	var all sync.WaitGroup
	for range max(1, min(workers, len(needs))) {
		all.Go(func() {
			for n := range next {
				if ctx.Err() != nil {
					continue
				}
				t := &titles[n.Title]
				// a mistake over one picture
				if err := parallel.Safely(func() error { w.need(ctx, t, n); return nil }); err != nil {
					w.fail(t, n, err.Error())
					w.trouble(fmt.Errorf("%s: %w", t.Label(), err))
				}
			}
		})
	}
	for _, n := range needs {
		if ctx.Err() != nil {
			break
		}
		next <- n
	}
	close(next)
	all.Wait()
	r := f.Report(titles, needs)
	t := w.tally
	r.Fetched, r.Same, r.Asked, r.Bytes, r.Stopped = t.Fetched, t.Same, t.Asked, t.Bytes, ctx.Err() != nil
	for _, a := range w.askers {
		if why := a.trouble(); why != "" {
			r.Trouble = append(r.Trouble, why)
		}
	}
	for k := range r.Outcomes { // what failed this time is no answer that is kept
		if say := w.failed[r.Outcomes[k].Title+" "+r.Outcomes[k].Of]; r.Outcomes[k].State == Missing && say != "" {
			r.Outcomes[k].Say = say
		}
	}
	r.Trouble = append(r.Trouble, t.Trouble...)
	return r
}

// fetching is a fetch under way.
type fetching struct {
	f      *Finder
	o      FetchOptions
	askers []*asker

	mu     sync.Mutex
	done   int
	total  int
	tally  *Report
	failed map[string]string
}

// need asks the servers for one picture, one after another until one has it.
func (w *fetching) need(ctx context.Context, t *title.Title, n Need) {
	defer w.emit(t.Label())
	if n.Of != aboutKind {
		if chosen := t.Discs[n.Disc].Chosen; slices.ContainsFunc(chosen,
			func(c title.Chosen) bool { return c.Of == n.Of && (c.File != "" || c.None) }) {
			return
		}
		if w.before(t, n) {
			return
		}
	}
	for _, a := range w.askers {
		if !a.has(n.Of) {
			continue
		}
		if w.ask(ctx, a, t, n) {
			return
		}
	}
}

// before reports whether a picture is there that is preferred to those of servers, or that came from one and is not
// asked for again.
func (w *fetching) before(t *title.Title, n Need) bool {
	order := w.f.settings.Sources(n.Of)
	if !slices.Contains(order, "servers") {
		return true
	}
	c := w.f.best(t, n.Disc, n.Of)
	if c == nil {
		return false
	}
	if c.Source == "servers" {
		return !w.o.Again
	}
	return slices.Index(order, c.Source) < slices.Index(order, "servers") // what stands behind the servers gives way
}

// ask asks one server, and reports whether it has the picture.
func (w *fetching) ask(ctx context.Context, a *asker, t *title.Title, n Need) bool {
	want := a.want(t, n.Disc, n.Of)
	was, known := w.f.store.got(want)
	if known && !w.o.Again {
		switch {
		case was.State == got:
			return true
		case time.Since(time.Unix(was.At, 0)) < askAgain:
			return false
		}
	}
	paths := a.paths(t, n.Disc, n.Of)
	if a.Index != "" && n.Of != aboutKind {
		x, err := a.list(ctx)
		if err != nil {
			w.trouble(err)
		}
		if x != nil {
			paths = append(x.paths(t, n.Disc, n.Of), paths...)
		}
	}
	no := fetch{Want: want, State: missing, At: time.Now().Unix()}
	for _, p := range paths {
		most := int64(largestPicture)
		if n.Of == aboutKind {
			most = longestAbout
		}
		r, err := a.ask(ctx, p, was, most)
		if ctx.Err() != nil {
			return false
		}
		if !errors.Is(err, errDown) {
			w.count(func(r *Report) { r.Asked++ })
		}
		var answered *answer
		switch {
		case err == nil && r.same:
			was.At = no.At
			w.keep(was)
			w.count(func(r *Report) { r.Same++ })
			return true
		case err == nil:
			g := fetch{Want: want, URL: r.url, ETag: r.etag, Modified: r.modified, Size: int64(len(r.data)), State: got,
				At: no.At}
			if err := w.take(&g, n.Of, r.data); err != nil {
				if errors.Is(err, errUnkept) { // that is no answer of the server's
					w.fail(t, n, err.Error())
					return false
				}
				if no.State == missing {
					no.State, no.URL, no.Say = refused, r.url, err.Error()
				}
				continue
			}
			w.keep(g)
			w.count(func(r *Report) { r.Fetched++; r.Bytes += g.Size })
			return true
		case errors.As(err, &answered) && answered.none:
		case answered != nil && answered.final:
			if no.State == missing {
				no.State, no.URL, no.Say = refused, a.base+p, answered.say
			}
		default: // it may answer another time: nothing is remembered
			w.fail(t, n, fmt.Sprintf("%s: %v", a.Name, err))
			return false
		}
	}
	if known && was.State == got && no.State == missing { // the server has it no more; ours stays
		return true
	}
	w.keep(no)
	return false
}

// errUnkept reports a downloaded picture that could not be stored.
var errUnkept = errors.New("it could not be stored on this computer")

// take looks at what came, and keeps it.
func (w *fetching) take(g *fetch, of string, data []byte) error {
	if of == aboutKind {
		if _, err := parseAbout(data); err != nil {
			return err
		}
		g.Text = string(data)
		return nil
	}
	look, err := lookAt(bytes.NewReader(data))
	if err != nil {
		return err
	}
	s, err := picture.Measure(bytes.NewReader(data))
	if err != nil {
		return err
	}
	g.Ext = "." + s.Format
	if g.Hash, err = w.f.store.keep(data, g.Ext); err != nil {
		w.trouble(fmt.Errorf("storing the download: %w", err))
		return errUnkept
	}
	file := w.f.store.picture(*g)
	w.f.store.putLook(&file, look)
	return nil
}

func (w *fetching) keep(g fetch) {
	if err := w.f.store.put(g); err != nil {
		w.trouble(fmt.Errorf("recording the download: %w", err))
	}
}

func (w *fetching) count(do func(*Report)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	do(w.tally)
}

// trouble notes what is wrong with a server or with this computer, once.
func (w *fetching) trouble(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if say := err.Error(); !slices.Contains(w.tally.Trouble, say) {
		w.tally.Trouble = append(w.tally.Trouble, say)
	}
}

func (w *fetching) fail(t *title.Title, n Need, say string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.failed == nil {
		w.failed = map[string]string{}
	}
	w.failed[t.Key+" "+n.Of] = say
}

func (w *fetching) emit(label string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.done++
	if w.o.Progress != nil {
		w.o.Progress(Progress{Done: w.done, Total: w.total, Fetched: w.tally.Fetched, Now: label})
	}
}
