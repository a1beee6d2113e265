package layout

import (
	"encoding/binary"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
)

// Decoded is a text of the target as people read it, whatever encoding it is written in; "" for UTF-8.
func Decoded(encoding, text string) string {
	if encoding == "" {
		return text
	}
	out, err := loader.TextEncoding(encoding).NewDecoder().String(text)
	if err != nil {
		return text
	}
	return strings.TrimPrefix(out, "\uFEFF")
}

// Encoded is a text as it is on the target, "" for UTF-8; what the encoding lacks is a question mark.
func Encoded(encoding string, text []byte) []byte {
	if encoding == "" {
		return text
	}
	if encoding != "ascii" {
		if out, err := loader.TextEncoding(encoding).NewEncoder().Bytes(text); err == nil {
			return out
		}
	}
	var out []byte
	for _, r := range string(text) {
		out = append(out, character(encoding, r)...)
	}
	return out
}

// encode writes a value into its field of a record. What is too long is cut between
// characters.
func encode(into []byte, f *loader.RecordField, value string) {
	for i := range into {
		into[i] = byte(f.Fill)
	}
	switch f.Encoding {
	case "number-le", "number-be":
		n, _ := strconv.ParseUint(value, 10, 64)
		var le [8]byte
		binary.LittleEndian.PutUint64(le[:], n)
		for i := range into {
			at := i
			if f.Encoding == "number-be" {
				at = len(into) - 1 - i
			}
			into[at] = 0
			if i < 8 {
				into[at] = le[i]
			}
		}
	default:
		at := 0
		for _, r := range value {
			c := character(f.Encoding, r)
			if at+len(c) > len(into) {
				return
			}
			at += copy(into[at:], c)
		}
	}
}

// character is one as an encoding writes it; a question mark where it has none such.
func character(encoding string, r rune) string {
	to := loader.TextEncoding(encoding).NewEncoder()
	c, err := to.String(string(r))
	if err != nil || encoding == "ascii" && r > 0x7F {
		to.Reset()
		c, _ = to.String("?")
	}
	return c
}
