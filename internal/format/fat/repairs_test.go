package fat_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/fat"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/testkit/volumetest"
)

// repaired is a FAT32 volume with some files that someone has damaged, and what it holds after the repair.
func repaired(t *testing.T, spoil func(d *volumetest.Disk, v *volume.Volume)) (v *volume.Volume, first,
	left *volume.Health, d *volumetest.Disk) {
	d = &volumetest.Disk{B: make([]byte, 36*size.MiB)}
	require.NoError(t, fat.Format(d, int64(len(d.B)), fat.Options{Bits: 32, Cluster: 512}))
	v, err := fat.Open(d, int64(len(d.B)))
	require.NoError(t, err)
	require.NoError(t, v.MakeFolder(context.Background(), "FULL"))
	for i, name := range []string{"ONE.ISO", "TWO.ISO", "FULL/THREE.ISO"} {
		require.NoError(t, volumetest.Put(v, name, bytes.Repeat([]byte{byte('a' + i)}, 1200)))
	}
	for i := range 40 { // the root folder needs several clusters
		require.NoError(t, volumetest.Put(v, fmt.Sprintf("N%d", i), nil))
	}
	require.NoError(t, v.Close())
	spoil(d, v)
	v, err = fat.Open(d, int64(len(d.B)))
	require.NoError(t, err)
	first, left, err = v.Repair(context.Background())
	require.NoError(t, err)
	require.NoError(t, v.Close())
	v, err = fat.Open(d, int64(len(d.B)))
	require.NoError(t, err)
	return v, first, left, d
}

// entryOf finds the entry of a short name.
func entryOf(t *testing.T, d *volumetest.Disk, short string) []byte {
	at := bytes.Index(d.B, []byte(short))
	require.Positive(t, at)
	return d.B[at : at+32]
}

func setFAT(d *volumetest.Disk, v *volume.Volume, c, to uint32) {
	info := v.Info()
	table := int64(binary.LittleEndian.Uint16(d.B[14:])) * 512
	length := (info.Heap - table) / int64(info.Tables)
	for k := range int64(info.Tables) {
		binary.LittleEndian.PutUint32(d.B[table+k*length+int64(c)*4:], to)
	}
}

func names(t *testing.T, v *volume.Volume) map[string]int {
	all, err := volumetest.Contents(v)
	require.NoError(t, err)
	out := map[string]int{}
	for n, b := range all {
		out[n] = len(b)
	}
	return out
}

func TestTwoOfOneNameAreDistinguished(t *testing.T) {
	v, _, left, d := repaired(t, func(d *volumetest.Disk,
		_ *volume.Volume) {
		copy(entryOf(t, d, "TWO     ISO"), "ONE     ISO")
	})
	assert.True(t, left.OK(), left.Findings)
	all, err := volumetest.Contents(v)
	require.NoError(t, err)
	assert.Equal(t, bytes.Repeat([]byte{'a'}, 1200), all["ONE.ISO"])
	assert.Equal(t, bytes.Repeat([]byte{'b'}, 1200), all["ONE (2).ISO"])
	ok, says := (fatJudge{}).of(t, d)
	assert.True(t, ok, says)
}

type fatJudge struct{}

func (fatJudge) of(t *testing.T, d *volumetest.Disk) (bool, string) {
	img := t.TempDir() + "/judged.img"
	d.Save(t, img)
	return fsck(t, img)
}

func TestAFileThatIsNamedLikeTheFolderAbove(t *testing.T) {
	v, _, left, _ := repaired(t, func(d *volumetest.Disk,
		_ *volume.Volume) {
		copy(entryOf(t, d, "TWO     ISO"), "..         ")
	})
	assert.True(t, left.OK(), left.Findings)
	all, err := volumetest.Contents(v)
	require.NoError(t, err)
	found := ""
	for n, b := range all {
		if bytes.Equal(b, bytes.Repeat([]byte{'b'}, 1200)) {
			found = n
		}
	}
	assert.NotEmpty(t, found, "its data has a name that there can be: %v", names(t, v))
}

// TestARootFolderInACircle: it ends before it comes back to itself, and nothing panics.
func TestARootFolderInACircle(t *testing.T) {
	v, first, _, d := repaired(t, func(d *volumetest.Disk, v *volume.Volume) {
		runs, err := v.Extents(".")
		require.NoError(t, err)
		require.Greater(t, len(runs)+int(runs[0].Count), 2)
		last := runs[len(runs)-1].End() - 1
		setFAT(d, v, last, runs[0].First)
	})
	assert.Equal(t, volume.Chain, first.Findings[0].Kind)
	all := names(t, v)
	assert.Equal(t, 1200, all["ONE.ISO"])
	assert.Equal(t, 1200, all["FULL/THREE.ISO"])
	ok, says := (fatJudge{}).of(t, d)
	assert.True(t, ok, says)
}

// TestARootFolderThatIsMarkedFree: what was behind its first cluster cannot be found, so clusters that nothing has are
// not freed, and that is said.
func TestARootFolderThatIsMarkedFree(t *testing.T) {
	v, first, left, _ := repaired(t, func(d *volumetest.Disk, v *volume.Volume) { setFAT(d, v, 2, 0) })
	require.NotEmpty(t, first.Findings)
	assert.Equal(t, 1200, names(t, v)["ONE.ISO"])
	require.NotEmpty(t, left.Findings, "it is not reported to be repaired")
	assert.Equal(t, volume.Lost, left.Findings[0].Kind)
	assert.Contains(t, left.Findings[0].Say, "they stay")
}

// TestALabelThatIsAFile, and an entry that says it is part of a long name: their data stays.
func TestAnEntryOfAnotherKind(t *testing.T) {
	for _, attr := range []byte{0x08, 0x0F, 0x28} {
		v, _, left, d := repaired(t, func(d *volumetest.Disk,
			_ *volume.Volume) {
			entryOf(t, d, "TWO     ISO")[11] = attr
		})
		assert.True(t, left.OK(), left.Findings)
		assert.Equal(t, 1200, names(t, v)["TWO.ISO"], "%#x", attr)
		ok, says := (fatJudge{}).of(t, d)
		assert.True(t, ok, says)
	}
}

// TestWhatLiesBehindAnEnd: a length that is too small may be the damage, so the rest is kept as a file.
func TestWhatLiesBehindAnEnd(t *testing.T) {
	v, _, left, d := repaired(t, func(d *volumetest.Disk, _ *volume.Volume) {
		binary.LittleEndian.PutUint32(entryOf(t, d, "TWO     ISO")[28:], 500)
	})
	assert.True(t, left.OK(), left.Findings)
	all := names(t, v)
	assert.Equal(t, 500, all["TWO.ISO"])
	assert.Equal(t, 1024, all["TWO (behind its end).ISO"])
	ok, says := (fatJudge{}).of(t, d)
	assert.True(t, ok, says)
}

// TestALotOfNothingBehindAnEnd: zeros are no data that is kept, however many they are; a single byte behind them is.
func TestALotOfNothingBehindAnEnd(t *testing.T) {
	for _, last := range []byte{0, 'z'} {
		v, _, left, d := repaired(t, func(d *volumetest.Disk, _ *volume.Volume) {
			w, err := fat.Open(d, int64(len(d.B)))
			require.NoError(t, err)
			data := make([]byte, 300<<10)
			data[len(data)-1] = last
			require.NoError(t, volumetest.Put(w, "LONG.ISO", data))
			require.NoError(t, w.Close())
			binary.LittleEndian.PutUint32(entryOf(t, d, "LONG    ISO")[28:], 512)
		})
		assert.True(t, left.OK(), left.Findings)
		all, err := volumetest.Contents(v)
		require.NoError(t, err)
		assert.Len(t, all["LONG.ISO"], 512)
		rest, kept := all["LONG (behind its end).ISO"]
		assert.Equal(t, last != 0, kept)
		assert.True(t, !kept || len(rest) == 300<<10-512 && rest[len(rest)-1] == last)
		ok, says := (fatJudge{}).of(t, d)
		assert.True(t, ok, says)
	}
}

// TestABackupOfAnotherVolume: where boot sector and backup disagree about where things lie, nothing is written.
func TestABackupOfAnotherVolume(t *testing.T) {
	d := &volumetest.Disk{B: make([]byte, 64*size.MiB)}
	require.NoError(t, fat.Format(d, int64(len(d.B)), fat.Options{Bits: 32, Cluster: 512}))
	before := bytes.Clone(d.B)
	d.B[13] = 2 // sectors of a cluster
	v, err := fat.Open(d, int64(len(d.B)))
	if err == nil {
		_, _, err = v.Repair(context.Background())
	}
	require.Error(t, err)
	d.B[13] = before[13]
	assert.True(t, bytes.Equal(before, d.B))
}

// sameShort gives the second of two files with long names the short name of the first.
func sameShort(t *testing.T, d *volumetest.Disk) {
	one, two := entryOf(t, d, "LONGWA~1ISO"), bytes.Index(d.B, []byte("MARSHL~1ISO"))
	require.Positive(t, two)
	copy(d.B[two:], one[:11])
	sum := byte(0) // of the short name, which each part of the long name has (FAT specification, long names)
	for _, c := range one[:11] {
		sum = sum>>1 + sum<<7 + c
	}
	for at := two - 32; d.B[at+11] == 0x0f; at -= 32 {
		d.B[at+13] = sum
	}
}

// TestAShortNameThatAnotherHasStaysTaken: on a damaged volume, what goes does not free a short name that someone else
// has, too.
func TestAShortNameThatAnotherHasStaysTaken(t *testing.T) {
	d := &volumetest.Disk{B: make([]byte, 36*size.MiB)}
	require.NoError(t, fat.Format(d, int64(len(d.B)), fat.Options{Bits: 32, Cluster: 512}))
	v, err := fat.Open(d, int64(len(d.B)))
	require.NoError(t, err)
	for _, name := range []string{"Long Water One.iso", "Marsh Light Two.iso"} {
		require.NoError(t, volumetest.Put(v, name, []byte(name)))
	}
	require.NoError(t, v.Close())
	sameShort(t, d)
	v, err = fat.Open(d, int64(len(d.B)))
	require.NoError(t, err)
	require.NoError(t, v.Remove(context.Background(), "Long Water One.iso"))
	require.NoError(t, volumetest.Put(v, "Long Water Three.iso", []byte("three")))
	require.NoError(t, v.Close())
	all, err := volumetest.Contents(v)
	require.NoError(t, err)
	assert.Len(t, all, 3, "with the root folder")
	ok, says := (fatJudge{}).of(t, d)
	assert.True(t, ok, says)
}

// TestTwoOfOneShortName: systems that know no long names would take one for the other.
func TestTwoOfOneShortName(t *testing.T) {
	v, first, left, d := repaired(t, func(d *volumetest.Disk, v *volume.Volume) {
		w, err := fat.Open(d, int64(len(d.B)))
		require.NoError(t, err)
		for i, name := range []string{"Long Water One.iso", "Marsh Light Two.iso"} {
			require.NoError(t, volumetest.Put(w, name, bytes.Repeat([]byte{byte('x' + i)}, 700)))
		}
		require.NoError(t, w.Close())
		sameShort(t, d)
	})
	assert.Contains(t, fmt.Sprint(first.Findings), "has the short name of another one")
	assert.True(t, left.OK(), left.Findings)
	all, err := volumetest.Contents(v)
	require.NoError(t, err)
	assert.Equal(t, bytes.Repeat([]byte{'x'}, 700), all["Long Water One.iso"])
	got := ""
	for name, b := range all {
		if bytes.Equal(b, bytes.Repeat([]byte{'y'}, 700)) {
			got = name
		}
	}
	assert.Contains(t, got, "Marsh Light Two")
	ok, says := (fatJudge{}).of(t, d)
	assert.True(t, ok, says)
}

// TestCrossedFilesOnAFullVolume: without space to copy one of them they stay as they are, and that is said.
func TestCrossedFilesOnAFullVolume(t *testing.T) {
	v, _, left, _ := repaired(t, func(d *volumetest.Disk, v *volume.Volume) {
		one, err := v.Extents("ONE.ISO")
		require.NoError(t, err)
		two, err := v.Extents("TWO.ISO")
		require.NoError(t, err)
		w, err := fat.Open(d, int64(len(d.B)))
		require.NoError(t, err)
		h, err := w.Check(context.Background())
		require.NoError(t, err)
		require.NoError(t, volumetest.Put(w, "FILL", bytes.Repeat([]byte{'f'}, int(h.Free))))
		require.NoError(t, w.Close())
		setFAT(d, v, one[0].First, two[0].First+1)
	})
	require.NotEmpty(t, left.Findings)
	assert.Contains(t, fmt.Sprint(left.Findings), "there is no space to copy it")
	assert.Equal(t, bytes.Repeat([]byte{'b'}, 1200), volumetest.Drain(t, v.FS(), "TWO.ISO"))
	assert.Equal(t, append(bytes.Repeat([]byte{'a'}, 512), bytes.Repeat([]byte{'b'}, 688)...),
		volumetest.Drain(t, v.FS(), "ONE.ISO"))
}

// TestAFolderThatLeadsIntoAFile becomes an empty one; the file keeps its clusters, and what was in the folder is not
// freed.
func TestAFolderThatLeadsIntoAFile(t *testing.T) {
	var three []volume.Run
	v, first, left, d := repaired(t, func(d *volumetest.Disk, v *volume.Volume) {
		one, err := v.Extents("ONE.ISO")
		require.NoError(t, err)
		three, err = v.Extents("FULL/THREE.ISO")
		require.NoError(t, err)
		e := entryOf(t, d, "FULL       ")
		binary.LittleEndian.PutUint16(e[20:], uint16(one[0].First>>16))
		binary.LittleEndian.PutUint16(e[26:], uint16(one[0].First))
	})
	assert.Contains(t, fmt.Sprint(first.Findings), "There is no folder where it should be. It becomes an empty folder.")
	all, err := volumetest.Contents(v)
	require.NoError(t, err)
	assert.Equal(t, bytes.Repeat([]byte{'a'}, 1200), all["ONE.ISO"])
	assert.NotContains(t, all, "FULL/THREE.ISO")
	info := v.Info()
	at := info.Heap + int64(three[0].First-2)*info.Cluster
	assert.Equal(t, bytes.Repeat([]byte{'c'}, 512), d.B[at:at+512])
	assert.Less(t, left.Free, first.Free, "nothing is freed, and the empty folder takes a cluster")
}

// TestManyOfOneKindAreRepaired: much that is wrong does not look like a volume that is read in a wrong way, as long as
// more is right.
func TestManyOfOneKindAreRepaired(t *testing.T) {
	v, first, left, d := repaired(t, func(d *volumetest.Disk, v *volume.Volume) {
		for i := range 20 {
			entryOf(t, d, fmt.Sprintf("%-11s", fmt.Sprintf("N%d", i)))[28] = 200 // a length, and no cluster
		}
	})
	assert.GreaterOrEqual(t, len(first.Findings), 20)
	assert.True(t, left.OK(), left.Findings)
	assert.Equal(t, 1200, names(t, v)["ONE.ISO"])
	ok, says := (fatJudge{}).of(t, d)
	assert.True(t, ok, says)
}
