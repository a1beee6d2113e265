// Package blockmap shows what is where on a volume: files as runs of clusters, what is fragmented, and what is free.
package blockmap

import (
	"context"
	"slices"

	"polytome/internal/format/volume"
)

// Kind is what clusters are of.
type Kind byte

const (
	Free       Kind = iota
	File            // a file contiguous
	Fragmented      // a file in more than one
	Folder          // the entries of a folder
	System          // the volume's own tables, damaged clusters, and what nothing has
)

// A Map is a volume as it lies.
type Map struct {
	Info  volume.Info    `json:"volume"`
	Files []volume.Piece `json:"files"` // with the folders; the root first
	Free  []volume.Run   `json:"free"`

	spans []span
}

type span struct {
	volume.Run
	file int // -1 for none
	kind Kind
}

// Read makes the map of a volume.
func Read(ctx context.Context, v *volume.Volume) (*Map, error) {
	free, err := v.FreeRuns(ctx)
	if err != nil {
		return nil, err
	}
	files, err := v.Files(ctx)
	if err != nil {
		return nil, err
	}
	return Of(v.Info(), files, free), nil
}

// Of is the map of a volume with files, and with what is free.
func Of(info volume.Info, files []volume.Piece, free []volume.Run) *Map {
	m := &Map{Info: info, Files: files, Free: free}
	for i, f := range m.Files {
		kind := File
		if f.Folder {
			kind = Folder
		} else if len(f.Runs) > 1 {
			kind = Fragmented
		}
		for _, r := range f.Runs {
			m.spans = append(m.spans, span{r, i, kind})
		}
	}
	for _, r := range m.Free {
		m.spans = append(m.spans, span{r, -1, Free})
	}
	slices.SortFunc(m.spans, func(a, b span) int { return int(int64(a.First) - int64(b.First)) })
	var whole []span
	next := uint32(2)
	for _, s := range m.spans {
		if s.First > next {
			whole = append(whole, span{volume.Run{First: next, Count: s.First - next}, -1, System})
		}
		if s.First >= next {
			whole = append(whole, s)
			next = s.End()
		}
	}
	if end := m.Info.Clusters + 2; next < end {
		whole = append(whole, span{volume.Run{First: next, Count: end - next}, -1, System})
	}
	m.spans = whole
	return m
}

// Fragmented are the files that are in more than one piece, the worst first.
func (m *Map) Fragmented() []volume.Piece {
	var out []volume.Piece
	for _, f := range m.Files {
		if !f.Folder && len(f.Runs) > 1 {
			out = append(out, f)
		}
	}
	slices.SortStableFunc(out, func(a, b volume.Piece) int { return len(b.Runs) - len(a.Runs) })
	return out
}

// Largest is the largest free piece in bytes.
func (m *Map) Largest() int64 {
	var n uint32
	for _, r := range m.Free {
		n = max(n, r.Count)
	}
	return int64(n) * m.Info.Cluster
}

// LargestFree are the n largest free runs, the largest first.
func (m *Map) LargestFree(n int) []volume.Run {
	runs := slices.Clone(m.Free)
	slices.SortStableFunc(runs, func(a, b volume.Run) int { return int(int64(b.Count) - int64(a.Count)) })
	return runs[:min(n, len(runs))]
}

// FreeBytes is all that is free.
func (m *Map) FreeBytes() int64 {
	var n int64
	for _, r := range m.Free {
		n += int64(r.Count)
	}
	return n * m.Info.Cluster
}

// A Cell is an equal part of the volume, one of many.
type Cell struct {
	Kind  Kind
	File  int     // index of the file that has most of it, -1 for none
	Used  float64 // share that is taken
	Mixed bool    // more than one file has a part of it
	First uint32  // cluster at which it begins
	Count uint32
	Files int // how many files and folders have a part of it
}

// Cells divides the volume into n equal parts. What is fragmented counts before anything else, so that it is seen.
func (m *Map) Cells(n int) []Cell {
	out := make([]Cell, n)
	total := int64(m.Info.Clusters)
	at := 0
	for i := range out {
		from, to := uint32(2+total*int64(i)/int64(n)), uint32(2+total*int64(i+1)/int64(n))
		c := Cell{Kind: Free, File: -1, First: from, Count: to - from}
		if to == from { // more cells than clusters
			to = from + 1
		}
		for at > 0 && m.spans[at].First > from {
			at--
		}
		for at < len(m.spans) && m.spans[at].End() <= from {
			at++
		}
		var taken, most, last = int64(0), int64(0), -2
		for k := at; k < len(m.spans) && m.spans[k].First < to; k++ {
			s := m.spans[k]
			part := int64(min(s.End(), to)) - int64(max(s.First, from))
			if s.kind == Free {
				continue
			}
			taken += part
			if s.file != last {
				c.Files++
				last = s.file
			}
			if s.kind == Fragmented && c.Kind != Fragmented || part > most && (c.Kind != Fragmented ||
				s.kind == Fragmented) {
				c.Kind, c.File, most = s.kind, s.file, part
			}
		}
		c.Mixed = c.Files > 1
		c.Used = float64(taken) / float64(to-from)
		out[i] = c
	}
	return out
}
