package state

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/connections"
	"polytome/internal/nbd"
	"polytome/internal/size"
	"polytome/internal/target/protocols"
	"polytome/internal/target/remote"
)

// A ConnectionsMsg is how everything is joined, looked at again.
type ConnectionsMsg struct {
	Connections *connections.Connections
	Err         error
	Tried       bool // the links were tried, too
	changes     int
	next        tea.Cmd // tries them
}

// A LinkMsg is the full test of one link.
type LinkMsg struct {
	ticket
	probe *remote.Probe
	err   error
}

// A LookAgainMsg asks to look at the links again.
type LookAgainMsg struct{}

// lookAgain is how often links are looked at while someone watches.
const lookAgain = 5 * time.Second

// LookAgain has the links looked at again in a while, once: while one look is to come, no second one is asked for.
func (d *State) LookAgain() tea.Cmd {
	if d.lookComes {
		return nil
	}
	d.lookComes = true
	return tea.Tick(lookAgain, func(time.Time) tea.Msg { return LookAgainMsg{} })
}

// LookNow takes over that the links are to be looked at again, as long as someone watches.
func (d *State) LookNow(watched bool) tea.Cmd {
	d.lookComes = false
	if !watched {
		return nil
	}
	return tea.Batch(d.LookAtLinks(), d.LookAgain())
}

// LookAtLinks finds out how everything is joined, and tries each link without logging in.
func (d *State) LookAtLinks() tea.Cmd {
	if d.looking {
		return nil
	}
	d.looking = true
	b, set, cards, ctx, changes := d.Bench.Clone(), d.Set, d.Cards, d.Ctx, d.changes
	try := func() tea.Msg {
		all, err := cards.Cards()
		if err != nil {
			return ConnectionsMsg{Err: err, Tried: true, changes: changes}
		}
		h := connections.Of(b, set, all)
		var wait sync.WaitGroup
		for i := range h.Links {
			l := &h.Links[i]
			wait.Go(func() {
				l.Tried = l.Try(ctx, connections.Trier{})
				if l.Cable != nil {
					l.CableSet = connections.CableState(l.Cable, all, l.Tried.State == connections.Answers ||
						l.Tried.State == connections.Refused)
				}
			})
		}
		wait.Wait()
		return ConnectionsMsg{Connections: h, Tried: true, changes: changes}
	}
	return func() tea.Msg {
		all, err := cards.Cards()
		if err != nil {
			return ConnectionsMsg{Err: err, changes: changes}
		}
		return ConnectionsMsg{Connections: connections.Of(b, set, all), changes: changes, next: try}
	}
}

// SetConnections takes over how everything is joined. What a link was found to be stays until it is tried again.
func (d *State) SetConnections(m ConnectionsMsg) tea.Cmd {
	if m.Tried || m.Err != nil {
		d.looking = false
	}
	if m.changes != d.changes {
		d.looking = false
		return nil
	}
	if m.Err != nil {
		d.Notice = Sentence(m.Err.Error())
		return nil
	}
	var set []tea.Cmd
	if before := d.Connections; before != nil {
		for i := range m.Connections.Links {
			l := &m.Connections.Links[i]
			k := slices.IndexFunc(before.Links,
				func(o connections.Link) bool { return o.Name == l.Name && o.At == l.At })
			if k < 0 {
				continue
			}
			l.Probe = before.Links[k].Probe
			if !m.Tried {
				l.Tried, l.CableSet = before.Links[k].Tried, before.Links[k].CableSet
			}
			if was := before.Links[k].CableSet; m.Tried && l.Cable != nil && was != l.CableSet {
				switch l.CableSet {
				case connections.HalfSet:
					d.Notice = fmt.Sprintf("This computer's end of the cable to %s is set. Now set the console's.",
						l.Name)
				case connections.IsSet:
					d.Notice = fmt.Sprintf("Both ends of the cable to %s are set: you can fill it. Set them back "+
						"when you are done (b).", l.Name)
					set = append(set, d.SurveyTarget(l.Target))
				}
			}
		}
	}
	d.Connections = m.Connections
	return tea.Batch(append(set, m.next)...)
}

// renumber gives what is known of the links the numbers that their targets have now, and drops those of targets that
// have gone.
func (d *State) renumber() {
	if d.Connections == nil {
		return
	}
	h := *d.Connections // it may be drawn just now
	h.Links = nil
	for _, l := range d.Connections.Links {
		if n, ok := d.Bench.Find(l.ID); ok {
			l.Target = n
			h.Links = append(h.Links, l)
		}
	}
	d.Connections = &h
}

// Testing reports whether the link of target n is being tested.
func (d *State) Testing(n int) bool { return d.goesOn(n, trying) }

// TestLink logs in at a target on another machine, writes a small file, reads it back and removes it.
func (d *State) TestLink(n int) tea.Cmd {
	if n >= len(d.Bench.Targets) || n >= len(d.Targets) {
		return nil
	}
	s, p := d.Targets[n].Survey, d.Bench.Targets[n]
	if at := d.Bench.Resolve(p.At); !protocols.IsRemote(at) && !nbd.IsAddress(at) {
		d.Notice = p.Name + " is local: there is no link to test."
		return nil
	}
	if d.Targets[n].Running() {
		d.Notice = "A run is in progress there: 4 shows its speed."
		return nil
	}
	if d.Testing(n) {
		return nil
	}
	profile, err := d.Set.Profile(p.Loader)
	if s != nil {
		profile, err = s.Profile, nil
	}
	if err != nil {
		d.Notice = Sentence(err.Error())
		return nil
	}
	mine, ctx := d.begin(n, trying)
	at := d.Bench.Resolve(p.At)
	d.Notice = "Testing " + p.Name + ": sending a small file and reading it back."
	return func() tea.Msg {
		r, err := connections.Test(ctx, at, p, profile)
		return LinkMsg{mine, r, err}
	}
}

// SetLink takes over the test of a link.
func (d *State) SetLink(m LinkMsg) {
	n, ok := d.end(m.ticket)
	if !ok {
		return
	}
	name := d.Bench.Targets[n].Name
	if m.err != nil {
		d.Notice = name + ": " + Sentence(m.err.Error())
		return
	}
	d.Notice = fmt.Sprintf("%s answers in %s; sending %s/s, receiving %s/s.", name, Brief(m.probe.RoundTrip),
		size.Format(m.probe.Up), size.Format(m.probe.Down))
	if len(m.probe.Wrong) > 0 {
		d.Notice += " " + Sentence(m.probe.Wrong[0])
	}
	if d.Connections == nil {
		return
	}
	for i := range d.Connections.Links {
		if d.Connections.Links[i].Target == n {
			l := &d.Connections.Links[i]
			l.Probe = m.probe
			if l.Tried.State != connections.Answers { // it does now
				l.Tried = connections.Tried{State: connections.Answers, RoundTrip: m.probe.RoundTrip, Say: l.Host +
					" answers", At: time.Now()}
			}
		}
	}
}

// Brief is a short time in words.
func Brief(t time.Duration) string {
	switch {
	case t < 100*time.Microsecond:
		return "under 0.1 ms"
	case t < time.Millisecond:
		return fmt.Sprintf("%.1f ms", float64(t.Microseconds())/1000)
	case t < time.Second:
		return fmt.Sprintf("%d ms", t.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", t.Seconds())
}

// AskCable asks into which interface the cable to the console of a target goes, and plans its addresses; or gives the
// cable up that it has.
func (d *State) AskCable(n int) tea.Cmd {
	if n >= len(d.Bench.Targets) || d.busy() {
		return nil
	}
	p := &d.Bench.Targets[n]
	cards, err := d.Cards.Cards()
	if err != nil {
		d.Notice = Sentence(err.Error())
		return nil
	}
	if p.Cable != nil {
		d.Notice = p.Name + " already has a direct cable: the sheet shows what to set, and b ends it."
		return nil
	}
	id, trial := p.ID(), *p
	if err := connections.Join(&trial, cards, ""); err != nil {
		d.Notice = Sentence(err.Error())
		return nil
	}
	var names []string
	for _, c := range cards {
		if !c.Loopback {
			names = append(names, c.Name)
		}
	}
	d.Ask(Question{Prompt: "Cable in which interface? ", Hint: strings.Join(names, ", ") +
		"; only the bench is changed", Value: trial.Cable.Interface, Suggestions: names,
		Done: func(answer string) tea.Cmd {
			n, ok := d.Bench.Find(id)
			if !ok {
				return nil
			}
			joined := d.Bench.Targets[n]
			if err := connections.Join(&joined, cards, answer); err != nil {
				d.Notice = Sentence(err.Error())
				return nil
			}
			d.remember()
			d.Bench.Targets[n] = joined // it is looked at when both ends are set
			d.drop(n, looking)
			d.Targets[n].Survey, d.Targets[n].Trouble = nil, errors.New("the cable is not set up at both ends yet")
			d.Notice = fmt.Sprintf("The sheet shows what to set at both ends. %s is now at %s. u undoes.", joined.Name,
				joined.At)
			return tea.Batch(d.changed(), d.LookAtLinks())
		}})
	return nil
}

// PartCable gives the cable of a target up, and says what is still to be set back.
func (d *State) PartCable(n int) tea.Cmd {
	if n >= len(d.Bench.Targets) || d.busy() {
		return nil
	}
	cards, err := d.Cards.Cards()
	if err != nil {
		d.Notice = Sentence(err.Error())
		return nil
	}
	parted := d.Bench.Targets[n]
	left, err := connections.Part(&parted, cards)
	if err != nil {
		d.Notice = Sentence(err.Error())
		return nil
	}
	say := fmt.Sprintf("%s is at %s again. u undoes.", parted.Name, parted.At)
	if left != "" {
		say = Sentence(left) + " " + say
	}
	return tea.Batch(d.SetUp(n, say, func(p *bench.Target) { *p = parted }), d.LookAtLinks())
}
