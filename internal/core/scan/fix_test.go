package scan_test

import (
	"context"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
)

// benched scans the sources of a bench as the program does.
func benched(t *testing.T, b *bench.Bench) scan.Result {
	t.Helper()
	r, err := scan.Scan(context.Background(), b.SourcePaths(), scan.For(b, coretest.Set(t), nil))
	require.NoError(t, err)
	return r
}

func only(t *testing.T, r scan.Result) *title.Title {
	t.Helper()
	require.Len(t, r.Titles, 1)
	return &r.Titles[0]
}

func from(t *title.Title, field string) string {
	for _, e := range t.Discs[0].Evidence {
		if e.Field == field {
			return e.Value + " from " + e.From
		}
	}
	return ""
}

func TestWhatIsSetByHandWinsAndIsKept(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "bench.toml")
	coretest.Write(t, dir, "games/wrong.iso", coretest.Image(t, ""))
	b := bench.New(file)
	b.Sources = []bench.Source{{Path: "games"}}
	before := only(t, benched(t, b))
	require.False(t, before.OK(), "nothing tells what it is")
	set := func(change func(*title.Edit)) *title.Title {
		now := only(t, benched(t, b))
		b.Edit(now.Where(), now.Discs[0].Sign, change)
		require.NoError(t, b.Save())
		var err error
		b, err = bench.Load(file)
		require.NoError(t, err, "what was saved loads again")
		return only(t, benched(t, b))
	}
	now := set(func(e *title.Edit) { e.Platform, e.Name, e.ID = "vesper", "Corrected", "VSP-30303" })
	assert.Equal(t, []string{"vesper", "Corrected", "VSP-30303", "VSP-30303", "VSP-30303"}, []string{now.Platform,
		now.Name, now.ID, now.Key, now.Discs[0].ID})
	assert.True(t, now.OK(), "the user has reported what it is: %v", now.Findings)
	assert.Equal(t, "Corrected from set by hand", from(now, "name"))

	now = set(func(e *title.Edit) { e.Lock("name", true) })
	assert.Equal(t, "Corrected from set by hand, locked", from(now, "name"))
	assert.Equal(t, []string{"name"}, now.Locked)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text), `file = 'games/wrong.iso'`, "paths are relative to the bench")

	// The folder is moved: the edit goes along.
	require.NoError(t, os.Rename(filepath.Join(dir, "games"), filepath.Join(dir, "elsewhere")))
	b.Sources[0].Path = "elsewhere"
	assert.Equal(t, "Corrected", only(t, benched(t, b)).Name)

	b.Edit(filepath.Join(dir, "games/wrong.iso"), "", func(e *title.Edit) { *e = title.Edit{File: e.File} })
	assert.Empty(t, b.Edits, "an edit that says nothing is forgotten")
}

func TestDiscsAreJoinedPartedAndDropped(t *testing.T) {
	dir := t.TempDir()
	b := bench.New(filepath.Join(dir, "bench.toml"))
	b.Sources = []bench.Source{{Path: "."}}
	coretest.Write(t, dir, "first.iso", coretest.Siskin(t, "SK-8812", "Ferry Queen"))
	coretest.Write(t, dir, "second.iso", coretest.Siskin(t, "SK-8813", "Ferry Queen, the Return"))
	for i, name := range []string{"first.iso", "second.iso"} {
		b.Edit(filepath.Join(dir, name), "", func(e *title.Edit) { e.Set, e.Disc = "SK-8812", i+1 })
	}
	joined := only(t, benched(t, b))
	require.Len(t, joined.Discs, 2)
	assert.Equal(t, []any{"Ferry Queen", "SK-8812", 2, true}, []any{joined.Name, joined.Key, joined.Of, joined.OK()})
	assert.Equal(t, "second.iso", filepath.Base(joined.Discs[1].File.Path))

	b.Edit(filepath.Join(dir, "second.iso"), "", func(e *title.Edit) { e.Set, e.Disc, e.Drop = "", 0, true })
	r := benched(t, b)
	assert.False(t, only(t, r).OK() && only(t, r).Of > 1, "disc 2 is gone, and only disc 1 of one is left")
	require.Len(t, r.Dropped, 1)
	assert.Equal(t, "Ferry Queen, the Return", r.Dropped[0].Name)

	// Discs that belong together by themselves are taken apart.
	two := bench.New(filepath.Join(dir, "two.toml"))
	coretest.Write(t, dir, "x/f1.iso", coretest.Image(t, inf("VSP-21410", "Clockwork Ferry", "1/2")))
	coretest.Write(t, dir, "x/f2.iso", coretest.Image(t, inf("VSP-21411", "Clockwork Ferry", "2/2")))
	two.Sources = []bench.Source{{Path: "x"}}
	require.Len(t, only(t, benched(t, two)).Discs, 2)
	for _, name := range []string{"f1.iso", "f2.iso"} {
		two.Edit(filepath.Join(dir, "x", name), "", func(e *title.Edit) { e.Alone = true })
	}
	r = benched(t, two)
	require.Len(t, r.Titles, 2)
	for i := range r.Titles {
		assert.True(t, r.Titles[i].OK())
	}
}

func TestTitleListsFillIn(t *testing.T) {
	dir := t.TempDir()
	b := bench.New(filepath.Join(dir, "bench.toml"))
	b.Sources, b.Lists = []bench.Source{{Path: "games"}}, []string{"list.csv"}
	cart := demo.Cartridge("HERN", "MRSHLGHT")
	coretest.Write(t, dir, "games/m.h16", cart)
	coretest.Write(t, dir, "games/c.iso", coretest.Image(t, inf("VSP-20417", "COPPER TIDE", "1/1")))
	coretest.Write(t, dir, "games/Ropewalk (East).dtl", []byte("any"))
	coretest.Write(t, dir, "list.csv", fmt.Appendf(nil, "id,name,region,year,players,publisher,crc32\n"+
		"VSP-20417,Copper Tide,West,1999,1-2,Gullwing,\n"+
		",Marsh Light,,2001,1,,%08x\n"+
		",ropewalk,,1987,,,\n"+
		",bad,,,,,xyz\n", crc32.ChecksumIEEE(cart)))
	r := benched(t, b)
	by := map[string]*title.Title{}
	for i := range r.Titles {
		by[r.Titles[i].Platform] = &r.Titles[i]
	}
	assert.Equal(t, []string{"Copper Tide", "West", "1999", "1-2", "Gullwing"}, []string{by["vesper"].Name,
		by["vesper"].Region, by["vesper"].Year, by["vesper"].Players, by["vesper"].Publisher})
	assert.Equal(t, "Copper Tide from list.csv, line 2, found by its ID", from(by["vesper"], "name"))
	assert.Equal(t, "Marsh Light from list.csv, line 3, found by its checksum", from(by["heron16"], "name"))
	assert.Equal(t, "1987 from list.csv, line 4, found by its name", from(by["dotterel"], "year"))
	require.Len(t, r.Problems, 1)
	assert.Contains(t, r.Problems[0].Say, `"xyz" is not a checksum`)

	b.Edit(by["vesper"].Where(), "", func(e *title.Edit) { e.Name, e.Year = "My Own Tide", "2020" })
	for _, tt := range benched(t, b).Titles {
		if tt.Platform == "vesper" {
			assert.Equal(t, []string{"My Own Tide", "2020", "West"}, []string{tt.Name, tt.Year, tt.Region},
				"what is set by hand wins over the list")
		}
	}
}
