package convert

import (
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/strict"
	"polytome/internal/core/title"
	"polytome/internal/format/crcs"
	"polytome/internal/format/joined"
	"polytome/internal/target"
)

// A Part is one of the files that something was cut into.
type Part struct {
	File   string `toml:"file" json:"file"`
	Length int64  `toml:"length" json:"length"` // in bytes
	CRC32  string `toml:"crc32" json:"crc32"`   // IEEE 802.3, eight hexadecimal digits
}

// A Manifest tells the parts of a file.
type Manifest struct {
	Title  string `toml:"title" json:"title,omitempty"`
	Kind   string `toml:"kind,omitempty" json:"kind,omitempty"`
	Length int64  `toml:"length,omitempty" json:"length,omitempty"` // of the whole
	CRC32  string `toml:"crc32,omitempty" json:"crc32,omitempty"`
	Parts  []Part `toml:"part" json:"parts"`

	dir string
}

// SplitOptions are how a file is cut.
type SplitOptions struct {
	Size int64 // bytes in a part
	// Name is the name of each part, with the fields base, extension and index.
	Name loader.Template
	// Manifest is the name of the list of parts; "" for none.
	Manifest string
}

// mostParts is in how many parts a file is cut at most.
const mostParts = 100_000

// Split cuts a file into parts in a target, in order, and writes their list last.
func Split(ctx context.Context, file string, to target.Target, o SplitOptions, emit Emit) (*Manifest, error) {
	c, err := open(file)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	if o.Size <= 0 || c.Size()/o.Size >= mostParts {
		return nil, fmt.Errorf("parts of %d bytes are too small: a file can have at most %d parts", o.Size, mostParts)
	}
	ext := filepath.Ext(file)
	v := loader.Values{loader.FieldBase: strings.TrimSuffix(filepath.Base(file), ext), loader.FieldExt: ext}
	m := &Manifest{Title: v[loader.FieldBase], Length: c.Size()}
	var whole crcs.Joiner
	seen := map[string]bool{}
	for off, n := int64(0), 1; off < c.Size() || n == 1; n++ {
		v[loader.FieldIndex] = strconv.Itoa(n)
		name := o.Name.Fill(&v)
		if seen[name] {
			return nil, fmt.Errorf("two parts would be named %s: the name needs {index}", name)
		}
		seen[name] = true
		s := shape.Spec{Source: title.File{Path: file}, Offset: off, Size: min(o.Size, c.Size()-off)}
		sum := crc32.NewIEEE()
		length, err := Write(ctx, to, name, shape.Window(c, &s), func(b []byte, n int64) { feed(sum, b, n) },
			func(done, _ int64) {
				if emit != nil {
					emit(off+done, c.Size())
				}
			})
		if err != nil {
			return nil, err
		}
		whole.Add(sum.Sum32(), length)
		m.Parts = append(m.Parts, Part{name, length, fmt.Sprintf("%08x", sum.Sum32())})
		off += length
	}
	m.CRC32 = fmt.Sprintf("%08x", whole.Sum)
	if o.Manifest == "" {
		return m, nil
	}
	text, err := toml.Marshal(m)
	if err != nil {
		return nil, err
	}
	_, err = Write(ctx, to, o.Manifest, shape.Bytes(text), nil, nil)
	return m, err
}

// feed adds bytes to a checksum; nil stands for n zeros.
func feed(h io.Writer, b []byte, n int64) {
	if b != nil {
		_, _ = h.Write(b)
		return
	}
	_ = Stream{h}.Skip(n)
}

// ReadManifest reads a list of parts, which are beside it.
func ReadManifest(file string) (*Manifest, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, &shape.SourceError{Path: file, Err: err}
	}
	m := &Manifest{dir: filepath.Dir(file)}
	src, err := strict.Decode(file, text, m)
	if err != nil {
		return nil, err
	}
	var all []error
	if len(m.Parts) == 0 {
		all = append(all, src.Errorf("", "it has no [[part]]"))
	}
	for i, p := range m.Parts {
		at := fmt.Sprintf("part.%d", i)
		if !filepath.IsLocal(filepath.FromSlash(p.File)) {
			all = append(all, src.Errorf(at+".file", "the file %q must be beside the list", p.File))
		}
		if p.Length < 0 {
			all = append(all, src.Errorf(at+".length", "a length cannot be negative"))
		}
		if _, err := strconv.ParseUint(p.CRC32, 16, 32); p.CRC32 != "" && err != nil {
			all = append(all, src.Errorf(at+".crc32", "%q is not a CRC-32: eight digits 0-9 and a-f", p.CRC32))
		}
	}
	return m, errors.Join(all...)
}

// PartsOf is a list of parts that is given by their files.
func PartsOf(files []string) (*Manifest, error) {
	m := &Manifest{}
	for _, f := range files {
		info, err := os.Stat(f)
		if err != nil {
			return nil, &shape.SourceError{Path: f, Err: err}
		}
		m.Parts = append(m.Parts, Part{File: f, Length: info.Size()})
	}
	return m, nil
}

// A PartError reports a part that is missing, damaged or of the wrong length.
type PartError struct {
	Number int // from 1
	File   string
	Say    string
}

func (e *PartError) Error() string { return fmt.Sprintf("part %d, %s, %s", e.Number, e.File, e.Say) }

// Open opens the parts as one. Every part that is missing or too short or long is reported.
func (m *Manifest) Open() (*Parts, error) {
	p := &Parts{m: m}
	var all []error
	var list []joined.Content
	for i, part := range m.Parts {
		name := filepath.Join(m.dir, filepath.FromSlash(part.File))
		c, err := open(name)
		switch {
		case errors.Is(err, os.ErrNotExist):
			all = append(all, &PartError{i + 1, name, "is missing"})
			continue
		case err != nil:
			all = append(all, err)
			continue
		case c.Size() != part.Length:
			all = append(all, &PartError{i + 1, name, fmt.Sprintf("has %d bytes instead of %d", c.Size(), part.Length)})
		}
		p.open, list = append(p.open, c), append(list, c)
	}
	p.Contents = joined.Of(list...)
	if len(all) > 0 {
		_ = p.Close()
		return nil, errors.Join(all...)
	}
	if m.Length > 0 && p.Size() != m.Length {
		_ = p.Close()
		return nil, fmt.Errorf("the parts have %d bytes together, but the whole has %d: a part is missing in the list",
			p.Size(), m.Length)
	}
	return p, nil
}

// Parts are the files of a list as one.
type Parts struct {
	*joined.Contents
	m    *Manifest
	open []target.Content
}

// Join puts the parts of a list together, and checks each against what the list tells.
func Join(ctx context.Context, m *Manifest, to Sink, emit Emit) error {
	p, err := m.Open()
	if err != nil {
		return err
	}
	defer p.Close()
	return p.check(ctx, to, emit)
}

// check reads all parts, and compares.
func (p *Parts) check(ctx context.Context, to Sink, emit Emit) error {
	var base int64
	var whole crcs.Joiner
	var all []error
	for i, c := range p.open {
		sum := crc32.NewIEEE()
		n, err := Copy(ctx, to, c, func(b []byte, n int64) { feed(sum, b, n) }, func(done, _ int64) {
			if emit != nil {
				emit(base+done, p.Size())
			}
		})
		if err != nil {
			return err
		}
		base += n
		whole.Add(sum.Sum32(), n)
		part := &p.m.Parts[i]
		if got := fmt.Sprintf("%08x", sum.Sum32()); part.CRC32 != "" && !strings.EqualFold(got, part.CRC32) {
			all = append(all, &PartError{i + 1, filepath.Join(p.m.dir, part.File),
				fmt.Sprintf("is damaged: its CRC-32 is %s instead of %s", got, strings.ToLower(part.CRC32))})
		}
	}
	if got := fmt.Sprintf("%08x", whole.Sum); len(all) == 0 && p.m.CRC32 != "" && !strings.EqualFold(got, p.m.CRC32) {
		all = append(all, fmt.Errorf("the parts are OK but in the wrong order: the CRC-32 of all is %s instead of %s",
			got, strings.ToLower(p.m.CRC32)))
	}
	return errors.Join(all...)
}

// nowhere is a sink for checking alone.
type nowhere struct{}

func (nowhere) Write(b []byte) (int, error) { return len(b), nil }
func (nowhere) Skip(int64) error            { return nil }
