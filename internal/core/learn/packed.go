package learn

import (
	"context"
	"path"
	"slices"
	"strings"

	"polytome/internal/format/joined"
	"polytome/internal/format/packed"
	"polytome/internal/target"
)

// unpacked is the image that a packed one holds, as the content of a file.
type unpacked struct {
	*packed.Image
	files []target.Content
}

// Data is all of it: what was left out is not worth looking for.
func (u *unpacked) Data(off int64) (start, end int64) { return off, u.Size() }

func (u *unpacked) Close() (err error) {
	for _, f := range u.files {
		_ = f.Close() // which was read from
	}
	return u.Image.Close()
}

// packedImages finds the images on a target that are packed, by their first files: each with all its files. Where the
// first file of an extension is none, the others are not opened.
func packedImages(ctx context.Context, p target.Target, entries []target.Entry) (out map[string][]string, err error) {
	out = map[string][]string{}
	none, size := map[string]bool{}, map[string]int64{}
	for _, e := range entries {
		if !e.Folder {
			size[e.Path] = e.Size
		}
	}
	var parts []string
	for _, e := range entries {
		ext := strings.ToLower(path.Ext(e.Path))
		if e.Folder || ext == "" || none[ext] || e.Size < packed.Smallest || target.IsTemporary(e.Path) ||
			slices.Contains(parts, e.Path) {
			continue
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		files := []string{e.Path}
		for n := 2; ; n++ {
			part := packed.PartName(e.Path, n)
			if _, ok := size[part]; !ok {
				break
			}
			files = append(files, part)
		}
		u, err := openPacked(ctx, p, files)
		if err != nil { // it is none, or nothing can be read of it
			none[ext] = len(out) == 0
			continue
		}
		_ = u.Close() // which was read from
		out[e.Path] = files
		parts = append(parts, files[1:]...)
	}
	return out, nil
}

// openPacked opens the image that files hold together.
func openPacked(ctx context.Context, p target.Target, files []string) (*unpacked, error) {
	u := &unpacked{}
	var all []joined.Part
	for _, name := range files {
		f, err := p.Open(ctx, name)
		if err != nil {
			for _, f := range u.files {
				_ = f.Close()
			}
			return nil, err
		}
		u.files = append(u.files, f)
		all = append(all, joined.Part{ReaderAt: f, Size: f.Size()})
	}
	r := joined.New(all...)
	im, err := packed.Open(r, r.Size())
	if err != nil {
		for _, f := range u.files {
			_ = f.Close()
		}
		return nil, err
	}
	u.Image = im
	return u, nil
}
