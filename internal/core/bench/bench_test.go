package bench_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/run"
	"polytome/internal/core/title"
)

func TestABenchComesBackAsSaved(t *testing.T) {
	file := filepath.Join(t.TempDir(), "season.toml")
	b, elsewhere := bench.New(file), t.TempDir()
	b.Sources = []bench.Source{{Path: "games"}, {Path: elsewhere}}
	b.Targets = []bench.Target{{Name: "North stick", At: "stick", Loader: "rowan", Via: "usb", As: "fat32",
		Capacity: 58 << 30, Rate: 1000, Everything: true}}
	b.Targets[0].Want(false, "VSP-20417")
	b.Targets[0].Want(false, "VSP-10000")
	require.NoError(t, b.Save())
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text), "capacity = '58GiB'")
	got, err := bench.Load(file)
	require.NoError(t, err)
	assert.Equal(t, b, got)
	assert.Equal(t, []string{filepath.Join(filepath.Dir(file), "games"), elsewhere}, got.SourcePaths())
	left, err := os.ReadDir(filepath.Dir(file))
	require.NoError(t, err)
	assert.Len(t, left, 1, "saving leaves no other file")
}

func TestChoices(t *testing.T) {
	p := bench.Target{Everything: true}
	p.Want(false, "b")
	p.Want(false, "a")
	assert.Equal(t, bench.Keys{"a", "b"}, p.Without)
	assert.False(t, p.Wants("a"))
	before := p
	p.Want(true, "a")
	assert.True(t, p.Wants("a"))
	assert.False(t, before.Wants("a"), "a copy for undo stays as it was")
	p = bench.Target{}
	p.Want(true, "x")
	assert.True(t, p.Wants("x"))
	assert.False(t, p.Wants("y"))

	b := bench.New("")
	b.Targets = []bench.Target{p}
	wanted := b.Wanted(0, []title.Title{{Key: "x"}, {Key: "y"}})
	assert.Equal(t, []bool{true, false}, []bool{wanted(0), wanted(1)})
	was := b.Choices()
	b.Targets[0].Want(true, "y")
	b.Restore(was)
	assert.False(t, b.Targets[0].Wants("y"))
	require.NoError(t, b.Save(), "a bench without a file is not saved")
}

func TestMistakesInABench(t *testing.T) {
	file := filepath.Join(t.TempDir(), "b.toml")
	_, err := bench.Load(file)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	assert.ErrorContains(t, err, "there is no bench")
	target := "format = 1\n[[target]]\nname = 'A'\nat = 'a'\nloader = 'rowan'\n"
	for text, want := range map[string]string{
		"format = 1\nnmae = 'x'\n":             `b.toml:2:1: unknown key "nmae": did you mean "name"?`,
		"format = 9\n":                         "format 9 is from a newer Polytome",
		"format = 1\n[[target]]\nname = 'A'\n": "a target needs a name, an address (at) and a loader",
		target + "[[target]]\nname = 'a'\nat = 'b'\nloader = 'rowan'\n": `two targets are named "a"`,
		target + "capacity = 'huge'\n":                                  "is not a size",
		target + "everything = 'yes'\n":                                 "b.toml:6:",
	} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		_, err := bench.Load(file)
		assert.ErrorContains(t, err, want)
	}
}

func TestABenchThatCannotBeSavedStaysAsItWas(t *testing.T) {
	b := bench.New(filepath.Join(t.TempDir(), "gone", "b.toml"))
	assert.ErrorContains(t, b.Save(), "saving the bench")
}

func FuzzLoad(f *testing.F) {
	f.Add([]byte("format = 1\n[[source]]\npath = 'g'\n[[target]]\nname = 'A'\nat = 'a'\nloader = 'rowan'\ncapacity = " +
		"'58GiB'\nwithout = ['b', 'a']\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		file := filepath.Join(t.TempDir(), "b.toml")
		require.NoError(t, os.WriteFile(file, text, 0o644))
		b, err := bench.Load(file)
		if err != nil {
			return
		}
		require.NoError(t, b.Save())
		again, err := bench.Load(file)
		require.NoError(t, err, "what was saved loads again")
		require.Len(t, again.Targets, len(b.Targets))
		for i := range b.Targets {
			require.Equal(t, b.Targets[i], again.Targets[i])
		}
	})
}

func TestNamesAreRemembered(t *testing.T) {
	file := filepath.Join(t.TempDir(), "b.toml")
	b := bench.New(file)
	b.Targets = []bench.Target{{Name: "A", At: "a", Loader: "rowan", Everything: true}}
	before := b.Choices()
	assert.True(t, b.Targets[0].Remember(map[string]string{"VSP-1": "Same", "/g/x.iso": "Same (2)"}))
	assert.False(t, b.Targets[0].Remember(map[string]string{"VSP-1": "Same"}))
	now := b.Choices()
	b.Restore(before)
	assert.Empty(t, b.Targets[0].Names, "earlier choices stay as they were")
	b.Restore(now)
	require.NoError(t, b.Save())
	got, err := bench.Load(file)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"VSP-1": "Same", "/g/x.iso": "Same (2)"}, got.Targets[0].Names)
	assert.Empty(t, got.Targets[0].Via, "the loader's usual one")
}

func TestEditsAreKeptBesideTheBench(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "b.toml")
	b, far := bench.New(file), filepath.Join(t.TempDir(), "list.csv")
	b.Sources, b.Lists, b.Passwords = []bench.Source{{Path: "games"}}, []string{"list.csv", far},
		[]string{"ferry line"}
	inside, outside := filepath.Join(
		dir,
		"games",
		"a.zip",
	)+title.EntryMark+"in/x.w8", filepath.Join(
		t.TempDir(),
		"b.iso",
	)
	before := b.Choices()
	b.Edit(inside, "s1", func(e *title.Edit) { e.Name = "One" })
	b.Edit(outside, "", func(e *title.Edit) { e.Drop = true })
	b.Edit(outside, "s2", func(e *title.Edit) { e.Lock("name", true); e.Name = "Two" })
	require.NoError(t, b.Save())
	got, err := bench.Load(file)
	require.NoError(t, err)
	assert.Equal(t, b.Edits, got.Edits)
	assert.Equal(t, []string{"ferry line"}, got.Passwords)
	assert.Equal(t, []string{filepath.Join(dir, "list.csv"), far}, got.ListPaths())
	assert.Equal(t, "One", got.EditOf(inside).Name)
	resolved := got.ResolvedEdits()
	require.Len(t, resolved, 2)
	assert.ElementsMatch(t, []string{inside, outside}, []string{resolved[0].File, resolved[1].File})
	assert.Equal(t, "s2", got.EditOf(outside).Sign)
	now := b.Choices()
	assert.True(t, b.Restore(before))
	assert.Empty(t, b.Edits)
	assert.False(t, b.Restore(b.Choices()))
	assert.True(t, b.Restore(now))
	assert.Len(t, b.Edits, 2)

	for text, want := range map[string]string{
		"[[edit]]\nname = 'x'\n":                       "an edit needs its own file",
		"[[edit]]\nfile = 'a'\n[[edit]]\nfile = 'a'\n": "an edit needs its own file",
		"[[edit]]\nfile = 'a'\nlocked = ['colour']\n":  `"colour" cannot be locked`,
		"[[edit]]\nfile = 'a'\nnaem = 'x'\n":           "naem",
	} {
		require.NoError(t, os.WriteFile(file, []byte("format = 1\n"+text), 0o644))
		_, err := bench.Load(file)
		assert.ErrorContains(t, err, want)
	}
}

// TestSpeedsBelongToAdapters: a disk is as fast as what it is behind, and another disk behind that is so too.
func TestSpeedsBelongToAdapters(t *testing.T) {
	b := bench.New("")
	b.Targets = []bench.Target{{Name: "one"}, {Name: "two"}}
	ran := func(rate int64) *run.Report {
		return &run.Report{Large: run.Timed{Files: 2, Bytes: 10 * rate, Took: 10 * time.Second}}
	}
	assert.Nil(t, b.Learnt(0, "slow one"))
	assert.True(t, b.Targets[0].Learn(nil, "slow one", ran(20<<20)))
	assert.EqualValues(t, 20<<20, b.Learnt(0, "slow one").Rate)
	assert.EqualValues(t, 20<<20, b.Learnt(1, "slow one").Rate)
	assert.Nil(t, b.Learnt(0, "fast one"), "behind another one it is another speed")
	assert.True(t, b.Targets[1].Learn(b.Learnt(1, "fast one"), "fast one", ran(90<<20)))
	assert.EqualValues(t, 90<<20, b.Learnt(0, "fast one").Rate)
	assert.EqualValues(t, 20<<20, b.Learnt(0, "").Rate, "where none is known, what was learnt last counts")
	assert.False(t, b.Targets[0].Learn(nil, "slow one", ran(1)))
}
