package slab

import (
	"cmp"
	"slices"
)

// A Map is what lies where on a disk. Its extents are in slabs, counted from the first of the disk.
type Map struct {
	Titles []Place  `json:"titles"` // in the order in which they lie
	Small  []Extent `json:"small"`  // slabs with small files, several in one
	Free   []Extent `json:"free"`
}

// A Place is where a title lies.
type Place struct {
	ID    string   `json:"id"`
	Name  string   `json:"name"`
	Size  int64    `json:"size"` // of the content, in bytes
	Slabs []Extent `json:"slabs"`
}

// Map says what lies where. What is neither a title's, nor small, nor free, is the disk's own or is being written.
func (d *Disk) Map() *Map {
	d.mu.RLock()
	defer d.mu.RUnlock()
	m, per := &Map{Free: d.free()}, d.head.perSlab()
	small := map[int64]bool{}
	for i := range d.table.records {
		r := &d.table.records[i]
		if r.what != ofTitle {
			for _, e := range r.extents {
				for s := e.First / per; s <= (e.First+e.Count-1)/per; s++ {
					small[s] = true
				}
			}
			continue
		}
		p := Place{ID: r.id, Name: r.name, Size: r.size}
		for _, e := range r.extents {
			first := e.First / per
			p.Slabs = append(p.Slabs, Extent{first, (e.First+e.Count-1)/per + 1 - first})
		}
		m.Titles = append(m.Titles, p)
	}
	slices.SortFunc(m.Titles, func(a, b Place) int { return cmp.Compare(a.Slabs[0].First, b.Slabs[0].First) })
	for s := range small {
		m.Small = append(m.Small, Extent{s, 1})
	}
	slices.SortFunc(m.Small, func(a, b Extent) int { return cmp.Compare(a.First, b.First) })
	return m
}
