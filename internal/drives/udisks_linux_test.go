package drives

import (
	"bufio"
	"os/exec"
	"strings"
	"sync"
	"testing"

	"github.com/godbus/dbus/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// disks is a made-up udisks.
type disks struct {
	mu    sync.Mutex
	asked []string
}

func (d *disks) ask(what string) *dbus.Error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.asked = append(d.asked, what)
	return nil
}

func (d *disks) Unmount(map[string]dbus.Variant) *dbus.Error { return d.ask("unmount") }

func (d *disks) PowerOff(map[string]dbus.Variant) *dbus.Error { return d.ask("power off") }

func (d *disks) Get(iface, property string) (dbus.Variant, *dbus.Error) {
	return dbus.MakeVariant(dbus.ObjectPath(udisksRoot + "drives/Halyard_Pocket")), nil
}

// TestUdisksIsAsked has a message bus of its own, with a made-up udisks on it.
func TestUdisksIsAsked(t *testing.T) {
	cmd := exec.Command("dbus-daemon", "--session", "--nofork", "--print-address")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start(), "scripts/test installs dbus-daemon")
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	address, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", strings.TrimSpace(address))
	bus, err := dbus.Connect(strings.TrimSpace(address))
	require.NoError(t, err)
	defer bus.Close()
	d := &disks{}
	require.NoError(t, bus.Export(d, udisksRoot+"block_devices/sdb1", udisksName+".Filesystem"))
	require.NoError(t, bus.Export(d, udisksRoot+"block_devices/sdb", "org.freedesktop.DBus.Properties"))
	require.NoError(t, bus.Export(d, udisksRoot+"drives/Halyard_Pocket", udisksName+".Drive"))
	reply, err := bus.RequestName(udisksName, dbus.NameFlagDoNotQueue)
	require.NoError(t, err)
	require.Equal(t, dbus.RequestNameReplyPrimaryOwner, reply)

	require.NoError(t, udisks("block_devices/sdb1", "Filesystem.Unmount"))
	drive, err := udisksDrive("sdb")
	require.NoError(t, err)
	require.NoError(t, udisks(drive, "Drive.PowerOff"))
	assert.Error(t, udisks("block_devices/sdc1", "Filesystem.Unmount"), "one that it does not know")
	d.mu.Lock()
	defer d.mu.Unlock()
	assert.Equal(t, []string{"unmount", "power off"}, d.asked)
}
