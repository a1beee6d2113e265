package intake

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"polytome/internal/core/title"
	"polytome/internal/format/fstree"
	"polytome/internal/format/iso9660"
	"polytome/internal/format/sectors"
	"polytome/internal/format/udf"
	"polytome/internal/size"
)

// volume is a filesystem in an image.
type volume struct {
	fs.FS
	identifier string
	declared   int64 // bytes
	where      func(name string) ([]fstree.Extent, error)
}

// volumes are the filesystems in an image: one, or two beside one another (a bridge).
type volumes struct {
	found []volume
	raw   bool  // it consists of raw sectors
	size  int64 // of the data that the volumes lie in
}

// openVolumes opens what filesystems there are. None is no error; damage to one is an error only
// when there is no other.
func openVolumes(r io.ReaderAt, size int64) (volumes, error) {
	all := volumes{size: size}
	if sector, offset, ok := sectors.Detect(r, size); ok {
		user := sectors.New(r, size, sector, offset, 0)
		r, all.size, all.raw = user, user.Size(), true
	}
	iso, isoErr := iso9660.Open(r, all.size)
	if isoErr == nil {
		all.found = append(all.found, volume{iso, iso.Identifier, iso.DeclaredSize(), iso.Where})
	}
	udfErr := udf.ErrNotUDF
	if udf.Recognised(r, all.size) {
		var u *udf.Volume
		if u, udfErr = udf.Open(r, all.size); udfErr == nil {
			all.found = append(all.found, volume{u, u.Identifier, u.DeclaredSize(), u.Where})
		}
	}
	if len(all.found) > 0 {
		return all, nil
	}
	if !errors.Is(isoErr, iso9660.ErrNotISO) {
		return all, isoErr
	}
	if !errors.Is(udfErr, udf.ErrNotUDF) {
		return all, udfErr
	}
	return all, nil
}

// damaged tells damage in an image from a disk that cannot be read.
func damaged(err error) bool {
	var iso *iso9660.FormatError
	var u *udf.FormatError
	return errors.As(err, &iso) || errors.As(err, &u) || errors.Is(err, io.ErrUnexpectedEOF)
}

// Limits of the first look at an image.
const (
	maxFolders = 64
	maxEntries = 4000
	padding    = int64(1) << 20 // more bytes than this after the volume's end are told
)

// check compares what the volumes tell of themselves with the image's length, and looks at their
// folders. Read are structures only.
func (v *volumes) check(fileSize int64) (out []title.Finding) {
	var declared int64
	for _, x := range v.found {
		declared = max(declared, x.declared)
	}
	switch {
	case declared > v.size:
		return []title.Finding{fault(
			fmt.Sprintf("the image is cut short: its volume has %s, and the file only %s", size.Format(declared), size.Format(v.size)),
			fmt.Sprintf("%s are missing at the end; fetch or copy it again", size.Format(declared-v.size)))}
	case v.size-declared > padding:
		out = append(out, note(fmt.Sprintf("the file has %s more than its volume: padding at the end", size.Format(v.size-declared))))
	}
	if v.raw {
		out = append(out, note("the image has raw sectors of 2352 bytes, and no cue sheet beside it"))
	}
	if f := v.folders(); f != nil {
		out = append(out, *f)
	}
	return out
}

// folders goes through the first folders of the first volume. It returns what cannot be right.
func (v *volumes) folders() (found *title.Finding) {
	vol := v.found[0]
	dirs, entries := 0, 0
	_ = fs.WalkDir(vol, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			f := fault(fmt.Sprintf("its folder %s cannot be read: %s", name, plain(err)), again)
			found = &f
			return fs.SkipAll
		}
		if d.IsDir() {
			dirs++
		} else if runs, err := vol.where(name); err == nil {
			for _, e := range runs {
				if e.At+e.Length > v.size {
					f := fault(fmt.Sprintf("%s in it reaches past the end of the image", name), again)
					found = &f
					return fs.SkipAll
				}
			}
		}
		if entries++; dirs > maxFolders || entries > maxEntries {
			return fs.SkipAll
		}
		return nil
	})
	return found
}

// plain takes the operation and path off an error.
func plain(err error) string {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		err = pe.Err
	}
	return strings.TrimSuffix(err.Error(), ".")
}

func note(say string) title.Finding { return title.Finding{Grade: title.Note, Say: say} }
