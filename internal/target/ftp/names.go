package ftp

import (
	"fmt"
	"strings"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/htmlindex"

	"polytome/internal/target"
)

// naming is how a server spells names.
type naming struct {
	enc  encoding.Encoding // nil for UTF-8
	name string
}

func namingOf(name string) (naming, error) {
	if name == "" || strings.EqualFold(name, "utf-8") || strings.EqualFold(name, "utf8") {
		return naming{}, nil
	}
	e, err := htmlindex.Get(name)
	if err != nil {
		return naming{}, fmt.Errorf("unknown encoding %q; use one such as latin1, windows-1252 or shift_jis", name)
	}
	return naming{e, name}, nil
}

// check says why a name cannot be spelt.
func (n naming) check(name string) error {
	if n.enc == nil {
		return nil
	}
	if _, err := n.enc.NewEncoder().String(name); err != nil {
		return fmt.Errorf("the console's encoding %s lacks a character of %q", n.name, name)
	}
	return nil
}

// encode spells a name that was checked.
func (n naming) encode(name string) string {
	if n.enc == nil {
		return name
	}
	s, err := n.enc.NewEncoder().String(name)
	if err != nil {
		return name
	}
	return s
}

func (n naming) decode(name string) string {
	if n.enc == nil {
		return name
	}
	s, err := n.enc.NewDecoder().String(name)
	if err != nil {
		return name
	}
	return s
}

// Where files get no other names, one is written under its own, and an empty file beside it says that it is half.
const markerSuffix = ".half"

func markerOf(name string) string {
	return strings.TrimSuffix(target.TemporaryName(name), target.TemporarySuffix) + markerSuffix
}

func isMarker(name string) bool {
	stem, ok := strings.CutSuffix(name, markerSuffix)
	return ok && target.IsTemporary(stem+target.TemporarySuffix)
}
