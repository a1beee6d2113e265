// Package targettest is the suite that every kind of target passes.
package targettest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/target"
)

// Run runs the suite. The function makes a new, empty, writable target with at
// least 16 MiB free; the suite closes it.
func Run(t *testing.T, fresh func(t *testing.T) target.Target) {
	ctx := context.Background()
	open := func(t *testing.T) target.Target {
		p := fresh(t)
		t.Cleanup(func() { assert.NoError(t, p.Close()) })
		return p
	}
	paths := func(t *testing.T, p target.Target) []string {
		entries, err := p.List(ctx, func(path string, err error) { t.Errorf("%s: %v", path, err) })
		require.NoError(t, err)
		out := []string{}
		for _, e := range entries {
			out = append(out, e.Path)
		}
		return out
	}
	read := func(t *testing.T, c target.Content, err error) []byte {
		require.NoError(t, err)
		defer c.Close()
		b, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
		require.NoError(t, err)
		return b
	}
	put := func(t *testing.T, p target.Target, path string, data []byte) {
		w, err := p.Create(ctx, path, int64(len(data)))
		require.NoError(t, err)
		_, err = w.Write(data)
		require.NoError(t, err)
		require.NoError(t, w.Flush())
		require.NoError(t, w.Commit())
		assert.NoError(t, w.Abort(), "aborting after the commit does nothing")
	}

	t.Run("an empty target", func(t *testing.T) {
		p := open(t)
		f, err := p.Facts(ctx, nil)
		require.NoError(t, err)
		assert.NotEmpty(t, f.Filesystem.Name)
		root, err := p.Stat(ctx, ".")
		require.NoError(t, err)
		assert.True(t, root.Folder, "the root is there")
		assert.Positive(t, f.Cluster)
		assert.LessOrEqual(t, f.Free, f.Capacity)
		assert.Greater(t, f.Free, int64(16<<20))
		assert.Empty(t, paths(t, p))
	})
	t.Run("folders", func(t *testing.T) {
		p := open(t)
		require.NoError(t, p.MakeFolder(ctx, "a/b"))
		require.NoError(t, p.MakeFolder(ctx, "a/b"), "making it twice is fine")
		assert.Equal(t, []string{"a", "a/b"}, paths(t, p))
	})
	t.Run("a file comes back as written", func(t *testing.T) {
		p := open(t)
		require.NoError(t, p.MakeFolder(ctx, "FULL"))
		data := bytes.Repeat([]byte("Copper Tide "), 100_000)
		put(t, p, "FULL/x - y, 'z' (1)&!.iso", data)
		c, err := p.Open(ctx, "FULL/x - y, 'z' (1)&!.iso")
		assert.True(t, bytes.Equal(data, read(t, c, err)))
		require.NoError(t, p.Remove(ctx, "FULL/x - y, 'z' (1)&!.iso"))
		assert.Equal(t, []string{"FULL"}, paths(t, p))
	})
	t.Run("nothing shows before the commit", func(t *testing.T) {
		p := open(t)
		w, err := p.Create(ctx, "big.iso", 9)
		require.NoError(t, err)
		_, err = w.Write([]byte("some"))
		require.NoError(t, err)
		for _, path := range paths(t, p) {
			assert.True(t, target.IsTemporary(path), path)
		}
		_, err = p.Open(ctx, "big.iso")
		assert.Error(t, err)
		require.NoError(t, w.Abort())
		assert.Empty(t, paths(t, p), "an aborted file leaves nothing")
	})
	t.Run("a second try takes over what an interrupted one left", func(t *testing.T) {
		p := open(t)
		w, err := p.Create(ctx, "again.iso", 100)
		require.NoError(t, err)
		_, err = w.Write(bytes.Repeat([]byte("x"), 100))
		require.NoError(t, err)
		if l, ok := w.(target.Suspender); ok {
			require.NoError(t, l.Leave()) // the process is gone, and what it had open is closed
		}
		put(t, p, "again.iso", []byte("short"))
		c, err := p.Open(ctx, "again.iso")
		assert.Equal(t, "short", string(read(t, c, err)))
		assert.Equal(t, []string{"again.iso"}, paths(t, p))
		_ = w.Abort()
	})
	t.Run("what was left is resumed", func(t *testing.T) {
		p := open(t)
		r, ok := p.(target.Resumer)
		if !ok {
			return
		}
		_, err := r.Resume(ctx, "none.iso", 100, false)
		assert.ErrorIs(t, err, fs.ErrNotExist)
		data := make([]byte, 3<<20+12345)
		for i := range data {
			data[i] = byte(i*7 + i>>9)
		}
		begin := func(name string) {
			w, err := p.Create(ctx, name, int64(len(data)))
			require.NoError(t, err)
			_, err = w.Write(data[:2<<20])
			require.NoError(t, err)
			require.NoError(t, w.Flush())
			require.NoError(t, w.(target.Suspender).Leave())
			assert.NoError(t, w.Abort(), "aborting after leaving does nothing")
			assert.NotContains(t, paths(t, p), name)
			assert.Contains(t, paths(t, p), target.TemporaryName(name))
		}
		begin("half.iso")
		w, err := r.Resume(ctx, "half.iso", int64(len(data)), false)
		if errors.Is(err, fs.ErrNotExist) {
			return // the connection does not allow it, which it found out by now
		}
		require.NoError(t, err)
		require.EqualValues(t, 2<<20, w.There())
		back, err := w.ReadBack()
		require.True(t, bytes.Equal(data[:2<<20], read(t, back, err)))
		require.NoError(t, w.Keep(2<<20))
		_, err = w.Write(data[2<<20:])
		if err == nil {
			err = w.Flush()
		}
		if err != nil { // found out just now
			require.NoError(t, w.Abort())
			_, err = r.Resume(ctx, "half.iso", int64(len(data)), false)
			assert.ErrorIs(t, err, fs.ErrNotExist)
			return
		}
		back, err = w.ReadBack()
		require.True(t, bytes.Equal(data, read(t, back, err)))
		require.NoError(t, w.Commit())
		assert.Equal(t, []string{"half.iso"}, paths(t, p))

		begin("part.iso") // only the beginning is right
		w, err = r.Resume(ctx, "part.iso", int64(len(data)), false)
		require.NoError(t, err)
		if err := w.Keep(1 << 20); err == nil {
			_, err = w.Write(data[1<<20:])
			require.NoError(t, err)
			require.NoError(t, w.Flush())
			require.NoError(t, w.Commit())
			c, err := p.Open(ctx, "part.iso")
			assert.True(t, bytes.Equal(data, read(t, c, err)))
		} else {
			require.NoError(t, w.Abort())
		}

		begin("long.iso") // what is longer than the file is no beginning of it
		_, err = r.Resume(ctx, "long.iso", 1<<20, false)
		assert.ErrorIs(t, err, fs.ErrNotExist)
		put(t, p, "long.iso", []byte("short"))
		_, err = r.Resume(ctx, "long.iso", 1<<20, false)
		assert.ErrorIs(t, err, target.ErrExists)
	})
	t.Run("files are written side by side", func(t *testing.T) {
		p := open(t)
		c, ok := p.(target.ParallelWriter)
		if !ok {
			return
		}
		require.NoError(t, p.MakeFolder(ctx, "many"))
		names := make(chan int)
		var wait sync.WaitGroup
		for range c.AtOnce() {
			wait.Go(func() {
				for i := range names {
					put(t, p, fmt.Sprintf("many/%d", i), bytes.Repeat([]byte{byte(i)}, 1000+i))
				}
			})
		}
		for i := range 40 {
			names <- i
		}
		close(names)
		wait.Wait()
		for i := range 40 {
			c, err := p.Open(ctx, fmt.Sprintf("many/%d", i))
			assert.True(t, bytes.Equal(bytes.Repeat([]byte{byte(i)}, 1000+i), read(t, c, err)))
		}
	})
	t.Run("many are held back and made to last together", func(t *testing.T) {
		p := open(t)
		h, ok := p.(target.BatchCommitter)
		if !ok {
			return
		}
		var all []target.Writer
		for i := range 20 {
			w, err := p.Create(ctx, fmt.Sprintf("%02d", i), 1000)
			require.NoError(t, err)
			_, err = w.Write(bytes.Repeat([]byte{byte(i)}, 1000))
			require.NoError(t, err)
			all = append(all, w)
		}
		for _, err := range h.FlushAll(all, true) {
			require.NoError(t, err)
		}
		other := bytes.Repeat([]byte("mine"), 250)
		for i, w := range all {
			back, err := w.ReadBack()
			assert.Equal(t, bytes.Repeat([]byte{byte(i)}, 1000), read(t, back, err))
			if m, ok := w.(target.Measured); ok {
				n, err := m.Length()
				require.NoError(t, err)
				assert.EqualValues(t, 1000, n)
			}
		}
		put(t, p, "mine", other)
		err := p.Rename(ctx, "mine", "07")
		waits := errors.Is(err, target.ErrExists) // on a volume of ours, the one that waits has the name
		if waits {
			require.NoError(t, p.Remove(ctx, "mine"))
		} else {
			require.NoError(t, err)
		}
		h.Hold()
		atOnce := 1
		if c, ok := p.(target.ParallelWriter); ok {
			atOnce = c.AtOnce()
		}
		errs, next := make([]error, len(all)), make(chan int, len(all))
		for i := range all {
			next <- i
		}
		close(next)
		var wait sync.WaitGroup
		for range atOnce {
			wait.Go(func() {
				for i := range next {
					errs[i] = all[i].Commit()
				}
			})
		}
		wait.Wait()
		require.NoError(t, h.Settle(ctx))
		for i, err := range errs {
			if i == 7 && !waits {
				require.ErrorIs(t, err, target.ErrExists)
				require.NoError(t, all[i].Abort())
				c, err := p.Open(ctx, "07")
				assert.Equal(t, other, read(t, c, err), "what got the name meanwhile stays")
				continue
			}
			require.NoError(t, err)
		}
		assert.Len(t, paths(t, p), 20)
	})
	t.Run("folders that were made together are there", func(t *testing.T) {
		p := open(t)
		h, ok := p.(target.BatchCommitter)
		if !ok {
			return
		}
		h.Hold()
		require.NoError(t, h.Settle(ctx), "nothing was changed, and nothing may have been opened for that")
		h.Hold()
		made := []string{"FULL", "SHORT"}
		for _, dir := range made {
			require.NoError(t, p.MakeFolder(ctx, dir))
		}
		require.NoError(t, h.Settle(ctx))
		for _, dir := range made {
			e, err := p.Stat(ctx, dir)
			require.NoError(t, err)
			assert.True(t, e.Folder)
		}
		h.Hold()
		for _, dir := range made {
			require.NoError(t, p.Remove(ctx, dir))
		}
		require.NoError(t, h.Settle(ctx))
		assert.Empty(t, paths(t, p))
	})
	t.Run("skipped runs are zeros", func(t *testing.T) {
		p := open(t)
		w, err := p.Create(ctx, "holes", 0)
		require.NoError(t, err)
		_, err = w.Write([]byte("head"))
		require.NoError(t, err)
		require.NoError(t, w.Skip(1_000_000))
		_, err = w.Write([]byte("tail"))
		require.NoError(t, err)
		require.NoError(t, w.Skip(500))
		require.NoError(t, w.Flush())
		back, err := w.ReadBack()
		want := append(append([]byte("head"), bytes.Repeat([]byte{0}, 1_000_000)...), append([]byte("tail"),
			bytes.Repeat([]byte{0}, 500)...)...)
		assert.True(t, bytes.Equal(want, read(t, back, err)))
		require.NoError(t, w.Commit())

		c, err := p.Open(ctx, "holes")
		require.NoError(t, err)
		defer c.Close()
		for off := int64(0); off < c.Size(); { // every gap between runs of data must be zeros
			start, end := c.Data(off)
			require.LessOrEqual(t, off, start)
			assert.True(t, bytes.Equal(want[off:start], bytes.Repeat([]byte{0}, int(start-off))))
			off = max(end, start)
		}
	})
	t.Run("what is there is never overwritten", func(t *testing.T) {
		p := open(t)
		put(t, p, "mine.iso", []byte("mine"))
		_, err := p.Create(ctx, "mine.iso", 2<<20)
		assert.ErrorIs(t, err, target.ErrExists)
		w, err := p.Create(ctx, "mine.iso", 4)
		if err == nil { // small ones may be sent first
			_, err = w.Write([]byte("ours"))
			require.NoError(t, err)
			err = w.Commit()
			require.NoError(t, w.Abort())
		}
		assert.ErrorIs(t, err, target.ErrExists)
		c, err := p.Open(ctx, "mine.iso")
		assert.Equal(t, "mine", string(read(t, c, err)))
		assert.Equal(t, []string{"mine.iso"}, paths(t, p))

		w, err = p.Create(ctx, "race.iso", 4)
		require.NoError(t, err)
		_, err = w.Write([]byte("ours"))
		require.NoError(t, err)
		other, err := p.Create(ctx, "other.iso", 6)
		require.NoError(t, err)
		_, _ = other.Write([]byte("theirs"))
		require.NoError(t, other.Commit())
		require.NoError(t, w.Commit())
	})
	t.Run("replacing keeps the old file until the end", func(t *testing.T) {
		p := open(t)
		_, err := p.Replace(ctx, "cfg.txt", 3)
		assert.ErrorIs(t, err, fs.ErrNotExist, "there must be something to replace")
		put(t, p, "cfg.txt", []byte("old"))
		w, err := p.Replace(ctx, "cfg.txt", 5)
		require.NoError(t, err)
		_, err = w.Write([]byte("newer"))
		require.NoError(t, err)
		c, err := p.Open(ctx, "cfg.txt")
		assert.Equal(t, "old", string(read(t, c, err)))
		require.NoError(t, w.Flush())
		require.NoError(t, w.Commit())
		c, err = p.Open(ctx, "cfg.txt")
		assert.Equal(t, "newer", string(read(t, c, err)))
		assert.Equal(t, []string{"cfg.txt"}, paths(t, p))
		w, err = p.Replace(ctx, "cfg.txt", 5)
		require.NoError(t, err)
		require.NoError(t, w.Abort())
		c, err = p.Open(ctx, "cfg.txt")
		assert.Equal(t, "newer", string(read(t, c, err)), "giving up leaves the old file")
		require.NoError(t, p.MakeFolder(ctx, "dir"))
		_, err = p.Replace(ctx, "dir", 1)
		assert.Error(t, err, "a folder is not replaced by a file")
	})
	t.Run("renaming", func(t *testing.T) {
		p := open(t)
		require.NoError(t, p.MakeFolder(ctx, "a/deep"))
		require.NoError(t, p.MakeFolder(ctx, "b"))
		put(t, p, "a/one.iso", []byte("one"))
		put(t, p, "a/deep/two.iso", []byte("two"))
		require.NoError(t, p.Rename(ctx, "a/one.iso", "b/first.iso"))
		assert.ErrorIs(t, p.Rename(ctx, "a/deep/two.iso", "b/first.iso"), target.ErrExists, "nothing is renamed over")
		assert.ErrorIs(t, p.Rename(ctx, "a/none", "b/none"), fs.ErrNotExist)
		require.NoError(t, p.Rename(ctx, "a", "c"), "folders too, with what is in them")
		if os.Getenv("WINEPREFIX") != "" { // it takes a new name in other letter case for the old one
			return
		}
		require.NoError(t, p.Rename(ctx, "b/first.iso", "b/FIRST.iso"), "letter case alone")
		assert.Equal(t, []string{"b", "b/FIRST.iso", "c", "c/deep", "c/deep/two.iso"}, paths(t, p))
		e, err := p.Stat(ctx, "b/FIRST.iso")
		require.NoError(t, err)
		assert.EqualValues(t, 3, e.Size)
		e, err = p.Stat(ctx, "c")
		require.NoError(t, err)
		assert.True(t, e.Folder)
		_, err = p.Stat(ctx, "b/gone")
		assert.ErrorIs(t, err, fs.ErrNotExist)
	})
	t.Run("removing", func(t *testing.T) {
		p := open(t)
		require.NoError(t, p.MakeFolder(ctx, "a"))
		put(t, p, "a/one.iso", []byte("one"))
		assert.Error(t, p.Remove(ctx, "a"), "a folder with something in it stays")
		require.NoError(t, p.Remove(ctx, "a/one.iso"))
		require.NoError(t, p.Remove(ctx, "a"))
		assert.ErrorIs(t, p.Remove(ctx, "a"), fs.ErrNotExist)
		assert.Empty(t, paths(t, p))
	})
	t.Run("the stamp tells that something changed", func(t *testing.T) {
		p := open(t)
		require.NoError(t, p.MakeFolder(ctx, "a"))
		put(t, p, "a/one.iso", []byte("one"))
		entries, err := p.List(ctx, nil)
		require.NoError(t, err)
		first, err := p.Stamp(ctx, entries)
		require.NoError(t, err)
		assert.NotEmpty(t, first)
		put(t, p, "a/two.iso", []byte("two"))
		second, err := p.Stamp(ctx, entries)
		require.NoError(t, err)
		assert.NotEqual(t, first, second)
		require.NoError(t, p.Remove(ctx, "a/one.iso"))
		third, err := p.Stamp(ctx, entries)
		require.NoError(t, err)
		assert.NotEqual(t, second, third)
	})
	t.Run("paths stay inside", func(t *testing.T) {
		p := open(t)
		for _, bad := range []string{"../out.iso", "a/../../out.iso", "/etc/out.iso"} {
			_, err := p.Create(ctx, bad, 1)
			assert.Error(t, err, bad)
			assert.Error(t, p.MakeFolder(ctx, bad), bad)
			assert.Error(t, p.Rename(ctx, bad, "in.iso"), bad)
			assert.Error(t, p.Rename(ctx, "in.iso", bad), bad)
			assert.Error(t, p.Remove(ctx, bad), bad)
			_, err = p.Replace(ctx, bad, 1)
			assert.Error(t, err, bad)
			_, err = p.Stat(ctx, bad)
			assert.Error(t, err, bad)
			_, err = p.Open(ctx, bad)
			assert.Error(t, err, bad)
		}
	})
	t.Run("a cancelled context ends the work", func(t *testing.T) {
		p := open(t)
		short, cancel := context.WithCancel(ctx)
		w, err := p.Create(short, "late.iso", 10)
		require.NoError(t, err)
		cancel()
		_, err = w.Write([]byte("x"))
		assert.ErrorIs(t, err, context.Canceled)
		require.NoError(t, w.Abort())
		_, err = p.List(short, nil)
		assert.True(t, err == nil || err == context.Canceled)
	})
}
