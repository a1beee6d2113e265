package survey_test

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/testkit/coretest"
)

const withSystem = `format = 1
name = "any"
shown = "Any"
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["fat32"]
[[accept]]
platforms = ["vesper"]
path = "{title}.iso"
[[system-image]]
to = "sys/one.rom"
shown = "the system"
size = 500
hex = "7e ?? 11"
offset = -4
why = "nothing starts without it"
`

// TestASystemOfWhichNoSumIsKnown: what has the right length and bytes passes, and it is said that this is not sure;
// what has others is a fault.
func TestASystemOfWhichNoSumIsKnown(t *testing.T) {
	dir := t.TempDir()
	w := oneStick(t, dir, knownTo(t, filepath.Join(dir, "known"), withSystem), "any", "fat32", nil)
	look := func(b []byte) *check.Report {
		coretest.Write(t, dir, "Stick/sys/one.rom", b)
		report, err := w.look(0).Check(t.Context(), check.Inside)
		require.NoError(t, err)
		return report
	}
	r := look(append(make([]byte, 496), 0x7e, 5, 0x11, 0))
	assert.Empty(t, r.Findings)
	assert.Contains(t, strings.Join(r.Unchecked, "\n"),
		"whether sys/one.rom is the system: only its length and some of its bytes are known of it")
	r = look(make([]byte, 500))
	assert.Contains(t, findings(r), "the system is another file, as its bytes say: nothing starts without it")
	r = look(make([]byte, 501))
	assert.Contains(t, findings(r), "the system has 501 bytes instead of 500 bytes")
}
