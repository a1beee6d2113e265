package notify

import (
	"context"
	"time"

	"github.com/godbus/dbus/v5"
)

// patience is how long the desktop is waited for.
const patience = 2 * time.Second

// desktop asks the session's server for notifications (org.freedesktop.Notifications, Notify).
func desktop(heading, text string) error {
	bus, err := dbus.ConnectSessionBus()
	if err != nil {
		return err
	}
	defer bus.Close()
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	return bus.Object("org.freedesktop.Notifications", "/org/freedesktop/Notifications").
		CallWithContext(ctx, "org.freedesktop.Notifications.Notify", 0, "Polytome", uint32(0), "", heading, text,
			[]string{}, map[string]dbus.Variant{}, int32(-1)).Err
}
