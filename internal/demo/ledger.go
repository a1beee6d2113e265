package demo

import (
	"fmt"
	"slices"
	"time"

	"polytome/internal/core/ledger"
	"polytome/internal/size"
)

// drawer are sticks that lie in drawers of the ferry line, as they were seen last.
var drawer = []struct {
	id, label, name, place string
	days                   int // before the season began
	capacity, free         int64
	titles                 []int // numbers of discs of the Vesper
	others                 []ledger.Title
	problems               int
	changed                bool
}{
	{
		"vol-5e2a91c4",
		"HALL2",
		"Hall 2",
		"drawer 1",
		4,
		59 * size.GiB,
		31 * size.GiB,
		[]int{20417, 20431, 21002, 21344},
		nil,
		0,
		false,
	},
	{"vol-0c77d3b1", "HALL3", "Hall 3", "drawer 1", 130, 29 * size.GiB, 3 * size.GiB, []int{20417, 20502, 20503},
		[]ledger.Title{{ID: "VSP-19006", Name: "Marsh Opera", Platform: "vesper", Loader: "rowan",
			Path: "FULL/VSP-19006 - Marsh Opera.iso", Size: 4 * size.GiB, Starts: true}}, 2, false},
	{"vol-91f0aa26", "SPARE", "", "", 16, 14 * size.GiB, 13 * size.GiB, []int{21377}, nil, 0, true},
}

// remember has the ledger of the demo know the sticks in the drawers, once.
func (w World) remember() error {
	store := ledger.Store{Dir: w.Ledger()}
	if all, err := store.All(); err != nil || len(all) > 0 {
		return err
	}
	for _, d := range drawer {
		seen := Season.Add(-time.Duration(d.days) * 24 * time.Hour)
		v := ledger.Volume{ID: d.id, Kind: ledger.Drive, Label: d.label, Filesystem: "fat32", Capacity: d.capacity,
			Free: d.free, Address: "/media/" + d.label, Loaders: []string{"rowan"}, Console: "Vesper", Seen: seen,
			Written: seen.Add(
				-time.Hour,
			), Print: d.label, Titles: slices.Clone(d.others), Check: &ledger.Check{Taken: seen,
				Depth: "inside", Problems: d.problems}}
		for _, number := range d.titles {
			i := slices.IndexFunc(vespers, func(x vesper) bool { return x.number == number })
			if i < 0 {
				return fmt.Errorf("the demo has no disc VSP-%d for %s", number, d.label)
			}
			id := fmt.Sprintf("VSP-%05d", number)
			v.Titles = append(v.Titles, ledger.Title{Key: id, ID: id, Name: vespers[i].name, Platform: "vesper",
				Loader: "rowan", Path: "FULL/" + id + " - " + vespers[i].name + ".iso", Size: vespers[i].size,
				Starts: true})
		}
		v.Check.Listed, v.Check.Starts = len(v.Titles), len(v.Titles)
		if d.changed {
			v.Changed = seen
		}
		if err := store.Note(v, false); err != nil {
			return err
		}
		if d.name == "" {
			continue
		}
		if err := store.Name(v.ID, &d.name, &d.place); err != nil {
			return err
		}
	}
	return nil
}
