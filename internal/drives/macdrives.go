package drives

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"howett.net/plist"

	"polytome/internal/format/partition"
)

// What macOS says of drives and volumes, in property lists that diskutil(8) and ioreg(8) print: what follows from them
// stands here, for any system.

// diskutil is macOS, which is asked by running its programs. run returns what one prints, and say which disks and
// mounts there are, quickly.
type diskutil struct {
	run func(ctx context.Context, program string, args ...string) ([]byte, error)
	say func() string
}

// macDisk is an entry of AllDisksAndPartitions of "diskutil list -plist".
type macDisk struct {
	ID         string      `plist:"DeviceIdentifier"` // such as disk2
	Content    string      `plist:"Content"`
	Size       int64       `plist:"Size"`
	MountPoint string      `plist:"MountPoint"`
	Name       string      `plist:"VolumeName"`
	Partitions []macDisk   `plist:"Partitions"`
	Volumes    []macDisk   `plist:"APFSVolumes"`
	Stores     []macStores `plist:"APFSPhysicalStores"`
}

type macStores struct {
	ID string `plist:"DeviceIdentifier"`
}

// macInfo is what "diskutil info -plist" prints of a disk or volume.
type macInfo struct {
	Name       string `plist:"MediaName"`
	Registry   string `plist:"IORegistryEntryName"`
	Protocol   string `plist:"BusProtocol"`
	Block      int64  `plist:"DeviceBlockSize"`
	Size       int64  `plist:"Size"`
	Internal   bool   `plist:"Internal"`
	Removable  bool   `plist:"RemovableMediaOrExternalDevice"`
	Writable   *bool  `plist:"WritableMedia"`
	Virtual    string `plist:"VirtualOrPhysical"`
	Filesystem string `plist:"FilesystemType"` // msdos, exfat, apfs …
	FATName    string `plist:"FilesystemName"` // MS-DOS FAT32
	Label      string `plist:"VolumeName"`
	UUID       string `plist:"VolumeUUID"`
	Free       *int64 `plist:"FreeSpace"`
	Cluster    int64  `plist:"VolumeAllocationBlockSize"`
	Start      int64  `plist:"PartitionMapPartitionOffset"`
	MountPoint string `plist:"MountPoint"`
}

// ask decodes what a program prints.
func (m diskutil) ask(ctx context.Context, into any, program string, args ...string) error {
	out, err := m.run(ctx, program, args...)
	if err != nil {
		return fmt.Errorf("%s: %w", program, err)
	}
	if _, err := plist.Unmarshal(out, into); err != nil {
		return fmt.Errorf("what %s prints cannot be read: %w", program, err)
	}
	return nil
}

func (m diskutil) known() string { return m.say() }

func (m diskutil) drives(ctx context.Context) ([]*Drive, error) { return m.list(ctx, "") }

// list is all drives, or the one with a path: each costs some runs of a program.
func (m diskutil) list(ctx context.Context, path string) ([]*Drive, error) {
	var all struct {
		Disks []macDisk `plist:"AllDisksAndPartitions"`
	}
	if err := m.ask(ctx, &all, "diskutil", "list", "-plist"); err != nil {
		return nil, fmt.Errorf("looking for drives: %w", err)
	}
	serials := m.serials(ctx)
	var out []*Drive
	for i := range all.Disks {
		if path != "" && "/dev/"+all.Disks[i].ID != path {
			continue
		}
		d, err := m.one(ctx, &all.Disks[i], all.Disks, serials)
		if err != nil {
			return nil, err
		}
		if d != nil {
			out = append(out, d)
		}
	}
	return out, nil
}

func (m diskutil) drive(ctx context.Context, path string) (*Drive, error) {
	found, err := m.list(ctx, path)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return found[0], nil
}

// one is a disk as macOS describes it; nil for what is made of partitions of others, such as an APFS container.
func (m diskutil) one(ctx context.Context, x *macDisk, all []macDisk, serials map[string]string) (*Drive, error) {
	var info macInfo
	if err := m.ask(ctx, &info, "diskutil", "info", "-plist", x.ID); err != nil {
		return nil, err
	}
	image := info.Protocol == "Disk Image"
	if len(x.Stores) > 0 || info.Virtual == "Virtual" && !image || x.Size == 0 {
		return nil, nil
	}
	d := &Drive{Path: "/dev/" + x.ID, Model: strings.TrimSpace(cmp.Or(info.Name, info.Registry)), Serial: serials[x.ID],
		Bus: macBus(
			info.Protocol,
		), Size: x.Size, Sector: cmp.Or(info.Block, 512), Removable: info.Removable || !info.Internal,
		ReadOnly: info.Writable != nil && !*info.Writable, kernel: x.ID, parts: map[int]kernelDev{}}
	parts := x.Partitions
	switch x.Content {
	case "GUID_partition_scheme":
		d.Table = &partition.Table{Scheme: partition.GPT, Sector: d.Sector}
	case "FDisk_partition_scheme":
		d.Table = &partition.Table{Scheme: partition.MBR, Sector: d.Sector}
	default: // a volume may begin with the disk
		parts = []macDisk{*x}
	}
	for _, p := range parts {
		var number int
		_, _ = fmt.Sscanf(strings.TrimPrefix(p.ID, x.ID), "s%d", &number)
		if number > 0 {
			d.parts[number] = kernelDev{name: p.ID}
		}
		v, err := m.volume(ctx, p, number)
		if err != nil {
			return nil, err
		}
		if d.Table != nil || v.Filesystem != "" {
			d.Volumes = append(d.Volumes, v)
		}
		d.mountedThere(v.MountedAt)
		for _, c := range all { // an APFS container of which the partition is a part
			if !slices.Contains(c.Stores, macStores{p.ID}) {
				continue
			}
			for _, v := range c.Volumes {
				d.mountedThere(under(v.MountPoint))
			}
			d.used(Member, "", "partition %d is part of the APFS container %s", number, c.ID)
		}
	}
	return d, nil
}

// volume is what macOS says of a volume.
func (m diskutil) volume(ctx context.Context, p macDisk, number int) (Volume, error) {
	var info macInfo
	if err := m.ask(ctx, &info, "diskutil", "info", "-plist", p.ID); err != nil {
		return Volume{}, err
	}
	v := Volume{
		Number:     number,
		Start:      info.Start,
		Size:       p.Size,
		Type:       strings.ReplaceAll(p.Content, "_", " "),
		Free:       -1,
		Filesystem: macFilesystem(info.Filesystem, info.FATName),
		Label:      cmp.Or(info.Label, p.Name),
		Serial:     strings.ToLower(info.UUID),
		Cluster:    info.Cluster,
		MountedAt:  under(p.MountPoint),
	}
	if info.Free != nil && p.MountPoint != "" {
		v.Free = *info.Free
	}
	return v, nil
}

func under(at string) []string {
	if at == "" {
		return nil
	}
	return []string{at}
}

// systemFolder reports whether macOS runs from what is mounted at a folder.
func systemFolder(at string) bool { return at == "/" || strings.HasPrefix(at, "/System/Volumes") }

func (d *Drive) mountedThere(at []string) {
	for _, at := range at {
		if systemFolder(at) {
			d.used(OfSystem, at, "macOS runs from it (%s)", at)
			continue
		}
		d.used(Mounted, at, "it is mounted at %s", at)
	}
}

// macBus is a protocol of macOS' in a word.
func macBus(protocol string) string {
	switch protocol {
	case "USB":
		return "usb"
	case "SATA", "ATA":
		return "sata"
	case "PCI-Express", "NVMe":
		return "nvme"
	case "Secure Digital":
		return "card"
	case "Disk Image":
		return "loop"
	}
	return "other"
}

// macFilesystem is macOS' name for a filesystem as it is named here.
func macFilesystem(kind, name string) string {
	if kind != "msdos" {
		return kind
	}
	_, which, _ := strings.Cut(strings.ToLower(name), "fat")
	switch which {
	case "12", "16", "32":
		return "fat" + which
	}
	return "fat32"
}

// serials are the serial numbers of disks, by their names. The registry is a tree of devices: that of a USB device, or
// of a disk itself, holds for the disks below it.
func (m diskutil) serials(ctx context.Context) map[string]string {
	out := map[string]string{}
	for _, class := range []string{"IOUSBHostDevice", "IOBlockStorageDevice"} {
		var tree []map[string]any
		if m.ask(ctx, &tree, "ioreg", "-a", "-r", "-l", "-c", class) != nil { // nothing is printed where there is none
			continue
		}
		for _, node := range tree {
			serialsBelow(node, "", out)
		}
	}
	return out
}

func serialsBelow(node map[string]any, serial string, out map[string]string) {
	said := func(in map[string]any, keys ...string) {
		for _, k := range keys {
			if s, ok := in[k].(string); ok && strings.TrimSpace(s) != "" {
				serial = strings.TrimSpace(s)
			}
		}
	}
	said(node, "USB Serial Number", "kUSBSerialNumberString")
	if serial == "" { // that of the device is what is printed on it
		if of, ok := node["Device Characteristics"].(map[string]any); ok {
			said(of, "Serial Number")
		}
	}
	if name, ok := node["BSD Name"].(string); ok && serial != "" && out[name] == "" {
		if whole, ok := node["Whole"].(bool); ok && whole {
			out[path.Base(name)] = serial
		}
	}
	children, _ := node["IORegistryEntryChildren"].([]any)
	for _, c := range children {
		if below, ok := c.(map[string]any); ok {
			serialsBelow(below, serial, out)
		}
	}
}
