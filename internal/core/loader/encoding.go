package loader

import (
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/unicode"
)

// encodings are those of [Encodings] that are not UTF-8 or a part of it.
var encodings = map[string]encoding.Encoding{"latin-1": charmap.ISO8859_1, "shift-jis": japanese.ShiftJIS,
	"utf-16le": unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM),
	"utf-16be": unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM)}

// TextEncoding is how texts of that name are written; [unicode.UTF8] for "", ascii and utf-8.
func TextEncoding(name string) encoding.Encoding {
	if e, ok := encodings[name]; ok {
		return e
	}
	return unicode.UTF8
}
