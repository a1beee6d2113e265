// Package volumetree shows what is on a FAT or exFAT volume as the entries of a target.
package volumetree

import (
	"context"
	"slices"
	"strings"

	"polytome/internal/format/volume"
	"polytome/internal/target"
)

// A Volume is one whose files and folders can be gone through.
type Volume interface {
	Each(ctx context.Context, see func(path string, n *volume.Node), problem func(path string, err error)) error
}

// Entry is a file or folder of a volume.
func Entry(name string, n *volume.Node) target.Entry {
	e := target.Entry{Path: name, Folder: n.Folder, Modified: n.Modified}
	if !n.Folder {
		e.Size = n.Size
	}
	return e
}

// List goes through the folders of a volume. It returns what could be read, sorted by path.
func List(ctx context.Context, v Volume, problem func(string, error)) ([]target.Entry, error) {
	var out []target.Entry
	err := v.Each(ctx, func(name string, n *volume.Node) { out = append(out, Entry(name, n)) }, problem)
	slices.SortFunc(out, func(a, b target.Entry) int { return strings.Compare(a.Path, b.Path) })
	return out, err
}
