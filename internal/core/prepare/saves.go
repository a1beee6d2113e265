package prepare

import (
	"cmp"
	"context"
	"fmt"

	"polytome/internal/core/contents"
	"polytome/internal/core/loader"
	"polytome/internal/core/saves"
	"polytome/internal/drives"
	"polytome/internal/size"
	"polytome/internal/target"
)

// lost are the volumes that preparing the drive makes an end of, as far as they can be read here.
func (p *Plan) lost() (out []*drives.Volume) {
	for i := range p.Drive.Volumes {
		v := &p.Drive.Volumes[i]
		if (p.Part == 0 || v.Number == p.Part) && (v.Ours() && v.Filesystem != drives.Slab || len(v.MountedAt) > 0) {
			out = append(out, v)
		}
	}
	return out
}

// findSaves finds what players have reached on the drive: it is kept before anything else is done.
func (p *Plan) findSaves(ctx context.Context, sys drives.System, set *loader.Set) {
	for _, v := range p.lost() {
		_, found, err := p.savesOn(ctx, sys, v, set)
		if err != nil {
			p.Notes = append(p.Notes, fmt.Sprintf("whether there are saves on %s is not known: %v", volumeName(v), err))
		}
		p.Saves = append(p.Saves, found...)
	}
	p.set = set
}

func volumeName(v *drives.Volume) string { return cmp.Or(v.Label, "a volume without a name") }

// savesOn finds the saves of all loaders on a volume. The target is open where there are any.
func (p *Plan) savesOn(ctx context.Context, sys drives.System, v *drives.Volume, set *loader.Set) (t target.Target,
	out []saves.Save, err error) {
	if t, err = contents.Open(ctx, sys, p.Drive, v); err != nil || t == nil {
		return nil, nil, err
	}
	var bad error
	entries, err := t.List(ctx, func(path string, err error) { bad = fmt.Errorf("%s: %w", path, err) })
	if err = cmp.Or(err, bad); err != nil {
		_ = t.Close() // of which nothing was written
		return nil, nil, err
	}
	out = saves.FindAll(set.Profiles, func(*loader.Profile) string { return "" }, entries)
	if len(out) == 0 {
		return nil, nil, t.Close()
	}
	return t, out, nil
}

// keepSaves keeps the saves that are on the drive now.
func (p *Plan) keepSaves(ctx context.Context, sys drives.System) error {
	for _, v := range p.lost() {
		t, found, err := p.savesOn(ctx, sys, v, p.set)
		if err != nil {
			return err
		}
		if t == nil {
			continue
		}
		place := saves.Place{Target: t, Name: fmt.Sprintf("%s (%s, %s)", volumeName(v), v.Shown(), size.Format(v.Size)),
			ID:  fmt.Sprintf("%s#%d", cmp.Or(p.Drive.Serial, p.Drive.Path), v.Number),
			Why: "before the drive was prepared"}
		_, _, err = p.vault.Keep(ctx, place, found)
		if bad := t.Close(); err == nil {
			err = bad
		}
		if err != nil {
			return err
		}
	}
	return nil
}
