package volumetest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/volume"
)

// A Filesystem is what the suite runs on.
type Filesystem struct {
	Size     int64 // bytes of the volumes
	Make     func(dev volume.Device, size int64) error
	Open     func(dev volume.Device, size int64) (*volume.Volume, error)
	Judge    func(t testing.TB, img string) (sound bool, says string) // a foreign check
	Clusters int64                                                    // size of a cluster
}

// disk makes a volume in memory.
func (f Filesystem) disk(t testing.TB) *Disk {
	d := &Disk{B: make([]byte, f.Size)}
	rand.New(rand.NewSource(1)).Read(d.B[:min(len(d.B), 4<<20)]) // what was there before
	require.NoError(t, f.Make(d, f.Size))
	return d
}

func (f Filesystem) open(t testing.TB, d volume.Device) *volume.Volume {
	v, err := f.Open(d, f.Size)
	require.NoError(t, err)
	return v
}

// saved is a disk that can be written into a file.
type saved interface {
	Save(t testing.TB, name string)
}

// judge has the foreign check look at a disk.
func (f Filesystem) judge(t testing.TB, d saved) (bool, string) {
	img := filepath.Join(t.TempDir(), "judged.img")
	d.Save(t, img)
	defer os.Remove(img)
	return f.Judge(t, img)
}

func (f Filesystem) sound(t testing.TB, d saved) {
	t.Helper()
	ok, says := f.judge(t, d)
	require.True(t, ok, says)
}

var ctx = context.Background()

// bytesOf are contents that tell a file from all others.
func bytesOf(seed int64, n int) []byte {
	b := make([]byte, n)
	rand.New(rand.NewSource(seed)).Read(b)
	return b
}

// Put writes a file.
func Put(v *volume.Volume, name string, data []byte) error {
	w, err := v.Create(ctx, name, int64(len(data)), false)
	if err != nil {
		return err
	}
	if _, err := w.Write(data); err != nil {
		w.Abort()
		return err
	}
	if err := w.Commit(); err != nil {
		w.Abort()
		return err
	}
	return nil
}

// Contents reads everything on a volume: folders are nil.
func Contents(v *volume.Volume) (map[string][]byte, error) {
	out := map[string][]byte{}
	tree := v.FS()
	err := fs.WalkDir(tree, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			out[name] = nil
			return nil
		}
		out[name], err = read(tree, name)
		return err
	})
	return out, err
}

// read reads a file. It is not fs.ReadFile, which frees space beforehand for the gigabytes that a spoilt entry may tell
// of.
func read(tree fs.FS, name string) ([]byte, error) {
	f, err := tree.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b := bytes.NewBuffer([]byte{})
	_, err = io.Copy(b, f)
	return b.Bytes(), err
}

// Run runs the suite.
func Run(t *testing.T, f Filesystem) {
	t.Run("an empty volume", func(t *testing.T) {
		d := f.disk(t)
		f.sound(t, d)
		v := f.open(t, d)
		h, err := v.Check(ctx)
		require.NoError(t, err)
		assert.Empty(t, h.Findings)
		assert.Positive(t, h.Free)
	})
	t.Run("the tree is a file system", func(t *testing.T) {
		v := f.open(t, f.disk(t))
		require.NoError(t, v.MakeFolder(ctx, "a/b"))
		require.NoError(t, Put(v, "a/b/Copper Tide.iso", bytesOf(1, 100_000)))
		require.NoError(t, Put(v, "empty", nil))
		assert.NoError(t, fstest.TestFS(v.FS(), "a/b/Copper Tide.iso", "empty"))
	})
	t.Run("names", func(t *testing.T) {
		d := f.disk(t)
		v := f.open(t, d)
		long := strings.Repeat("n", 251) + ".iso"
		names := []string{"A", "lower.txt", "MIXED.Case.txt", "Étude für Ж 日本 🎮.dat", long, "a+b,c;d=e[f].x",
			"with space.e", ".hidden", "VSP-20417 - Copper Tide.iso", "VSP-20417 - Copper Hide.iso"}
		for i := range 30 {
			names = append(names, fmt.Sprintf("same beginning %d.iso", i))
		}
		for i, n := range names {
			require.NoError(t, Put(v, n, bytesOf(int64(i), 10)), n)
		}
		for _, bad := range []string{"a:b", "a*", "x?", `a\b`, strings.Repeat("n", 256), "a|b"} {
			assert.Error(t, Put(v, bad, nil), bad)
		}
		assert.ErrorIs(t, Put(v, "LOWER.TXT", nil), fs.ErrExist, "letter case tells no files apart")
		assert.ErrorIs(t, Put(v, "éTUDE FÜR ж 日本 🎮.DAT", nil), fs.ErrExist)
		require.NoError(t, v.Close())
		f.sound(t, d)
		got, err := Contents(f.open(t, d))
		require.NoError(t, err)
		for i, n := range names {
			assert.Equal(t, bytesOf(int64(i), 10), got[n], n)
		}
		assert.Len(t, got, len(names)+1)
	})
	t.Run("dates", func(t *testing.T) {
		d := f.disk(t)
		v := f.open(t, d)
		when := time.Date(2026, 3, 14, 15, 9, 26, 0, time.Local)
		w, err := v.Create(ctx, "dated", 1, false)
		require.NoError(t, err)
		_, err = w.Write([]byte("x"))
		require.NoError(t, err)
		w.Date(when)
		require.NoError(t, w.Commit())
		require.NoError(t, v.Close())
		n, err := f.open(t, d).Stat("dated")
		require.NoError(t, err)
		assert.True(t, n.Modified.Equal(when), n.Modified)
	})
	t.Run("the label", func(t *testing.T) {
		d := f.disk(t)
		v := f.open(t, d)
		for _, label := range []string{"PIPIT", "QUAY 2", ""} {
			require.NoError(t, v.SetLabel(ctx, label))
			require.NoError(t, v.Close())
			f.sound(t, d)
			v = f.open(t, d)
			assert.Equal(t, label, v.Info().Label)
		}
		assert.Error(t, v.SetLabel(ctx, "much too long for any volume"))
	})
	t.Run("random changes", f.random)
	t.Run("a cut after every write", f.cuts)
	t.Run("a device that fails", f.failures)
	t.Run("a full volume", f.full)
	t.Run("files fragmented", f.pieces)
	t.Run("a cut while files are defragmented", f.defragmentCuts)
	t.Run("what is defragmented comes back", f.comesBack)
	t.Run("folders in folders", f.deep)
	t.Run("damage is repaired", f.damage)
	t.Run("damage of every field loses nothing", f.spoils)
	t.Run("a disk that keeps writes back", f.lies)
}

// world is what ought to be on a volume.
type world struct {
	files map[string][]byte // nil for folders
	seed  int64
}

func (w *world) names(folders bool) []string {
	var out []string
	for n, b := range w.files {
		if (b == nil) == folders {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out
}

func (w *world) children(dir string) bool {
	for n := range w.files {
		if n != dir && strings.HasPrefix(n, dir+"/") {
			return true
		}
	}
	return false
}

// step does one random change to a volume and to the world. It returns the name that it was about.
func (w *world) step(r *rand.Rand, v *volume.Volume, cluster int) (string, error) {
	folders, files := w.names(true), w.names(false)
	dir := folders[r.Intn(len(folders))]
	w.seed++
	name := path.Join(dir, fmt.Sprintf("%s %d", []string{"f", "A long name of a title, with much in it",
		"G"}[r.Intn(3)], w.seed))
	length := []int{0, 1, cluster, cluster*3 + 17, cluster * 9}[r.Intn(5)]
	pick := func() string { return files[r.Intn(len(files))] }
	switch k := r.Intn(12); {
	case k < 4 || len(files) == 0:
		data := bytesOf(w.seed, length)
		if err := Put(v, name, data); err != nil {
			return name, err
		}
		w.files[name] = data
		return name, nil
	case k < 5:
		if strings.Count(name, "/") > 3 {
			return "", nil
		}
		w.files[name] = nil
		return name, v.MakeFolder(ctx, name)
	case k < 7:
		old := pick()
		delete(w.files, old)
		return old, v.Remove(ctx, old)
	case k < 9:
		old := pick()
		if r.Intn(3) == 0 { // in its folder, often to a longer name
			name = path.Join(path.Dir(old), path.Base(name))
		}
		w.files[name] = w.files[old]
		delete(w.files, old)
		return old, v.Rename(ctx, old, name)
	case k < 10:
		old := pick()
		data := bytesOf(w.seed, length)
		wr, err := v.Replace(ctx, old, int64(length), false)
		if err != nil {
			return old, err
		}
		if _, err := wr.Write(data); err != nil {
			return old, err
		}
		w.files[old] = data
		return old, wr.Commit()
	case k < 11:
		old := pick()
		data := w.files[old]
		if length < len(data) {
			data = data[:length:length]
		} else {
			data = append(slices.Clip(data), make([]byte, length-len(data))...)
		}
		w.files[old] = data
		return old, v.Truncate(ctx, old, int64(length))
	default:
		if len(folders) < 3 {
			return "", nil
		}
		old := folders[1+r.Intn(len(folders)-1)]
		if dir == old || strings.HasPrefix(dir+"/", old+"/") {
			return "", nil
		}
		if !w.children(old) {
			delete(w.files, old)
			return old, v.Remove(ctx, old)
		}
		for n, b := range w.files {
			if n == old || strings.HasPrefix(n, old+"/") {
				w.files[name+strings.TrimPrefix(n, old)] = b
				delete(w.files, n)
			}
		}
		return old, v.Rename(ctx, old, name)
	}
}

// random does many changes, and compares with what ought to be.
func (f Filesystem) random(t *testing.T) {
	for seed := range int64(3) {
		d := f.disk(t)
		v := f.open(t, d)
		r := rand.New(rand.NewSource(seed))
		w := &world{files: map[string][]byte{".": nil}, seed: seed * 1_000_000}
		for i := range 250 {
			name, err := w.step(r, v, int(f.Clusters))
			require.NoError(t, err, "%s, step %d", name, i)
			switch r.Intn(12) {
			case 0:
				require.NoError(t, v.Flush())
			case 1:
				require.NoError(t, v.Close())
				if i%4 == 0 {
					f.sound(t, d)
				}
				v = f.open(t, d)
			}
		}
		inMemory, err := Contents(v)
		require.NoError(t, err)
		require.NoError(t, v.Close())
		f.sound(t, d)
		v = f.open(t, d)
		got, err := Contents(v)
		require.NoError(t, err)
		assert.Equal(t, len(w.files), len(got))
		for n, b := range w.files {
			if !bytes.Equal(b, got[n]) || !bytes.Equal(b, inMemory[n]) {
				t.Errorf("%s: %d bytes in memory, %d bytes on the volume, %d wanted", n, len(inMemory[n]), len(got[n]),
					len(b))
			}
		}
		h, err := v.Check(ctx)
		require.NoError(t, err)
		assert.Empty(t, h.Findings)
	}
}

// cuts does a change at a time, cuts the device off after every sector written, and wants all that was there before.
func (f Filesystem) cuts(t *testing.T) {
	judged := 0
	for seed := range int64(2) {
		d := f.disk(t)
		v := f.open(t, d)
		r := rand.New(rand.NewSource(seed + 100))
		w := &world{files: map[string][]byte{".": nil}, seed: seed*1_000_000 + 500_000}
		for range 60 {
			_, err := w.step(r, v, int(f.Clusters))
			require.NoError(t, err)
		}
		require.NoError(t, v.Close())
		changes := 15
		if f.Size > 20<<20 { // large tables take their time
			changes = 8
		}
		for range changes {
			before := map[string][]byte{}
			for n, b := range w.files {
				before[n] = b
			}
			v := f.open(t, d)
			d.Noting, d.Writes = true, nil
			about, err := w.step(r, v, int(f.Clusters))
			require.NoError(t, err)
			require.NoError(t, v.Close())
			d.Noting = false
			after := slices.Clone(d.B)
			for len(d.Writes) > 0 {
				d.Back()
				cut := d.Over()
				v := f.open(t, cut)
				first, left, err := v.Repair(ctx)
				require.NoError(t, err)
				for _, x := range first.Findings {
					assert.Contains(t, []volume.Kind{volume.Lost, volume.Tables, volume.Count, volume.Unclean,
						volume.Twice, volume.Length, volume.Boot, volume.Entries}, x.Kind, "%s %s", x.Path, x.Say)
				}
				for _, x := range left.Findings {
					assert.Contains(t, []volume.Kind{volume.Count, volume.Unclean}, x.Kind, "%s %s", x.Path, x.Say)
				}
				require.NoError(t, v.Close())
				got, err := Contents(f.open(t, cut))
				require.NoError(t, err)
				for n, b := range before {
					if n == about || strings.HasPrefix(n, about+"/") { // it is the old one or the new one, never half
						continue
					}
					g, ok := got[n]
					if !ok || !bytes.Equal(g, b) {
						t.Fatalf("cut off %d writes early while changing %q, %s is damaged", len(d.Writes), about, n)
					}
				}
				if old, now := before[about], w.files[about]; old != nil && got[about] != nil &&
					!bytes.Equal(got[about], old) && !bytes.Equal(got[about], now) && !isPrefix(got[about], old) {
					t.Fatalf("cut off while changing %q, it is neither the old one nor the new one: %d bytes of %d "+
						"or %d", about, len(got[about]), len(old), len(now))
				}
				if len(d.Writes)%11 == 0 {
					judged++
					f.sound(t, cut)
				}
			}
			copy(d.B, after)
		}
	}
	assert.Greater(t, judged, 10)
}

// isPrefix reports whether a file that was being made longer or shorter is in between: zeros may follow.
func isPrefix(got, old []byte) bool {
	n := min(len(got), len(old))
	return bytes.Equal(got[:n], old[:n]) && len(bytes.Trim(got[n:], "\x00")) == 0
}

// failures has the device vanish at every write in turn.
func (f Filesystem) failures(t *testing.T) {
	base := f.disk(t)
	v := f.open(t, base)
	require.NoError(t, v.MakeFolder(ctx, "FULL"))
	require.NoError(t, Put(v, "FULL/there.iso", bytesOf(5, 70_000)))
	require.NoError(t, v.Close())
	ended := false
	for n := 1; n < 400 && !ended; n++ {
		d := &Disk{B: slices.Clone(base.B), FailAt: n}
		v := f.open(t, d)
		err := errors.Join(
			v.MakeFolder(ctx, "FULL/deeper"),
			Put(v, "FULL/new.iso", bytesOf(6, 90_000)),
			v.Flush(),
			v.Rename(ctx, "FULL/there.iso", "there.iso"),
			v.Remove(ctx, "there.iso"),
			v.Close(),
		)
		if ended = err == nil; ended {
			break
		}
		assert.ErrorIs(t, err, ErrGone)
		assert.Error(t, Put(v, "again", []byte("x")), "nothing more is written after a failure")
		d.FailAt = 0
		v = f.open(t, d)
		_, _, err = v.Repair(ctx)
		require.NoError(t, err)
		require.NoError(t, v.Close())
		f.sound(t, d)
	}
	assert.True(t, ended)
}

func (f Filesystem) full(t *testing.T) {
	d := f.disk(t)
	v := f.open(t, d)
	free, err := v.FreeBytes(ctx)
	require.NoError(t, err)
	_, err = v.Create(ctx, "too large", free+1, false)
	assert.ErrorIs(t, err, volume.ErrNoSpace)
	w, err := v.Create(ctx, "delete-others", free, true)
	require.NoError(t, err)
	require.NoError(t, w.Skip(free))
	require.NoError(t, w.Commit())
	require.NoError(t, v.Flush())
	left, err := v.FreeBytes(ctx)
	require.NoError(t, err)
	assert.Zero(t, left)
	assert.ErrorIs(t, Put(v, "one more", []byte("x")), volume.ErrNoSpace)
	assert.ErrorIs(t, v.MakeFolder(ctx, "folder"), volume.ErrNoSpace)
	require.NoError(t, Put(v, "nothing", nil), "what takes no cluster still goes")
	require.NoError(t, v.Close())
	f.sound(t, d)
	v = f.open(t, d)
	require.NoError(t, v.Remove(ctx, "delete-others"))
	require.NoError(t, v.Flush())
	left, err = v.FreeBytes(ctx)
	require.NoError(t, err)
	assert.Equal(t, free, left)
	require.NoError(t, Put(v, "one more", []byte("x")))
	require.NoError(t, v.Close())
	f.sound(t, d)
}

// damage spoils single bytes of what the volume knows of itself: no panic, what can be read is read, and after
// repairing the foreign check finds it sound.
func (f Filesystem) damage(t *testing.T) {
	base := f.disk(t)
	v := f.open(t, base)
	require.NoError(t, v.SetLabel(ctx, "")) // which letters a label may have, systems do not agree on
	require.NoError(t, v.MakeFolder(ctx, "FULL/deep"))
	for i := range 12 {
		require.NoError(t, Put(v, fmt.Sprintf("FULL/title %d.iso", i), bytesOf(int64(i), int(f.Clusters)*(i%4)+100)))
	}
	require.NoError(t, v.Close())
	pieces, err := v.Files(ctx)
	require.NoError(t, err)
	info := v.Info()
	var spots []int64 // in the tables, and in folders
	for at := int64(512); at < info.Heap; at += 512 {
		if len(bytes.Trim(base.B[at:at+512], "\x00")) > 0 {
			for k := range int64(16) {
				spots = append(spots, at+k*3)
			}
		}
	}
	for _, p := range pieces {
		if p.Folder && len(p.Runs) > 0 {
			at := info.Heap + int64(p.Runs[0].First-2)*info.Cluster
			for k := int64(0); k < 640; k += 7 {
				spots = append(spots, at+k)
			}
		}
	}
	r := rand.New(rand.NewSource(7))
	r.Shuffle(len(spots), func(i, k int) { spots[i], spots[k] = spots[k], spots[i] })
	repaired := 0
	for _, at := range spots[:min(len(spots), 70)] {
		old := base.B[at]
		base.B[at] ^= byte(1 + r.Intn(255))
		d := base.Over()
		v, err := f.Open(d, f.Size)
		var left *volume.Health
		if err == nil {
			if _, left, err = v.Repair(ctx); err == nil {
				require.NoError(t, v.Close(), "byte %d", at)
			}
		}
		if err != nil || slices.ContainsFunc(left.Findings, func(x volume.Finding) bool { return x.Repair == "" }) {
			base.B[at] = old
			continue // it says so
		}
		ok, says := f.judge(t, d)
		base.B[at] = old
		assert.True(t, ok, "byte %d: %s\n%v", at, says, left.Findings)
		repaired++
	}
	assert.Greater(t, repaired, 20)
}

// Drain reads a file of a tree to its end.
func Drain(t testing.TB, tree fs.FS, name string) []byte {
	t.Helper()
	file, err := tree.Open(name)
	require.NoError(t, err)
	defer file.Close()
	b, err := io.ReadAll(file)
	require.NoError(t, err)
	return b
}
