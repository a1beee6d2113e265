package drives

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"howett.net/plist"
)

type dict = map[string]any

// aMac answers what macOS is asked: by the words of the command, as diskutil and ioreg print it.
func aMac(t testing.TB, answers map[string]any) System {
	run := func(_ context.Context, program string, args ...string) ([]byte, error) {
		said, ok := answers[strings.Join(append([]string{program}, args...), " ")]
		if !ok {
			return nil, errors.New("exit status 1")
		}
		out, err := plist.MarshalIndent(said, plist.XMLFormat, " ")
		require.NoError(t, err)
		return out, nil
	}
	return System{Dev: "/dev", calls: diskutil{run: run, say: func() string { return "" }}}
}

// macAnswers are those of a laptop with its own disk, a stick, a card, a stick without a table, and an image.
func macAnswers() map[string]any {
	info := func(name, protocol string, size int64, more dict) dict {
		d := dict{"MediaName": name, "BusProtocol": protocol, "DeviceBlockSize": 512, "Size": size, "Internal": false,
			"RemovableMediaOrExternalDevice": true, "WritableMedia": true, "VirtualOrPhysical": "Physical"}
		for k, v := range more {
			d[k] = v
		}
		return d
	}
	volume := func(kind, name, label string, start int64, more dict) dict {
		d := dict{
			"FilesystemType":              kind,
			"FilesystemName":              name,
			"VolumeName":                  label,
			"PartitionMapPartitionOffset": start,
		}
		for k, v := range more {
			d[k] = v
		}
		return d
	}
	return map[string]any{
		"diskutil list -plist": dict{"AllDisksAndPartitions": []dict{
			{"DeviceIdentifier": "disk0", "Content": "GUID_partition_scheme", "Size": 500 * gib, "Partitions": []dict{
				{"DeviceIdentifier": "disk0s1", "Content": "EFI", "Size": 300 << 20},
				{"DeviceIdentifier": "disk0s2", "Content": "Container", "Size": 499 * gib}}},
			{"DeviceIdentifier": "disk1", "Content": "Scheme", "Size": 499 * gib,
				"APFSPhysicalStores": []dict{{"DeviceIdentifier": "disk0s2"}},
				"APFSVolumes": []dict{{"DeviceIdentifier": "disk1s1", "MountPoint": "/System/Volumes/Data"},
					{"DeviceIdentifier": "disk1s5", "MountPoint": "/"}}},
			{"DeviceIdentifier": "disk2", "Content": "FDisk_partition_scheme", "Size": 58 * gib, "Partitions": []dict{
				{"DeviceIdentifier": "disk2s1", "Content": "Windows_FAT_32", "Size": 30 * gib, "VolumeName": "NORTH",
					"MountPoint": "/Volumes/NORTH"},
				{"DeviceIdentifier": "disk2s2", "Content": "Windows_NTFS", "Size": 20 * gib}}},
			{"DeviceIdentifier": "disk3", "Content": "", "Size": gib, "VolumeName": "HOLIDAY"},
			{"DeviceIdentifier": "disk4", "Content": "", "Size": 8 * gib},
			{"DeviceIdentifier": "disk5", "Content": "GUID_partition_scheme", "Size": gib},
			{"DeviceIdentifier": "disk6", "Content": "", "Size": 0},
		}},
		"diskutil info -plist disk0": info("Kestrel 512", "PCI-Express", 500*gib, dict{"Internal": true,
			"RemovableMediaOrExternalDevice": false}),
		"diskutil info -plist disk0s1": volume("msdos", "MS-DOS FAT32", "EFI", 20<<10, nil),
		"diskutil info -plist disk0s2": volume("", "", "", 301<<20, nil),
		"diskutil info -plist disk1":   info("", "PCI-Express", 499*gib, dict{"VirtualOrPhysical": "Virtual"}),
		"diskutil info -plist disk2":   info(" Gullwing Stick 64 ", "USB", 58*gib, nil),
		"diskutil info -plist disk2s1": volume("msdos", "MS-DOS FAT32", "NORTH", 1<<20, dict{"FreeSpace": 7 * gib,
			"VolumeUUID": "0AB1-X", "VolumeAllocationBlockSize": 32 << 10}),
		"diskutil info -plist disk2s2": volume("exfat", "ExFAT", "SOUTH", 31*gib, nil),
		"diskutil info -plist disk3": info(
			"Old stick",
			"USB",
			gib,
			dict{"FilesystemType": "msdos", "FilesystemName": "MS-DOS FAT16", "VolumeName": "HOLIDAY"},
		),
		"diskutil info -plist disk4": info("Card", "Secure Digital", 8*gib, dict{"WritableMedia": false}),
		"diskutil info -plist disk5": info("An image", "Disk Image", gib, dict{"VirtualOrPhysical": "Virtual"}),
		"diskutil info -plist disk6": info("Empty slot", "USB", 0, nil),
		"ioreg -a -r -l -c IOUSBHostDevice": []dict{{"USB Serial Number": "0042", "IORegistryEntryChildren": []dict{{
			"Device Characteristics": dict{"Serial Number": "of the bridge"},
			"IORegistryEntryChildren": []dict{{"BSD Name": "disk2", "Whole": true, "IORegistryEntryChildren": []dict{
				{"BSD Name": "disk2s1", "Whole": false}}}}}}}},
		"ioreg -a -r -l -c IOBlockStorageDevice": []dict{
			{"Device Characteristics": dict{"Serial Number": " KS-0001 "}, "IORegistryEntryChildren": []dict{
				{"BSD Name": "disk0", "Whole": true}}},
			{"Device Characteristics": dict{"Serial Number": "of the bridge"}, "IORegistryEntryChildren": []dict{
				{"BSD Name": "disk2", "Whole": true}}}},
	}
}

func TestDrivesAreKnownFromWhatMacOSSays(t *testing.T) {
	s := aMac(t, macAnswers())
	all, err := s.List(context.Background())
	require.NoError(t, err)
	var got []string
	for _, d := range all {
		refusal := "may be written"
		if r := d.Refusal(); r != nil {
			refusal = r.Say
		}
		got = append(got, fmt.Sprintf("%s, %s %s %s %v: %s", d.Path, d.Name(), d.Serial, d.Bus, d.Fixed(), refusal))
		for _, v := range d.Volumes {
			got = append(
				got,
				fmt.Sprintf("  %d %s %s at %d %v", v.Number, v.Label, v.Filesystem, v.Start>>20, v.MountedAt),
			)
		}
	}
	assert.Equal(t, []string{
		"/dev/disk0, Kestrel 512 KS-0001 nvme true: macOS runs from it (/System/Volumes/Data)",
		"  1 EFI fat32 at 0 []", "  2   at 301 []",
		"/dev/disk2, Gullwing Stick 64 0042 usb false: it is mounted at /Volumes/NORTH",
		"  1 NORTH fat32 at 1 [/Volumes/NORTH]", "  2 SOUTH exfat at 31744 []",
		"/dev/disk3, Old stick  usb false: may be written", "  0 HOLIDAY fat16 at 0 []",
		"/dev/disk4, Card  card false: it cannot be written to",
		"/dev/disk5, An image  loop false: may be written",
	}, got)
	north := all[1].Volumes[0]
	assert.Equal(t, "0ab1-x", north.Serial)
	assert.EqualValues(t, 7*gib, north.Free)
	assert.EqualValues(t, -1, all[1].Volumes[1].Free)

	_, err = s.Look(context.Background(), "nothing-like-it")
	assert.ErrorContains(t, err, "no drive nothing-like-it")

	broken := macAnswers()
	delete(broken, "diskutil list -plist")
	_, err = aMac(t, broken).List(context.Background())
	assert.ErrorContains(t, err, "diskutil: exit status 1", "what fails is not taken for a computer without drives")
	none := macAnswers()
	delete(none, "ioreg -a -r -l -c IOUSBHostDevice")
	all, err = aMac(t, none).List(context.Background())
	require.NoError(t, err)
	assert.Equal(t, "of the bridge", all[1].Serial)
}

// FuzzWhatMacOSSays: whatever comes, it is taken as far as it goes.
func FuzzWhatMacOSSays(f *testing.F) {
	for _, said := range macAnswers() {
		b, err := plist.Marshal(said, plist.XMLFormat)
		require.NoError(f, err)
		f.Add(b)
	}
	f.Fuzz(func(_ *testing.T, b []byte) {
		run := func(context.Context, string, ...string) ([]byte, error) { return b, nil }
		_, _ = diskutil{run: run}.drives(context.Background())
	})
}
