package partition_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/partition"
	"polytome/internal/size"
	"polytome/internal/testkit/judge"
)

func disk(t testing.TB, n int64) *os.File {
	f, err := os.Create(filepath.Join(t.TempDir(), "disk.img"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(n))
	t.Cleanup(func() { _ = f.Close() })
	return f
}

// sfdisk has a table written from its own script, which it reads from its input.
func sfdisk(t testing.TB, f *os.File, script string, args ...string) {
	t.Helper()
	cmd := exec.Command("sfdisk", append(args, "--no-reread", "--no-tell-kernel", f.Name())...)
	cmd.Stdin = strings.NewReader(script)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

func TestOthersReadOurTables(t *testing.T) {
	for _, scheme := range []partition.Scheme{partition.MBR, partition.GPT} {
		f := disk(t, 3*size.GiB+12345*512)
		tab, err := partition.New(scheme, 3*size.GiB+12345*512, 512,
			partition.Wanted{Type: partition.TypeFor(scheme, "fat32"), Name: "North stick", Size: 700 * size.MiB},
			partition.Wanted{Type: partition.TypeFor(scheme, "exfat"), Name: "Ferry"})
		require.NoError(t, err)
		require.NoError(t, tab.Write(f))
		out := judge.Run(t, "sfdisk", "-d", f.Name())
		assert.NotContains(t, strings.ToLower(out), "error")
		got := regexp.MustCompile(`start=\s*(\d+), size=\s*(\d+), type=([0-9A-Za-z-]+)`).FindAllStringSubmatch(out, -1)
		require.Len(t, got, 2, out)
		for i, p := range tab.Parts {
			assert.Equal(t, []string{fmt.Sprint(p.Start / 512), fmt.Sprint(p.Size / 512)}, got[i][1:3])
			assert.Zero(t, p.Start%partition.Align)
			assert.Equal(t, strings.TrimLeft(string(p.Type), "0"), strings.ToLower(got[i][3]))
		}
		out = judge.Run(t, "gdisk", "-l", f.Name())
		if scheme == partition.GPT {
			assert.Contains(t, out, "GPT: present")
			assert.Contains(t, judge.Run(t, "sgdisk", "-v", f.Name()), "No problems found")
			assert.Contains(t, out, "North stick")
		} else {
			assert.Contains(t, out, "MBR: MBR only")
		}
		again, err := partition.Read(f, tab.Size, 0)
		require.NoError(t, err)
		assert.Empty(t, again.Problems)
		assert.Equal(t, tab.ID, again.ID)
		for i := range tab.Parts {
			assert.Equal(t, tab.Parts[i].Start, again.Parts[i].Start)
			assert.Equal(t, tab.Parts[i].Size, again.Parts[i].Size)
			assert.Equal(t, tab.Parts[i].Type, again.Parts[i].Type)
			assert.Equal(t, tab.Parts[i].Name, again.Parts[i].Name)
		}
	}
}

func TestTablesOfOthersAreRead(t *testing.T) {
	judge.NotWindows(t, "sfdisk is of Linux")
	f := disk(t, 2*size.GiB)
	sfdisk(t, f, "label: dos\nstart=2048, size=204800, type=c, bootable\nstart=206848, size=1000000, type=5\n5 : "+
		"size=100000, type=7\n6 : size=200000, type=b\n7 : size=50000, type=83\n")
	tab, err := partition.Read(f, 2*size.GiB, 512)
	require.NoError(t, err)
	assert.Empty(t, tab.Problems)
	var got []string
	for _, p := range tab.Parts {
		got = append(got, fmt.Sprintf("%d %s %d %t %t", p.Number, p.Type, p.Size/512, p.Active, p.Logical))
	}
	assert.Equal(t, []string{"1 0c 204800 true false", "5 07 100000 false true", "6 0b 200000 false true",
		"7 83 50000 false true"}, got)
	out := judge.Run(t, "sfdisk", "-d", f.Name())
	for _, p := range tab.Parts {
		assert.Regexp(t, fmt.Sprintf(`start=\s*%d,`, p.Start/512), out)
	}

	// one partition becomes another type, also inside of the extended one, and nothing else changes
	before := strings.ReplaceAll(out, "type=b", "type=c")
	require.NoError(t, partition.SetType(f, tab, 6, partition.FAT32))
	assert.Equal(t, before, judge.Run(t, "sfdisk", "-d", f.Name()))

	g := disk(t, 2*size.GiB)
	judge.Run(t, "sgdisk", "-n", "1:8192:+100M", "-t", "1:8300", "-c", "1:Étape", "-A", "1:set:62", "-n", "3:0:+200M",
		"-t", "3:0700", g.Name())
	tab, err = partition.Read(g, 2*size.GiB, 0)
	require.NoError(t, err)
	assert.Empty(t, tab.Problems)
	require.Len(t, tab.Parts, 2)
	assert.Equal(t, "Étape", tab.Parts[0].Name)
	assert.Equal(t, 3, tab.Parts[1].Number)
	assert.Equal(t, partition.BasicData, tab.Parts[1].Type)
	require.NoError(t, partition.SetType(g, tab, 1, partition.BasicData))
	assert.Contains(t, judge.Run(t, "sgdisk", "-v", g.Name()), "No problems found")
	info := judge.Run(t, "sgdisk", "-i", "1", g.Name())
	assert.Contains(t, info, "EBD0A0A2")
	assert.Contains(t, info, "4000000000000000", "what others set stays")

	// without its first copy, the backup serves
	_, err = g.WriteAt(make([]byte, 512), 512)
	require.NoError(t, err)
	tab, err = partition.Read(g, 2*size.GiB, 512)
	require.NoError(t, err)
	assert.Len(t, tab.Parts, 2)
	assert.Contains(t, tab.Problems[0], "start is wrong. Its backup")
}

func TestSectorsOf4096(t *testing.T) {
	for _, scheme := range []partition.Scheme{partition.MBR, partition.GPT} {
		f := disk(t, size.GiB)
		tab, err := partition.New(scheme, size.GiB, 4096, partition.Wanted{Type: partition.TypeFor(scheme, "fat32")})
		require.NoError(t, err)
		require.NoError(t, tab.Write(f))
		loop := strings.TrimSpace(judge.Root(t, "losetup", "-f", "--show", "-b", "4096", f.Name()))
		out := judge.Root(t, "sfdisk", "-d", loop)
		judge.Root(t, "losetup", "-d", loop)
		assert.Regexp(t, fmt.Sprintf(`start=\s*%d, size=\s*%d,`, tab.Parts[0].Start/4096, tab.Parts[0].Size/4096), out)
		again, err := partition.Read(f, size.GiB, 4096)
		require.NoError(t, err)
		assert.Equal(t, tab.Parts[0].Start, again.Parts[0].Start)
		if scheme == partition.GPT { // its header tells the size by where it lies
			again, err = partition.Read(f, size.GiB, 0)
			require.NoError(t, err)
			assert.EqualValues(t, 4096, again.Sector)
		}
	}
}

func TestAnMBRClearsAnOldGPT(t *testing.T) {
	f := disk(t, size.GiB)
	judge.Run(t, "sgdisk", "-n", "1:0:0", f.Name())
	tab, err := partition.New(partition.MBR, size.GiB, 512, partition.Wanted{Type: partition.FAT32})
	require.NoError(t, err)
	require.NoError(t, tab.Write(f))
	out := judge.Run(t, "gdisk", "-l", f.Name())
	assert.Contains(t, out, "GPT: not present")
}

func TestWrongTables(t *testing.T) {
	none := func(b []byte) {
		t.Helper()
		_, err := partition.Read(bytes.NewReader(b), int64(len(b)), 0)
		assert.ErrorIs(t, err, partition.ErrNoTable)
	}
	none(make([]byte, size.MiB))
	none(make([]byte, 100))
	f := disk(t, 64*size.MiB)
	judge.Run(t, "mkfs.fat", "-F", "16", f.Name())
	b, err := os.ReadFile(f.Name())
	require.NoError(t, err)
	none(b) // a volume without a table ends its first sector in the same bytes

	mbr := make([]byte, size.MiB)
	mbr[510], mbr[511] = 0x55, 0xAA
	entry := func(at int64, i int, kind byte, start, count uint32) {
		e := mbr[at+0x1BE+int64(i)*16:]
		e[4] = kind
		binary.LittleEndian.PutUint32(e[8:], start)
		binary.LittleEndian.PutUint32(e[12:], count)
	}
	entry(0, 0, 0x0C, 100, 1<<31)
	entry(0, 1, 0x0C, 200, 10)
	entry(0, 2, 0x05, 1000, 500)
	entry(1000*512, 0, 0x0B, 10, 10)
	entry(1000*512, 1, 0x05, 0, 10) // points at itself
	mbr[1000*512+510], mbr[1000*512+511] = 0x55, 0xAA
	tab, err := partition.Read(bytes.NewReader(mbr), int64(len(mbr)), 512)
	require.NoError(t, err)
	say := strings.Join(tab.Problems, " ")
	assert.Contains(t, say, "Partition 1 reaches to")
	assert.Contains(t, say, "Partitions 1 and 2 overlap")
	assert.Contains(t, say, "is a loop")
	assert.Len(t, tab.Parts, 3)

	_, err = partition.New(partition.MBR, size.MiB, 512, partition.Wanted{Type: partition.FAT32})
	assert.ErrorContains(t, err, "no space for a partition")
	_, err = partition.New(partition.MBR, size.GiB, 520)
	assert.Error(t, err)
	big, err := partition.New(partition.MBR, 4*size.TiB, 512, partition.Wanted{Type: partition.FAT32})
	require.NoError(t, err)
	assert.LessOrEqual(t, big.Parts[0].End(), int64(2*size.TiB), "an MBR counts no further")
}

// failing is a disk that fails from the nth write on.
type failing struct {
	*os.File
	left int
}

func (f *failing) WriteAt(b []byte, off int64) (int, error) {
	if f.left--; f.left < 0 {
		return 0, errors.New("the device has gone")
	}
	return f.File.WriteAt(b, off)
}

func TestAFailingDisk(t *testing.T) {
	for _, scheme := range []partition.Scheme{partition.MBR, partition.GPT} {
		tab, err := partition.New(scheme, size.GiB, 512, partition.Wanted{Type: partition.TypeFor(scheme, "fat32")})
		require.NoError(t, err)
		for n := 0; ; n++ {
			err := tab.Write(&failing{disk(t, size.GiB), n})
			if err == nil {
				assert.Positive(t, n)
				break
			}
			assert.ErrorContains(t, err, "the device has gone")
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, scheme := range []partition.Scheme{partition.MBR, partition.GPT} {
		d := disk(f, 8*size.MiB)
		tab, err := partition.New(scheme, 8*size.MiB, 512, partition.Wanted{Type: partition.TypeFor(scheme, "fat32")})
		require.NoError(f, err)
		require.NoError(f, tab.Write(d))
		b := make([]byte, 40*512)
		_, err = d.ReadAt(b, 0)
		require.NoError(f, err)
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		tab, err := partition.Read(bytes.NewReader(b), int64(len(b)), 0)
		if err != nil {
			return
		}
		for _, p := range tab.Parts {
			if p.Start <= 0 || p.Start >= int64(len(b)) || p.Size <= 0 {
				t.Fatalf("partition %d lies at %d with %d bytes on a disk of %d", p.Number, p.Start, p.Size, len(b))
			}
		}
	})
}
