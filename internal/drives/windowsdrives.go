package drives

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"polytome/internal/format/partition"
)

// What Windows says of drives and volumes, as plain data: the calls that ask for it stand in ask_windows.go, and what
// follows from it here, for any system.

// answers are what Windows said at one time.
type answers struct {
	Disks   []diskAnswer   `json:"disks"`
	Volumes []volumeAnswer `json:"volumes"`
	// Runs are the letters of the volumes without which Windows does not run, such as C:\.
	Runs []string `json:"runs"`
}

// A diskAnswer is what is known of a physical drive: STORAGE_DEVICE_DESCRIPTOR, DISK_GEOMETRY_EX and
// DRIVE_LAYOUT_INFORMATION_EX.
type diskAnswer struct {
	Number     int               `json:"number"` // as in \\.\PhysicalDrive2
	Vendor     string            `json:"vendor,omitempty"`
	Product    string            `json:"product,omitempty"`
	Serial     string            `json:"serial,omitempty"`
	Bus        int               `json:"bus"` // STORAGE_BUS_TYPE
	Removable  bool              `json:"removable,omitempty"`
	Size       int64             `json:"size"` // 0 for a reader without a card
	Sector     int64             `json:"sector"`
	ReadOnly   bool              `json:"read-only,omitempty"`
	GPT        bool              `json:"gpt,omitempty"`
	Partitions []partitionAnswer `json:"partitions,omitempty"`
}

// A partitionAnswer is one partition.
type partitionAnswer struct {
	Number int    `json:"number"`
	Start  int64  `json:"start"` // bytes
	Size   int64  `json:"size"`
	Type   string `json:"type"` // of GPT, its GUID; of MBR, two hexadecimal digits
}

// A volumeAnswer is what is known of a volume: GetVolumeInformationW and VOLUME_DISK_EXTENTS.
type volumeAnswer struct {
	Name       string         `json:"name"`         // \\?\Volume{…}\
	At         []string       `json:"at,omitempty"` // letters and folders under which it is mounted
	Label      string         `json:"label,omitempty"`
	Filesystem string         `json:"filesystem,omitempty"` // "" where it cannot be read, as when it is locked
	Serial     uint32         `json:"serial,omitempty"`
	Size       int64          `json:"size"`
	Free       int64          `json:"free"`
	Cluster    int64          `json:"cluster,omitempty"`
	Extents    []extentAnswer `json:"extents,omitempty"`
	// Raw is for one on which Windows finds no filesystem, and which is not mounted therefore, though it has a letter.
	Raw bool `json:"raw,omitempty"`
	// Paging is for one that has a file into which Windows puts memory.
	Paging bool `json:"paging,omitempty"`
}

// An extentAnswer is a run of bytes of a drive that a volume has.
type extentAnswer struct {
	Disk  int   `json:"disk"`
	Start int64 `json:"start"`
	Size  int64 `json:"size"`
}

// windowsCalls are what Windows is asked by.
type windowsCalls struct {
	ask    func(context.Context) (answers, error)
	letter func(letter string) volumeAnswer // such as E:
	say    func() string                    // which volumes and letters there are
}

func (w windowsCalls) drives(ctx context.Context) ([]*Drive, error) {
	a, err := w.ask(ctx)
	return a.drives(), err
}

func (w windowsCalls) known() string { return w.say() }

// drive is also the volume of a letter, such as \\.\E:, of which Windows does not say on which drive it lies.
func (w windowsCalls) drive(ctx context.Context, path string) (*Drive, error) {
	a, err := w.ask(ctx)
	if err != nil {
		return nil, err
	}
	letter := strings.ToUpper(strings.TrimPrefix(path, `\\.\`))
	isLetter := len(letter) == 2 && letter[1] == ':'
	for _, d := range a.drives() {
		if strings.EqualFold(d.Path, path) {
			return d, nil
		}
	}
	if !isLetter {
		return nil, nil
	}
	if disk, part, ok := a.partOf(letter); ok {
		return nil, fmt.Errorf("%s is partition %d of %s: give the drive and the partition, as in %s#%d", path, part,
			disk, disk, part)
	}
	v := w.letter(letter)
	d := &Drive{Path: `\\.\` + letter, Model: cmp.Or(v.Label, letter), Bus: "other", Size: v.Size, Sector: 512,
		Removable: true}
	a.use(d, &v)
	return d, nil
}

// The kinds of a dynamic disk's partitions, which are of no use alone: LDM metadata and data, and on MBR 0x42.
var dynamic = []string{"{5808c8aa-7e8f-42e0-85d2-e1e90434cfb3}", "{af9b60a0-1431-4f62-bc68-3311714a69ad}", "42"}

// busWords are the numbers of STORAGE_BUS_TYPE in words.
var busWords = map[int]string{7: "usb", 11: "sata", 3: "sata", 17: "nvme", 12: "card", 13: "card", 15: "loop"}

// physical is the path of a drive.
func physical(number int) string { return fmt.Sprintf(`\\.\PhysicalDrive%d`, number) }

// drives are the drives that the answers are of, in the order of their numbers, and then the volumes with a letter of
// which it is not known on which drive they lie: they are filled as folders. A reader without a card is none.
func (a *answers) drives() (out []*Drive) {
	disks := slices.Clone(a.Disks)
	slices.SortFunc(disks, func(x, y diskAnswer) int { return cmp.Compare(x.Number, y.Number) })
	for i := range disks {
		if disks[i].Size > 0 {
			out = append(out, a.drive(&disks[i]))
		}
	}
	for i := range a.Volumes {
		v := &a.Volumes[i]
		known := slices.ContainsFunc(out, func(d *Drive) bool {
			return slices.ContainsFunc(v.At, func(at string) bool { return slices.Contains(d.MountPoints(), at) })
		})
		if len(v.At) > 0 && !known {
			d := &Drive{
				Path:    v.At[0],
				Model:   cmp.Or(v.Label, v.At[0]),
				Bus:     "other",
				Size:    v.Size,
				Sector:  512,
				folder:  true,
				Volumes: []Volume{v.volume(Volume{Size: v.Size})},
			}
			a.use(d, v)
			out = append(out, d)
		}
	}
	return out
}

// volume takes over what Windows says of a volume.
func (v *volumeAnswer) volume(as Volume) Volume {
	as.Label, as.Filesystem, as.Free, as.MountedAt = v.Label, named(v.Filesystem), v.Free, v.At
	if v.Cluster > 0 {
		as.Cluster = v.Cluster
	}
	if v.Serial != 0 {
		as.Serial = fmt.Sprintf("%08x", v.Serial)
	}
	if v.Raw {
		as.MountedAt = nil
	} else if v.Filesystem == "" && len(v.At) > 0 {
		as.Free = -1
		as.Trouble = "Windows cannot read it: it is locked, encrypted, or of a filesystem that Windows does not know"
	}
	return as
}

// use has a drive be in use for what of it is mounted.
func (a *answers) use(d *Drive, v *volumeAnswer) {
	if v.Raw {
		return
	}
	if v.Paging {
		d.used(Swap, "", "%s has a paging file of Windows", v.called())
	}
	for _, at := range v.At {
		if slices.ContainsFunc(a.Runs, func(r string) bool { return strings.EqualFold(r, at) }) {
			d.used(OfSystem, at, "Windows runs from it (%s)", at)
			continue
		}
		d.used(Mounted, at, "it is mounted at %s", at)
	}
}

// used notes what a drive is in use for, once.
func (d *Drive) used(kind UseKind, at, format string, args ...any) {
	u := Use{Kind: kind, At: at, Say: fmt.Sprintf(format, args...)}
	if !slices.Contains(d.Uses, u) {
		d.Uses = append(d.Uses, u)
	}
}

func (a *answers) drive(x *diskAnswer) *Drive {
	d := &Drive{Path: physical(x.Number), Model: strings.Join(strings.Fields(x.Vendor+" "+x.Product), " "),
		Serial: strings.TrimSpace(
			x.Serial,
		), Bus: cmp.Or(busWords[x.Bus], "other"), Size: x.Size, Sector: cmp.Or(x.Sector, 512),
		Removable: x.Removable || x.Bus == 7 || x.Bus == 12 || x.Bus == 13, ReadOnly: x.ReadOnly}
	parts := slices.Clone(x.Partitions)
	if len(parts) == 0 { // a volume may begin with the drive
		parts = []partitionAnswer{{Number: 0, Size: x.Size}}
	} else {
		d.Table = &partition.Table{Scheme: partition.MBR, Sector: d.Sector}
		if x.GPT {
			d.Table.Scheme = partition.GPT
		}
	}
	for i := range parts {
		p := &parts[i]
		v := Volume{Number: p.Number, Start: p.Start, Size: p.Size, Free: -1}
		if slices.Contains(dynamic, strings.ToLower(p.Type)) {
			v.Filesystem, v.Trouble = "lvm", "it is part of a dynamic disk"
			d.used(Member, "", "it is part of a dynamic disk")
		}
		of := a.volumeOn(x.Number, p)
		if of == nil {
			if p.Number > 0 {
				d.Volumes = append(d.Volumes, v)
			}
			continue
		}
		if len(of.Extents) > 1 {
			d.used(Member, "", "%s lies on several drives", of.called())
		}
		v = of.volume(v)
		a.use(d, of)
		d.locks = append(d.locks, of.Name)
		d.Volumes = append(d.Volumes, v)
	}
	return d
}

// partOf is the drive and the partition that has a letter, such as E:.
func (a *answers) partOf(letter string) (disk string, part int, ok bool) {
	for _, d := range a.Disks {
		for i := range d.Partitions {
			v := a.volumeOn(d.Number, &d.Partitions[i])
			if v != nil &&
				slices.ContainsFunc(v.At, func(at string) bool { return strings.EqualFold(at, letter+`\`) }) {
				return physical(d.Number), d.Partitions[i].Number, true
			}
		}
	}
	return "", 0, false
}

// volumeOn is the volume that begins in a partition of a drive; nil for none.
func (a *answers) volumeOn(disk int, p *partitionAnswer) *volumeAnswer {
	for i := range a.Volumes {
		for _, e := range a.Volumes[i].Extents {
			if e.Disk == disk && e.Start >= p.Start && e.Start < p.Start+p.Size {
				return &a.Volumes[i]
			}
		}
	}
	return nil
}

// called is what people call a volume.
func (v *volumeAnswer) called() string {
	if len(v.At) > 0 {
		return v.At[0]
	}
	return cmp.Or(v.Label, v.Name)
}

// named is Windows' name for a filesystem as it is named here.
func named(filesystem string) string {
	if filesystem == "FAT" { // FAT12 and FAT16
		return "fat16"
	}
	return strings.ToLower(filesystem)
}
