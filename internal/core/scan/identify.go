package scan

import (
	"cmp"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/format/container"
	"polytome/internal/format/dump"
	"polytome/internal/size"
)

const again = "copy it from its disc again"

// Identify finds out what the size bytes of r, a file called name, are: an image, a
// cartridge or a package. It returns nil when it belongs to no platform of
// the set. It reads headers only.
func Identify(r io.ReaderAt, size int64, name string, set *loader.Set) (*title.Title, error) {
	ext := strings.ToLower(path.Ext(filepath.ToSlash(name)))
	t := &title.Title{Of: 1, Discs: []title.Disc{{Number: 1}}}
	whole := reading.Of(r, size, path.Base(filepath.ToSlash(name)))
	p, m, err := marked(whole, ext, set)
	if err != nil {
		return nil, err
	}
	if p == nil {
		var game *reading.Source
		var as dump.Layout
		if p, m, game, as = dumped(whole, ext, set); p != nil {
			whole, t.Discs[0].Dump = game, title.Dump(as)
			t.Findings = append(t.Findings, note(aboutDump(as)))
		}
	}
	if p != nil {
		t.Form = p.FileForm()
		if p.Used.Sector > 0 && t.Form == title.Image {
			if t.Discs[0].Used, err = shape.UsedOf(r, size, int64(p.Used.Bitmap), int64(p.Used.Sector)); err != nil {
				t.Findings = append(t.Findings, fault(err.Error(), again))
			}
		}
		if p.LooksInside(m) {
			if all, err := container.OpenImage(r, size); err == nil && len(all.Volumes) > 0 {
				whole.FS, whole.Volume = all.Volumes[0], all.Volumes[0].Identifier
			}
		}
		return finish(t, p, m, whole, ext, set), nil
	}
	all, err := container.OpenImage(r, size)
	switch {
	case err != nil:
		if container.Damaged(err) {
			t.Form = title.Image
			t.Findings = append(t.Findings, fault(err.Error(), again))
			return t, nil
		}
		return nil, err
	case len(all.Volumes) == 0:
		return byExt(t, whole, ext, set), nil
	}
	t.Form = title.Image
	for _, v := range all.Volumes {
		whole.FS, whole.Volume = v, v.Identifier
		for _, p := range set.Platforms {
			if !p.Has(title.Image) {
				continue
			}
			for i := range p.Markers {
				m := &p.Markers[i]
				if !m.Inside() {
					continue
				}
				at, _, err := whole.Marked(m)
				if err != nil {
					t.Platform = p.Name
					t.Findings = append(check(&all), fault(fmt.Sprintf("%s cannot be read: %v", m.File, err), again))
					return t, nil
				}
				if at == nil {
					continue
				}
				t.Findings = check(&all)
				if p.Has(title.Folder) { // a loader may want what is in it
					t.Discs[0].Parts = contents(v)
				}
				t.Discs[0].Inside = pictures(v, p)
				return finish(t, p, m, at, ext, set), nil
			}
		}
	}
	var markers []string
	for _, p := range set.Platforms {
		if p.Has(title.Image) && slices.Contains(p.Extensions, ext) {
			markers = append(markers, p.MarkerFiles()...)
		}
	}
	if len(markers) == 0 {
		return nil, nil // an image, but not a game's
	}
	t.Findings = append(check(&all), fault(fmt.Sprintf("the game cannot be identified: the image has none of %s",
		strings.Join(markers, ", ")),
		again+"; if the disc is like that, set its platform and ID by hand").Wanting("platform"))
	return t, nil
}

// dumped is the platform of a dump that has no marker where a plain file has it, and the game in it.
func dumped(whole *reading.Source, ext string, set *loader.Set) (*loader.Platform, *loader.Marker, *reading.Source,
	dump.Layout) {
	for _, p := range set.Platforms {
		if !slices.Contains(p.Extensions, ext) {
			continue
		}
		for i := range p.Dumps {
			if !p.Dumps[i].Fits(whole.Size) {
				continue
			}
			l := p.Dumps[i].Layout()
			game := whole.As(l)
			if len(p.Markers) == 0 {
				return p, &loader.Marker{Syntax: loader.Binary}, game, l
			}
			for k := range p.Markers {
				if m := &p.Markers[k]; !m.Inside() {
					if at, _, err := game.Marked(m); at != nil && err == nil {
						return p, m, game, l
					}
				}
			}
		}
	}
	return nil, nil, nil, dump.Layout{}
}

// aboutDump says how a dump holds its game.
func aboutDump(l dump.Layout) string {
	var all []string
	if l.Skip > 0 {
		all = append(all, fmt.Sprintf("has a copier's header of %s bytes", size.Exact(l.Skip)))
	}
	switch l.Order {
	case "":
	case "interleaved":
		all = append(all, "has its bytes interleaved in blocks of "+size.Format(l.Block))
	default:
		all = append(all, "has its bytes swapped by "+strings.TrimPrefix(l.Order, "swapped-"))
	}
	return "the dump " + strings.Join(all, " and ")
}

// marked is the platform that a file itself tells, whatever is in it: by its bytes, or, with one of the platform's
// extensions, by its name or by what is found further in. Bytes are the surest, so they are looked for first.
func marked(whole *reading.Source, ext string, set *loader.Set) (*loader.Platform, *loader.Marker, error) {
	for _, certain := range []bool{true, false} {
		for _, p := range set.Platforms {
			if !certain && !slices.Contains(p.Extensions, ext) && !slices.Contains(p.Packages, ext) ||
				p.Has(title.Tracks) {
				continue
			}
			for i := range p.Markers {
				m := &p.Markers[i]
				if m.Certain() != certain || m.Inside() || !certain && m.Named.Regexp == nil &&
					m.Pattern.Regexp == nil {
					continue
				}
				if at, _, err := whole.Marked(m); at != nil || err != nil {
					return p, m, err
				}
			}
		}
	}
	return nil, nil, nil
}

// IdentifyTracks is [Identify] for a cue sheet and the files beside it. It never returns nil without an error.
func IdentifyTracks(fsys fs.FS, name string, set *loader.Set) (*title.Title, error) {
	return tracks(shelf{fsys, func(name string, info fs.FileInfo) title.File {
		return title.File{Path: name, Size: info.Size(), Modified: info.ModTime()}
	}}, name, set)
}

// IdentifyFolder is [Identify] for a folder in which a game lies unpacked. What is below it is not looked through.
func IdentifyFolder(fsys fs.FS, dir string, set *loader.Set) (*title.Title, error) {
	in, err := fs.Sub(fsys, dir)
	if err != nil {
		return nil, err
	}
	entries, err := fs.ReadDir(in, ".")
	if err != nil {
		return nil, err
	}
	var top []string
	for _, e := range entries {
		top = append(top, e.Name())
	}
	if t := folder(in, path.Base(dir), top, title.Folder, set); t != nil {
		return t, nil
	}
	return folder(in, path.Base(dir), top, title.Package, set), nil // one that was unpacked
}

// byExt is what a file's extension promises, when nothing in it says what it is. It
// is nil for an extension that no platform has.
func byExt(t *title.Title, whole *reading.Source, ext string, set *loader.Set) *title.Title {
	images := false
	for _, p := range set.Platforms {
		switch {
		case whole.Size == 0 && (slices.Contains(p.Extensions, ext) && !p.Has(title.Tracks) ||
			slices.Contains(p.Packages, ext)):
			t.Form, t.Name = p.FileForm(), nameOfFile(whole.Name)
			t.Findings = append(t.Findings, fault("the file is empty", "get or copy it again"))
			return t
		case slices.Contains(p.Packages, ext):
			t.Form = title.Package
			return finish(t, p, &loader.Marker{}, whole, ext, set)
		case !slices.Contains(p.Extensions, ext) || p.Has(title.Tracks):
		case p.Inside():
			images = true
		case len(p.Markers) > 0:
			t.Form, t.Platform, t.Name = p.FileForm(), p.Name, nameOfFile(whole.Name)
			say := "there is nothing in the file by which a %[2]s %[3]s is known"
			if p.Markers[0].Certain() && p.Markers[0].Offset == 0 {
				say = "the file does not start like a %[2]s %[3]s"
			}
			t.Findings = append(t.Findings, fault(fmt.Sprintf("the name ends in %[1]s, but "+say, ext, p.Shown,
				p.FileForm()),
				"get or copy it again"))
			return t
		default:
			t.Form = p.FileForm()
			return finish(t, p, &loader.Marker{Syntax: loader.Binary}, whole, ext, set)
		}
	}
	if !images {
		return nil
	}
	t.Form = title.Image
	t.Findings = append(t.Findings,
		fault(fmt.Sprintf("the name ends in %s, but there is no volume in the file: no ISO 9660, no UDF", ext), again))
	return t
}

func fault(say, remedy string) title.Finding {
	return title.Finding{Grade: title.Fault, Say: say, Remedy: remedy}
}

// finish takes the platform's values out of what was found. Names come from the
// file where the platform tells none.
func finish(t *title.Title, p *loader.Platform, m *loader.Marker, r *reading.Source, ext string,
	set *loader.Set) *title.Title {
	t.Platform = p.Name
	d := &t.Discs[0]
	known := map[string]string{} // by the names of fields
	get := func(field string) string {
		f, what := p.Fields.Named(field), field
		if field == "id" {
			what = "ID"
		}
		if !f.Reports() {
			return ""
		}
		got, err := r.Read(field, f, m, func(field string) string { return known[field] })
		switch {
		case err != nil:
			t.Findings = append(t.Findings, fault(fmt.Sprintf("%s cannot be read: %v", r.Name, err), again))
			return ""
		case !got.Found:
			if f.Required && (t.Form != title.Package || r.FS != nil) {
				t.Findings = append(t.Findings, fault(fmt.Sprintf("%s has no %s, so the %s is not known", r.Name,
					reading.Where(f), what), tooStrict(p, what)).Wanting(what))
			}
			return ""
		case got.Odd:
			t.Findings = append(t.Findings, fault(fmt.Sprintf(
				"%s: %q does not fit how the %s of a %s is described: %s", got.From, got.Text, what, p.Shown,
				f.Pattern), tooStrict(p, what)).Wanting(what))
			return ""
		}
		known[field] = got.Text
		d.Evidence = append(d.Evidence, title.Evidence{Field: what, Value: got.Text, From: got.From})
		return got.Text
	}
	if t.Form != title.Package || r.FS != nil {
		d.ID = get("id")
		t.ID = d.ID
		t.Name = get("name")
		t.Region = get("region")
		d.Kind = get("kind")
		if disc := get("disc"); disc != "" {
			setDisc(t, disc, r.Name)
		}
	}
	called, from := cmp.Or(r.Called, r.Name), cmp.Or(r.CalledFrom, fromName)
	if !p.Fields.Disc.Reports() {
		discOfName(t, called)
	}
	named := readName(called)
	if t.Name == "" && t.Fault() == nil {
		t.Name = named.name
		d.Evidence = append(d.Evidence, title.Evidence{Field: "name", Value: t.Name, From: from})
	}
	t.Tags = named.tags
	named.fill(t, p, set)
	if d.Kind == "" && !p.Fields.Kind.Reports() {
		if d.Kind = r.Kind(p, d.ID); d.Kind != "" {
			d.Evidence = append(d.Evidence, title.Evidence{Field: "kind", Value: d.Kind,
				From: "what such games are like"})
		}
	}
	checkKind(t, p, r.Game)
	for i := range p.Checks {
		if say := r.Wrong(&p.Checks[i]); say != "" {
			t.Findings = append(t.Findings, fault(say, "get or copy it again"))
		}
	}
	extensions := p.Extensions
	if t.Form == title.Package {
		extensions = p.Packages
	}
	if t.Form != title.Folder && ext != "" && !slices.Contains(extensions, ext) {
		if len(extensions) > 0 {
			t.Ext = extensions[0]
		}
		t.Findings = append(t.Findings, title.Finding{Grade: title.Note,
			Say: fmt.Sprintf("the name ends in %q, but the file is a %s %s; its copy gets the right extension", ext,
				p.Shown, t.Form)})
	}
	return t
}

// tooStrict is the remedy for a value that is not there, or not such as a description wants: the game may be sound, and
// the description wrong.
func tooStrict(p *loader.Platform, value string) string {
	if p.Own {
		return fmt.Sprintf("if the game works on the console, [field.%s] in %s does not fit it: correct that, or set "+
			"the "+
			"%s by hand. Otherwise %s", strings.ToLower(value), p.File, value, again)
	}
	return fmt.Sprintf("if the game works on the console, set its %s by hand. Otherwise %s", value, again)
}

// setDisc takes a disc number: "1/2", or "1" where nothing says how many there are, and
// which then follows from those that are found.
func setDisc(t *title.Title, disc, from string) {
	d := &t.Discs[0]
	if n, err := strconv.Atoi(disc); err == nil {
		if n > 0 {
			d.Number, t.Of = n, 0
		}
		return
	}
	if _, err := fmt.Sscanf(disc, "%d/%d", &d.Number, &t.Of); err != nil || d.Number < 1 || d.Number > t.Of {
		d.Number, t.Of = 1, 1
		t.Findings = append(t.Findings, title.Finding{Grade: title.Note,
			Say: fmt.Sprintf("%s: %q is not a disc number; it is treated as the only disc", from, disc)})
	}
}

// checkKind holds the disc kind that the image claims against its size.
func checkKind(t *title.Title, p *loader.Platform, n int64) {
	d := &t.Discs[0]
	if d.Kind == "" || len(p.Kinds) == 0 {
		return
	}
	k := p.Kind(d.Kind)
	switch {
	case k == nil:
		t.Findings = append(t.Findings, fault(fmt.Sprintf("%q is not a kind of disc of the %s", d.Kind, p.Shown),
			again))
		d.Kind = ""
	case k.Largest > 0 && n > k.Largest:
		t.Findings = append(t.Findings, title.Finding{Grade: title.Note,
			Say: fmt.Sprintf("it claims to be a %s disc, but has %s, more than such a disc holds", k.Name,
				size.Format(n))})
	}
}
