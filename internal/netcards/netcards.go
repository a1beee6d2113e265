// Package netcards describes the network interfaces of this computer: their addresses, whether something is plugged in,
// and behind which of them another machine is. It reads; it never changes a setting.
package netcards

import (
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// A Card is one interface.
type Card struct {
	Name      string         `json:"name"`
	Hardware  string         `json:"hardware,omitempty"` // its MAC address
	Addresses []netip.Prefix `json:"addresses,omitempty"`
	Up        bool           `json:"up"`
	Plugged   bool           `json:"plugged"` // a cable is in, or a wireless network is joined
	Wireless  bool           `json:"wireless,omitempty"`
	Loopback  bool           `json:"loopback,omitempty"`
	// Virtual is set for one behind which is no hardware, as far as can be reported.
	Virtual bool `json:"virtual,omitempty"`
	// Given is set where the addresses were given to it by the network (DHCP, RFC 2131), as far as can be reported.
	Given bool `json:"given,omitempty"`
	// Megabits is how many a second the cable carries, as both ends agreed; 0 where that is not reported.
	Megabits int `json:"megabits,omitempty"`
}

// Has reports whether the card has an address.
func (c *Card) Has(a netip.Addr) bool {
	return slices.ContainsFunc(c.Addresses, func(p netip.Prefix) bool { return p.Addr() == a })
}

// A System says where the files are by which interfaces are reported; tests have others.
type System struct {
	Root string // "" for the root of this computer
	// Interfaces lists the interfaces.
	Interfaces func() ([]net.Interface, error)
	// Addresses are those of an interface.
	Addresses func(net.Interface) ([]net.Addr, error)
}

// Here is this computer.
var Here = System{Interfaces: net.Interfaces, Addresses: func(i net.Interface) ([]net.Addr, error) { return i.Addrs() }}

// Cards lists the interfaces, those with a cable first, the loopback last.
func (s System) Cards() ([]Card, error) {
	all, err := s.Interfaces()
	if err != nil {
		return nil, err
	}
	var out []Card
	for _, i := range all {
		c := Card{Name: i.Name, Hardware: i.HardwareAddr.String(), Up: i.Flags&net.FlagUp != 0,
			Loopback: i.Flags&net.FlagLoopback != 0}
		c.Plugged = i.Flags&net.FlagRunning != 0
		addrs, err := s.Addresses(i)
		if err != nil {
			continue // it went away meanwhile
		}
		for _, a := range addrs {
			if p, err := netip.ParsePrefix(a.String()); err == nil {
				c.Addresses = append(c.Addresses, netip.PrefixFrom(p.Addr().Unmap(), p.Bits()))
			}
		}
		if _, err := os.Stat(filepath.Join(s.Root, "/sys/class/net", i.Name, "wireless")); err == nil {
			c.Wireless = true
		}
		if _, err := os.Stat(filepath.Join(s.Root, "/sys/class/net", i.Name)); err == nil && !c.Loopback {
			_, err := os.Stat(filepath.Join(s.Root, "/sys/class/net", i.Name, "device"))
			c.Virtual = err != nil
		}
		if speed, err := os.ReadFile(filepath.Join(s.Root, "/sys/class/net", i.Name, "speed")); err == nil {
			if n, err := strconv.Atoi(strings.TrimSpace(string(speed))); err == nil && n > 0 {
				c.Megabits = n
			}
		}
		if carrier, err := os.ReadFile(filepath.Join(s.Root, "/sys/class/net", i.Name, "carrier")); err == nil {
			c.Plugged = strings.TrimSpace(string(carrier)) == "1"
		}
		c.Given = s.given(i)
		out = append(out, c)
	}
	slices.SortStableFunc(out, func(a, b Card) int { return rank(&a) - rank(&b) })
	return out, nil
}

func rank(c *Card) int {
	switch {
	case c.Loopback:
		return 3
	case c.Wireless:
		return 2
	case !c.Plugged:
		return 1
	}
	return 0
}

// given looks for the leases that the usual programs keep.
func (s System) given(i net.Interface) bool {
	for _, pattern := range []string{
		"/run/systemd/netif/leases/" + strconv.Itoa(i.Index),
		"/var/lib/dhcp/dhclient." + i.Name + ".leases", "/var/lib/dhcp/dhclient*" + i.Name + "*.lease*",
		"/var/lib/NetworkManager/*-" + i.Name + ".lease", "/var/lib/dhcpcd/" + i.Name + "*.lease",
	} {
		found, _ := filepath.Glob(filepath.Join(s.Root, pattern))
		for _, f := range found {
			if info, err := os.Stat(f); err == nil && info.Size() > 0 {
				return true
			}
		}
	}
	return false
}

// Behind is the card through which an address is reached: the one in whose network it is, or else the one that the
// system would send by, which is reported without sending anything.
func Behind(cards []Card, a netip.Addr) (c *Card, local netip.Addr, direct bool) {
	best := -1
	for i := range cards {
		for _, p := range cards[i].Addresses {
			if p.Masked().Contains(a) && p.Bits() > best {
				c, local, direct, best = &cards[i], p.Addr(), true, p.Bits()
			}
		}
	}
	if c != nil {
		return c, local, direct
	}
	conn, err := net.Dial("udp", net.JoinHostPort(a.String(), "9")) // connecting a datagram socket sends nothing
	if err != nil {
		return nil, netip.Addr{}, false
	}
	defer conn.Close()
	from, ok := netip.AddrFromSlice(conn.LocalAddr().(*net.UDPAddr).IP)
	if !ok {
		return nil, netip.Addr{}, false
	}
	from = from.Unmap()
	for i := range cards {
		if cards[i].Has(from) {
			return &cards[i], from, false
		}
	}
	return nil, from, false
}
