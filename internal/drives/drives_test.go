package drives_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/drives"
	"polytome/internal/format/fat"
	"polytome/internal/format/partition"
	"polytome/internal/size"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/volumetest"
)

var ctx = context.Background()

// computer is a made-up system whose devices are files.
type computer struct {
	t testing.TB
	drives.System
}

func newComputer(t testing.TB) *computer {
	judge.NotWindows(t, "the computer that is made up has Linux")
	dir := t.TempDir()
	c := &computer{t, drives.System{Sys: filepath.Join(dir, "sys"), Proc: filepath.Join(dir, "proc"),
		Dev: filepath.Join(dir, "dev"), Udev: filepath.Join(dir, "udev")}}
	c.write(c.Proc, "self/mountinfo", "1 0 8:2 / / rw - ext4 "+c.Dev+"/sda2 rw\n")
	c.write(c.Proc, "swaps", "Filename Type Size Used Priority\n")
	return c
}

func (c *computer) write(dir, name, text string) {
	file := filepath.Join(dir, name)
	require.NoError(c.t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(c.t, os.WriteFile(file, []byte(text), 0o600))
}

// disk plugs a device in: what the kernel describes it, and a file for its bytes.
func (c *computer) disk(name, number string, n int64, files map[string]string) string {
	c.write(c.Sys, "block/"+name+"/size", fmt.Sprint(n/512))
	c.write(c.Sys, "block/"+name+"/dev", number)
	c.write(c.Sys, "block/"+name+"/queue/logical_block_size", "512")
	for f, text := range files {
		c.write(c.Sys, "block/"+name+"/"+f, text)
	}
	dev := filepath.Join(c.Dev, name)
	require.NoError(c.t, os.MkdirAll(c.Dev, 0o755))
	require.NoError(c.t, os.WriteFile(dev, nil, 0o600))
	require.NoError(c.t, os.Truncate(dev, n))
	return dev
}

// part tells the kernel of a partition.
func (c *computer) part(disk, name, number string, no int) {
	c.write(c.Sys, "block/"+disk+"/"+name+"/partition", fmt.Sprint(no))
	c.write(c.Sys, "block/"+disk+"/"+name+"/dev", number)
}

// stick is a usual stick, with a FAT32 volume behind an MBR.
func (c *computer) stick(name, number, serial string) string {
	dev := c.disk(name, number, 128*size.MiB, map[string]string{"removable": "1", "device/vendor": "Halyard ",
		"device/model": "Pocket 58"})
	c.write(c.Udev, "b"+number, "S:disk/by-id/x\nE:ID_BUS=usb\nE:ID_SERIAL_SHORT="+serial+"\n")
	c.part(name, name+"1", number+"1", 1)
	make32(c.t, dev)
	return dev
}

func make32(t testing.TB, dev string) {
	m := volumetest.OpenFile(t, dev)
	table, err := partition.New(partition.MBR, m.Size(), 512, partition.Wanted{Type: partition.FAT32})
	require.NoError(t, err)
	require.NoError(t, table.Write(m))
	part := m.Part(table.Parts[0].Start, table.Parts[0].Size)
	require.NoError(t, fat.Format(part, part.Size(), fat.Options{Bits: 32, Cluster: 512, Label: "QUAY"}))
}

// another gives a drive another signature in its partition table.
func another(t testing.TB, name string) {
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	require.NoError(t, err)
	b := make([]byte, 1)
	_, err = f.ReadAt(b, 0x1B8)
	require.NoError(t, err)
	b[0] ^= 0xFF
	_, err = f.WriteAt(b, 0x1B8)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

func (c *computer) look(what string) *drives.Drive {
	d, err := c.Look(ctx, what)
	require.NoError(c.t, err)
	return d
}

// TestADiskInAnAdapter: the kernel has the disk below the USB device that it is reached by.
func TestADiskInAnAdapter(t *testing.T) {
	c := newComputer(t)
	usb := "devices/pci0/usb2/2-1"
	for file, text := range map[string]string{"idVendor": "ffff\n", "idProduct": "0707\n", "serial": "ADP-7\n",
		"2-1:1.0/host4/target4:0:0/4:0:0:0/block/sdd/size": fmt.Sprint(64 * size.MiB / 512),
		"2-1:1.0/host4/target4:0:0/4:0:0:0/block/sdd/dev":  "8:48"} {
		c.write(c.Sys, usb+"/"+file, text)
	}
	require.NoError(t, os.MkdirAll(filepath.Join(c.Sys, "block"), 0o755))
	require.NoError(t, os.Symlink("../"+usb+"/2-1:1.0/host4/target4:0:0/4:0:0:0/block/sdd", filepath.Join(c.Sys,
		"block/sdd")))
	require.NoError(t, os.MkdirAll(c.Dev, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(c.Dev, "sdd"), make([]byte, 64*size.MiB), 0o600))
	d := c.look(filepath.Join(c.Dev, "sdd"))
	assert.Equal(t, "ffff:0707 ADP-7", d.Adapter)
	assert.Equal(t, "usb", d.Bus)
	c.stick("sdb", "8:16", "QX-2209-11")
	assert.Empty(t, c.look("QX-2209-11").Adapter)
}

func TestDrivesAreFound(t *testing.T) {
	c := newComputer(t)
	stick := c.stick("sdb", "8:16", "QX-2209-11")
	c.disk("sda", "8:0", 500*size.MiB, map[string]string{"device/vendor": "Maker", "device/model": "Disk"})
	c.part("sda", "sda2", "8:2", 2)
	c.disk("nvme0n1", "259:0", 64*size.MiB, map[string]string{"device/model": "Quick", "device/serial": "N-1"})
	c.disk("zram0", "252:0", 64*size.MiB, nil)
	c.disk("loop3", "7:3", 64*size.MiB, nil) // without a file it is none
	c.disk("sdc", "8:32", 0, nil)            // a reader without a card
	all, err := c.List(ctx)
	require.NoError(t, err)
	got := map[string]string{}
	for _, d := range all {
		got[filepath.Base(d.Path)] = fmt.Sprintf("%s %s %s fixed=%t", d.Name(), d.Serial, d.Bus, d.Fixed())
	}
	assert.Equal(t, map[string]string{"sda": "Maker Disk  other fixed=true",
		"sdb": "Halyard Pocket 58 QX-2209-11 usb fixed=false", "nvme0n1": "Quick N-1 nvme fixed=true"}, got)
	d := c.look("qx-2209-11")
	assert.Equal(t, stick, d.Path)
	require.Len(t, d.Volumes, 1)
	v := d.Volumes[0]
	assert.Equal(t, "fat32", v.Filesystem)
	assert.Equal(t, "QUAY", v.Label)
	assert.Positive(t, v.Free)
	_, err = c.Look(ctx, stick+"1")
	assert.Error(t, err)
	_, err = c.Look(ctx, "nothing")
	assert.ErrorContains(t, err, "no drive nothing")
}

func TestTheGuardRefuses(t *testing.T) {
	for name, k := range map[string]struct {
		do   func(c *computer)
		want string
	}{
		"the running system": {func(c *computer) {
			c.write(c.Proc, "self/mountinfo",
				"1 0 8:161 / / rw - ext4 /dev/root rw\n")
		}, "the running system is on it"},
		"a mount": {func(c *computer) {
			c.write(c.Proc, "self/mountinfo", "1 0 8:161 / /media/a\\040stick rw - vfat x rw\n")
		}, "is mounted at /media/a stick; unmount it first"},
		"a mount by its path, through FUSE": {func(c *computer) {
			c.write(c.Proc, "self/mountinfo", "1 0 0:50 / /mnt/q rw - fuseblk "+c.Dev+"/sdb1 rw\n")
		}, "is mounted at /mnt/q"},
		"the whole device mounted": {func(
			c *computer) {
			c.write(c.Proc, "self/mountinfo", "1 0 8:16 / /mnt/q rw - vfat x rw\n")
		},
			"is mounted at /mnt/q"},
		"swap": {func(
			c *computer) {
			c.write(c.Proc, "swaps", "Filename\n"+c.Dev+"/sdb1 partition 1 0 -2\n")
		}, "is swap space"},
		"an encrypted volume": {func(c *computer) {
			c.write(c.Sys, "block/sdb/sdb1/holders/dm-0/x", "")
			c.write(c.Sys, "block/dm-0/dm/uuid", "CRYPT-LUKS2-1")
			c.write(c.Sys, "block/dm-0/dm/name", "vault")
		}, "is part of the encrypted volume vault"},
		"LVM": {func(c *computer) {
			c.write(c.Sys, "block/sdb/holders/dm-1/x", "")
			c.write(c.Sys, "block/dm-1/dm/uuid", "LVM-1")
			c.write(c.Sys, "block/dm-1/dm/name", "group-home")
		}, "is part of the LVM volume group-home"},
		"RAID": {func(c *computer) { c.write(c.Sys, "block/sdb/sdb1/holders/md127/x", "") },
			"is part of the RAID md127"},
		"btrfs": {func(c *computer) { c.write(c.Sys, "fs/btrfs/1-2/devices/sdb1/x", "") }, "is part of a btrfs volume"},
		"ZFS": {func(c *computer) {
			c.write(c.Udev, "b8:161", "E:ID_FS_TYPE=zfs_member\n")
			c.write(c.Proc, "spl/kstat/zfs/arcstats", "hits 1\n")
		}, "is part of a ZFS pool"},
		"its lock": {func(c *computer) { c.write(c.Sys, "block/sdb/ro", "1") }, "cannot be written to"},
		"another stick": {func(c *computer) { c.write(c.Udev, "b8:16", "E:ID_BUS=usb\nE:ID_SERIAL_SHORT=OTHER\n") },
			"its serial number was QX-1 and is OTHER"},
		"another size": {func(c *computer) {
			c.write(c.Sys, "block/sdb/size", "1000")
		}, "it had 128.00 MiB and has"},
		"another table": {func(c *computer) {
			another(c.t, filepath.Join(c.Dev, "sdb"))
		}, "its partition table is different"},
		"it is gone": {func(c *computer) { require.NoError(c.t, os.RemoveAll(filepath.Join(c.Sys, "block/sdb"))) },
			"no drive"},
	} {
		t.Run(name, func(t *testing.T) {
			c := newComputer(t)
			dev := c.stick("sdb", "8:16", "QX-1")
			shown := c.look("QX-1")
			require.Nil(t, shown.Refusal())
			before, err := os.ReadFile(dev)
			require.NoError(t, err)
			k.do(c)
			m, err := c.Open(ctx, shown, drives.Erasing, drives.Consent{Typed: "QX-1", Fixed: true})
			require.ErrorContains(t, err, k.want)
			assert.Nil(t, m)
			after, err := os.ReadFile(dev)
			require.NoError(t, err)
			if name != "another table" {
				assert.Equal(t, before, after, "nothing was written")
			}
		})
	}
}

// TestAnImageThatIsAttached is not written to; one that others are attached for is.
func TestAnImageThatIsAttached(t *testing.T) {
	c := newComputer(t)
	img, other := filepath.Join(t.TempDir(), "stick.img"), filepath.Join(t.TempDir(), "other.img")
	for _, name := range []string{img, other} {
		require.NoError(t, os.WriteFile(name, nil, 0o600))
		require.NoError(t, os.Truncate(name, 64*size.MiB))
		make32(t, name)
	}
	c.write(c.Sys, "block/loop3/loop/backing_file", other+"\n")
	assert.Nil(t, c.look(img).Refusal(), "another image is attached")
	c.write(c.Sys, "block/loop4/loop/backing_file", img+"\n")
	require.NotNil(t, c.look(img).Refusal())
	assert.Contains(t, c.look(img).Refusal().Error(), "it is attached as "+filepath.Join(c.Dev, "loop4"))
	link := filepath.Join(t.TempDir(), "link.img")
	require.NoError(t, os.Link(img, link)) // the same file under another name
	c.write(c.Sys, "block/loop4/loop/backing_file", link+"\n")
	assert.NotNil(t, c.look(img).Refusal())
}

func TestConsent(t *testing.T) {
	c := newComputer(t)
	c.stick("sdb", "8:16", "QX-1")
	c.disk("sdd", "8:48", 64*size.MiB, map[string]string{"device/model": "Built in", "device/serial": "B-7"})
	stick, disk := c.look("QX-1"), c.look("B-7")
	for _, typed := range []string{"", "y", "yes", "QX-2", "sdb"} {
		_, err := c.Open(ctx, stick, drives.Erasing, drives.Consent{Typed: typed})
		assert.ErrorContains(t, err, "that is not its name", typed)
		assert.True(t, drives.IsRefused(err))
	}
	_, err := c.Open(ctx, disk, drives.Erasing, drives.Consent{Typed: "Built in"})
	assert.ErrorContains(t, err, "built into this computer")
	// what is a device here is a file, which can be opened as one
	for _, ok := range []struct {
		d *drives.Drive
		c drives.Consent
	}{{stick, drives.Consent{Typed: "halyard pocket 58"}}, {stick, drives.Consent{Typed: "qx-1"}},
		{disk, drives.Consent{Typed: "B-7", Fixed: true}}} {
		assert.NoError(t, ok.d.Agreed(ok.c))
	}
}

// TestJustBeforeTheFirstWrite has the drive be changed for another one between opening and writing.
func TestJustBeforeTheFirstWrite(t *testing.T) {
	for name, change := range map[string]func(name string){
		"its table": func(name string) {
			another(t, name)
		},
		"it grew":   func(name string) { require.NoError(t, os.Truncate(name, 129*size.MiB)) },
		"it shrank": func(name string) { require.NoError(t, os.Truncate(name, 127*size.MiB)) },
	} {
		img := filepath.Join(t.TempDir(), "stick.img")
		require.NoError(t, os.WriteFile(img, nil, 0o600))
		require.NoError(t, os.Truncate(img, 128*size.MiB))
		make32(t, img)
		d, err := drives.Here.Look(ctx, img)
		require.NoError(t, err)
		m, err := drives.Here.Open(ctx, d, drives.Erasing, drives.Consent{Typed: "stick.img"})
		require.NoError(t, err)
		change(img)
		_, err = m.WriteAt(make([]byte, 512), 8192)
		assert.ErrorContains(t, err, "it changed just before the first write", name)
		assert.ErrorContains(t, m.Zero(0, 512), "it changed", "and so it stays")
		require.NoError(t, m.Close())
	}
}

func TestNoPermission(t *testing.T) {
	if os.Getuid() == 0 {
		// The test's program is copied to where someone without permissions can run it.
		dir := t.TempDir()
		require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755))
		program, err := os.ReadFile(os.Args[0])
		require.NoError(t, err)
		file := filepath.Join(dir, "drives.test")
		require.NoError(t, os.WriteFile(file, program, 0o755))
		cmd := exec.Command("setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", file,
			"-test.run=^TestNoPermission$", "-test.v")
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		assert.Contains(t, string(out), "PASS: TestNoPermission")
		return
	}
	c := newComputer(t)
	dev := c.stick("sdb", "8:16", "QX-1")
	shown := c.look("QX-1")
	require.NoError(t, os.Chmod(dev, 0))
	d := c.look("QX-1")
	assert.Contains(t, d.Trouble, "permission denied. Run Polytome with sudo")
	_, err := c.Open(ctx, shown, drives.Erasing, drives.Consent{Typed: "QX-1"})
	assert.True(t, drives.IsRefused(err), err)
}

// loop makes a loop device, which stands for a stick.
func loop(t testing.TB, img string) string {
	dev := strings.TrimSpace(judge.Root(t, "losetup", "-f", "--show", img))
	t.Cleanup(func() {
		if _, err := judge.Try(t, "losetup", dev); err == nil {
			_, _ = judge.Try(t, "losetup", "-d", dev)
		}
	})
	return dev
}

// TestARealDevice goes through the guard to a loop device, in use and not.
func TestARealDevice(t *testing.T) {
	if !judge.AsRoot(t) {
		return
	}
	img := filepath.Join(t.TempDir(), "stick.img")
	require.NoError(t, os.WriteFile(img, nil, 0o600))
	require.NoError(t, os.Truncate(img, 64*size.MiB))
	judge.Run(t, "mkfs.exfat", "-L", "QUAY", img)
	before := drives.Here.Known()
	dev := loop(t, img)
	assert.NotEqual(t, before, drives.Here.Known(), "that it was plugged in is noticed")
	d, err := drives.Here.Look(ctx, dev)
	require.NoError(t, err)
	assert.Equal(t, "QUAY", d.Volumes[0].Label)
	i, err := drives.Here.Look(ctx, img)
	require.NoError(t, err)
	require.NotNil(t, i.Refusal())
	assert.Contains(t, i.Refusal().Say, "it is attached as "+dev)

	dir := t.TempDir()
	judge.Root(t, "mount.exfat-fuse", dev, dir)
	_, err = drives.Here.Open(ctx, d, drives.Erasing, drives.Consent{Typed: d.Serial})
	assert.ErrorContains(t, err, "is mounted at "+dir)

	// a program works in it, so it cannot be released
	busy := exec.Command("sleep", "60")
	busy.Dir = dir
	require.NoError(t, busy.Start())
	_, err = drives.Here.Eject(ctx, d, nil)
	var be *drives.BusyError
	require.ErrorAs(t, err, &be)
	assert.Contains(t, err.Error(), "is not safe to unplug")
	require.NotEmpty(t, be.Programs)
	assert.Equal(t, "sleep", be.Programs[0].Name)
	require.NoError(t, busy.Process.Kill())
	_ = busy.Wait()

	var reported []string
	require.Eventually(t, func() bool { // the mount's program ends a moment after the unmounting
		reported = nil
		r, err := drives.Here.Eject(ctx, d, func(s string) { reported = append(reported, s) })
		return err == nil && r.Safe && r.Off
	}, 10*time.Second, 50*time.Millisecond)
	assert.Contains(t, strings.Join(reported, "; "), "powering off")
	_, err = drives.Here.Look(ctx, dev)
	assert.Error(t, err, "it is gone")
}

func TestTheSystemIsNotEjected(t *testing.T) {
	c := newComputer(t)
	c.stick("sda", "8:0", "S-1")
	c.part("sda", "sda2", "8:2", 2)
	_, err := c.Eject(ctx, c.look("S-1"), nil)
	assert.ErrorContains(t, err, "the running system is on it")
	img := filepath.Join(t.TempDir(), "a.img")
	require.NoError(t, os.WriteFile(img, make([]byte, 4<<20), 0o600))
	d, err := drives.Here.Look(ctx, img)
	require.NoError(t, err)
	r, err := drives.Here.Eject(ctx, d, nil)
	require.NoError(t, err)
	assert.True(t, r.Safe)
	assert.Contains(t, r.Say, "everything written: it")
}

func TestOtherFilesystemsAreRecognised(t *testing.T) {
	for want, at := range map[string]struct {
		off  int
		mark string
	}{"crypt": {0, "LUKS\272\276"}, "lvm": {512, "LABELONE"}, "swap": {4086, "SWAPSPACE2"}, "ext4": {1080, "\x53\xef"},
		"btrfs": {65600, "_BHRfS_M"}, "xfs": {0, "XFSB"}, "iso9660": {32769, "CD001"}} {
		img := filepath.Join(t.TempDir(), "a.img")
		b := make([]byte, 4<<20)
		copy(b[at.off:], at.mark)
		require.NoError(t, os.WriteFile(img, b, 0o600))
		d, err := drives.Here.Look(ctx, img)
		require.NoError(t, err)
		require.Len(t, d.Volumes, 1)
		assert.Equal(t, want, d.Volumes[0].Filesystem)
	}
}
