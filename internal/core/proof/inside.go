package proof

import (
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/intake"
	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/format/archive"
	"polytome/internal/format/packed"
	"polytome/internal/place"
)

// broken has a line not start, with the reason. The first reason is enough.
func (l *line) broken(y *eyes, f Finding) {
	if !l.Starts {
		return
	}
	l.Starts = false
	f.Grade = Fault
	if f.Path == "" {
		f.Path = l.path
	}
	f.Say = "it is listed, but does not start: " + f.Say
	y.find(f)
}

// inside looks into the game behind a line, and says what is wrong with it.
func (y *eyes) inside(l *line) {
	if y.o.Depth == Names {
		y.unlooked++
		y.playlist(l)
		return
	}
	switch {
	case l.rule.As(title.Image) == shape.Pack:
		y.packed(l)
	case l.sheets != nil, slices.Contains(l.rule.Forms, title.Tracks):
		y.sheets(l)
	case l.e.Folder:
		y.folder(l)
	case slices.Contains(l.rule.Forms, title.Package):
		if l.Size == 0 {
			l.broken(y, Finding{Kind: Damaged, Say: "it has no bytes"})
		}
	default:
		t, err := y.identify(l.e)
		y.judge(l, t, err)
		if t != nil && t.Archive != "" && l.Starts && (l.e.Size <= smallArchive || y.o.Depth == Whole) {
			if err := y.unpacks(l.e); err != nil {
				l.broken(y, y.whole(l, Finding{Kind: Damaged, Say: fmt.Sprintf("it cannot be unpacked: %v", err)}))
			}
		}
	}
	y.playlist(l)
	if y.o.Depth == Whole {
		y.readAll(l)
	} else {
		y.unlooked++
	}
}

// judge says what is wrong with a game that was looked into.
func (y *eyes) judge(l *line, t *title.Title, err error) {
	form := title.Image
	if len(l.rule.Forms) > 0 {
		form = l.rule.Forms[0]
	}
	switch {
	case err != nil:
		l.broken(y, y.whole(l, Finding{Kind: Damaged, Say: fmt.Sprintf("it cannot be read: %v", err)}))
		return
	case t == nil || t.Platform == "" || !slices.Contains(l.rule.Platforms, t.Platform) || t.Platform != l.Platform && l.rule.Path.Uses(loader.FieldPlatform):
		if t != nil && t.Platform == "" && t.Fault() != nil && errorsOf(t) {
			l.broken(y, y.whole(l, Finding{Kind: Damaged, Say: t.Fault().Say}))
			return
		}
		f := Finding{Kind: Folder, Say: fmt.Sprintf("it is no %s %s", y.shown(l.Platform), form)}
		f.Remedy, f.Mends = y.moved(l.e, t)
		l.broken(y, f)
		return
	}
	l.in = t
	l.Kind, l.Platform = t.Discs[0].Kind, t.Platform
	l.v[loader.FieldKind], l.v[loader.FieldRegion] = t.Discs[0].Kind, t.Region
	if f := t.Fault(); f != nil {
		l.broken(y, y.whole(l, Finding{Kind: Damaged, Say: f.Say}))
		return
	}
	within := t.Discs[0]
	if id := l.v[loader.FieldID]; id != "" && within.ID != "" && !strings.EqualFold(within.ID, id) {
		f := Finding{Kind: ID, Say: fmt.Sprintf("its name says %s, but the %s inside is %s", id, form, within.ID)}
		f.Remedy, f.Mends = y.moved(l.e, t)
		l.broken(y, f)
	}
	if kind := kindOf(l.rule, l.e.Path); kind != "" && !strings.EqualFold(kind, within.Kind) {
		f := Finding{Kind: Folder, Say: fmt.Sprintf("it lies in the folder for %s discs, and is a %s disc", strings.ToLower(kind), within.Kind)}
		f.Remedy, f.Mends = y.moved(l.e, t)
		l.broken(y, f)
	}
}

// errorsOf reports whether what was found in a file is damage, and not that it is something else.
func errorsOf(t *title.Title) bool { return t.Form == title.Image && t.Fault().Wants == "" }

// kindOf is the kind of disc that a path says.
func kindOf(rule *loader.Accept, file string) string {
	v, _ := rule.Path.Match(file)
	return v[loader.FieldKind]
}

// shown is a platform's name for people.
func (y *eyes) shown(platform string) string {
	if p := y.set.Platform(platform); p != nil {
		return p.Shown
	}
	return platform
}

// identify finds out what a file is.
func (a *audit) identify(e *place.Entry) (*title.Title, error) {
	c, err := a.place.Open(a.ctx, e.Path)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	head := make([]byte, 8)
	if n, _ := c.ReadAt(head, 0); n == len(head) {
		if kind := archive.KindOf(head); kind != "" && kind != ".rar" && strings.EqualFold(kind, path.Ext(e.Path)) {
			return intake.IdentifyPacked(c, c.Size(), e.Path, a.set)
		}
	}
	if strings.EqualFold(path.Ext(e.Path), ".zip") {
		return nil, errors.New("it is no zip")
	}
	return intake.Identify(c, c.Size(), e.Path, a.set)
}

// folder looks into a game that lies unpacked. Where its program gets another name on the place, it is known by that.
func (y *eyes) folder(l *line) {
	if slices.ContainsFunc(l.rule.Package.Rename, func(r loader.Rename) bool { return r.From == y.markerOf(l.Platform) }) {
		if marker := y.marker(l); marker == nil || marker.Size == 0 {
			l.broken(y, y.whole(l, Finding{Kind: Damaged, Path: l.e.Path, Say: "its program has no bytes"}))
		}
		return
	}
	t, err := intake.IdentifyFolder(y.tree.FS, l.e.Path, y.set)
	if err == nil && t != nil && t.Fault() == nil {
		if marker := y.marker(l); marker != nil && marker.Size == 0 {
			l.broken(y, y.whole(l, Finding{Kind: Damaged, Path: marker.Path, Say: path.Base(marker.Path) + " has no bytes"}))
			return
		}
	}
	y.judge(l, t, err)
}

// markerOf is the pattern of the file by which a platform's games are known, "" for none.
func (y *eyes) markerOf(platform string) string {
	if p := y.set.Platform(platform); p != nil {
		return p.Marker.File
	}
	return ""
}

// marker is the file by which a folder is known as a game.
func (y *eyes) marker(l *line) *place.Entry {
	want := y.markerOf(l.Platform)
	if want == "" {
		return nil
	}
	if !strings.Contains(want, "*") {
		e, _ := y.tree.file(l.e.Path + "/" + want)
		return e
	}
	for _, r := range l.rule.Package.Rename {
		if r.From == want {
			want = r.To
		}
	}
	for _, e := range y.tree.within(l.e.Path) {
		if !e.Folder && loader.MatchFile(want, path.Base(e.Path)) {
			return e
		}
	}
	return nil
}

// packed looks into a packed image, over all its parts.
func (y *eyes) packed(l *line) {
	wrong := func(say string) {
		f := Finding{Kind: Damaged, Say: say}
		f.Remedy, f.Mends = y.again("take the title off, and put it here again", l.e.Path)
		l.broken(y, f)
	}
	parts := []*place.Entry{l.e}
	if !l.rule.TooLarge.Parts.Empty() {
		parts = y.partsOf(l.rule, &l.v)
	}
	l.Size = 0
	for _, p := range parts {
		l.Size += p.Size
	}
	j, err := y.join(parts)
	if err != nil {
		wrong(err.Error())
		return
	}
	defer j.Close()
	im, err := packed.Open(j, j.Size())
	var damage *packed.FormatError
	switch {
	case errors.As(err, &damage):
		wrong(damage.What)
		return
	case err != nil:
		wrong(err.Error())
		return
	}
	defer im.Close()
	t, err := intake.Identify(im, im.Size(), l.e.Path, y.set)
	y.judge(l, t, err)
	if y.o.Depth != Whole || !l.Starts {
		return
	}
	bad := 0
	err = im.Check(y.ctx, func(int64) {}, func(*packed.BlockError) { bad++ })
	switch {
	case bad > 0:
		wrong(fmt.Sprintf("%d of its blocks are not what their checksums say", bad))
	case err != nil && y.ctx.Err() == nil:
		wrong(err.Error())
	}
}

// smallArchive is how many bytes an archive has at most that is always unpacked to see whether it is whole.
const smallArchive = 16 << 20

// unpacks reads everything that is in an archive, with its checksums.
func (a *audit) unpacks(e *place.Entry) error {
	c, err := a.place.Open(a.ctx, e.Path)
	if err != nil {
		return err
	}
	defer c.Close()
	in, err := archive.New(c, c.Size(), archive.Options{})
	if err != nil {
		return err
	}
	defer in.Close()
	for i := range in.Entries {
		if a.ctx.Err() != nil {
			return a.ctx.Err()
		}
		r, err := in.Read(&in.Entries[i])
		if err != nil {
			return err
		}
		if _, err := io.Copy(io.Discard, r); err != nil {
			return errors.Join(err, r.Close())
		}
		if err := r.Close(); err != nil {
			return err
		}
	}
	return nil
}

// readAll reads every byte of the files behind a line.
func (y *eyes) readAll(l *line) {
	files := l.sheets
	switch {
	case l.e.Folder:
		files = y.below(l.e.Path)
	case files == nil:
		files = []*place.Entry{l.e}
	}
	for _, e := range files {
		if err := y.readThrough(e); err != nil && y.ctx.Err() == nil {
			l.broken(y, y.whole(l, Finding{Kind: Damaged, Path: e.Path, Say: fmt.Sprintf("it cannot be read to its end: %v", err)}))
			return
		}
	}
}

// readThrough reads a file to its end. Runs of nothing but zeros that the place knows of are passed over.
func (a *audit) readThrough(e *place.Entry) error {
	c, err := a.place.Open(a.ctx, e.Path)
	if err != nil {
		return err
	}
	defer c.Close()
	b := make([]byte, 1<<20)
	for off := int64(0); off < c.Size(); {
		if a.ctx.Err() != nil {
			return a.ctx.Err()
		}
		start, end := c.Data(off)
		if start > off {
			off = start
			continue
		}
		n, err := c.ReadAt(b[:min(int64(len(b)), end-off, c.Size()-off)], off)
		if n == 0 {
			if err == nil || errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return err
		}
		off += int64(n)
	}
	return nil
}
