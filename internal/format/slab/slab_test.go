package slab_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand"
	fast "math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/slab"
	"polytome/internal/testkit/volumetest"
)

var (
	when   = time.Unix(1_790_000_000, 0).UTC()
	number = [16]byte{0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15}
)

func options() slab.Options { return slab.Options{Label: "FERRY", Number: number, Now: when} }

// disk is an empty disk in memory, of so many slabs.
func disk(t testing.TB, slabs int, o slab.Options) (*volumetest.Disk, *slab.Disk) {
	m := &volumetest.Disk{B: make([]byte, slabs*slab.Slab)}
	d, err := slab.Format(m, int64(len(m.B)), o)
	require.NoError(t, err)
	return m, d
}

func again(t testing.TB, m slab.Medium, size int) *slab.Disk {
	d, err := slab.Open(m, int64(size))
	require.NoError(t, err)
	return d
}

// noise is content that tells itself apart from other one.
func noise(seed int64, n int) []byte {
	b := make([]byte, n)
	_, _ = fast.NewChaCha8([32]byte{byte(seed), byte(seed >> 8), byte(seed >> 16)}).Read(b)
	return b
}

func add(t testing.TB, d *slab.Disk, id, name string, data []byte) {
	_, err := d.Add(t.Context(), slab.New{ID: id, Name: name, Kind: "full", Settings: map[string]string{"timing": "a"},
		Written: when}, int64(len(data)), bytes.NewReader(data), false, nil)
	require.NoError(t, err)
}

func content(t testing.TB, d *slab.Disk, id string) []byte {
	r, err := d.Content(id)
	require.NoError(t, err)
	b, err := io.ReadAll(r)
	require.NoError(t, err)
	return b
}

// TestTitlesAndFilesComeBack: what is written is there when the disk is opened again, whatever its sectors are.
func TestTitlesAndFilesComeBack(t *testing.T) {
	for _, sector := range []int64{512, 4096} {
		o := options()
		o.Sector = sector
		m, d := disk(t, 12, o)
		tide, falcons := noise(1, slab.Slab+77), noise(2, 3*slab.Slab-4096)
		add(t, d, "VSP-20417", "Copper Tide", tide)
		require.NoError(t, d.PutFile(t.Context(), "faces/front/VSP-20417.jpg", []byte("a picture"), when))
		add(t, d, "VSP-20502", "Paper Falcons – Été", falcons)
		require.NoError(t, d.SetCover("vsp-20417", "faces/front/VSP-20417.jpg"))
		require.NoError(t, d.Set("VSP-20417", map[string]string{"tray": "open", "timing": ""}))
		require.NoError(t, d.Rename("VSP-20502", "Paper Falcons"))

		d = again(t, m, len(m.B))
		titles := d.Titles()
		require.Len(t, titles, 2)
		assert.Equal(t, "Copper Tide", titles[0].Name)
		assert.Equal(t, map[string]string{"tray": "open"}, titles[0].Settings)
		assert.Equal(t, "faces/front/VSP-20417.jpg", titles[0].Cover)
		assert.Equal(t, "Paper Falcons", titles[1].Name)
		assert.Len(t, titles[1].Extents, 1, "contiguous")
		assert.True(t, bytes.Equal(tide, content(t, d, "vsp-20417")))
		assert.True(t, bytes.Equal(falcons, content(t, d, "VSP-20502")))
		b, err := d.ReadFile("FACES/front/VSP-20417.jpg")
		require.NoError(t, err)
		assert.Equal(t, "a picture", string(b))
		problems, err := d.Check(t.Context(), true, nil)
		require.NoError(t, err)
		assert.Empty(t, problems)
		require.NoError(t, fstest.TestFS(d.FS(), "titles/VSP-20417", "titles/VSP-20502",
			"files/faces/front/VSP-20417.jpg"))

		require.NoError(t, d.Remove("VSP-20417"))
		require.NoError(t, d.RemoveFile("faces/front/VSP-20417.jpg"))
		d = again(t, m, len(m.B))
		assert.Len(t, d.Titles(), 1)
		assert.Empty(t, d.Files())
		assert.Equal(t, int64(12-3-3)*slab.Slab, d.Info().Free)
	}
}

// TestWhatCannotBeIsRefused: nothing is changed by it.
func TestWhatCannotBeIsRefused(t *testing.T) {
	m, d := disk(t, 8, options())
	add(t, d, "VSP-20417", "Copper Tide", noise(1, 100))
	before := bytes.Clone(m.B)
	put := func(n slab.New, size int64) error {
		_, err := d.Add(t.Context(), n, size, bytes.NewReader(make([]byte, min(size, 1<<20))), false, nil)
		return err
	}
	long := strings.Repeat("é", 80)
	for name, c := range map[string]struct {
		err error
		is  error
		say string
	}{
		"one that is there": {put(slab.New{ID: "vsp-20417", Name: "x"}, 1), slab.ErrExists, ""},
		"no ID":             {put(slab.New{Name: "x"}, 1), nil, "an ID has 1 to 32 bytes"},
		"a slash":           {put(slab.New{ID: "a/b", Name: "x"}, 1), nil, "slash"},
		"no name":           {put(slab.New{ID: "A"}, 1), nil, "a name has 1 to 128 bytes"},
		"a long name":       {put(slab.New{ID: "A", Name: long}, 1), nil, "has 160"},
		"no UTF-8":          {put(slab.New{ID: "A", Name: "\xff"}, 1), nil, "UTF-8"},
		"two lines":         {put(slab.New{ID: "A", Name: "a\nb"}, 1), nil, "several lines"},
		"no setting": {put(slab.New{ID: "A", Name: "x", Settings: map[string]string{"a b ": "c"}}, 1), nil,
			"key=value"},
		"too large": {put(slab.New{ID: "A", Name: "x"}, 9*slab.Slab), slab.ErrNoSpace,
			"10 slabs of 4 MiB are needed"},
		"no such title":       {d.Rename("B", "x"), slab.ErrNotFound, ""},
		"no such file":        {d.RemoveFile("B"), slab.ErrNotFound, ""},
		"a name for a file":   {d.PutFile(t.Context(), "../x", nil, when), nil, "no name for a small file"},
		"a renamed one":       {d.Rename("VSP-20417", ""), nil, "a name has"},
		"settings of nothing": {d.Set("B", nil), slab.ErrNotFound, ""},
	} {
		require.Error(t, c.err, name)
		if c.is != nil {
			assert.ErrorIs(t, c.err, c.is, name)
		}
		assert.ErrorContains(t, c.err, c.say, name)
	}
	assert.True(t, bytes.Equal(before, m.B))
	err := put(slab.New{ID: "A", Name: "x"}, 2<<20) // which ends too early
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	assert.Len(t, again(t, m, len(m.B)).Titles(), 1)

	ctx, cancel := context.WithCancel(t.Context())
	_, err = d.Add(ctx, slab.New{ID: "A", Name: "x"}, 9<<20,
		readerFunc(func(b []byte) (int, error) { cancel(); return len(b), nil }),
		false, nil)
	assert.ErrorIs(t, err, context.Canceled, "in the middle of it")
	assert.Len(t, again(t, m, len(m.B)).Titles(), 1)
	ctx, cancel = context.WithCancel(t.Context())
	cancel()
	_, err = d.Add(ctx, slab.New{ID: "B", Name: "x"}, 1<<20, bytes.NewReader(nil), false, nil)
	assert.ErrorIs(t, err, context.Canceled)
}

type readerFunc func(b []byte) (int, error)

func (f readerFunc) Read(b []byte) (int, error) { return f(b) }

// TestOfDisksThatAreNone: they are said to be none, cut short, newer or damaged.
func TestOfDisksThatAreNone(t *testing.T) {
	m, _ := disk(t, 8, options())
	open := func(change func(b []byte) []byte) error {
		b := change(bytes.Clone(m.B))
		_, err := slab.Open(&volumetest.Disk{B: b}, int64(len(b)))
		return err
	}
	assert.ErrorIs(t, open(func([]byte) []byte { return make([]byte, 8<<20) }), slab.ErrNotSlab)
	assert.ErrorIs(t, open(func([]byte) []byte { return nil }), slab.ErrNotSlab)
	assert.ErrorIs(t, open(func(b []byte) []byte { b[8] = 2; return b }), slab.ErrNewer)
	assert.ErrorContains(t, open(func(b []byte) []byte { return b[:7*slab.Slab] }), "cut short")
	assert.NoError(t, open(func(b []byte) []byte { b[40]++; return b }), "the copy of the header counts")
	assert.Error(t, open(func(b []byte) []byte { b[40]++; b[slab.Slab-400]++; return b }))
	assert.ErrorIs(t, open(func(b []byte) []byte { b[slab.Slab+40]++; b[2*slab.Slab+40]++; return b }), slab.ErrNoTable)
}

// step does one change that a model does too, and says which titles it is about.
func step(r *rand.Rand, d *slab.Disk, has map[string][]byte, n int) (about string, err error) {
	ids := []string{"A-1", "B-2", "C-3", "D-4", "E-5"}
	id := ids[r.Intn(len(ids))]
	_, there := has["t "+id]
	const begun = "polytome-0123456789abcdef.begun"
	whole := noise(4711, 5*slab.Slab/2) // of the one title that is interrupted, at any time the same
	switch k := r.Intn(14); {
	case k == 10: // interrupted, and kept
		w, err := d.BeginTitle(slab.New{ID: "LONG", Name: "Long One", Written: when}, int64(len(whole)), slab.How{
			Replace: true, Begun: begun})
		if err == nil {
			_, err = w.Write(whole[:r.Intn(len(whole))])
		}
		if err == nil {
			err = w.Leave()
		}
		return "f " + begun, err
	case k == 11: // and taken up
		w, err := d.ResumeTitle(slab.New{ID: "LONG", Name: "Long One", Written: when}, int64(len(whole)), slab.How{
			Replace: true, Begun: begun})
		if errors.Is(err, slab.ErrNotFound) {
			return "", nil
		}
		at := int64(0)
		if err == nil {
			at = r.Int63n(w.There() + 1)
			err = w.Keep(context.Background(), at)
		}
		if err == nil {
			_, err = w.Write(whole[at:])
		}
		if err == nil {
			err = w.Commit()
		}
		if err == nil {
			has["t LONG"] = whole
		}
		return "t LONG", err
	case k >= 12: // several changes at once
		d.Hold()
		var failed []error
		if there {
			failed = append(failed, d.Set(id, map[string]string{"timing": fmt.Sprint("v", n)}), d.Rename(id, fmt.Sprint(
				"held ", n)))
		}
		if _, long := has["t LONG"]; long {
			failed = append(failed, d.Remove("LONG"))
		}
		err := errors.Join(append(failed, d.Settle())...)
		if err == nil {
			delete(has, "t LONG")
		}
		return "", err
	case k < 4:
		b := noise(int64(n), r.Intn(3*slab.Slab/2))
		_, err := d.Add(context.Background(), slab.New{ID: id, Name: fmt.Sprint("name ", n), Written: when},
			int64(len(b)),
			bytes.NewReader(b), true, nil)
		if err == nil {
			has["t "+id] = b
		}
		return "t " + id, err
	case k < 6 && there:
		err := d.Remove(id)
		if err == nil {
			delete(has, "t "+id)
		}
		return "t " + id, err
	case k < 8:
		name, b := fmt.Sprint("f/", r.Intn(4)), noise(int64(n), r.Intn(20_000))
		err := d.PutFile(context.Background(), name, b, when)
		if err == nil {
			has["f "+name] = b
		}
		return "f " + name, err
	case k == 8 && there:
		return "", d.Rename(id, fmt.Sprint("again ", n))
	case k == 9:
		_, err := d.Compact(context.Background(), nil)
		return "", err
	}
	return "", nil
}

// all is what is on a disk.
func all(d *slab.Disk) (map[string][]byte, error) {
	out := map[string][]byte{}
	for _, x := range d.Titles() {
		r, err := d.Content(x.ID)
		if err != nil {
			return nil, err
		}
		b, err := io.ReadAll(r)
		if err != nil {
			return nil, err
		}
		out["t "+x.ID] = b
	}
	for _, x := range d.Files() {
		if strings.HasSuffix(x.Name, ".begun") { // kept of what was interrupted
			continue
		}
		b, err := d.ReadFile(x.Name)
		if err != nil {
			return nil, err
		}
		out["f "+x.Name] = b
	}
	return out, nil
}

func same(a, b map[string][]byte) bool {
	if len(a) != len(b) {
		return false
	}
	for k, v := range a {
		if w, ok := b[k]; !ok || !bytes.Equal(v, w) {
			return false
		}
	}
	return true
}

// TestCutAtAnyMoment does changes on a disk that keeps back what was not flushed, reorders it and tears sectors, and
// takes the power away at each flush: the disk is as before or as after, never between, and sound.
func TestCutAtAnyMoment(t *testing.T) {
	for seed := range int64(8) {
		r := rand.New(rand.NewSource(seed))
		m, _ := disk(t, 14, options())
		l := volumetest.NewLying(m.B)
		d := again(t, l, len(m.B))
		has := map[string][]byte{}
		for n := range 14 {
			before := map[string][]byte{}
			for k, v := range has {
				before[k] = v
			}
			var cuts []*volumetest.Disk
			l.Before = func() { cuts = append(cuts, l.Cut(r, true)) }
			about, err := step(r, d, has, n+100*int(seed))
			if err != nil && !errors.Is(err, slab.ErrNoSpace) {
				require.NoError(t, err)
			}
			l.Before = nil
			cuts = append(cuts, l.Cut(r, true))
			for k, cut := range cuts {
				what := fmt.Sprintf("seed %d, step %d (%s), cut %d of %d", seed, n, about, k, len(cuts))
				c := again(t, cut, len(cut.B))
				got, err := all(c)
				require.NoError(t, err, what)
				require.True(t, same(got, before) || same(got, has), what)
				if k == len(cuts)-1 {
					require.True(t, same(got, has), "%s: what was done is there", what)
				}
				problems, err := c.Check(t.Context(), true, nil)
				require.NoError(t, err)
				for _, p := range problems {
					require.False(t, p.Lost, "%s: %+v", what, p)
				}
			}
		}
	}
}

// TestSpaceIsUsedUpAndComesBack: titles in several pieces where there is no other room, and compacting makes them and
// the free space whole.
// TestHoldingWithinHolding has changes be held back by somebody whose caller holds back more: nothing is on the medium
// before the outer one settles, and then all of it is.
func TestHoldingWithinHolding(t *testing.T) {
	m, d := disk(t, 20, options())
	add(t, d, "A-1", "One", noise(1, 1000))
	add(t, d, "A-2", "Two", noise(2, 1000))
	ids := func(d *slab.Disk) (all []string) {
		for _, title := range d.Titles() {
			all = append(all, title.ID)
		}
		return all
	}
	d.Hold()
	require.NoError(t, d.Remove("A-1"))
	d.Hold()
	require.Error(t, d.Remove("A-9"), "the inner one changes nothing")
	require.NoError(t, d.Settle())
	assert.Equal(t, []string{"A-1", "A-2"}, ids(again(t, m, len(m.B))))
	require.NoError(t, d.Settle())
	assert.Equal(t, []string{"A-2"}, ids(again(t, m, len(m.B))))
	require.NoError(t, d.Settle(), "one too many does nothing")
	require.NoError(t, d.Rename("A-2", "Too"))
	assert.Equal(t, "Too", again(t, m, len(m.B)).Titles()[0].Name, "and nothing is held back any longer")
}

func TestSpaceIsUsedUpAndComesBack(t *testing.T) {
	m, d := disk(t, 15, options()) // 12 for titles
	has := map[string][]byte{}
	for n := range 6 {
		id := fmt.Sprintf("T-%d", n)
		has["t "+id] = noise(int64(n), 2*slab.Slab-5000)
		add(t, d, id, "Title", has["t "+id])
	}
	_, err := d.Add(t.Context(), slab.New{ID: "X", Name: "x"}, 1, strings.NewReader("x"), false, nil)
	assert.ErrorIs(t, err, slab.ErrNoSpace)
	assert.ErrorIs(t, d.PutFile(t.Context(), "x", []byte("x"), when), slab.ErrNoSpace)
	for _, n := range []int{0, 2, 4} {
		require.NoError(t, d.Remove(fmt.Sprintf("T-%d", n)))
		delete(has, fmt.Sprintf("t T-%d", n))
	}
	has["t BIG"] = noise(9, 4*slab.Slab-4096)
	add(t, d, "BIG", "Big One", has["t BIG"])
	assert.Len(t, d.Titles()[3].Extents, 2)
	require.NoError(t, d.Remove("T-1"))
	delete(has, "t T-1")
	require.NoError(t, d.Remove("T-3"))
	delete(has, "t T-3")
	moved, err := d.Compact(t.Context(), nil)
	require.NoError(t, err)
	assert.Positive(t, moved)
	d = again(t, m, len(m.B))
	got, err := all(d)
	require.NoError(t, err)
	assert.True(t, same(has, got))
	for _, x := range d.Titles() {
		assert.Len(t, x.Extents, 1, x.ID)
	}
	_, err = d.Add(t.Context(), slab.New{ID: "Y", Name: "y"}, 6*slab.Slab-4096,
		bytes.NewReader(make([]byte, 6*slab.Slab)),
		false, nil)
	require.NoError(t, err)
	titles := d.Titles()
	assert.Len(t, titles[len(titles)-1].Extents, 1, "the free space is in one piece")
}

// TestPiecesChangePlaces: where no title can be moved as a whole, one free slab is enough to bring all of them into one
// piece; wherever it is cut off, all of them are whole.
func TestPiecesChangePlaces(t *testing.T) {
	m, d := disk(t, 16, options()) // 13 for titles
	has := map[string][]byte{}
	for n := range 6 {
		id := fmt.Sprintf("T-%d", n)
		has["t "+id] = noise(int64(n), 2*slab.Slab-5000)
		add(t, d, id, "Title", has["t "+id])
	}
	for _, n := range []int{0, 2} {
		require.NoError(t, d.Remove(fmt.Sprintf("T-%d", n)))
		delete(has, fmt.Sprintf("t T-%d", n))
	}
	has["t BIG"] = noise(9, 4*slab.Slab-4096)
	add(t, d, "BIG", "Big One", has["t BIG"])
	l := volumetest.NewLying(m.B)
	d = again(t, l, len(m.B))
	r := rand.New(rand.NewSource(1))
	cuts := 0
	l.Before = func() {
		cuts++
		c := again(t, l.Cut(r, true), len(m.B))
		got, err := all(c)
		require.NoError(t, err)
		require.True(t, same(has, got), "cut %d", cuts)
	}
	var bytes int64
	moved, err := d.Compact(t.Context(), func(n int64) { bytes += n })
	require.NoError(t, err)
	l.Before = nil
	assert.Positive(t, moved)
	assert.Positive(t, bytes)
	assert.Positive(t, cuts)
	got, err := all(d)
	require.NoError(t, err)
	assert.True(t, same(has, got))
	for _, x := range d.Titles() {
		assert.Len(t, x.Extents, 1, x.ID)
	}
	assert.Equal(t, []slab.Extent{{First: 15, Count: 1}}, d.Map().Free)
	problems, err := d.Check(t.Context(), true, nil)
	require.NoError(t, err)
	assert.Empty(t, problems, "the heads say where the titles are now")
	moved, err = d.Compact(t.Context(), nil)
	require.NoError(t, err)
	assert.Zero(t, moved)
}

// TestAnyDiskIsCompacted: whatever came and went, each title is in one piece afterwards, unless small files or a disk
// without one free slab keep that from being so; and it can be stopped after any move.
func TestAnyDiskIsCompacted(t *testing.T) {
	for seed := range int64(24) {
		r := rand.New(rand.NewSource(seed))
		m, d := disk(t, 12+r.Intn(8), options())
		for n := range 25 {
			id := fmt.Sprintf("T-%d", r.Intn(9))
			if r.Intn(3) == 0 {
				_ = d.Remove(id) // which may not be there
				continue
			}
			b := noise(int64(n), r.Intn(4*slab.Slab))
			_, err := d.Add(t.Context(), slab.New{ID: id, Name: "x", Written: when}, int64(len(b)), bytes.NewReader(b),
				true,
				nil)
			if err != nil {
				require.ErrorIs(t, err, slab.ErrNoSpace)
			}
		}
		if r.Intn(2) == 0 {
			_ = d.PutFile(t.Context(), "small", []byte("small"), when) // where there is room
		}
		has, err := all(d)
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		left := r.Intn(6)
		_, err = d.Compact(ctx, func(int64) {
			if left--; left < 0 {
				cancel()
			}
		})
		cancel()
		if err != nil && !errors.Is(err, slab.ErrNoSpace) {
			require.ErrorIs(t, err, context.Canceled)
		}
		_, err = d.Compact(t.Context(), nil)
		full := errors.Is(err, slab.ErrNoSpace)
		if !full {
			require.NoError(t, err)
		}
		d = again(t, m, len(m.B))
		got, err := all(d)
		require.NoError(t, err)
		require.True(t, same(has, got), seed)
		if full {
			assert.Empty(t, d.Map().Free, seed)
			continue
		}
		for _, x := range d.Titles() {
			assert.Len(t, x.Extents, 1, "seed %d: %s", seed, x.ID)
		}
		assert.LessOrEqual(t, len(d.Map().Free), 1+len(d.Map().Small), seed)
		problems, err := d.Check(t.Context(), true, nil)
		require.NoError(t, err)
		assert.Empty(t, problems, seed)
	}
}

// TestRepair: a damaged header, table or head is written again; with both tables gone, titles are found by their heads.
func TestRepair(t *testing.T) {
	m, d := disk(t, 14, options())
	has := map[string][]byte{}
	for n, id := range []string{"A-1", "B-2", "C-3"} {
		has["t "+id] = noise(int64(n), slab.Slab/2)
		add(t, d, id, "Title "+id, has["t "+id])
	}
	require.NoError(t, d.Remove("B-2"))
	has["t D-4"] = noise(9, slab.Slab)
	add(t, d, "D-4", "Title D-4", has["t D-4"]) // in the place of the one that was removed, and behind
	delete(has, "t B-2")
	sound := bytes.Clone(m.B)
	head := func(d *slab.Disk, id string) int64 {
		k := slices.IndexFunc(d.Titles(), func(x slab.Title) bool { return x.ID == id })
		return d.Titles()[k].Extents[0].First * 512
	}
	repair := func() (*slab.Repair, *slab.Disk) {
		r, err := slab.LookOver(t.Context(), m, int64(len(m.B)), nil)
		require.NoError(t, err)
		before := bytes.Clone(m.B)
		require.True(t, bytes.Equal(before, m.B), "looking changes nothing")
		d, err := r.Apply()
		require.NoError(t, err)
		return r, d
	}
	for name, at := range map[string]int64{"header": 30, "its copy": slab.Slab - 500, "table A": slab.Slab + 9,
		"table B": 2*slab.Slab + 9, "a head": head(d, "C-3") + 100} {
		copy(m.B, sound)
		m.B[at] ^= 0xFF
		r, d := repair()
		assert.Len(t, r.Do, 1, name)
		got, err := all(d)
		require.NoError(t, err)
		assert.True(t, same(has, got), name)
		r, err = slab.LookOver(t.Context(), m, int64(len(m.B)), nil)
		require.NoError(t, err)
		assert.Empty(t, r.Do, "%s: nothing is left to be done", name)
		problems, err := again(t, m, len(m.B)).Check(t.Context(), true, nil)
		require.NoError(t, err)
		assert.Empty(t, problems, name)
	}

	copy(m.B, sound)
	m.B[slab.Slab+9] ^= 0xFF
	m.B[2*slab.Slab+9] ^= 0xFF
	m.B[head(d, "A-1")+5000] ^= 0xFF // a byte of its content
	r, d := repair()
	require.Len(t, r.Lost, 1)
	assert.Contains(t, r.Lost[0].Of, "A-1")
	delete(has, "t A-1")
	got, err := all(d)
	require.NoError(t, err)
	assert.True(t, same(has, got), "%v", r.Do)
	assert.True(t, bytes.Equal(has["t D-4"], content(t, again(t, m, len(m.B)), "D-4")))
}

// TestDamagedContentIsFound, and a clone ends with it.
func TestDamagedContentIsFound(t *testing.T) {
	m, d := disk(t, 8, options())
	add(t, d, "A-1", "One", noise(1, 9000))
	require.NoError(t, d.PutFile(t.Context(), "a", []byte("text"), when))
	require.NoError(t, d.SetCover("A-1", "b"))
	m.B[d.Titles()[0].Extents[0].First*512+4096+17] ^= 1
	problems, err := d.Check(t.Context(), true, nil)
	require.NoError(t, err)
	require.Len(t, problems, 2)
	assert.Contains(t, problems[0].Say, "its cover b is not on the disk")
	assert.True(t, problems[1].Lost)
	to := &volumetest.Disk{B: make([]byte, 20*slab.Slab)}
	_, err = d.Clone(t.Context(), to, int64(len(to.B)), slab.Options{}, nil)
	var sum *slab.SumError
	assert.ErrorAs(t, err, &sum)
}

// TestAClone has everything, contiguous, on a larger disk with other sectors.
func TestAClone(t *testing.T) {
	_, d := disk(t, 9, options())
	add(t, d, "A-1", "One", noise(1, 9000))
	add(t, d, "B-2", "Two", noise(2, slab.Slab))
	require.NoError(t, d.PutFile(t.Context(), "a/b", []byte("text"), when))
	to := &volumetest.Disk{B: make([]byte, 30*slab.Slab)}
	_, err := d.Clone(t.Context(), to, int64(len(to.B)), slab.Options{Sector: 4096}, nil)
	require.NoError(t, err)
	got := again(t, to, len(to.B))
	a, err := all(d)
	require.NoError(t, err)
	b, err := all(got)
	require.NoError(t, err)
	assert.True(t, same(a, b))
	assert.Equal(t, "FERRY", got.Info().Label)
	assert.Equal(t, int64(4096), got.Info().Sector)
	assert.NotEqual(t, d.Info().Number, got.Info().Number)
	assert.Equal(t, when, got.Titles()[0].Written)
	small := &volumetest.Disk{B: make([]byte, 4*slab.Slab)}
	_, err = d.Clone(t.Context(), small, int64(len(small.B)), slab.Options{}, nil)
	assert.ErrorIs(t, err, slab.ErrNoSpace)
	assert.Equal(t, make([]byte, 100), small.B[:100], "what is too small is not formatted")
}

// FuzzOpen: whatever a disk says of itself, reading it ends, and what is read agrees with its checksums or is said not
// to.
func FuzzOpen(f *testing.F) {
	m, d := disk(f, 6, options())
	_, err := d.Add(context.Background(), slab.New{ID: "A-1", Name: "One", Written: when}, 5,
		strings.NewReader("abcde"), false, nil)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(m.B[:512], m.B[2*slab.Slab:2*slab.Slab+1024], m.B[slab.Slab:slab.Slab+1024])
	f.Fuzz(func(t *testing.T, header, a, b []byte) {
		x := &volumetest.Disk{B: bytes.Clone(m.B)}
		copy(x.B[:slab.Slab], header)
		copy(x.B[slab.Slab:2*slab.Slab], a)
		copy(x.B[2*slab.Slab:3*slab.Slab], b)
		d, err := slab.Open(x, int64(len(x.B)))
		if err != nil {
			return
		}
		_, _ = d.Check(context.Background(), true, nil)
		_, _ = all(d)
		d.Info()
		_, _ = d.Compact(context.Background(), nil)
	})
}
