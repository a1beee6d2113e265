package survey

import (
	"context"
	"errors"
	"slices"

	"polytome/internal/core/layout"
	"polytome/internal/core/scan"
	"polytome/internal/core/shape"
	"polytome/internal/format/joined"
	"polytome/internal/format/packed"
	"polytome/internal/target"
)

// settlePacked finds packed images that are on the target already. What was known of their size was the most that
// it could be; now it is exact, and parts that were not needed are none of the title any longer. A packed image of
// something else is noted as such. The tree gets placements of its own for that, as those that it has may be shared.
func (s *Survey) settlePacked(ctx context.Context, tree *layout.Tree) {
	if len(s.There) == 0 || s.Away != nil {
		return
	}
	var present map[string]target.Entry
	var p target.Target
	own := false
	for i := range tree.Placements {
		pl := &tree.Placements[i]
		for k := 0; k < len(pl.Items); k++ { // parts that were not needed go
			if it := &pl.Items[k]; it.Shape != shape.Pack || it.Offset > 0 {
				continue
			}
			if present == nil {
				present = make(map[string]target.Entry, len(s.There))
				for _, e := range s.There {
					if !e.Folder {
						present[s.Facts.Filesystem.Fold(e.Path)] = e
					}
				}
			}
			if _, ok := present[s.Facts.Filesystem.Fold(pl.Items[k].Path)]; !ok {
				continue
			}
			if p == nil {
				var err error
				if p, err = s.Open(ctx); err != nil {
					return
				}
				defer p.Close()
			}
			if !own {
				tree.Own()
				own, pl = true, &tree.Placements[i]
			}
			pl.Items = slices.Clone(pl.Items)
			s.settleOne(ctx, p, present, pl, i, k)
		}
	}
}

// settleOne looks into the packed image whose first part is item k of a placement.
func (s *Survey) settleOne(ctx context.Context, p target.Target, present map[string]target.Entry, pl *layout.Placement,
	title, k int) {
	lead := &pl.Items[k]
	last := k + 1
	for last < len(pl.Items) && pl.Items[last].Shape == shape.Pack && pl.Items[last].Disc == lead.Disc {
		last++
	}
	var parts []joined.Part
	var there []target.Entry
	for n := k; n < last; n++ {
		e, ok := present[s.Facts.Filesystem.Fold(pl.Items[n].Path)]
		if !ok || e.Size > pl.Items[n].Size {
			break
		}
		c, err := p.Open(ctx, e.Path)
		if err != nil {
			return
		}
		defer c.Close()
		parts, there = append(parts, joined.Part{ReaderAt: c, Size: c.Size()}), append(there, e)
	}
	if len(parts) == 0 {
		return
	}
	all := joined.New(parts...)
	im, err := packed.Open(all, all.Size())
	var damage *packed.FormatError
	if errors.As(err, &damage) && len(parts) < last-k {
		return // a run that was interrupted resumes the parts that are missing
	}
	same := false
	if err == nil {
		defer im.Close()
		sign := s.Titles[title].Discs[lead.Disc].Sign
		is, err := scan.Sign(im, im.Size())
		same = im.Size() == lead.Source.Size && (sign == "" || err == nil && is == sign)
	}
	if !same {
		s.strange[there[0].Path] = true
		return
	}
	for n, e := range there {
		pl.Items[k+n].Size, pl.Items[k+n].AtMost = e.Size, false
	}
	pl.Items = append(pl.Items[:k+len(there):k+len(there)], pl.Items[last:]...)
}
