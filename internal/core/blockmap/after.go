package blockmap

import (
	"context"
	"fmt"

	"polytome/internal/core/loader"
	"polytome/internal/drives"
	"polytome/internal/format/volume"
)

// AfterDefragmenting is the map of a volume as it will be when every file that is fragmented was brought into one,
// found by doing so on a copy in memory. left says which files stay as they are, and why. The volume itself is not
// changed.
func AfterDefragmenting(ctx context.Context, v *volume.Volume, set *loader.Set) (m *Map, left []string, err error) {
	r, err := drives.Rehearse(v)
	if err != nil {
		return nil, nil, err
	}
	now, err := Read(ctx, r, set)
	if err != nil {
		return nil, nil, err
	}
	for _, f := range now.Fragmented() {
		if _, err := r.Defragment(ctx, f.Path, true, nil); err != nil {
			if ctx.Err() != nil {
				return nil, nil, ctx.Err()
			}
			left = append(left, fmt.Sprintf("%s stays fragmented: %v.", f.Path, err))
		}
	}
	m, err = Read(ctx, r, set)
	return m, left, err
}
