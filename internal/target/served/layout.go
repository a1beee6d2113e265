package served

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"polytome/internal/format/virtual"
)

// layoutFormat is the version of the file in which an export is kept: a line of JSON with it and how many files there
// are, a line of JSON for each file, and the volume as [virtual.Volume.Save] writes it.
const layoutFormat = 1

// mostLine is how long a line may be: an image that is built of a folder names all files of that.
const mostLine = 64 << 20

type heading struct {
	Format int `json:"polytome-served"`
	Files  int `json:"files"`
}

// A recipe says where the bytes of a file come from: they are made, or kept beside the layout.
type recipe struct {
	Path string          `json:"path"`
	Size int64           `json:"size"`
	Make json.RawMessage `json:"make,omitempty"`
	Kept string          `json:"kept,omitempty"` // name of the file that has them
}

// write writes the layout down.
func (e *Export) write(w io.Writer) error {
	out := bufio.NewWriterSize(w, 256<<10)
	lines := json.NewEncoder(out)
	lines.SetEscapeHTML(false)
	err := lines.Encode(heading{layoutFormat, len(e.recipes)})
	for _, r := range e.recipes {
		err = errors.Join(err, lines.Encode(r))
	}
	return errors.Join(err, e.vol.Save(out), out.Flush())
}

var errLayout = errors.New("its layout is damaged")

// parse reads a layout.
func parse(r io.Reader) (*virtual.Volume, []recipe, error) {
	in := bufio.NewReaderSize(r, 256<<10)
	var h heading
	if err := decode(in, &h); err != nil {
		return nil, nil, err
	}
	if h.Format != layoutFormat {
		return nil, nil, fmt.Errorf("its layout has version %d, and this Polytome reads version %d", h.Format,
			layoutFormat)
	}
	var all []recipe
	for range h.Files {
		var r recipe
		if err := decode(in, &r); err != nil {
			return nil, nil, err
		}
		all = append(all, r)
	}
	v, err := virtual.Load(in)
	return v, all, err
}

// decode reads one line of JSON.
func decode(in *bufio.Reader, into any) error {
	var line []byte
	for {
		piece, err := in.ReadSlice('\n')
		if line = append(line, piece...); len(line) > mostLine {
			return errLayout
		}
		if errors.Is(err, bufio.ErrBufferFull) {
			continue
		}
		if err != nil {
			return fmt.Errorf("%w: %w", errLayout, err)
		}
		break
	}
	d := json.NewDecoder(bytes.NewReader(line))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return fmt.Errorf("%w: %w", errLayout, err)
	}
	return nil
}
