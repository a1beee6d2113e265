// Package coretest makes the titles, images and profiles that the core's tests
// work on.
package coretest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing/fstest"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/format/iso9660"
	"polytome/internal/target"
)

// T is what plain tests, benchmarks, fuzz targets and property tests have in
// common.
type T interface {
	Helper()
	Fatalf(format string, args ...any)
}

// Set is everything that ships.
func Set(t T) *loader.Set {
	t.Helper()
	set, err := loader.Shipped()
	if err != nil {
		t.Fatalf("%v", err)
	}
	return set
}

// Rowan is the shipped profile for Rowan.
func Rowan(t T) *loader.Profile {
	t.Helper()
	p, err := Set(t).Profile("rowan")
	if err != nil {
		t.Fatalf("%v", err)
	}
	return p
}

// Profile is a shipped profile.
func Profile(t T, name string) *loader.Profile {
	t.Helper()
	p, err := Set(t).Profile(name)
	if err != nil {
		t.Fatalf("%v", err)
	}
	return p
}

// Target is where a profile's titles go over a connection, on a filesystem.
func Destination(t T, p *loader.Profile, via, filesystem string) layout.Destination {
	t.Helper()
	fs, err := target.FilesystemNamed(filesystem)
	if err != nil {
		t.Fatalf("%v", err)
	}
	return layout.Destination{Attachment: p.Attachment(via, filesystem), Filesystem: fs}
}

// Vesper is a sound title of one disc with the ID VSP-number. Its file does not
// exist.
func Vesper(number int, name, kind string, size int64) title.Title {
	id := fmt.Sprintf("VSP-%05d", number)
	return title.Title{Key: id, Platform: "vesper", Form: title.Image, ID: id, Name: name, Of: 1,
		Discs: []title.Disc{{Number: 1, ID: id, Kind: kind, File: title.File{Path: "/games/" + name + ".iso",
			Size: size}}}}
}

// Inf is the text of a VESPER.INF.
func Inf(id, name, disc, kind string) string {
	return fmt.Sprintf("ID=%s\nNAME=%s\nREGION=N\nDISC=%s\nKIND=%s\n", id, name, disc, kind)
}

// Image is a small image with the given VESPER.INF; "" leaves that out.
func Image(t T, inf string) []byte {
	t.Helper()
	src := fstest.MapFS{"DATA.BIN": {Data: bytes.Repeat([]byte("data"), 2000)}}
	if inf != "" {
		src["VESPER.INF"] = &fstest.MapFile{Data: []byte(inf)}
	}
	im, err := iso9660.Lay(src, iso9660.Options{})
	if err != nil {
		t.Fatalf("%v", err)
	}
	var b bytes.Buffer
	if _, err := im.WriteTo(&b); err != nil {
		t.Fatalf("%v", err)
	}
	return b.Bytes()
}

// WharfHouse is the profile of a loader that plays cartridges from a stick: with a path for them, what it is named (as
// TOML has it), and more lines.
func WharfHouse(path, shown, more string) string {
	return fmt.Sprintf(`format = 1
name = "wharf-house"
shown = %s
console = "Tern"
about = "plays cartridges"
list-order = ["title"]

[[attachment]]
name = "stick"
via = "usb"
filesystems = ["fat32"]

[[accept]]
platforms = ["wren8"]
forms = ["cartridge"]
path = %q
why = "as it is"

[[checklist]]
say = "Restart it"
%s`, shown, path, more)
}

// Write writes a file below dir, and the folders above it.
func Write(t T, dir, name string, data []byte) {
	t.Helper()
	file := filepath.Join(dir, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		t.Fatalf("%v", err)
	}
	if err := os.WriteFile(file, data, 0o644); err != nil {
		t.Fatalf("%v", err)
	}
}

// Bytes are what a run writes for an item of a tree.
func Bytes(t T, item *layout.Item) []byte {
	t.Helper()
	o := &source.Opener{}
	defer o.Close()
	c, err := o.Make(context.Background(), &item.Spec)
	if errors.Is(err, shape.ErrNotNeeded) {
		return nil
	}
	if err != nil {
		t.Fatalf("%s: %v", item.Path, err)
	}
	defer c.Close()
	var out []byte
	for b := make([]byte, 1<<20); ; {
		n, err := c.ReadAt(b, int64(len(out)))
		out = append(out, b[:n]...)
		if errors.Is(err, io.EOF) {
			return out
		}
		if err != nil {
			t.Fatalf("%s: %v", item.Path, err)
		}
	}
}

// Siskin is a small image of a siskin game.
func Siskin(t T, id, name string) []byte {
	t.Helper()
	return volume(t, "", "SISKIN.TXT", id+"\r\n"+name+"\r\n")
}

// Volume is a small image with a volume identifier.
func Volume(t T, identifier string) []byte {
	t.Helper()
	return volume(t, identifier, "TRACK.DAT", "data")
}

func volume(t T, identifier, name, text string) []byte {
	t.Helper()
	b, err := demo.Volume(identifier, name, []byte(text))
	if err != nil {
		t.Fatalf("%v", err)
	}
	return b
}
