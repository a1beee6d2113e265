// Package container opens whatever holds other files: disc images with ISO 9660 or UDF, plain
// or of raw sectors, cue sheets, and archives. What is in them is an [io/fs.FS].
package container

import (
	"errors"
	"io"
	"io/fs"

	"polytome/internal/format/fstree"
	"polytome/internal/format/iso9660"
	"polytome/internal/format/sectors"
	"polytome/internal/format/udf"
)

// A Volume is a filesystem in an image.
type Volume struct {
	fs.FS
	Kind       string // "ISO 9660" or "UDF"
	Identifier string
	Declared   int64 // bytes that it says it has
	// Where tells the runs of bytes in the image that a file is in; those at negative
	// offsets are zeros that are not stored.
	Where func(name string) ([]fstree.Extent, error)
}

// An Image is what is in a disc image: one volume, or two beside one another (a bridge).
type Image struct {
	Volumes []Volume
	Raw     bool  // it consists of raw sectors
	Size    int64 // of the data that the volumes lie in
}

// OpenImage opens what volumes there are in the size bytes of r. None is no error; damage to one
// is an error only when there is no other. Read are descriptors only.
func OpenImage(r io.ReaderAt, size int64) (Image, error) {
	im := Image{Size: size}
	if sector, offset, ok := sectors.Detect(r, size); ok {
		user := sectors.New(r, size, sector, offset, 0)
		r, im.Size, im.Raw = user, user.Size(), true
	}
	iso, isoErr := iso9660.Open(r, im.Size)
	if isoErr == nil {
		im.Volumes = append(im.Volumes, ofISO(iso))
	}
	udfErr := udf.ErrNotUDF
	if udf.Recognised(r, im.Size) {
		var u *udf.Volume
		if u, udfErr = udf.Open(r, im.Size); udfErr == nil {
			im.Volumes = append(im.Volumes, Volume{u, "UDF", u.Identifier, u.DeclaredSize(), u.Where})
		}
	}
	if len(im.Volumes) > 0 {
		return im, nil
	}
	if !errors.Is(isoErr, iso9660.ErrNotISO) {
		return im, isoErr
	}
	if !errors.Is(udfErr, udf.ErrNotUDF) {
		return im, udfErr
	}
	return im, nil
}

func ofISO(v *iso9660.Volume) Volume {
	return Volume{v, "ISO 9660", v.Identifier, v.DeclaredSize(), v.Where}
}

// Damaged tells damage in an image from a disk that cannot be read.
func Damaged(err error) bool {
	var iso *iso9660.FormatError
	var u *udf.FormatError
	return errors.As(err, &iso) || errors.As(err, &u) || errors.Is(err, io.ErrUnexpectedEOF)
}
