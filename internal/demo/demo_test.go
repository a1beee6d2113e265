package demo_test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/testkit/judge"
)

func world(t testing.TB, seed uint64) demo.World {
	w, err := demo.Open(t.TempDir(), seed)
	require.NoError(t, err)
	return w
}

// print fingerprints a world: names, lengths, dates and the first megabyte of
// every file.
func print(t *testing.T, w demo.World) string {
	h := sha256.New()
	require.NoError(t, filepath.WalkDir(w.Dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		f, err := os.Open(p)
		if err != nil {
			return err
		}
		defer f.Close()
		b := make([]byte, 1<<20)
		n, _ := f.Read(b)
		fmt.Fprint(h, strings.TrimPrefix(p, w.Dir), info.Size())
		h.Write(b[:n])
		return nil
	}))
	return fmt.Sprintf("%x", h.Sum(nil))
}

func TestTheSameSeedGivesTheSameWorld(t *testing.T) {
	a := print(t, world(t, 1))
	assert.Equal(t, a, print(t, world(t, 1)))
	assert.NotEqual(t, a, print(t, world(t, 2)))
}

func TestTheWorldHoldsWhatItShould(t *testing.T) {
	w := world(t, 1)
	set, err := loader.Shipped()
	require.NoError(t, err)
	r, err := scan.Scan(context.Background(), []string{w.Games}, scan.Options{Set: set})
	require.NoError(t, err)
	assert.Empty(t, r.Problems)
	var sizes []int64
	faults, notes := map[string]string{}, map[string]string{}
	var onDisk int64
	for _, tt := range r.Titles {
		for _, d := range tt.Discs {
			sizes = append(sizes, d.File.Size)
			var st syscall.Stat_t
			require.NoError(t, syscall.Stat(d.File.Path, &st))
			onDisk += st.Blocks * 512
			if tt.ID == "" {
				continue
			}
			// A foreign tool reads the same values out of the image.
			inf := judge.Run(t, "isoinfo", "-i", d.File.Path, "-x", "/VESPER.INF;1")
			assert.Contains(t, inf, "ID="+d.ID+"\nNAME="+tt.Name+"\nREGION="+tt.Region[:1]+"\n")
			assert.Contains(t, inf, "KIND="+d.Kind+"\n")
		}
		for _, f := range tt.Findings {
			if f.Grade == title.Fault {
				faults[tt.Label()] = f.Say
			} else {
				notes[tt.Label()] = f.Say
			}
		}
	}
	assert.Contains(t, sizes, int64(1<<32-1), "exactly the limit of FAT32")
	assert.Contains(t, sizes, int64(1<<32), "and one byte over")
	over := 0
	for _, n := range sizes {
		if n > 1<<32 {
			over++
		}
	}
	assert.Equal(t, 2, over, "images that really exceed 4 GiB")
	assert.Less(t, onDisk, int64(100<<20), "large images are sparse")
	assert.Len(t, faults, 2)
	assert.Contains(t, faults["Velvet Ballast"], "cut short: its volume has 1.48 GiB, and the file only 945.00 MiB")
	assert.Contains(t, faults["disc_image_04.iso"], "game cannot be identified: the image has none of")
	assert.Contains(t, notes["Tin Harbour"], "its copy gets the right extension")
	assert.Contains(t, notes["Gannet Patrol"], "Gannet_Patrol.iso has the ID VSP-21533 too")
	assert.GreaterOrEqual(t, len(r.Titles), 20)

	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	assert.EqualValues(t, demo.StickSpace, b.Targets[0].Capacity)
}

func TestOnlyADemoIsTakenUp(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mine.txt"), []byte("x"), 0o644))
	_, err := demo.Open(dir, 1)
	assert.ErrorContains(t, err, "is not empty and holds no demo")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 1, "and nothing is written there")

	w := world(t, 1)
	require.NoError(t, os.Remove(filepath.Join(w.Games, "notes.txt")))
	_, err = demo.Open(w.Dir, 1)
	require.NoError(t, err)
	assert.NoFileExists(t, filepath.Join(w.Games, "notes.txt"), "a demo that was played with is taken up as it is")
}

func BenchmarkOpen(b *testing.B) {
	for b.Loop() {
		world(b, 1)
	}
}
