package prepare

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/drives"
	"polytome/internal/format/exfat"
	"polytome/internal/format/fat"
	"polytome/internal/format/partition"
	"polytome/internal/format/slab"
	"polytome/internal/size"
	"polytome/internal/target"
)

func (p *Plan) filesystem(r Request, at *loader.Attachment) error {
	p.Filesystem = strings.ToLower(r.Filesystem)
	switch {
	case p.Filesystem != "" && !drives.Ours(p.Filesystem):
		return fmt.Errorf("the filesystem %q is not supported; fat16, fat32, exfat and slab are", r.Filesystem)
	case p.Filesystem != "" && at != nil && !at.Reads(p.Filesystem):
		return fmt.Errorf("%s reads only %s, not %s", r.Profile.Shown, at.ReadsWords(),
			drives.FilesystemShown(p.Filesystem))
	case p.Filesystem != "":
		p.because(drives.FilesystemShown(p.Filesystem), "you asked for it")
		return nil
	}
	var can []string
	for _, name := range at.Filesystems {
		if drives.Ours(name) {
			can = append(can, name)
		} else if name == "any" {
			can = append(can, "exfat", "fat32")
		}
	}
	if len(can) == 0 {
		return fmt.Errorf("%s reads %s, which Polytome cannot make", r.Profile.Shown, at.ReadsWords())
	}
	p.Filesystem = can[0]
	n, of := largest(r.Titles, r.Profile)
	switch {
	case n > 1<<32-1 && p.Filesystem != "exfat" && slices.Contains(can, "exfat"):
		p.Filesystem = "exfat"
		p.because("exFAT", "%s has a file of %s, more than FAT32 holds, and %s reads both", of, size.Format(n),
			r.Profile.Shown)
	case p.Drive.Size > largestMBR && p.Filesystem != "exfat" && slices.Contains(can, "exfat"):
		p.Filesystem = "exfat"
		p.because("exFAT", "the drive is larger than FAT32 can be")
	case len(can) == 1:
		p.because(drives.FilesystemShown(p.Filesystem), "%s reads nothing else: %s", r.Profile.Shown, at.Why)
	default:
		p.because(drives.FilesystemShown(p.Filesystem), "%s reads it, and so does everything else", r.Profile.Shown)
	}
	return nil
}

func (p *Plan) scheme(r Request, at *loader.Attachment) error {
	wanted := partition.Scheme("")
	if at != nil && at.PartitionTable != "" && at.PartitionTable != "any" {
		wanted = partition.Scheme(at.PartitionTable)
	}
	if p.slab() {
		if r.Part > 0 || r.Scheme != "" && r.Scheme != partition.None {
			return errors.New("a slab disk has the whole drive, and no partitions")
		}
		p.Scheme = partition.None
		p.because("no partitions", "a slab disk has the whole drive")
		return nil
	}
	if r.Part > 0 {
		if p.Drive.Table == nil {
			return fmt.Errorf("%s has no partitions, so --partition is not possible", p.Drive.Name())
		}
		p.Scheme = p.Drive.Table.Scheme
		if wanted != "" && wanted != p.Scheme {
			return fmt.Errorf("%s needs %s, but %s has %s: prepare the whole drive", r.Profile.Shown, wanted.Shown(),
				p.Drive.Name(), p.Scheme.Shown())
		}
		p.because("partition "+fmt.Sprint(r.Part), "only it is reformatted; the partition table and all others stay")
		return nil
	}
	switch {
	case r.Scheme != "" && wanted != "" && r.Scheme != wanted:
		return fmt.Errorf("%s needs %s, not %s", r.Profile.Shown, wanted.Shown(), r.Scheme.Shown())
	case r.Scheme != "":
		p.Scheme = r.Scheme
		p.because(p.Scheme.Shown(), "you asked for it")
	case wanted != "":
		p.Scheme = wanted
		p.because(p.Scheme.Shown(), "%s needs it", r.Profile.Shown)
	case p.Drive.Size > largestMBR && p.Drive.Sector == 512:
		p.Scheme = partition.GPT
		p.because("GPT", "an MBR reaches at most %s", size.Format(largestMBR))
	default:
		p.Scheme = partition.MBR
		p.because("MBR", "every console and computer reads it")
	}
	return nil
}

// area finds where the volume will lie.
func (p *Plan) area(r Request) error {
	d := p.Drive
	if r.Part > 0 {
		v := d.Table.Find(r.Part)
		if v == nil {
			return fmt.Errorf("%s has no partition %d", d.Name(), r.Part)
		}
		p.table, p.start, p.length = d.Table, v.Start, min(v.Size, d.Size-v.Start)
		return nil
	}
	most := int64(math.MaxInt64) // bytes of the volume
	if p.Filesystem != "exfat" && !p.slab() {
		most = (1<<32 - 1) * d.Sector / partition.Align * partition.Align
	}
	if p.slab() {
		p.length = d.Size / slab.Slab * slab.Slab
		return nil
	}
	if p.Scheme == partition.None {
		p.length = min(d.Size/d.Sector*d.Sector, most)
		p.unused(d.Size - p.length)
		return nil
	}
	want := partition.Wanted{Type: partition.TypeFor(p.Scheme, p.Filesystem)}
	t, err := partition.New(p.Scheme, d.Size, d.Sector, want)
	if err == nil && t.Parts[0].Size > most {
		want.Size = most
		t, err = partition.New(p.Scheme, d.Size, d.Sector, want)
	}
	if err != nil {
		return err
	}
	p.table, p.start, p.length = t, t.Parts[0].Start, t.Parts[0].Size
	if p.length == most {
		p.unused(d.Size - t.Parts[0].End())
	} else if p.Scheme == partition.MBR && t.Parts[0].End() < d.Size-2*partition.Align {
		p.Notes = append(p.Notes, fmt.Sprintf("An MBR reaches at most %s: %s of the drive stay unused.",
			size.Format(t.Parts[0].End()), size.Format(d.Size-t.Parts[0].End())))
	}
	return nil
}

// unused says that FAT leaves a part of the drive.
func (p *Plan) unused(n int64) {
	if n > 2*partition.Align {
		p.Notes = append(p.Notes, fmt.Sprintf(
			"FAT32 holds at most %s: %s of the drive stay unused. exFAT would use all of it, if the loader reads that.",
			size.Format(p.length), size.Format(n)))
	}
}

func (p *Plan) label(r Request, at *loader.Attachment) error {
	wanted := ""
	if at != nil {
		wanted = at.Label
	}
	if wanted == "" && r.Profile != nil {
		wanted = r.Profile.FirstBoot.Label
	}
	switch {
	case r.Label != nil:
		p.Label = *r.Label
		if at != nil && at.Label != "" && !strings.EqualFold(p.Label, at.Label) {
			return fmt.Errorf("%s needs the volume label %s, not %q", r.Profile.Shown, at.Label, p.Label)
		}
		if at != nil && slices.ContainsFunc(at.LabelNot, func(l string) bool { return strings.EqualFold(l, p.Label) }) {
			return fmt.Errorf("%s does not accept the volume label %s", r.Profile.Shown, p.Label)
		}
	case wanted != "":
		p.Label = wanted
		p.because("the label "+wanted, "%s needs that label", r.Profile.Shown)
	}
	check := fat.CheckLabel
	switch {
	case p.Filesystem == "exfat":
		check = exfat.CheckLabel
	case p.slab():
		check = slab.CheckLabel
	default:
		p.Label = strings.ToUpper(p.Label)
	}
	if why := check(p.Label); why != "" {
		return fmt.Errorf("the label %q is not possible: %s", p.Label, why)
	}
	return nil
}

// fits says why a volume cannot be made with that cluster size.
func (p *Plan) fits(cluster int64) error {
	sector := p.Drive.Sector
	if p.Filesystem == "exfat" {
		return exfat.Check(p.length, exfat.Options{Cluster: cluster, Sector: sector})
	}
	return fat.Check(p.length, fat.Options{Bits: p.bits(), Cluster: cluster, Sector: sector})
}

func (p *Plan) bits() int {
	if p.Filesystem == "fat16" {
		return 16
	}
	return 32
}

// cluster chooses the size of clusters: what the loader wants, else the usual one for the drive's size, smaller where
// many small files would lose much in them.
func (p *Plan) cluster(r Request, at *loader.Attachment) error {
	if p.slab() {
		p.Cluster = slab.Slab
		return slab.Check(p.length, p.slabOptions())
	}
	fs, err := target.FilesystemNamed(p.Filesystem)
	if err != nil {
		return err
	}
	switch {
	case r.Cluster > 0:
		p.Cluster = r.Cluster
		p.because("clusters of "+size.Format(p.Cluster), "you asked for them")
		return p.fits(p.Cluster)
	case at != nil && at.Cluster > 0:
		p.Cluster = int64(at.Cluster)
		p.because("clusters of "+size.Format(p.Cluster), "%s needs them", r.Profile.Shown)
		return p.fits(p.Cluster)
	}
	p.Cluster = max(fs.Cluster(p.length), p.Drive.Sector)
	usual := p.Cluster
	var bad error
	for bad = p.fits(p.Cluster); bad != nil && p.Cluster > p.Drive.Sector; bad = p.fits(p.Cluster) {
		p.Cluster /= 2
	}
	for c := usual; bad != nil && c <= 64*size.KiB; c *= 2 {
		if bad = p.fits(c); bad == nil {
			p.Cluster = c
		}
	}
	if bad != nil {
		return bad
	}
	n, lost := p.slack(r, p.Cluster)
	best, saved := p.Cluster, int64(0)
	for c := p.Cluster / 2; c >= 4*size.KiB && p.fits(c) == nil; c /= 2 {
		_, l := p.slack(r, c)
		table := p.tables(c) - p.tables(p.Cluster)
		if gain := lost - l - table; gain > saved {
			best, saved = c, gain
		}
	}
	if saved > p.length/100 { // worth it only when a hundredth of the volume is at stake
		p.because("clusters of "+size.Format(best), "with %s, larger ones waste %s of %s; these save %s of that",
			size.Count(n, "file"), size.Format(lost), size.Format(p.Cluster), size.Format(saved))
		p.Cluster = best
		return nil
	}
	if n > 0 {
		p.because("clusters of "+size.Format(p.Cluster), "the usual size for %s; with %s they waste only %s",
			size.Format(p.length), size.Count(n, "file"), size.Format(lost))
	} else {
		p.because("clusters of "+size.Format(p.Cluster), "the usual size for %s", size.Format(p.length))
	}
	return nil
}

// slack is what files available leave unused in their last clusters.
func (p *Plan) slack(r Request, cluster int64) (files int, lost int64) {
	for i := range r.Titles {
		t := &r.Titles[i]
		if r.Profile != nil && !r.Profile.Knows(t.Platform) {
			continue
		}
		for _, f := range filesOf(t) {
			files++
			lost += (cluster - f.Size%cluster) % cluster
		}
	}
	return files, lost
}

// tables is what the tables of clusters take.
func (p *Plan) tables(cluster int64) int64 {
	n := p.length / cluster
	switch p.Filesystem {
	case "exfat":
		return n*4 + n/8
	case "fat16":
		return n * 4
	}
	return n * 8
}
