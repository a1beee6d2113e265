package discs_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/discread"
	"polytome/internal/core/discs"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/format/sectors"
	"polytome/internal/optical"
	sim "polytome/internal/sim/optical"
)

func TestTheNameOfAnImage(t *testing.T) {
	plain := &discread.Disc{Size: 2048, Blocks: 700}
	whole := &discread.Disc{Size: sectors.Raw, Blocks: 90}
	of := func(name, id string, number, of int) *title.Title {
		return &title.Title{Name: name, ID: id, Of: of, Discs: []title.Disc{{Number: number}}}
	}
	for _, x := range []struct {
		disc *discread.Disc
		t    *title.Title
		want string
	}{
		{plain, of("Mosswick", "VSP-1", 1, 1), "Mosswick.iso"},
		{plain, of("Salt: The Marsh?", "VSP-1", 2, 2), "Salt - The Marsh (Disc 2).iso"},
		{plain, of("../../etc/passwd", "", 1, 1), "-..-etc-passwd.iso"},
		{plain, of("..", "", 1, 1), "disc of 700 blocks.iso"},
		{whole, of("", "LAP_00123", 1, 1), "LAP_00123.cue"},
		{whole, nil, "disc of 90 blocks.cue"},
	} {
		got := discs.FileName(x.disc, x.t)
		assert.Equal(t, strings.Fields(x.want), strings.Fields(got))
		assert.Equal(t, "/games", filepath.Dir(discs.Into("/games", x.disc, x.t)))
	}
}

func TestWhichTitleIsMeant(t *testing.T) {
	one := []title.Disc{{Number: 1}}
	all := []title.Title{{Name: "Tide", ID: "VSP-00001", Discs: one}, {Name: "Tidemark", ID: "VSP-00002", Discs: one},
		{Name: "Sluice", ID: "VSP-00003", Discs: one}}
	for words, want := range map[string]string{"tide": "VSP-00001", "vsp-00002": "VSP-00002", "slui": "VSP-00003"} {
		got, err := discs.Find(all, words)
		require.NoError(t, err, words)
		assert.Equal(t, want, got.ID)
	}
	_, err := discs.Find(all, "tid")
	assert.ErrorIs(t, err, discs.ErrAmbiguous)
	assert.ErrorContains(t, err, "tid may be one of 2 titles: VSP-00001 Tide; VSP-00002 Tidemark")
	_, err = discs.Find(all, "weir")
	assert.EqualError(t, err, "there is no title weir in your folders")
}

func TestWhoPlaysWhat(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	m := sim.New()
	m.Writes = []uint16{sim.DVDPlusR, sim.CDR}
	m.Put(sim.NewBlank(sim.DVDPlusR, nil))
	f, err := discs.FactsOf(t.Context(), "x", optical.New(optical.Over(m)), set)
	require.NoError(t, err)
	said := map[string]string{}
	takers := discs.Takers(set, &f)
	for i := range takers {
		said[takers[i].Who()] = takers[i].Words()
	}
	assert.Equal(t, map[string]string{
		"Vesper":         "reads DVD-R and CD-R, best at 6x: this drive writes CD-R",
		"Corvane (LARK)": "reads DVD+R, best at 4x: the disc in this drive fits",
		"Corvane (WREN)": "reads DVD+R and DVD-R: the disc in this drive fits"}, said)
	m.Writes = nil
	f, err = discs.FactsOf(t.Context(), "x", optical.New(optical.Over(m)), set)
	require.NoError(t, err)
	f.Room = 0
	assert.Contains(t, discs.Takers(set, &f)[0].Words(), "this drive writes none of them")
}

// TestTheOffsetOfADrive is taken from what is set for it, where nothing else is said.
func TestTheOffsetOfADrive(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	sound := make([]byte, 200*sectors.Raw)
	for i := range sound {
		sound[i] = byte(i >> 3)
	}
	m, dir := sim.New(), t.TempDir()
	m.Offset = 12
	m.Put(&sim.Disc{Profile: sim.CDROM, Tracks: []sim.Track{{Session: 1, Audio: true, End: 200,
		Data: bytes.NewReader(sound)}}})
	r, err := discs.ReadDisc(t.Context(), optical.New(optical.Over(m)), discs.ReadOptions{Set: set, Dir: dir,
		Offsets: map[string]int64{"GULLWING TRAY 16": 12}, Eject: true})
	require.NoError(t, err)
	assert.True(t, m.Open())
	got, err := os.ReadFile(r.Result.File)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(sound[:len(sound)-48], got[:len(got)-48]), "but for what lies behind the end")
}
