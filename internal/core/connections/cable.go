// Package connections is about how this computer, the consoles and the boxes between them are joined: what is plugged
// into what, under which addresses and ports, who must be running, whether a link works, and what to set for a cable
// that joins a console and the computer directly. It changes no setting of the computer: it says what to set, notices
// when that was done, and what to set back.
package connections

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/netcards"
)

// candidates are private networks (RFC 1918) out of the middle of their ranges, where routers seldom are.
func candidates(yield func(netip.Prefix) bool) {
	for n := 77; n < 250; n++ {
		if !yield(netip.PrefixFrom(netip.AddrFrom4([4]byte{192, 168, byte(n), 0}), 24)) {
			return
		}
	}
	for n := 77; n < 250; n++ {
		if !yield(netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 177, byte(n), 0}), 24)) {
			return
		}
	}
	for n := 17; n < 32; n++ {
		if !yield(netip.PrefixFrom(netip.AddrFrom4([4]byte{172, byte(n), 77, 0}), 24)) {
			return
		}
	}
}

// ErrNoSubnet reports that this computer uses every private network that was tried.
var ErrNoSubnet = errors.New("this computer already uses every private network suitable for the cable")

// FreeSubnet picks a private network that no interface of this computer has an address in, nor a network that holds it.
func FreeSubnet(cards []netcards.Card) (netip.Prefix, error) {
	for p := range candidates {
		if !slices.ContainsFunc(cards, func(c netcards.Card) bool {
			return slices.ContainsFunc(c.Addresses, func(a netip.Prefix) bool { return a.Overlaps(p) })
		}) {
			return p, nil
		}
	}
	return netip.Prefix{}, ErrNoSubnet
}

// NewCable is a cable between the console and one of the cards: the named one, or with "" the one that is plugged in
// and has no use yet.
func NewCable(cards []netcards.Card, card string) (*bench.Cable, error) {
	i := slices.IndexFunc(cards, func(c netcards.Card) bool { return c.Name == card })
	switch {
	case card != "" && i < 0:
		return nil, fmt.Errorf("this computer has no interface %s; it has: %s", card, strings.Join(names(cards), ", "))
	case card == "":
		if i = choose(cards); i < 0 {
			return nil, errors.New("this computer has no network port for a cable; plug in an adapter")
		}
	}
	p, err := FreeSubnet(cards)
	if err != nil {
		return nil, err
	}
	one := p.Addr().Next()
	c := &bench.Cable{Interface: cards[i].Name, Computer: netip.PrefixFrom(one, p.Bits()).String(), Console: one.Next().
		String()}
	if cards[i].Given {
		c.Before = append(c.Before, "dhcp")
	}
	for _, a := range cards[i].Addresses {
		if a.Addr().Is4() && !a.Addr().IsLinkLocalUnicast() {
			c.Before = append(c.Before, a.String())
		}
	}
	return c, nil
}

func names(cards []netcards.Card) (out []string) {
	for _, c := range cards {
		if !c.Loopback {
			out = append(out, c.Name)
		}
	}
	return out
}

// choose prefers a card with a cable in it and no address, then one with a cable, then any that is no wireless one.
func choose(cards []netcards.Card) int {
	best, at := 0, -1
	for i, c := range cards {
		n := 1
		switch {
		case c.Loopback || c.Wireless || c.Virtual && len(c.Addresses) == 0:
			continue
		case c.Plugged && len(c.Addresses) == 0:
			n = 4
		case c.Plugged && !c.Given:
			n = 3
		case c.Plugged:
			n = 2
		}
		if n > best {
			best, at = n, i
		}
	}
	return at
}

// Mask is the mask of a prefix in the way in which consoles ask for it: 255.255.255.0.
func Mask(p netip.Prefix) string {
	var b [4]byte
	for i := range 4 {
		n := min(8, max(0, p.Bits()-8*i))
		b[i] = byte(0xFF << (8 - n))
	}
	return netip.AddrFrom4(b).String()
}

// A Set is how far the addresses of a cable are set.
type Set string

const (
	Unset   Set = "unset"    // the computer does not have its address yet
	HalfSet Set = "half set" // the computer has its address; the console does not answer
	IsSet   Set = "set"      // both ends are set
	Gone    Set = "gone"     // the interface is not there
)

// CableState is how far a cable is set. answers says whether the console was heard at its address.
func CableState(c *bench.Cable, cards []netcards.Card, answers bool) Set {
	i := slices.IndexFunc(cards, func(x netcards.Card) bool { return x.Name == c.Interface })
	if i < 0 {
		return Gone
	}
	p, err := netip.ParsePrefix(c.Computer)
	switch {
	case err != nil || !cards[i].Has(p.Addr()):
		return Unset
	case !answers:
		return HalfSet
	}
	return IsSet
}

// SetBack reports whether the computer's end of a cable is as it was before: its address for the cable is gone. It was
// never there while the state was [Unset].
func SetBack(c *bench.Cable, cards []netcards.Card) bool {
	state := CableState(c, cards, false)
	return state == Unset || state == Gone
}
