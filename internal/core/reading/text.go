package reading

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
)

// decodeText is text as it is written in bytes; "" stands for UTF-8. What is no such text becomes question marks.
func decodeText(b []byte, as string) string {
	out, err := loader.TextEncoding(as).NewDecoder().Bytes(b)
	if err != nil {
		out = b
	}
	return strings.ReplaceAll(strings.ToValidUTF8(string(out), "?"), "\uFFFD", "?")
}

// Decode is the value that bytes stand for: a number of up to eight bytes, or a text that ends at the first zero.
func Decode(b []byte, as string) string {
	var all [8]byte
	switch as {
	case "number-le":
		copy(all[:], b)
		return strconv.FormatUint(binary.LittleEndian.Uint64(all[:]), 10)
	case "number-be":
		copy(all[max(0, 8-len(b)):], b)
		return strconv.FormatUint(binary.BigEndian.Uint64(all[:]), 10)
	case "utf-16le", "utf-16be":
		for i := 0; i+1 < len(b); i += 2 {
			if b[i] == 0 && b[i+1] == 0 {
				b = b[:i]
			}
		}
		for n := len(b) &^ 1; n > 1 && b[n-2] == ' ' && b[n-1] == ' '; n -= 2 { // filled up with bytes, not letters
			b = b[:n-2]
		}
	default:
		b, _, _ = bytes.Cut(b, []byte{0})
	}
	return strings.TrimSpace(decodeText(b, as))
}

// A place is where in a text a value stands.
type place struct {
	value string
	line  int // from 1; 0 where the text has no lines that matter
}

// keyValues finds the value of a key in lines KEY=value, in INI files below its section. The first line of a key
// counts; lines that begin with ; or # are remarks in sections. A value may stand in quotes.
func keyValues(text, section, key string) (place, bool) {
	in := ""
	for i, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if section != "" {
			if strings.HasPrefix(line, "[") && strings.HasSuffix(line, "]") {
				in = strings.TrimSpace(line[1 : len(line)-1])
				continue
			}
			if !strings.EqualFold(in, section) || strings.HasPrefix(line, ";") || strings.HasPrefix(line, "#") {
				continue
			}
		}
		k, v, ok := strings.Cut(line, "=")
		k = strings.TrimSpace(k)
		if ok && (k == key || section != "" && strings.EqualFold(k, key)) {
			return place{unquoted(strings.TrimSpace(v)), i + 1}, true
		}
	}
	return place{}, false
}

// unquoted is a value without the quotes that it stands in, if any.
func unquoted(v string) string {
	for _, q := range []string{`"`, "'"} {
		if inner, ok := strings.CutPrefix(v, q); ok && strings.HasSuffix(inner, q) {
			return strings.TrimSpace(strings.TrimSuffix(inner, q))
		}
	}
	return v
}

// ofJSON finds a text, number or truth value: a key of the top level, or what a JSON pointer names (RFC 6901).
func ofJSON(text, key string) (place, bool, error) {
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	var all any
	err := d.Decode(&all)
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		err = errors.New("it ends too early")
	}
	if _, more := d.Token(); err == nil && !errors.Is(more, io.EOF) {
		err = errors.New("something stands behind its end")
	}
	if err != nil {
		return place{}, false, fmt.Errorf("it is not JSON: %w", err)
	}
	steps := []string{key}
	if strings.HasPrefix(key, "/") {
		steps = strings.Split(key[1:], "/")
		for i := range steps {
			steps[i] = strings.ReplaceAll(strings.ReplaceAll(steps[i], "~1", "/"), "~0", "~")
		}
	}
	for _, step := range steps {
		switch at := all.(type) {
		case map[string]any:
			var ok bool
			if all, ok = at[step]; !ok {
				return place{}, false, nil
			}
		case []any:
			n, err := strconv.Atoi(step)
			if err != nil || n < 0 || n >= len(at) {
				return place{}, false, nil
			}
			all = at[n]
		default:
			return place{}, false, nil
		}
	}
	switch v := all.(type) {
	case string:
		return place{value: strings.TrimSpace(v)}, true, nil
	case json.Number:
		return place{value: v.String()}, true, nil
	case bool:
		return place{value: strconv.FormatBool(v)}, true, nil
	}
	return place{}, false, nil
}

// InJSON is a text, number or truth value in JSON: see [loader.Reading]; "" for none.
func InJSON(text, key string) string {
	at, _, _ := ofJSON(text, key)
	return at.value
}

// InXML is the text of an element or attribute in XML: see [loader.Reading]; "" for none.
func InXML(text, key string) string {
	at, _, _ := ofXML(text, key)
	return at.value
}

// ofXML finds the text of the first element at a path from the root, such as "game/title", or with "game/@id" an
// attribute. Names are compared without their name spaces.
func ofXML(text, key string) (place, bool, error) {
	want := strings.Split(strings.Trim(key, "/"), "/")
	attribute := ""
	if last := want[len(want)-1]; strings.HasPrefix(last, "@") {
		attribute, want = last[1:], want[:len(want)-1]
	}
	d := xml.NewDecoder(strings.NewReader(text))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil } // it was decoded before
	// elements of the path that are open, and all that are
	fits, depth := 0, 0
	var inside strings.Builder
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return place{}, false, nil
		}
		if err != nil {
			return place{}, false, fmt.Errorf("it is not XML: %w", err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			if fits == depth && fits < len(want) && t.Name.Local == want[fits] {
				fits++
				inside.Reset()
				if fits == len(want) && attribute != "" {
					for _, a := range t.Attr {
						if a.Name.Local == attribute {
							return place{value: strings.TrimSpace(a.Value)}, true, nil
						}
					}
				}
			}
			depth++
		case xml.CharData:
			if fits == len(want) {
				inside.Write(t)
			}
		case xml.EndElement:
			if depth == len(want) && fits == depth && attribute == "" {
				return place{value: strings.TrimSpace(inside.String())}, true, nil
			}
			depth--
			fits = min(fits, depth)
		}
	}
}
