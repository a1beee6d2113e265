package elevated

import (
	"context"
	"errors"
	"os"
	"os/exec"
)

// System is how this system is asked for the rights of an administrator: polkit's window, where there is a desktop;
// nil for none.
func System() Starter {
	if os.Geteuid() == 0 || os.Getenv("DISPLAY") == "" && os.Getenv("WAYLAND_DISPLAY") == "" {
		return nil
	}
	pkexec, err := exec.LookPath("pkexec")
	if err != nil {
		return nil
	}
	return func(_ context.Context, args []string) (func() error, error) {
		exe, err := executable()
		if err != nil {
			return nil, err
		}
		cmd := exec.Command(pkexec, append([]string{"--disable-internal-agent", exe}, args...)...)
		if err := cmd.Start(); err != nil {
			return nil, err
		}
		return func() error {
			err := cmd.Wait()
			var exit *exec.ExitError
			if errors.As(err, &exit) && (exit.ExitCode() == 126 || exit.ExitCode() == 127) { // see pkexec(1)
				return errors.New("that was not given; Polytome with sudo may open it, too")
			}
			return err
		}, nil
	}
}
