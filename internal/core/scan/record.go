package scan

import (
	"encoding/binary"
	"errors"
	"path/filepath"
	"strings"
	"time"

	"polytome/internal/core/title"
)

// record is what is kept of a folder: its files as they were, and the titles in it. Paths
// below the folder are kept relative to it, so that it may move.
type record struct {
	whole  bool // the folder is a title by itself; files are those of its whole tree
	files  []item
	titles []title.Title
	// outside are files in other folders that the titles here consist of.
	outside []item
	passed  int // files that are no titles and belong to none
}

// recordFormat is changed whenever records, or what is read out of files, change: older
// ones are not used then.
const recordFormat = 6

// encoder writes a record: numbers as varints, texts with their length in front.
type encoder struct {
	b   []byte
	dir string
}

func (e *encoder) num(v int64)   { e.b = binary.AppendVarint(e.b, v) }
func (e *encoder) text(s string) { e.b = append(binary.AppendUvarint(e.b, uint64(len(s))), s...) }
func (e *encoder) words(s []string) {
	e.num(int64(len(s)))
	for _, x := range s {
		e.text(x)
	}
}

// path writes a path below the folder without the folder.
func (e *encoder) path(p string) {
	if rest, ok := strings.CutPrefix(p, e.dir); ok && (rest == "" || rest[0] == filepath.Separator) {
		e.text("\x00" + rest)
		return
	}
	e.text(p)
}

func (e *encoder) file(f *title.File) {
	e.path(f.Path)
	e.num(f.Size)
	if f.Modified.IsZero() {
		e.num(0)
	} else {
		e.num(f.Modified.UnixNano())
	}
	e.text(f.Entry)
}

func (e *encoder) items(all []item) {
	e.num(int64(len(all)))
	for i := range all {
		it := &all[i]
		e.text(it.name)
		e.num(int64(it.kind))
		e.num(it.size)
		e.num(it.modified)
		e.b = binary.AppendUvarint(e.b, it.inode)
	}
}

func (e *encoder) bool(v bool) {
	if v {
		e.num(1)
	} else {
		e.num(0)
	}
}

func (r *record) encode(dir string) []byte {
	e := &encoder{dir: dir, b: make([]byte, 0, 64*len(r.files)+256*len(r.titles))}
	e.bool(r.whole)
	e.num(int64(r.passed))
	e.items(r.files)
	e.items(r.outside)
	discs, evidence := 0, 0
	for i := range r.titles {
		discs += len(r.titles[i].Discs)
		for k := range r.titles[i].Discs {
			evidence += len(r.titles[i].Discs[k].Evidence)
		}
	}
	e.num(int64(discs))
	e.num(int64(evidence))
	e.num(int64(len(r.titles)))
	for i := range r.titles {
		e.title(&r.titles[i])
	}
	return e.b
}

func (e *encoder) title(t *title.Title) {
	for _, s := range []string{t.Platform, string(t.Form), t.Name, t.ID, t.Region, t.Year, t.Players, t.Publisher,
		t.Version, t.Archive, t.Ext} {
		e.text(s)
	}
	e.words(t.Tags)
	e.num(int64(t.Of))
	e.num(int64(t.Among))
	e.bool(t.Encrypted)
	e.num(int64(len(t.Findings)))
	for _, f := range t.Findings {
		e.text(string(f.Grade))
		e.text(f.Say)
		e.text(f.Remedy)
		e.text(f.Wants)
	}
	e.num(int64(len(t.Discs)))
	for i := range t.Discs {
		d := &t.Discs[i]
		e.num(int64(d.Number))
		for _, s := range []string{d.ID, d.Kind, d.Sign, d.Deep, d.Sums} {
			e.text(s)
		}
		for _, n := range []int64{d.Used.Bitmap, d.Used.Unit, d.Used.Sectors, d.Used.Blocks} {
			e.num(n)
		}
		e.file(&d.File)
		e.num(int64(len(d.Parts)))
		for k := range d.Parts {
			e.text(d.Parts[k].Name)
			e.file(&d.Parts[k].File)
		}
		e.num(int64(len(d.Volumes)))
		for k := range d.Volumes {
			e.file(&d.Volumes[k])
		}
		e.num(int64(len(d.Beside)))
		for k := range d.Beside {
			e.text(d.Beside[k].Kind)
			e.file(&d.Beside[k].File)
		}
		e.num(int64(len(d.Inside)))
		for k := range d.Inside {
			e.text(d.Inside[k].Of)
			e.file(&d.Inside[k].File)
		}
		e.num(int64(len(d.Evidence)))
		for _, v := range d.Evidence {
			e.text(v.Field)
			e.text(v.Value)
			e.text(v.From)
		}
	}
}

var errRecord = errors.New("the record is invalid")

// decoder reads a record. Its texts are parts of one string, so that they cost nothing.
type decoder struct {
	s   string
	dir string
	err error
	// What titles consist of, contiguous for all of them.
	discs    []title.Disc
	evidence []title.Evidence
}

// cut takes n things off the front of a slice; new ones where there are not so many.
func cut[T any](all *[]T, n int) []T {
	if n > len(*all) {
		return make([]T, n)
	}
	out := (*all)[:n:n]
	*all = (*all)[n:]
	return out
}

func (d *decoder) uvarint() uint64 {
	var v uint64
	for i, shift := 0, uint(0); i < len(d.s) && shift < 64; i, shift = i+1, shift+7 {
		c := d.s[i]
		v |= uint64(c&0x7F) << shift
		if c < 0x80 {
			d.s = d.s[i+1:]
			return v
		}
	}
	d.err, d.s = errRecord, ""
	return 0
}

func (d *decoder) num() int64 {
	v := d.uvarint()
	return int64(v>>1) ^ -int64(v&1)
}

// count reads a number of things, each of which takes at least a byte.
func (d *decoder) count() int {
	n := d.num()
	if n < 0 || n > int64(len(d.s)) {
		d.err, d.s = errRecord, ""
		return 0
	}
	return int(n)
}

func (d *decoder) text() string {
	n := d.uvarint()
	if n > uint64(len(d.s)) {
		d.err, d.s = errRecord, ""
		return ""
	}
	s := d.s[:n]
	d.s = d.s[n:]
	return s
}

func (d *decoder) path() string {
	s := d.text()
	if strings.HasPrefix(s, "\x00") {
		return d.dir + s[1:]
	}
	return s
}

func (d *decoder) file(f *title.File) {
	f.Path = d.path()
	f.Size = d.num()
	if when := d.num(); when != 0 {
		f.Modified = time.Unix(0, when)
	}
	if f.Entry = d.text(); f.Entry != "" {
		f.Modified = f.Modified.UTC()
	}
}

// listOf decodes a count, and so many values; nil for none.
func listOf[T any](d *decoder, one func(*T)) []T {
	n := d.count()
	if n == 0 {
		return nil
	}
	out := make([]T, n)
	for i := range out {
		one(&out[i])
	}
	return out
}

func (d *decoder) items() []item {
	n := d.count()
	out := make([]item, n)
	for i := range out {
		it := &out[i]
		it.name, it.kind, it.size, it.modified, it.inode = d.text(), kind(d.num()), d.num(), d.num(), d.uvarint()
	}
	return out
}

func decodeRecord(data []byte, dir string) (*record, error) {
	d := &decoder{s: string(data), dir: dir}
	r := &record{whole: d.num() != 0, passed: int(d.num())}
	r.files, r.outside = d.items(), d.items()
	d.discs, d.evidence = make([]title.Disc, d.count()), make([]title.Evidence, d.count())
	r.titles = make([]title.Title, d.count())
	for i := range r.titles {
		if d.err != nil {
			break
		}
		d.title(&r.titles[i])
	}
	return r, d.err
}

func (d *decoder) title(t *title.Title) {
	t.Platform, t.Form, t.Name, t.ID, t.Region = d.text(), title.Form(d.text()), d.text(), d.text(), d.text()
	t.Year, t.Players, t.Publisher, t.Version, t.Archive, t.Ext = d.text(), d.text(), d.text(), d.text(), d.text(),
		d.text()
	for range d.count() {
		t.Tags = append(t.Tags, d.text())
	}
	t.Of, t.Among, t.Encrypted = int(d.num()), int(d.num()), d.num() != 0
	for range d.count() {
		t.Findings = append(t.Findings, title.Finding{Grade: title.Grade(d.text()), Say: d.text(), Remedy: d.text(),
			Wants: d.text()})
	}
	t.Discs = cut(&d.discs, d.count())
	for i := range t.Discs {
		c := &t.Discs[i]
		c.Number = int(d.num())
		c.ID, c.Kind, c.Sign, c.Deep, c.Sums = d.text(), d.text(), d.text(), d.text(), d.text()
		c.Used = title.Used{Bitmap: d.num(), Unit: d.num(), Sectors: d.num(), Blocks: d.num()}
		d.file(&c.File)
		c.Parts = listOf(d, func(p *title.Part) { p.Name = d.text(); d.file(&p.File) })
		c.Volumes = listOf(d, d.file)
		c.Beside = listOf(d, func(b *title.Beside) { b.Kind = d.text(); d.file(&b.File) })
		c.Inside = listOf(d, func(x *title.Inside) { x.Of = d.text(); d.file(&x.File) })
		if n := d.count(); n > 0 {
			c.Evidence = cut(&d.evidence, n)
		}
		for k := range c.Evidence {
			c.Evidence[k] = title.Evidence{Field: d.text(), Value: d.text(), From: d.text()}
		}
	}
}
