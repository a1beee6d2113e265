package desk

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/hookup"
	"polytome/internal/place/remote"
	"polytome/internal/size"
)

// A HookUpMsg is how everything is joined, looked at anew.
type HookUpMsg struct {
	HookUp  *hookup.HookUp
	Err     error
	Tried   bool // the links were tried, too
	changes int
	next    tea.Cmd // tries them
}

// A LinkMsg is the full test of one link.
type LinkMsg struct {
	ticket
	probe *remote.Probe
	err   error
}

// A LookAgainMsg asks to look at the links again.
type LookAgainMsg struct{}

// lookAgain is how often links are looked at while somebody watches.
const lookAgain = 5 * time.Second

// LookAgain has the links looked at again in a while, once: while one look is to come, no second one is asked for.
func (d *Desk) LookAgain() tea.Cmd {
	if d.lookComes {
		return nil
	}
	d.lookComes = true
	return tea.Tick(lookAgain, func(time.Time) tea.Msg { return LookAgainMsg{} })
}

// LookNow takes over that the links are to be looked at again, as long as somebody watches.
func (d *Desk) LookNow(watched bool) tea.Cmd {
	d.lookComes = false
	if !watched {
		return nil
	}
	return tea.Batch(d.LookAtLinks(), d.LookAgain())
}

// LookAtLinks finds out how everything is joined, and tries each link without logging in.
func (d *Desk) LookAtLinks() tea.Cmd {
	if d.looking {
		return nil
	}
	d.looking = true
	b, set, cards, ctx, changes := d.Bench.Clone(), d.Set, d.Cards, d.Ctx, d.changes
	try := func() tea.Msg {
		all, err := cards.Cards()
		if err != nil {
			return HookUpMsg{Err: err, Tried: true, changes: changes}
		}
		h := hookup.Of(b, set, all)
		var wait sync.WaitGroup
		for i := range h.Links {
			l := &h.Links[i]
			wait.Go(func() {
				l.Tried = l.Try(ctx, hookup.Trier{})
				if l.Cable != nil {
					l.CableSet = hookup.CableState(l.Cable, all, l.Tried.State == hookup.Answers || l.Tried.State == hookup.Refused)
				}
			})
		}
		wait.Wait()
		return HookUpMsg{HookUp: h, Tried: true, changes: changes}
	}
	return func() tea.Msg {
		all, err := cards.Cards()
		if err != nil {
			return HookUpMsg{Err: err, changes: changes}
		}
		return HookUpMsg{HookUp: hookup.Of(b, set, all), changes: changes, next: try}
	}
}

// SetHookUp takes over how everything is joined. What a link was found to be stays until it is tried anew.
func (d *Desk) SetHookUp(m HookUpMsg) tea.Cmd {
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
	if before := d.HookUp; before != nil {
		for i := range m.HookUp.Links {
			l := &m.HookUp.Links[i]
			k := slices.IndexFunc(before.Links, func(o hookup.Link) bool { return o.Name == l.Name && o.At == l.At })
			if k < 0 {
				continue
			}
			l.Probe = before.Links[k].Probe
			if !m.Tried {
				l.Tried, l.CableSet = before.Links[k].Tried, before.Links[k].CableSet
			}
			if was := before.Links[k].CableSet; m.Tried && l.Cable != nil && was != l.CableSet {
				switch l.CableSet {
				case hookup.HalfSet:
					d.Notice = fmt.Sprintf("The computer's end of the cable to %s is set. Now the console's.", l.Name)
				case hookup.IsSet:
					d.Notice = fmt.Sprintf("Both ends of the cable to %s are set: it can be filled. Set them back when you are done (b).", l.Name)
					set = append(set, d.SurveyPlace(l.Place))
				}
			}
		}
	}
	d.HookUp = m.HookUp
	return tea.Batch(append(set, m.next)...)
}

// renumber gives what is known of the links the numbers that their places have now, and drops those of places that have gone.
func (d *Desk) renumber() {
	if d.HookUp == nil {
		return
	}
	h := *d.HookUp // it may be drawn just now
	h.Links = nil
	for _, l := range d.HookUp.Links {
		if n, ok := d.Bench.Find(l.ID); ok {
			l.Place = n
			h.Links = append(h.Links, l)
		}
	}
	d.HookUp = &h
}

// Testing reports whether the link of place n is being tested.
func (d *Desk) Testing(n int) bool { return d.goesOn(n, trying) }

// TestLink logs in at a place on another machine, writes a small file, reads it back and removes it.
func (d *Desk) TestLink(n int) tea.Cmd {
	if n >= len(d.Bench.Places) || n >= len(d.Surveys) {
		return nil
	}
	s, p := d.Surveys[n], d.Bench.Places[n]
	if _, ok, _ := remote.Parse(d.Bench.Resolve(p.At), remote.FTP, remote.FTPS, remote.SMB); !ok {
		d.Notice = p.Name + " is at hand: there is no link to test."
		return nil
	}
	if l := d.Lanes[n]; l != nil && l.Running() {
		d.Notice = "A run is going on there: its speed is on 4."
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
	d.Notice = "Testing " + p.Name + ": a small file goes there and back."
	return func() tea.Msg {
		r, err := hookup.Test(ctx, at, p, profile)
		return LinkMsg{mine, r, err}
	}
}

// SetLink takes over the test of a link.
func (d *Desk) SetLink(m LinkMsg) {
	n, ok := d.end(m.ticket)
	if !ok {
		return
	}
	name := d.Bench.Places[n].Name
	if m.err != nil {
		d.Notice = name + ": " + Sentence(m.err.Error())
		return
	}
	d.Notice = fmt.Sprintf("%s answers in %s; sending %s/s, receiving %s/s.", name, Brief(m.probe.RoundTrip), size.Format(m.probe.Up), size.Format(m.probe.Down))
	if len(m.probe.Wrong) > 0 {
		d.Notice += " " + Sentence(m.probe.Wrong[0])
	}
	if d.HookUp == nil {
		return
	}
	for i := range d.HookUp.Links {
		if d.HookUp.Links[i].Place == n {
			l := &d.HookUp.Links[i]
			l.Probe = m.probe
			if l.Tried.State != hookup.Answers { // it does now
				l.Tried = hookup.Tried{State: hookup.Answers, RoundTrip: m.probe.RoundTrip, Say: l.Host + " answers", At: time.Now()}
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

// AskCable asks into which interface the cable to the console of a place goes, and plans its addresses; or gives the cable up that it has.
func (d *Desk) AskCable(n int) tea.Cmd {
	if n >= len(d.Bench.Places) || d.busy() {
		return nil
	}
	p := &d.Bench.Places[n]
	cards, err := d.Cards.Cards()
	if err != nil {
		d.Notice = Sentence(err.Error())
		return nil
	}
	if p.Cable != nil {
		d.Notice = p.Name + " is joined by a cable already: the sheet says what to set, and b gives it up."
		return nil
	}
	id, trial := p.ID(), *p
	if err := hookup.Join(&trial, cards, ""); err != nil {
		d.Notice = Sentence(err.Error())
		return nil
	}
	var names []string
	for _, c := range cards {
		if !c.Loopback {
			names = append(names, c.Name)
		}
	}
	d.Ask(Question{Prompt: "Cable into which interface? ", Hint: strings.Join(names, ", ") + "; nothing but the bench is changed", Value: trial.Cable.Interface, Suggestions: names, Done: func(answer string) tea.Cmd {
		n, ok := d.Bench.Find(id)
		if !ok {
			return nil
		}
		joined := d.Bench.Places[n]
		if err := hookup.Join(&joined, cards, answer); err != nil {
			d.Notice = Sentence(err.Error())
			return nil
		}
		d.remember()
		d.Bench.Places[n] = joined // it is looked at when both ends are set
		d.drop(n, looking)
		d.Surveys[n], d.Trouble[n] = nil, errors.New("the cable is not set up on both ends yet")
		d.Notice = fmt.Sprintf("The sheet says what to set on both ends. %s is %s from now on. u takes it back.", joined.Name, joined.At)
		return tea.Batch(d.changed(), d.LookAtLinks())
	}})
	return nil
}

// PartCable gives the cable of a place up, and says what is still to be set back.
func (d *Desk) PartCable(n int) tea.Cmd {
	if n >= len(d.Bench.Places) || d.busy() {
		return nil
	}
	cards, err := d.Cards.Cards()
	if err != nil {
		d.Notice = Sentence(err.Error())
		return nil
	}
	parted := d.Bench.Places[n]
	left, err := hookup.Part(&parted, cards)
	if err != nil {
		d.Notice = Sentence(err.Error())
		return nil
	}
	say := fmt.Sprintf("%s is %s again. u takes it back.", parted.Name, parted.At)
	if left != "" {
		say = Sentence(left) + " " + say
	}
	return tea.Batch(d.SetUp(n, say, func(p *bench.Place) { *p = parted }), d.LookAtLinks())
}
