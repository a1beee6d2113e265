package ui

import (
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/nbd"
	"polytome/internal/sim"
	"polytome/internal/testkit/demoworld"
)

// servedApp is the program with an export, and a folder that stands for the console's own stick.
func servedApp(t *testing.T) (a *app, stick string) {
	w := demoworld.Open(t)
	stick = t.TempDir()
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	b.Targets = []bench.Target{
		{Name: "Hall export", At: "serve:" + filepath.Join(w.Dir, "hall"), Loader: "rowan", Everything: true,
			DeleteOthers: true, Listen: "127.0.0.1:0"},
		{Name: "Vesper stick", At: stick, Loader: "rowan", Carries: "Hall export"}}
	require.NoError(t, b.Save())
	set, err := loader.Shipped()
	require.NoError(t, err)
	a = newApp(t.Context(), b, set, Options{})
	a.Update(tea.WindowSizeMsg{Width: 158, Height: 46})
	pump(a, a.Init())
	return a, stick
}

// loop runs commands side by side, as the program does, and takes their messages in one after another.
type loop struct {
	a    *app
	msgs chan tea.Msg
}

func newLoop(a *app) *loop { return &loop{a, make(chan tea.Msg, 1000)} }

func (l *loop) run(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	go func() {
		switch m := cmd().(type) {
		case tea.BatchMsg:
			for _, c := range m {
				l.run(c)
			}
		case nil:
		default:
			l.msgs <- m
		}
	}()
}

// until takes in what is reported until something holds.
func (l *loop) until(t *testing.T, holds func() bool) {
	t.Helper()
	for end := time.After(time.Minute); !holds(); {
		select {
		case m := <-l.msgs:
			_, cmd := l.a.Update(m)
			l.run(cmd)
		case <-end:
			require.Fail(t, "it never came to that", text(l.a))
		}
	}
}

func TestServing(t *testing.T) {
	a, stick := servedApp(t)
	shows := func(s string) func() bool { return func() bool { return strings.Contains(text(a), s) } }
	press(a, "4")
	assert.Contains(t, text(a), "20 files to lay out, 56.14 GiB, a moment. Games stay where they are")
	press(a, "enter", "enter")
	assert.Contains(t, text(a), "its list waits to be brought to Vesper stick.  → W writes to Vesper stick")
	l := newLoop(a)
	_, cmd := a.Update(tea.KeyPressMsg{Text: "v", Code: 'v'})
	l.run(cmd)
	l.until(t, shows("serving, none there"))
	assert.Contains(t, text(a), "Nobody is connected")
	at := a.state.Targets[0].Serving.Address()
	_, err := sim.MountNetworkDisk(t.Context(), at, stick)
	require.ErrorIs(t, err, sim.ErrNoList)

	press(a, "down", "enter", "enter")
	press(a, "up")
	d, err := sim.MountNetworkDisk(t.Context(), at, stick)
	require.NoError(t, err)
	require.Len(t, d.Games, 20)
	for _, g := range d.Games {
		assert.True(t, g.Starts, "%s: %s", g.Title, g.Why)
	}
	_, err = d.Play(t.Context(), &d.Games[2], 1, 0, rand.New(rand.NewPCG(1, 1)))
	require.NoError(t, err)
	l.until(t, shows("127.0.0.1 plays Copper Tide"))
	assert.Contains(t, text(a), "serving, 1 plays")
	for _, size := range [][2]int{{80, 24}, {60, 16}, {158, 46}} {
		a.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		assert.Len(t, strings.Split(text(a), "\n"), size[1])
	}

	press(a, "q")
	assert.Contains(t, text(a), "127.0.0.1 plays Copper Tide: quitting ends that.")
	press(a, "x", "v")
	assert.Contains(t, text(a), "End it although 127.0.0.1 plays Copper Tide?")
	press(a, "esc")
	assert.NotNil(t, a.state.Targets[0].Serving, "it is served on")
	require.NoError(t, d.Close())
	l.until(t, shows("serving, none there"))
	press(a, "v")
	l.until(t, func() bool { return a.state.Targets[0].Serving == nil })
	assert.Contains(t, text(a), "Hall export is not served any longer")
	_, err = nbd.Open(t.Context(), at, nbd.Options{})
	assert.Error(t, err)

	press(a, "5")
	assert.NotContains(t, text(a), "finding", "what lies apart is not missed")
}

// TestAnExportIsAdded by its name, and where its list goes is asked.
func TestAnExportIsAdded(t *testing.T) {
	a, _ := servedApp(t)
	dir, stick := t.TempDir(), t.TempDir()
	press(a, "P")
	typeIn(a, "serve:"+dir)
	press(a, "enter")
	typeIn(a, "rowan")
	press(a, "enter")
	require.Len(t, a.state.Bench.Targets, 3)
	added := a.state.Bench.Targets[2]
	assert.Equal(t, "nbd", added.Via)
	assert.True(t, added.DeleteOthers)
	press(a, "4", "c")
	typeIn(a, stick)
	press(a, "enter")
	require.Len(t, a.state.Bench.Targets, 4)
	assert.Equal(t, added.Name, a.state.Bench.Targets[3].Carries)
	a.state.Target = 2
	press(a, "c")
	assert.Contains(t, text(a), "brings its list and covers to the console already")
}
