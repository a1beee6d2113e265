package connections

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/bench"
	"polytome/internal/netcards"
	"polytome/internal/sim"
	"polytome/internal/target/ftp"
	"polytome/internal/target/remote"
	"polytome/internal/target/smb"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/volumetest"
)

func card(name string, plugged bool, addresses ...string) netcards.Card {
	c := netcards.Card{Name: name, Up: true, Plugged: plugged}
	for _, a := range addresses {
		c.Addresses = append(c.Addresses, netip.MustParsePrefix(a))
	}
	return c
}

func TestTheSubnetIsFree(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var cards []netcards.Card
		for i := range rapid.IntRange(0, 12).Draw(t, "cards") {
			first := rapid.SampledFrom([][2]byte{{192, 168}, {10, 177}, {172, 20}, {10, 0}}).Draw(t, "net")
			a := netip.AddrFrom4([4]byte{first[0], first[1], byte(rapid.IntRange(70, 90).Draw(t, "third")),
				byte(rapid.IntRange(1, 254).Draw(t, "last"))})
			cards = append(cards, netcards.Card{Name: string(rune('a' + i)),
				Addresses: []netip.Prefix{netip.PrefixFrom(a, rapid.SampledFrom([]int{8, 12, 16, 22, 24, 28, 32}).
					Draw(t, "bits"))}})
		}
		p, err := FreeSubnet(cards)
		if err != nil {
			if !errors.Is(err, ErrNoSubnet) {
				t.Fatal(err)
			}
			return
		}
		if !p.Addr().IsPrivate() {
			t.Fatalf("%s is no private network", p)
		}
		for _, c := range cards {
			for _, a := range c.Addresses {
				if a.Overlaps(p) {
					t.Fatalf("%s overlaps %s of %s", p, a, c.Name)
				}
			}
		}
	})
	_, err := FreeSubnet([]netcards.Card{card("a", true, "192.168.1.1/16", "10.1.1.1/8", "172.16.0.1/12")})
	assert.ErrorIs(t, err, ErrNoSubnet)
}

func TestACableIsPlannedNoticedAndSetBack(t *testing.T) {
	cards := []netcards.Card{card("eth0", true, "192.168.77.20/24"), card("eth1", true), {Name: "wlan0", Wireless: true,
		Plugged: true}, {Name: "lo", Loopback: true}}
	cards[0].Given = true
	c, err := NewCable(cards, "")
	require.NoError(t, err)
	assert.Equal(t, bench.Cable{Interface: "eth1", Computer: "192.168.78.1/24", Console: "192.168.78.2"}, *c,
		"the card that has no use, and a network that none has")
	assert.Equal(t, Unset, CableState(c, cards, false))
	assert.True(t, SetBack(c, cards))
	cards[1].Addresses = []netip.Prefix{netip.MustParsePrefix("192.168.78.1/24")}
	assert.Equal(t, HalfSet, CableState(c, cards, false), "the computer's end is set")
	assert.Equal(t, IsSet, CableState(c, cards, true))
	assert.False(t, SetBack(c, cards))
	assert.Equal(t, Gone, CableState(c, cards[:1], false))

	c, err = NewCable(cards, "eth0")
	require.NoError(t, err)
	assert.Equal(t, []string{"dhcp", "192.168.77.20/24"}, c.Before, "what was there before is kept")
	_, err = NewCable(cards, "eth9")
	assert.ErrorContains(t, err, "no interface eth9; it has: eth0, eth1, wlan0")
	_, err = NewCable(cards[2:], "")
	assert.ErrorContains(t, err, "plug in an adapter")
}

func TestTheSheetSaysWhatToSetAndWhatToSetBack(t *testing.T) {
	c := &bench.Cable{Interface: "eth1", Computer: "192.168.77.1/24", Console: "192.168.77.2", Before: []string{"dhcp",
		"10.0.0.7/20"}}
	for _, system := range Systems {
		s, err := SheetOf(c, system, "Meridian", "ftp://192.168.77.2/store")
		require.NoError(t, err)
		text := s.Text()
		for _, want := range []string{"192.168.77.1", "192.168.77.2", "255.255.255.0", "Meridian", "DHCP",
			"10.0.0.7/20", "Afterwards, set back:", "ftp://192.168.77.2/store"} {
			assert.Contains(t, text, want, system)
		}
		c := *c
		c.Before = []string{"192.168.0.5/24"}
		s, err = SheetOf(&c, system, "Meridian", "")
		require.NoError(t, err)
		assert.Contains(t, strings.Join(s.Back, "\n"), "192.168.0.5/24", "%s: a fixed address is set again", system)
		c.Before = nil
		s, err = SheetOf(&c, system, "Meridian", "")
		require.NoError(t, err)
		assert.Contains(t, s.Text(), "it had no address")
	}
	_, err := SheetOf(&bench.Cable{Computer: "nonsense"}, "linux", "", "")
	assert.Error(t, err)
	for bits, mask := range map[int]string{8: "255.0.0.0", 20: "255.255.240.0", 24: "255.255.255.0",
		32: "255.255.255.255"} {
		assert.Equal(t, mask, Mask(netip.PrefixFrom(netip.MustParseAddr("10.0.0.1"), bits)))
	}
}

// listen opens a port on the loopback that says something to whoever comes.
func listen(t *testing.T, say string) remote.Address {
	port := judge.Listen(t, func(c net.Conn) { _, _ = c.Write([]byte(say)) })
	return remote.Address{Scheme: "ftp", Host: "127.0.0.1", Port: port}
}

func TestLinksOnTheLoopback(t *testing.T) {
	ctx := context.Background()
	r := Trier{}.Try(ctx, &ftp.Protocol, listen(t, "220 Gantry is here\r\n"))
	assert.Equal(t, Answers, r.State)
	assert.Positive(t, r.RoundTrip)
	r = Trier{}.Try(ctx, &ftp.Protocol, listen(t, "SSH-2.0-something\r\n"))
	assert.Equal(t, Another, r.State, "another program has the port")
	assert.Contains(t, r.Say, `it begins with "SSH-2.0-something"`)
	assert.Contains(t, r.Do, "two programs use that port")
	hung := judge.Listen(t, func(c net.Conn) { _, _ = c.Read(make([]byte, 1)) })
	r = Trier{Wait: 200 * time.Millisecond}.Try(ctx, &ftp.Protocol, remote.Address{Scheme: "ftp", Host: "127.0.0.1",
		Port: hung})
	assert.Equal(t, Silent, r.State, "a server that hangs is no other program")
	assert.Contains(t, r.Say, "takes connections on port")
	assert.Contains(t, r.Say, "it says nothing")
	assert.NotContains(t, r.Do, "other program")
	full := judge.Listen(t, func(c net.Conn) { _ = c.Close() })
	r = Trier{Wait: 2 * time.Second}.Try(ctx, &ftp.Protocol, remote.Address{Scheme: "ftp", Host: "127.0.0.1",
		Port: full})
	assert.Equal(t, Silent, r.State)
	assert.Contains(t, r.Say, "it closes the connection at once")
	share := listen(t, "220 ftp")
	share.Scheme = "smb"
	assert.Equal(t, Another, Trier{}.Try(ctx, &smb.Protocol, share).State, "a share's server waits to be asked")

	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	require.NoError(t, l.Close())
	r = Trier{}.Try(ctx, &ftp.Protocol, remote.Address{Scheme: "ftp", Host: "127.0.0.1", Port: port})
	assert.Equal(t, Refused, r.State, "the console is on, and its server is not")
	assert.Contains(t, r.Say, "is on, but nothing listens")
}

// timeout is how the system reports that no one answered.
type timeout struct{}

func (timeout) Error() string   { return "i/o timeout" }
func (timeout) Timeout() bool   { return true }
func (timeout) Temporary() bool { return true }

// TestOffIsDistinguishedFromBlocked has networks that answer in different ways: a console that is off, one behind a
// firewall, no way at all.
func TestOffIsDistinguishedFromBlocked(t *testing.T) {
	a := remote.Address{Scheme: "ftp", Host: "192.168.77.2"}
	never := func(netip.Addr) (bool, bool) { return false, true }
	heard := func(netip.Addr) (bool, bool) { return true, true }
	unknown := func(netip.Addr) (bool, bool) { return false, false }
	dial := func(errs map[string]error, rest error) func(context.Context, string, string) (net.Conn, error) {
		return func(_ context.Context, _, at string) (net.Conn, error) {
			if err, ok := errs[at]; ok {
				return nil, err
			}
			return nil, rest
		}
	}
	for name, c := range map[string]struct {
		t    Trier
		want State
	}{
		"off, in this network":      {Trier{Dial: dial(nil, syscall.EHOSTUNREACH), Neighbour: never}, Absent},
		"off, behind a router":      {Trier{Dial: dial(nil, timeout{}), Neighbour: unknown}, Absent},
		"its hardware was heard of": {Trier{Dial: dial(nil, timeout{}), Neighbour: heard}, Blocked},
		"another port refuses": {Trier{Dial: dial(
			map[string]error{"192.168.77.2:80": syscall.ECONNREFUSED}, timeout{}), Neighbour: unknown}, Blocked},
		"a firewall that says no way":     {Trier{Dial: dial(nil, syscall.EHOSTUNREACH), Neighbour: heard}, Blocked},
		"no interface is in that network": {Trier{Dial: dial(nil, syscall.ENETUNREACH), Neighbour: never}, NoWay},
		"nobody knows the name": {Trier{Dial: dial(nil, &net.DNSError{Name: "x"}), Neighbour: never},
			Nameless},
		"something that nobody has foreseen": {Trier{Dial: dial(nil, errors.New("odd")), Neighbour: never}, Absent},
	} {
		r := c.t.Try(context.Background(), &ftp.Protocol, a)
		assert.Equal(t, c.want, r.State, name)
		assert.NotEmpty(t, r.Say, name)
		assert.NotEmpty(t, r.Do, name)
	}
}

func TestTheTableOfNeighbours(t *testing.T) {
	table := "IP address       HW type     Flags       HW address            Mask     Device\n192.168.77.2     0x1   " +
		"      0x2         02:00:00:00:00:02     *        eth1\n192.168.77.3     0x1         0x0         " +
		"00:00:00:00:00:00     *        eth1\n"
	heard, known := heardIn(table, netip.MustParseAddr("192.168.77.2"))
	assert.True(t, heard && known)
	heard, known = heardIn(table, netip.MustParseAddr("192.168.77.3"))
	assert.True(t, !heard && known, "it was asked for and did not answer")
	_, known = heardIn(table, netip.MustParseAddr("192.168.77.4"))
	assert.False(t, known)
	_, known = heardIn("garbage\n192.168.77.4 x zz y\n", netip.MustParseAddr("192.168.77.4"))
	assert.False(t, known)
}

func TestEveryTargetHasALink(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "hd1", "gantry"), 0o755))
	console, err := sim.Consoles["corvane"].Serve(dir, 0, 1<<30)
	require.NoError(t, err)
	defer console.Close()
	b := bench.New("")
	corvane := "ftp://127.0.0.1:" + strconv.Itoa(console.Port()) + "/hd1"
	b.Targets = []bench.Target{
		{Name: "stick", At: dir, Loader: "rowan", Via: "usb"}, {Name: "disk", At: corvane, Loader: "gantry"},
		{Name: "share", At: "smb://192.168.0.30/games", Loader: "oxbow"}, {Name: "image", At: "drive:" +
			filepath.Join(dir, "none.img"), Loader: "bellows"},
		{Name: "store", At: "ftp://192.168.77.2/store", Loader: "trellis", Cable: &bench.Cable{Interface: "eth1",
			Computer: "192.168.77.1/24", Console: "192.168.77.2"}},
	}
	cards := []netcards.Card{card("eth0", true, "192.168.0.5/24"), card("eth1", true, "192.168.77.1/24"),
		{Name: "lo", Loopback: true, Addresses: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/8")}}}
	h := Of(b, coretest.Set(t), cards)
	require.Len(t, h.Links, 5)
	for _, l := range h.Links {
		assert.NotEmpty(t, l.Must, l.Name)
		assert.NotEmpty(t, l.Joined(), l.Name)
		assert.NotEmpty(t, l.Console, l.Name)
	}
	assert.Equal(t, []string{"carried by hand", "this computer itself", "same network", "carried by hand",
		"direct cable"}, []string{h.Links[0].Joined(), h.Links[1].Joined(), h.Links[2].Joined(), h.Links[3].Joined(),
		h.Links[4].Joined()})
	assert.Equal(t, "eth0", h.Links[2].Card, "the card that the box is behind")
	assert.Equal(t, 445, h.Links[2].Port)
	assert.Contains(t, strings.Join(h.Links[2].Must, "\n"), "while filling and while playing")
	assert.Equal(t, HalfSet, h.Links[4].CableSet)
	require.Len(t, h.Reminder, 1)
	assert.Contains(t, h.Reminder[0], "eth1 of this computer still has the address 192.168.77.1/24")

	assert.Equal(t, Answers, h.Links[0].Try(t.Context(), Trier{}).State)
	assert.Equal(t, Absent, h.Links[3].Try(t.Context(), Trier{}).State)
	assert.Equal(t, Answers, h.Links[1].Try(t.Context(), Trier{}).State)
	p, err := coretest.Set(t).Profile("gantry")
	require.NoError(t, err)
	probe, err := Test(t.Context(), corvane, b.Targets[1], p)
	require.NoError(t, err)
	assert.Positive(t, probe.RoundTrip)
	assert.Positive(t, probe.Up)
	_, err = Test(t.Context(), dir, b.Targets[0], nil)
	assert.ErrorContains(t, err, "no link to test")
	entries, err := os.ReadDir(filepath.Join(dir, "hd1"))
	require.NoError(t, err)
	for _, e := range entries {
		assert.NotContains(t, e.Name(), "polytome", "the test leaves nothing behind")
	}
}

// TestALinkToWhatIsExported: a console's own disk over NBD is a link like any other; it is tried, tested, and gets a
// cable of its own.
func TestALinkToWhatIsExported(t *testing.T) {
	at := judge.NBD(t, volumetest.SlabDisk(t, 16, "FERRY"))
	b := bench.New("")
	b.Targets = []bench.Target{{Name: "own disk", At: at, Loader: "rowan"},
		{Name: "away", At: "nbd://127.0.0.1:1/disk", Loader: "rowan"}}
	h := Of(b, coretest.Set(t), []netcards.Card{card("eth1", true, "192.168.77.1/24"),
		{Name: "lo", Loopback: true, Addresses: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/8")}}})
	l := &h.Links[0]
	assert.True(t, l.Remote())
	assert.Equal(t, "nbd", l.Via)
	assert.Equal(t, "this computer itself", l.Joined())
	assert.Equal(t, "export disk", l.Inside())
	assert.False(t, l.ReadFrom(), "the console holds it")
	assert.Contains(t, l.Plain(), "anyone in the same network")
	tried := l.Try(t.Context(), Trier{})
	assert.Equal(t, Answers, tried.State)
	assert.Contains(t, tried.Say, "disk, 64.00 MiB")
	assert.Positive(t, tried.RoundTrip)
	away := h.Links[1].Try(t.Context(), Trier{})
	assert.Equal(t, Absent, away.State)
	assert.Contains(t, away.Do, "open the menu")
	probe, err := Test(t.Context(), at, b.Targets[0], nil)
	require.NoError(t, err)
	assert.Empty(t, probe.Wrong)
	assert.Positive(t, probe.Up)
	assert.True(t, probe.Resumes)

	require.NoError(t, Join(&b.Targets[1], []netcards.Card{card("eth1", true)}, "eth1"))
	assert.Equal(t, "nbd://"+b.Targets[1].Cable.Console+":1/disk", b.Targets[1].At)
	_, err = Part(&b.Targets[1], nil)
	require.NoError(t, err)
	assert.Equal(t, "nbd://127.0.0.1:1/disk", b.Targets[1].At)
}
