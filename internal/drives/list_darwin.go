package drives

import (
	"context"
	"os"
	"strings"
)

var here = System{Dev: "/dev"}

// mountedKnown is another text when a volume was mounted or unmounted.
func (s System) mountedKnown() string {
	all, _ := os.ReadDir("/Volumes")
	var names []string
	for _, e := range all {
		names = append(names, e.Name())
	}
	return strings.Join(names, "\n")
}

// mountedDrives are the volumes that are mounted: nothing else can be had here.
func (s System) mountedDrives(ctx context.Context) ([]*Drive, error) { return mountedVolumes(ctx) }
