package prepare

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"polytome/internal/core/loader"
	"polytome/internal/core/settings"
	"polytome/internal/drives"
	"polytome/internal/format/exfat"
	"polytome/internal/format/fat"
	"polytome/internal/format/partition"
	"polytome/internal/format/slab"
	"polytome/internal/format/volume"
	"polytome/internal/medium"
	"polytome/internal/size"
)

// An Event reports how far preparing is.
type Event struct {
	Step  int    `json:"step"` // index into the plan's steps
	Steps int    `json:"steps"`
	Say   string `json:"say"`
}

// A Report is how it ended.
type Report struct {
	Drive   *drives.Drive  `json:"drive"` // as it is now
	Health  *volume.Health `json:"health,omitempty"`
	Wrong   []string       `json:"wrong,omitempty"` // what the check found, in sentences
	Files   int            `json:"files"`
	Folders int            `json:"folders"`
	Took    time.Duration  `json:"took"`
	// Lost is what the volumes were known by that are no longer there, and Volume what the new one is known by.
	Lost   []string `json:"lost,omitempty"`
	Volume string   `json:"volume,omitempty"`
}

func (r *Report) wrong(format string, args ...any) {
	r.Wrong = append(r.Wrong, fmt.Sprintf(format, args...))
}

// Good reports whether the check found nothing wrong.
func (r *Report) Good() bool { return len(r.Wrong) == 0 }

// clearBefore and clearBehind are how many bytes at both ends of a drive are cleared, so that nothing of older
// filesystems and tables is recognised there.
const (
	clearBefore = int64(partition.Align)
	clearBehind = int64(1 << 20)
)

// Do carries the plan out. The consent is that to losing what is on the drive. tell may be nil.
func (p *Plan) Do(ctx context.Context, sys drives.System, consent drives.Consent, emit func(Event)) (*Report, error) {
	defer func() { _ = p.opener.Close() }() // which was read from
	began := time.Now()
	step := -1
	next := func() {
		if step++; emit != nil {
			emit(Event{step, len(p.Steps), p.Steps[step]})
		}
	}
	if len(p.Saves) > 0 {
		next()
		if err := p.keepSaves(ctx, sys); err != nil {
			return nil, fmt.Errorf("nothing was written, as the saves on it could not be kept: %w", err)
		}
	}
	m, err := sys.Open(ctx, p.Drive, drives.Erasing, consent)
	if err != nil {
		return nil, err
	}
	defer m.Close()
	broken := func(err error) error {
		if drives.IsRefused(err) {
			return err // nothing was written
		}
		return fmt.Errorf("preparing %s: %w; it has no usable volume now: prepare it again", p.Drive.Name(), err)
	}
	next()
	if err := p.partition(m); err != nil {
		return nil, broken(err)
	}
	next()
	if err := ctx.Err(); err != nil {
		return nil, broken(err)
	}
	part := m.Part(p.start, p.length)
	if err := p.format(part); err != nil {
		return nil, broken(err)
	}
	v, err := p.onto(part)
	if err != nil {
		return nil, broken(err)
	}
	if len(p.Folders) > 0 {
		next()
		for _, f := range p.Folders {
			if err := v.MakeFolder(ctx, f); err != nil {
				return nil, fmt.Errorf("making the folders of the console: %w", err)
			}
		}
	}
	if len(p.Kit) > 0 {
		next()
		for _, f := range p.Kit {
			if err := p.put(ctx, v, f); err != nil {
				return nil, fmt.Errorf("copying the kit file %s: %w", f.To, err)
			}
		}
	}
	if err := v.Close(); err != nil {
		return nil, broken(err)
	}
	if err := m.Drop(0, m.Size()); err != nil {
		return nil, broken(err)
	}
	if err := m.Close(); err != nil {
		return nil, err
	}
	next()
	r, err := p.check(ctx, sys)
	if err != nil {
		return nil, err
	}
	r.Took = time.Since(began)
	return r, nil
}

// partition writes the table, or the type of the one partition.
func (p *Plan) partition(m *medium.File) error {
	if p.Part > 0 {
		// What was there is no volume any longer before its type describes another one.
		if _, err := m.WriteAt(make([]byte, min(64<<10, p.length)), p.start); err != nil {
			return err
		}
		t, err := partition.Read(m, m.Size(), p.Drive.Sector)
		if err != nil {
			return err
		}
		if err := partition.SetType(m, t, p.Part, partition.TypeFor(t.Scheme, p.Filesystem)); err != nil {
			return err
		}
		return m.Sync()
	}
	// Zeros are written, and not made by other means: what begins and ends a drive counts.
	head, tail := make([]byte, min(clearBefore, m.Size())), make([]byte, min(clearBehind, m.Size()))
	if _, err := m.WriteAt(head, 0); err != nil {
		return err
	}
	if _, err := m.WriteAt(tail, m.Size()-int64(len(tail))); err != nil {
		return err
	}
	if p.Scheme != partition.None {
		if err := p.table.Write(m); err != nil {
			return err
		}
	}
	if err := m.Sync(); err != nil {
		return err
	}
	return nil
}

func (p *Plan) format(part *medium.File) error {
	if p.slab() {
		_, err := slab.Format(part, p.length, p.slabOptions())
		return err
	}
	if p.Filesystem == "exfat" {
		return exfat.Format(part, p.length, exfat.Options{Cluster: p.Cluster, Sector: p.Drive.Sector, Label: p.Label,
			Hidden: p.start})
	}
	return fat.Format(part, p.length, fat.Options{Bits: p.bits(), Cluster: p.Cluster, Sector: p.Drive.Sector,
		Label: p.Label, Hidden: p.start})
}

// largestSettings is up to which length a file of a kit may be one with settings in it.
const largestSettings = 1 << 20

// text is a file of the kit with the values that its loader wants, nil for one that has none.
func (p *Plan) text(f File) ([]byte, error) {
	if f.Size > largestSettings {
		return nil, nil
	}
	var out []byte
	for _, s := range p.profile.Settings {
		if !strings.EqualFold(s.File, f.To) {
			continue
		}
		if !p.holds(&s) {
			continue
		}
		if out == nil && f.From != "" {
			c, err := p.opener.Open(&f.source)
			if err != nil {
				return nil, err
			}
			b, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
			if err = errors.Join(err, c.Close()); err != nil {
				return nil, err
			}
			out = b
		}
		set, err := settings.Set(string(out), settings.Syntax(s.Syntax), s.Section, s.Key, s.Value)
		if err != nil {
			return nil, err
		}
		out = []byte(set)
	}
	return out, nil
}

// holds reports whether a setting is one for a drive.
func (p *Plan) holds(s *loader.Setting) bool {
	return p.here(p.profile).Wants(s)
}

// here is where a loader's own files go.
func (p *Plan) here(of *loader.Profile) loader.Here {
	h := loader.Here{Filesystem: p.Filesystem, Capacity: p.length}
	if at := of.OnDrive(p.Filesystem, p.Drive.Network); at != nil {
		h.Attachment, h.Via = at.Name, at.Via
		if v := at.VolumeNamed(p.Label); v != nil {
			h.Volume = v.Name
		}
	}
	return h
}

// source opens a file of the kit as it goes over.
func (p *Plan) source(f File) (r io.ReadCloser, n int64, err error) {
	text, err := p.text(f)
	if err != nil {
		return nil, 0, err
	}
	if text != nil {
		return io.NopCloser(strings.NewReader(string(text))), int64(len(text)), nil
	}
	c, err := p.opener.Open(&f.source)
	if err != nil {
		return nil, 0, err
	}
	return struct {
		io.Reader
		io.Closer
	}{io.NewSectionReader(c, 0, c.Size()), c}, c.Size(), nil
}

func (p *Plan) put(ctx context.Context, v onto, f File) error {
	r, n, err := p.source(f)
	if err != nil {
		return err
	}
	defer r.Close()
	if dir := path.Dir(f.To); dir != "." {
		if err := v.MakeFolder(ctx, dir); err != nil {
			return err
		}
	}
	return v.put(ctx, f.To, r, n)
}

// check looks at the drive again, and compares it with the plan.
func (p *Plan) check(ctx context.Context, sys drives.System) (*Report, error) {
	d, err := sys.Look(ctx, p.Drive.Path)
	if err == nil {
		d, err = sys.Readable(ctx, d)
	}
	if err != nil {
		return nil, err
	}
	r := &Report{Drive: d}
	wrong := r.wrong
	scheme := partition.None
	if d.Table != nil {
		scheme = d.Table.Scheme
		for _, s := range d.Table.Problems {
			wrong("%s", s)
		}
	}
	if scheme != p.Scheme {
		wrong("The drive has %s instead of %s.", scheme.Shown(), p.Scheme.Shown())
	}
	number := p.Part
	if number == 0 && p.Scheme != partition.None {
		number = 1
	}
	for i := range p.Drive.Volumes {
		if v := &p.Drive.Volumes[i]; v.Serial != "" && (p.Part == 0 || v.Number == p.Part) {
			r.Lost = append(r.Lost, v.Serial)
		}
	}
	found := d.Find(number)
	if found != nil {
		r.Volume = found.Serial
	}
	if found == nil {
		wrong("The volume is not there.")
		return r, nil
	}
	if found.Filesystem != p.Filesystem || found.Label != p.Label || found.Cluster != p.Cluster {
		wrong("The volume is %s, called %q, with clusters of %s, instead of %s, %q, %s.", found.Shown(), found.Label,
			size.Format(found.Cluster), drives.FilesystemShown(p.Filesystem), p.Label, size.Format(p.Cluster))
	}
	m, err := d.Read(ctx)
	if err != nil {
		return nil, err
	}
	defer m.Close() // which was read from
	v, err := p.onto(m.Part(found.Start, found.Size))
	if err != nil {
		wrong("The volume cannot be read: %v.", err)
		return r, nil
	}
	if err := v.check(ctx, r); err != nil {
		return nil, err
	}
	tree := v.files()
	for _, name := range p.Folders {
		if i, err := fs.Stat(tree, name); err != nil || !i.IsDir() {
			wrong("The folder %s is not there.", name)
		}
	}
	for _, k := range p.Kit {
		if err := p.same(tree, k); err != nil {
			wrong("%s: %v.", k.To, err)
		}
	}
	return r, nil
}

// same compares a file of the kit with what was put there.
func (p *Plan) same(tree fs.FS, k File) error {
	want, _, err := p.source(k)
	if err != nil {
		return err
	}
	defer want.Close()
	got, err := tree.Open(k.To)
	if err != nil {
		return errors.New("it is not there")
	}
	defer got.Close()
	a, b := make([]byte, 256<<10), make([]byte, 256<<10)
	for {
		n, err1 := io.ReadFull(want, a)
		k, err2 := io.ReadFull(got, b)
		if !bytes.Equal(a[:n], b[:k]) {
			return errors.New("it reads back differently")
		}
		for _, err := range []error{err1, err2} {
			if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
				return err
			}
		}
		if err1 != nil || err2 != nil {
			return nil
		}
	}
}
