package intake

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/format/iso9660"
	"polytome/internal/size"
)

const again = "copy it from its disc again"

// identify finds out what a file is. It returns nil for a file that belongs to
// no known platform.
func identify(name string, set *loader.Set) (*title.Title, error) {
	info, err := os.Stat(name) // before opening, which waits for ever on a pipe
	if err != nil || !info.Mode().IsRegular() {
		return nil, err
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var t *title.Title
	switch ending := strings.ToLower(filepath.Ext(name)); {
	case ending == ".zip":
		t, err = zipped(f, info.Size(), name, set)
	case tracksOf(ending, set) != nil:
		t, err = tracks(f, name, set)
	default:
		t, err = Identify(f, info.Size(), name, set)
	}
	if t != nil {
		t.Discs[0].File = title.File{Path: name, Size: info.Size(), Modified: info.ModTime()}
	}
	return t, err
}

// Identify finds out what the size bytes of r, a file called name, are: an image, a
// cartridge or a package. It returns nil when it belongs to no platform of
// the set. It reads headers only.
func Identify(r io.ReaderAt, size int64, name string, set *loader.Set) (*title.Title, error) {
	ending := strings.ToLower(path.Ext(filepath.ToSlash(name)))
	t := &title.Title{Of: 1, Discs: []title.Disc{{Number: 1}}}
	whole := reader{r: r, size: size, game: size, name: path.Base(filepath.ToSlash(name))}
	for _, p := range set.Platforms {
		if p.Marker.File == "" && p.Marker.Magic != "" && whole.has(&p.Marker) {
			t.Form = p.Forms[0]
			return finish(t, p, &whole, ending), nil
		}
	}
	v, err := iso9660.Open(r, size)
	if errors.Is(err, iso9660.ErrNotISO) {
		return byEnding(t, &whole, ending, set), nil
	}
	t.Form = title.Image
	byName := slices.ContainsFunc(set.Platforms, func(p *loader.Platform) bool {
		return p.Has(title.Image) && p.Marker.File != "" && slices.Contains(p.Endings, ending)
	})
	var damage *iso9660.FormatError
	switch {
	case errors.As(err, &damage):
		t.Findings = append(t.Findings, fault(err.Error(), again))
		return t, nil
	case err != nil:
		return nil, err
	}
	short := checkLength(v, size)
	for _, p := range set.Platforms {
		if !p.Has(title.Image) || p.Marker.File == "" {
			continue
		}
		inside, err := openMarker(v, p.Marker.File)
		if inside == nil && err == nil {
			continue
		}
		t.Findings = append(t.Findings, short...)
		if err != nil {
			t.Platform = p.Name
			t.Findings = append(t.Findings, fault(fmt.Sprintf("%s cannot be read: %v", p.Marker.File, err), again))
			return t, nil
		}
		inside.volume, inside.game = v.Identifier, size
		if !inside.has(&p.Marker) {
			continue
		}
		return finish(t, p, inside, ending), nil
	}
	if !byName {
		return nil, nil // an image, but not a game's
	}
	t.Findings = append(t.Findings, short...)
	var markers []string
	for _, p := range set.Platforms {
		if p.Has(title.Image) && slices.Contains(p.Endings, ending) && p.Marker.File != "" {
			markers = append(markers, p.Marker.File)
		}
	}
	t.Findings = append(t.Findings, fault(fmt.Sprintf("it cannot be told which game this is: the image holds none of %s", strings.Join(markers, ", ")),
		again+"; if the disc is like that, this loader cannot list it"))
	return t, nil
}

// byEnding is what a file's ending promises, when nothing in it says what it is. It
// is nil for an ending that no platform has.
func byEnding(t *title.Title, whole *reader, ending string, set *loader.Set) *title.Title {
	images := false
	for _, p := range set.Platforms {
		switch {
		case slices.Contains(p.Packages, ending):
			t.Form = title.Package
			return finish(t, p, whole, ending)
		case !slices.Contains(p.Endings, ending) || p.Has(title.Tracks):
		case p.Marker.File != "" || p.Marker.Volume.Regexp != nil:
			images = true
		case p.Marker.Magic != "":
			t.Form, t.Platform, t.Name = p.Forms[0], p.Name, nameOfFile(whole.name)
			t.Findings = append(t.Findings, fault(fmt.Sprintf("the name ends in %s, but the file does not begin as a %s %s does", ending, p.Shown, p.Forms[0]), "fetch or copy it again"))
			return t
		default:
			t.Form = p.Forms[0]
			return finish(t, p, whole, ending)
		}
	}
	if !images {
		return nil
	}
	t.Form = title.Image
	t.Findings = append(t.Findings, fault(fmt.Sprintf("the name ends in %s, but there is no ISO 9660 volume in the file", ending), again))
	return t
}

func fault(say, remedy string) title.Finding {
	return title.Finding{Grade: title.Fault, Say: say, Remedy: remedy}
}

// checkLength compares the length that the volume states with the file's.
func checkLength(v *iso9660.Volume, n int64) []title.Finding {
	if v.DeclaredSize() <= n {
		return nil
	}
	return []title.Finding{fault(
		fmt.Sprintf("the image is cut short: its volume has %s, and the file only %s", size.Format(v.DeclaredSize()), size.Format(n)),
		fmt.Sprintf("%s are missing at the end; fetch or copy it again", size.Format(v.DeclaredSize()-n)))}
}

// reader is where a platform's values are read from: a marker inside of an image or
// folder, or the game's own file.
type reader struct {
	r      io.ReaderAt
	size   int64
	game   int64  // bytes of the whole game's file
	name   string // of the file, for evidence
	volume string // ISO 9660 volume identifier
	fsys   fs.FS  // what the marker lies in; nil for a file of its own
	text   string // what the file holds, once it was read
	values map[string]string
	lines  map[string]int
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
		return other.get(&plain, loader.Lines)
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
func finish(t *title.Title, p *loader.Platform, r *reader, ending string) *title.Title {
	t.Platform = p.Name
	d := &t.Discs[0]
	get := func(what_ string, f *loader.Reading) string {
		if !f.Tells() {
			return ""
		}
		got, from, ok, err := r.get(f, p.Marker.Syntax)
		switch {
		case err != nil:
			t.Findings = append(t.Findings, fault(fmt.Sprintf("%s cannot be read: %v", r.name, err), again))
			return ""
		case !ok || got == "":
			if f.Required && t.Form != title.Package {
				t.Findings = append(t.Findings, fault(fmt.Sprintf("%s has no %s, so the %s is not known", r.name, what(f), what_), again))
			}
			return ""
		case f.Pattern.Regexp != nil && !f.Pattern.MatchString(got):
			t.Findings = append(t.Findings, fault(fmt.Sprintf("%s: %q is no %s of the %s", from, got, what_, p.Shown), again))
			return ""
		}
		if meant, ok := f.Values[got]; ok {
			got = meant
		}
		d.Evidence = append(d.Evidence, title.Evidence{Field: what_, Value: got, From: from})
		return got
	}
	if t.Form != title.Package {
		d.ID = get("ID", &p.Fields.ID)
		t.ID = d.ID
		t.Name = get("name", &p.Fields.Name)
		t.Region = get("region", &p.Fields.Region)
		d.Kind = get("kind", &p.Fields.Kind)
		if disc := get("disc", &p.Fields.Disc); disc != "" {
			setDisc(t, disc, r.name)
		}
	}
	if !p.Fields.Disc.Tells() {
		discOfName(t, r.name)
	}
	if t.Name == "" && t.Fault() == nil {
		t.Name = nameOfFile(r.name)
		d.Evidence = append(d.Evidence, title.Evidence{Field: "name", Value: t.Name, From: "the name of the file"})
	}
	checkKind(t, p, r.game)
	checkSum(t, p, r)
	endings := p.Endings
	if t.Form == title.Package {
		endings = p.Packages
	}
	if t.Form != title.Folder && !slices.Contains(endings, ending) {
		t.Findings = append(t.Findings, title.Finding{Grade: title.Note,
			Say: fmt.Sprintf("the name ends in %q, but the file is a %s %s; its copy gets the right ending", ending, p.Shown, t.Form)})
	}
	return t
}

// setDisc takes a disc number: "1/2", or "1" where nothing says how many there are, and
// which is then told by those that are found.
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
		t.Findings = append(t.Findings, title.Finding{Grade: title.Note, Say: fmt.Sprintf("%s: %q is no disc number; it is taken for the only disc", from, disc)})
	}
}

var discTag = regexp.MustCompile(`(?i)[ _]*[(\[](?:disc|disk)[ _]?([0-9]{1,2})(?:[ _]of[ _]([0-9]{1,2}))?[)\]]`)

// discOfName finds the disc number in a file's name, such as "(Disc 2)".
func discOfName(t *title.Title, name string) {
	m := discTag.FindStringSubmatch(name)
	if m == nil {
		return
	}
	n, _ := strconv.Atoi(m[1])
	of, _ := strconv.Atoi(m[2])
	if n < 1 || (of > 0 && n > of) {
		return
	}
	t.Discs[0].Number, t.Of = n, of
	t.Discs[0].Evidence = append(t.Discs[0].Evidence, title.Evidence{Field: "disc", Value: m[1], From: "the name of the file"})
}

var (
	downloadTag = regexp.MustCompile(` *\([0-9]{1,2}\)$`)
	spaces      = regexp.MustCompile(`[ _]+`)
)

// nameOfFile is the name that a file's own name tells: without its ending, what a download
// added, and the number of its disc.
func nameOfFile(name string) string {
	s := strings.TrimSuffix(name, path.Ext(name))
	s = discTag.ReplaceAllString(s, "")
	s = strings.TrimSpace(spaces.ReplaceAllString(s, " "))
	return downloadTag.ReplaceAllString(s, "")
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
		t.Findings = append(t.Findings, fault(fmt.Sprintf("%q is no kind of disc of the %s", d.Kind, p.Shown), again))
		d.Kind = ""
	case k.Largest > 0 && n > k.Largest:
		t.Findings = append(t.Findings, title.Finding{Grade: title.Note,
			Say: fmt.Sprintf("it calls itself a %s disc, but has %s, more than such a disc holds", k.Name, size.Format(n))})
	}
}

// checkSum adds up the first bytes of a file that carries their sum.
func checkSum(t *title.Title, p *loader.Platform, r *reader) {
	if p.Check.To == 0 {
		return
	}
	b := make([]byte, max(p.Check.To, p.Check.At+2))
	if n, _ := r.r.ReadAt(b, 0); n < len(b) {
		t.Findings = append(t.Findings, fault("the file ends within its header", "fetch or copy it again"))
		return
	}
	var sum uint16
	for _, c := range b[:p.Check.To] {
		sum += uint16(c)
	}
	if want := binary.LittleEndian.Uint16(b[p.Check.At:]); want != sum {
		t.Findings = append(t.Findings, fault(fmt.Sprintf("its header is damaged: the sum of it is %04X, and should be %04X", sum, want), "fetch or copy it again"))
	}
}
