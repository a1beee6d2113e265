package state

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/discburn"
	"polytome/internal/core/discs"
	"polytome/internal/core/estimate"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/optical"
	"polytome/internal/size"
)

// DiscAccess is how disc drives are found and opened; the zero value has none.
type DiscAccess struct {
	Devices func() []string
	Open    func(at string) (*optical.Drive, error)
	// Offsets are by how many samples drives give sound too late, by what they call themselves.
	Offsets map[string]int64
}

// A DiscDrive is one as it was looked at.
type DiscDrive struct {
	discs.Facts
	Trouble string // why it cannot be looked at
}

// Words say what lies in the tray, in a clause.
func (x *DiscDrive) Words() string {
	if x.Trouble != "" {
		return x.Trouble
	}
	return x.Facts.Words()
}

// Full reports whether a disc that can be read lies in the tray.
func (x *DiscDrive) Full() bool { return x.Trouble == "" && !x.Blank && x.Blocks > 0 }

// A DiscsMsg is a look at all disc drives.
type DiscsMsg struct {
	ticket
	found []DiscDrive
	same  bool // nothing has changed since
	then  bool // it is looked again in a while
	signs map[string]string
}

// discsEvery is how often it is looked whether a disc was put in or taken out.
const discsEvery = 2 * time.Second

// FindDiscs looks at all disc drives, in the background, and goes on looking whether a disc comes or goes.
func (d *State) FindDiscs() tea.Cmd { return d.lookAtDiscs(true, 0) }

func (d *State) lookAtDiscs(all bool, after time.Duration) tea.Cmd {
	if d.DiscAccess.Open == nil {
		return nil
	}
	mine, ctx := d.begin(-1, listingDiscs)
	access, set, known, before := d.DiscAccess, d.Set, d.discSigns, d.Discs
	var busy []string
	for _, j := range d.DiscJobs {
		if !j.ended {
			busy = append(busy, j.At)
		}
	}
	return func() tea.Msg {
		if after > 0 {
			select {
			case <-time.After(after):
			case <-ctx.Done():
				return DiscsMsg{ticket: mine, same: true}
			}
		}
		m := DiscsMsg{ticket: mine, same: !all, then: true, signs: map[string]string{}}
		for _, at := range access.Devices() {
			k := slices.IndexFunc(before, func(x DiscDrive) bool { return x.At == at })
			if slices.Contains(busy, at) && k >= 0 { // a drive that works is left alone
				m.found, m.signs[at] = append(m.found, before[k]), known[at]
				continue
			}
			x, sign, changed := look(ctx, access, at, set, all || k < 0, known[at])
			if !changed {
				x = before[k]
			}
			m.same = m.same && !changed
			m.found, m.signs[at] = append(m.found, x), sign
		}
		m.same = m.same && len(m.found) == len(before)
		return m
	}
}

// look looks at a drive; in full where something has changed there, or where it is wanted.
func look(ctx context.Context, access DiscAccess, at string, set *loader.Set, full bool, known string) (x DiscDrive,
	sign string, changed bool) {
	x.At = at
	d, err := access.Open(at)
	if err != nil {
		return DiscDrive{Facts: discs.Facts{At: at}, Trouble: err.Error()}, err.Error(), full || known != err.Error()
	}
	defer d.Close() // of which nothing was written
	sign = "ready"
	if err := d.Ready(ctx); err != nil {
		sign = err.Error()
	}
	if !full && !d.Swapped && sign == known {
		return x, sign, false
	}
	if x.Facts, err = discs.FactsOf(ctx, at, d, set); err != nil {
		x.At, x.Trouble = at, err.Error()
	}
	sign = "ready"
	if err := d.Ready(ctx); err != nil {
		sign = err.Error()
	}
	return x, sign, true
}

// SetDiscs takes over a look at the disc drives.
func (d *State) SetDiscs(m DiscsMsg) tea.Cmd {
	if _, ok := d.end(m.ticket); !ok {
		return nil
	}
	if !m.same {
		d.Discs = m.found
	}
	if m.signs != nil {
		d.discSigns = m.signs
	}
	if !m.then || !d.Watch || len(m.found) == 0 {
		return nil
	}
	return d.lookAtDiscs(false, discsEvery)
}

// DiscDrive is the drive at an address; nil for none.
func (d *State) DiscDrive(at string) *DiscDrive {
	for i := range d.Discs {
		if d.Discs[i].At == at {
			return &d.Discs[i]
		}
	}
	return nil
}

// freeDisc is the drive at an address; nil for one that is busy, which is said, and for none.
func (d *State) freeDisc(at string) *DiscDrive {
	if d.DiscJob(at) != nil {
		d.Notice = "The drive is busy: see Run (4)."
		return nil
	}
	return d.DiscDrive(at)
}

// NewDisc is the first drive in which a disc lies that is not among the games; nil for none.
func (d *State) NewDisc() *DiscDrive {
	for i := range d.Discs {
		x := &d.Discs[i]
		if x.Full() && (x.ID != "" || x.Title != "") && !d.Owns(x) && d.DiscJob(x.At) == nil {
			return x
		}
	}
	return nil
}

// Owns reports whether what lies in a drive is among the games.
func (d *State) Owns(x *DiscDrive) bool {
	return slices.ContainsFunc(d.Scan.Titles, func(t title.Title) bool {
		if x.ID == "" {
			return t.Name == x.Title && t.OK()
		}
		return t.OK() && slices.ContainsFunc(t.Discs, func(disc title.Disc) bool { return disc.ID == x.ID })
	})
}

// discFolder is the folder of games into which discs are read; "" for none.
func (d *State) discFolder() string {
	if all := d.Bench.SourcePaths(); len(all) > 0 {
		return all[0]
	}
	return ""
}

// ReadDisc begins to read the disc in a drive into the first folder of games, or a shelf of discs one after the other.
func (d *State) ReadDisc(at string, shelf bool) tea.Cmd {
	x, dir := d.freeDisc(at), d.discFolder()
	switch {
	case x == nil:
		return nil
	case dir == "":
		d.Notice = "There is no folder of games to read into: add one in Games (1) with a."
		return nil
	case x.Trouble != "" || !x.Full() && !shelf:
		d.Notice = Sentence(x.Words())
		return nil
	}
	return d.startDisc(&DiscJob{At: at, Drive: x.Drive, Dir: dir, Shelf: shelf,
		What: strings.TrimSpace(x.ID + " " + x.Title)})
}

// AskBurn asks which title goes on the empty disc in a drive; like is what is proposed.
func (d *State) AskBurn(at, like string) tea.Cmd {
	x := d.freeDisc(at)
	switch {
	case x == nil:
		return nil
	case x.Trouble != "" || x.Room == 0:
		d.Notice = "To burn, put an empty disc in: " + x.Words() + "."
		return nil
	}
	var names []string
	for i := range d.Scan.Titles {
		if t := &d.Scan.Titles[i]; t.OK() && t.Form == title.Image && t.Discs[0].File.Size <= x.Room {
			for k := range t.Discs {
				names = append(names, discName(t, k))
			}
		}
	}
	d.Ask(Question{Prompt: "Burn which title: ", Value: like, Suggestions: names,
		Hint: fmt.Sprintf("its ID or name; it goes on %s", x.Words()),
		Done: func(words string) tea.Cmd { return d.settleBurn(at, words) }})
	return nil
}

// discName is how a disc of a title is meant.
func discName(t *title.Title, k int) string {
	if len(t.Discs) > 1 {
		return fmt.Sprintf("%s, disc %d", t.Name, t.Discs[k].Number)
	}
	return t.Name
}

// discOf is the title, and the disc of it, that words mean.
func discOf(all []title.Title, words string) (*title.Title, int, error) {
	name, number, several := strings.Cut(words, ", disc ")
	t, err := discs.Find(all, strings.TrimSpace(name))
	if err != nil {
		return nil, 0, err
	}
	for k := range t.Discs {
		if !several || fmt.Sprint(t.Discs[k].Number) == strings.TrimSpace(number) {
			return t, k, nil
		}
	}
	return nil, 0, fmt.Errorf("%s has no disc %s", t.Name, number)
}

// discRules are what the console of a title takes, by the loaders of the targets first, then by any.
func (d *State) discRules(t *title.Title) []loader.DiscRule {
	var profiles []*loader.Profile
	for i := range d.Bench.Targets {
		if p, err := d.Set.Profile(d.Bench.Targets[i].Loader); err == nil {
			profiles = append(profiles, p)
		}
	}
	for _, p := range append(profiles, d.Set.Profiles...) {
		if rules, err := discs.Rules(p, t); err == nil {
			return rules
		}
	}
	return nil
}

// settleBurn looks, in the background, how a title would be burnt, and asks whether it shall be.
func (d *State) settleBurn(at, words string) tea.Cmd {
	t, k, err := discOf(d.Scan.Titles, words)
	if err != nil {
		d.Notice = Sentence(err.Error())
		return nil
	}
	copied, rules, access, ctx := *t, d.discRules(t), d.DiscAccess, d.Ctx
	return func() tea.Msg {
		s, tests, err := settle(ctx, access, at, &copied, k, rules)
		return SettledMsg{at: at, t: &copied, disc: k, rules: rules, settled: s, tests: tests, err: err}
	}
}

func settle(ctx context.Context, access DiscAccess, at string, t *title.Title, k int,
	rules []loader.DiscRule) (s discburn.Settled, tests bool, err error) {
	image, err := discs.OfTitle(ctx, t, k, false)
	if err != nil {
		return s, false, err
	}
	defer func() { err = errors.Join(err, image.Close()) }()
	drive, err := access.Open(at)
	if err != nil {
		return s, false, err
	}
	defer func() { err = errors.Join(err, drive.Close()) }()
	tray, err := discburn.Look(ctx, drive)
	if err != nil {
		return s, false, err
	}
	s, err = tray.Settle(discburn.Wanted{Bytes: image.Size, Rules: rules})
	return s, tray.Burner.Tests, err
}

// A SettledMsg is how a title would be burnt.
type SettledMsg struct {
	at      string
	t       *title.Title
	disc    int
	rules   []loader.DiscRule
	settled discburn.Settled
	tests   bool // the drive can go through it with the laser off
	err     error
}

// SetSettled asks whether a title shall be burnt.
func (d *State) SetSettled(m SettledMsg) {
	x := d.DiscDrive(m.at)
	if m.err != nil || x == nil || d.DiscJob(m.at) != nil {
		if m.err != nil {
			d.Notice = "Nothing was written: " + m.err.Error() + "."
		}
		return
	}
	name := discName(m.t, m.disc)
	prompt := fmt.Sprintf("Burn %s to the %s in %s?", name, x.Medium, x.Drive)
	hint := size.Format(m.settled.Blocks * 2048)
	if m.settled.Speed > 0 {
		hint += " at " + m.settled.Speed.String()
		if m.settled.Rate > 0 {
			hint += ", about " + estimate.Words(2*time.Duration(float64(m.settled.Blocks*2048)/float64(m.settled.Rate)*
				float64(time.Second))) + " with reading it back"
		}
	}
	for _, w := range m.settled.Warn {
		hint += "; " + w
	}
	j := &DiscJob{At: m.at, Drive: x.Drive, What: strings.TrimSpace(m.t.Discs[m.disc].ID + " " + name), title: m.t,
		disc: m.disc, rules: m.rules}
	var other []Action
	if m.tests {
		other = append(other, Do("t", "test first", func() tea.Cmd {
			j.test = true
			return d.startDisc(j)
		}).Saying("go through it with the laser off, and then burn it"))
	}
	d.Agree(prompt, hint, func() tea.Cmd { return d.startDisc(j) }, other...)
}

// EjectDisc opens the tray of a drive.
func (d *State) EjectDisc(at string) tea.Cmd {
	if d.freeDisc(at) == nil {
		return nil
	}
	access, ctx := d.DiscAccess, d.Ctx
	return func() tea.Msg {
		x, err := access.Open(at)
		if err == nil {
			err = errors.Join(discs.Eject(ctx, x), x.Close())
		}
		return DiscEjectedMsg{at, err}
	}
}

// A DiscEjectedMsg is that a tray was opened.
type DiscEjectedMsg struct {
	at  string
	err error
}

// SetDiscEjected takes over that a tray was opened.
func (d *State) SetDiscEjected(m DiscEjectedMsg) tea.Cmd {
	d.Notice = "The tray is open."
	if m.err != nil {
		d.Notice = Sentence(m.err.Error())
	}
	return d.FindDiscs()
}
