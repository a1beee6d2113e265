package state

import (
	"context"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/contents"
	"polytome/internal/core/loader"
	"polytome/internal/drives"
	"polytome/internal/nbd"
	"polytome/internal/target/drive"
)

// A Found is a drive, with what is on each of its volumes.
type Found struct {
	*drives.Drive
	Contents []*contents.Contents
}

// A DrivesMsg is a look at all drives.
type DrivesMsg struct {
	ticket
	found []Found
	err   error
	known string
}

// lookEvery is how often it is looked whether drives came or went.
const lookEvery = time.Second

// An ExportsMsg is a look at the drives that are exported over the network.
type ExportsMsg struct {
	ticket
	found []Found
}

// images are the image files that are known: those of the bench's targets, those beside the bench, and those that were
// named; and the addresses of exports.
func (d *State) images() (files, exports []string) {
	add := func(name string) {
		to := &files
		if nbd.IsAddress(name) {
			to = &exports
		}
		if !slices.Contains(*to, name) {
			*to = append(*to, name)
		}
	}
	for _, p := range d.Bench.Targets {
		if a, ok := drive.ParseAddress(d.Bench.Resolve(p.At)); ok && (a.IsFile() || a.Network()) &&
			!strings.HasPrefix(a.Drive, d.System.Dev+"/") {
			add(a.Drive)
		}
	}
	if file := d.Bench.File(); file != "" {
		for _, pattern := range []string{"*.img", "drives/*.img"} {
			names, _ := filepath.Glob(filepath.Join(filepath.Dir(file), pattern))
			for _, n := range names {
				add(n)
			}
		}
	}
	for _, n := range d.Images {
		add(n)
	}
	return files, exports
}

// FindDrives looks at all drives, in the background.
func (d *State) FindDrives() tea.Cmd { return tea.Batch(d.findHere(), d.findExports()) }

// NameImage has a drive or image file be shown beside those that are found, and looks at all of them.
func (d *State) NameImage(path string) tea.Cmd {
	if !slices.Contains(d.Images, path) {
		d.Images = append(d.Images, path)
	}
	return d.FindDrives()
}

// findHere looks at the drives of this computer and at image files.
func (d *State) findHere() tea.Cmd {
	mine, ctx := d.begin(-1, listingDrives)
	sys, set := d.System, d.Set
	images, _ := d.images()
	return func() tea.Msg {
		m := DrivesMsg{ticket: mine, known: sys.Known()}
		all, err := sys.List(ctx)
		if err != nil && len(images) == 0 {
			m.err = err
		}
		for _, name := range images {
			if slices.ContainsFunc(all, func(x *drives.Drive) bool { return x.Path == name }) {
				continue // one that is plugged in, and was named too
			}
			if i, err := sys.Look(ctx, name); err == nil {
				all = append(all, i)
			}
		}
		for _, x := range all {
			m.found = append(m.found, found(ctx, sys, x, set))
		}
		return m
	}
}

func found(ctx context.Context, sys drives.System, x *drives.Drive, set *loader.Set) Found {
	f := Found{Drive: x}
	for i := range x.Volumes {
		f.Contents = append(f.Contents, contents.Volume(ctx, sys, x, &x.Volumes[i], set))
	}
	return f
}

// findExports looks at the drives that are exported over the network. One that a run fills is left alone, and shown as
// it was; one that does not answer is shown too, with the reason.
func (d *State) findExports() tea.Cmd {
	_, addresses := d.images()
	if len(addresses) == 0 && len(d.exported) == 0 {
		return nil
	}
	mine, ctx := d.begin(-1, listingExports)
	sys, set, before, running := d.System, d.Set, d.exported, d.Running()
	return func() tea.Msg {
		all := make([]Found, len(addresses))
		var wait sync.WaitGroup
		for i, address := range addresses {
			if k := slices.IndexFunc(before, func(f Found) bool { return f.Path == address }); k >= 0 && running {
				all[i] = before[k]
				continue
			}
			wait.Go(func() {
				x, err := sys.Look(ctx, address)
				if err != nil {
					x = &drives.Drive{Path: address, Network: true, Bus: "network", Model: address,
						Trouble: err.Error()}
					if a, bad := nbd.ParseAddress(address); bad == nil {
						x.Model = a.Name()
					}
				}
				all[i] = found(ctx, sys, x, set)
			})
		}
		wait.Wait()
		return ExportsMsg{mine, all}
	}
}

// SetExports takes over a look at the exports.
func (d *State) SetExports(m ExportsMsg) {
	if _, ok := d.end(m.ticket); !ok {
		return
	}
	d.exported = m.found
	if d.DrivesSeen == 0 { // they come behind those that are here
		return
	}
	d.Drives = append(slices.Clone(d.local), d.exported...)
	d.DrivesSeen++
}

// SetDrives takes over a look at the drives.
func (d *State) SetDrives(m DrivesMsg) {
	if _, ok := d.end(m.ticket); !ok {
		return
	}
	d.local, d.DrivesErr, d.drivesKnown = m.found, m.err, m.known
	d.Drives = append(slices.Clone(d.local), d.exported...)
	d.DrivesSeen++
}

// A plugMsg is that it is time to look whether drives came or went.
type plugMsg struct{ known string }

// WatchDrives notices drives that come and go, from the first call on.
func (d *State) WatchDrives() tea.Cmd {
	if !d.Watch || d.watchingDrives {
		return nil
	}
	d.watchingDrives = true
	return d.waitForPlug()
}

func (d *State) waitForPlug() tea.Cmd {
	sys := d.System
	return tea.Tick(lookEvery, func(time.Time) tea.Msg { return plugMsg{sys.Known()} })
}

// plugged looks again when drives came or went, and waits for the next change.
func (d *State) plugged(m plugMsg) tea.Cmd {
	cmd := d.waitForPlug()
	if m.known != d.drivesKnown {
		d.drivesKnown = m.known
		cmd = tea.Batch(cmd, d.findHere(), d.surveyDrives(false))
	}
	return cmd
}

// surveyDrives looks again at the targets that are drives; with network, also at those that are exported.
func (d *State) surveyDrives(network bool) tea.Cmd {
	var cmds []tea.Cmd
	for n, p := range d.Bench.Targets {
		if a, ok := drive.ParseAddress(p.At); ok && !d.Targets[n].Running() && (network || !a.Network()) {
			cmds = append(cmds, d.SurveyTarget(n))
		}
	}
	return tea.Batch(cmds...)
}

// DrivesChanged looks at all drives again, and at the targets on them, after something was done to one. What was chosen
// for them stays.
func (d *State) DrivesChanged() tea.Cmd { return tea.Batch(d.FindDrives(), d.surveyDrives(true)) }

// TargetOn is the number of the bench's target that is on a drive, -1 for none.
func (d *State) TargetOn(x *drives.Drive) int {
	for n, p := range d.Bench.Targets {
		if a, ok := drive.ParseAddress(d.Bench.Resolve(p.At)); ok && (a.Drive == x.Path || x.Serial != "" && !x.Image &&
			strings.EqualFold(a.Drive, x.Serial)) {
			return n
		}
	}
	return -1
}

// AddDrive makes a target of a drive.
func (d *State) AddDrive(x *drives.Drive, v *drives.Volume, loader string) tea.Cmd {
	if d.busy() {
		return nil
	}
	name := v.Label
	if name == "" {
		name = x.Name()
	}
	return d.addTarget(bench.Target{Name: name, At: d.AddressOf(x, v), Loader: loader})
}

// AddressOf is what a bench calls a volume.
func (d *State) AddressOf(x *drives.Drive, v *drives.Volume) string {
	a := drive.Address{Drive: x.Key()}
	if x.Image {
		if rel, err := filepath.Rel(filepath.Dir(d.Bench.File()), x.Path); err == nil && filepath.IsLocal(rel) {
			a.Drive = rel
		}
	}
	if v.Number > 1 {
		a.Part = v.Number
	}
	return a.String()
}
