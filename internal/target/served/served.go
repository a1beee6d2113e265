// Package served is the target that is an export of this computer: a volume that is nowhere, which consoles read over
// the network. A file that is put there is not copied: how its bytes come about is noted, and they are made when
// somebody reads them. What has to be copied, such as texts that are made once, is kept beside the layout.
package served

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/adrg/xdg"

	"polytome/internal/format/virtual"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/claim"
	"polytome/internal/wholefile"
)

// Scheme begins the address of an export: "serve:" and a name, or the folder in which its layout is kept.
const Scheme = "serve:"

// Is reports whether an address is that of an export.
func Is(at string) bool { return strings.HasPrefix(at, Scheme) }

// Where is the folder in which the layout of an export is kept, and whether its address names the folder.
func Where(at string) (dir string, named bool) {
	name := strings.TrimPrefix(at, Scheme)
	if strings.ContainsAny(name, `/\`) || name == "." || name == ".." {
		return filepath.Clean(name), true
	}
	return filepath.Join(xdg.StateHome, "polytome", "served", name), false
}

// Absolute is an address with the folder that it may name, resolved.
func Absolute(at string, resolve func(path string) string) string {
	if dir, named := Where(at); named {
		return Scheme + resolve(dir)
	}
	return at
}

// Options say what a new export is like, and how what is in one comes about.
type Options struct {
	Filesystem string // exfat or fat32; "" for exfat
	Capacity   int64  // bytes of the volume; 0 for [Capacity]
	Cluster    int64  // bytes; 0 for what keeps its tables small
	Label      string // "" for [Label]
	// Make has a source for a file of so many bytes out of its recipe.
	Make func(recipe []byte, size int64) (virtual.Source, error)
}

// What an export has where nothing else is said.
const (
	Capacity = 20 * size.TiB
	Label    = "GAMES"
)

// An Export is one of this computer: all that fill, check and serve it in this program have the same.
type Export struct {
	dir  string
	make func([]byte, int64) (virtual.Source, error)
	vol  *virtual.Volume

	saving sync.Mutex // one layout is written after the other

	mu      sync.Mutex        // guards what follows
	recipes map[string]recipe // by folded paths
	using   int               // targets and servers that have it open
	holding int               // of them, those that may change it
	filling bool
	release func() // lets other processes have it
	changed bool   // since it was saved
	saved   time.Time
	clients int
	begun   map[string]bool // names of kept files that this program has made
	saw     stamp           // of the layout that is in memory
}

// opened are the exports that are open in this program, by their folders.
var opened = struct {
	sync.Mutex
	all map[string]*Export
}{all: map[string]*Export{}}

// Take opens an export, or has the one that is open. [Export.Leave] lets go of it.
func Take(at string, o Options) (*Export, error) {
	dir, _ := Where(at)
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	opened.Lock()
	defer opened.Unlock()
	e := opened.all[dir]
	if e == nil {
		if e, err = open(dir, o); err != nil {
			return nil, fmt.Errorf("opening the export %s: %w", at, err)
		}
		opened.all[dir] = e
	}
	e.mu.Lock()
	e.using++
	e.mu.Unlock()
	return e, nil
}

// Leave lets go of the export.
func (e *Export) Leave() {
	opened.Lock()
	defer opened.Unlock()
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.using--; e.using == 0 {
		delete(opened.all, e.dir)
	}
}

const layoutName = "layout"

// A stamp tells one layout that was written down from the next.
type stamp struct {
	size     int64
	modified time.Time
}

// stamp is that of the layout that is there now.
func (e *Export) stamp() stamp {
	info, err := os.Stat(filepath.Join(e.dir, layoutName))
	if err != nil {
		return stamp{}
	}
	return stamp{info.Size(), info.ModTime()}
}

func open(dir string, o Options) (*Export, error) {
	e := &Export{dir: dir, make: o.Make, recipes: map[string]recipe{}, begun: map[string]bool{}}
	e.saw = e.stamp() // before it is read: one that is newer is noticed
	f, err := os.Open(filepath.Join(dir, layoutName))
	if errors.Is(err, fs.ErrNotExist) {
		o.Capacity = cmp.Or(o.Capacity, Capacity)
		e.vol, err = virtual.New(virtual.Options{Filesystem: cmp.Or(o.Filesystem, "exfat"), Size: o.Capacity,
			Label: cmp.Or(o.Label, Label), Serial: uint32(time.Now().Unix()),
			Cluster: cmp.Or(o.Cluster, clusterOf(o.Capacity, o.Filesystem))})
		return e, err
	}
	if err != nil {
		return nil, err
	}
	defer f.Close() // which was read from
	v, all, err := parse(f)
	if err != nil {
		return nil, fmt.Errorf("%w; remove %s to have it laid out again", err, f.Name())
	}
	e.vol = v
	for _, r := range all {
		e.recipes[v.Fold(r.Path)] = r
		v.Link(r.Path, e.source(r))
	}
	return e, v.Publish()
}

// fat32Clusters is how many clusters a volume must have that is to be FAT32, with some to spare.
const fat32Clusters = 70_000

// clusterOf is the size of clusters for a volume: large ones, as its tables are in memory.
func clusterOf(volume int64, filesystem string) int64 {
	cluster := int64(32 * size.KiB)
	for filesystem == "fat32" && cluster > 512 && volume/cluster < fat32Clusters {
		cluster /= 2
	}
	for volume/cluster > 1<<24 {
		cluster *= 2
	}
	return cluster
}

// source is where the bytes of a file come from; one that always fails where that is not known.
func (e *Export) source(r recipe) virtual.Source {
	if r.Kept != "" {
		return kept{filepath.Join(e.dir, keptName, filepath.Base(r.Kept)), r.Size}
	}
	if e.make == nil {
		return nil
	}
	s, err := e.make(r.Make, r.Size)
	if err != nil {
		return never{r.Size, err}
	}
	return s
}

// never is a source that cannot be made.
type never struct {
	size int64
	err  error
}

func (n never) Size() int64                           { return n.size }
func (n never) ReadAt(_ []byte, _ int64) (int, error) { return 0, n.err }

// Volume is what is served.
func (e *Export) Volume() *virtual.Volume { return e.vol }

// Hold has no other process change the export until it is released.
func (e *Export) Hold() (release func(), err error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.holding == 0 {
		if e.release, err = claim.Named("served " + e.dir); err != nil {
			return nil, err
		}
		if was, now := e.saw, e.stamp(); was != now { // what is in memory is older: it must not be written over that
			e.release()
			return nil, fmt.Errorf("%w: another program has laid it out meanwhile; try again", target.ErrChanged)
		}
		e.sweep()
	}
	e.holding++
	return sync.OnceFunc(func() {
		e.mu.Lock()
		defer e.mu.Unlock()
		if e.holding--; e.holding == 0 {
			e.release()
		}
	}), nil
}

// Connect notes that a console has come: what goes from now on stays readable for it.
func (e *Export) Connect() error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.clients++; e.clients == 1 {
		return e.vol.Use(true)
	}
	return nil
}

// Disconnect notes that a console has gone.
func (e *Export) Disconnect() error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.clients--; e.clients == 0 {
		return e.vol.Use(false)
	}
	return nil
}

// saveEvery is how long changes wait at most before they are seen, and written down, while more of them come.
const saveEvery = time.Second

// settle has consoles see what was changed, and writes the layout down; at once, or when some time has passed. Those
// who come and go meanwhile do not wait for the disk.
func (e *Export) settle(now bool) error {
	e.saving.Lock()
	defer e.saving.Unlock()
	text, err := e.publish(now)
	if text == nil || err != nil {
		return err
	}
	err = os.MkdirAll(e.dir, 0o700)
	if err == nil {
		err = wholefile.Write(filepath.Join(e.dir, layoutName), text, wholefile.Private)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.saw = e.stamp()
	e.changed = e.changed || err != nil
	return err
}

// publish has consoles see what was changed, and returns the layout; nil where it is not written down now.
func (e *Export) publish(now bool) ([]byte, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if !e.changed || !now && time.Since(e.saved) < saveEvery {
		return nil, nil
	}
	if err := e.vol.Publish(); err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if err := e.write(&b); err != nil {
		return nil, err
	}
	e.changed, e.saved = false, time.Now()
	return b.Bytes(), nil
}

// touch notes that something was changed.
func (e *Export) touch() {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.changed = true
}

// note keeps how the bytes of a file come about.
func (e *Export) note(r recipe) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.recipes[e.vol.Fold(r.Path)], e.changed = r, true
}

// forget drops what is known of a file.
func (e *Export) forget(name string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.recipes, e.vol.Fold(name))
	e.changed = true
}

// renamed takes over that a file, or a folder with all that is in it, has another path.
func (e *Export) renamed(from, to string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.changed = true
	was := e.vol.Fold(from)
	var moved []recipe
	for key, r := range e.recipes {
		if key == was || strings.HasPrefix(key, was+"/") {
			r.Path = to + r.Path[len(from):]
			moved = append(moved, r)
			delete(e.recipes, key)
		}
	}
	for _, r := range moved {
		e.recipes[e.vol.Fold(r.Path)] = r
	}
}

// Recipe is how the bytes of a file come about; nil for one that is kept, or not there.
func (e *Export) Recipe(name string) []byte {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.recipes[e.vol.Fold(name)].Make
}

// Files is how many files there are.
func (e *Export) Files() int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return len(e.recipes)
}
