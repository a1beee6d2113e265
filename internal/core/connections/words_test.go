package connections

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
)

// TestTheSheetReportsBothEndsOnEverySystem holds what must stand on it, whatever the computer and whatever it had
// before.
func TestTheSheetReportsBothEndsOnEverySystem(t *testing.T) {
	words := map[string][2]string{ // where to set it, and how it is given back to the network
		"linux":   {"In the network settings of the desktop", "Automatic (DHCP)"},
		"windows": {"Settings, Network, Ethernet", "Automatic (DHCP)"}, "darwin": {"System Settings, Network",
			"using DHCP"}, "plan9": {"In the network settings", "Automatic (DHCP)"},
	}
	for system, says := range words {
		for name, before := range map[string]struct {
			has  []string
			was  string
			auto bool
		}{
			"nothing": {nil, "it had no address", true},
			"given":   {[]string{"dhcp"}, "it was given its address by the network (DHCP)", true},
			"given, known": {[]string{"192.168.1.20/24", "dhcp"},
				"it was given its address by the network (DHCP), last 192.168.1.20/24", true},
			"set by hand": {[]string{"192.168.1.20/24"}, "it had 192.168.1.20/24", false},
			"two addresses": {[]string{"192.168.1.20/24", "10.0.0.2/8"}, "it had 192.168.1.20/24 and 10.0.0.2/8",
				false},
		} {
			c := &bench.Cable{Interface: "eth1", Computer: "192.168.78.1/24", Console: "192.168.78.2",
				Before: before.has}
			s, err := SheetOf(c, system, "Corvane", "ftp://192.168.78.2/hd1")
			require.NoError(t, err)
			computer, console, back, then := strings.Join(s.Computer, "\n"), strings.Join(s.Console, "\n"),
				strings.Join(s.Back, "\n"), strings.Join(s.Then, "\n")
			what := system + ", " + name
			for _, want := range []string{says[0], "192.168.78.1", "255.255.255.0", "eth1"} {
				assert.Contains(t, computer, want, what)
			}
			for _, want := range []string{"On the Corvane", "address 192.168.78.2", "mask 255.255.255.0"} {
				assert.Contains(t, console, want, what)
			}
			assert.NotContains(t, computer, "192.168.78.2", "the ends are not mixed up: %s", what)
			assert.Contains(t, then, "ftp://192.168.78.2/hd1", what)
			assert.Contains(t, back, "Before the cable, eth1: "+before.was, what)
			assert.Contains(t, back, "On the Corvane: switch its network settings back", what)
			if before.auto {
				assert.Contains(t, back, says[1], what)
			} else {
				assert.NotContains(t, back, says[1], what)
				for _, a := range before.has {
					assert.GreaterOrEqual(t, strings.Count(back, a), 2, "what was set is to be set again: %s", what)
				}
			}
			text := s.Text()
			order := []int{strings.Index(text, "Set on this computer:"), strings.Index(text, "Set on the console:"),
				strings.Index(text, "Then:"), strings.Index(text, "Afterwards, set back:")}
			assert.True(t, slices.IsSorted(order) && order[0] == 0, what)
			assert.Equal(t, len(s.Computer)+len(s.Console)+len(s.Then)+len(s.Back)+4, strings.Count(text, "\n"), what)
		}
	}
	_, err := SheetOf(&bench.Cable{Computer: "192.168.78.1"}, "linux", "Corvane", "x")
	assert.ErrorContains(t, err, "is not an address with a prefix length, such as 192")
	assert.Subset(t, Systems, []string{"linux", "windows", "darwin"})
}
