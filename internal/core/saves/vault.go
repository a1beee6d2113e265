package saves

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"time"

	"github.com/adrg/xdg"
	"github.com/pelletier/go-toml/v2"

	"polytome/internal/core/strict"
	"polytome/internal/lockfile"
	"polytome/internal/plainfile"
	"polytome/internal/target"
	"polytome/internal/wholefile"
)

// A Vault is a folder of this computer with every version of every save that was kept: the bytes of each file once,
// under files/ by their SHA-256, and list.toml, which says what they are. It can be read without the program.
type Vault struct {
	Dir string
}

// Usual is the vault in the user's data folder.
func Usual() Vault { return Vault{filepath.Join(xdg.DataHome, "polytome", "saves")} }

// A Version is a save as it was when it was kept.
type Version struct {
	Number int       `toml:"number" json:"number"` // from 1, never given again
	Kept   time.Time `toml:"kept" json:"kept"`
	// Target is the name of the target that it was on, and ID what no other has, such as its address.
	Target string `toml:"target" json:"target"`
	ID     string `toml:"target-id" json:"target-id"`
	Loader string `toml:"loader" json:"loader"`
	Of     string `toml:"of,omitempty" json:"of,omitempty"`
	Shared bool   `toml:"shared,omitempty" json:"shared,omitempty"`
	Path   string `toml:"path" json:"path"`
	Folder bool   `toml:"folder,omitempty" json:"folder,omitempty"`
	Why    string `toml:"why,omitempty" json:"why,omitempty"`
	// PutBack is set for one that was put there from the vault: it did not come of what was there before.
	PutBack bool   `toml:"restored,omitempty" json:"restored,omitempty"`
	Files   []File `toml:"file" json:"files"`
}

// Bytes is how long its files are together.
func (v *Version) Bytes() (n int64) {
	for _, f := range v.Files {
		n += f.Size
	}
	return n
}

// Modified is when the newest of its files was written.
func (v *Version) Modified() (t time.Time) {
	for _, f := range v.Files {
		if f.Modified.After(t) {
			t = f.Modified
		}
	}
	return t
}

// list is list.toml.
type list struct {
	Format   int       `toml:"format"`
	Versions []Version `toml:"version"`
}

const (
	listName  = "list.toml"
	filesName = "files"
	mostList  = 256 << 20
)

// Versions are all that are kept, the oldest first.
func (v Vault) Versions() ([]Version, error) {
	name := filepath.Join(v.Dir, listName)
	text, err := plainfile.Read(name, mostList)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the list of kept saves: %w", err)
	}
	var l list
	if _, err := strict.Decode(name, text, &l); err != nil {
		return nil, err
	}
	if l.Format != 1 {
		return nil, fmt.Errorf("%s has format %d, and this version reads format 1", name, l.Format)
	}
	return l.Versions, nil
}

// Version is the one with a number.
func (v Vault) Version(number int) (*Version, error) {
	all, err := v.Versions()
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Number == number {
			return &all[i], nil
		}
	}
	return nil, fmt.Errorf("no save number %d was kept", number)
}

// hold has no other process change the vault until release.
func (v Vault) hold(ctx context.Context) (release func(), err error) {
	if err := os.MkdirAll(filepath.Join(v.Dir, filesName), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(filepath.Join(v.Dir, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	for { // the others end, or are ended, before long
		taken, err := lockfile.Take(f)
		if err != nil {
			return nil, errors.Join(err, f.Close())
		}
		if !taken {
			return func() { _ = f.Close() }, nil
		}
		select {
		case <-ctx.Done():
			return nil, errors.Join(ctx.Err(), f.Close())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// object is where the bytes with a sum are.
func (v Vault) object(sum string) string { return filepath.Join(v.Dir, filesName, sum[:2], sum) }

// File is the file of the vault with the bytes of one of a version's.
func (v Vault) File(f File) string { return v.object(f.SHA256) }

// A Place is where saves are: a target, its name, and an ID that no other has.
type Place struct {
	Target target.Target
	Name   string
	ID     string
	Why    string // they are kept, for the list
}

// Keep copies saves into the vault, and reads them back. A save that is there as it is, from the same place, is no new
// version. It returns a version for each, and how many of them are new. On an error, those that were kept before it
// are.
func (v Vault) Keep(ctx context.Context, p Place, all []Save) (kept []Version, fresh int, err error) {
	if len(all) == 0 {
		return nil, 0, nil
	}
	release, err := v.hold(ctx)
	if err != nil {
		return nil, 0, fmt.Errorf("keeping saves: %w", err)
	}
	defer release()
	l, err := v.begin()
	if err != nil {
		return nil, 0, err
	}
	defer func() {
		fresh = l.fresh
		err = errors.Join(err, l.write())
	}()
	for i := range all {
		s := &all[i]
		x := Version{Kept: now(), Target: p.Name, ID: p.ID, Loader: s.Loader, Of: s.Of, Shared: s.Shared, Path: s.Path,
			Folder: s.Folder, Why: p.Why}
		for _, f := range s.Files {
			if f.SHA256, err = v.take(ctx, p.Target, path.Join(s.Path, f.Path), f.Size); err != nil {
				return kept, l.fresh, fmt.Errorf("keeping the save %s: %w", path.Join(s.Path, f.Path), err)
			}
			x.Files = append(x.Files, f)
		}
		kept = append(kept, l.add(x))
	}
	return kept, l.fresh, nil
}

func now() time.Time { return time.Now().Truncate(time.Second) }

// Put notes that versions were put to a place from the vault, at the paths that they have: what is kept from there
// later came of them.
func (v Vault) Put(ctx context.Context, p Place, all []Version) (err error) {
	if len(all) == 0 {
		return nil
	}
	release, err := v.hold(ctx)
	if err != nil {
		return fmt.Errorf("keeping saves: %w", err)
	}
	defer release()
	l, err := v.begin()
	if err != nil {
		return err
	}
	for _, x := range all {
		x.Kept, x.Target, x.ID, x.PutBack = now(), p.Name, p.ID, true
		x.Why = fmt.Sprintf("number %d was put there", x.Number)
		l.add(x)
	}
	return l.write()
}

// A listing is the list while something is added to it.
type listing struct {
	of      Vault
	all     []Version
	highest int // number that was given
	fresh   int // versions that came
}

// begin reads the list. The vault is held.
func (v Vault) begin() (*listing, error) {
	all, err := v.Versions()
	l := &listing{of: v, all: all}
	for i := range all {
		l.highest = max(l.highest, all[i].Number)
	}
	return l, err
}

// add adds a version, unless the newest one of its place has the same bytes. It returns the one that is in the list.
func (l *listing) add(x Version) Version {
	if was := newest(l.all, x.ID, x.Path); was != nil && same(was.Files, x.Files) {
		return *was
	}
	l.highest++
	x.Number = l.highest
	l.all, l.fresh = append(l.all, x), l.fresh+1
	return x
}

// write writes the list, if something came.
func (l *listing) write() error {
	if l.fresh == 0 {
		return nil
	}
	text, err := toml.Marshal(list{1, l.all})
	if err != nil {
		return err
	}
	return wholefile.Write(filepath.Join(l.of.Dir, listName), text, wholefile.Private)
}

// newest is the last version of a save at a place; nil for none.
func newest(all []Version, id, path string) *Version {
	for i := len(all) - 1; i >= 0; i-- {
		if all[i].ID == id && all[i].Path == path {
			return &all[i]
		}
	}
	return nil
}

// same reports whether files have the same bytes.
func same(a, b []File) bool {
	return slices.EqualFunc(a, b, func(a, b File) bool { return a.Path == b.Path && a.SHA256 == b.SHA256 })
}

// Same reports whether a save on a target is what a version has: by lengths and times, and by the bytes where the times
// alone differ. What cannot be read is not the same.
func Same(ctx context.Context, t target.Target, s *Save, x *Version) bool {
	return slices.EqualFunc(s.Files, x.Files, func(a, b File) bool {
		if a.Path != b.Path || a.Size != b.Size || a.Modified.Equal(b.Modified) {
			return a.Path == b.Path && a.Size == b.Size
		}
		c, err := t.Open(ctx, path.Join(s.Path, a.Path))
		if err != nil {
			return false
		}
		defer c.Close() // which was read from
		h := sha256.New()
		_, err = io.Copy(h, io.NewSectionReader(c, 0, c.Size()))
		return err == nil && hex.EncodeToString(h.Sum(nil)) == b.SHA256
	})
}

// take copies a file into the vault, and reads it back there.
func (v Vault) take(ctx context.Context, t target.Target, name string, size int64) (sum string, err error) {
	c, err := t.Open(ctx, name)
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, c.Close()) }()
	if c.Size() != size {
		return "", fmt.Errorf("it had %d bytes and has %d now", size, c.Size())
	}
	f, err := os.CreateTemp(filepath.Join(v.Dir, filesName), "begun-")
	if err != nil {
		return "", err
	}
	defer func() { _ = os.Remove(f.Name()) }() // which has another name by then, or is of no use
	h := sha256.New()
	_, err = io.Copy(io.MultiWriter(f, h), io.NewSectionReader(c, 0, size))
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return "", err
	}
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	sum = hex.EncodeToString(h.Sum(nil))
	to := v.object(sum)
	if is, err := sumOf(to); err == nil && is == sum {
		return sum, nil // it is there already, and whole
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return "", err
	}
	if err := os.Rename(f.Name(), to); err != nil {
		return "", err
	}
	is, err := sumOf(to)
	if err == nil && is != sum {
		err = errors.New("it reads back otherwise than it was written")
	}
	return sum, err
}

func sumOf(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close() // which was read from
	h := sha256.New()
	_, err = io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), err
}

// Export writes the files of a version to a folder of this computer, under the save's own name.
func (v Vault) Export(x *Version, dir string) (string, error) {
	to := filepath.Join(dir, filepath.FromSlash(path.Base(x.Path)))
	for _, f := range x.Files {
		name := filepath.Join(to, filepath.FromSlash(f.Path))
		if !filepath.IsLocal(filepath.FromSlash(cmp.Or(f.Path, "."))) {
			return "", fmt.Errorf("the list of kept saves has the path %q", f.Path)
		}
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return "", err
		}
		if err := v.copyTo(name, f); err != nil {
			return "", fmt.Errorf("writing %s: %w", name, err)
		}
	}
	return to, nil
}

// copyTo writes a kept file to a new one.
func (v Vault) copyTo(name string, f File) error {
	in, err := v.open(f)
	if err != nil {
		return err
	}
	defer in.Close() // which was read from
	out, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close(), os.Chtimes(name, f.Modified, f.Modified))
}

// open opens a kept file, after its bytes were compared with their sum.
func (v Vault) open(f File) (*os.File, error) {
	if len(f.SHA256) != 2*sha256.Size {
		return nil, fmt.Errorf("the list of kept saves has the sum %q", f.SHA256)
	}
	name := v.object(f.SHA256)
	is, err := sumOf(name)
	if err != nil {
		return nil, err
	}
	if is != f.SHA256 {
		return nil, fmt.Errorf("%s is damaged", name)
	}
	return os.Open(name)
}
