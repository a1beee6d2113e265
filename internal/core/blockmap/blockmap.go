// Package blockmap shows what is where on a volume: files as runs of clusters, what is fragmented, and what is free.
package blockmap

import (
	"context"
	"slices"

	"polytome/internal/core/contents"
	"polytome/internal/core/loader"
	"polytome/internal/format/volume"
	"polytome/internal/target"
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
	// Titles are those that files and folders belong to, by their paths.
	Titles map[string]contents.Title `json:"titles,omitempty"`

	spans []span
}

type span struct {
	volume.Run
	file int // -1 for none
	run  int // which of the file's runs
	kind Kind
}

// Read makes the map of a volume. The titles are those that the loaders of the set would find there; nil for none.
func Read(ctx context.Context, v *volume.Volume, set *loader.Set) (*Map, error) {
	free, err := v.FreeRuns(ctx)
	if err != nil {
		return nil, err
	}
	files, err := v.Files(ctx)
	if err != nil {
		return nil, err
	}
	m := Of(v.Info(), files, free)
	if fs, err := target.FilesystemNamed(m.Info.Filesystem); err == nil && set != nil {
		entries := make([]target.Entry, len(files))
		for i, f := range files {
			entries[i] = target.Entry{Path: f.Path, Folder: f.Folder, Size: f.Size}
		}
		m.Titles = contents.Titles(entries, fs, set)
	}
	return m, nil
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
		for k, r := range f.Runs {
			m.spans = append(m.spans, span{r, i, k, kind})
		}
	}
	for _, r := range m.Free {
		m.spans = append(m.spans, span{r, -1, 0, Free})
	}
	slices.SortFunc(m.spans, func(a, b span) int { return int(int64(a.First) - int64(b.First)) })
	var whole []span
	next := uint32(2)
	for _, s := range m.spans {
		if s.First > next {
			whole = append(whole, span{volume.Run{First: next, Count: s.First - next}, -1, 0, System})
		}
		if s.First >= next {
			whole = append(whole, s)
			next = s.End()
		}
	}
	if end := m.Info.Clusters + 2; next < end {
		whole = append(whole, span{volume.Run{First: next, Count: end - next}, -1, 0, System})
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
