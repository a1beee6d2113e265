package dockview

import (
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"

	"polytome/internal/core/dock"
	"polytome/internal/ui/style"
)

// sized is a board of so many slots in a window.
func sized(n, w, h int) *board {
	var names []string
	for i := range n {
		names = append(names, fmt.Sprint("Hall ", i+1))
	}
	m := newBoard(names, Options{}, func() {})
	m.Update(tea.WindowSizeMsg{Width: w, Height: h})
	return m
}

// TestEveryFieldFitsItsWindow: whatever the number of slots and the window, no line is too long, and none is missing.
func TestEveryFieldFitsItsWindow(t *testing.T) {
	for _, window := range [][2]int{{80, 24}, {158, 46}, {240, 70}, {40, 10}, {24, 6}} {
		for _, n := range []int{1, 2, 3, 8, 10, 40} {
			m := sized(n, window[0], window[1])
			for i := range n {
				m.Update(dock.Event{Slot: i, Report: dock.Report{Phase: dock.Phases[i%len(dock.Phases)], Share: 0.42,
					Left: 90 * time.Second, Say: strings.Repeat("something long to be said of it ", 6)}})
			}
			out := m.whole()
			assert.Len(t, out, window[1], "%v, %d slots", window, n)
			for _, line := range out {
				assert.LessOrEqual(t, style.Width(line), window[0], "%v, %d slots: %s", window, n, line)
			}
			for i := range m.shown() {
				assert.Contains(t, strings.Join(out, "\n"), fmt.Sprint("Hall ", i+1))
			}
		}
	}
}

// TestTheBoardSaysHowItStands, large where there is room, and calls when something comes to rest.
func TestTheBoardSaysHowItStands(t *testing.T) {
	m := sized(2, 120, 30)
	var called []string
	m.opts.Rests = func(e dock.Event) { called = append(called, m.names[e.Slot]+" "+string(e.Phase)) }
	see := func() string { return strings.Join(m.whole(), "\n") }
	assert.Contains(t, see(), "2 waiting")
	m.Update(dock.Event{Slot: 0, Report: dock.Report{Phase: dock.Filling, Share: 0.47, Left: 3 * time.Minute,
		Say: "41 files to write"}})
	s := see()
	assert.Contains(t, s, "filling, 3 min left")
	assert.Contains(t, s, "41 files to write")
	assert.Contains(t, s, big("47%", "█", 1)[0][:20], "the share is seen from afar")
	_, bell := m.Update(dock.Event{Slot: 0, Report: dock.Report{Phase: dock.Done, Say: "41 files written"}})
	assert.Equal(t, tea.RawMsg{Msg: "\a"}, bell())
	m.Update(dock.Event{Slot: 0, Report: dock.Report{Phase: dock.Done, Say: "41 files written"}})
	m.Update(dock.Event{Slot: 1, Report: dock.Report{Phase: dock.NeedsYou, Say: "3 files would be removed"}})
	assert.Equal(t, []string{"Hall 1 done", "Hall 2 needs you"}, called, "once")
	assert.Contains(t, see(), "1 done, 1 needs you")

	stopped := false
	m.stop = func() { stopped = true }
	_, cmd := m.Update(tea.KeyPressMsg{Code: 'q', Text: "q"})
	assert.True(t, stopped)
	assert.Nil(t, cmd, "it waits for what is being written")
	assert.Contains(t, see(), "closing: what is being written is stopped")
	_, cmd = m.Update(overMsg{})
	assert.NotNil(t, cmd)
}

// TestLargeLettersAreThere for every word that is written large.
func TestLargeLettersAreThere(t *testing.T) {
	m := sized(1, 80, 24)
	for _, p := range dock.Phases {
		word, _ := m.word(&dock.Event{Report: dock.Report{Phase: p, Share: 1}})
		for _, r := range word {
			assert.Contains(t, glyphs, r, word)
		}
		assert.Len(t, big(word, "#", 2), 2*bigRows)
		assert.Equal(t, 2*bigWidth(word), len(big(word, "#", 2)[0]))
	}
	assert.Equal(t, "####    ######  ", big("DI", "#", 1)[0], "letters are beside one another")
}
