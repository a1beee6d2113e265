package notify_test

import (
	"bufio"
	"os/exec"
	"strings"
	"testing"

	"github.com/godbus/dbus/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/notify"
)

func TestTerminalsGetTheirSequences(t *testing.T) {
	assert.Equal(t, "\a\x1b]9;North stick: Done; safe\x1b\\\x1b]777;notify;North stick;Done; safe\x1b\\",
		notify.Terminal("North stick", "Done; safe"))
	evil := notify.Terminal("a\x1b\\b;c", "d\x07\u202ee")
	assert.Equal(t, "\a\x1b]9;a\\b;c: de\x1b\\\x1b]777;notify;a\\b,c;de\x1b\\", evil, "a name ends no sequence")
}

// server stands for a desktop.
type server struct{ got chan []string }

func (s server) Notify(app string, _ uint32, _, heading, text string, _ []string, _ map[string]dbus.Variant, _ int32) (
	uint32, *dbus.Error) {
	s.got <- []string{app, heading, text}
	return 1, nil
}

func TestADesktopShowsIt(t *testing.T) {
	t.Setenv("DBUS_SESSION_BUS_ADDRESS", "unix:path=/nowhere")
	require.Error(t, notify.Desktop("a", "b"), "without one, that is an error")

	daemon := exec.Command("dbus-daemon", "--session", "--print-address", "--nofork")
	out, err := daemon.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, daemon.Start())
	t.Cleanup(func() { _ = daemon.Process.Kill(); _ = daemon.Wait() })
	address, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	address = strings.TrimSpace(address)
	bus, err := dbus.Connect(address)
	require.NoError(t, err)
	defer bus.Close()
	s := server{make(chan []string, 1)}
	require.NoError(t, bus.Export(s, "/org/freedesktop/Notifications", "org.freedesktop.Notifications"))
	_, err = bus.RequestName("org.freedesktop.Notifications", 0)
	require.NoError(t, err)

	t.Setenv("DBUS_SESSION_BUS_ADDRESS", address)
	require.NoError(t, notify.Desktop("North stick", "Done"))
	assert.Equal(t, []string{"Polytome", "North stick", "Done"}, <-s.got)
}
