package netcards

import (
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestCardsOfAnotherComputer describes a computer of the test's own: what is plugged, wireless, and given by the
// network.
func TestCardsOfAnotherComputer(t *testing.T) {
	root := t.TempDir()
	write := func(name, text string) {
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	write("/sys/class/net/eth0/carrier", "1\n")
	write("/sys/class/net/eth1/carrier", "0\n")
	write("/sys/class/net/eth0/speed", "100\n")
	write("/sys/class/net/eth1/speed", "-1\n")
	write("/sys/class/net/eth0/device/x", "")
	write("/sys/class/net/wlan0/wireless/x", "")
	write("/run/systemd/netif/leases/2", "ADDRESS=10.0.0.7\n")
	address := func(s string) net.Addr {
		ip, n, err := net.ParseCIDR(s)
		require.NoError(t, err)
		return &net.IPNet{IP: ip, Mask: n.Mask}
	}
	has := map[string][]net.Addr{"eth0": {address("10.0.0.7/20"), address("fe80::1/64")},
		"wlan0": {address("192.168.1.4/24")}, "lo": {address("127.0.0.1/8")}}
	s := System{Root: root,
		Interfaces: func() ([]net.Interface, error) {
			return []net.Interface{{Index: 1, Name: "lo", Flags: net.FlagUp | net.FlagLoopback},
				{Index: 3, Name: "wlan0", Flags: net.FlagUp | net.FlagRunning}, {Index: 4, Name: "eth1",
					Flags: net.FlagUp}, {Index: 2, Name: "eth0", Flags: net.FlagUp | net.FlagRunning}}, nil
		},
		Addresses: func(i net.Interface) ([]net.Addr, error) { return has[i.Name], nil }}
	cards, err := s.Cards()
	require.NoError(t, err)
	require.Len(t, cards, 4)
	assert.Equal(t, []string{"eth0", "eth1", "wlan0", "lo"}, []string{cards[0].Name, cards[1].Name, cards[2].Name,
		cards[3].Name}, "a cable first")
	assert.True(t, cards[0].Given, "a lease is kept for it")
	assert.False(t, cards[2].Given)
	assert.Equal(t, 100, cards[0].Megabits)
	assert.Zero(t, cards[1].Megabits, "nothing is plugged in")
	assert.False(t, cards[1].Plugged)
	assert.True(t, cards[2].Wireless)
	assert.True(t, cards[1].Virtual && !cards[0].Virtual, "there is hardware behind one of them")
	assert.True(t, cards[0].Has(netip.MustParseAddr("10.0.0.7")))

	c, local, direct := Behind(cards, netip.MustParseAddr("10.0.12.9"))
	require.NotNil(t, c)
	assert.Equal(t, "eth0", c.Name, "it is in the network of this one")
	assert.Equal(t, "10.0.0.7", local.String())
	assert.True(t, direct)
	c, _, direct = Behind(cards, netip.MustParseAddr("127.0.0.1"))
	require.NotNil(t, c)
	assert.Equal(t, "lo", c.Name)
	assert.True(t, direct)
}

func TestThisComputer(t *testing.T) {
	cards, err := Here.Cards()
	require.NoError(t, err)
	require.NotEmpty(t, cards)
	assert.True(t, cards[len(cards)-1].Loopback, "the loopback comes last")
}
