package exfat_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/exfat"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/volumetest"
)

// repaired is an exFAT volume with some files that someone has damaged, after the repair.
func repaired(t *testing.T, spoil func(d *volumetest.Disk, v *volume.Volume)) (all map[string][]byte, first,
	left *volume.Health) {
	d := &volumetest.Disk{B: make([]byte, 16*size.MiB)}
	require.NoError(t, exfat.Format(d, int64(len(d.B)), exfat.Options{Cluster: 4096}))
	v, err := exfat.Open(d, int64(len(d.B)))
	require.NoError(t, err)
	for i, name := range []string{"one.iso", "two.iso", "three.iso"} {
		require.NoError(t, volumetest.Put(v, name, bytes.Repeat([]byte{byte('a' + i)}, 9000)))
	}
	require.NoError(t, v.Close())
	spoil(d, v)
	if v, err = exfat.Open(d, int64(len(d.B))); err != nil {
		require.NoError(t, err)
	}
	first, left, err = v.Repair(context.Background())
	require.NoError(t, err)
	require.NoError(t, v.Close())
	if left.OK() {
		img := t.TempDir() + "/judged.img"
		d.Save(t, img)
		out, err := judge.Try(t, "fsck.exfat", "-n", img)
		assert.NoError(t, err, out)
	}
	v, err = exfat.Open(d, int64(len(d.B)))
	require.NoError(t, err)
	all, err = volumetest.Contents(v)
	require.NoError(t, err)
	return all, first, left
}

// setOf finds the entries of a file by its name; they begin two entries before it.
func setOf(t *testing.T, d *volumetest.Disk, name string) []byte {
	var units []byte
	for _, c := range []byte(name) {
		units = append(units, c, 0)
	}
	at := bytes.Index(d.B, append([]byte{0xC1, 0}, units...))
	require.Positive(t, at)
	return d.B[at-64 : at+32]
}

func summed(set []byte) {
	var sum uint16
	for i, c := range set {
		if i != 2 && i != 3 {
			sum = sum<<15 | sum>>1
			sum += uint16(c)
		}
	}
	binary.LittleEndian.PutUint16(set[2:], sum)
}

func TestANameThatThereCannotBe(t *testing.T) {
	all, _, left := repaired(t, func(d *volumetest.Disk, _ *volume.Volume) {
		set := setOf(t, d, "two.iso")
		set[64+2+2*3] = '/'
		summed(set)
	})
	assert.True(t, left.OK(), left.Findings)
	assert.Equal(t, bytes.Repeat([]byte{'b'}, 9000), all["two_iso"])
}

func TestTwoOfOneName(t *testing.T) {
	all, _, left := repaired(t, func(d *volumetest.Disk, _ *volume.Volume) {
		set := setOf(t, d, "two.iso")
		copy(set[64+2:], []byte{'o', 0, 'n', 0, 'e', 0})
		copy(set[32+4:36+2], setOf(t, d, "one.iso")[32+4:36+2])
		summed(set)
	})
	assert.True(t, left.OK(), left.Findings)
	assert.Equal(t, bytes.Repeat([]byte{'a'}, 9000), all["one.iso"])
	assert.Equal(t, bytes.Repeat([]byte{'b'}, 9000), all["one (2).iso"])
}

// TestALengthBeyondTheVolume: the file ends where that of another begins, which keeps all of its own.
func TestALengthBeyondTheVolume(t *testing.T) {
	for _, length := range []uint64{1 << 62, 1 << 63, 1 << 30} {
		all, first, left := repaired(t, func(d *volumetest.Disk, _ *volume.Volume) {
			set := setOf(t, d, "one.iso")
			binary.LittleEndian.PutUint64(set[32+24:], length)
			binary.LittleEndian.PutUint64(set[32+8:], length)
			summed(set)
		})
		require.NotEmpty(t, first.Findings)
		assert.True(t, left.OK(), left.Findings)
		assert.Equal(t, bytes.Repeat([]byte{'b'}, 9000), all["two.iso"])
		assert.Equal(t, bytes.Repeat([]byte{'c'}, 9000), all["three.iso"])
		assert.Len(t, all["one.iso"], 3*4096, "as many clusters as lie before the next file")
		assert.Equal(t, bytes.Repeat([]byte{'a'}, 9000), all["one.iso"][:9000])
		assert.Len(t, all, 4)
	}
}

// TestADamagedTableOfLetters is reported, and repaired.
func TestADamagedTableOfLetters(t *testing.T) {
	root := func(d *volumetest.Disk, kind byte) []byte {
		at := bytes.Index(d.B, append([]byte{0xC1, 0}, 'o', 0, 'n', 0))
		for at &^= 4095; d.B[at] != kind; at += 32 {
		}
		return d.B[at : at+32]
	}
	for name, spoil := range map[string]func(d *volumetest.Disk, v *volume.Volume){
		"its checksum":  func(d *volumetest.Disk, _ *volume.Volume) { root(d, 0x82)[4] ^= 1 },
		"its length":    func(d *volumetest.Disk, _ *volume.Volume) { root(d, 0x82)[24] ^= 1 },
		"where it lies": func(d *volumetest.Disk, _ *volume.Volume) { root(d, 0x82)[20] = 2 },
		"itself": func(d *volumetest.Disk, v *volume.Volume) {
			info := v.Info()
			d.B[info.Heap+int64(binary.LittleEndian.Uint32(root(d, 0x82)[20:])-2)*info.Cluster+2*'a'] = 'Q'
		},
	} {
		t.Run(name, func(t *testing.T) {
			all, first, left := repaired(t, spoil)
			require.NotEmpty(t, first.Findings)
			assert.True(t, slices.ContainsFunc(first.Findings, func(f volume.Finding) bool {
				return strings.Contains(f.Say, "The upcase table is damaged")
			}), first.Findings)
			assert.True(t, left.OK(), left.Findings)
			assert.Len(t, all, 4)
		})
	}
}

// TestADamagedBootRegionIsReadByItsBackup.
func TestADamagedBootRegionIsReadByItsBackup(t *testing.T) {
	// sectors of a cluster
	all, first, left := repaired(t, func(d *volumetest.Disk, _ *volume.Volume) { d.B[0x6D] = 1 })
	require.NotEmpty(t, first.Findings)
	assert.Equal(t, volume.Boot, first.Findings[0].Kind)
	assert.True(t, left.OK(), left.Findings)
	assert.Equal(t, bytes.Repeat([]byte{'b'}, 9000), all["two.iso"])
}
