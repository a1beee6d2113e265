package scan

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"unicode/utf16"
)

// lookFor is the path of the file that a pattern names, whatever its letter case; "" for none, and where several could
// be meant.
func lookFor(fsys fs.FS, pattern string) (string, error) {
	dir := "."
	parts := strings.Split(strings.ToLower(pattern), "/")
	for i, want := range parts {
		entries, err := fs.ReadDir(fsys, dir)
		found, several := "", false
		for _, e := range entries {
			ok, _ := path.Match(want, strings.ToLower(e.Name()))
			if ok && e.IsDir() == (i < len(parts)-1) && e.Type()&fs.ModeSymlink == 0 {
				found, several = e.Name(), found != ""
			}
		}
		if several { // a marker is one file; a folder of many is a collection
			return "", nil
		}
		if found == "" {
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return "", err
			}
			return "", nil
		}
		dir = path.Join(dir, found)
	}
	return dir, nil
}

// openMarker finds a file without regard to case, as different image makers spell it
// differently; * in the pattern stands for any name. It returns nil when the file is
// not there, or several fit.

func openMarker(fsys fs.FS, pattern string) (*reader, error) {
	dir, err := lookFor(fsys, pattern)
	if dir == "" {
		return nil, err
	}
	f, err := fsys.Open(dir)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	head, err := io.ReadAll(io.LimitReader(f, maxMarker))
	if err != nil {
		return nil, err
	}
	return &reader{r: bytes.NewReader(head), size: info.Size(), name: path.Base(dir), fsys: fsys}, nil
}

// decode reads text out of bytes. It ends at the first zero.
func decode(b []byte, encoding string) string {
	switch encoding {
	case "number":
		var le [8]byte
		copy(le[:], b)
		return fmt.Sprint(binary.LittleEndian.Uint64(le[:]))
	case "utf-16le":
		var units []uint16
		for i := 0; i+1 < len(b); i += 2 {
			u := binary.LittleEndian.Uint16(b[i:])
			if u == 0 {
				break
			}
			units = append(units, u)
		}
		return strings.TrimSpace(string(utf16.Decode(units)))
	}
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	if encoding == "latin-1" {
		r := make([]rune, len(b))
		for i, c := range b {
			r[i] = rune(c)
		}
		return strings.TrimSpace(string(r))
	}
	return strings.TrimSpace(string(bytes.ToValidUTF8(b, []byte("?"))))
}

// json reads a text or number of the top level of a JSON object.
func (r *reader) json(key string) (value, from string, found bool, err error) {
	var all map[string]json.RawMessage
	if err := json.Unmarshal([]byte(strings.TrimPrefix(r.text, "\uFEFF")), &all); err != nil {
		return "", "", false, fmt.Errorf("it is not JSON: %w", err)
	}
	raw, ok := all[key]
	if !ok {
		return "", "", false, nil
	}
	if json.Unmarshal(raw, &value) != nil {
		value = string(raw)
	}
	return strings.TrimSpace(value), fmt.Sprintf("%s, key %s", r.name, key), true, nil
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
