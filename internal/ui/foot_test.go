package ui

import (
	"context"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
)

// TestTheFootShowsOnlyWhatWorksNow: on a bench with nothing on it, no key at the foot of any screen answers that there
// is nothing to do it with.
func TestTheFootShowsOnlyWhatWorksNow(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	never := regexp.MustCompile(`^(There (is|are|was) no|Nothing|Only|No |Select|This cannot|It cannot)`)
	for _, screen := range []string{"1", "2", "3", "4", "5", "C", "D", "L", "H", "N"} {
		a := newApp(context.Background(), bench.New(""), set, Options{})
		a.welcome = nil
		a.state.System = bare(t)
		press(a, screen)
		for _, h := range a.keyHints(150) {
			if h.key == "q" {
				continue
			}
			press(a, h.key)
			assert.NotRegexp(t, never, a.state.Notice, "%s on %s: %s", h.key, screen, h.name)
			press(a, "esc", "esc", screen)
		}
	}
}
