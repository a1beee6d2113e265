package state

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/fsnotify/fsnotify"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
)

// A LoadersMsg is the loaders read again, after one of the user's files changed.
type LoadersMsg struct {
	ticket
	set *loader.Set
	err error
}

// settled is how long files must rest before they are read: editors write a file in
// several steps.
const settled = 150 * time.Millisecond

// Reload reads all loaders again, in the background.
func (d *State) Reload() tea.Cmd {
	dir := d.OwnDir
	mine, _ := d.begin(-1, reloading)
	return func() tea.Msg {
		set, err := loader.Known(dir)
		return LoadersMsg{mine, set, err}
	}
}

// SetLoaders takes over loaders that were read again, and judges all targets by them.
func (d *State) SetLoaders(m LoadersMsg) tea.Cmd {
	if _, ok := d.end(m.ticket); !ok {
		return nil
	}
	if m.err != nil {
		d.Notice = m.err.Error()
		return nil
	}
	further := !slices.Equal(d.Set.PlatformNames(), m.set.PlatformNames())
	d.Set = m.set
	d.Loaders++
	if d.Running() {
		d.stale = true
		return nil // what a run was planned with stays; the targets are looked at after it
	}
	cmd := d.Survey()
	if further { // titles may be of platforms that were not known
		cmd = tea.Batch(cmd, d.StartScan())
	}
	if then := d.onceLoaded; then != nil {
		d.onceLoaded = nil
		cmd = tea.Batch(cmd, then())
	}
	return cmd
}

// WatchLoaders waits for a change in the user's own files, and reads all loaders again.
// Folders that are not there yet are not watched; call it again when they have been made.
func (d *State) WatchLoaders() tea.Cmd {
	var dirs []string
	for _, sub := range []string{loader.PlatformDir, loader.ProfileDir} {
		dir := filepath.Join(d.OwnDir, sub)
		if info, err := os.Stat(dir); d.OwnDir != "" && err == nil && info.IsDir() {
			dirs = append(dirs, dir)
		}
	}
	if !d.Watch || len(dirs) == d.watched || len(dirs) == 0 {
		return nil
	}
	d.watched = len(dirs)
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return nil // then a change shows when the program is started again
	}
	for _, dir := range dirs {
		if err := w.Add(dir); err != nil {
			_ = w.Close()
			return nil
		}
	}
	if d.stopWatch != nil {
		d.stopWatch()
	}
	d.stopWatch = func() { _ = w.Close() }
	return d.waitForChange(w)
}

// A changedMsg is that the user's files changed.
type changedMsg struct{ watcher *fsnotify.Watcher }

func (d *State) waitForChange(w *fsnotify.Watcher) tea.Cmd {
	ctx := d.Ctx
	return func() tea.Msg {
		var rest <-chan time.Time
		for {
			select {
			case <-ctx.Done():
				_ = w.Close()
				return nil
			case e, ok := <-w.Events:
				if !ok {
					return nil
				}
				if strings.HasSuffix(e.Name, ".toml") && e.Op != fsnotify.Chmod {
					rest = time.After(settled)
				}
			case _, ok := <-w.Errors:
				if !ok {
					return nil
				}
			case <-rest:
				return changedMsg{w}
			}
		}
	}
}

// filesChanged reads the user's profiles again, and waits for the next change.
func (d *State) filesChanged(m changedMsg) tea.Cmd {
	return tea.Batch(d.Reload(), d.waitForChange(m.watcher))
}

// UseLoader has a target filled for a loader.
func (d *State) UseLoader(n int, p *loader.Profile) tea.Cmd {
	if d.busy() || n >= len(d.Bench.Targets) {
		return nil
	}
	return d.SetUp(n, d.Bench.Targets[n].Name+" is now filled for "+p.Shown+". u undoes.", func(t *bench.Target) {
		t.Loader = p.Name
		if at := p.Attachment(t.Via, ""); at == nil {
			t.Via = p.UsualVia()
		}
	})
}

// Shown is a platform's name as people write it, the short one where that is unknown.
func (d *State) Shown(platform string) string {
	if p := d.Set.Platform(platform); p != nil {
		return p.Shown
	}
	return platform
}
