package scan

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/zeebo/xxh3"

	"polytome/internal/core/scancache"
	"polytome/internal/core/title"
	"polytome/internal/format/sums"
)

// keeper reads from the cache before a scan and writes to it afterwards.
type keeper struct {
	store *scancache.Store
	known uint64
	err   error

	loaded  chan struct{} // closed when folders and checks are there
	folders map[string]*kept
	checks  checks
	reals   reals

	mu      sync.Mutex
	adopted []string          // folders whose records were taken over by others
	carried []scancache.Check // of files that were moved, under their new paths
}

// kept is a folder in the cache.
type kept struct {
	scancache.Folder
	whole bool
}

func newKeeper(store *scancache.Store, known uint64) *keeper {
	k := &keeper{store: store, known: known, folders: map[string]*kept{}, loaded: make(chan struct{})}
	k.checks = checks{&k.reals, map[string]scancache.Check{}}
	return k
}

// fingerprint sums up what files are looked at with: the descriptions of platforms, passwords, what
// is allowed, and the format of records. What was found with another is looked at again.
func fingerprint(o Options, allow map[string]bool) uint64 {
	b := fmt.Appendf(nil, "%d\n", recordFormat)
	for _, p := range o.Set.Platforms {
		text, err := json.Marshal(p)
		if err != nil {
			text = []byte(p.Name)
		}
		b = append(b, text...)
	}
	for _, p := range o.Passwords {
		b = fmt.Appendf(b, "\n%q", p)
	}
	var paths []string
	for p := range allow {
		paths = append(paths, p)
	}
	slices.Sort(paths)
	for _, p := range paths {
		b = fmt.Appendf(b, "\n+%q", p)
	}
	return xxh3.Hash(b)
}

// load begins to read what is known of the sources.
func (k *keeper) load(sources []string) {
	if k.store == nil {
		close(k.loaded)
		return
	}
	go func() {
		defer close(k.loaded)
		for _, dir := range sources {
			dir = k.reals.of(dir)
			err := k.store.Folders(dir, func(f scancache.Folder) {
				if f.Known == k.known && len(f.Data) > 0 {
					k.folders[f.Path] = &kept{f, f.Data[0] != 0}
				}
			})
			if err == nil {
				err = k.store.Checks(dir, func(c scancache.Check) { k.checks.all[c.Path] = c })
			}
			if err != nil {
				k.err = err
			}
		}
	}()
}

// record is what is known of a folder, nil for nothing.
func (k *keeper) record(dir string) *kept {
	<-k.loaded
	return k.folders[k.reals.dir(dir)]
}

func (f *kept) decode(dir string) *record {
	r, err := decodeRecord(f.Data, dir)
	if err != nil {
		return nil
	}
	return r
}

// moved finds what is known of a folder that lay elsewhere: its files have the same names,
// lengths and dates, and those of titles the same signature.
func (l *look) moved() *record {
	k := l.s.store
	if k.store == nil {
		return nil
	}
	all, err := k.store.Signed(signOf(l.all))
	if err != nil {
		return nil
	}
	for _, f := range all {
		if f.Known != k.known || f.Path == k.reals.dir(l.dir) {
			continue
		}
		if _, err := os.Stat(f.Path); err == nil {
			continue // it is a copy; the other is still where it was
		}
		rec, err := decodeRecord(f.Data, l.dir)
		if err != nil || rec.whole || !l.signed(rec) {
			continue
		}
		for i := range rec.files { // another disk has other inodes
			rec.files[i].inode = 0
		}
		k.mu.Lock()
		k.adopted = append(k.adopted, f.Path)
		k.mu.Unlock()
		k.carry(rec)
		return rec
	}
	return nil
}

// carry takes along what is known of moved files from having read them all.
func (k *keeper) carry(rec *record) {
	for i := range rec.titles {
		d := &rec.titles[i].Discs[0]
		if d.Sign == "" {
			continue
		}
		all, err := k.store.Moved(d.Sign, d.File.Size)
		if err != nil {
			return
		}
		for _, c := range all {
			if c.Modified == modified(d.File.Modified) && filepath.Base(c.Path) == filepath.Base(d.File.Path) {
				c.Path = k.reals.of(d.File.Path)
				k.mu.Lock()
				k.carried = append(k.carried, c)
				k.mu.Unlock()
				break
			}
		}
	}
}

// signed reports whether the files of all titles have the signatures that a record tells.
func (l *look) signed(rec *record) bool {
	for i := range rec.titles {
		d := &rec.titles[i].Discs[0]
		f, err := os.Open(d.File.Path)
		if err != nil {
			return false
		}
		sign, _, err := signature(f, d.File.Size)
		_ = f.Close()
		if err != nil || sign != d.Sign {
			return false
		}
	}
	return true
}

// putEvery is how many folders are written to the cache at once.
const putEvery = 2000

// keep writes what was found to the cache, and forgets folders that are gone.
func (k *keeper) keep(looks []*look, sources []string) {
	sources = slices.Clone(sources)
	if k.store == nil || k.err != nil {
		return
	}
	met := map[string]bool{}
	var batch []scancache.Folder
	put := func(gone []string) {
		if err := k.store.Put(batch, gone); err != nil {
			k.err = err
		}
		batch = batch[:0]
	}
	for _, l := range looks {
		dir := k.reals.dir(l.dir)
		met[dir] = true
		if !l.fresh || !l.done {
			continue
		}
		files, whole := l.all, l.whole
		if whole {
			files = l.parts
		}
		if len(l.failed) > 0 { // those are tried again, whatever the rest does
			files = slices.DeleteFunc(slices.Clone(files),
				func(it item) bool { return slices.Contains(l.failed, it.name) })
		}
		rec := record{whole: whole, files: files, titles: l.titles, outside: l.outside, passed: l.passed}
		rec.titles = slices.DeleteFunc(slices.Clone(rec.titles),
			func(t title.Title) bool { return slices.Contains(l.failed, base(t.Source())) })
		batch = append(batch, scancache.Folder{Path: dir, Stamp: stamp(files), Sign: signOf(files), Known: k.known,
			Data: rec.encode(l.dir)})
		if len(batch) == putEvery {
			put(nil)
		}
	}
	for i := range sources {
		sources[i] = k.reals.dir(sources[i])
	}
	gone := k.adopted
	for dir := range k.folders {
		if !met[dir] && under(dir, sources) {
			if _, err := os.Stat(dir); err != nil && os.IsNotExist(err) && reachable(sources, dir) {
				gone = append(gone, dir)
			}
		}
	}
	put(gone)
}

// absolute is a path that means the same wherever the program is started.
func absolute(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}

func under(dir string, sources []string) bool {
	return slices.ContainsFunc(sources,
		func(s string) bool { return dir == s || strings.HasPrefix(dir, s+string(filepath.Separator)) })
}

// reachable reports whether the source that a folder was in is there: of one that is away,
// nothing is forgotten.
func reachable(sources []string, dir string) bool {
	for _, s := range sources {
		if dir == s || strings.HasPrefix(dir, s+string(filepath.Separator)) {
			_, err := os.Stat(s)
			return err == nil
		}
	}
	return false
}

// maxSummed is the longest file that is read whole during a scan, to find its row in a list of
// titles.
const maxSummed = 64 << 20

// settle adds the checks of moved files to the others.
func (k *keeper) settle() {
	<-k.loaded
	for _, c := range k.carried {
		k.checks.all[c.Path] = c
		if err := k.store.PutCheck(c); err != nil {
			k.err = err
		}
	}
}

// sumForLists reads small files whose titles the lists may tell by their checksums only.
func (s *scan) sumForLists() {
	want := s.list.Wants()
	if len(want) == 0 {
		return
	}
	<-s.store.loaded
	var mu sync.Mutex
	var tasks []func()
	for _, l := range s.looks {
		for i := range l.titles {
			t := &l.titles[i]
			d := &t.Discs[0]
			if t.Archive != "" || t.Form != title.Cartridge && t.Form != title.Image || d.File.Size > maxSummed ||
				s.list.HasID(t) {
				continue
			}
			if c, ok := s.store.checks.of(d.File.Path, d.File.Size, modified(d.File.Modified), d.Sign); ok &&
				hasSums(c.Sums, want) {
				continue
			}
			tasks = append(tasks, func() {
				defer s.disks.take(l.device())()
				sums, err := sumFile(s.ctx, d.File.Path, want, nil)
				if err != nil {
					return // the scan has reported it, or verify will
				}
				c := scancache.Check{Path: s.store.reals.of(d.File.Path), Size: d.File.Size,
					Modified: modified(d.File.Modified), Sign: d.Sign, Sums: sums, At: time.Now().Unix()}
				mu.Lock()
				s.store.checks.all[c.Path] = c
				mu.Unlock()
				if err := s.store.store.PutCheck(c); err != nil {
					mu.Lock()
					s.store.err = err
					mu.Unlock()
				}
			})
		}
	}
	s.push(tasks...)
	s.work()
}

func hasSums(have string, want []sums.Algorithm) bool {
	for _, a := range want {
		if !strings.Contains(have, string(a)+":") {
			return false
		}
	}
	return true
}
