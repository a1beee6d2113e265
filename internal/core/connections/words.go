package connections

import (
	"fmt"
	"net/netip"
	"strings"

	"polytome/internal/core/bench"
)

// A Sheet is what to set for a direct cable, on both ends, and what to set back afterwards, in sentences.
type Sheet struct {
	Computer []string `json:"computer"`
	Console  []string `json:"console"`
	Then     []string `json:"then"`
	Back     []string `json:"back"`
}

// Systems are the systems for which the steps on the computer are reported, as [runtime.GOOS] names them.
var Systems = []string{"linux", "windows", "darwin"}

// SheetOf says what to set for a cable on a computer with a system; console is how the console is named, and address
// how its target is addressed on the bench from then on.
func SheetOf(c *bench.Cable, system, console, address string) (*Sheet, error) {
	p, err := netip.ParsePrefix(c.Computer)
	if err != nil {
		return nil, fmt.Errorf("%q is not an address with a prefix length, such as 192.168.77.1/24", c.Computer)
	}
	mine, mask := p.Addr().String(), Mask(p)
	s := &Sheet{
		Console: []string{
			fmt.Sprintf("On the %s, in its network settings: leave \"automatic\" (DHCP), and set them by hand",
				console),
			"address " + c.Console, "mask " + mask, "gateway and name server: " + mine + ", or empty if allowed",
		},
		Then: []string{
			fmt.Sprintf("Plug the cable into the %s and into %s of the computer, and wait ten seconds", console,
				c.Interface),
			"The target is " + address + " now",
		},
	}
	was := "it had no address"
	dhcp := false
	var fixed []string
	for _, b := range c.Before {
		if b == "dhcp" {
			dhcp = true
		} else {
			fixed = append(fixed, b)
		}
	}
	switch {
	case dhcp && len(fixed) > 0:
		was = "it was given its address by the network (DHCP), last " + strings.Join(fixed, " and ")
	case dhcp:
		was = "it was given its address by the network (DHCP)"
	case len(fixed) > 0:
		was = "it had " + strings.Join(fixed, " and ")
	}
	auto := dhcp || len(fixed) == 0
	switch system {
	case "windows":
		s.Computer = []string{
			fmt.Sprintf("Settings, Network, Ethernet, %s: under IP assignment choose Edit, then Manual, IPv4 on",
				c.Interface),
			"address " + mine, "mask " + mask, "gateway: nothing",
		}
		s.Back = []string{"Settings, Network, Ethernet: under IP assignment choose Edit, then Automatic (DHCP)"}
		if !auto {
			s.Back = []string{"Settings, Network, Ethernet: under IP assignment choose Edit, and set again: " +
				strings.Join(fixed, " and ")}
		}
	case "darwin":
		s.Computer = []string{
			fmt.Sprintf("System Settings, Network, %s, Details, TCP/IP: configure IPv4 manually", c.Interface),
			"address " + mine, "mask " + mask, "router: nothing",
		}
		s.Back = []string{"System Settings, Network, Details, TCP/IP: configure IPv4 using DHCP"}
		if !auto {
			s.Back = []string{"System Settings, Network, Details, TCP/IP: set again " + strings.Join(fixed, " and ")}
		}
	default:
		s.Computer = []string{
			fmt.Sprintf("In the network settings of the desktop: %s, IPv4, Manual, address %s, mask %s, no gateway",
				c.Interface, mine, mask),
			fmt.Sprintf("or, as root, until the next start: ip address add %s dev %s && ip link set %s up", c.Computer,
				c.Interface, c.Interface),
		}
		s.Back = []string{fmt.Sprintf("In the network settings of the desktop: %s, IPv4, Automatic (DHCP)",
			c.Interface)}
		if !auto {
			s.Back = []string{fmt.Sprintf("In the network settings of the desktop: %s, IPv4, Manual, again %s",
				c.Interface, strings.Join(fixed, " and "))}
		}
		s.Back = append(s.Back, fmt.Sprintf("or, as root: ip address del %s dev %s", c.Computer, c.Interface))
	}
	s.Back = append(s.Back, fmt.Sprintf("Before the cable, %s: %s", c.Interface, was),
		fmt.Sprintf("On the %s: switch its network settings back to what they were, as a rule \"automatic\"", console))
	return s, nil
}

// Text is the sheet as plain text.
func (s *Sheet) Text() string {
	var b strings.Builder
	part := func(title string, lines []string) {
		fmt.Fprintf(&b, "%s\n", title)
		for _, l := range lines {
			fmt.Fprintf(&b, "  %s\n", l)
		}
	}
	part("Set on this computer:", s.Computer)
	part("Set on the console:", s.Console)
	part("Then:", s.Then)
	part("Afterwards, set back:", s.Back)
	return b.String()
}
