package drives

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const gib = int64(1) << 30

// basic is the type of a GPT partition with data.
const basic = "{ebd0a0a2-b9e5-4433-87c0-68b6b72699c7}"

// layouts are drives as Windows describes them, and what is to be made of each.
var layouts = map[string]struct {
	answers
	drives  []string // name, serial number, bus
	volumes []string // of all drives: number, label, filesystem, where it is mounted
	refuses string   // why the first drive is not written to; "" where it may be
}{
	"the disk that Windows runs from": {
		answers{Runs: []string{`C:\`}, Disks: []diskAnswer{{Number: 0, Product: "Kestrel 512",
			Serial: "KS-0001", Bus: 17, Size: 512 * gib, Sector: 512, GPT: true, Partitions: []partitionAnswer{
				{1, 1 << 20, 260 << 20, "{c12a7328-f81f-11d2-ba4b-00a0c93ec93b}"}, {3, gib, 500 * gib, basic}}}},
			Volumes: []volumeAnswer{
				{Name: `\\?\Volume{1}\`, Filesystem: "FAT32", Extents: []extentAnswer{{0, 1 << 20, 260 << 20}}},
				{Name: `\\?\Volume{2}\`, At: []string{`c:\`}, Label: "Windows", Filesystem: "NTFS", Serial: 0xCAFE0001,
					Extents: []extentAnswer{{0, gib, 500 * gib}}},
			}},
		[]string{"Kestrel 512 KS-0001 nvme"},
		[]string{"1  fat32 []", `3 Windows ntfs [c:\]`},
		"Windows runs from it",
	},
	"a stick with two letters": {answers{Disks: []diskAnswer{{Number: 2, Vendor: "Gullwing ", Product: " Stick  64",
		Serial: " 0042 ", Bus: 7, Removable: true, Size: 58 * gib, Sector: 512, Partitions: []partitionAnswer{
			{1, 1 << 20, 30 * gib, "0c"}, {2, 31 * gib, 20 * gib, "07"}}}},
		Volumes: []volumeAnswer{{At: []string{`E:\`}, Label: "NORTH", Filesystem: "FAT32", Serial: 0x11110001,
			Extents: []extentAnswer{{2, 1 << 20, 30 * gib}}}, {At: []string{`F:\`, `C:\mnt\south\`}, Label: "SOUTH",
			Filesystem: "exFAT", Serial: 0x2, Extents: []extentAnswer{{2, 31 * gib, 20 * gib}}}}},
		[]string{"Gullwing Stick 64 0042 usb"}, []string{`1 NORTH fat32 [E:\]`, `2 SOUTH exfat [F:\ C:\mnt\south\]`},
		`it is mounted at E:\`},
	"a reader with one card in four slots": {answers{Disks: []diskAnswer{{Number: 4, Product: "Slot A", Bus: 7},
		{
			Number:    3,
			Product:   "Slot B",
			Serial:    "B",
			Bus:       7,
			Size:      8 * gib,
			Removable: true,
		}, {Number: 6, Product: "Slot C",
			Bus: 7}}}, []string{"Slot B B usb"}, nil, ""},
	"a volume that begins with the drive": {
		answers{Disks: []diskAnswer{{Number: 1, Product: "Old stick", Bus: 7, Size: gib}},
			Volumes: []volumeAnswer{
				{At: []string{`G:\`}, Label: "HOLIDAY", Filesystem: "FAT", Extents: []extentAnswer{{1, 0,
					gib}}},
			}},
		[]string{"Old stick  usb"},
		[]string{`0 HOLIDAY fat16 [G:\]`},
		`it is mounted at G:\`,
	},
	"a locked volume": {answers{Disks: []diskAnswer{{Number: 1, Product: "Locked", Bus: 7, Size: 4 * gib,
		Partitions: []partitionAnswer{
			{1, 1 << 20, 3 * gib, "07"},
		}}}, Volumes: []volumeAnswer{{At: []string{`H:\`}, Free: 9,
		Extents: []extentAnswer{{1, 1 << 20, 3 * gib}}}}}, []string{"Locked  usb"}, []string{`1   [H:\]`},
		`it is mounted at H:\`},
	"a volume over two dynamic disks": {answers{Disks: []diskAnswer{{Number: 1, Product: "One", Bus: 11, Size: 4 * gib,
		Partitions: []partitionAnswer{{1, 1 << 20, 3 * gib, "42"}}}, {Number: 2, Product: "Two", Bus: 11, Size: 4 * gib,
		GPT: true, Partitions: []partitionAnswer{{1, 1 << 20, 3 * gib, "{AF9B60A0-1431-4F62-BC68-3311714A69AD}"}}}},
		Volumes: []volumeAnswer{{At: []string{`J:\`}, Label: "SPAN", Filesystem: "NTFS", Extents: []extentAnswer{
			{1, 1 << 20, 3 * gib}, {2, 1 << 20, 3 * gib}}}}}, []string{"One  sata", "Two  sata"},
		[]string{`1 SPAN ntfs [J:\]`, `1 SPAN ntfs [J:\]`}, "it is part of a dynamic disk"},
	"a volume of which it is not known where it lies": {
		answers{Volumes: []volumeAnswer{{At: []string{`K:\`}, Label: "FAR",
			Filesystem: "NTFS", Size: 9 * gib}, {Name: `\\?\Volume{9}\`, Filesystem: "NTFS"}}},
		[]string{"FAR  other"},
		[]string{`0 FAR ntfs [K:\]`},
		`it is mounted at K:\`,
	},
	"a second disk that Windows pages to": {answers{Disks: []diskAnswer{{Number: 1, Product: "Old disk", Bus: 11,
		Size: 4 * gib, Partitions: []partitionAnswer{{1, 1 << 20, 3 * gib, "07"}}}},
		Volumes: []volumeAnswer{{At: []string{`D:\`}, Filesystem: "NTFS", Paging: true,
			Extents: []extentAnswer{{1, 1 << 20, 3 * gib}}}}}, []string{"Old disk  sata"}, []string{`1  ntfs [D:\]`},
		`D:\ has a paging file of Windows`},
	"an empty disk": {answers{Disks: []diskAnswer{{Number: 1, Product: "New", Bus: 7, Size: 16 * gib}}},
		[]string{"New  usb"}, nil, ""},
}

// TestDrivesAreKnownFromWhatWindowsSays.
func TestDrivesAreKnownFromWhatWindowsSays(t *testing.T) {
	for name, c := range layouts {
		var all, vols []string
		out := c.answers.drives()
		for _, d := range out {
			all = append(all, fmt.Sprintf("%s %s %s", d.Name(), d.Serial, d.Bus))
			for _, v := range d.Volumes {
				vols = append(vols, fmt.Sprintf("%d %s %s %v", v.Number, v.Label, v.Filesystem, v.MountedAt))
			}
		}
		assert.Equal(t, c.drives, all, name)
		assert.Equal(t, c.volumes, vols, name)
		refusal := out[0].Refusal()
		if c.refuses == "" {
			assert.Nil(t, refusal, name)
			continue
		}
		require.NotNil(t, refusal, name)
		assert.Contains(t, refusal.Error(), c.refuses, name)
	}
	stick := layouts["a stick with two letters"]
	d := stick.answers.drives()[0]
	assert.True(t, d.Removable)
	assert.Equal(t, `\\.\PhysicalDrive2`, d.Path)
	assert.Equal(t, "11110001", d.Volumes[0].Serial)
	assert.False(t, d.Fixed())
	locked := layouts["a locked volume"]
	v := locked.answers.drives()[0].Volumes[0]
	assert.Contains(t, v.Trouble, "Windows cannot read it")
	assert.EqualValues(t, -1, v.Free)
}

// TestALetterIsADriveWhereItsDriveIsNotKnown: a letter of a known drive is refused with the words to use.
func TestALetterIsADriveWhereItsDriveIsNotKnown(t *testing.T) {
	ctx := context.Background()
	a := layouts["a stick with two letters"].answers
	var letter volumeAnswer
	s := System{calls: windowsCalls{ask: func(context.Context) (answers, error) { return a, nil },
		letter: func(string) volumeAnswer { return letter }}}
	_, err := s.Look(ctx, `\\.\e:`)
	assert.EqualError(t, err, `\\.\e: is partition 1 of \\.\PhysicalDrive2: give the drive and the partition, as in `+
		`\\.\PhysicalDrive2#1`)
	d, err := s.Look(ctx, `\\.\physicaldrive2`)
	require.NoError(t, err)
	assert.Len(t, d.locks, 2, "what lies on it is locked when it is written to")
	_, err = s.Look(ctx, `\\.\PhysicalDrive7`)
	assert.ErrorContains(t, err, "no drive")

	for _, c := range []struct {
		is      volumeAnswer
		refuses string
	}{
		{volumeAnswer{}, ""}, // no volume of Windows'
		{volumeAnswer{At: []string{`X:\`}, Filesystem: "FAT32"}, `it is mounted at X:\`},
		{volumeAnswer{At: []string{`X:\`}}, `it is mounted at X:\`}, // locked, or encrypted
		{volumeAnswer{At: []string{`X:\`}, Raw: true}, ""},
	} {
		letter = c.is
		letter.Size = gib
		d, err := s.calls.drive(ctx, `\\.\x:`)
		require.NoError(t, err)
		assert.Equal(t, `\\.\X:`, d.Path)
		if refusal := d.Refusal(); c.refuses != "" {
			require.NotNil(t, refusal, "%+v", c.is)
			assert.Equal(t, c.refuses, refusal.Say)
		} else {
			assert.Nil(t, refusal, "%+v", c.is)
		}
	}
}

// laid writes fields one behind another, as winioctl.h lays them out.
func laid(fields ...any) []byte {
	var b bytes.Buffer
	for _, f := range fields {
		if err := binary.Write(&b, binary.LittleEndian, f); err != nil {
			panic(err)
		}
	}
	return b.Bytes()
}

// TestStructuresOfWindowsAreTakenApart.
func TestStructuresOfWindowsAreTakenApart(t *testing.T) {
	var x diskAnswer
	x.descriptor(append(laid(uint32(40), uint32(70), uint8(0), uint8(0), uint8(1), uint8(0), uint32(36), uint32(46),
		uint32(0), uint32(57), uint32(7), uint32(0)), []byte("Gullwing\x00\x00Stick 64  \x000042\x00")...))
	assert.Equal(t, diskAnswer{Vendor: "Gullwing", Product: "Stick 64", Serial: "0042", Removable: true, Bus: 7}, x)
	x.geometry(laid(int64(7), uint32(12), uint32(255), uint32(63), uint32(4096), int64(58*gib), make([]byte, 8)))
	assert.EqualValues(t, 4096, x.Sector)
	assert.Equal(t, 58*gib, x.Size)

	entry := func(style uint32, start, size int64, number uint32, kind []byte) []byte {
		e := laid(style, uint32(0), start, size, number, uint32(0))
		return append(append(e, kind...), make([]byte, 144-len(e)-len(kind))...)
	}
	mbr := append(laid(uint32(0), uint32(4), make([]byte, 40)), entry(0, 1<<20, gib, 1, []byte{0x0C})...)
	mbr = append(append(mbr, entry(0, 0, 0, 0, nil)...), append(entry(0, gib+1<<20, gib, 2, []byte{7}),
		entry(0, 0, 0, 0, nil)...)...)
	x.layout(mbr)
	assert.Equal(t, []partitionAnswer{{1, 1 << 20, gib, "0c"}, {2, gib + 1<<20, gib, "07"}}, x.Partitions)
	kind, err := hex.DecodeString("a2a0d0ebe5b9334487c068b6b72699c7") // as it stands on the disk
	require.NoError(t, err)
	var y diskAnswer
	y.layout(append(laid(uint32(1), uint32(1), make([]byte, 40)), entry(1, 1<<20, gib, 1, kind)...))
	assert.True(t, y.GPT)
	assert.Equal(t, []partitionAnswer{{1, 1 << 20, gib, basic}}, y.Partitions)
	y.Partitions = nil
	y.layout(laid(uint32(2), uint32(0), make([]byte, 40))) // a drive without a table
	assert.Empty(t, y.Partitions)

	var v volumeAnswer
	v.extents(
		laid(uint32(2), uint32(0), uint32(1), uint32(0), int64(1<<20), gib, uint32(2), uint32(0), int64(5), int64(6)),
	)
	assert.Equal(t, []extentAnswer{{1, 1 << 20, gib}, {2, 5, 6}}, v.Extents)
}

// FuzzStructuresOfWindows: whatever comes, it is taken apart as far as it goes.
func FuzzStructuresOfWindows(f *testing.F) {
	f.Add(laid(uint32(1), uint32(1<<31), make([]byte, 400)))
	f.Fuzz(func(t *testing.T, b []byte) {
		var x diskAnswer
		var v volumeAnswer
		x.descriptor(b)
		x.geometry(b)
		x.layout(b)
		v.extents(b)
		a := answers{Disks: []diskAnswer{x}, Volumes: []volumeAnswer{v}}
		for _, d := range a.drives() {
			if d.Size <= 0 {
				t.Fatal("a drive without a size")
			}
		}
	})
}
