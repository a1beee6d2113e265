package blockmap_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/blockmap"
	"polytome/internal/core/contents"
	"polytome/internal/core/loader"
	"polytome/internal/format/fat"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/testkit/volumetest"
)

// said are the lengths of a map in words, one a line.
func said(m *blockmap.Map, least uint32) (out []string) {
	for _, l := range m.Lengths(least) {
		what, how := m.Say(l)
		out = append(out, fmt.Sprintf("%d+%d %s|%s", l.First, l.Count, what, how))
	}
	return out
}

func TestAVolumeAsATape(t *testing.T) {
	run := func(first, count uint32) volume.Run { return volume.Run{First: first, Count: count} }
	file := func(p string, runs ...volume.Run) volume.Piece { return volume.Piece{Path: p, Runs: runs} }
	m := blockmap.Of(volume.Info{Clusters: 1000, Cluster: 1024, Heap: 4096}, []volume.Piece{
		{Path: ".", Folder: true, Runs: []volume.Run{run(2, 1)}},
		file("COVERS/a.png", run(3, 2)), file("COVERS/b.png", run(7, 2)), // with a small gap between
		file("films/reel.mov", run(9, 50)),
		file("FULL/Mosswick.iso", run(59, 100)),
		file("FULL/Ferry.iso", run(159, 20), run(300, 30), run(200, 40)),
		file("LONG/VSP-1/001.rwn", run(400, 50)), file("LONG/VSP-1/002.rwn", run(450, 50)),
		file("LONG/VSP-1/003.rwn", run(600, 50)),
	}, []volume.Run{run(5, 2), run(179, 21), run(240, 60), run(330, 70), run(500, 100), run(650, 342)})
	m.Titles = map[string]contents.Title{"FULL/Mosswick.iso": {Name: "Mosswick", Platform: "vesper"},
		"FULL/Ferry.iso":     {Name: "Ferry", Platform: "vesper"},
		"LONG/VSP-1/001.rwn": {Name: "VSP-1"}, "LONG/VSP-1/002.rwn": {Name: "VSP-1"},
		"LONG/VSP-1/003.rwn": {Name: "VSP-1"}}
	assert.Equal(t, []string{"2+7 3 small files and folders|", "9+50 reel.mov|contiguous", "59+100 Mosswick|contiguous",
		"159+20 Ferry|fragment 1 of 3", "179+21 free|", "200+40 Ferry|fragment 3 of 3", "240+60 free|",
		"300+30 Ferry|fragment 2 of 3", "330+70 free|", "400+100 VSP-1|part 1 of 2", "500+100 free|",
		"600+50 VSP-1|part 2 of 2", "650+342 free|", "992+10 the volume's own|"}, said(m, 10))
	assert.Equal(t, []string{"2+1 the root folder|", "3+2 a.png|contiguous", "5+2 free|", "7+2 b.png|contiguous"},
		said(m, 0)[:4], "each by itself where nothing is small")
	all := m.Lengths(10)
	assert.Equal(t, int64(4096+57*1024), m.Begins(all[2]))
	assert.Equal(t, uint32(5), all[0].Used, "without the gap")
	assert.Equal(t, all[9].Owner, all[11].Owner, "parts of one title")
	assert.NotEqual(t, all[9].Owner, all[5].Owner)
	assert.NotEqual(t, all[1].Owner, all[2].Owner)
	assert.Negative(t, all[10].Owner)
	assert.Equal(t, "vesper", m.Platform(all[2]))
}

// TestEveryClusterIsOnTheTapeOnce: lengths lie one behind the other, and those of a title are counted.
func TestEveryClusterIsOnTheTapeOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		clusters := rapid.Uint32Range(1, 400).Draw(t, "clusters")
		m := blockmap.Of(volume.Info{Clusters: clusters, Cluster: 512}, nil, nil)
		var files []volume.Piece
		var free []volume.Run
		titles := map[string]contents.Title{}
		for at := uint32(2); at < clusters+2; {
			r := volume.Run{First: at, Count: min(rapid.Uint32Range(1, 30).Draw(t, "count"), clusters+2-at)}
			at += r.Count
			switch k := rapid.IntRange(0, 5).Draw(t, "kind"); {
			case k == 0:
				free = append(free, r)
			case k == 1: // nobody's
			case k == 2 && len(files) > 0:
				f := &files[rapid.IntRange(0, len(files)-1).Draw(t, "of")]
				f.Runs = append(f.Runs, r)
			default:
				f := volume.Piece{Path: fmt.Sprint("f", len(files)), Runs: []volume.Run{r}}
				if k == 5 {
					titles[f.Path] = contents.Title{Name: rapid.SampledFrom([]string{"a", "b"}).Draw(t, "title")}
				}
				files = append(files, f)
			}
		}
		m = blockmap.Of(m.Info, files, free)
		m.Titles = titles
		next, seen := uint32(2), map[int]bool{}
		parts := map[string]map[int]bool{}
		all := m.Lengths(rapid.Uint32Range(0, 40).Draw(t, "least"))
		for _, l := range all {
			if l.First != next || l.Count == 0 || l.Used > l.Count {
				t.Fatalf("%d clusters from %d, %d of them used: cluster %d is next", l.Count, l.First, l.Used, next)
			}
			next = l.End()
			if l.File < 0 {
				continue
			}
			seen[l.File] = true
			what, _ := m.Say(l)
			if l.Files > 1 && m.Titles[files[l.File].Path].Name == "" {
				continue
			}
			if parts[what] == nil {
				parts[what] = map[int]bool{}
			}
			if parts[what][l.Part] || l.Part >= l.Parts {
				t.Fatalf("%s has part %d of %d twice", what, l.Part, l.Parts)
			}
			parts[what][l.Part] = true
		}
		if next != clusters+2 {
			t.Fatalf("the tape ends at cluster %d of %d", next, clusters+2)
		}
	})
}

// TestTheTitlesOfAVolume are those that its loader would find, with what lies in their folders.
func TestTheTitlesOfAVolume(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	d := &volumetest.Disk{B: make([]byte, 40*size.MiB)}
	require.NoError(t, fat.Format(d, int64(len(d.B)), fat.Options{Bits: 32, Cluster: 512}))
	v, err := fat.Open(d, int64(len(d.B)))
	require.NoError(t, err)
	for _, folder := range []string{"FULL", "LONG", "LONG/VSP-20417"} {
		require.NoError(t, v.MakeFolder(ctx, folder))
	}
	for _, p := range []string{"FULL/VSP-21377 - Mosswick.iso", "LONG/VSP-20417/001.rwn", "LONG/VSP-20417/002.rwn",
		"LONG/VSP-20417/parts.toml", "notes.txt"} {
		require.NoError(t, volumetest.Put(v, p, make([]byte, 9000)))
	}
	m, err := blockmap.Read(ctx, v, set)
	require.NoError(t, err)
	assert.Equal(t, contents.Title{Name: "Mosswick", Platform: "vesper"}, m.Titles["FULL/VSP-21377 - Mosswick.iso"])
	assert.Equal(t, m.Titles["LONG/VSP-20417/001.rwn"], m.Titles["LONG/VSP-20417/parts.toml"])
	assert.Equal(t, "VSP-20417", m.Titles["LONG/VSP-20417/002.rwn"].Name)
	assert.NotContains(t, m.Titles, "notes.txt")
	assert.NotContains(t, m.Titles, "FULL")
	m, err = blockmap.Read(ctx, v, nil)
	require.NoError(t, err)
	assert.Empty(t, m.Titles)
}

func TestMarksAreAtRoundDistances(t *testing.T) {
	for _, x := range []struct {
		clusters uint32
		cluster  int64
		most     int
		want     []string
	}{
		{58 << 15, 32 << 10, 6, []string{"0 GiB", "10 GiB", "20 GiB", "30 GiB", "40 GiB", "50 GiB"}},
		{100, 1 << 20, 5, []string{"0 MiB", "20 MiB", "40 MiB", "60 MiB", "80 MiB"}},
		{1, 512, 5, []string{"0 MiB"}},
		{1 << 20, 16 << 20, 4, []string{"0 TiB", "5 TiB", "10 TiB"}},
	} {
		m := blockmap.Of(volume.Info{Clusters: x.clusters, Cluster: x.cluster}, nil, nil)
		var got []string
		for _, mark := range m.Marks(x.most) {
			got = append(got, mark.Say)
		}
		assert.Equal(t, x.want, got)
	}
}
