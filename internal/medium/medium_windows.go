package medium

import (
	"errors"
	"os"

	"polytome/internal/rawdisk"
	"polytome/internal/sparse"
)

// zero has the system make zeros of bytes of an image, and a hole where it may have some.
func zero(f *os.File, device bool, off, n int64) error {
	if device || sparse.Zero(f, off, n) != nil {
		return errors.ErrUnsupported
	}
	return nil
}

// drop brings everything to the medium, and has the system forget it.
func drop(f *os.File, _, _ int64) error {
	if err := f.Sync(); err != nil {
		return err
	}
	rawdisk.Forget(f.Name())
	return nil
}

func ahead(*os.File, int64, int64) {}

func forget(*os.File) {}
