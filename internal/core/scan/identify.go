package scan

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/format/container"
	"polytome/internal/size"
)

const again = "copy it from its disc again"

// Identify finds out what the size bytes of r, a file called name, are: an image, a
// cartridge or a package. It returns nil when it belongs to no platform of
// the set. It reads headers only.
func Identify(r io.ReaderAt, size int64, name string, set *loader.Set) (*title.Title, error) {
	ext := strings.ToLower(path.Ext(filepath.ToSlash(name)))
	t := &title.Title{Of: 1, Discs: []title.Disc{{Number: 1}}}
	whole := reader{r: r, size: size, game: size, name: path.Base(filepath.ToSlash(name))}
	for _, p := range set.Platforms {
		if p.Marker.File == "" && p.Marker.Magic != "" && whole.has(&p.Marker) {
			t.Form = p.Forms[0]
			if p.Used.Sector > 0 && t.Form == title.Image {
				var err error
				if t.Discs[0].Used, err = shape.UsedOf(r, size, int64(p.Used.Bitmap),
					int64(p.Used.Sector)); err != nil {
					t.Findings = append(t.Findings, fault(err.Error(), again))
				}
			}
			return finish(t, p, &whole, ext, set), nil
		}
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
		return byExt(t, &whole, ext, set), nil
	}
	t.Form = title.Image
	for _, v := range all.Volumes {
		for _, p := range set.Platforms {
			if !p.Has(title.Image) || p.Marker.File == "" {
				continue
			}
			inside, err := openMarker(v, p.Marker.File)
			if inside == nil && err == nil {
				continue
			}
			if err != nil {
				t.Platform = p.Name
				t.Findings = append(check(&all), fault(fmt.Sprintf("%s cannot be read: %v", p.Marker.File, err), again))
				return t, nil
			}
			inside.volume, inside.game, inside.called = v.Identifier, size, whole.name
			if !inside.has(&p.Marker) {
				continue
			}
			t.Findings = check(&all)
			if p.Has(title.Folder) { // a loader may want what is in it
				t.Discs[0].Parts = contents(v)
			}
			t.Discs[0].Inside = pictures(v, p)
			return finish(t, p, inside, ext, set), nil
		}
	}
	var markers []string
	for _, p := range set.Platforms {
		if p.Has(title.Image) && slices.Contains(p.Extensions, ext) && p.Marker.File != "" {
			markers = append(markers, p.Marker.File)
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
	return folder(in, path.Base(dir), top, title.Folder, set), nil
}

// byExt is what a file's extension promises, when nothing in it says what it is. It
// is nil for an extension that no platform has.
func byExt(t *title.Title, whole *reader, ext string, set *loader.Set) *title.Title {
	images := false
	for _, p := range set.Platforms {
		switch {
		case whole.size == 0 && (slices.Contains(p.Extensions, ext) && !p.Has(title.Tracks) ||
			slices.Contains(p.Packages, ext)):
			t.Form, t.Name = p.Forms[0], nameOfFile(whole.name)
			t.Findings = append(t.Findings, fault("the file is empty", "get or copy it again"))
			return t
		case slices.Contains(p.Packages, ext):
			t.Form = title.Package
			return finish(t, p, whole, ext, set)
		case !slices.Contains(p.Extensions, ext) || p.Has(title.Tracks):
		case p.Marker.File != "" || p.Marker.Volume.Regexp != nil:
			images = true
		case p.Marker.Magic != "":
			t.Form, t.Platform, t.Name = p.Forms[0], p.Name, nameOfFile(whole.name)
			t.Findings = append(t.Findings,
				fault(fmt.Sprintf("the name ends in %s, but the file does not start like a %s %s", ext, p.Shown,
					p.Forms[0]), "get or copy it again"))
			return t
		default:
			t.Form = p.Forms[0]
			return finish(t, p, whole, ext, set)
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

// reader is where a platform's values are read from: a marker inside of an image or
// folder, or the game's own file.
type reader struct {
	r    io.ReaderAt
	size int64
	game int64  // bytes of the whole game's file
	name string // of the file, for evidence
	// called is the name of the game's own file or folder where the marker is another one, with its extension, and
	// calledFrom what that is, for evidence.
	called, calledFrom string
	volume             string // ISO 9660 volume identifier
	fsys               fs.FS  // what the marker is in; nil for a file of its own
	text               string // what the file holds, once it was read
	values             map[string]string
	lines              map[string]int
}

// has reports whether the marker's magic bytes are there; one without any always is.
func (r *reader) has(m *loader.Marker) bool {
	if m.Magic == "" {
		return true
	}
	b := make([]byte, len(m.Magic))
	n, _ := r.r.ReadAt(b, m.Offset)
	return n == len(b) && string(b) == m.Magic
}

// maxMarker is the longest text that values are read from: a longer one is no list of
// values.
const maxMarker = 64 << 10

// load reads the text, once.
func (r *reader) load() error {
	if r.text != "" {
		return nil
	}
	if r.size > maxMarker {
		return fmt.Errorf("it has more than %s", size.Format(maxMarker))
	}
	b := make([]byte, r.size)
	n, err := r.r.ReadAt(b, 0)
	if n < len(b) {
		return err
	}
	r.text = string(bytes.ToValidUTF8(b, []byte("?")))
	return nil
}

// get reads one value, and says where it was read. Found is false where it is not
// there.
func (r *reader) get(f *loader.Reading, syntax string) (value, from string, found bool, err error) {
	switch {
	case f.Volume:
		return r.volume, "volume identifier", r.volume != "", nil
	case f.File != "":
		if r.fsys == nil {
			return "", "", false, nil
		}
		other, err := openMarker(r.fsys, f.File)
		if other == nil || err != nil {
			return "", "", false, err
		}
		plain := *f
		plain.File = ""
		return other.get(&plain, f.SyntaxIn(syntax))
	case f.Offset != nil:
		b := make([]byte, f.Length)
		n, err := r.r.ReadAt(b, *f.Offset)
		if n < len(b) {
			if errors.Is(err, io.EOF) {
				err = nil
			}
			return "", "", false, err
		}
		return decode(b, f.Encoding), fmt.Sprintf("%s, byte 0x%X", r.name, *f.Offset), true, nil
	}
	if err := r.load(); err != nil {
		return "", "", false, err
	}
	switch syntax {
	case loader.Lines:
		lines := strings.Split(strings.TrimPrefix(r.text, "\uFEFF"), "\n")
		if f.Line > len(lines) {
			return "", "", false, nil
		}
		return strings.TrimSpace(lines[f.Line-1]), fmt.Sprintf("%s, line %d", r.name, f.Line), true, nil
	case loader.JSON:
		return r.json(f.Key)
	}
	if r.values == nil {
		r.values, r.lines = keyValues(r.text)
	}
	value, found = r.values[f.Key]
	return value, fmt.Sprintf("%s, line %d", r.name, r.lines[f.Key]), found, nil
}

// what is the place of a value in words, for what is missing.
func what(f *loader.Reading) string {
	switch {
	case f.Key != "":
		return f.Key
	case f.Line > 0:
		return "line " + strconv.Itoa(f.Line)
	case f.Offset != nil:
		return fmt.Sprintf("value at byte 0x%X", *f.Offset)
	}
	return "volume identifier"
}

// finish takes the platform's values out of what was found. Names come from the
// file where the platform tells none.
func finish(t *title.Title, p *loader.Platform, r *reader, ext string, set *loader.Set) *title.Title {
	t.Platform = p.Name
	d := &t.Discs[0]
	get := func(what_ string, f *loader.Reading) string {
		if !f.Reports() {
			return ""
		}
		got, from, ok, err := r.get(f, p.Marker.Syntax)
		switch {
		case err != nil:
			t.Findings = append(t.Findings, fault(fmt.Sprintf("%s cannot be read: %v", r.name, err), again))
			return ""
		case !ok || got == "":
			if f.Required && (t.Form != title.Package || r.fsys != nil) {
				t.Findings = append(t.Findings, fault(fmt.Sprintf("%s has no %s, so the %s is not known", r.name,
					what(f), what_), again).Wanting(what_))
			}
			return ""
		case f.Pattern.Regexp != nil && !f.Pattern.MatchString(got):
			t.Findings = append(t.Findings, fault(fmt.Sprintf("%s: %q is not a valid %s of the %s (%s)", from, got,
				what_, p.Shown, f.Pattern), tooStrict(p, what_)).Wanting(what_))
			return ""
		}
		if meant, ok := f.Values[got]; ok {
			got = meant
		}
		d.Evidence = append(d.Evidence, title.Evidence{Field: what_, Value: got, From: from})
		return got
	}
	if t.Form != title.Package || r.fsys != nil {
		d.ID = get("ID", &p.Fields.ID)
		t.ID = d.ID
		t.Name = get("name", &p.Fields.Name)
		t.Region = get("region", &p.Fields.Region)
		d.Kind = get("kind", &p.Fields.Kind)
		if disc := get("disc", &p.Fields.Disc); disc != "" {
			setDisc(t, disc, r.name)
		}
	}
	called, from := cmp.Or(r.called, r.name), cmp.Or(r.calledFrom, fromName)
	if !p.Fields.Disc.Reports() {
		discOfName(t, called)
	}
	named := readName(called)
	if t.Name == "" && t.Fault() == nil {
		t.Name = named.name
		d.Evidence = append(d.Evidence, title.Evidence{Field: "name", Value: t.Name, From: from})
		t.Tags = named.tags
	}
	named.fill(t, p, set)
	checkKind(t, p, r.game)
	checkSum(t, p, r)
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

// tooStrict is the remedy for a value that a description's pattern does not take: the game may be sound, and the
// pattern too narrow.
func tooStrict(p *loader.Platform, value string) string {
	if p.Own {
		return fmt.Sprintf("if the game works on the console, the pattern of field.%s in %s is too strict: relax it, "+
			"or set the %s by hand. Otherwise %s", strings.ToLower(value), p.File, value, again)
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

// checkSum adds up the first bytes of a file that carries their sum.
func checkSum(t *title.Title, p *loader.Platform, r *reader) {
	if p.Check.To == 0 {
		return
	}
	b := make([]byte, max(p.Check.To, p.Check.At+2))
	if n, _ := r.r.ReadAt(b, 0); n < len(b) {
		t.Findings = append(t.Findings, fault("the file ends within its header", "get or copy it again"))
		return
	}
	var sum uint16
	for _, c := range b[:p.Check.To] {
		sum += uint16(c)
	}
	if want := binary.LittleEndian.Uint16(b[p.Check.At:]); want != sum {
		t.Findings = append(t.Findings, fault(fmt.Sprintf("its header is damaged: its checksum is %04X instead of %04X",
			sum, want), "get or copy it again"))
	}
}
