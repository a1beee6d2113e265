package target

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"polytome/internal/nearest"
	"polytome/internal/size"
)

// A Filesystem is what a kind of filesystem can hold.
type Filesystem struct {
	Name          string `json:"name"`  // as written in files and flags: fat32
	Shown         string `json:"shown"` // as written on screen: FAT32
	LargestFile   int64  `json:"largest-file"`
	LongestName   int    `json:"longest-name"` // one name, counted in Units
	Units         Units  `json:"units"`
	Forbidden     string `json:"forbidden"` // characters beside control characters and /
	Windows       bool   `json:"windows"`   // reserved device names, no trailing dot or space
	CaseSensitive bool   `json:"case-sensitive"`
	Holes         bool   `json:"holes"` // can leave runs of zeros unwritten
	// Spelling is the encoding in which a console has names, such as windows-1252; "" for Unicode.
	Spelling   string `json:"spelling,omitempty"`
	cluster    func(capacity int64) int64
	entry      func(name string) int64
	sector     int64 // within which the entries of a name stay; 0 where they may cross
	dots       int64 // bytes of names that a new folder begins with
	folder     int64 // bytes of names that a folder holds at most; 0 for no limit
	root       int64 // of the root folder, where that is another limit
	structures func(capacity, cluster int64) int64
	// space is what a file takes, where that depends on what it is; nil for whole clusters. There are no folders then.
	space func(path string, n int64) int64
}

// Units is how a filesystem counts the length of a name.
type Units string

// The ways to count.
const (
	UTF16      Units = "UTF-16 units"
	Bytes      Units = "bytes"
	Characters Units = "characters"
	ShiftJIS   Units = "bytes in Shift-JIS"
)

// Count is the length of s.
func (u Units) Count(s string) int {
	switch u {
	case UTF16:
		return units16(s)
	case Bytes:
		return len(s)
	case ShiftJIS:
		n := 0
		for _, r := range s {
			if n++; r >= utf8.RuneSelf && (r < '\uFF61' || r > '\uFF9F') { // half-width katakana have one byte
				n++
			}
		}
		return n
	}
	return utf8.RuneCountInString(s)
}

const windowsForbidden = `<>:"|?*\`

// filesystems are the kinds that targets are known by.
var filesystems = []Filesystem{
	{
		Name: "fat32", Shown: "FAT32", LargestFile: 1<<32 - 1, LongestName: 255, Units: UTF16,
		Forbidden: windowsForbidden, Windows: true,
		cluster: steps(32*size.KiB, step{260 * size.MiB, 512}, step{8 * size.GiB, 4 * size.KiB},
			step{16 * size.GiB, 8 * size.KiB}, step{32 * size.GiB, 16 * size.KiB}),
		entry:  fatEntry,
		dots:   2 * 32,
		folder: 65536 * 32,
		structures: func(capacity, cluster int64) int64 {
			const reserved = 32 * 512
			fat := roundUp((capacity/cluster+2)*4, 512)
			return reserved + 2*fat + cluster // with the root folder's cluster
		},
	},
	{
		Name: "exfat", Shown: "exFAT", LargestFile: 1<<63 - 1, LongestName: 255, Units: UTF16,
		Forbidden: windowsForbidden, Windows: true,
		cluster: steps(128*size.KiB, step{256 * size.MiB, 4 * size.KiB}, step{32 * size.GiB, 32 * size.KiB}),
		// a file entry, a stream entry, and one for every 15 units of the name
		entry:  func(name string) int64 { return 32 * int64(2+(units16(name)+14)/15) },
		folder: 256 * size.MiB,
		// the boot regions and one FAT, each aligned; then clusters for the bitmap, the table of
		// upper-case letters, and the root folder
		structures: func(capacity, cluster int64) int64 {
			clusters := capacity / cluster
			return size.MiB + roundUp((clusters+2)*4, size.MiB) + roundUp((clusters+7)/8, cluster) + roundUp(
				upcaseTable, cluster) + cluster
		},
	},
	{
		Name: "ntfs", Shown: "NTFS", LargestFile: 1<<44 - 1<<16, LongestName: 255, Units: UTF16,
		Forbidden: windowsForbidden, Windows: true, Holes: true,
		cluster: steps(4 * size.KiB), entry: func(string) int64 { return 0 },
		// the log, the first records of the file table, and the bitmap
		structures: func(capacity, cluster int64) int64 { return 64*size.MiB + capacity/cluster/8 },
	},
	{
		Name: "ext4", Shown: "ext4", LargestFile: 1<<44 - 1<<12, LongestName: 255, Units: Bytes,
		CaseSensitive: true, Holes: true,
		cluster: steps(4 * size.KiB), entry: func(name string) int64 { return 8 + int64(len(name)+3)/4*4 },
		dots: 24,
		// 256 bytes of file table for every 16 KiB, and the journal
		structures: func(capacity, _ int64) int64 { return capacity/64 + min(capacity/32, size.GiB) },
	},
	{
		Name: "fat16", Shown: "FAT16", LargestFile: 1<<32 - 1, LongestName: 255, Units: UTF16,
		Forbidden: windowsForbidden, Windows: true,
		cluster: steps(64*size.KiB, step{32 * size.MiB, 512}, step{64 * size.MiB, size.KiB},
			step{128 * size.MiB, 2 * size.KiB}, step{256 * size.MiB, 4 * size.KiB}, step{512 * size.MiB, 8 * size.KiB},
			step{size.GiB, 16 * size.KiB}, step{2 * size.GiB, 32 * size.KiB}),
		entry:  fatEntry,
		dots:   2 * 32,
		folder: 65536 * 32,
		root:   512 * 32,
		structures: func(capacity, cluster int64) int64 {
			// with the root folder, which has its own space
			return 512 + 2*roundUp((capacity/cluster+2)*2, 512) + 512*32
		},
	},
	{
		// a console's own disk, as docs/formats/slab.md has it and target/slab shows it
		Name: "slab", Shown: "slab disk", LargestFile: 1<<62 - 1, LongestName: 128, Units: Bytes, Forbidden: `\`,
		cluster: func(int64) int64 { return 4 * size.MiB }, entry: func(string) int64 { return 0 },
		space: func(path string, n int64) int64 {
			switch first, _, _ := strings.Cut(path, "/"); first {
			case "titles": // with the head in front of it
				return roundUp(n+4096, 4*size.MiB)
			case "settings": // in the title's record
				return 0
			}
			return roundUp(n, 4096)
		},
	},
}

// FilesystemNamed returns the filesystem of that name. The error lists the
// names that there are.
func FilesystemNamed(name string) (Filesystem, error) {
	i := slices.IndexFunc(filesystems, func(f Filesystem) bool { return strings.EqualFold(f.Name, name) })
	if i < 0 {
		return Filesystem{}, nearest.Unknown("filesystem", name, FilesystemNames())
	}
	return filesystems[i], nil
}

// FilesystemNames lists the known filesystems.
func FilesystemNames() []string {
	var out []string
	for _, f := range filesystems {
		out = append(out, f.Name)
	}
	return out
}

// UnknownFilesystem stands for one that Polytome has no facts about: the limits
// are those that nearly every system keeps.
func UnknownFilesystem(name string) Filesystem {
	f, _ := FilesystemNamed("ext4")
	f.Name, f.Shown, f.Holes = name, name, false
	return f
}

// Like takes over what another one describes itself: what is kept of a filesystem that is not among the known ones.
func (f Filesystem) Like(reported Filesystem) Filesystem {
	f.Name, f.Shown, f.LargestFile, f.LongestName, f.Units = reported.Name, reported.Shown, reported.LargestFile,
		reported.LongestName, reported.Units
	f.Forbidden, f.Windows, f.CaseSensitive, f.Holes = reported.Forbidden, reported.Windows, reported.CaseSensitive,
		reported.Holes
	return f
}

type step struct{ upTo, cluster int64 }

// steps is the usual table of cluster sizes by capacity.
func steps(above int64, table ...step) func(int64) int64 {
	return func(capacity int64) int64 {
		for _, s := range table {
			if capacity <= s.upTo {
				return s.cluster
			}
		}
		return above
	}
}

// Cluster is the usual allocation unit, in bytes, of a volume of that capacity.
func (f Filesystem) Cluster(capacity int64) int64 { return f.cluster(capacity) }

// EntryBytes is what one name takes in its folder.
func (f Filesystem) EntryBytes(name string) int64 { return f.entry(name) }

// WithinSectors is the filesystem as it is written with the entries of each name within one sector, so that one write
// makes a file appear: what is left of a sector is of no use for a longer name. What one name takes then is its share
// of a sector, as far as that holds only such names; others may share it better.
func (f Filesystem) WithinSectors(sector int64) Filesystem {
	entry := f.entry
	f.sector = sector
	f.entry = func(name string) int64 {
		n := entry(name)
		if n >= sector {
			return roundUp(n, sector)
		}
		each := sector / n
		return (sector + each - 1) / each
	}
	return f
}

// Dots are the bytes of names that every folder but the root begins with: those of itself and of
// what is above it.
func (f Filesystem) Dots() int64 { return f.dots }

// FolderMost is how many bytes of names a folder, or the root folder, holds at most; 0 where there is no limit (FAT
// specification, directory structure; exFAT specification, section 3.1.14).
func (f Filesystem) FolderMost(root bool) int64 {
	if root && f.root > 0 {
		return f.root
	}
	return f.folder
}

// FolderSpace is what a folder takes that holds so many bytes of names: at least a cluster.
func (f Filesystem) FolderSpace(names, cluster int64) int64 {
	if f.space != nil {
		return 0
	}
	all := names + f.dots
	if f.sector > 0 && all > f.sector {
		all += all/mixed + f.sector
	}
	return max(cluster, roundUp(all, cluster))
}

// FolderHolds is for how many bytes of names a folder has space that takes so much.
func (f Filesystem) FolderHolds(space int64) int64 {
	if f.sector > 0 {
		space = max(f.sector, (space-f.sector)*mixed/(mixed+1))
	}
	return space - f.dots
}

// mixed is of how many sectors one more is taken at most where names of different lengths share them: each sector in
// which no further name finds space is taken by names that have at least eleven twelfths of one as their shares. The
// last one may be nearly empty.
const mixed = 11

// Structures are the bytes of a volume of that capacity that no file can ever have: boot
// sectors, tables, and the empty root folder.
func (f Filesystem) Structures(capacity, cluster int64) int64 {
	if f.structures == nil || cluster <= 0 {
		return 0
	}
	return f.structures(capacity, cluster)
}

// upcaseTable is the length in bytes of exFAT's table of upper-case letters, as it is usually
// written (exFAT specification, section 7.2).
const upcaseTable = 5836

func roundUp(n, unit int64) int64 { return (n + unit - 1) / unit * unit }

// fatEntry is what a name takes in a folder of FAT: one entry of 32 bytes, and one more for every
// 13 UTF-16 units of the name where that is no short name as it stands (Microsoft FAT
// specification 1.03, "Long File Name Implementation").
func fatEntry(name string) int64 {
	if shortName(name) {
		return 32
	}
	return 32 * int64(1+(units16(name)+12)/13)
}

// shortName reports whether a name is one of at most 8 and 3 characters in upper case.
func shortName(name string) bool {
	base, ext, dotted := strings.Cut(name, ".")
	if len(base) == 0 || len(base) > 8 || len(ext) > 3 || dotted && ext == "" {
		return false
	}
	for _, c := range []byte(base + ext) {
		if !(c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("$%'-_@~`!(){}^#&", c) >= 0) {
			return false
		}
	}
	return true
}

// Fold brings a path into the form in which two paths are the same place.
func (f Filesystem) Fold(path string) string {
	if f.CaseSensitive {
		return path
	}
	return strings.ToUpper(path)
}

// CheckName says why a single name cannot exist on the filesystem. It returns
// "" for a legal one.
func (f Filesystem) CheckName(name string) string {
	n := f.Units.Count(name)
	switch {
	case name == "" || name == "." || name == "..":
		return fmt.Sprintf("%q is not a name for a file", name)
	case !utf8.ValidString(name) && f.Units == UTF16:
		return "it is not valid Unicode"
	case n > f.LongestName:
		return fmt.Sprintf("it has %d %s; %s allows %d", n, f.Units, f.Shown, f.LongestName)
	}
	for _, r := range name {
		if r < ' ' || r == 0x7F || r == '/' || strings.ContainsRune(f.Forbidden, r) {
			return fmt.Sprintf("%s does not allow the character %q in a name", f.Shown, r)
		}
	}
	if f.Spelling != "" {
		if r, ok := lacks(f.Spelling, name); ok {
			return fmt.Sprintf("the console's encoding %s lacks the character %q", f.Spelling, r)
		}
	}
	if f.Windows {
		if last := name[len(name)-1]; last == '.' || last == ' ' {
			return fmt.Sprintf("%s does not allow a name to end in %q", f.Shown, last)
		}
		base, _, _ := strings.Cut(name, ".")
		if IsDevice(strings.ToUpper(strings.TrimRight(base, " "))) {
			return fmt.Sprintf("%q is a device name that some computers cannot open as a file", base)
		}
	}
	return ""
}

// IsDevice reports whether a name in upper case, without its extension, is that of a
// device on some computers.
func IsDevice(s string) bool {
	switch s {
	case "CON", "PRN", "AUX", "NUL":
		return true
	}
	return len(s) == 4 && (strings.HasPrefix(s, "COM") || strings.HasPrefix(s, "LPT")) && s[3] >= '1' && s[3] <= '9'
}

func units16(s string) int {
	n := 0
	for _, r := range s {
		n += utf16.RuneLen(r)
	}
	return n
}
