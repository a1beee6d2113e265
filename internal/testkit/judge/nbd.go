package judge

import (
	"fmt"
	"testing"
)

// NBD has qemu-nbd export an image file, and returns the address of the export. It serves one client at a time, as the
// server of a console does.
func NBD(t testing.TB, image string, arguments ...string) (address string) {
	t.Helper()
	port := Port(t)
	serve(t, port, "qemu-nbd", append(append([]string{"--persistent", "--format=raw", "--bind=127.0.0.1",
		fmt.Sprintf("--port=%d", port), "--export-name=disk"}, arguments...), image)...)
	return fmt.Sprintf("nbd://127.0.0.1:%d/disk", port)
}
