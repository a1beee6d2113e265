package volumetest

import (
	"bytes"
	"fmt"
	"hash/fnv"
	"io/fs"
	"math/rand"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/format/volume"
)

// Readable are the contents of all files that can be read to their end, by their hashes, each with the name of one that
// has it. Empty files are left out.
func Readable(v *volume.Volume) map[uint64]string {
	out := map[uint64]string{}
	tree := v.FS()
	_ = fs.WalkDir(tree, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return nil
		}
		if info, err := d.Info(); err != nil || info.Size() > 64<<20 {
			return nil
		}
		if b, err := read(tree, name); err == nil && len(b) > 0 {
			h := fnv.New64a()
			_, _ = h.Write(b)
			out[h.Sum64()] = name
		}
		return nil
	})
	return out
}

// spoils damages every field of every structure of a volume, one at a time: whatever could be read before the repair
// can be read afterwards, under some name, and what is not said to be left wrong is sound.
func (f Filesystem) spoils(t *testing.T) {
	base := f.disk(t)
	v := f.open(t, base)
	require.NoError(t, v.MakeFolder(ctx, "FULL/deep"))
	require.NoError(t, v.MakeFolder(ctx, "GAMES"))
	n := int(f.Clusters)
	for i, name := range []string{"A.ISO", "B.ISO", "FULL/VSP-20417 - Copper Tide.iso",
		"FULL/VSP-20431 - The Ninth Orchard.iso", "FULL/deep/MISTRAL.ISO", "GAMES/a", "GAMES/b"} {
		require.NoError(t, Put(v, name, bytesOf(int64(i), n*(1+i%3)+n/2)))
	}
	require.NoError(t, Put(v, "twin 1", bytesOf(90, n)))
	require.NoError(t, Put(v, "twin 2", bytesOf(91, n)))
	for i := range 8 { // files fragmented
		require.NoError(t, Put(v, fmt.Sprintf("GAMES/small %d", i), bytesOf(int64(20+i), n)))
	}
	for i := 0; i < 8; i += 2 {
		require.NoError(t, v.Remove(ctx, fmt.Sprintf("GAMES/small %d", i)))
	}
	require.NoError(t, v.Flush())
	require.NoError(t, Put(v, "pieces", bytesOf(50, 3*n)))
	require.NoError(t, v.Close())
	info := v.Info()
	files, err := v.Files(ctx)
	require.NoError(t, err)
	var fields []int64
	for at := int64(0); at < 512; at++ { // the boot sector
		if at < 128 || at > 505 {
			fields = append(fields, at)
		}
	}
	for at := int64(512); at < info.Heap; at += 512 { // what is not empty before the first cluster
		if len(bytes.Trim(base.B[at:at+512], "\x00")) > 0 {
			for k := range int64(128) {
				fields = append(fields, at+k)
			}
			fields = append(fields, at+484, at+488, at+492, at+510)
		}
	}
	for _, p := range files { // folders
		if p.Folder {
			at, length := info.Heap-16384, int64(1024) // a root folder of its own
			if len(p.Runs) > 0 {
				at, length = info.Heap+int64(p.Runs[0].First-2)*info.Cluster, info.Cluster
			}
			for k := range min(length, 1024) {
				if at+k < int64(len(base.B)) {
					fields = append(fields, at+k)
				}
			}
		}
	}
	values := func(at int64) []byte {
		old := base.B[at]
		return []byte{0, 0xFF, old ^ 1, old + 1, old ^ 0x10, '.', '/'}
	}
	type spoil struct {
		at int64
		c  byte
	}
	var all []spoil
	for _, at := range fields {
		for _, c := range values(at) {
			if c != base.B[at] {
				all = append(all, spoil{at, c})
			}
		}
	}
	r := rand.New(rand.NewSource(11))
	r.Shuffle(len(all), func(i, k int) { all[i], all[k] = all[k], all[i] })
	most, judges := 500, 40
	if os.Getenv("POLYTOME_TEST_ALL") != "" {
		most, judges = len(all), len(all)/20
	}
	all = all[:min(most, len(all))]
	judged, kept := 0, 0
	for i, s := range all {
		d := base.Over()
		_, err := d.WriteAt([]byte{s.c}, s.at)
		require.NoError(t, err)
		v, err := f.Open(d, f.Size)
		if err != nil {
			continue // nothing is written to what cannot be read
		}
		before := Readable(v)
		if v, err = f.Open(d, f.Size); err != nil {
			continue
		}
		first, left, err := v.Repair(ctx)
		if err != nil {
			if v.Info().ReadOnly == "" {
				t.Errorf("byte %#x set to %#x: %v", s.at, s.c, err)
			}
			continue
		}
		require.NoError(t, v.Close())
		again, err := f.Open(d, f.Size)
		require.NoError(t, err, "byte %#x set to %#x", s.at, s.c)
		after := Readable(again)
		for h, name := range before {
			if after[h] == "" {
				t.Errorf("byte %#x set to %#x: what was %s cannot be read any more\nfound: %+v\nleft: %+v", s.at, s.c,
					name, first.Findings, left.Findings)
				break
			}
			kept++
		}
		if slices.ContainsFunc(left.Findings,
			func(x volume.Finding) bool { return x.Kind != volume.Count && x.Kind != volume.Unclean }) {
			continue // it is said
		}
		if h, err := again.Check(ctx); err != nil || slices.ContainsFunc(h.Findings,
			func(x volume.Finding) bool { return x.Kind != volume.Count && x.Kind != volume.Unclean }) {
			t.Errorf("byte %#x set to %#x: it is reported to be sound, and then %v %v", s.at, s.c, h, err)
		}
		if len(first.Findings) > 0 && judged < judges && i%3 == 0 {
			judged++
			if ok, says := f.judge(t, d); !ok {
				t.Errorf("byte %#x set to %#x: %s\nfound: %+v\nleft: %+v", s.at, s.c, says, first.Findings,
					left.Findings)
			}
		}
	}
	require.Greater(t, kept, 1000)
	require.Greater(t, judged, 10)
}
