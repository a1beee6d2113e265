package ui

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/ledger"
	"polytome/internal/testkit/judge"
)

// TestTheDockOnTheScreenFillsWhatComes: c says what is done, space opens it, a stick that comes is filled while the
// selection stays as it is, and space closes it.
func TestTheDockOnTheScreenFillsWhatComes(t *testing.T) {
	a, first := atPocket(t)
	a.state.Ledger, a.state.DockEvery = ledger.Store{Dir: t.TempDir()}, 20*time.Millisecond
	press(a, "M")
	stick := judge.NewStick(t, 64, "HALL", "22220002")
	at := filepath.Join(t.TempDir(), "media", "HALL")
	stick.Plug(at)
	press(a, "2", "i")
	write(a, at)
	pump(a, a.state.Declare(1, "fat32"))
	for i, title := range a.state.Scan.Titles {
		if title.Name == "Ropewalk" {
			pump(a, a.state.Want(1, []int{i}))
		}
	}
	stick.Pull()
	pump(a, a.state.Survey())

	press(a, "E")
	assert.Contains(t, flat(a), "the dock is closed")
	assert.Contains(t, flat(a), "set to look")
	press(a, "c", "c")
	require.Equal(t, "fill", a.state.Bench.Targets[0].WhenConnected)
	assert.Contains(t, flat(a), "When Hall pocket comes to the dock, it is filled, checked and ejected.")
	assert.Equal(t, "fill", a.state.Bench.Targets[1].WhenConnected, "of the whole set")
	require.NoError(t, os.Rename(first, first+"-drawer"))
	came := make(chan tea.Msg, 1000)
	var run func(cmd tea.Cmd)
	run = func(cmd tea.Cmd) { // beside one another: the dock tells of itself while all else goes on
		if cmd == nil {
			return
		}
		go func() {
			msg := cmd()
			if all, ok := msg.(tea.BatchMsg); ok {
				for _, c := range all {
					run(c)
				}
				return
			}
			came <- msg
		}()
	}
	see := func(what string) {
		t.Helper()
		for !strings.Contains(flat(a), what) {
			select {
			case msg := <-came:
				if strings.HasPrefix(fmt.Sprintf("%T", msg), "state.") {
					_, cmd := a.Update(msg)
					run(cmd)
				}
			case <-time.After(time.Minute):
				t.Fatalf("never saw %q:\n%s", what, text(a))
			}
		}
	}
	run(a.state.ToggleDock()) // as space does
	require.Nil(t, a.state.Dock, "it asks before anything could be written")
	require.Contains(
		t,
		a.state.Question.Prompt,
		"Open the dock, and write to Hall pocket, Hall pocket 2 when it comes?",
	)
	run(a.state.Question.Done(""))
	a.state.Question = nil
	require.NotNil(t, a.state.Dock)
	see("2 waiting")
	press(a, "2", "space")
	assert.Contains(t, flat(a), "The dock is open: close it (E, then space) before changing the selection.")
	press(a, "E")
	stick.Plug(at)
	see("HALL.img is safe to")
	assert.True(t, a.state.Targets[1].Ejected)
	stick.Pull()
	stick.Plug(at)
	assert.FileExists(t, filepath.Join(at, "Carts", "wren8", "Ropewalk.w8"))
	press(a, "q")
	assert.Contains(t, flat(a), "quit")
	press(a, "esc", "E")
	run(a.state.ToggleDock())
	see("the dock is closed")
	assert.Nil(t, a.state.Dock)
}
