package awake

import (
	"context"
	"os"
	"time"

	"github.com/godbus/dbus/v5"
)

// patience is how long logind is waited for.
const patience = 2 * time.Second

// inhibit asks logind to keep the computer from sleeping (org.freedesktop.login1.Manager, Inhibit). It does so as long
// as the pipe that it hands out is open. nil where there is no logind.
func inhibit(why string) func() {
	bus, err := dbus.ConnectSystemBus()
	if err != nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	var fd dbus.UnixFD
	err = bus.Object("org.freedesktop.login1", "/org/freedesktop/login1").
		CallWithContext(ctx, "org.freedesktop.login1.Manager.Inhibit", 0, "sleep:idle:handle-lid-switch", "Polytome",
			why, "block").Store(&fd)
	if err != nil {
		_ = bus.Close()
		return nil
	}
	pipe := os.NewFile(uintptr(fd), "inhibitor")
	return func() {
		_ = pipe.Close()
		_ = bus.Close()
	}
}
