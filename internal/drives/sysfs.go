package drives

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// skipped are the beginnings of kernel names that are no drives: memory, and what lies over other devices.
var skipped = []string{"ram", "zram", "dm-", "md", "sr", "fd"}

// List finds the drives, and looks into those that it may.
func (s System) List(ctx context.Context) ([]*Drive, error) {
	out, err := s.described(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range out {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		s.lookInto(ctx, d)
	}
	return out, nil
}

// read reads a short file of the system's, "" where there is none.
func read(parts ...string) string {
	b, err := os.ReadFile(filepath.Join(parts...))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(b))
}

func number(parts ...string) int64 {
	n, _ := strconv.ParseInt(read(parts...), 10, 64)
	return n
}

// Known is a short text that is another one when drives came, went or changed their medium or their mounts. It is quick
// to get.
func (s System) Known() string {
	if s.calls != nil {
		return s.calls.known()
	}
	var b strings.Builder
	names, _ := os.ReadDir(filepath.Join(s.Sys, "block"))
	for _, n := range names {
		if slices.ContainsFunc(skipped, func(p string) bool { return strings.HasPrefix(n.Name(), p) }) {
			continue
		}
		dir := filepath.Join(s.Sys, "block", n.Name())
		fmt.Fprintf(&b, "%s %s %s %s\n", n.Name(), read(dir, "size"), read(dir, "diskseq"),
			read(dir, "loop", "backing_file"))
	}
	mounts, _ := os.ReadFile(filepath.Join(s.Proc, "self", "mountinfo"))
	_, _ = b.Write(mounts)
	return b.String()
}

// list finds the drives as the kernel describes them.
func (s System) list() ([]*Drive, error) {
	names, err := os.ReadDir(filepath.Join(s.Sys, "block"))
	if err != nil {
		return nil, fmt.Errorf("looking for drives: %w", err)
	}
	var out []*Drive
	for _, n := range names {
		if d := s.disk(n.Name()); d != nil {
			out = append(out, d)
		}
	}
	return out, nil
}

// disk is one device as the kernel describes it, nil for one that is no drive.
func (s System) disk(name string) *Drive {
	if slices.ContainsFunc(skipped, func(p string) bool { return strings.HasPrefix(name, p) }) {
		return nil
	}
	dir := filepath.Join(s.Sys, "block", name)
	d := &Drive{Path: filepath.Join(s.Dev, name), Size: number(dir, "size") * 512, Sector: number(dir, "queue",
		"logical_block_size"),
		Removable: number(dir, "removable") == 1, ReadOnly: number(dir, "ro") == 1, kernel: name,
		number: read(dir, "dev"), parts: map[int]kernelDev{}}
	backing := read(dir, "loop", "backing_file")
	if d.Size == 0 || strings.HasPrefix(name, "loop") && backing == "" {
		return nil // no medium in it
	}
	if d.Sector == 0 {
		d.Sector = 512
	}
	udev := s.udev(d.number)
	real, _ := filepath.EvalSymlinks(dir)
	d.Bus = bus(name, real, udev["ID_BUS"])
	if d.Bus == "usb" || d.Bus == "card" {
		d.Removable = true
	}
	d.Model = strings.TrimSpace(read(dir, "device", "vendor") + " " + read(dir, "device", "model"))
	if d.Model == "" {
		d.Model = strings.ReplaceAll(udev["ID_MODEL"], "_", " ")
	}
	if d.Model == "" {
		d.Model = read(dir, "device", "name") // cards
	}
	if strings.HasPrefix(d.Model, "0x") { // a number of the maker's, which says nothing
		_, d.Model, _ = strings.Cut(d.Model, " ")
	}
	if d.Serial = udev["ID_SERIAL_SHORT"]; d.Serial == "" {
		d.Serial = serial(dir, real)
	}
	d.Adapter = adapter(real)
	if backing != "" {
		d.Model, d.Serial = filepath.Base(backing), "loop-"+filepath.Base(backing)
	}
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if n := number(dir, e.Name(), "partition"); n > 0 {
			d.parts[int(n)] = kernelDev{e.Name(), read(dir, e.Name(), "dev")}
		}
	}
	return d
}

// bus is how a device is connected, by what udev says or by where it stands in the tree of devices.
func bus(name, real, udev string) string {
	switch {
	case strings.HasPrefix(name, "loop"):
		return "loop"
	case udev == "usb" || strings.Contains(real, "/usb"):
		return "usb"
	case strings.HasPrefix(name, "mmcblk"):
		return "card"
	case strings.HasPrefix(name, "nvme"):
		return "nvme"
	case udev == "ata" || strings.Contains(real, "/ata"):
		return "sata"
	}
	return "other"
}

// adapter is the USB device by which a drive is reached: a stick, a reader or an adapter, by its numbers; "" for none.
func adapter(real string) string {
	for at, i := filepath.ToSlash(real), 0; len(at) > 1 && i < 12; at, i = path.Dir(at), i+1 {
		if vendor := read(at, "idVendor"); vendor != "" {
			return strings.TrimSpace(vendor + ":" + read(at, "idProduct") + " " + read(at, "serial"))
		}
	}
	return ""
}

// serial looks for a serial number at the device, and at what it hangs on.
func serial(dir, real string) string {
	if s := read(dir, "device", "serial"); s != "" {
		return s
	}
	if s := read(dir, "serial"); s != "" {
		return s
	}
	for at, i := path.Dir(filepath.ToSlash(real)), 0; len(at) > 1 && i < 8; at, i = path.Dir(at), i+1 {
		if s := read(at, "serial"); s != "" {
			return s
		}
		if strings.HasPrefix(path.Base(at), "usb") { // the controller's is none of the drive
			break
		}
	}
	return ""
}

// udev reads what udev noted of a device.
func (s System) udev(number string) map[string]string {
	out := map[string]string{}
	f, err := os.Open(filepath.Join(s.Udev, "b"+number))
	if err != nil || number == "" {
		return out
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if e, ok := strings.CutPrefix(lines.Text(), "E:"); ok {
			k, v, _ := strings.Cut(e, "=")
			out[k] = v
		}
	}
	return out
}

// A Mount is one line of mountinfo(5).
type Mount struct {
	Number string // of the device, major:minor
	At     string // the folder
	Source string // the device, or what else was mounted
	Kind   string // of the filesystem
}

// Mounts lists what is mounted; a later mount covers an earlier one at the same folder.
func (s System) Mounts() []Mount {
	if s.Proc == "" {
		return nil
	}
	f, err := os.Open(filepath.Join(s.Proc, "self", "mountinfo"))
	if err != nil {
		return nil
	}
	defer f.Close()
	var out []Mount
	for lines := bufio.NewScanner(f); lines.Scan(); {
		before, after, ok := strings.Cut(lines.Text(), " - ")
		a, b := strings.Fields(before), strings.Fields(after)
		if ok && len(a) >= 5 && len(b) >= 2 {
			out = append(out, Mount{a[2], unescape.Replace(a[4]), unescape.Replace(b[1]), b[0]})
		}
	}
	return out
}

var unescape = strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)

// systemAt are folders without which the system does not run.
var systemAt = []string{"/", "/boot", "/usr", "/var", "/home", "/etc", "/opt", "/srv", "/nix", "/boot/efi", "/efi"}

// uses finds out what a drive is in use for.
func (s System) uses(d *Drive) {
	d.Uses = nil
	type dev struct {
		part         int
		name, number string
	}
	devs := []dev{{0, d.kernel, d.number}}
	for n, p := range d.parts {
		devs = append(devs, dev{n, p.name, p.number})
	}
	slices.SortFunc(devs, func(a, b dev) int { return a.part - b.part })
	mounts := s.Mounts()
	for _, v := range devs {
		what := d.Name()
		if v.part > 0 {
			what = fmt.Sprintf("partition %d", v.part)
		}
		paths := []string{filepath.Join(s.Dev, v.name)}
		if d.Image {
			paths = []string{d.Path}
		}
		for _, m := range mounts {
			source := m.Source
			if r, err := filepath.EvalSymlinks(source); err == nil {
				source = r
			}
			if (v.number == "" || m.Number != v.number) && !slices.Contains(paths, m.Source) && !slices.Contains(paths,
				source) {
				continue
			}
			if vol := d.Find(v.part); vol != nil && !slices.Contains(vol.MountedAt, m.At) {
				vol.MountedAt = append(vol.MountedAt, m.At)
			}
			if slices.Contains(systemAt, m.At) {
				d.used(OfSystem, m.At, "the running system is on it: %s is mounted at %s", what, m.At)
			} else {
				d.used(Mounted, m.At, "%s is mounted at %s", what, m.At)
			}
		}
		if d.Image {
			continue
		}
		for _, line := range strings.Split(read(s.Proc, "swaps"), "\n") {
			if fields := strings.Fields(line); len(fields) > 0 && slices.Contains(paths, fields[0]) {
				d.used(Swap, "", "%s is swap space of the running system", what)
			}
		}
		dir := filepath.Join(s.Sys, "block", d.kernel)
		if v.part > 0 {
			dir = filepath.Join(dir, v.name)
		}
		holders, _ := os.ReadDir(filepath.Join(dir, "holders"))
		for _, h := range holders {
			d.used(Member, "", "%s is part of %s, which is in use", what, s.owner(h.Name()))
		}
		if pools, _ := filepath.Glob(filepath.Join(s.Sys, "fs", "btrfs", "*", "devices", v.name)); len(pools) > 0 {
			d.used(Member, "", "%s is part of a btrfs volume that is mounted", what)
		}
		if s.udev(v.number)["ID_FS_TYPE"] == "zfs_member" && read(s.Proc, "spl", "kstat", "zfs", "arcstats") != "" {
			d.used(Member, "", "%s is part of a ZFS pool, and ZFS is running", what)
		}
	}
	for _, who := range s.writers(d.Path) {
		d.used(Opened, "", "it is open in %s", who)
	}
	if d.Image {
		loops, _ := filepath.Glob(filepath.Join(s.Sys, "block", "loop*", "loop", "backing_file"))
		for _, l := range loops {
			if backing := read(l); backing == d.Path || same(backing, d.Path) {
				name := filepath.Base(filepath.Dir(filepath.Dir(l)))
				d.used(Looped, "", "it is attached as %s", filepath.Join(s.Dev, name))
			}
		}
	}
}

// same reports whether two paths are of one file.
func same(a, b string) bool {
	x, err := os.Stat(a)
	y, err2 := os.Stat(b)
	return err == nil && err2 == nil && os.SameFile(x, y)
}

// writers are the other programs that have a drive or image open for writing, such as a FUSE mount or a virtual
// machine, as far as this user may see (proc(5), /proc/PID/fd and fdinfo).
func (s System) writers(file string) (out []string) {
	want, err := os.Stat(file)
	if err != nil {
		return nil
	}
	all, _ := filepath.Glob(filepath.Join(s.Proc, "[0-9]*", "fd", "*"))
	for _, fd := range all {
		dir := filepath.Dir(filepath.Dir(fd))
		if filepath.Base(dir) == strconv.Itoa(os.Getpid()) {
			continue
		}
		if to, err := os.Readlink(fd); err != nil || !strings.HasPrefix(to, "/") { // most are sockets and pipes
			continue
		}
		is, err := os.Stat(fd)
		if err != nil || !os.SameFile(want, is) {
			continue
		}
		for _, line := range strings.Split(read(dir, "fdinfo", filepath.Base(fd)), "\n") {
			if flags, ok := strings.CutPrefix(line, "flags:"); ok {
				if n, err := strconv.ParseInt(strings.TrimSpace(flags), 8, 64); err == nil && n&3 != 0 {
					out = append(out, fmt.Sprintf("%s (process %s)", cmp.Or(read(dir, "comm"), "a program"),
						filepath.Base(dir)))
				}
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// owner names what lies over a device.
func (s System) owner(name string) string {
	dir := filepath.Join(s.Sys, "block", name)
	uuid, shown := read(dir, "dm", "uuid"), read(dir, "dm", "name")
	if shown == "" {
		shown = name
	}
	switch {
	case strings.HasPrefix(uuid, "CRYPT-"):
		return "the encrypted volume " + shown
	case strings.HasPrefix(uuid, "LVM-"):
		return "the LVM volume " + shown
	case strings.HasPrefix(name, "md"):
		return "the RAID " + name
	}
	return "the device " + shown
}
