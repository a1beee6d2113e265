package intake

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/format/iso9660"
	"polytome/internal/size"
)

// maxMarker is the longest marker file that is read: a longer one is no list of
// values.
const maxMarker = 64 << 10

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
	t, err := Image(f, info.Size(), name, set)
	if t != nil {
		t.Discs[0].File = title.File{Path: name, Size: info.Size(), Modified: info.ModTime()}
	}
	return t, err
}

// Image identifies the size bytes of r, a file called name, as one disc of a
// title. It returns nil when it belongs to no platform of the set. It reads
// headers only.
func Image(r io.ReaderAt, size int64, name string, set *loader.Set) (*title.Title, error) {
	ending := strings.ToLower(path.Ext(filepath.ToSlash(name)))
	var byEnding *loader.Platform
	for _, p := range set.Platforms {
		if slices.Contains(p.Endings, ending) {
			byEnding = p
		}
	}
	v, err := iso9660.Open(r, size)
	if errors.Is(err, iso9660.ErrNotISO) && byEnding == nil {
		return nil, nil
	}
	t := &title.Title{Form: title.Image, Of: 1, Discs: []title.Disc{{Number: 1}}}
	var damage *iso9660.FormatError
	switch {
	case errors.Is(err, iso9660.ErrNotISO):
		t.Findings = append(t.Findings, fault(fmt.Sprintf("the name ends in %s, but there is no ISO 9660 volume in the file", ending),
			"copy it from its disc again"))
		return t, nil
	case errors.As(err, &damage):
		t.Findings = append(t.Findings, fault(err.Error(), "copy it from its disc again"))
		return t, nil
	case err != nil:
		return nil, err
	}
	t.Findings = append(t.Findings, checkLength(v, size)...)
	for _, p := range set.Platforms {
		if read(t, v, p, size) {
			if !slices.Contains(p.Endings, ending) {
				t.Findings = append(t.Findings, title.Finding{Grade: title.Note,
					Say: fmt.Sprintf("the name ends in %q, but the file is a %s image; its copy gets the right ending", ending, p.Shown)})
			}
			return t, nil
		}
	}
	if byEnding == nil {
		return nil, nil // an image, but not a game's
	}
	t.Findings = append(t.Findings, fault(fmt.Sprintf("%s is missing from the image's root, so it cannot be told which game this is", byEnding.Marker.File),
		"copy it from its disc again; if the disc is like that, this loader cannot list it"))
	return t, nil
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

// read takes the platform's values out of the volume. It reports whether the
// platform's marker is there.
func read(t *title.Title, v *iso9660.Volume, p *loader.Platform, n int64) bool {
	marker, text, err := readMarker(v, p.Marker.File)
	if marker == "" {
		return false
	}
	t.Platform = p.Name
	if err != nil {
		t.Findings = append(t.Findings, fault(fmt.Sprintf("%s cannot be read: %v", marker, err), "copy it from its disc again"))
		return true
	}
	values, lines := keyValues(text)
	d := &t.Discs[0]
	get := func(what string, f loader.Field) string {
		if f.Key == "" {
			return ""
		}
		got, ok := values[f.Key]
		from := fmt.Sprintf("%s, line %d", marker, lines[f.Key])
		switch {
		case !ok || got == "":
			if f.Required {
				t.Findings = append(t.Findings, fault(fmt.Sprintf("%s has no %s, so the %s is not known", marker, f.Key, what), "copy it from its disc again"))
			}
			return ""
		case f.Pattern.Regexp != nil && !f.Pattern.MatchString(got):
			t.Findings = append(t.Findings, fault(fmt.Sprintf("%s, line %d: %q is no %s of the %s", marker, lines[f.Key], got, what, p.Shown), "copy it from its disc again"))
			return ""
		}
		if meant, ok := f.Values[got]; ok {
			got = meant
		}
		d.Evidence = append(d.Evidence, title.Evidence{Field: what, Value: got, From: from})
		return got
	}
	d.ID = get("ID", p.Fields.ID)
	t.ID = d.ID
	t.Name = get("name", p.Fields.Name)
	t.Region = get("region", p.Fields.Region)
	d.Kind = get("kind", p.Fields.Kind)
	if disc := get("disc", p.Fields.Disc); disc != "" {
		if _, err := fmt.Sscanf(disc, "%d/%d", &d.Number, &t.Of); err != nil || d.Number < 1 || d.Number > t.Of {
			d.Number, t.Of = 1, 1
			t.Findings = append(t.Findings, title.Finding{Grade: title.Note, Say: fmt.Sprintf("%s: %q is no disc number; it is taken for the only disc", marker, disc)})
		}
	}
	checkKind(t, p, n)
	return true
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
		t.Findings = append(t.Findings, fault(fmt.Sprintf("%q is no kind of disc of the %s", d.Kind, p.Shown), "copy it from its disc again"))
		d.Kind = ""
	case k.Largest > 0 && n > k.Largest:
		t.Findings = append(t.Findings, title.Finding{Grade: title.Note,
			Say: fmt.Sprintf("it calls itself a %s disc, but has %s, more than such a disc holds", k.Name, size.Format(n))})
	}
}

// readMarker finds the marker without regard to case, as different image
// makers spell it differently. The name is empty when it is not there.
func readMarker(v *iso9660.Volume, want string) (name, text string, err error) {
	dir := path.Dir(want)
	entries, err := v.ReadDir(dir)
	for _, e := range entries {
		if e.IsDir() || !strings.EqualFold(e.Name(), path.Base(want)) {
			continue
		}
		f, err := v.Open(path.Join(dir, e.Name()))
		if err != nil {
			return e.Name(), "", err
		}
		defer f.Close()
		b, err := io.ReadAll(io.LimitReader(f, maxMarker+1))
		if err == nil && len(b) > maxMarker {
			err = fmt.Errorf("it has more than %s", size.Format(maxMarker))
		}
		return e.Name(), string(bytes.ToValidUTF8(b, []byte("?"))), err
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", "", err
	}
	return "", "", nil
}

// keyValues reads lines KEY=value. The first line of a key counts.
func keyValues(text string) (values map[string]string, lines map[string]int) {
	values, lines = map[string]string{}, map[string]int{}
	for i, line := range strings.Split(strings.TrimPrefix(text, "\uFEFF"), "\n") {
		k, v, ok := strings.Cut(line, "=")
		k = strings.TrimSpace(k)
		if _, dup := values[k]; ok && !dup {
			values[k], lines[k] = strings.TrimSpace(v), i+1
		}
	}
	return values, lines
}
