package drives

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

var here = System{Dev: "/dev", calls: diskutil{run: run, say: known}}

// permission is how to get it, in one sentence.
const permission = "Run Polytome with sudo."

func run(ctx context.Context, program string, args ...string) ([]byte, error) {
	return exec.CommandContext(ctx, program, args...).Output()
}

// known is another text when a disk came or went, or a volume was mounted or unmounted.
func known() string {
	disks, _ := filepath.Glob("/dev/disk*")
	mounts, _ := os.ReadDir("/Volumes")
	for _, m := range mounts {
		disks = append(disks, m.Name())
	}
	return strings.Join(disks, "\n")
}

// VolumeOf is what the system says of the volume on a device, such as /dev/disk2s1.
func VolumeOf(ctx context.Context, device string) (Volume, error) {
	return diskutil{run: run}.volume(ctx, macDisk{ID: filepath.Base(device)}, 0)
}
