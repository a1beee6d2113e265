package medium

import (
	"errors"
	"os"
)

func zero(*os.File, bool, int64, int64) error { return errors.ErrUnsupported }

// drop brings everything to the medium; that it is then read from memory cannot be helped here.
func drop(f *os.File, _, _ int64) error { return f.Sync() }

func ahead(*os.File, int64, int64) {}

func forget(*os.File) {}
