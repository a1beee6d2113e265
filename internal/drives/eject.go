package drives

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// A Holding is a program that has files of a drive open.
type Holding struct {
	PID  int    `json:"pid"`
	Name string `json:"name"`
	File string `json:"file"` // one that it has open
}

// A BusyError reports that a drive cannot be released because programs use it.
type BusyError struct {
	Drive    string
	At       string // the mount
	Programs []Holding
}

func (e *BusyError) Error() string {
	s := fmt.Sprintf("%s is not safe to unplug: %s is in use", e.Drive, e.At)
	for _, p := range e.Programs {
		s += fmt.Sprintf("; %s (process %d) has %s open", p.Name, p.PID, p.File)
	}
	if len(e.Programs) == 0 {
		s += " by a program that only an administrator can see"
	}
	return s + "; close it, and try again"
}

// Programs finds who has files below a folder, or one of the given devices, open.
func (s System) Programs(folder string, devices ...string) []Holding {
	var out []Holding
	procs, _ := os.ReadDir(s.Proc)
	for _, p := range procs {
		pid, err := strconv.Atoi(p.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		dir := filepath.Join(s.Proc, p.Name())
		links := []string{filepath.Join(dir, "cwd"), filepath.Join(dir, "root"), filepath.Join(dir, "exe")}
		fds, _ := os.ReadDir(filepath.Join(dir, "fd"))
		for _, fd := range fds {
			links = append(links, filepath.Join(dir, "fd", fd.Name()))
		}
		for _, l := range links {
			to, err := os.Readlink(l)
			if err != nil {
				continue
			}
			if folder != "" && (to == folder || strings.HasPrefix(to, strings.TrimSuffix(folder, "/")+"/")) ||
				slices.Contains(devices, to) {
				out = append(out, Holding{pid, read(dir, "comm"), to})
				break
			}
		}
	}
	return out
}

// Paths are the device and its partitions, as they are opened.
func (s System) Paths(d *Drive) []string {
	out := []string{d.Path}
	for _, p := range d.parts {
		out = append(out, filepath.Join(s.Dev, p.name))
	}
	slices.Sort(out[1:])
	return out
}

// lettingGo is how long the program behind a mount has to end.
const lettingGo = 5 * time.Second

// Release is how a drive was released.
type Release struct {
	Unmounted []string `json:"unmounted,omitempty"`
	Off       bool     `json:"off"`  // it was switched off, or detached
	Safe      bool     `json:"safe"` // to unplug
	Say       string   `json:"say"`
}

// Eject flushes a drive, unmounts what of it is mounted, and switches it off where that is possible. Only when it
// returns without an error is the drive safe to unplug. emit gets what is being done.
func (s System) Eject(ctx context.Context, d *Drive, emit func(string)) (*Release, error) {
	return s.letGo(ctx, d, true, emit)
}

// Unmount is Eject without switching off: the drive can be prepared then.
func (s System) Unmount(ctx context.Context, d *Drive, emit func(string)) (*Release, error) {
	return s.letGo(ctx, d, false, emit)
}

// letGoElevated has a helper release a drive that this process may not unmount.
func (s System) letGoElevated(ctx context.Context, d *Drive, off bool, emit func(string)) (*Release, error) {
	h, err := s.Elevate.Start(ctx, d)
	if err != nil {
		return nil, err
	}
	return h.LetGo(ctx, d, off, emit)
}

// again looks at a drive again. Where only its volume is known, that is found by where it is mounted.
func (s System) again(ctx context.Context, shown *Drive) (*Drive, error) {
	if info, err := os.Stat(shown.Path); err == nil && info.IsDir() {
		d, _, err := s.behind(ctx, shown.Path)
		return d, err
	}
	return s.Look(ctx, shown.Path)
}

func (s System) letGo(ctx context.Context, shown *Drive, off bool, emit func(string)) (*Release, error) {
	if emit == nil {
		emit = func(string) {}
	}
	if shown.Network {
		return &Release{Safe: true, Say: shown.Name() + " is not connected here: everything is written when a run " +
			"has ended."}, nil
	}
	d, err := s.again(ctx, shown)
	if err != nil {
		return nil, err
	}
	r := &Release{}
	for _, u := range d.Uses {
		if u.Kind == OfSystem || u.Kind == Swap || u.Kind == Member {
			return nil, &RefusedError{d.Name(), u.Say, "it stays as it is"}
		}
	}
	points := d.MountPoints()
	slices.SortFunc(points, func(a, b string) int { return len(b) - len(a) }) // the inner ones first
	for _, at := range points {
		emit("writing pending data to " + at)
		if err := SyncAt(at); err != nil {
			return nil, fmt.Errorf("%s is not safe to unplug: writing pending data to %s failed: %w", d.Name(), at, err)
		}
		emit("unmounting " + at)
		if err := s.unmount(d, at, !off); err != nil {
			var busy *BusyError
			if errors.As(err, &busy) {
				busy.Drive, busy.At = d.Name(), at
				busy.Programs = s.Programs(at)
				return nil, busy
			}
			if errors.Is(err, os.ErrPermission) && s.Elevate != nil {
				return s.letGoElevated(ctx, d, off, emit)
			}
			return nil, fmt.Errorf("%s is not safe to unplug: unmounting %s failed: %v", d.Name(), at, reason(err))
		}
		r.Unmounted = append(r.Unmounted, at)
	}
	who := s.Programs("", s.Paths(d)...)
	for end := time.Now().Add(lettingGo); len(who) > 0 && len(r.Unmounted) > 0 && time.Now().Before(end) &&
		ctx.Err() == nil; who = s.Programs("", s.Paths(d)...) {
		time.Sleep(lettingGo / 50) // a mount that is a program of its own ends a moment after it was unmounted
	}
	if len(who) > 0 {
		return nil, &BusyError{Drive: d.Name(), At: d.Path, Programs: who}
	}
	emit("writing pending data to " + d.Name())
	if err := flushDevice(d.Path); err != nil && !errors.Is(err, os.ErrPermission) {
		return nil, fmt.Errorf("%s is not safe to unplug: writing pending data failed: %w", d.Name(), err)
	}
	if !off {
		r.Say = d.Name() + " is unmounted."
		return r, nil
	}
	if d.Image {
		r.Safe, r.Say = true, d.Name()+" is a file with everything written: it can be copied or moved."
		return r, nil
	}
	emit("powering off " + d.Name())
	if r.Off = s.off(d); !r.Off && !staysUnmounted {
		return nil, fmt.Errorf("%s is not safe to unplug: everything is written, but the system did not stop it; "+
			"close the windows that show it, and try again", d.Name())
	}
	r.Safe, r.Say = true, d.Name()+" is safe to unplug."
	return r, nil
}

// Under finds the drive that an address or a folder is on: one that is mounted above the folder, too.
func (s System) Under(ctx context.Context, at string) (*Drive, error) {
	drive, _, err := s.Target(ctx, at)
	for dir := filepath.Dir(at); err != nil && filepath.IsAbs(at) && dir != filepath.Dir(dir); dir = filepath.Dir(dir) {
		if above, _, other := s.Target(ctx, dir); other == nil {
			return above, nil
		}
	}
	return drive, err
}
