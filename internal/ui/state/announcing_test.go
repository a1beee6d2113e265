package state

import (
	"fmt"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
)

// TestTheEndOfALongRunIsAnnounced with the bell and a notification, and that of a short one is not.
func TestTheEndOfALongRunIsAnnounced(t *testing.T) {
	t.Setenv("DBUS_SESSION_BUS_ADDRESS", "unix:path=/nowhere")
	d := &State{}
	l := &Lane{Name: "North stick", Status: run.NewStatus(&plan.Plan{Titles: 3}),
		Report: &run.Report{Elapsed: time.Second}}
	assert.Nil(t, d.announce(l))
	l.Report.Elapsed = longRun
	batch, ok := d.announce(l)().(tea.BatchMsg)
	require.True(t, ok)
	raw, ok := batch[0]().(tea.RawMsg)
	require.True(t, ok)
	assert.Contains(t, fmt.Sprint(raw.Msg), "\a\x1b]9;North stick: done: 3 titles written")
	l.Report.Untried = 1
	raw, _ = d.announce(l)().(tea.BatchMsg)[0]().(tea.RawMsg)
	assert.Contains(t, fmt.Sprint(raw.Msg), "not all of it could be done")
}
