package connections

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/serve"
	"polytome/internal/core/survey"
	"polytome/internal/drives"
	"polytome/internal/nbd"
	"polytome/internal/netcards"
	"polytome/internal/target/drive"
	"polytome/internal/target/protocols"
	"polytome/internal/target/remote"
	"polytome/internal/target/served"
)

// A Link is one connection from this computer to a target, and on to the console that reads it.
type Link struct {
	Target  int      `json:"-"` // number on the bench
	ID      bench.ID `json:"-"`
	Name    string   `json:"name"`
	At      string   `json:"at"`
	Via     string   `json:"via"`
	Loader  string   `json:"loader"`            // as it is shown
	Console string   `json:"console,omitempty"` // as it is shown
	// Host, Port and Root are of a target on another machine.
	Host string `json:"host,omitempty"`
	Port int    `json:"port,omitempty"`
	Root string `json:"root,omitempty"`
	// Export is what of the host's is the target, where that is a drive which it exports.
	Export string `json:"export,omitempty"`
	// Card is the interface that the host is behind, Local the computer's address there; Direct says that both are in
	// one network.
	Card   string `json:"card,omitempty"`
	Local  string `json:"local,omitempty"`
	Direct bool   `json:"direct,omitempty"`
	// Must is what has to be on or plugged in, and Notes what is worth knowing of the other side, in sentences.
	Must  []string `json:"must"`
	Notes []string `json:"notes,omitempty"`

	Cable    *bench.Cable `json:"cable,omitempty"`
	CableSet Set          `json:"cable-set,omitempty"`
	Tried    Tried        `json:"tried"`
	// Probe is what a full test has shown; nil before one.
	Probe *remote.Probe `json:"probe,omitempty"`

	// Served is where an export of this computer is to be served, "" for any other target.
	Served string `json:"served,omitempty"`

	protocol *remote.Protocol // nil for a target of this computer
	address  remote.Address
}

// Plain says that anyone in the network can read what is sent, "" where nobody can.
func (l *Link) Plain() string {
	if a, err := nbd.ParseAddress(l.At); err == nil && !a.TLS {
		return "plain NBD: anyone in the same network can read and change what is on the disk"
	}
	if l.protocol == nil || !l.protocol.Plain(l.address) {
		return ""
	}
	return "plain " + l.protocol.Word + ": anyone in the same network can read the files and the password"
}

// ReadFrom reports whether the console reads from the target while somebody plays, and does not hold it itself.
func (l *Link) ReadFrom() bool {
	return l.Via == "nbd" && !l.Remote() || l.protocol != nil && l.protocol.Elsewhere
}

// Inside is the folder of another machine that is the target, in words; "" for all of it.
func (l *Link) Inside() string {
	switch {
	case l.Export != "":
		return "export " + l.Export
	case l.Root == "" || l.protocol == nil:
		return ""
	case l.protocol.Share:
		return "share " + l.Root
	}
	return "folder /" + l.Root
}

// Remote reports whether the target is on another machine.
func (l *Link) Remote() bool { return l.Host != "" }

// Joined is how the computer and the target are joined, in a few words.
func (l *Link) Joined() string {
	switch {
	case l.Served != "" && l.Cable != nil:
		return "direct cable"
	case l.Served != "":
		return "games stay on this computer"
	case !l.Remote() && l.Via == "usb":
		return "carried by hand"
	case !l.Remote() && l.Via == "adapter":
		return "disk in an adapter"
	case !l.Remote():
		return "a folder on this computer"
	case l.Cable != nil:
		return "direct cable"
	case l.Card == "lo" || strings.HasPrefix(l.Host, "127.") || l.Host == "localhost" || l.Host == "::1":
		return "this computer itself"
	case l.Direct:
		return "same network"
	case l.Card != "":
		return "through the router"
	}
	return "network"
}

// A Connections is everything that is joined.
type Connections struct {
	Computer string          `json:"computer"`
	System   string          `json:"system"`
	Cards    []netcards.Card `json:"cards"`
	Links    []Link          `json:"links"`
	Reminder []string        `json:"reminder,omitempty"` // what is still to be set back, in sentences
}

// Of is how the targets of a bench are joined to this computer.
func Of(b *bench.Bench, set *loader.Set, cards []netcards.Card) *Connections {
	name, err := os.Hostname()
	if err != nil {
		name = "this computer"
	}
	h := &Connections{Computer: name, System: runtime.GOOS, Cards: cards}
	for n := range b.Targets {
		h.Links = append(h.Links, link(b, n, set, cards))
	}
	for n := range b.Targets {
		c := b.Targets[n].Cable
		if c != nil && CableState(c, cards, false) != Unset && CableState(c, cards, false) != Gone {
			h.Reminder = append(h.Reminder,
				fmt.Sprintf("%s of this computer still has the address %s of the cable to %s: set it back when you "+
					"are done", c.Interface, c.Computer, b.Targets[n].Name))
		}
	}
	return h
}

func link(b *bench.Bench, n int, set *loader.Set, cards []netcards.Card) Link {
	c := &b.Targets[n]
	l := Link{Target: n, ID: c.ID(), Name: c.Name, At: b.Resolve(c.At), Via: c.Via, Loader: c.Loader, Cable: c.Cable,
		Tried: Tried{State: Unknown, Say: "not tried yet"}}
	var p *loader.Profile
	if name := c.Loader; set != nil {
		if loader.IsFile(name) {
			name = b.Resolve(name)
		}
		if known, err := set.Profile(name); err == nil {
			p = known
			l.Loader, l.Console = p.Shown, p.Console
			l.Via = cmp.Or(l.Via, survey.WayTo(l.At, p, c.As))
		}
	}
	console := cmp.Or(l.Console, "console")
	if a, ok := drive.ParseAddress(l.At); ok && a.Network() {
		if x, err := nbd.ParseAddress(a.Drive); err == nil {
			l.Host, l.Port = x.HostPort()
			l.Export = cmp.Or(x.Export, "that has no name")
		}
		l.Must = []string{"the " + console + ", or whatever exports the disk, with its NBD server running on port " +
			fmt.Sprint(l.Port)}
		if p != nil {
			if at := p.OnDrive("", true); at != nil {
				l.Notes = at.Server.Habits
			}
		}
		l.behind(cards)
		return l
	}
	if served.Is(l.At) {
		l.serves(b, n, p, cards)
		return l
	}
	protocol, a, err := protocols.Parse(l.At)
	if protocol == nil || err != nil {
		l.Must = []string{l.localNeeds(console)}
		return l
	}
	l.protocol, l.address = protocol, a
	if c.Carries != "" { // what a loader reads otherwise is not what is carried
		l.Via = protocol.Name
	}
	l.Host, l.Port, l.Root = a.Host, protocol.PortOf(a), a.Root
	var at *loader.Attachment
	if p != nil {
		at = p.Attachment(protocol.Name, "own")
	}
	if a.Port == 0 && at != nil && at.Login.Port > 0 {
		l.Port, l.address.Port = at.Login.Port, at.Login.Port
	}
	l.behind(cards)
	if protocol.Elsewhere {
		l.Must = []string{fmt.Sprintf(
			"the computer or box %s with its share %s: it must be on while filling and while playing", a.Host, a.Root),
			fmt.Sprintf("the %s, which reads from it", console)}
	} else {
		l.Must = []string{fmt.Sprintf("the %s, with its %s server running on port %d", console, protocol.Server,
			l.Port)}
		if at != nil {
			l.Notes = at.Server.Habits
		}
	}
	return l
}

// serves says how an export of this computer is reached.
func (l *Link) serves(b *bench.Bench, n int, p *loader.Profile, cards []netcards.Card) {
	at, why := serve.Address(b, n, cards)
	l.Served, l.Export = at, "games"
	if p != nil {
		if on := p.NetworkDisk(""); on != nil {
			l.Export, l.Notes = cmp.Or(on.Server.Export, l.Export), on.Server.Habits
		}
	}
	if why == "" {
		l.Notes = append(slices.Clone(l.Notes), "only this computer itself finds it there: give the console's cable, "+
			"or the address to listen at")
	}
	l.Must = []string{"this computer, which serves it while somebody plays", "the folders that the games are in"}
	if host, _, err := net.SplitHostPort(at); err == nil {
		if ip, ok := addressOf(host); ok {
			if card, local, _ := netcards.Behind(cards, ip); card != nil {
				l.Card, l.Local = card.Name, local.String()
			}
		}
	}
	if l.Cable != nil {
		l.CableSet = CableState(l.Cable, cards, false)
	}
}

// trySelf asks whether the export is served now. It says nothing, and so counts as nobody who plays.
func (l *Link) trySelf(ctx context.Context) Tried {
	ctx, cancel := context.WithTimeout(ctx, exportPatience)
	defer cancel()
	began := time.Now()
	if err := nbd.Greets(ctx, l.Served); err != nil {
		return Tried{State: Absent, Say: "it is not served at " + l.Served + " now", Do: "serve it: 4, then v",
			At: time.Now()}
	}
	return Tried{State: Answers, Say: "it is served at " + l.Served, RoundTrip: time.Since(began), At: time.Now()}
}

// exportPatience is how long an export of this computer is waited for.
const exportPatience = 3 * time.Second

// behind finds the card that the host is behind.
func (l *Link) behind(cards []netcards.Card) {
	if ip, ok := addressOf(l.Host); ok {
		if card, local, direct := netcards.Behind(cards, ip); card != nil {
			l.Card, l.Local, l.Direct = card.Name, local.String(), direct
		}
	}
	if l.Cable != nil {
		// what the system would send by now is another way
		if l.CableSet = CableState(l.Cable, cards, false); !l.Direct {
			l.Card, l.Local = l.Cable.Interface, ""
		}
	}
}

// localNeeds is what has to be plugged in for a target that this computer has available.
func (l *Link) localNeeds(console string) string {
	what := "the folder " + l.At
	if a, ok := drive.ParseAddress(l.At); ok {
		what = "the drive " + a.Drive
	}
	switch l.Via {
	case "usb":
		return what + ", and then the stick in the " + console
	case "adapter":
		return what + ", in its adapter, and then back in the " + console
	case "nbd":
		return what + ", exported while somebody plays"
	}
	return what + ", which the " + console + " has to reach"
}

// addressOf is a host as an address, when it is one; names are looked up, the first address counts.
func addressOf(host string) (netip.Addr, bool) {
	if a, err := netip.ParseAddr(host); err == nil {
		return a.Unmap(), true
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	all, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil || len(all) == 0 {
		return netip.Addr{}, false
	}
	i := slices.IndexFunc(all, func(a netip.Addr) bool { return a.Unmap().Is4() })
	return all[max(i, 0)].Unmap(), true
}

// Try tries the link of a target, without logging in: whether someone is there, and whether the right server answers.
// A local target is only looked for.
func (l *Link) Try(ctx context.Context, t Trier) Tried {
	if l.Cable != nil && (l.CableSet == Unset || l.CableSet == Gone) { // what is sent would go to strangers
		return Tried{State: NoWay, Say: fmt.Sprintf(
			"this computer is not in the cable's network yet: %s does not have the address %s", l.Cable.Interface,
			l.Cable.Computer), Do: "set it, as the cable sheet shows", At: time.Now()}
	}
	switch {
	case l.Served != "":
		return l.trySelf(ctx)
	case l.Export != "":
		return tryExport(ctx, l.At)
	case l.Remote():
		return t.Try(ctx, l.protocol, l.address)
	}
	file := l.At
	if a, ok := drive.ParseAddress(l.At); ok {
		file = a.Drive
	}
	if _, err := os.Stat(file); err != nil {
		return Tried{State: Absent, Say: file + " does not exist", Do: "plug it in, or fix its path", At: time.Now()}
	}
	return Tried{State: Answers, Say: file + " is connected", At: time.Now()}
}

// tryExport connects to what a console exports, for a moment.
func tryExport(ctx context.Context, address string) Tried {
	began := time.Now()
	d, err := drives.Here.Look(ctx, address)
	took := time.Since(began)
	switch {
	case errors.Is(err, nbd.ErrBusy):
		return Tried{State: Answers, Say: err.Error(), Do: "end the other one that uses it", At: time.Now()}
	case err != nil:
		return Tried{State: Absent, Say: err.Error(), Do: "open the menu on the console that exports it",
			At: time.Now()}
	}
	return Tried{State: Answers, Say: d.Describe() + " answers", RoundTrip: took, At: time.Now()}
}

// NoFlush is what holds for a server that cannot be asked to bring a file to its disk.
const NoFlush = "whenever it decides: after a run, switch the console off from its own menu"

// Test logs in, writes a small file, reads it back and removes it: what the target can, how quick it answers, and how
// fast bytes go over.
func Test(ctx context.Context, at string, c bench.Target, p *loader.Profile) (*remote.Probe, error) {
	began := time.Now()
	to, err := survey.OpenTarget(ctx, at, c, p, false)
	if err != nil {
		return nil, err
	}
	defer to.Close()
	connected := time.Since(began)
	var r *remote.Probe
	if t, ok := to.(remote.Prober); ok {
		r, err = t.Try(ctx)
	} else if a, network := drive.ParseAddress(at); network && a.Network() {
		r = &remote.Probe{Flushes: true}
		err = r.Try(ctx, to)
	} else {
		return nil, fmt.Errorf("%s is local; there is no link to test", at)
	}
	if err != nil {
		return nil, err
	}
	r.Connect = connected
	return r, nil
}
