package prepare

import (
	"context"
	"slices"
	"strings"

	"polytome/internal/core/contents"
	"polytome/internal/core/loader"
	"polytome/internal/drives"
	"polytome/internal/format/partition"
	"polytome/internal/size"
)

// picture draws the drive before and after.
func (p *Plan) picture() {
	d := p.Drive
	draw := func(table *partition.Table, each func(start, size int64, number int) Slice) []Slice {
		var out []Slice
		at := int64(0)
		if table == nil {
			return nil
		}
		parts := slices.Clone(table.Parts)
		slices.SortFunc(parts, func(a, b partition.Partition) int { return int(min(max(a.Start-b.Start, -1), 1)) })
		for _, v := range parts {
			if gap := v.Start - at; gap > size.MiB {
				what, kind := "free", "free"
				if at == 0 {
					what, kind = table.Scheme.Shown(), "table"
				}
				out = append(out, Slice{at, gap, what, kind})
			}
			out = append(out, each(v.Start, v.Size, v.Number))
			at = max(at, v.Start+v.Size)
		}
		if rest := d.Size - at; rest > partition.Align {
			out = append(out, Slice{at, rest, "free", "free"})
		}
		return out
	}
	old := func(start, length int64, number int) Slice {
		s := Slice{Start: start, Size: length, Kind: "lost"}
		if v := d.Find(number); v != nil {
			s.Say = strings.TrimSpace(v.Label + " " + v.Shown())
		}
		if p.Part > 0 && number != p.Part {
			s.Kind = "kept"
		}
		return s
	}
	if p.Before = draw(d.Table, old); d.Table == nil {
		p.Before = []Slice{{0, d.Size, "no volume recognized", "free"}}
		if v := d.Find(0); v != nil {
			p.Before = []Slice{old(0, d.Size, 0)}
		}
	}
	made := strings.TrimSpace(p.Label + " " + drives.FilesystemShown(p.Filesystem))
	if p.Scheme == partition.None {
		p.After = []Slice{{0, d.Size, made, "new"}}
		return
	}
	p.After = draw(p.table, func(start, length int64, number int) Slice {
		if p.Part > 0 && number != p.Part {
			return old(start, length, number)
		}
		return Slice{start, length, made, "new"}
	})
}

// loses reads what is on the drive.
func (p *Plan) loses(ctx context.Context, sys drives.System, set *loader.Set) {
	var parts []string
	for i := range p.Drive.Volumes {
		v := &p.Drive.Volumes[i]
		if p.Part > 0 && v.Number != p.Part || v.Filesystem == "" {
			continue
		}
		name := v.Label
		if name == "" {
			name = "a volume without a name"
		}
		name += " (" + v.Shown() + ", " + size.Format(v.Size) + ")"
		if !v.Ours() {
			parts = append(parts, "everything on "+name+", which cannot be read here")
			continue
		}
		switch c := contents.Volume(ctx, sys, p.Drive, v, set); {
		case c.Trouble != "":
			parts = append(parts, "everything on "+name+"; "+c.Trouble)
		case c.Files > 0 || c.Left != "":
			parts = append(parts, c.Words()+" on "+name)
		default:
			parts = append(parts, name+", which is empty")
		}
	}
	p.Loses = strings.Join(parts, "; ")
}
