package state

import (
	"context"
	"fmt"
	"net"
	"path"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/serve"
	"polytome/internal/core/source"
	"polytome/internal/core/survey"
	"polytome/internal/size"
	"polytome/internal/target/served"
)

// A Serving is an export of the bench that consoles read from.
type Serving struct {
	serve.Status
	Name   string // of the target
	Titles map[string]string
	target bench.ID
	stop   context.CancelFunc
}

// Address is the address at which a console finds the export.
func (s *Serving) Address() string { return "nbd://" + s.At + "/" + s.Status.Name }

// Title is the title that a file of the export is of; the file's name where that is not known.
func (s *Serving) Title(file string) string {
	if name := s.Titles[file]; name != "" {
		return name
	}
	return strings.TrimSuffix(path.Base(file), path.Ext(file))
}

// Playing says who plays what, in a clause; "" where nobody is connected.
func (s *Serving) Playing() string {
	var all []string
	for i := range s.Clients {
		c := &s.Clients[i]
		if c.Plays == "" {
			all = append(all, c.From+" is connected")
		} else {
			all = append(all, c.From+" plays "+s.Title(c.Plays))
		}
	}
	return strings.Join(all, ", ")
}

// A ServingMsg is how an export is served now.
type ServingMsg struct {
	of    *Serving
	now   serve.Status
	ended bool
	err   error
	feed  feed[ServingMsg]
}

// statusEvery is how often it is looked who plays.
const statusEvery = 500 * time.Millisecond

// ToggleServing begins to serve target n, or ends it.
func (d *State) ToggleServing(n int) tea.Cmd {
	t := d.At(n)
	switch {
	case t.Serving != nil && len(t.Serving.Clients) > 0:
		s := t.Serving
		d.Agree("End it although "+s.Playing()+"?", "it ends what is being played", Just(s.stop))
		return nil
	case t.Serving != nil:
		t.Serving.stop()
		return nil
	case t.Survey == nil:
		d.Notice = "The target is being read; try again in a moment."
		return nil
	case !t.Survey.Stays():
		d.Notice = fmt.Sprintf("%s gets copies. To have games played from this computer, add the target %sNAME (P).",
			t.Survey.Config.Name, served.Scheme)
		return nil
	}
	return d.serve(n, t.Survey)
}

// serve begins to serve target n.
func (d *State) serve(n int, s *survey.Survey) tea.Cmd {
	on := s.Profile.NetworkDisk(s.Facts.Filesystem.Name)
	if on == nil {
		d.Notice = s.Profile.Shown + " reads no volume over the network."
		return nil
	}
	cards, _ := d.Cards.Cards() // without them, it is the loopback
	at, _ := serve.Address(d.Bench, n, cards)
	name := on.Server.Export
	if name == "" {
		name = "games"
	}
	ctx, cancel := context.WithCancel(d.Ctx)
	x := &Serving{Name: s.Config.Name, Titles: titlesOf(s), target: d.Bench.Targets[n].ID(), stop: cancel,
		Status: serve.Status{Name: name}}
	d.Targets[n].Serving = x
	address, config := d.Bench.Resolve(d.Bench.Targets[n].At), s.Config
	found := newest[ServingMsg]()
	d.running.Add(1)
	found.start(func() {
		defer d.running.Done()
		last, err := serveExport(ctx, address, config, serve.Options{Name: name, Rate: int64(config.Rate),
			Card: serve.Card}, at,
			func(now serve.Status) { found.emit(ServingMsg{of: x, now: now, feed: found}) })
		found.emit(ServingMsg{of: x, now: last, ended: true, err: err, feed: found})
	}, func(err error) ServingMsg { return ServingMsg{of: x, ended: true, err: err, feed: found} })
	return found.next
}

// serveExport serves until the context ends, and tells how now and then.
func serveExport(ctx context.Context, address string, c bench.Target, o serve.Options, at string,
	report func(serve.Status)) (last serve.Status, err error) {
	e, err := served.Take(address, survey.ServedAs(c))
	if err != nil {
		return last, err
	}
	defer e.Leave()
	release, err := e.Hold()
	if err != nil {
		return last, fmt.Errorf("%s is served already: %w", c.Name, err)
	}
	defer release()
	l, err := net.Listen("tcp", at)
	if err != nil {
		return last, fmt.Errorf("%s cannot be served at %s: %w", c.Name, at, err)
	}
	s := serve.New(e, o)
	over := make(chan error, 1)
	go func() { over <- s.Serve(ctx, l) }()
	tick := time.NewTicker(statusEvery)
	defer tick.Stop()
	for {
		select {
		case err := <-over:
			source.CloseReferred()
			return s.Status(), err
		case <-tick.C:
			report(s.Status())
		}
	}
}

// titlesOf are the titles of files.
func titlesOf(s *survey.Survey) map[string]string {
	out := map[string]string{}
	for i := range s.Titles {
		if !s.Sheet.Chosen[i] {
			continue
		}
		items := s.Sheet.Placement(i).Items
		for k := range items {
			out[items[k].Path] = s.Titles[i].Label()
		}
	}
	return out
}

// SetServing takes over how an export is served.
func (d *State) SetServing(m ServingMsg) tea.Cmd {
	n, ok := d.Bench.Find(m.of.target)
	if !ok || d.Targets[n].Serving != m.of {
		m.of.stop() // its target has gone
		return m.feed.next
	}
	before := m.of.Playing()
	m.of.Status = m.now
	if s := d.Targets[n].Survey; s != nil && m.of.Playing() != before {
		m.of.Titles = titlesOf(s)
	}
	if !m.ended {
		return m.feed.next
	}
	d.Targets[n].Serving = nil
	switch {
	case m.err != nil:
		d.Notice = Sentence(m.err.Error())
	default:
		d.Notice = fmt.Sprintf("%s is not served any longer: %s were read.", m.of.Name, size.Format(m.now.Bytes))
	}
	return nil
}

// Playing says who plays what of all exports, in a clause; "" where nobody is connected.
func (d *State) Playing() string {
	var all []string
	for _, t := range d.Targets {
		if t.Serving != nil && t.Serving.Playing() != "" {
			all = append(all, t.Serving.Playing())
		}
	}
	return strings.Join(all, ", ")
}

// relink has games of an export that lie somewhere else now be read from there. Where somebody else serves it, they see
// to that themselves.
func relink(ctx context.Context, at string, s *survey.Survey) {
	if !s.Stays() || s.Away != nil {
		return
	}
	e, err := served.Take(at, survey.ServedAs(s.Config))
	if err != nil {
		return
	}
	_, _ = serve.Relink(ctx, s, e) // it is tried again at the next look
	e.Leave()
}

// WaitsForList says why the console has no list of what is served at target n, and what to do; "" where it has one, or
// needs none.
func (d *State) WaitsForList(n int) (say, way string) {
	s := d.At(n).Survey
	if s == nil || !s.Stays() {
		return "", ""
	}
	if on := s.Profile.NetworkDisk(s.Facts.Filesystem.Name); on == nil || !on.Apart {
		return "", ""
	}
	carriers := serve.Carriers(d.Bench, n)
	if len(carriers) == 0 {
		return "the console reads its list and covers from a stick of its own, which nothing brings there yet",
			"c says where that stick is"
	}
	for _, i := range carriers {
		name := d.Bench.Targets[i].Name
		c := d.Targets[i].Survey
		if c == nil || c.Away != nil {
			return "its list waits for " + name + ", which is not connected", ""
		}
		if p := d.Plan(i); p != nil && !p.Empty() {
			return "its list waits to be brought to " + name, "W writes to " + name + ", or to all"
		}
	}
	return "", ""
}

// AskOwnStick asks where the console reads the lists and covers of what is served at target n.
func (d *State) AskOwnStick(n int) {
	if n >= len(d.Bench.Targets) || d.busy() {
		return
	}
	p := d.Bench.Targets[n]
	if !served.Is(p.At) {
		d.Notice = p.Name + " holds its lists and covers itself."
		return
	}
	if all := serve.Carriers(d.Bench, n); len(all) > 0 {
		d.Notice = d.Bench.Targets[all[0]].Name + " brings its list and covers to the console already."
		return
	}
	d.Ask(Question{Prompt: "Where the console reads its list and covers: ",
		Hint: "its FTP address, such as ftp://192.168.77.2/stick, or a folder",
		Done: func(answer string) tea.Cmd {
			at, _, err := Address(answer)
			if err != nil {
				d.Notice = Sentence(err.Error())
				return nil
			}
			cmd := d.addTarget(bench.Target{Name: "List of " + p.Name, At: at, Loader: p.Loader, Carries: p.Name})
			if cmd != nil {
				d.Notice = fmt.Sprintf("%s is now a target: a run brings the list and the covers there. u undoes.",
					d.Bench.Targets[d.Target].Name)
			}
			return cmd
		}})
}
