package volumetest

import (
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/format/volume"
	"polytome/internal/medium"
)

// Lies sets each of the first bytes of a volume to the values that lie most, one at a time, and opens and checks it.
func Lies(t *testing.T, open func(volume.Device, int64) (*volume.Volume, error), f *medium.File, bytes int64) {
	for at := range bytes {
		for _, c := range []byte{0, 0xFF, 0x7F} {
			old := make([]byte, 1)
			_, err := f.ReadAt(old, at)
			require.NoError(t, err)
			_, err = f.WriteAt([]byte{c}, at)
			require.NoError(t, err)
			if v, err := open(f, f.Size()); err == nil {
				_, _ = v.Check(ctx)
			}
			_, err = f.WriteAt(old, at)
			require.NoError(t, err)
		}
	}
}

// Fuzz spoils bytes of volumes with some files on them, and opens, reads and repairs what comes of it. What is fuzzed
// is a list of changes, four bytes each: where, counted fragmented of the volume that are not empty, and what.
func Fuzz(f *testing.F, open func(volume.Device, int64) (*volume.Volume, error), fresh func(kind int) *Disk,
	kinds int) {
	type base struct {
		d    *Disk
		full []int // sectors that are not empty
	}
	var all []base
	for k := range kinds {
		d := fresh(k)
		v, err := open(d, int64(len(d.B)))
		require.NoError(f, err)
		require.NoError(f, v.MakeFolder(ctx, "FULL/deeper"))
		for _, n := range []string{"FULL/a long name of a title.iso", "FULL/deeper/B", "C.TXT"} {
			require.NoError(f, Put(v, n, make([]byte, 3000)))
		}
		require.NoError(f, v.Close())
		b := base{d: d}
		for at := 0; at < len(d.B); at += tear {
			for _, c := range d.B[at : at+tear] {
				if c != 0 {
					b.full = append(b.full, at)
					break
				}
			}
		}
		all = append(all, b)
		f.Add(k, []byte{0, 0, 11, 1})
		f.Add(k, []byte{1, 0, 4, 255, 2, 0, 60, 7})
		f.Add(k, []byte{0xdf, 0xe0, 0xdf, 0xe0, 0x60, 0xe0, 0x60, 0xe0}) // a file of gigabytes
	}
	f.Fuzz(func(t *testing.T, kind int, changes []byte) {
		b := all[(kind%kinds+kinds)%kinds]
		d := b.d.Over()
		for ; len(changes) >= 4; changes = changes[4:] {
			at := b.full[int(changes[0])%len(b.full)] + int(changes[1]&1)<<8 + int(changes[2])
			_, err := d.WriteAt(changes[3:4], int64(at))
			require.NoError(t, err)
		}
		v, err := open(d, int64(len(b.d.B)))
		if err != nil {
			return
		}
		_, _ = Contents(v)
		if _, _, err := v.Repair(ctx); err == nil {
			_ = v.Close()
		}
	})
}
