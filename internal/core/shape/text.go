package shape

import (
	"encoding/base64"
	"strings"
	"unicode/utf8"
)

// A Text is what a file holds: a text as people read it, or any bytes. Files of TOML and JSON hold texts only, so other
// bytes stand in them in base64 (RFC 4648, 4), behind a word that says so.
type Text string

const inBase64 = "base64:"

// MarshalText writes the text, or its bytes.
func (t Text) MarshalText() ([]byte, error) {
	if utf8.ValidString(string(t)) && !strings.HasPrefix(string(t), inBase64) {
		return []byte(t), nil
	}
	return base64.StdEncoding.AppendEncode([]byte(inBase64), []byte(t)), nil
}

// UnmarshalText reads either.
func (t *Text) UnmarshalText(b []byte) error {
	coded, is := strings.CutPrefix(string(b), inBase64)
	if !is {
		*t = Text(b)
		return nil
	}
	raw, err := base64.StdEncoding.DecodeString(coded)
	*t = Text(raw)
	return err
}
