// Package ready makes a bare or used drive one that a loader accepts, in one act: partition table, filesystem, label, the
// folders of the console, and the loader's own files. [Make] says beforehand what will be done and what will be lost, [Plan.Do] does it
// through the guard of package drives, and proves it.
package ready

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/glance"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/drives"
	"polytome/internal/format/exfat"
	"polytome/internal/format/fat"
	"polytome/internal/format/partition"
	"polytome/internal/place"
	"polytome/internal/size"
)

// A Request is what a drive shall become. What is left empty is taken from the profile, or chosen.
type Request struct {
	Profile    *loader.Profile // nil for none: then a filesystem has to be given
	Filesystem string
	Label      *string // nil for the profile's
	Scheme     partition.Scheme
	Cluster    int64
	Part       int           // only this partition is made anew, and all else stays; 0 for the whole drive
	Titles     []title.Title // at hand, for which the clusters are chosen
	Kit        string        // folder with the loader's own files, as they were downloaded
	Edition    string        // of the kit
}

// A Reason is why something is as it is.
type Reason struct {
	What string `json:"what"`
	Why  string `json:"why"`
}

// A Slice is a part of a drive, for the picture of before and after.
type Slice struct {
	Start int64  `json:"start"`
	Size  int64  `json:"size"`
	Say   string `json:"say"`
	Kind  string `json:"kind"` // table, free, lost, kept or new
}

// A File is one of the loader's own, and where it comes from.
type File struct {
	From string `json:"from"`
	To   string `json:"to"`
	Size int64  `json:"size"`
}

// A Plan is what readying a drive does.
type Plan struct {
	Drive      *drives.Drive    `json:"drive"`
	Loader     string           `json:"loader,omitempty"`
	Scheme     partition.Scheme `json:"scheme"`
	Filesystem string           `json:"filesystem"`
	Label      string           `json:"label"`
	Cluster    int64            `json:"cluster"`
	Part       int              `json:"part,omitempty"`
	Reasons    []Reason         `json:"reasons"`
	Before     []Slice          `json:"before"`
	After      []Slice          `json:"after"`
	Loses      string           `json:"loses"` // in a sentence; "" for nothing
	Folders    []string         `json:"folders,omitempty"`
	Kit        []File           `json:"kit,omitempty"`
	Steps      []string         `json:"steps"`
	// Notes are what is to be known before, such as files of the kit that are missing.
	Notes []string `json:"notes,omitempty"`

	profile *loader.Profile
	table   *partition.Table
	start   int64
	length  int64
}

// largestMBR is up to where an MBR reaches with sectors of 512 bytes.
const largestMBR = 2 * size.TiB

// Make plans. Nothing is written.
func Make(ctx context.Context, sys drives.System, d *drives.Drive, set *loader.Set, r Request) (*Plan, error) {
	p := &Plan{Drive: d, profile: r.Profile, Part: r.Part}
	if r.Profile != nil {
		p.Loader = r.Profile.Name
	}
	if d.Trouble != "" {
		return nil, errors.New(d.Trouble)
	}
	at, err := p.attachment(r)
	if err != nil {
		return nil, err
	}
	if err := p.filesystem(r, at); err != nil {
		return nil, err
	}
	if err := p.scheme(r, at); err != nil {
		return nil, err
	}
	if err := p.area(r); err != nil {
		return nil, err
	}
	if err := p.label(r, at); err != nil {
		return nil, err
	}
	if err := p.cluster(r, at); err != nil {
		return nil, err
	}
	p.picture()
	p.loses(ctx, sys, set)
	p.folders(r)
	if err := p.kit(r); err != nil {
		return nil, err
	}
	p.steps()
	return p, nil
}

func (p *Plan) because(what, format string, args ...any) {
	p.Reasons = append(p.Reasons, Reason{what, fmt.Sprintf(format, args...)})
}

// attachment is how the loader reaches drives, nil without a profile.
func (p *Plan) attachment(r Request) (*loader.Attachment, error) {
	if r.Profile == nil {
		if r.Filesystem == "" {
			return nil, errors.New("say for which loader the drive is readied, or with which filesystem")
		}
		return nil, nil
	}
	at := r.Profile.Attachment("usb", r.Filesystem)
	if at == nil {
		return nil, fmt.Errorf("%s reads no drives: it is reached over %s", r.Profile.Shown, strings.Join(r.Profile.Roads(), ", "))
	}
	return at, nil
}

// filesOf are all files of a title's discs.
func filesOf(t *title.Title) (out []title.File) {
	for i := range t.Discs {
		d := &t.Discs[i]
		if d.File.Size > 0 {
			out = append(out, d.File)
		}
		for _, p := range d.Parts {
			if p.File.Entry == "" {
				out = append(out, p.File)
			}
		}
	}
	return out
}

// largest is the longest file of the titles that the loader takes.
func largest(titles []title.Title, p *loader.Profile) (n int64, of string) {
	for i := range titles {
		t := &titles[i]
		if p != nil && !p.Knows(t.Platform) {
			continue
		}
		for _, f := range filesOf(t) {
			if f.Size > n {
				n, of = f.Size, t.Label()
			}
		}
	}
	return n, of
}

func (p *Plan) filesystem(r Request, at *loader.Attachment) error {
	p.Filesystem = strings.ToLower(r.Filesystem)
	switch {
	case p.Filesystem != "" && !drives.Ours(p.Filesystem):
		return fmt.Errorf("the filesystem %q cannot be made here; fat16, fat32 and exfat can", r.Filesystem)
	case p.Filesystem != "" && at != nil && !at.Reads(p.Filesystem):
		return fmt.Errorf("%s reads %s only, and not %s", r.Profile.Shown, at.ReadsWords(), drives.FilesystemShown(p.Filesystem))
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
		return fmt.Errorf("%s reads %s, which cannot be made here", r.Profile.Shown, at.ReadsWords())
	}
	p.Filesystem = can[0]
	n, of := largest(r.Titles, r.Profile)
	switch {
	case n > 1<<32-1 && p.Filesystem != "exfat" && slices.Contains(can, "exfat"):
		p.Filesystem = "exfat"
		p.because("exFAT", "%s has a file of %s, more than FAT32 holds, and %s reads both", of, size.Format(n), r.Profile.Shown)
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
	if r.Part > 0 {
		if p.Drive.Table == nil {
			return fmt.Errorf("%s has no partitions, so none of them can be readied alone", p.Drive.Name())
		}
		p.Scheme = p.Drive.Table.Scheme
		if wanted != "" && wanted != p.Scheme {
			return fmt.Errorf("%s wants %s, and %s has %s: only the whole drive can be readied for it", r.Profile.Shown, wanted.Shown(), p.Drive.Name(), p.Scheme.Shown())
		}
		p.because("partition "+fmt.Sprint(r.Part), "only it is made anew; the partition table and all others stay")
		return nil
	}
	switch {
	case r.Scheme != "" && wanted != "" && r.Scheme != wanted:
		return fmt.Errorf("%s wants %s, and not %s", r.Profile.Shown, wanted.Shown(), r.Scheme.Shown())
	case r.Scheme != "":
		p.Scheme = r.Scheme
		p.because(p.Scheme.Shown(), "you asked for it")
	case wanted != "":
		p.Scheme = wanted
		p.because(p.Scheme.Shown(), "%s wants it", r.Profile.Shown)
	case p.Drive.Size > largestMBR && p.Drive.Sector == 512:
		p.Scheme = partition.GPT
		p.because("GPT", "an MBR counts no further than %s", size.Format(largestMBR))
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
	if p.Filesystem != "exfat" {
		most = (1<<32 - 1) * d.Sector / partition.Align * partition.Align
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
		p.Notes = append(p.Notes, fmt.Sprintf("An MBR reaches %s far: %s of the drive stay unused.", size.Format(t.Parts[0].End()), size.Format(d.Size-t.Parts[0].End())))
	}
	return nil
}

// unused says that FAT leaves a part of the drive.
func (p *Plan) unused(n int64) {
	if n > 2*partition.Align {
		p.Notes = append(p.Notes, fmt.Sprintf("FAT32 reaches no further than %s: %s of the drive stay unused. exFAT would take all of it, where the loader reads that.", size.Format(p.length), size.Format(n)))
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
			return fmt.Errorf("%s wants a volume called %s, and not %q", r.Profile.Shown, at.Label, p.Label)
		}
		if at != nil && slices.ContainsFunc(at.LabelNot, func(l string) bool { return strings.EqualFold(l, p.Label) }) {
			return fmt.Errorf("%s does not take a volume called %s", r.Profile.Shown, p.Label)
		}
	case wanted != "":
		p.Label = wanted
		p.because("called "+wanted, "%s wants that name", r.Profile.Shown)
	}
	check := fat.CheckLabel
	if p.Filesystem == "exfat" {
		check = exfat.CheckLabel
	} else {
		p.Label = strings.ToUpper(p.Label)
	}
	if why := check(p.Label); why != "" {
		return fmt.Errorf("the volume cannot be called %q: %s", p.Label, why)
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
	fs, err := place.FilesystemNamed(p.Filesystem)
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
		p.because("clusters of "+size.Format(p.Cluster), "%s wants them", r.Profile.Shown)
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
		p.because("clusters of "+size.Format(best), "%s at hand leave %s of larger ones, of %s, unused; these save %s of it", size.Count(n, "file"), size.Format(lost), size.Format(p.Cluster), size.Format(saved))
		p.Cluster = best
		return nil
	}
	if n > 0 {
		p.because("clusters of "+size.Format(p.Cluster), "they are the usual ones for %s, and %s at hand leave only %s in them unused", size.Format(p.length), size.Count(n, "file"), size.Format(lost))
	} else {
		p.because("clusters of "+size.Format(p.Cluster), "they are the usual ones for %s", size.Format(p.length))
	}
	return nil
}

// slack is what files at hand leave unused in their last clusters.
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

// picture draws the drive before and after.
func (p *Plan) picture() {
	d := p.Drive
	draw := func(table *partition.Table, each func(start, size int64, number int) Slice) []Slice {
		var out []Slice
		at := int64(0)
		if table == nil {
			return nil
		}
		parts := slices.Clone(table.Parts)
		slices.SortFunc(parts, func(a, b partition.Partition) int { return int(min(max(a.Start-b.Start, -1), 1)) })
		for _, v := range parts {
			if gap := v.Start - at; gap > size.MiB {
				what, kind := "free", "free"
				if at == 0 {
					what, kind = table.Scheme.Shown(), "table"
				}
				out = append(out, Slice{at, gap, what, kind})
			}
			out = append(out, each(v.Start, v.Size, v.Number))
			at = max(at, v.Start+v.Size)
		}
		if rest := d.Size - at; rest > partition.Align {
			out = append(out, Slice{at, rest, "free", "free"})
		}
		return out
	}
	old := func(start, length int64, number int) Slice {
		s := Slice{Start: start, Size: length, Kind: "lost"}
		if v := d.Find(number); v != nil {
			s.Say = strings.TrimSpace(v.Label + " " + v.Shown())
		}
		if p.Part > 0 && number != p.Part {
			s.Kind = "kept"
		}
		return s
	}
	if p.Before = draw(d.Table, old); d.Table == nil {
		p.Before = []Slice{{0, d.Size, "nothing known", "free"}}
		if v := d.Find(0); v != nil {
			p.Before = []Slice{old(0, d.Size, 0)}
		}
	}
	made := strings.TrimSpace(p.Label + " " + drives.FilesystemShown(p.Filesystem))
	if p.Scheme == partition.None {
		p.After = []Slice{{0, d.Size, made, "new"}}
		return
	}
	p.After = draw(p.table, func(start, length int64, number int) Slice {
		if p.Part > 0 && number != p.Part {
			return old(start, length, number)
		}
		return Slice{start, length, made, "new"}
	})
}

// loses reads what is on the drive.
func (p *Plan) loses(ctx context.Context, sys drives.System, set *loader.Set) {
	var parts []string
	for i := range p.Drive.Volumes {
		v := &p.Drive.Volumes[i]
		if p.Part > 0 && v.Number != p.Part || v.Filesystem == "" {
			continue
		}
		name := v.Label
		if name == "" {
			name = "a volume without a name"
		}
		name += " (" + v.Shown() + ", " + size.Format(v.Size) + ")"
		if !v.Ours() {
			parts = append(parts, "everything on "+name+", which cannot be read here")
			continue
		}
		switch c := glance.Volume(ctx, sys, p.Drive, v, set); {
		case c.Trouble != "":
			parts = append(parts, "everything on "+name+"; "+c.Trouble)
		case c.Files > 0:
			parts = append(parts, c.Words()+" on "+name)
		default:
			parts = append(parts, name+", which is empty")
		}
	}
	p.Loses = strings.Join(parts, "; ")
}

// folders are those of the console.
func (p *Plan) folders(r Request) {
	if r.Profile == nil {
		return
	}
	add := func(names ...string) {
		for _, n := range names {
			if !slices.Contains(p.Folders, n) {
				p.Folders = append(p.Folders, n)
			}
		}
	}
	if boot := &r.Profile.FirstBoot; boot.MayMake {
		add(layout.FirstBoot(r.Profile)...)
	} else if len(boot.Folders) > 0 {
		p.Notes = append(p.Notes, fmt.Sprintf("%s makes its folders itself: start it once with the drive before it is filled.", r.Profile.Console))
	}
	var kinds []string
	for i := range r.Titles {
		t := &r.Titles[i]
		for k := range t.Discs {
			if kind := t.Discs[k].Kind; kind != "" && !slices.Contains(kinds, kind) && r.Profile.Knows(t.Platform) {
				kinds = append(kinds, kind)
			}
		}
	}
	for i := range r.Profile.Accepts {
		a := &r.Profile.Accepts[i]
		if at := r.Profile.Attachment("usb", p.Filesystem); at != nil && (len(a.On) == 0 || slices.Contains(a.On, at.Name)) && (len(r.Profile.FirstBoot.Folders) == 0) {
			add(a.Path.Folders(map[loader.Field][]string{loader.FieldPlatform: a.Platforms, loader.FieldKind: kinds})...)
		}
	}
	slices.Sort(p.Folders)
}

// kit finds the loader's own files in the folder where the user has them.
func (p *Plan) kit(r Request) error {
	if r.Profile == nil || len(r.Profile.Kit.Files) == 0 {
		if r.Kit != "" {
			return errors.New("there is no loader whose files a kit could hold")
		}
		return nil
	}
	k := &r.Profile.Kit
	if len(k.Editions) > 0 && r.Edition == "" && r.Kit != "" {
		var names []string
		for _, e := range k.Editions {
			names = append(names, e.Name+" ("+e.Shown+")")
		}
		return fmt.Errorf("%s comes in editions, and one has to be chosen: %s", k.Shown, strings.Join(names, ", "))
	}
	if r.Edition != "" && !slices.ContainsFunc(k.Editions, func(e loader.Edition) bool { return e.Name == r.Edition }) {
		return fmt.Errorf("%s has no edition %q", k.Shown, r.Edition)
	}
	if r.Kit == "" {
		p.Notes = append(p.Notes, fmt.Sprintf("No folder with %s was given: it has to be put on the drive before it starts.", k.Shown))
		return nil
	}
	files, err := kitFiles(r.Kit)
	if err != nil {
		return err
	}
	for _, f := range k.Files {
		if len(f.Editions) > 0 && !slices.Contains(f.Editions, r.Edition) {
			continue
		}
		found := matching(files, f.From)
		if len(found) == 0 && !f.Optional && f.Text == "" && len(f.From) > 0 {
			p.Notes = append(p.Notes, fmt.Sprintf("%s lacks %s (%s): %s.", r.Kit, f.To, f.Why, "it has to be put on the drive before the loader starts"))
		}
		for _, from := range found {
			to := f.To
			if from.inside != "" {
				to = path.Join(f.To, from.inside)
			}
			p.Kit = append(p.Kit, File{from.path, to, from.size})
			p.Notes = append(p.Notes, fmt.Sprintf("%s comes from %s.", to, from.path))
		}
	}
	return nil
}

// kitFile is a file in the folder of a kit.
type kitFile struct {
	path   string
	rel    string
	inside string // path below the folder that fitted, "" for a file that did
	size   int64
}

// mostKit is how many files a kit has at most.
const mostKit = 20_000

func kitFiles(dir string) ([]kitFile, error) {
	var out []kitFile
	err := filepath.WalkDir(dir, func(name string, e os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		if info.Mode().IsRegular() {
			rel, err := filepath.Rel(dir, name)
			if err != nil {
				return err
			}
			out = append(out, kitFile{path: name, rel: filepath.ToSlash(rel), size: info.Size()})
		}
		if len(out) > mostKit {
			return fmt.Errorf("%s has more than %d files, and is no kit", dir, mostKit)
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("reading the kit: %w", err)
	}
	return out, nil
}

// matching are the files whose name, or the name of a folder above them, fits one of the patterns. The first pattern that fits
// something counts; of several files the newest name does. Files of the kit lie at its top, or in the one folder that it was unpacked to,
// unless the pattern names folders; hidden ones are never meant.
func matching(files []kitFile, patterns []string) []kitFile {
	wrapped := 0 // folders around all of it, as archives are unpacked to
	if n := len(files); n > 0 {
		top, _, in := strings.Cut(files[0].rel, "/")
		if in && !slices.ContainsFunc(files, func(f kitFile) bool { return !strings.HasPrefix(f.rel, top+"/") }) {
			wrapped = 1
		}
	}
	for _, p := range patterns {
		var whole *kitFile
		var inside []kitFile
		for i := range files {
			f := &files[i]
			parts := strings.Split(f.rel, "/")
			if slices.ContainsFunc(parts, func(s string) bool { return strings.HasPrefix(s, ".") }) {
				continue
			}
			deep := strings.Count(p, "/")
			for k := range parts {
				if k < deep || k > deep+wrapped {
					continue
				}
				if !loader.MatchFile(strings.ToLower(p), strings.ToLower(strings.Join(parts[k-deep:k+1], "/"))) {
					continue
				}
				if k == len(parts)-1 {
					if whole == nil || f.rel > whole.rel {
						whole = f
					}
				} else {
					in := *f
					in.inside = strings.Join(parts[k+1:], "/")
					inside = append(inside, in)
				}
				break
			}
		}
		if whole != nil {
			return []kitFile{*whole}
		}
		if len(inside) > 0 {
			return inside
		}
	}
	return nil
}

// steps names what will be done.
func (p *Plan) steps() {
	add := func(format string, args ...any) { p.Steps = append(p.Steps, fmt.Sprintf(format, args...)) }
	switch {
	case p.Part > 0:
		add("keep the partition table, and all but partition %d", p.Part)
	case p.Scheme == partition.None:
		add("clear the partition table")
	default:
		add("write a partition table (%s) with one partition of %s", p.Scheme.Shown(), size.Format(p.length))
	}
	named := ""
	if p.Label != "" {
		named = " called " + p.Label
	}
	add("make a volume with %s%s, clusters of %s", drives.FilesystemShown(p.Filesystem), named, size.Format(p.Cluster))
	if len(p.Folders) > 0 {
		add("make %s of the console's", size.Count(len(p.Folders), "folder"))
	}
	if len(p.Kit) > 0 {
		n := int64(0)
		for _, f := range p.Kit {
			n += f.Size
		}
		add("put %s of %s there, %s", size.Count(len(p.Kit), "file"), p.profile.Kit.Shown, size.Format(n))
	}
	add("read everything back, and check the volume")
}
