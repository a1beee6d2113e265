package bench

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"polytome/internal/core/run"
	"polytome/internal/core/strict"
	"polytome/internal/core/title"
	"polytome/internal/format/picture"
	"polytome/internal/nearest"
	"polytome/internal/plainfile"
	"polytome/internal/target/drive"
	"polytome/internal/target/served"
)

// mostText is how many bytes a bench has at most: with 50,000 titles it has some two million.
const mostText = 64 << 20

// Load reads a bench file. Mistakes in it are [*strict.Error].
func Load(file string) (*Bench, error) {
	data, err := plainfile.Read(file, mostText)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("there is no bench %s: %w", file, fs.ErrNotExist)
		}
		return nil, fmt.Errorf("reading the bench: %w", err)
	}
	b := &Bench{file: file, state: &state{}}
	var version struct {
		Format int `toml:"format"`
	}
	if toml.Unmarshal(data, &version) == nil && version.Format > FormatVersion {
		return nil, &strict.Error{File: file,
			Say: fmt.Sprintf("format %d is from a newer Polytome; this one reads format %d", version.Format,
				FormatVersion)}
	}
	src, err := strict.Decode(file, data, b)
	if err != nil {
		return nil, err
	}
	b.state.text, b.state.read = data, true
	var all []error
	fail := func(at, format string, args ...any) { all = append(all, src.Errorf(at, format, args...)) }
	note := func(at, format string, args ...any) {
		b.Notes = append(b.Notes, src.Errorf(at, format, args...).Error())
	}
	if b.Format != FormatVersion {
		fail("format", "a bench starts with its format: format = %d", FormatVersion)
	}
	b.spreadAll(fail, note)
	names := map[string]bool{}
	for i := range b.Targets {
		p, at := &b.Targets[i], fmt.Sprintf("target.%d", i)
		if p.Name == "" || p.At == "" || p.Loader == "" && p.Like == "" {
			fail(at, "a target needs a name, an address (at) and a loader")
		}
		if names[strings.ToLower(p.Name)] {
			fail(at+".name", "two targets are named %q", p.Name)
		}
		names[strings.ToLower(p.Name)] = true
		k := slices.IndexFunc(b.Targets[:i], func(o Target) bool { return o.Stick == p.Stick })
		if p.Stick != "" && k >= 0 {
			fail(at+".stick", "this stick is %s already", b.Targets[k].Name)
		}
		if p.Like != "" { // the rest stands in the first of its set
			if p.Carries != "" {
				fail(at+".carries-covers-of", "%s is like %s, and cannot carry covers beside", p.Name, p.Like)
			}
			continue
		}
		if p.Capacity < 0 || p.Rate < 0 || p.Reserve < 0 || p.Cluster < 0 {
			fail(at, "capacity, rate, reserve and cluster cannot be negative")
		}
		if p.Cluster > 0 && (p.Cluster&(p.Cluster-1) != 0 || p.Cluster < 512 || p.Cluster > 32<<20) {
			fail(at+".cluster", "a cluster size is a power of two from 512 bytes to 32MiB")
		}
		if err := p.CoversMost.Check(); err != nil {
			fail(at+".covers-at-most", "%v", err)
		}
		if p.Carries != "" {
			switch of, ok := b.Carried(i); {
			case !ok:
				fail(at+".carries-covers-of", "there is no target %q whose covers could be carried", p.Carries)
			case of == i || b.Targets[of].Carries != "":
				fail(at+".carries-covers-of", "%s has no covers of its own", p.Carries)
			}
		}
		if p.WhenConnected != "" && !slices.Contains(WhenConnectedWords, p.WhenConnected) {
			fail(at+".when-connected", "%v", nearest.Unknown("thing to do", p.WhenConnected, WhenConnectedWords))
		}
		if p.Verify != "" {
			if _, err := run.ParseVerify(p.Verify); err != nil {
				fail(at+".verify", "%v", err)
			}
		}
		for _, l := range p.Also {
			if l == p.Loader {
				fail(at+".also-for", "%q is already the target's first loader", l)
			}
		}
		slices.Sort(p.Without)
		slices.Sort(p.Titles)
		p.contradictions(at, note)
	}
	b.Covers.check(fail)
	slices.Sort(b.Favourites)
	for key, n := range b.Priorities {
		if n < -MaxPriority || n > MaxPriority {
			fail("priorities."+key, "a priority is between -%d and %d", MaxPriority, MaxPriority)
		}
	}
	files := map[string]bool{}
	for i := range b.Edits {
		e, at := &b.Edits[i], fmt.Sprintf("edit.%d", i)
		if e.File == "" || files[e.File] {
			fail(at, "an edit needs its own file")
		}
		files[e.File] = true
		for _, f := range e.Locked {
			if e.Value(f) == nil {
				fail(at+".locked", "%q cannot be locked; these can: %s", f, strings.Join(title.Editable, ", "))
			}
		}
		for _, c := range e.Pictures {
			switch {
			case !slices.Contains(title.PictureKinds, c.Of):
				fail(at+".pictures", "%v", nearest.Unknown("kind of picture", c.Of, title.PictureKinds))
			case !picture.Crop(c.Crop).Keeps():
				fail(at+".pictures", "the crop leaves nothing of the %s picture; the numbers are thousandths", c.Of)
			}
		}
	}
	return b, errors.Join(all...)
}

// Reread takes over what the file says now.
func (b *Bench) Reread() error {
	if b.file == "" {
		return errors.New("this bench is not kept in a file")
	}
	fresh, err := Load(b.file)
	if err != nil {
		return err
	}
	b.state.mu.Lock()
	defer b.state.mu.Unlock()
	b.state.text, b.state.read = fresh.state.text, true
	state := b.state
	fresh.recognise(b.Targets)
	*b = *fresh
	b.state = state
	return nil
}

// contradictions describes choices that cannot all be meant, and which of them counts.
func (p *Target) contradictions(at string, note func(at, format string, args ...any)) {
	for _, key := range p.Titles {
		switch {
		case p.Without.Has(key):
			note(at+".titles", "%s is both in the titles of %s and in its exceptions: %s", key, p.Name,
				map[bool]string{true: "excluded", false: "it is wanted"}[p.Everything])
		case p.Everything:
			note(at+".titles", "%s selects everything, so its list of titles has no effect", p.Name)
			return
		}
	}
	if !p.Everything && len(p.Without) > 0 && len(p.Titles) == 0 {
		note(at+".without", "%s selects only its listed titles, so its exceptions have no effect", p.Name)
	}
	for _, path := range p.Removing {
		if slices.Contains(p.Replace, path) {
			note(at+".replace", "%s of %s is marked both to be removed and to be replaced: it is removed", path, p.Name)
		}
	}
}

// New makes an empty bench that will be saved to a file; with "" it never is.
func New(file string) *Bench {
	name := strings.TrimSuffix(filepath.Base(file), filepath.Ext(file))
	return &Bench{Format: FormatVersion, Name: name, file: file, state: &state{}}
}

// File is where the bench is saved, "" for nowhere.
func (b *Bench) File() string { return b.file }

// Resolve turns a path of the bench, or the address of a drive that is given by one, into one for the system. It is
// absolute: what is remembered of it must not be taken for something else by a program that is started in another
// folder.
func (b *Bench) Resolve(path string) string {
	if a, ok := drive.ParseAddress(path); ok {
		if a.IsFile() {
			a.Drive = b.Resolve(a.Drive)
		}
		return a.String()
	}
	if served.Is(path) {
		return served.Absolute(path, b.Resolve)
	}
	if strings.Contains(path, "://") { // on another machine
		return path
	}
	if path == "" || filepath.IsAbs(path) {
		return path
	}
	if b.file != "" {
		path = filepath.Join(filepath.Dir(b.file), path)
	}
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}

// SourcePaths lists the source folders.
func (b *Bench) SourcePaths() []string {
	var out []string
	for _, s := range b.Sources {
		out = append(out, b.Resolve(s.Path))
	}
	return out
}
