package learn

import (
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/teach"
	"polytome/internal/core/title"
	"polytome/internal/format/joined"
	"polytome/internal/target"
)

// samples collects the titles on the target: those that were found in one piece, and those that are there in parts.
func (s *student) samples(titles []title.Title) {
	parts := s.series(titles)
	titles = s.gathered(titles, parts)
	of := map[string]*series{} // by the first part
	for _, x := range parts {
		of[x.parts[0]] = x
	}
	for i := range titles {
		t := &titles[i]
		if t.Platform == "" {
			continue
		}
		s.d.Titles++
		if name := trackName(t); name != "" {
			t.Name = name
		}
		for d := range t.Discs {
			x := &sample{t: t, disc: d, path: s.rel(t.Discs[d].File.Path)}
			if p := of[x.path]; p != nil {
				x.path, x.parts, x.size = "", p.parts, p.size
				s.split = append(s.split, x)
				x.set()
				continue
			}
			s.used[x.path] = Game
			if files := s.look.Packed[x.path]; len(files) > 0 {
				for _, f := range files[1:] {
					s.used[f] = Piece
				}
			}
			for _, p := range t.Discs[d].Parts {
				s.used[s.rel(p.File.Path)] = Game
			}
			x.set()
			s.all = append(s.all, x)
		}
	}
}

// A series is a disc that is there in parts.
type series struct {
	t     *title.Title
	parts []string
	size  int64 // of a part
}

// gathered has the discs that are there in parts in their titles: what was found of a first part alone goes.
func (s *student) gathered(titles []title.Title, parts []*series) (out []title.Title) {
	for i := range titles {
		t := titles[i]
		t.Discs = slices.DeleteFunc(slices.Clone(t.Discs),
			func(d title.Disc) bool { return s.used[s.rel(d.File.Path)] != "" })
		if len(t.Discs) > 0 {
			out = append(out, t)
		}
	}
	for _, p := range parts {
		i := slices.IndexFunc(out, func(t title.Title) bool {
			return p.t.Of > 1 && t.Of == p.t.Of && t.Platform == p.t.Platform && t.Name == p.t.Name &&
				!slices.ContainsFunc(t.Discs, func(d title.Disc) bool { return d.Number == p.t.Discs[0].Number })
		})
		if i < 0 {
			out = append(out, *p.t)
			continue
		}
		t := &out[i]
		t.Discs = append(t.Discs, p.t.Discs[0])
		slices.SortFunc(t.Discs, func(a, b title.Disc) int { return a.Number - b.Number })
		if t.Discs[0].ID != "" {
			t.ID = t.Discs[0].ID
		}
	}
	return out
}

// rel is a path on the target.
func (s *student) rel(file string) string {
	rel, err := filepath.Rel(s.look.Dir, file)
	if err != nil {
		return file
	}
	return filepath.ToSlash(rel)
}

// set collects the values of a sample.
func (x *sample) set() {
	t, d := x.t, x.of()
	x.facts = layout.Facts(t, loader.Here{})
	v := loader.Values{loader.FieldID: t.ID, loader.FieldName: t.Name, loader.FieldRegion: t.Region,
		loader.FieldKind:     d.Kind,
		loader.FieldPlatform: t.Platform, loader.FieldExt: x.facts[loader.FieldExt], loader.FieldForm: string(t.Form),
		loader.FieldSize: strconv.FormatInt(d.Size(), 10)}
	if d.ID != "" {
		v[loader.FieldID] = d.ID
	}
	if t.Of > 1 {
		v[loader.FieldDisc], v[loader.FieldDiscs] = strconv.Itoa(d.Number), strconv.Itoa(t.Of)
	}
	if t.Form == title.Folder {
		v[loader.FieldExt], x.facts[loader.FieldExt] = "", "" // a dot in its name begins none
	}
	x.values = v
}

// taughtBy is how a platform was worked out; nil for one that was known.
func (s *student) taughtBy(platform string) *teach.Platform {
	if i := slices.IndexFunc(s.d.Taught, func(p *teach.Platform) bool { return p.Name == platform }); i >= 0 {
		return s.d.Taught[i]
	}
	return nil
}

// shouts reports whether all paths are in capital letters, as on volumes that know no others.
func (s *student) shouts(all []*sample) bool {
	return !slices.ContainsFunc(all, func(x *sample) bool { return x.path != strings.ToUpper(x.path) })
}

var trackTag = regexp.MustCompile(`(?i)[ _-]*[(\[]?(?:disc|track)[ _-]?[0-9]+[)\]]?`)

// trackName is the name that track files tell: often they kept it when their cue sheet was
// named again. It is "" when they tell another name or none.
func trackName(t *title.Title) string {
	if t.Form != title.Tracks || len(t.Discs[0].Parts) == 0 {
		return ""
	}
	first := t.Discs[0].Parts[0].Name
	sheet := filepath.Base(t.Discs[0].File.Path)
	if strings.HasPrefix(path.Base(first), strings.TrimSuffix(sheet, filepath.Ext(sheet))) {
		return "" // they are named after the sheet
	}
	base := path.Base(first)
	name := strings.TrimSpace(trackTag.ReplaceAllString(strings.TrimSuffix(base, path.Ext(base)), ""))
	if len(name) <= len(t.Name) || !strings.Contains(bare(name), bare(t.Name)) {
		return ""
	}
	return name
}

// bare is a name without what is lost or added where it is written.
func bare(name string) string {
	name, _ = layout.Naming{Units: target.Characters, Permits: func(r rune) bool {
		return r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z'
	}}.Name(name)
	return strings.ToLower(strings.ReplaceAll(name, " ", ""))
}

var counted = regexp.MustCompile(`[0-9]+`)

// series finds titles that are there in parts only: files that have one name but for what counts them, of one length
// but the last, and that are a game of a known platform together.
func (s *student) series(titles []title.Title) (out []*series) {
	found := map[string]bool{} // files that are titles by themselves
	for i := range titles {
		for _, d := range titles[i].Discs {
			if titles[i].Platform != "" {
				found[s.rel(d.File.Path)] = true
			}
			for _, p := range d.Parts {
				found[s.rel(p.File.Path)] = true
			}
		}
	}
	sets := map[string][]target.Entry{}
	var order []string
	for _, e := range s.look.Entries {
		if e.Folder || e.Size == 0 || target.IsTemporary(e.Path) {
			continue
		}
		dir, base := path.Split(e.Path)
		keys := []string{dir + counted.ReplaceAllString(base, "\x00"), dir}
		if ext := path.Ext(base); ext != "" {
			keys = append(keys, dir+strings.TrimSuffix(base, ext)+"\x00.")
			if counted.MatchString(ext) { // beside files of the same name that are no parts
				keys = append(keys, dir+strings.TrimSuffix(base, ext)+"\x00.\x00")
			}
		}
		for _, key := range keys {
			if sets[key] == nil {
				order = append(order, key)
			}
			sets[key] = append(sets[key], e)
		}
	}
	slices.SortStableFunc(order, func(a, b string) int { return len(sets[b]) - len(sets[a]) })
	for _, key := range order {
		all := slices.DeleteFunc(slices.Clone(sets[key]), func(e target.Entry) bool { return s.used[e.Path] != "" })
		if x := s.joined(all, found); x != nil {
			for _, p := range x.parts {
				s.used[p] = Piece
			}
			out = append(out, x)
		}
	}
	return out
}

// mostParts is how many parts a title has at most.
const mostParts = 999

// joined is the title that files are together; nil for none.
func (s *student) joined(all []target.Entry, found map[string]bool) *series {
	if len(all) < 2 || len(all) > mostParts {
		return nil
	}
	whole, uncounted := 0, 0
	for _, e := range all {
		if found[e.Path] {
			whole++
		}
		if base := path.Base(e.Path); !counted.MatchString(path.Ext(base)) && !counted.MatchString(base[:1]) {
			uncounted++
		}
	}
	slices.SortStableFunc(all, func(a, b target.Entry) int { return natural(a.Path, b.Path) })
	size := all[0].Size
	for _, e := range all {
		size = max(size, e.Size)
	}
	last := -1
	for i, e := range all {
		if e.Size < size {
			if last >= 0 {
				return nil
			}
			last = i
		}
	}
	if whole > 1 || size < 2 || uncounted > 1 && !sameButCount(all) {
		return nil
	}
	for first := range all {
		if last >= 0 && last != len(all)-1 || first > 0 && first < len(all)-1 {
			continue
		}
		ordered := append([]target.Entry{all[first]}, append(slices.Clone(all[:first]), all[first+1:]...)...)
		if last >= 0 && ordered[len(ordered)-1].Size == size {
			continue
		}
		if t := s.together(ordered); t != nil {
			x := &series{t: t, size: size}
			for _, e := range ordered {
				x.parts = append(x.parts, e.Path)
			}
			return x
		}
	}
	return nil
}

// sameButCount reports whether names are alike but for a number.
func sameButCount(all []target.Entry) bool {
	bare := func(e target.Entry) string { return counted.ReplaceAllString(path.Base(e.Path), "") }
	return !slices.ContainsFunc(all, func(e target.Entry) bool { return bare(e) != bare(all[0]) })
}

// together identifies files as one.
func (s *student) together(all []target.Entry) *title.Title {
	var parts []joined.Part
	total := int64(0)
	for _, e := range all {
		r, err := s.look.Open(e.Path)
		if err != nil {
			return nil
		}
		defer r.Close()
		parts = append(parts, joined.Part{ReaderAt: r, Size: e.Size})
		total += e.Size
	}
	r := joined.New(parts...)
	base := strings.TrimRight(counted.ReplaceAllString(path.Base(all[0].Path), ""), " ._-")
	if len(base) < 3 {
		base = path.Base(path.Dir(all[0].Path))
	}
	tried := map[string]bool{}
	for _, p := range s.set.Platforms {
		for _, ext := range p.Extensions {
			if tried[ext] || !p.Has(title.Image) && !p.Has(title.Cartridge) {
				continue
			}
			tried[ext] = true
			t, err := scan.Identify(r, total, strings.TrimSuffix(base, path.Ext(base))+ext, s.set)
			if err == nil && t != nil && t.Platform != "" && t.OK() && (t.ID != "" || t.Name != "") {
				if t.Name == "" {
					t.Name = strings.TrimSuffix(base, path.Ext(base))
				}
				t.Key = all[0].Path
				t.Discs[0].File = title.File{Path: filepath.Join(s.look.Dir, filepath.FromSlash(all[0].Path)),
					Size: total}
				if s.set.Platform(t.Platform).Markers == nil {
					return nil // anything would be one
				}
				return t
			}
		}
	}
	return nil
}

// natural compares names so that numbers in them count as such.
func natural(a, b string) int {
	for a != "" && b != "" {
		m, n := digits(a), digits(b)
		if m == "" || n == "" {
			if a[0] != b[0] {
				return int(a[0]) - int(b[0])
			}
			a, b = a[1:], b[1:]
			continue
		}
		x, y := strings.TrimLeft(m, "0"), strings.TrimLeft(n, "0")
		if len(x) != len(y) {
			return len(x) - len(y)
		}
		if c := strings.Compare(x, y); c != 0 {
			return c
		}
		a, b = a[len(m):], b[len(n):]
	}
	return len(a) - len(b)
}

func digits(s string) string {
	return s[:len(s)-len(strings.TrimLeft(s, "0123456789"))]
}
