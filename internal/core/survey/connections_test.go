package survey_test

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/prepare"
	"polytome/internal/core/scancache"
	"polytome/internal/core/survey"
	"polytome/internal/drives"
	"polytome/internal/sim"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/testkit/judge"
)

// stick prepares an image for a loader.
func stick(t *testing.T, w *workshop, loader string) string {
	img := filepath.Join(w.dir, "stick.img")
	require.NoError(t, os.WriteFile(img, nil, 0o600))
	require.NoError(t, os.Truncate(img, 2*size.GiB))
	d, err := drives.Here.Look(context.Background(), img)
	require.NoError(t, err)
	p, err := w.o.Set.Profile(loader)
	require.NoError(t, err)
	r, err := prepare.Make(context.Background(), drives.Here, d, w.o.Set, prepare.Request{Profile: p, Titles: w.titles})
	require.NoError(t, err)
	report, err := r.Do(context.Background(), drives.Here, drives.Consent{Typed: "stick.img"}, nil)
	require.NoError(t, err)
	require.True(t, report.Good())
	return img
}

func TestADriveIsATargetLikeAnyOther(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"tide.iso": vesperImage(t, "VSP-20417", "Copper Tide"),
		"moss.iso": vesperImage(t, "VSP-21377", "Mosswick")})
	img := stick(t, w, "rowan")
	w.bench.Targets = append(w.bench.Targets, bench.Target{Name: "Stick", At: "drive:" + img, Loader: "rowan",
		Via: "usb", Everything: true})
	s := w.look(0)
	assert.Equal(t, "fat32", s.Facts.Filesystem.Name)
	assert.False(t, s.Facts.Declared)
	before := s.Facts.Free
	need := s.Plan().Bytes
	assert.Positive(t, need)
	w.fill(0)
	s = w.look(0)
	assert.True(t, s.Plan().Empty(), "what is there is not put again")
	assert.Less(t, s.Facts.Free, before)
	report, err := s.Check(context.Background(), "")
	require.NoError(t, err)
	for _, u := range report.Unchecked {
		assert.NotContains(t, u, "one piece")
		assert.NotContains(t, u, "called")
	}
	loop := judge.Root(t, "losetup", "-f", "--show", "-o", "4194304", img)
	loop = loop[:len(loop)-1]
	defer judge.Root(t, "losetup", "-d", loop)
	judge.Root(t, "fsck.fat", "-n", loop)

	p, err := s.Open(t.Context())
	require.NoError(t, err)
	defer p.Close()
	c, err := p.Open(context.Background(), report0(t, s))
	require.NoError(t, err)
	b, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
	require.NoError(t, err)
	assert.Equal(t, vesperImage(t, "VSP-20417", "Copper Tide"), b)
	assert.ErrorIs(t, p.MakeFolder(context.Background(), "x"), target.ErrReadOnly,
		"while it is attached, nobody writes to it")
}

// report0 is the path of Copper Tide.
func report0(t *testing.T, s *survey.Survey) string {
	for _, e := range s.There {
		if filepath.Base(e.Path) == "VSP-20417 - Copper Tide.iso" {
			return e.Path
		}
	}
	t.Fatal("it is not there")
	return ""
}

func TestAConsoleIsATargetLikeAnyOther(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"tide.iso": vesperImage(t, "VSP-20417", "Copper Tide")})
	store := filepath.Join(w.dir, "console")
	require.NoError(t, os.MkdirAll(filepath.Join(store, "store"), 0o755))
	s, err := sim.Consoles["meridian"].Serve(store, 0, 0)
	require.NoError(t, err)
	defer s.Close()
	cache, err := scancache.Open(filepath.Join(w.dir, "seen.sqlite"))
	require.NoError(t, err)
	defer cache.Close()
	w.o.Cache = cache
	at := "ftp://127.0.0.1:" + strconv.Itoa(s.Port()) + "/store"
	w.bench.Targets = append(w.bench.Targets, bench.Target{Name: "Meridian", At: at, Loader: "trellis", Via: "ftp",
		Capacity: bench.Size(size.GiB), Everything: true})
	w.fill(0)
	got, err := os.ReadFile(filepath.Join(store, "store", "IMG-V", "Copper Tide.iso"))
	require.NoError(t, err)
	assert.Equal(t, vesperImage(t, "VSP-20417", "Copper Tide"), got)
	look := w.look(0)
	assert.True(t, look.Plan().Empty())
	assert.Nil(t, look.Away)

	s.Close() // it is switched off: what was on it is remembered
	look = w.look(0)
	assert.ErrorIs(t, look.Away, target.ErrGone)
	assert.NotEmpty(t, look.There)
	assert.ErrorContains(t, look.Away, "no FTP server answers")
}
