// Package drives finds the drives of this computer and says what they are, what is on them, and what may be done to
// them. It also holds the guard, the one piece of code through which anything is opened for writing that is no plain
// folder, and lets drives go so that they can be unplugged.
//
// Image files count as drives, and so do exports that a server has over NBD: everything here works on them as on a
// stick.
package drives

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"polytome/internal/format/exfat"
	"polytome/internal/format/fat"
	"polytome/internal/format/partition"
	"polytome/internal/format/slab"
	"polytome/internal/format/volume"
	"polytome/internal/lockfile"
	"polytome/internal/medium"
	"polytome/internal/nbd"
	"polytome/internal/size"
	"polytome/internal/sparse"
	"polytome/internal/target/remote"
)

// A System is where the running system tells about its devices. Tests make their own.
type System struct {
	Sys, Proc, Dev string
	Udev           string    // udev's database
	Elevate        Elevator  // for drives that this process may not open; nil where there is none
	calls          describer // of a system that has no such folders; else nil
}

// Here is the running system. Where it has no such folders, its own calls are asked.
var Here = here

// A Drive is a device, an image file or an export.
type Drive struct {
	Path      string `json:"path"` // of an export, its address
	Image     bool   `json:"image,omitempty"`
	Network   bool   `json:"network,omitempty"` // an export
	Model     string `json:"model,omitempty"`
	Serial    string `json:"serial,omitempty"`
	Adapter   string `json:"adapter,omitempty"` // what it hangs on, where that is a device of its own: its numbers
	Bus       string `json:"bus"`               // usb, sata, nvme, card, loop, image, network or other
	Size      int64  `json:"size"`
	Sector    int64  `json:"sector"`
	Removable bool   `json:"removable"`
	ReadOnly  bool   `json:"read-only,omitempty"`

	Table   *partition.Table `json:"table,omitempty"` // nil for none
	Volumes []Volume         `json:"volumes"`
	// Uses are what the drive is in use for, in sentences; while there are some, nothing is written to it.
	Uses []Use `json:"uses,omitempty"`
	// Trouble is why it could not be looked into, in a sentence.
	Trouble string `json:"trouble,omitempty"`

	kernel string            // the kernel's name, such as sdb
	number string            // major:minor
	parts  map[int]kernelDev // by partition
	print  string            // of the partition table
	folder bool              // it is a mounted volume of which no more is known
	denied bool              // only an administrator may read it
	helper Helper            // through which it was looked at; nil for none
	locks  []string          // of Windows: the volumes that lie on it
}

// kernelDev is a partition as the kernel knows it.
type kernelDev struct{ name, number string }

// A Volume is a filesystem on a drive, or a partition without one.
type Volume struct {
	Number int    `json:"number"` // of the partition, 0 for one that begins with the drive
	Start  int64  `json:"start"`  // bytes
	Size   int64  `json:"size"`
	Type   string `json:"type,omitempty"` // of the partition, in words
	// fat12, fat16, fat32, exfat, or what else was recognised; "" for nothing known
	Filesystem string   `json:"filesystem"`
	Label      string   `json:"label,omitempty"`
	Serial     string   `json:"serial,omitempty"` // what the volume is known by, as [target.Facts] has it
	Cluster    int64    `json:"cluster,omitempty"`
	Free       int64    `json:"free"` // bytes, -1 where it is not known
	Dirty      bool     `json:"dirty,omitempty"`
	MountedAt  []string `json:"mounted-at,omitempty"`
	Trouble    string   `json:"trouble,omitempty"`
}

// Ours reports whether the volume is of a filesystem that is written here.
func (v *Volume) Ours() bool { return Ours(v.Filesystem) }

// Ours reports whether a filesystem is written here.
func Ours(filesystem string) bool {
	return filesystem == "fat16" || filesystem == "fat32" || filesystem == "exfat" || filesystem == Slab
}

// Slab is the filesystem of a console's own disk; see [slab].
const Slab = "slab"

// Shown is the filesystem in words.
func (v *Volume) Shown() string { return FilesystemShown(v.Filesystem) }

// FilesystemShown is the name of a filesystem in words.
func FilesystemShown(name string) string {
	switch name {
	case "":
		return "no filesystem"
	case "exfat":
		return "exFAT"
	case Slab:
		return "slab disk"
	case "fat12", "fat16", "fat32", "ntfs", "xfs", "lvm", "raid":
		return strings.ToUpper(name)
	case "crypt":
		return "an encrypted volume"
	case "swap":
		return "swap space"
	case "iso9660":
		return "ISO 9660"
	}
	return name
}

// Use is what a drive is in use for.
type Use struct {
	Kind UseKind `json:"kind"`
	Say  string  `json:"say"`
	At   string  `json:"at,omitempty"` // the folder of a mount
}

// UseKind is a kind of use.
type UseKind string

// The kinds. Only what is mounted and not of the system can be released here.
const (
	OfSystem UseKind = "system"
	Mounted  UseKind = "mounted"
	Swap     UseKind = "swap"
	Member   UseKind = "member" // RAID, LVM or an encrypted volume
	Looped   UseKind = "looped" // an image that is a loop device
	Opened   UseKind = "opened" // another program has it open for writing
)

// Name is what the drive is named: its model, or the name of the image.
func (d *Drive) Name() string {
	if d.Image {
		return filepath.Base(d.Path)
	}
	if d.Model != "" {
		return d.Model
	}
	return filepath.Base(d.Path)
}

// Key is what names the drive lastingly: its serial number, or the path.
func (d *Drive) Key() string {
	if d.Serial != "" && !d.Image {
		return d.Serial
	}
	return d.Path
}

// Fixed reports whether it is a disk that is built in.
func (d *Drive) Fixed() bool {
	return !d.Image && !d.Network && !d.Removable && d.Bus != "usb" && d.Bus != "loop"
}

// Describe tells the drive from others, in a line.
func (d *Drive) Describe() string {
	parts := []string{d.Name(), size.Format(d.Size)}
	if d.Serial != "" && !d.Image {
		parts = append(parts, "serial "+d.Serial)
	}
	return strings.Join(append(parts, d.Path), ", ")
}

// Find returns the volume with that number of a partition.
func (d *Drive) Find(number int) *Volume {
	for i := range d.Volumes {
		if d.Volumes[i].Number == number {
			return &d.Volumes[i]
		}
	}
	return nil
}

// MountPoints are the folders at which parts of the drive are mounted.
func (d *Drive) MountPoints() []string {
	var out []string
	for _, u := range d.Uses {
		if u.At != "" {
			out = append(out, u.At)
		}
	}
	return out
}

// An Identity is what tells a drive from every other one, at a moment.
type Identity struct {
	Path   string `json:"path"`
	Serial string `json:"serial"`
	Size   int64  `json:"size"`
	Table  string `json:"table"` // a hash of the partition table
}

// Identity is that of the drive as it was looked at.
func (d *Drive) Identity() Identity { return Identity{d.Path, d.Serial, d.Size, d.print} }

// look fills in what stands on the drive itself.
func (d *Drive) look(ctx context.Context) {
	m, err := d.Read(ctx)
	if err != nil {
		d.Trouble, d.denied = err.Error(), errors.Is(err, os.ErrPermission) && !d.Image
		return
	}
	defer m.Close() // which was read from
	if d.Image || d.Network || d.Size == 0 {
		d.Size = m.Size()
	}
	d.inspect(ctx, m)
}

// Read opens the drive for reading. Of an export, the connection is of use as long as the context lasts.
func (d *Drive) Read(ctx context.Context) (*medium.File, error) {
	if d.Network {
		return dial(ctx, d.Path)
	}
	if d.helper != nil {
		return d.helper.Read(ctx, d)
	}
	m, err := d.open(false)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", d.Path, worded{reason(err), err})
	}
	return m, nil
}

// worded is an error in other words.
type worded struct {
	say string
	err error
}

func (w worded) Error() string { return w.say }
func (w worded) Unwrap() error { return w.err }

// open opens an image or device, to be written to as nobody else can.
func (d *Drive) open(write bool) (*medium.File, error) {
	if !d.Image {
		return openDevice(d, write)
	}
	flags := os.O_RDONLY
	if write {
		flags = os.O_RDWR
	}
	f, err := os.OpenFile(d.Path, flags, 0)
	if err != nil {
		return nil, err
	}
	if write {
		taken, err := lockfile.Take(f)
		if taken {
			err = errors.New("another Polytome is writing to it")
		}
		if err != nil {
			_ = f.Close()
			return nil, err
		}
	}
	return of(f)
}

// of takes over an opened file, or closes it.
func of(f *os.File) (*medium.File, error) {
	m, err := medium.Of(f)
	if err != nil {
		_ = f.Close()
	}
	return m, err
}

// dial connects to an export. When the context ends, answers are not waited for any longer.
func dial(ctx context.Context, address string) (*medium.File, error) {
	c, err := nbd.Open(ctx, address, nbd.Options{})
	if err != nil {
		if a, bad := nbd.ParseAddress(address); bad == nil {
			host, port := a.HostPort()
			err = cmp.Or(remote.Unreachable(host, port, "NBD server", err), err)
		}
		return nil, err
	}
	stop := context.AfterFunc(ctx, c.Hurry)
	return medium.On(&export{c, stop}, address), nil
}

// export is a connection that does not ask for its context any longer when it is closed.
type export struct {
	*nbd.Client
	stop func() bool
}

func (e *export) Close() error {
	e.stop()
	return e.Client.Close()
}

// reason leaves the path out of an error, and says how to get permission.
func reason(err error) string {
	if errors.Is(err, os.ErrPermission) {
		return "permission denied. " + permission
	}
	var pe *os.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}

func (d *Drive) inspect(ctx context.Context, m *medium.File) {
	d.Volumes, d.Table = []Volume{}, nil
	sector := d.Sector
	if d.Image || d.Network {
		sector = 0
	}
	t, err := partition.Read(m, d.Size, sector)
	switch {
	case errors.Is(err, partition.ErrNoTable):
	case err != nil:
		d.Trouble = fmt.Sprintf("its start cannot be read: %v", err)
		return
	default:
		d.Table, d.Sector = t, t.Sector
	}
	if d.Sector == 0 {
		d.Sector = 512
	}
	d.print = tablePrint(m, d.Size, d.Table)
	if d.Table == nil {
		v := Volume{Size: d.Size, Free: -1}
		if v.probe(ctx, m); v.Filesystem != "" || v.Trouble != "" {
			d.Volumes = append(d.Volumes, v)
		}
		return
	}
	for _, p := range t.Parts {
		v := Volume{Number: p.Number, Start: p.Start, Size: min(p.Size, d.Size-p.Start), Type: p.Type.Shown(), Free: -1}
		v.probe(ctx, m.Part(v.Start, v.Size))
		d.Volumes = append(d.Volumes, v)
	}
}

// tablePrint is a hash of what tells partitions: the first sectors and the last ones. Of a volume without a table, it
// is what does not change while files come and go.
func tablePrint(m io.ReaderAt, length int64, t *partition.Table) string {
	h := sha256.New()
	read := func(at, n int64) {
		b := make([]byte, n)
		k, _ := m.ReadAt(b, at)
		_, _ = h.Write(b[:k])
	}
	if t == nil {
		read(0, 64)
		read(0x64, 4)
	} else {
		read(0, min(34*t.Sector, length))
		read(max(0, length/t.Sector-33)*t.Sector, 33*t.Sector)
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// freeTable is up to which size a table of clusters is read for a glance.
const freeTable = 64 << 20

// probe finds out what filesystem a volume has, and what it describes itself.
func (v *Volume) probe(ctx context.Context, m *medium.File) {
	b := make([]byte, 68<<10)
	n, err := m.ReadAt(b, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		v.Trouble = fmt.Sprintf("it cannot be read: %v", reason(err))
		return
	}
	b = b[:n]
	switch v.Filesystem = recognise(b); {
	case v.Filesystem == Slab || v.Filesystem == "" && slab.Is(m):
		v.probeSlab(m)
		return
	case !Ours(v.Filesystem) && v.Filesystem != "fat12":
		return
	}
	vol, err := OpenVolume(m)
	if err != nil {
		v.Trouble = err.Error()
		return
	}
	info := vol.Info()
	v.Filesystem, v.Label, v.Cluster, v.Dirty = info.Filesystem, info.Label, info.Cluster, info.Dirty
	v.Serial = fmt.Sprintf("%08x", info.Serial)
	if free, ok := vol.FreeReported(); ok {
		v.Free = free
	} else if table := int64(info.Clusters) * 4; table <= freeTable || info.Filesystem == "exfat" {
		if free, err := vol.FreeBytes(ctx); err == nil {
			v.Free = free
		} else {
			v.Trouble = err.Error()
		}
	}
}

// probeSlab finds out what a slab disk describes itself.
func (v *Volume) probeSlab(m *medium.File) {
	v.Filesystem, v.Cluster = Slab, slab.Slab
	d, err := slab.Open(m, m.Size())
	if err != nil {
		v.Trouble = err.Error()
		return
	}
	i := d.Info()
	v.Label, v.Free, v.Serial = i.Label, i.Free, i.Number
}

// OpenVolume opens a FAT or exFAT volume.
func OpenVolume(m *medium.File) (*volume.Volume, error) {
	v, err := openVolume(m, m.Size())
	switch {
	case err != nil:
		return nil, fmt.Errorf("reading the first sector of %s: %w", m.Name(), err)
	case v == nil:
		return nil, fmt.Errorf("%s has no FAT or exFAT volume there", m.Name())
	}
	return v()
}

// openVolume finds how the volume on a device is opened; nil where there is not one of ours.
func openVolume(dev volume.Device, length int64) (open func() (*volume.Volume, error), err error) {
	boot := make([]byte, 512)
	if _, err := dev.ReadAt(boot, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	switch {
	case exfat.Is(boot):
		return func() (*volume.Volume, error) { return exfat.Open(dev, length) }, nil
	case fat.Is(boot):
		return func() (*volume.Volume, error) { return fat.Open(dev, length) }, nil
	}
	return nil, nil
}

// Rehearse opens a volume once more to try on it what is planned: see [volume.Volume.Rehearse].
func Rehearse(v *volume.Volume) (*volume.Volume, error) {
	length := v.Info().Size
	return v.Rehearse(func(dev volume.Device) (*volume.Volume, error) {
		open, err := openVolume(dev, length)
		if err != nil || open == nil {
			return nil, cmp.Or(err, errors.New("the volume has changed since it was opened"))
		}
		return open()
	})
}

// recognise tells filesystems, and what else keeps data on drives, by their marks.
func recognise(b []byte) string {
	at := func(off int, mark string) bool {
		return off+len(mark) <= len(b) && string(b[off:off+len(mark)]) == mark
	}
	switch {
	case len(b) >= 512 && exfat.Is(b):
		return "exfat"
	case at(0, "SLABDISK"):
		return Slab
	case at(3, "NTFS    "):
		return "ntfs"
	case at(0, "LUKS\272\276"):
		return "crypt"
	case at(512, "LABELONE"), at(0, "LABELONE"):
		return "lvm"
	case at(4086, "SWAPSPACE2"):
		return "swap"
	case at(1080, "\x53\xef"):
		return "ext4"
	case at(65600, "_BHRfS_M"):
		return "btrfs"
	case at(0, "XFSB"):
		return "xfs"
	case at(4096, "\xfc\x4e\x2b\xa9"):
		return "raid"
	case len(b) >= 512 && fat.Is(b):
		return "fat32" // which FAT it is tells the volume itself
	case at(32769, "CD001"):
		return "iso9660"
	}
	return ""
}

// Image looks at an image file.
func (s System) Image(ctx context.Context, name string) (*Drive, error) {
	info, err := os.Stat(name)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("no image or drive %s; check the spelling, or create one: polytome drives prepare %s "+
			"--size 58GiB", name, name)
	}
	if err != nil {
		return nil, fmt.Errorf("looking at %s: %v", name, reason(err))
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not an image or a drive", name)
	}
	full, err := filepath.Abs(name)
	if err != nil {
		return nil, err
	}
	d := &Drive{Path: full, Image: true, Bus: "image", Serial: filepath.Base(full), Size: info.Size(),
		ReadOnly: info.Mode().Perm()&0o222 == 0, Removable: true}
	d.look(ctx)
	s.uses(d)
	return d, nil
}

// Export looks at what a server exports at an address.
func (s System) Export(ctx context.Context, address string) (*Drive, error) {
	a, err := nbd.ParseAddress(address)
	if err != nil {
		return nil, err
	}
	d := &Drive{Path: address, Network: true, Bus: "network", Model: cmp.Or(a.Export, a.Host), Removable: true}
	m, err := d.Read(ctx)
	if err != nil {
		return nil, err
	}
	defer m.Close() // which was read from
	if r, ok := m.ReadOnly(); ok {
		d.ReadOnly = r
	}
	d.Size = m.Size()
	d.inspect(ctx, m)
	if _, err := m.ReadAt(make([]byte, 1), 0); err != nil { // it went meanwhile, and what was found is worth nothing
		return nil, fmt.Errorf("looking at %s: %w", d.Name(), err)
	}
	return d, nil
}

// MakeImage makes an image file of so many bytes, all of it a hole, where there is none.
func MakeImage(name string, n int64) error {
	f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o644)
	if err == nil {
		err = errors.Join(sparse.Extend(f, n), f.Close())
	}
	if err != nil {
		return fmt.Errorf("making the image: %w", err)
	}
	return nil
}

// Look looks at a drive: a path of a device or image, the address of an export, or a serial number.
func (s System) Look(ctx context.Context, what string) (*Drive, error) {
	if nbd.IsAddress(what) {
		return s.Export(ctx, what)
	}
	info, err := os.Stat(what)
	if err == nil && info.Mode().IsRegular() && filepath.Dir(what) != s.Dev {
		return s.Image(ctx, what)
	}
	named := strings.HasPrefix(what, `\\.\`) // a device of Windows
	if err != nil && !named && (strings.ContainsRune(what, filepath.Separator) || strings.HasSuffix(what, ".img")) {
		return s.Image(ctx, what)
	}
	if err == nil && info.IsDir() {
		return nil, fmt.Errorf("%s is a folder, not an image or a drive", what)
	}
	all, err := s.described(ctx)
	if err != nil {
		return nil, err
	}
	real, _ := filepath.EvalSymlinks(what)
	var found []*Drive
	for _, d := range all {
		if named && strings.EqualFold(d.Path, what) || d.Path == what || real != "" && d.Path == real ||
			strings.EqualFold(d.Serial, what) {
			found = append(found, d)
		}
		for n, p := range d.parts {
			if part := filepath.Join(s.Dev, p.name); part == what || part == real {
				return nil, fmt.Errorf("%s is partition %d of %s: give the drive and the partition, as in %s#%d", what,
					n, d.Path, d.Path, n)
			}
		}
	}
	if s.calls != nil && len(found) == 0 && named {
		d, err := s.calls.drive(ctx, what)
		if err != nil {
			return nil, err
		}
		if d != nil {
			found = append(found, d)
		}
	}
	switch len(found) {
	case 0:
		return nil, fmt.Errorf("no drive %s; list them with: polytome drives", what)
	case 1:
		s.lookInto(ctx, found[0]) // and into no other one
		return found[0], ctx.Err()
	}
	return nil, fmt.Errorf("%d drives have the serial number %s; use the path of the one you mean", len(found), what)
}

// Target finds the drive and the volume that someone means: a drive, an image, either with "#2" behind it for a
// partition, or a folder at which a volume is mounted. part is 0 where none was reported.
func (s System) Target(ctx context.Context, what string) (d *Drive, part int, err error) {
	what = strings.TrimPrefix(what, "drive:")
	if name, n, ok := strings.Cut(what, "#"); ok {
		if k, err := strconv.Atoi(n); err == nil && k > 0 {
			what, part = name, k
		}
	}
	if info, err := os.Stat(what); err == nil && info.IsDir() {
		return s.behind(ctx, what)
	}
	d, err = s.Look(ctx, what)
	return d, part, err
}

// Presence finds out quickly, and without reading it, whether a drive or image is there: by its path or serial number.
// The identity is another one when something else is put in its place, "" where that is not known.
func (s System) Presence(ctx context.Context, what string) (id string, ok bool) {
	info, err := os.Stat(what)
	if err == nil {
		return s.node(info), true
	}
	d, _, err := s.Target(ctx, what)
	if err != nil {
		return "", false
	}
	if info, err = os.Stat(d.Path); err != nil { // an export
		return "", true
	}
	return s.node(info), true
}

// behind finds the drive whose volume is mounted at a folder.
func (s System) behind(ctx context.Context, folder string) (*Drive, int, error) {
	full, err := filepath.Abs(folder)
	if err == nil {
		full, err = filepath.EvalSymlinks(full)
	}
	if err != nil {
		return nil, 0, err
	}
	all, err := s.List(ctx)
	if err != nil {
		return nil, 0, err
	}
	for _, m := range s.Mounts() { // an image that is mounted through FUSE
		if m.At == full && strings.HasPrefix(m.Kind, "fuse") {
			if info, err := os.Stat(m.Source); err == nil && info.Mode().IsRegular() {
				if d, err := s.Image(ctx, m.Source); err == nil {
					all = append(all, d)
				}
			}
		}
	}
	for _, d := range all {
		for _, v := range d.Volumes {
			for _, at := range v.MountedAt {
				if at == full {
					return d, v.Number, nil
				}
			}
		}
	}
	return nil, 0, fmt.Errorf("no readable drive is mounted at %s", folder)
}
