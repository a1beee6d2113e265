// Package prepare makes a bare or used drive one that a loader accepts, in one act: partition table, filesystem, label,
// the folders of the console, and the loader's own files. [Make] says beforehand what will be done and what will be
// lost, [Plan.Do] does it through the guard of package drives, and checks it.
package prepare

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/plan"
	"polytome/internal/core/saves"
	"polytome/internal/core/source"
	"polytome/internal/core/title"
	"polytome/internal/drives"
	"polytome/internal/format/partition"
	"polytome/internal/size"
)

// A Request is what a drive shall become. What is left empty is taken from the profile, or chosen.
type Request struct {
	Profile    *loader.Profile // nil for none: then a filesystem has to be given
	Filesystem string
	Label      *string // nil for the profile's
	Scheme     partition.Scheme
	Cluster    int64
	Part       int           // only this partition is made again, and all else stays; 0 for the whole drive
	Titles     []title.Title // available, for which the clusters are chosen
	Wanted     bench.Target  // which of them are to go onto it; all of them where it has no name
	Kit        string        // folder or archive with the loader's own files, as they were downloaded
	Editions   []string      // of the kit: one of each kind
	// Vault is where saves are kept that are on the drive; the usual one where it has no folder.
	Vault saves.Vault
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

	source title.File // where it is; empty for one that is made of settings alone
}

// A Plan is what preparing a drive does.
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
	// Saves are what players have reached: they are kept first.
	Saves   []saves.Save `json:"saves,omitempty"`
	Folders []string     `json:"folders,omitempty"`
	Kit     []File       `json:"kit,omitempty"`
	Steps   []string     `json:"steps"`
	// Notes are what is to be known before, such as files of the kit that are missing.
	Notes []string `json:"notes,omitempty"`
	// Left is what is wanted and will not go onto it.
	Left []plan.Left `json:"left,omitempty"`

	profile *loader.Profile
	at      *loader.Attachment // nil without a profile
	table   *partition.Table
	start   int64
	length  int64

	set   *loader.Set
	vault saves.Vault

	opener source.Opener // of files of the kit
}

// largestMBR is up to where an MBR reaches with sectors of 512 bytes.
const largestMBR = 2 * size.TiB

// Make plans. Nothing is written.
func Make(ctx context.Context, sys drives.System, d *drives.Drive, set *loader.Set, r Request) (*Plan, error) {
	d, err := sys.Readable(ctx, d)
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(d.Uses, func(u drives.Use) bool { return u.Kind == drives.OfSystem }) {
		return nil, d.Refusal() // before it is read from end to end, which nobody needs
	}
	p := &Plan{Drive: d, profile: r.Profile, Part: r.Part}
	if r.Profile != nil {
		p.Loader = r.Profile.Name
	}
	at, err := p.attachment(r)
	if err != nil {
		return nil, err
	}
	p.at = at
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
	if p.vault = r.Vault; p.vault.Dir == "" {
		p.vault = saves.Usual()
	}
	p.findSaves(ctx, sys, set)
	p.folders(r)
	if err := p.kit(r); err != nil {
		return nil, err
	}
	p.steps()
	return p, p.room(ctx, set, r)
}

func (p *Plan) because(what, format string, args ...any) {
	p.Reasons = append(p.Reasons, Reason{what, fmt.Sprintf(format, args...)})
}

// attachment is how the loader reaches drives, nil without a profile.
func (p *Plan) attachment(r Request) (*loader.Attachment, error) {
	if r.Profile == nil {
		if r.Filesystem == "" {
			return nil, errors.New("give the loader or the filesystem to prepare the drive for")
		}
		return nil, nil
	}
	at := cmp.Or(r.Profile.OnDrive(strings.ToLower(r.Filesystem), p.Drive.Network), r.Profile.OnDrive("",
		p.Drive.Network))
	if at == nil {
		return nil, fmt.Errorf("%s does not read drives: it is connected by %s", r.Profile.Shown,
			strings.Join(r.Profile.Connections(), ", "))
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

// folders are those of the console.
func (p *Plan) folders(r Request) {
	if r.Profile == nil || p.slab() { // which has no folders
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
		p.Notes = append(p.Notes, fmt.Sprintf(
			"%s creates its folders itself: start it once with the drive before filling it.", r.Profile.Console))
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
		if at := r.Profile.OnDrive(p.Filesystem, p.Drive.Network); at != nil && (len(a.On) == 0 || slices.Contains(a.On,
			at.Name)) && (len(r.Profile.FirstBoot.Folders) == 0) {
			add(a.Path.Folders(map[loader.Field][]string{loader.FieldPlatform: a.Platforms,
				loader.FieldKind: kinds})...)
		}
	}
	slices.Sort(p.Folders)
}

// steps names what will be done.
func (p *Plan) steps() {
	add := func(format string, args ...any) { p.Steps = append(p.Steps, fmt.Sprintf(format, args...)) }
	if len(p.Saves) > 0 {
		add("keep %s in %s", size.Count(len(p.Saves), "save"), p.vault.Dir)
	}
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
		named = " named " + p.Label
	}
	if p.slab() {
		add("make it a slab disk%s", named)
	} else {
		add("make a volume with %s%s, clusters of %s", drives.FilesystemShown(p.Filesystem), named,
			size.Format(p.Cluster))
	}
	if len(p.Folders) > 0 {
		add("make %s for the console", size.Count(len(p.Folders), "folder"))
	}
	if len(p.Kit) > 0 {
		n := int64(0)
		for _, f := range p.Kit {
			n += f.Size
		}
		add("copy %s of %s, %s", size.Count(len(p.Kit), "file"), p.profile.Kit.Shown, size.Format(n))
	}
	add("read everything back, and check the volume")
}
