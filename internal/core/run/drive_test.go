package run_test

import (
	"context"
	"fmt"
	"io"
	"math/rand"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/drives"
	"polytome/internal/format/fat"
	"polytome/internal/format/volume"
	"polytome/internal/medium"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/drive"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/volumetest"
)

// blank makes an image with an empty FAT32 volume.
func blank(t testing.TB, img string, n int64) {
	_ = os.Remove(img)
	require.NoError(t, os.WriteFile(img, nil, 0o600))
	require.NoError(t, os.Truncate(img, n))
	m := volumetest.OpenFile(t, img)
	require.NoError(t, fat.Format(m, n, fat.Options{Bits: 32, Cluster: 4096, Label: "NORTH"}))
	require.NoError(t, m.Close())
}

func openDrive(t testing.TB, img string) *drive.Target {
	p, err := drive.OpenVolume(context.Background(), drives.Here, drive.Address{Drive: img}, drive.Options{})
	require.NoError(t, err)
	return p
}

func TestADriveIsFilledInGroups(t *testing.T) {
	lengths := []int{3_000_000, 10, 0, 70_000, 5_000, 2_000_000, 1, 900_000}
	for range 300 {
		lengths = append(lengths, 3000)
	}
	p, _ := files(t, lengths...)
	require.NoError(t, os.Remove(p.Steps[4].Make.Source.Path)) // one is gone, the others go over
	img := filepath.Join(t.TempDir(), "stick.img")
	blank(t, img, 400*size.MiB)
	to := openDrive(t, img)
	var done []int
	r := run.Run(context.Background(), p, to, run.Options{}, func(e run.Event) {
		if e.Kind == run.Done {
			done = append(done, e.Step)
		}
	})
	require.Len(t, r.Failed, 1)
	assert.Equal(t, 4, r.Failed[0].Step)
	assert.Len(t, done, len(p.Steps)-1)
	assert.Equal(t, len(lengths)-1, r.Put)
	require.NoError(t, to.Close())
	judge.Run(t, "fsck.fat", "-n", img)
	out := t.TempDir()
	judge.Run(t, "mcopy", "-s", "-n", "-i", img, "::FULL", out)
	for i, s := range p.Steps[1:] {
		got, err := os.ReadFile(filepath.Join(out, s.Path))
		if i == 3 {
			assert.Error(t, err)
			continue
		}
		require.NoError(t, err)
		want, err := os.ReadFile(s.Make.Source.Path)
		require.NoError(t, err)
		assert.Equal(t, want, got, s.Path)
	}
}

// BenchmarkAgainstMcopy makes a FAT32 volume in an image of 8 GiB and fills it: one file of 1 GiB, and 5,000 small
// ones. Ours is a run as users have it, with hashing, flushing and reading back; and the same bytes put there by the
// target alone, flushed at the end. mkfs.fat and mcopy take turns with it, with and without sync. Ratios of the medians
// are printed.
func BenchmarkAgainstMcopy(b *testing.B) {
	small := make([]int, 5000)
	r := rand.New(rand.NewSource(2))
	for i := range small {
		small[i] = 20_000 + r.Intn(80_000)
	}
	for name, lengths := range map[string][]int{"1 file of 1 GiB": {1 << 30}, "5000 small files": small} {
		b.Run(name, func(b *testing.B) {
			p, _ := files(b, lengths...)
			dir := filepath.Dir(p.Steps[1].Make.Source.Path)
			work := b.TempDir()
			img := filepath.Join(work, "ours.img")
			theirs := filepath.Join(work, "theirs.img")
			var whole, placed, bare, mcopy, synced []float64
			b.SetBytes(p.Bytes)
			script := "rm -f '%[1]s'; truncate -s 8G '%[1]s' && mkfs.fat -F 32 '%[1]s' >/dev/null && mmd -i '%[1]s' " +
				"::FULL && mcopy -i '%[1]s' '%[2]s'/* ::FULL"
			turns := []func(){
				func() { mcopy = append(mcopy, timed(b, "sh", "-c", fmt.Sprintf(script, theirs, dir))) },
				func() {
					synced = append(synced, timed(b, "sh", "-c", fmt.Sprintf(script+" && sync '%[1]s'", theirs, dir)))
				},
				func() {
					start := time.Now()
					blank(b, img, 8*size.GiB)
					to := openDrive(b, img)
					r := run.Run(context.Background(), p, to, run.Options{}, func(run.Event) {})
					require.Empty(b, r.Failed)
					require.NoError(b, to.Close())
					whole = append(whole, time.Since(start).Seconds())
				},
				func() { // as mcopy alone: no one waits for the disk
					start := time.Now()
					blank(b, img, 8*size.GiB)
					m := volumetest.OpenFile(b, img)
					v, err := fat.Open(unflushed{m}, m.Size())
					require.NoError(b, err)
					unguarded(b, p, v)
					require.NoError(b, v.Close())
					require.NoError(b, m.Close())
					bare = append(bare, time.Since(start).Seconds())
				},
				func() {
					start := time.Now()
					blank(b, img, 8*size.GiB)
					to := openDrive(b, img)
					plain(b, p, to)
					require.NoError(b, to.Close())
					placed = append(placed, time.Since(start).Seconds())
				},
			}
			for i := 0; b.Loop(); i++ {
				for k := range turns {
					turns[(i+k)%len(turns)]()
					_ = os.Remove(img)
					_ = os.Remove(theirs)
					syscall.Sync()
				}
			}
			b.ReportMetric(median(placed)/median(synced), "put+flush/mcopy+sync")
			b.ReportMetric(median(bare)/median(mcopy), "put/mcopy")
			b.ReportMetric(median(whole)/median(synced), "run+read-back/mcopy+sync")
			b.ReportMetric(median(whole)/median(mcopy), "run+read-back/mcopy")
		})
	}
}

// unflushed is a device that no one waits for.
type unflushed struct{ *medium.File }

func (unflushed) Sync() error { return nil }

// unguarded puts the files of a plan into a volume.
func unguarded(b *testing.B, p *plan.Plan, v *volume.Volume) {
	ctx := context.Background()
	buf := make([]byte, 1<<20)
	require.NoError(b, v.MakeFolder(ctx, "FULL"))
	for i := range p.Steps[1:] {
		s := &p.Steps[i+1]
		f, err := os.Open(s.Make.Source.Path)
		require.NoError(b, err)
		w, err := v.Create(ctx, s.Path, s.Size, true)
		require.NoError(b, err)
		_, err = io.CopyBuffer(struct{ io.Writer }{w}, struct{ io.Reader }{f}, buf)
		require.NoError(b, err)
		require.NoError(b, f.Close())
		require.NoError(b, w.Commit())
	}
}

// plain puts the files of a plan on a drive, and flushes once.
func plain(b *testing.B, p *plan.Plan, to *drive.Target) {
	ctx := context.Background()
	var hold target.BatchCommitter = to
	hold.Hold()
	buf := make([]byte, 1<<20)
	for i := range p.Steps {
		s := &p.Steps[i]
		if s.Kind == plan.MakeFolder {
			require.NoError(b, to.MakeFolder(ctx, s.Path))
			continue
		}
		f, err := os.Open(s.Make.Source.Path)
		require.NoError(b, err)
		w, err := to.Create(ctx, s.Path, s.Size)
		require.NoError(b, err)
		for {
			n, err := f.Read(buf)
			if n == 0 {
				break
			}
			require.NoError(b, err)
			_, err = w.Write(buf[:n])
			require.NoError(b, err)
		}
		require.NoError(b, f.Close())
		require.NoError(b, w.Commit())
	}
	require.NoError(b, hold.Settle())
}
