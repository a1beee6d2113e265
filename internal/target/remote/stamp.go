package remote

import (
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	"polytome/internal/target"
)

// Stamp is the stamp of a target whose folders have to be listed again for it; see [target.Place]. Dates of folders are
// left out: they change with what is in them, which is listed itself.
func Stamp(of []target.Entry, list func(dir string) ([]target.Entry, error)) (string, error) {
	h := fnv.New64a()
	dirs := []string{"."}
	for i := range of {
		if of[i].Folder {
			dirs = append(dirs, of[i].Path)
		}
	}
	for _, dir := range dirs {
		found, err := list(dir)
		if err != nil {
			return "", err
		}
		slices.SortFunc(found, func(a, b target.Entry) int { return strings.Compare(a.Path, b.Path) })
		for _, e := range found {
			modified := e.Modified.UnixNano()
			if e.Folder {
				modified = 0
			}
			fmt.Fprintf(h, "%s %t %d %d\n", e.Path, e.Folder, e.Size, modified)
		}
	}
	return fmt.Sprintf("%x", h.Sum64()), nil
}
