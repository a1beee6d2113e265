package served_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/exfat"
	"polytome/internal/format/virtual"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/claim"
	"polytome/internal/target/served"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/targettest"
)

var ctx = context.Background()

// letters is a source of one letter, as the recipe says it.
type letters struct {
	letter byte
	size   int64
}

func (l letters) Size() int64 { return l.size }

func (l letters) ReadAt(b []byte, off int64) (int, error) {
	n := max(0, min(int64(len(b)), l.size-off))
	for i := range b[:n] {
		b[i] = l.letter
	}
	if n < int64(len(b)) {
		return int(n), io.EOF
	}
	return int(n), nil
}

var small = served.Options{Capacity: 64 * size.MiB, Cluster: 4096,
	Make: func(recipe []byte, size int64) (virtual.Source, error) {
		var letter string
		if err := json.Unmarshal(recipe, &letter); err != nil {
			return nil, err
		}
		if letter == "?" {
			return nil, errors.New("nobody has this letter")
		}
		return letters{letter[0], size}, nil
	}}

func open(t testing.TB, at string) *served.Target {
	t.Helper()
	p, err := served.Open(at, small)
	require.NoError(t, err)
	return p
}

func TestConformance(t *testing.T) {
	targettest.Run(t, func(t *testing.T) target.Target { return open(t, served.Scheme+t.TempDir()) })
}

func refer(t testing.TB, p *served.Target, name, letter string, n int64) {
	t.Helper()
	require.NoError(t, p.Refer(ctx, target.Referral{Path: name, Size: n, Recipe: []byte(`"` + letter + `"`),
		Modified: time.Date(2026, 3, 14, 0, 0, 0, 0, time.UTC)}))
}

func text(t testing.TB, p target.Target, name string) string {
	t.Helper()
	c, err := p.Open(ctx, name)
	require.NoError(t, err)
	defer c.Close()
	b, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
	require.NoError(t, err)
	return string(b)
}

func put(t testing.TB, p target.Target, name, what string) {
	t.Helper()
	begin := p.Create
	if _, err := p.Stat(ctx, name); err == nil {
		begin = p.Replace
	}
	w, err := begin(ctx, name, int64(len(what)))
	require.NoError(t, err)
	_, err = io.WriteString(w, what)
	require.NoError(t, errors.Join(err, w.Flush(), w.Commit()))
}

// TestAnExportIsTakenUpAgain: what was put there is there when it is opened again, made or kept, at the same place.
func TestAnExportIsTakenUpAgain(t *testing.T) {
	dir := t.TempDir()
	at := served.Scheme + dir
	p := open(t, at)
	require.NoError(t, p.MakeFolder(ctx, "FULL/old"))
	refer(t, p, "FULL/old/a.iso", "a", 1<<20)
	refer(t, p, "b.iso", "b", 5)
	put(t, p, "list.txt", "first")
	put(t, p, "LIST.TXT", "second")
	require.NoError(t, p.Rename(ctx, "FULL/old", "FULL/new"))
	err := p.Refer(ctx, target.Referral{Path: "B.ISO", Size: 7, Recipe: []byte(`"c"`)})
	assert.ErrorIs(t, err, target.ErrExists)
	err = p.Refer(ctx, target.Referral{Path: "none/x", Size: 7, Recipe: []byte(`"c"`)})
	assert.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, p.Refer(ctx, target.Referral{Path: "odd.iso", Size: 7, Recipe: []byte(`"?"`)}))
	require.NoError(t, p.Close())

	p = open(t, at)
	assert.Equal(t, "bbbbb", text(t, p, "b.iso"))
	assert.Equal(t, "second", text(t, p, "list.txt"))
	assert.Len(t, text(t, p, "FULL/NEW/A.iso"), 1<<20)
	e, err := p.Stat(ctx, "FULL/new/a.iso")
	require.NoError(t, err)
	assert.Equal(t, "2026-03-14", e.Modified.Format(time.DateOnly))
	odd, err := p.Open(ctx, "odd.iso")
	require.NoError(t, err)
	_, err = odd.ReadAt(make([]byte, 1), 0)
	assert.ErrorContains(t, err, "nobody has this letter")
	// what is served is the same
	v := volumeOf(t, at)
	onto, err := exfat.Open(device{v}, v.Size())
	require.NoError(t, err)
	b, err := fs.ReadFile(onto.FS(), "list.txt")
	require.NoError(t, err)
	assert.Equal(t, "second", string(b))
	img := filepath.Join(t.TempDir(), "volume.img")
	f, err := os.Create(img)
	require.NoError(t, err)
	require.NoError(t, p.Remove(ctx, "odd.iso")) // which cannot be read
	require.NoError(t, p.Close())
	_, err = io.Copy(f, io.NewSectionReader(v, 0, v.Size()))
	require.NoError(t, errors.Join(err, f.Close()))
	judge.Run(t, "fsck.exfat", "-n", img)

	kept, err := os.ReadDir(filepath.Join(dir, "kept"))
	require.NoError(t, err)
	assert.Len(t, kept, 1, "what was replaced is not kept")

	layout := filepath.Join(dir, "layout")
	require.NoError(t, os.WriteFile(layout, []byte("{\"polytome-served\":9,\"files\":0}\n"), 0o600))
	_, err = served.Open(at, small)
	assert.ErrorContains(t, err, "has version 9")
	require.NoError(t, os.WriteFile(layout, []byte("nothing of ours\n"), 0o600))
	_, err = served.Open(at, small)
	assert.ErrorContains(t, err, "remove "+layout+" to have it laid out again")
}

type device struct{ *virtual.Volume }

func (device) WriteAt([]byte, int64) (int, error) { return 0, errors.New("it is only read") }
func (device) Sync() error                        { return nil }

// volumeOf is the volume of an export that is open.
func volumeOf(t testing.TB, at string) *virtual.Volume {
	t.Helper()
	e, err := served.Take(at, small)
	require.NoError(t, err)
	e.Leave()
	return e.Volume()
}

// TestOneAtATime: two runs, in this program or another, do not fill an export at once; whoever serves it in this
// program
// does not keep a run from it.
func TestOneAtATime(t *testing.T) {
	dir := t.TempDir()
	at := served.Scheme + dir
	e, err := served.Take(at, small)
	require.NoError(t, err)
	release, err := e.Hold()
	require.NoError(t, err)
	a, b := open(t, at), open(t, at)
	over, err := a.Claim()
	require.NoError(t, err)
	_, err = b.Claim()
	var taken *claim.TakenError
	require.ErrorAs(t, err, &taken)
	assert.Equal(t, os.Getpid(), taken.PID)
	refer(t, a, "a.iso", "a", 10)
	over()
	over, err = b.Claim()
	require.NoError(t, err)
	assert.Equal(t, "aaaaaaaaaa", text(t, b, "a.iso"), "it is the same export")
	over()
	require.NoError(t, errors.Join(a.Close(), b.Close()))
	release()
	e.Leave()

	other, err := claim.Named("served " + dir) // as another program has it
	require.NoError(t, err)
	a = open(t, at)
	assert.Equal(t, "aaaaaaaaaa", text(t, a, "a.iso"))
	err = a.MakeFolder(ctx, "x")
	require.ErrorAs(t, err, &taken)
	assert.ErrorContains(t, err, "is laid out there by whoever serves it")
	other()
	require.NoError(t, a.Close())
}

// TestAnOlderLayoutIsNotWrittenOverANewerOne: what another program has laid out meanwhile stays.
func TestAnOlderLayoutIsNotWrittenOverANewerOne(t *testing.T) {
	dir := t.TempDir()
	p := open(t, served.Scheme+dir)
	refer(t, p, "a.iso", "a", 10)
	require.NoError(t, p.Close())
	p = open(t, served.Scheme+dir)
	layout := filepath.Join(dir, "layout")
	b, err := os.ReadFile(layout)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(layout, append(b, "newer"...), 0o600))
	assert.ErrorIs(t, p.MakeFolder(ctx, "x"), target.ErrChanged)
	require.NoError(t, p.Close())
	now, err := os.ReadFile(layout)
	require.NoError(t, err)
	assert.Len(t, now, len(b)+5)
}

// TestWhatGoesStaysForThoseConnected, and its space is used again when they have gone.
func TestWhatGoesStaysForThoseConnected(t *testing.T) {
	at := served.Scheme + t.TempDir()
	p := open(t, at)
	defer p.Close()
	refer(t, p, "a.iso", "a", 30<<20)
	e, err := served.Take(at, small)
	require.NoError(t, err)
	defer e.Leave()
	v := e.Volume()
	require.NoError(t, e.Connect())
	where := int64(0)
	for ; ; where += 4096 {
		if _, _, ok := v.At(where); ok {
			break
		}
	}
	require.NoError(t, p.Remove(ctx, "a.iso"))
	b := make([]byte, 4096)
	_, err = v.ReadAt(b, where)
	require.NoError(t, err)
	assert.Equal(t, bytes.Repeat([]byte("a"), 4096), b)
	big := target.Referral{Path: "b.iso", Size: 40 << 20, Recipe: []byte(`"b"`)}
	assert.ErrorIs(t, p.Refer(ctx, big), target.ErrNoSpace)
	require.NoError(t, e.Connect())
	require.NoError(t, e.Disconnect())
	assert.ErrorIs(t, p.Refer(ctx, big), target.ErrNoSpace, "one is still there")
	require.NoError(t, e.Disconnect())
	require.NoError(t, p.Refer(ctx, big))
	_, _, ok := v.At(where)
	assert.False(t, ok && func() bool { name, _, _ := v.At(where); return name == "a.iso" }())
}

// FuzzLayout: a layout that was spoilt is an error, or an export.
func FuzzLayout(f *testing.F) {
	dir := f.TempDir()
	p := open(f, served.Scheme+dir)
	refer(f, p, "a.iso", "a", 10_000)
	put(f, p, "b.txt", "kept")
	if err := p.Close(); err != nil {
		f.Fatal(err)
	}
	layout := filepath.Join(dir, "layout")
	good, err := os.ReadFile(layout)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good)
	f.Add(good[:200])
	f.Fuzz(func(t *testing.T, b []byte) {
		if err := os.WriteFile(layout, b, 0o600); err != nil {
			t.Fatal(err)
		}
		p, err := served.Open(served.Scheme+dir, small)
		if err != nil {
			return
		}
		_, _ = p.List(ctx, func(string, error) {})
		_ = p.Close()
	})
}
