package scan_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/scan"
	"polytome/internal/core/scancache"
	"polytome/internal/demo"
	"polytome/internal/format/iso9660"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// noisy is an image of a Vesper game whose data are n bytes of noise, changed by spoil.
func noisy(t testing.TB, id string, n int, spoil func(data []byte)) []byte {
	data := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{1}).Read(data)
	spoil(data)
	im, err := iso9660.Lay(fstest.MapFS{"VESPER.INF": {Data: []byte(inf(id, "Noise "+id, "1/1"))},
		"SOUND/TUNES.DAT": {Data: data}}, iso9660.Options{})
	require.NoError(t, err)
	var b bytes.Buffer
	_, err = im.WriteTo(&b)
	require.NoError(t, err)
	return b.Bytes()
}

func verified(t *testing.T, dir string, o scan.VerifyOptions) (map[string]string, scan.VerifyReport) {
	t.Helper()
	r, err := scan.Scan(context.Background(), []string{dir}, scan.Options{Set: coretest.Set(t), Passwords: o.Passwords})
	require.NoError(t, err)
	o.Lists = append(o.Lists, r.Sums...)
	report, err := scan.Verify(context.Background(), r.Titles, o)
	require.NoError(t, err)
	out := map[string]string{}
	for _, f := range report.Files {
		rel, _ := filepath.Rel(dir, f.Path)
		out[filepath.ToSlash(rel)] = strings.TrimSpace(string(f.Verdict) + " " + f.Say)
	}
	return out, report
}

func TestVerify(t *testing.T) {
	dir := t.TempDir()
	put := func(name string, data []byte) { coretest.Write(t, dir, name, data) }
	put("good.iso", noisy(t, "VSP-10001", 4<<20, func([]byte) {}))
	put("tail.iso", noisy(t, "VSP-10002", 4<<20, func(b []byte) { clear(b[len(b)-(2<<20):]) }))
	put("few.iso", noisy(t, "VSP-10003", 4<<20, func(b []byte) { clear(b[1<<20 : 3<<20]) }))
	put("hole.iso", noisy(t, "VSP-10004", 80<<20, func(b []byte) { clear(b[20<<20 : 60<<20]) }))
	put("a.w8", demo.Cartridge("WREN", "Ropewalk"))
	put("spoilt.w8", demo.Cartridge("WREN", "Sluice Gate"))
	judge.Run(t, "bash", "-c",
		`cd "$0" && sha1sum good.iso > good.sha1 && md5sum tail.iso A.w8 2>/dev/null > some.md5; sha256sum `+
			`few.iso a.w8 spoilt.w8 > all.sha256; echo "gone.iso 00000000" > carts.sfv`, dir)
	spoilt := demo.Cartridge("WREN", "Sluice Gate")
	spoilt[0x100] ^= 1
	put("spoilt.w8", spoilt)
	put("pack.zip", zipOf(t, map[string][]byte{"x.w8": demo.Cartridge("WREN", "Packed")}))
	broken := zipOf(t, map[string][]byte{"y.w8": append(demo.Cartridge("WREN", "Broken"),
		bytes.Repeat([]byte("some more"), 900)...)})
	broken[len(broken)/2] ^= 0x40
	put("broken.zip", broken)
	got, report := verified(t, dir, scan.VerifyOptions{})
	assert.Equal(t, "agrees with good.sha1, line 1", got["good.iso"])
	assert.Contains(t, got["tail.iso"], "agrees", "what a list says weighs more than zeros")
	assert.Equal(t, "agrees with all.sha256, line 1", got["few.iso"])
	assert.Regexp(t, `^suspect in it, 40\.00 MiB of SOUND/TUNES\.DAT are zeros, from byte 20,971,520 on$`,
		got["hole.iso"])
	assert.Equal(t, "agrees with all.sha256, line 2", got["a.w8"])
	assert.Regexp(t, `^differs its sha256 is [0-9a-f]+, and all\.sha256, line 3, says [0-9a-f]+$`, got["spoilt.w8"])
	assert.Equal(t, "missing carts.sfv, line 1, names it, but it is not there", got["gone.iso"])
	assert.Equal(t, "whole", got["pack.zip"])
	assert.Contains(t, got["broken.zip"], "damaged the archive does not unpack: y.w8")
	assert.Equal(t, 1, report.Counts[scan.Differs])

	require.NoError(t, os.Remove(filepath.Join(dir, "some.md5")))
	got, _ = verified(t, dir, scan.VerifyOptions{})
	assert.Contains(t, got["tail.iso"], "suspect in it, 2.00 MiB of SOUND/TUNES.DAT are zeros")
}

func TestVerifyRemembers(t *testing.T) {
	dir := t.TempDir()
	coretest.Write(t, dir, "a.w8", demo.Cartridge("WREN", "Ropewalk"))
	coretest.Write(t, dir, "b.w8", demo.Cartridge("WREN", "Sluice"))
	store, err := scancache.Open(filepath.Join(t.TempDir(), "seen.sqlite"))
	require.NoError(t, err)
	defer store.Close()
	known := func(again bool) (n int) {
		_, r := verified(t, dir, scan.VerifyOptions{Cache: store, Again: again})
		for _, f := range r.Files {
			if f.Known {
				n++
			}
		}
		return n
	}
	assert.Equal(t, []int{0, 2, 0}, []int{known(false), known(false), known(true)})
	coretest.Write(t, dir, "b.w8", demo.Cartridge("WREN", "Sluice Gate"))
	assert.Equal(t, 1, known(false), "b has changed")
	judge.Run(t, "bash", "-c", `cd "$0" && sha1sum a.w8 > a.sha1`, dir)
	assert.Equal(t, 1, known(false), "a list wants another sum of a")
}

// TestAPasswordThatComesLater: what could not be opened is no damage, and is not remembered.
func TestAPasswordThatComesLater(t *testing.T) {
	w, err := demo.Open(filepath.Join(t.TempDir(), "world"), demo.Seed)
	require.NoError(t, err)
	dir := filepath.Join(w.Shelf, "new")
	store, err := scancache.Open(filepath.Join(t.TempDir(), "seen.sqlite"))
	require.NoError(t, err)
	defer store.Close()
	got, _ := verified(t, dir, scan.VerifyOptions{Cache: store})
	assert.Contains(t, got["Wicker Toll.zip"], "unreadable encrypted")
	assert.Contains(t, got["Fog Bell.zip.001"], "unreadable its part Fog Bell.zip.003 is missing")
	got, _ = verified(t, dir, scan.VerifyOptions{Cache: store, Passwords: []string{demo.Password}})
	assert.Equal(t, "whole", got["Wicker Toll.zip"])
}

func TestVerifyStops(t *testing.T) {
	dir := t.TempDir()
	for i := range 20 {
		coretest.Write(t, dir, fmt.Sprintf("%d.w8", i), demo.Cartridge("WREN", fmt.Sprint(i)))
	}
	r, err := scan.Scan(context.Background(), []string{dir}, scan.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := 0
	report, err := scan.Verify(ctx, r.Titles, scan.VerifyOptions{Progress: func(p scan.VerifyProgress) {
		if p.Ended != nil {
			if ended++; ended == 5 {
				cancel()
			}
		}
	}})
	require.True(t, errors.Is(err, context.Canceled))
	assert.Len(t, report.Files, 5, "one file at a time, and none after the stop")
}

// TestZerosInSparseFiles sums files with holes up as others do.
func TestZerosInSparseFiles(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "h.dtl")
	f, err := os.Create(name)
	require.NoError(t, err)
	for _, at := range []int64{0, 5_000_000, 77_777_777} {
		_, err = f.WriteAt([]byte("some data"), at)
		require.NoError(t, err)
	}
	require.NoError(t, f.Truncate(123_456_789))
	require.NoError(t, f.Close())
	judge.Run(t, "bash", "-c", `cd "$0" && sha1sum h.dtl > h.sha1 && python3 -c "
import zlib
print('h.dtl %08X' % zlib.crc32(open('h.dtl','rb').read()))" > h.sfv`, dir)
	got, r := verified(t, dir, scan.VerifyOptions{})
	assert.Contains(t, got["h.dtl"], "agrees")
	assert.Equal(t, 1, r.Counts[scan.Agrees])
}
