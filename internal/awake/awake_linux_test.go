package awake

import (
	"bufio"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// logind is a made-up one.
type logind struct {
	mu    sync.Mutex
	asked [][4]string
	pipe  *os.File // the end whose other one the program holds
}

func (l *logind) Inhibit(what, who, why, mode string) (dbus.UnixFD, *dbus.Error) {
	r, w, err := os.Pipe()
	if err != nil {
		return 0, dbus.MakeFailedError(err)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.asked = append(l.asked, [4]string{what, who, why, mode})
	l.pipe = r
	fd := dbus.UnixFD(w.Fd())
	go func() { // the answer carries a copy
		time.Sleep(200 * time.Millisecond)
		_ = w.Close()
	}()
	return fd, nil
}

func (l *logind) all() [][4]string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Clone(l.asked)
}

// held reports whether the other end of the pipe is still open.
func (l *logind) held() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	_ = l.pipe.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
	_, err := l.pipe.Read(make([]byte, 1))
	return os.IsTimeout(err)
}

func TestTheComputerIsKeptAwakeAsLongAsSomethingGoesOn(t *testing.T) {
	cmd := exec.Command("dbus-daemon", "--session", "--nofork", "--print-address")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start(), "this test needs dbus-daemon, which scripts/test installs")
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	address, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", strings.TrimSpace(address))
	bus, err := dbus.Connect(strings.TrimSpace(address))
	require.NoError(t, err)
	defer bus.Close()
	l := &logind{}
	require.NoError(t, bus.Export(l, "/org/freedesktop/login1", "org.freedesktop.login1.Manager"))
	_, err = bus.RequestName("org.freedesktop.login1", dbus.NameFlagDoNotQueue)
	require.NoError(t, err)

	first, second := Keep("games are being written"), Keep("and more of them")
	assert.Equal(t, [][4]string{{"sleep:idle:handle-lid-switch", "Polytome", "games are being written", "block"}},
		l.all(), "once for all")
	time.Sleep(300 * time.Millisecond)
	first()
	first()
	assert.True(t, l.held(), "the other one goes on")
	second()
	assert.False(t, l.held())
	Keep("again")()
	assert.Len(t, l.all(), 2)
}

func TestWithoutLogindNothingIsMissing(t *testing.T) {
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path=/nonexistent")
	Keep("x")()
}
