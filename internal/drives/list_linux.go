package drives

import (
	"context"
	"errors"
)

// mountedDrives is for systems that describe nothing else.
func (s System) mountedDrives(context.Context) ([]*Drive, error) {
	return nil, errors.New("this system does not list its drives; image files work anyway")
}
