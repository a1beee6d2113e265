package ui

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/connections"
	"polytome/internal/netcards"
	"polytome/internal/sim"
	"polytome/internal/ui/connectionsview"
)

// joined shows the connections of a stick, and of a console on the loopback, on a computer of the test's own.
func joined(t *testing.T) (a *app, has map[string][]net.Addr, at string) {
	a, w := demoApp(t, Options{})
	disk := filepath.Join(w.Dir, "console")
	require.NoError(t, os.MkdirAll(filepath.Join(disk, "hd1", "gantry"), 0o755))
	console, err := sim.Consoles["corvane"].Serve(disk, 0, 1<<30)
	require.NoError(t, err)
	t.Cleanup(console.Close)
	at = fmt.Sprintf("ftp://127.0.0.1:%d/hd1", console.Port())
	a.state.Bench.Targets = []bench.Target{a.state.Bench.Targets[0], {Name: "Corvane disk", At: at, Loader: "gantry",
		Via: "ftp", As: "exfat", Capacity: 1 << 30}}
	require.NoError(t, a.state.Bench.Save())
	press(a, "ctrl+r")
	require.Len(t, a.state.Targets, 2)
	address := func(s string) net.Addr {
		ip, n, err := net.ParseCIDR(s)
		require.NoError(t, err)
		return &net.IPNet{IP: ip, Mask: n.Mask}
	}
	has = map[string][]net.Addr{"eth0": {address("192.168.77.9/24")}, "lo": {address("127.0.0.1/8")}}
	a.state.Cards = netcards.System{Root: t.TempDir(), Interfaces: func() ([]net.Interface, error) {
		return []net.Interface{{Index: 1, Name: "lo", Flags: net.FlagUp | net.FlagLoopback}, {Index: 2, Name: "eth0",
			Flags: net.FlagUp | net.FlagRunning}, {Index: 3, Name: "eth1", Flags: net.FlagUp | net.FlagRunning}}, nil
	}, Addresses: func(i net.Interface) ([]net.Addr, error) { return has[i.Name], nil }}
	return a, has, at
}

func TestConnectionsAreDrawnAndTested(t *testing.T) {
	a, _, at := joined(t)
	pump(a, a.state.LookAtLinks())
	a.panel = panelOf[*connectionsview.Model](a)
	s := text(a)
	assert.Contains(t, s, "▸H Connections 2/2")
	for _, want := range []string{"192.168.77.9/24", "eth1", "no address", "North stick → Vesper, Rowan",
		"usb, carried by hand", "Corvane disk → Corvane, Gantry", "this computer itself", at, "answers in"} {
		assert.Contains(t, s, want)
	}
	press(a, "down")
	assert.Contains(t, flat(a), "What must be on")
	assert.Contains(t, flat(a), "the Corvane, with its FTP server running on port")
	press(a, "t")
	s = flat(a)
	assert.Contains(t, s, "Corvane disk answers in")
	assert.Contains(t, s, "/s up, ", "the measured speed stays beside the link")
	assert.Contains(t, s, "plain FTP")
	answered := a.state.Connections.Links[1].Tried
	a.state.Connections.Links[1].Tried = connections.Tried{State: connections.Refused, Say: "nothing listens there"}
	s = flat(a)
	assert.NotContains(t, s, "/s up, ", "what was measured of a server that is gone is not shown as if it were there")
	assert.NotContains(t, s, "plain FTP")
	assert.Contains(t, s, "last test: logged in as")
	a.state.Connections.Links[1].Tried = answered
	press(a, "up", "/", "n", "t", "r", "y", "enter")
	assert.Contains(t, flat(a), "the Corvane, with its FTP server", "find goes to the link that has the words")
	press(a, "up", "t")
	assert.Contains(t, flat(a), "North stick is local: there is no link to test")
	for _, size := range [][2]int{{80, 24}, {60, 16}, {240, 70}} {
		a.w, a.h = size[0], size[1]
		assert.Contains(t, text(a), "North stick")
	}
}

func TestADirectCableIsPlannedNoticedAndGivenUp(t *testing.T) {
	a, has, at := joined(t)
	pump(a, a.state.LookAtLinks())
	a.panel = panelOf[*connectionsview.Model](a)
	press(a, "c")
	assert.Contains(t, flat(a), "only a target over a network can have a direct cable")
	press(a, "down", "c")
	assert.Contains(t, flat(a), "Cable in which interface?")
	assert.Equal(t, "eth1", a.input.Value(), "the one that has no use")
	press(a, "enter")
	pump(a, a.state.LookAtLinks())
	s := flat(a)
	for _, want := range []string{"Direct cable: neither end is set yet", "address 192.168.78.1, mask 255.255.255.0",
		"address 192.168.78.2", "afterwards, set back", "it had no address",
		"this computer is not in the cable's network yet"} {
		assert.Contains(t, s, want)
	}
	c := a.state.Bench.Targets[1].Cable
	require.NotNil(t, c)
	assert.Equal(t, at, c.Was)
	has["eth1"] = []net.Addr{&net.IPNet{IP: net.IPv4(192, 168, 78, 1), Mask: net.CIDRMask(24, 32)}}
	a.state.Bench.Targets[1].At = at // the console answers on the loopback here: nothing is sent elsewhere
	a.state.Connections = nil
	pump(a, a.state.LookAtLinks())
	assert.Contains(t, flat(a), "Direct cable: both ends are set")
	assert.Contains(t, flat(a), "Eth1 of this computer still has the address 192.168.78.1/24", "the reminder")
	press(a, "b")
	assert.Contains(t, flat(a), "Eth1 still has the address 192.168.78.1/24: set it back.")
	assert.Nil(t, a.state.Bench.Targets[1].Cable)
	assert.Equal(t, at, a.state.Bench.Targets[1].At)
	press(a, "b")
	assert.Contains(t, flat(a), "has no direct cable")
}
