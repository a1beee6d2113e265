package connections

import (
	"cmp"
	"fmt"
	"net"
	"net/netip"
	"net/url"

	"polytome/internal/core/bench"
	"polytome/internal/nbd"
	"polytome/internal/netcards"
	"polytome/internal/target/protocols"
)

// Join plans a cable of its own between the console of a target and one of the cards, "" for the one that suits best.
// The target has the console's new address from then on. Nothing but the bench is changed.
func Join(p *bench.Target, cards []netcards.Card, card string) error {
	protocol, a, err := protocols.Parse(p.At)
	export, bad := url.Parse(p.At)
	exported := bad == nil && nbd.IsAddress(p.At)
	switch {
	case err != nil:
		return err
	case protocol == nil && !exported:
		return fmt.Errorf("%s is local: only a target over a network can have a direct cable", p.Name)
	case p.Cable != nil:
		return fmt.Errorf("%s already has a direct cable; end that first", p.Name)
	}
	c, err := NewCable(cards, card)
	if err != nil {
		return err
	}
	c.Was = p.At
	p.Cable = c
	if exported {
		export.Host = net.JoinHostPort(c.Console, cmp.Or(export.Port(), nbd.Port))
		p.At = export.String()
		return nil
	}
	a.Host = c.Console
	p.At = a.String()
	return nil
}

// Part gives the cable of a target up: the target has the address again that it had before. It returns what is still to
// be set back on the computer, "" for nothing.
func Part(p *bench.Target, cards []netcards.Card) (left string, err error) {
	c := p.Cable
	if c == nil {
		return "", fmt.Errorf("%s has no direct cable", p.Name)
	}
	if !SetBack(c, cards) {
		left = fmt.Sprintf("%s still has the address %s: set it back", c.Interface, c.Computer)
	}
	if c.Was != "" {
		p.At = c.Was
	}
	p.Cable = nil
	return left, nil
}

// Valid says what is wrong with a cable as a bench has it, nil for nothing.
func Valid(c *bench.Cable) error {
	p, err := netip.ParsePrefix(c.Computer)
	if err != nil {
		return fmt.Errorf("%q is not an address with a prefix length, such as 192.168.77.1/24", c.Computer)
	}
	a, err := netip.ParseAddr(c.Console)
	if err != nil || !p.Masked().Contains(a) || a == p.Addr() {
		return fmt.Errorf("%q is not an address in the network of %s", c.Console, c.Computer)
	}
	return nil
}
