package loadersview

import (
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// counter is a program that shows how often its editor was left.
type counter struct{ left int }

func (c *counter) Init() tea.Cmd { return nil }

func (c *counter) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case EditedMsg:
		c.left++
	case *exec.Cmd:
		return c, tea.Exec(editing{msg}, func(err error) tea.Msg { return EditedMsg{err} })
	}
	return c, nil
}

func (c *counter) View() tea.View { return tea.NewView(shown(c.left)) }

// shown is what it shows after its editor was left n times: no letter of it stays for the next time.
func shown(n int) string { return strings.Repeat(string(rune('A'+n%26)), 8) }

// drawn is what a program draws.
type drawn chan string

func (d drawn) Write(b []byte) (int, error) {
	d <- string(b)
	return len(b), nil
}

// TestTheScreenIsDrawnAfterAnEditor covers editors that end at once and such that cannot be started.
func TestTheScreenIsDrawnAfterAnEditor(t *testing.T) {
	out := make(drawn, 1000)
	keys, _, err := os.Pipe()
	require.NoError(t, err)
	p := tea.NewProgram(&counter{}, tea.WithInput(keys), tea.WithOutput(out), tea.WithWindowSize(80, 24),
		tea.WithEnvironment([]string{"TERM=xterm"}), tea.WithoutSignals())
	done := make(chan error)
	go func() {
		_, err := p.Run()
		done <- err
	}()
	var stop atomic.Bool
	defer stop.Store(true)
	for range 2 * runtime.GOMAXPROCS(0) { // a busy machine: a goroutine that can run has to wait
		go func() {
			for n := 0; !stop.Load(); n++ {
				_ = n
			}
		}()
	}
	for n := range 60 {
		p.Send(exec.Command([]string{"true", "no-such-editor"}[n%2]))
		for seen := ""; !strings.Contains(seen, shown(n+1)); {
			select {
			case s := <-out:
				seen += s
			case <-time.After(20 * time.Second):
				require.Fail(t, "nothing is drawn any more", "after editor %d", n+1)
			}
		}
	}
	p.Quit()
	go func() {
		for range out {
		}
	}()
	assert.NoError(t, <-done)
}
