package sim

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"polytome/internal/sim/ftpd"
)

// A Console is a simulated one: how its disk is reached, what it does when it is switched on, and what it lists.
type Console struct {
	// Habits are those of its FTP server; nil for a console whose disk is a share.
	Habits *ftpd.Habits
	Share  string // the name of the share, "" for none
	// Volumes are the folders of the server that are volumes, where there are several.
	Volumes []string
	// Boot is what the console makes on a volume when it is switched on.
	Boot    func(volume string) error
	Loaders []string // that list what is on it
}

// Consoles are the simulated consoles, by name; see docs/consoles.
var Consoles = map[string]Console{
	"corvane": {Volumes: []string{"hd1", "hd2", "hd3"}, Boot: corvaneBoot, Loaders: []string{"gantry"},
		Habits: &ftpd.Habits{User: "gantry", Password: "ferryline", OneTransfer: true, Idle: time.Minute,
			SlowClose: 5 * time.Millisecond}},
	"meridian": {Volumes: []string{"store"}, Loaders: []string{"trellis"}, Habits: &ftpd.Habits{Machine: true,
		Restart: true, Append: true, Sizes: true, Extended: true, Year: true}},
	"tanager": {Share: "oxbow", Boot: tanagerBoot, Loaders: []string{"oxbow"}},
}

// corvaneBoot makes the folders of the retro shelf, where that was put on the volume.
func corvaneBoot(volume string) error {
	if info, err := os.Stat(filepath.Join(volume, "gantry")); err != nil || !info.IsDir() {
		return nil //nolint:nilerr // it is not there
	}
	for platform := range cartridges {
		if platform == "kestrel64" { // its games lie beside their core
			continue
		}
		for _, dir := range []string{"shelf", "faces"} {
			if err := os.MkdirAll(filepath.Join(volume, "gantry", dir, platform), 0o755); err != nil {
				return err
			}
		}
	}
	return nil
}

// tanagerBoot makes the folders of an empty stick or share.
func tanagerBoot(volume string) error {
	entries, err := os.ReadDir(volume)
	if err != nil || len(entries) > 0 {
		return err
	}
	dirs := []string{"oxbow/firmware", "oxbow/settings"}
	for _, p := range slices.Concat(oxbowPlatforms, slices.Collect(maps.Keys(cartridges))) {
		dirs = append(dirs, "oxbow/play/"+p)
	}
	for _, d := range dirs {
		if err := os.MkdirAll(filepath.Join(volume, filepath.FromSlash(d)), 0o755); err != nil {
			return err
		}
	}
	return nil
}

// volumes are the folders of a console's disk that hold volumes.
func (c Console) volumes(dir string) []string {
	var out []string
	for _, v := range c.Volumes {
		if info, err := os.Stat(filepath.Join(dir, v)); err == nil && info.IsDir() {
			out = append(out, filepath.Join(dir, v))
		}
	}
	if len(out) == 0 {
		return []string{dir} // the folder stands for one volume
	}
	return out
}

// Start does what the console does when it is switched on.
func (c Console) Start(dir string) error {
	if c.Boot == nil {
		return nil
	}
	for _, v := range c.volumes(dir) {
		if err := c.Boot(v); err != nil {
			return err
		}
	}
	return nil
}

// Rescan is what the console lists for its disk, a line for each game.
func (c Console) Rescan(dir string) ([]string, error) {
	var out []string
	for _, v := range c.volumes(dir) {
		for _, name := range c.Loaders {
			l, err := Loaders[name].List(os.DirFS(v))
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, err
			}
			for _, g := range l.Games {
				line := g.Title
				if g.ID != "" {
					line = g.ID + " " + line
				}
				if !g.Starts {
					line += "  (does not start: " + g.Why + ")"
				}
				out = append(out, line)
			}
		}
	}
	return out, nil
}

// Serve runs the console's FTP server over a folder that stands for its disk. Space is how much fits; 0 for no end.
func (c Console) Serve(dir string, port int, space int64) (*ftpd.Server, error) {
	if c.Habits == nil {
		return nil, fmt.Errorf("this console has no FTP server")
	}
	h := *c.Habits
	h.Capacity, h.Boot, h.Rescan = space, c.Start, c.Rescan
	return ftpd.Serve(dir, port, h)
}
