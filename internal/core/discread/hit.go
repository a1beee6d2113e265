package discread

import (
	"io"
	"io/fs"
	"slices"

	"polytome/internal/format/container"
	"polytome/internal/format/sectors"
)

// mostHit is how many files are named at most.
const mostHit = 1000

// Hit are the files of an image in which there are blocks that are not good, sorted. Of whole sectors, it is given the
// ones of the first data track. Where the filesystem itself cannot be read, there are none.
func Hit(image io.ReaderAt, b *Blocks) (out []string) {
	size := b.Size * b.Count
	if b.Size == sectors.Raw {
		image = sectors.New(image, size, sectors.Raw, 16, 0)
		size = b.Count * sectors.UserData
	}
	in, err := container.OpenImage(image, size)
	if err != nil || len(in.Volumes) == 0 {
		return nil
	}
	v := in.Volumes[0]
	_ = fs.WalkDir(v, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return nil // folders that cannot be read are left out
		}
		runs, err := v.Where(name)
		if err != nil {
			return nil
		}
		for _, r := range runs {
			if r.At >= 0 && b.lacks(r.At/sectors.UserData, (r.At+r.Length+sectors.UserData-1)/sectors.UserData) {
				out = append(out, name)
				break
			}
		}
		if len(out) >= mostHit {
			return fs.SkipAll
		}
		return nil
	})
	slices.Sort(out)
	return out
}

// lacks reports whether any of the blocks up to end are not good.
func (b *Blocks) lacks(first, end int64) bool {
	for _, s := range b.Spans {
		if s.State != Good && s.First < end && s.End() > first {
			return true
		}
	}
	return false
}
