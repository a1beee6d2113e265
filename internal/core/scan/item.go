package scan

import (
	"slices"
	"strings"
	"time"

	"github.com/zeebo/xxh3"

	"polytome/internal/core/title"
)

// item is one entry of a folder on disk.
type item struct {
	name     string
	kind     kind
	size     int64
	modified int64  // Unix time in nanoseconds
	inode    uint64 // 0 where it is not known
	device   uint64
}

type kind byte

const (
	isOther kind = iota // pipes, sockets, devices
	isFile
	isFolder
	isLink
)

func sortItems(all []item) {
	slices.SortFunc(all, func(a, b item) int { return strings.Compare(a.name, b.name) })
}

// find returns the item of that name in a sorted list.
func find(all []item, name string) *item {
	if i, ok := slices.BinarySearchFunc(all, name,
		func(it item, n string) int { return strings.Compare(it.name, n) }); ok {
		return &all[i]
	}
	return nil
}

// same reports whether a file is as it was.
func (it *item) same(was *item) bool {
	return it.kind == was.kind && it.size == was.size && it.modified == was.modified && (it.inode == was.inode ||
		it.inode == 0 || was.inode == 0)
}

func (it *item) file(path string) title.File {
	return title.File{Path: path, Size: it.size, Modified: time.Unix(0, it.modified)}
}

// stamp sums up a listing: it changes when anything in the folder does.
func stamp(all []item) uint64 {
	b := make([]byte, 0, 64*len(all))
	for i := range all {
		it := &all[i]
		b = append(append(b, it.name...), 0, byte(it.kind))
		b = word(word(word(b, uint64(it.size)), uint64(it.modified)), it.inode)
	}
	return xxh3.Hash(b)
}

// signOf sums up what a folder takes along when it is moved: its files' names, lengths
// and dates.
func signOf(all []item) uint64 {
	b := make([]byte, 0, 48*len(all))
	for i := range all {
		if it := &all[i]; it.kind == isFile {
			b = word(word(append(append(b, it.name...), 0), uint64(it.size)), uint64(it.modified))
		}
	}
	return xxh3.Hash(b)
}

func word(b []byte, v uint64) []byte {
	return append(b, byte(v), byte(v>>8), byte(v>>16), byte(v>>24), byte(v>>32), byte(v>>40), byte(v>>48), byte(v>>56))
}
