package sim

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf16"

	"polytome/internal/format/iso9660"
)

// This file holds what the consoles find when they start a game: why it does not start, "" when it does.

// magics are how games begin that have a header.
var magics = map[string]string{"wren8": "WREN", "heron16": "HERN", "finch": "FNCH", "kestrel64": "KSTR",
	"skua": "SKUADISC", "skua-first": "SKUA-ONE"}

// readerAt opens a file for reading at any offset.
func readerAt(fsys fs.FS, name string) (r io.ReaderAt, size int64, done func() error, err error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, 0, nil, err
	}
	info, err := f.Stat()
	r, ok := f.(io.ReaderAt)
	if err == nil && !ok {
		err = errors.New("it cannot be read at any target")
	}
	if err != nil {
		_ = f.Close()
		return nil, 0, nil, err
	}
	return r, info.Size(), f.Close, nil
}

// gameWhy tries a file as a game of a platform.
func gameWhy(fsys fs.FS, name, platform string) string {
	r, size, done, err := readerAt(fsys, name)
	if err != nil {
		return err.Error()
	}
	defer done()
	if strings.EqualFold(path.Ext(name), ".zip") {
		return zipWhy(r, size, platform)
	}
	return bytesWhy(r, size, platform)
}

func bytesWhy(r io.ReaderAt, size int64, platform string) string {
	if size == 0 {
		return "it has no bytes"
	}
	switch platform {
	case "vesper":
		return vesperWhy(r, size, "", "")
	case "siskin":
		return siskinWhy(r, size)
	case "corvane":
		return corvaneImageWhy(r, size)
	case "skua", "skua-first":
		return skuaWhy(r, size, platform, "")
	}
	return cartridgeWhy(r, platform)
}

// cartridgeWhy tries a cartridge: its header, and the sum of it. Those without a header must not have another's.
func cartridgeWhy(r io.ReaderAt, platform string) string {
	b := make([]byte, 0x40)
	n, _ := r.ReadAt(b, 0)
	want, has := magics[platform]
	if !has {
		for other, magic := range magics {
			if strings.HasPrefix(string(b[:n]), magic) {
				return "it is of the " + other
			}
		}
		volume := make([]byte, 5)
		if k, _ := r.ReadAt(volume, 16*2048+1); k == 5 && string(volume) == "CD001" {
			return "it is an image"
		}
		return ""
	}
	if n < len(b) || string(b[:4]) != want {
		return "it does not begin as a cartridge of the " + platform
	}
	var sum uint16
	for _, c := range b[:0x3E] {
		sum += uint16(c)
	}
	switch {
	case sum != uint16(b[0x3E])|uint16(b[0x3F])<<8:
		return "the sum of its header is wrong"
	case strings.TrimRight(string(b[0x10:0x28]), "\x00 ") == "":
		return "its header has no name"
	}
	return ""
}

// zipWhy tries a zip: exactly one game of the platform must be in it.
func zipWhy(r io.ReaderAt, size int64, platform string) string {
	head := make([]byte, 4)
	if _, err := r.ReadAt(head, 0); err != nil || string(head[:2]) != "PK" {
		return "it is not a zip file"
	}
	z, err := zip.NewReader(r, size)
	if err != nil {
		return "it is not a zip file"
	}
	var games []*zip.File
	for _, f := range z.File {
		system := slices.ContainsFunc(strings.Split(f.Name, "/"), leftBySystem)
		if extOf(platform, path.Ext(f.Name)) && !system {
			games = append(games, f)
		}
		if in, err := f.Open(); err == nil { // it must be whole
			_, err = io.Copy(io.Discard, in)
			_ = in.Close()
			if err != nil {
				return "what is in it is damaged"
			}
		}
	}
	if len(games) != 1 {
		return fmt.Sprintf("%d games of the %s are in it", len(games), platform)
	}
	in, err := games[0].Open()
	if err != nil {
		return "what is in it cannot be read"
	}
	defer in.Close()
	b, err := io.ReadAll(in)
	if err != nil {
		return "what is in it is damaged"
	}
	return bytesWhy(bytes.NewReader(b), int64(len(b)), platform)
}

// extensions are those of the platforms that are no cartridges.
var extensions = map[string][]string{
	"vesper": {".iso"}, "corvane": {".iso"}, "siskin": {".iso"}, "skua": {".skd"}, "skua-first": {".sk1"},
	"lapwing": {".cue"}, "meridian": {".mdp"}, "dulcimer": {".lha"},
}

// extOf reports whether a file's extension is one of a platform's.
func extOf(platform, ext string) bool {
	if e, ok := cartridges[platform]; ok {
		return strings.EqualFold(e, ext)
	}
	for _, e := range extensions[platform] {
		if strings.EqualFold(e, ext) {
			return true
		}
	}
	return false
}

// root opens the volume of an image and reads a file at its root.
func root(r io.ReaderAt, size int64, name string) (text []byte, why string) {
	v, err := iso9660.Open(r, size)
	if err != nil {
		return nil, "there is no volume in it"
	}
	if v.DeclaredSize() > size {
		return nil, "it is cut short"
	}
	entries, err := v.ReadDir(".")
	if err != nil {
		return nil, "its root cannot be read"
	}
	for _, e := range entries {
		if strings.EqualFold(e.Name(), name) && !e.IsDir() {
			b, err := fs.ReadFile(v, e.Name())
			if err != nil {
				return nil, name + " in it cannot be read"
			}
			return b, ""
		}
	}
	return nil, "there is no " + name + " in it"
}

var (
	vesperID   = regexp.MustCompile(`(?i)^VSP-[0-9]{5}$`)
	siskinID   = regexp.MustCompile(`^SK-[0-9]{4}$`)
	meridianID = regexp.MustCompile(`^MRD-[0-9]{4}$`)
)

// vesperWhy tries a Vesper image; an empty ID or kind takes any.
func vesperWhy(r io.ReaderAt, size int64, id, kind string) string {
	inf, why := root(r, size, "VESPER.INF")
	if why != "" {
		return why
	}
	says := keyLines(string(inf))
	switch {
	case !vesperID.MatchString(says["ID"]) || says["NAME"] == "":
		return "it does not tell its ID and name"
	case says["KIND"] != "short" && says["KIND"] != "full":
		return "it does not tell what kind of disc it is"
	case id != "" && !strings.EqualFold(says["ID"], id):
		return "it holds " + says["ID"]
	case kind != "" && says["KIND"] != kind:
		return fmt.Sprintf("it is a %s disc in the folder for %s ones", says["KIND"], kind)
	}
	return ""
}

func siskinWhy(r io.ReaderAt, size int64) string {
	b, why := root(r, size, "siskin.txt")
	if why != "" {
		return why
	}
	lines := strings.Split(string(b), "\n")
	if !siskinID.MatchString(strings.TrimSpace(lines[0])) || len(lines) < 2 || strings.TrimSpace(lines[1]) == "" {
		return "it does not tell its ID and name"
	}
	return ""
}

func corvaneImageWhy(r io.ReaderAt, size int64) string {
	b, why := root(r, size, "main.run")
	if why != "" {
		return why
	}
	return mainRunWhy(b)
}

// mainRunWhy tries the program of a Corvane game.
func mainRunWhy(b []byte) string {
	if len(b) < 0x60+40 {
		return "main.run is too short"
	}
	if until0(b[0x30:0x38]) == "" {
		return "main.run has no ID"
	}
	var units []uint16
	for i := 0x60; i < 0x60+40; i += 2 {
		u := uint16(b[i]) | uint16(b[i+1])<<8
		if u == 0 {
			break
		}
		units = append(units, u)
	}
	if strings.TrimSpace(string(utf16.Decode(units))) == "" {
		return "main.run has no name"
	}
	return ""
}

// until0 is a text of fixed length, up to its first zero.
func until0(b []byte) string {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	return strings.TrimSpace(string(b))
}

// skuaWhy tries a Skua image; an empty ID takes any.
func skuaWhy(r io.ReaderAt, size int64, platform, id string) string {
	b := make([]byte, 0x70)
	if n, _ := r.ReadAt(b, 0); n < len(b) || string(b[:8]) != magics[platform] {
		return "there is no disc of the " + platform + " in it"
	}
	got := until0(b[0x10:0x18])
	switch {
	case got == "" || until0(b[0x40:0x70]) == "":
		return "the disc does not tell its ID and name"
	case id != "" && !strings.EqualFold(got, id):
		return "the disc in it has another ID"
	case platform == "skua" && size-0x8000 < ((size+2047)/2048+7)/8:
		return "it ends in its bitmap"
	}
	return ""
}

// titleJSON tries the file by which Meridian games are known.
func titleJSON(b []byte, id string) string {
	var all map[string]json.RawMessage
	if json.Unmarshal(bytes.TrimPrefix(b, []byte("\uFEFF")), &all) != nil {
		return "TITLE.JSON cannot be understood"
	}
	text := func(key string) string {
		var s string
		if json.Unmarshal(all[key], &s) != nil {
			s = string(all[key]) // a number stands for a text
		}
		return strings.TrimSpace(s)
	}
	switch {
	case !meridianID.MatchString(text("id")) || text("name") == "":
		return "TITLE.JSON does not tell ID and name"
	case id != "" && !strings.EqualFold(text("id"), id):
		return "it is " + text("id")
	}
	return ""
}
