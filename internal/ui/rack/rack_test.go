package rack_test

import (
	"strings"
	"testing"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/ui/rack"
	"polytome/internal/ui/style"
)

var ascii = style.New(true, true, colorprofile.ASCII)

func TestTheGhostStandsOverTheEdge(t *testing.T) {
	draw := func(v rack.Volume) string {
		return strings.Join(rack.Draw(ascii, []rack.Volume{v}, 34, 40), "\n")
	}
	v := rack.Volume{Name: "North stick", Detail: "FAT32", Capacity: 1000, Kept: 300, Planned: 600}
	calm := draw(v)
	assert.Contains(t, calm, "90 %")
	assert.NotContains(t, calm, "::::")
	v.Ghost, v.Over = 300, true
	over := draw(v)
	edge := strings.Index(calm, "+-----")
	assert.Contains(t, over[:edge], "::::", "rows above the edge are filled")
	assert.Contains(t, over, "does not go")
	v.Ghost, v.Over, v.Share, v.Planned = 200, false, true, 400
	shared := draw(v)
	assert.Contains(t, shared, "this title")
	assert.Contains(t, shared, "600 bytes", "what is planned is reported with the title's share")
	assert.NotContains(t, shared[:edge], "::::")
}

func TestAnyRackFitsItsSpace(t *testing.T) {
	colour := style.New(true, false, colorprofile.TrueColor)
	rapid.Check(t, func(t *rapid.T) {
		w, h := rapid.IntRange(0, 60).Draw(t, "w"), rapid.IntRange(0, 60).Draw(t, "h")
		amount := rapid.Int64Range(0, 1<<40)
		var all []rack.Volume
		for range rapid.IntRange(0, 5).Draw(t, "volumes") {
			all = append(all, rack.Volume{Name: rapid.String().Draw(t, "name"), Detail: "FAT32",
				Capacity: amount.Draw(t, "capacity"), Kept: amount.Draw(t, "kept"),
				Written: amount.Draw(t, "written"), Planned: amount.Draw(t, "planned"), Ghost: amount.Draw(t, "ghost"),
				Over: rapid.Bool().Draw(t, "over"), Share: rapid.Bool().Draw(t, "share")})
		}
		for _, theme := range []*style.Theme{ascii, colour} {
			lines := rack.Draw(theme, all, w, h)
			if len(lines) != h {
				t.Fatalf("%d lines instead of %d", len(lines), h)
			}
			for _, l := range lines {
				if got := ansi.StringWidth(l); got != w {
					t.Fatalf("%q is %d wide instead of %d", ansi.Strip(l), got, w)
				}
			}
		}
	})
}

func TestSomeIsAlwaysSeen(t *testing.T) {
	v := rack.Volume{Name: "S", Capacity: 1 << 40, Kept: 1}
	lines := rack.Draw(style.New(true, false, colorprofile.TrueColor), []rack.Volume{v}, 34, 40)
	require.NotEmpty(t, lines)
	assert.Contains(t, strings.Join(lines, "\n"), "▁", "a single byte shows as the least step")
}

// TestSpaceThatIsNotReported is not shown as if it were known.
func TestSpaceThatIsNotReported(t *testing.T) {
	v := rack.Volume{Name: "Ferry", Detail: "console", Capacity: 2 << 40, Unknown: true, Kept: 1 << 30, Current: true}
	text := strings.Join(rack.Draw(ascii, []rack.Volume{v}, 34, 40), "\n")
	assert.Contains(t, text, "not reported")
	assert.NotContains(t, text, "TiB")
	assert.NotContains(t, text, "%")
	v.Unknown = false
	assert.Contains(t, strings.Join(rack.Draw(ascii, []rack.Volume{v}, 34, 40), "\n"), "TiB")
}
