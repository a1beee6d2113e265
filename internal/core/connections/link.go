package connections

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"time"

	"polytome/internal/target/remote"
)

// A State is how a link stands.
type State string

const (
	Unknown State = "not tried"
	Answers State = "answers"
	Refused State = "no server"    // the other side is on, and nothing listens on the port
	Another State = "other server" // something else than was wanted answers on the port
	// the port is taken up, and nothing is said: the server hangs, or serves as many as it can
	Silent State = "silent"
	// the other side is on, and what is sent to the port is lost: a firewall, as a rule
	Blocked  State = "blocked by a firewall"
	Absent   State = "no answer" // nobody is at the address: off, unplugged, or another address
	NoWay    State = "no route"  // this computer has no way to the address
	Nameless State = "no name"   // nobody knows the name
)

// A Tried is what trying a link has shown.
type Tried struct {
	State     State         `json:"state"`
	RoundTrip time.Duration `json:"round-trip,omitempty"` // of a connection
	Say       string        `json:"say"`                  // a sentence
	Do        string        `json:"do,omitempty"`         // what to do about it
	At        time.Time     `json:"at,omitzero"`
}

// A Trier tries links. The zero value uses the network of this computer.
type Trier struct {
	// Dial opens a connection; nil for the system's.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Neighbour reports whether a machine in this network was heard of under an address; known is false where no one
	// can tell. nil for the system's.
	Neighbour func(netip.Addr) (heard, known bool)
	// Wait is how long an answer is waited for; 0 for [Wait].
	Wait time.Duration
}

// Wait is how long an answer is waited for.
const Wait = 4 * time.Second

// others are ports at which many machines answer, or refuse at once: so one that is on is distinguished from one that
// is off.
var others = []int{80, 445, 139, 22, 21, 443, 9}

// Try tries a link: whether someone is at the address, and whether the server that is wanted answers there.
func (t Trier) Try(ctx context.Context, p *remote.Protocol, a remote.Address) Tried {
	r := t.try(ctx, p, a)
	r.At = time.Now()
	return r
}

func (t Trier) try(ctx context.Context, p *remote.Protocol, a remote.Address) Tried {
	wait := t.Wait
	if wait == 0 {
		wait = Wait
	}
	what, port := p.Server, p.PortOf(a)
	began := time.Now()
	c, err := t.dial(ctx, a.Host, port, wait)
	if err == nil {
		defer c.Close()
		took := time.Since(began)
		say := greeted(c, p, wait)
		switch say {
		case "":
		case saysNothing, hangsUp:
			return Tried{State: Silent, RoundTrip: took, Say: fmt.Sprintf("%s takes connections on port %d, and %s",
				a.Host, port, say), Do: "its server hangs, or has reached its limit of connections: wait a moment, " +
				"close other connections to it, or restart it"}
		default:
			return Tried{State: Another, RoundTrip: took,
				Say: fmt.Sprintf("something answers on port %d of %s, but it is not a %s server: %s", port, a.Host,
					what, say), Do: "two programs use that port: give the server another port and put it in the " +
					"address, " +
					"or quit the other program"}
		}
		return Tried{State: Answers, RoundTrip: took, Say: fmt.Sprintf("%s answers on port %d", a.Host, port)}
	}
	var dns *net.DNSError
	var ne net.Error
	switch {
	case errors.As(err, &dns):
		return Tried{State: Nameless, Say: fmt.Sprintf("no computer or console is named %s", a.Host),
			Do: "use its numeric address, as the console shows it"}
	case remote.IsRefused(err):
		return Tried{State: Refused, RoundTrip: time.Since(began),
			Say: fmt.Sprintf("%s is on, but nothing listens on port %d", a.Host, port),
			Do:  fmt.Sprintf("start its %s server, or correct the port in the address", what)}
	case remote.IsNoRoute(err):
		if heard, known := t.neighbour(ctx, a.Host); known && heard {
			return blocked(a, port, what)
		}
		return absent(a)
	case remote.IsNoWay(err):
		return Tried{State: NoWay, Say: fmt.Sprintf(
			"no route to %s: none of this computer's interfaces is in that network", a.Host),
			Do: "check the cable and both addresses; for a cable straight to the console, set up a direct cable"}
	case errors.As(err, &ne) && ne.Timeout() || errors.Is(err, context.DeadlineExceeded):
		if t.someone(ctx, a.Host, port, wait) {
			return blocked(a, port, what)
		}
		return absent(a)
	}
	return Tried{State: Absent, Say: fmt.Sprintf("%s cannot be reached: %v", a.Host, err),
		Do: "check the cable and both addresses"}
}

func blocked(a remote.Address, port int, what string) Tried {
	return Tried{State: Blocked, Say: fmt.Sprintf("%s is on, but its port %d does not answer: a firewall blocks it",
		a.Host, port),
		Do: fmt.Sprintf("allow %s (port %d) in the firewall of %s, of this computer, and of the router", what, port,
			a.Host)}
}

func absent(a remote.Address) Tried {
	return Tried{State: Absent, Say: fmt.Sprintf("no answer from %s", a.Host),
		Do: "switch the console on, wait until its network is up, and compare the address that it shows"}
}

func (t Trier) dial(ctx context.Context, host string, port int, wait time.Duration) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	dial := t.Dial
	if dial == nil {
		dial = (&net.Dialer{}).DialContext
	}
	return dial(ctx, "tcp", net.JoinHostPort(host, strconv.Itoa(port)))
}

// What a server does that greets no one.
const (
	saysNothing = "it says nothing"
	hangsUp     = "it closes the connection at once"
)

// greeted says what is odd in how a server greets, "" for nothing. Some speak first, others wait to be asked.
func greeted(c net.Conn, p *remote.Protocol, wait time.Duration) string {
	if p.Greets == nil {
		_ = c.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
		b := make([]byte, 64)
		if n, _ := c.Read(b); n > 0 {
			return fmt.Sprintf("it begins with %q", printable(string(b[:n])))
		}
		return ""
	}
	_ = c.SetReadDeadline(time.Now().Add(wait))
	line, err := bufio.NewReaderSize(c, 512).ReadString('\n')
	line = printable(strings.TrimSpace(line))
	switch {
	case err != nil && line == "" && errors.Is(err, io.EOF):
		return hangsUp
	case err != nil && line == "":
		return saysNothing
	case !p.Greets(line):
		return fmt.Sprintf("it begins with %q", line)
	}
	return ""
}

// printable cuts a text that a stranger sent to what can be shown.
func printable(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7F || r == '\uFFFD' {
			return '.'
		}
		return r
	}, s)
	if r := []rune(s); len(r) > 40 {
		return string(r[:40])
	}
	return s
}

// someone reports whether a machine is on that did not answer on one port: another of its ports answers or refuses, or
// its hardware was heard of.
func (t Trier) someone(ctx context.Context, host string, not int, wait time.Duration) bool {
	if heard, known := t.neighbour(ctx, host); known && heard {
		return true
	}
	found := make(chan bool, len(others))
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	tries := 0
	for _, port := range others {
		if port == not {
			continue
		}
		tries++
		go func() {
			c, err := t.dial(ctx, host, port, wait/2)
			if err == nil {
				_ = c.Close()
			}
			found <- err == nil || remote.IsRefused(err)
		}()
	}
	for range tries {
		if <-found {
			return true
		}
	}
	return false
}

// neighbour asks whether the hardware of a machine in this network was heard of.
func (t Trier) neighbour(ctx context.Context, host string) (heard, known bool) {
	ask := t.Neighbour
	if ask == nil {
		ask = arp
	}
	if a, err := netip.ParseAddr(host); err == nil {
		return ask(a)
	}
	all, err := net.DefaultResolver.LookupNetIP(ctx, "ip4", host)
	if err != nil || len(all) == 0 {
		return false, false
	}
	return ask(all[0].Unmap())
}

// arp reads the table in which Linux keeps whom it has heard of (RFC 826); elsewhere no one can tell.
func arp(a netip.Addr) (heard, known bool) {
	b, err := os.ReadFile("/proc/net/arp")
	if err != nil {
		return false, false
	}
	return heardIn(string(b), a)
}

// heardIn looks an address up in the table: complete entries have bit 1 set in their flags.
func heardIn(table string, a netip.Addr) (heard, known bool) {
	for line := range strings.Lines(table) {
		f := strings.Fields(line)
		if len(f) < 4 || f[0] != a.String() {
			continue
		}
		flags, err := strconv.ParseUint(strings.TrimPrefix(f[2], "0x"), 16, 32)
		return err == nil && flags&2 != 0, err == nil
	}
	return false, false
}
