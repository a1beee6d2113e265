package prepare_test

import (
	"context"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/contents"
	"polytome/internal/core/loader"
	"polytome/internal/core/prepare"
	"polytome/internal/core/title"
	"polytome/internal/drives"
	"polytome/internal/format/partition"
	"polytome/internal/size"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/volumetest"
)

var ctx = context.Background()

func set(t testing.TB) *loader.Set {
	s, err := loader.Known("")
	require.NoError(t, err)
	return s
}

func profile(t testing.TB, name string) *loader.Profile {
	p, err := set(t).Profile(name)
	require.NoError(t, err)
	return p
}

func image(t testing.TB, n int64) *drives.Drive {
	img := filepath.Join(t.TempDir(), "north.img")
	require.NoError(t, os.WriteFile(img, nil, 0o600))
	require.NoError(t, os.Truncate(img, n))
	return look(t, img)
}

func look(t testing.TB, img string) *drives.Drive {
	d, err := drives.Here.Look(ctx, img)
	require.NoError(t, err)
	return d
}

func plan(t testing.TB, d *drives.Drive, r prepare.Request) *prepare.Plan {
	p, err := prepare.Make(ctx, drives.Here, d, set(t), r)
	require.NoError(t, err)
	return p
}

func titles(platform, kind string, n int, bytes int64) []title.Title {
	var out []title.Title
	for range n {
		out = append(out, title.Title{Platform: platform, Name: "Copper Tide",
			Discs: []title.Disc{{Kind: kind, File: title.File{Path: "x", Size: bytes}}}})
	}
	return out
}

var typed = drives.Consent{Typed: "north.img"}

func TestABareStickBecomesOneThatTheLoaderAccepts(t *testing.T) {
	kit := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(kit, "rowan-3.run"), []byte("the loader"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(kit, "rowan.cfg"), []byte("# mine\nlook=disk\n"), 0o600))
	d := image(t, 58*size.GiB)
	p := plan(t, d, prepare.Request{Profile: profile(t, "rowan"), Kit: kit, Titles: titles("vesper", "full", 3, 4<<30)})
	assert.Equal(t, partition.MBR, p.Scheme)
	assert.Equal(t, "fat32", p.Filesystem)
	assert.EqualValues(t, 32*size.KiB, p.Cluster)
	assert.Empty(t, p.Loses)
	assert.Len(t, p.Notes, 2, "each file of the kit is named")
	assert.Equal(t, []string{"FULL"}, p.Folders)
	assert.Len(t, p.Kit, 2)
	var events []prepare.Event
	r, err := p.Do(ctx, drives.Here, typed, func(e prepare.Event) { events = append(events, e) })
	require.NoError(t, err)
	assert.Empty(t, r.Wrong)
	assert.Equal(t, 2, r.Files)
	assert.Len(t, events, len(p.Steps))
	out := judge.Run(t, "sfdisk", "-d", d.Path)
	assert.Contains(t, out, "type=c")
	cfg := filepath.Join(t.TempDir(), "cfg")
	behind(t, d.Path, func(part string) {
		judge.Root(t, "fsck.fat", "-n", part)
		judge.Root(t, "mcopy", "-i", part, "::/ROWAN/rowan.cfg", cfg)
	})
	b, err := os.ReadFile(cfg)
	require.NoError(t, err)
	assert.Equal(t, "# mine\nlook=stick\nfaces=yes\n", string(b), "what the loader needs is set, the rest stays")

	// what is on it now is reported before it is lost again
	p = plan(t, look(t, d.Path), prepare.Request{Profile: profile(t, "oxbow")})
	assert.Contains(t, p.Loses, "Rowan itself")
	assert.Equal(t, "OXBOW", p.Label)
	assert.Greater(t, len(p.Folders), 20)
	r, err = p.Do(ctx, drives.Here, typed, nil)
	require.NoError(t, err)
	assert.Empty(t, r.Wrong)
	assert.Greater(t, r.Folders, 24)
}

// behind has what is behind the first 4 MiB of an image be a device.
func behind(t testing.TB, img string, do func(dev string)) {
	loop := strings.TrimSpace(judge.Root(t, "losetup", "-f", "--show", "-o", "4194304", img))
	defer judge.Root(t, "losetup", "-d", loop)
	do(loop)
}

func TestOnlyOnePartition(t *testing.T) {
	d := image(t, 400*size.MiB)
	m := volumetest.OpenFile(t, d.Path)
	table, err := partition.New(partition.MBR, m.Size(), 512, partition.Wanted{Type: "83", Size: 100 * size.MiB},
		partition.Wanted{Type: "07", Size: 152 * size.MiB}, partition.Wanted{Type: "83"})
	require.NoError(t, err)
	require.NoError(t, table.Write(m))
	keep := []byte("this stays")
	for _, i := range []int{0, 2} {
		_, err = m.WriteAt(keep, table.Parts[i].Start+1000)
		require.NoError(t, err)
		_, err = m.WriteAt(keep, table.Parts[i].End()-10)
		require.NoError(t, err)
	}
	before := judge.Run(t, "sfdisk", "-d", d.Path)
	p := plan(t, look(t, d.Path), prepare.Request{Profile: profile(t, "bellows"), Part: 2})
	assert.Equal(t, "PIPIT", p.Label)
	r, err := p.Do(ctx, drives.Here, typed, nil)
	require.NoError(t, err)
	assert.Empty(t, r.Wrong)
	assert.Equal(t, strings.Replace(before, "type=7", "type=c", 1), judge.Run(t, "sfdisk", "-d", d.Path))
	for _, i := range []int{0, 2} {
		for _, at := range []int64{table.Parts[i].Start + 1000, table.Parts[i].End() - 10} {
			b := make([]byte, len(keep))
			_, err := m.ReadAt(b, at)
			require.NoError(t, err)
			assert.Equal(t, keep, b)
		}
	}
	kinds := []string{}
	for _, s := range p.After {
		kinds = append(kinds, s.Kind)
	}
	assert.Equal(t, []string{"table", "kept", "new", "kept"}, kinds)
}

func TestWhatIsChosenHasAReason(t *testing.T) {
	name := "QUAY"
	for what, c := range map[string]struct {
		size    int64
		r       prepare.Request
		fs      string
		scheme  partition.Scheme
		cluster int64
		why     string
	}{
		"a small stick": {58 * size.GiB, prepare.Request{Profile: profile(t, "oxbow")}, "fat32",
			partition.MBR, 32 * size.KiB, "and so does everything else"},
		"a title over 4 GiB": {58 * size.GiB, prepare.Request{Profile: profile(t, "oxbow"),
			Titles: titles("vesper", "", 2, 5*size.GiB)}, "exfat", partition.MBR, 128 * size.KiB,
			"more than FAT32 holds"},
		"a large disk": {4 * size.TiB, prepare.Request{Profile: profile(t, "oxbow")}, "exfat",
			partition.GPT, 128 * size.KiB, "an MBR reaches at most 2"},
		"thousands of small files": {2 * size.GiB, prepare.Request{Filesystem: "exfat", Titles: titles("wren8", "",
			20_000, 5000)}, "exfat", partition.MBR, 8 * size.KiB, "save"},
		"nothing but a filesystem": {2 * size.TiB, prepare.Request{Filesystem: "fat32", Label: &name}, "fat32",
			partition.MBR, 32 * size.KiB, "the usual size"},
		"asked for": {8 * size.GiB, prepare.Request{Filesystem: "exfat", Scheme: partition.GPT,
			Cluster: 4096}, "exfat", partition.GPT, 4096, "you asked for"},
		"no table": {8 * size.GiB, prepare.Request{Filesystem: "fat32", Scheme: partition.None},
			"fat32", partition.None, 4096, "you asked for it"},
		"what FAT32 is too small for": {100 * size.MiB, prepare.Request{Filesystem: "fat32"}, "fat32", partition.MBR,
			512, "the usual size"},
	} {
		p := plan(t, image(t, c.size), c.r)
		assert.Equal(t, c.fs, p.Filesystem, what)
		assert.Equal(t, c.scheme, p.Scheme, what)
		assert.Equal(t, c.cluster, p.Cluster, what)
		all := ""
		for _, r := range p.Reasons {
			all += r.What + ": " + r.Why + "\n"
		}
		assert.Contains(t, all, c.why, what)
		_, err := p.Do(ctx, drives.Here, drives.Consent{Typed: "y"}, nil)
		assert.True(t, drives.IsRefused(err), "nothing without the name")
		r, err := p.Do(ctx, drives.Here, typed, nil)
		require.NoError(t, err, what)
		assert.Empty(t, r.Wrong, what)
	}
}

func TestWhatCannotBePrepared(t *testing.T) {
	d := image(t, 8*size.GiB)
	no, wrong := "", "WRONG"
	for want, r := range map[string]prepare.Request{
		"give the loader":                   {},
		"does not read drives":              {Profile: profile(t, "gantry")},
		"is not supported; fat16":           {Filesystem: "ntfs"},
		"reads only FAT32, not exFAT":       {Profile: profile(t, "rowan"), Filesystem: "exfat"},
		"Rowan needs MBR, not GPT":          {Profile: profile(t, "rowan"), Scheme: partition.GPT},
		"needs the volume label PIPIT":      {Profile: profile(t, "bellows"), Label: &wrong},
		"needs the volume label PIPIT, not": {Profile: profile(t, "bellows"), Label: &no},
		"has no partitions":                 {Filesystem: "fat32", Part: 1},
		"cannot have clusters of":           {Filesystem: "fat32", Cluster: 3000},
		"comes in editions":                 {Profile: profile(t, "bellows"), Kit: t.TempDir()},
		"has no edition": {Profile: profile(t, "bellows"), Kit: t.TempDir(),
			Editions: []string{"south"}},
		"reading the kit":                {Profile: profile(t, "rowan"), Kit: filepath.Join(t.TempDir(), "none")},
		"there is no loader for the kit": {Filesystem: "fat32", Kit: t.TempDir()},
		"is too large for FAT16":         {Filesystem: "fat16", Cluster: 512},
	} {
		_, err := prepare.Make(ctx, drives.Here, d, set(t), r)
		assert.ErrorContains(t, err, want)
	}
	kit := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(kit, "bellows-west (1).bin"), []byte("w"), 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(kit, "Skins/dark"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(kit, "Skins/dark/s.png"), []byte("s"), 0o600))
	p := plan(t, d, prepare.Request{Profile: profile(t, "bellows"), Kit: kit, Editions: []string{"west"}})
	var to []string
	for _, f := range p.Kit {
		to = append(to, f.To)
	}
	assert.Equal(t, []string{"bellows/start.bin", "Skins/dark/s.png"}, to)
	p = plan(t, d, prepare.Request{Profile: profile(t, "bellows"), Kit: kit, Editions: []string{"east"}})
	assert.Contains(t, strings.Join(p.Notes, " "), "lacks bellows/start.bin")
}

func TestAGlance(t *testing.T) {
	d := image(t, size.GiB)
	_, err := plan(t, d, prepare.Request{Profile: profile(t, "rowan")}).Do(ctx, drives.Here, typed, nil)
	require.NoError(t, err)
	d = look(t, d.Path)
	m := volumetest.OpenFile(t, d.Path)
	v, err := drives.OpenVolume(m.Part(d.Volumes[0].Start, d.Volumes[0].Size))
	require.NoError(t, err)
	for _, n := range []string{"FULL/VSP-20417 - Copper Tide.iso", "FULL/notes.txt", "LONG/VSP-20431/parts.toml",
		"LONG/VSP-20431/001.rwn", "skua/SKU-0001/Deep Water.pkd"} {
		require.NoError(t, v.MakeFolder(ctx, path.Dir(n)))
		require.NoError(t, volumetest.Put(v, n, []byte("x")))
	}
	require.NoError(t, v.Close())
	d = look(t, d.Path)
	c := contents.Volume(ctx, drives.Here, d, &d.Volumes[0], set(t))
	require.Len(t, c.Loaders, 2)
	assert.Equal(t, "2 titles for Rowan, 1 title for Mica, 5 bytes", c.Words())
}

// TestAKitThatLacksItsSettings gets the file in which the loader's settings stand: without it nothing would be listed.
func TestAKitThatLacksItsSettings(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "rowan-3.run"), []byte("the loader"), 0o600))
	packed := filepath.Join(t.TempDir(), "rowan-3.zip")
	judge.Run(t, "7z", "a", packed, filepath.Join(folder, "rowan-3.run"))
	for _, kit := range []string{folder, packed, filepath.Dir(packed)} { // as it was unpacked, or as it was downloaded
		d := image(t, size.GiB)
		p := plan(t, d, prepare.Request{Profile: profile(t, "rowan"), Kit: kit})
		assert.Contains(t, strings.Join(p.Notes, "\n"),
			"lacks ROWAN/rowan.cfg: it is created with the required settings, look=stick and faces=yes.")
		r, err := p.Do(ctx, drives.Here, typed, nil)
		require.NoError(t, err)
		assert.Empty(t, r.Wrong)
		out := t.TempDir()
		behind(t, d.Path, func(part string) {
			judge.Root(t, "mcopy", "-i", part, "::/ROWAN/rowan.cfg", "::/ROWAN/rowan.run", out)
		})
		b, err := os.ReadFile(filepath.Join(out, "rowan.cfg"))
		require.NoError(t, err)
		assert.Equal(t, "look=stick\nfaces=yes\n", string(b))
		b, err = os.ReadFile(filepath.Join(out, "rowan.run"))
		require.NoError(t, err)
		assert.Equal(t, "the loader", string(b))
	}
}

// TestWhatWillNotFitIsKnownBefore: of what is wanted, in the order in which it goes there, on a stick and on the
// console's own disk.
func TestWhatWillNotFitIsKnownBefore(t *testing.T) {
	all := []title.Title{coretest.Vesper(1, "Copper Tide", "full", 3*size.GiB), coretest.Vesper(2, "Paper Falcons",
		"full",
		3*size.GiB), coretest.Vesper(3, "Tin Harbour", "full", 3*size.GiB)}
	for _, filesystem := range []string{"fat32", "slab"} {
		d := image(t, 8*size.GiB)
		r := prepare.Request{Profile: profile(t, "rowan"), Filesystem: filesystem, Titles: all}
		p := plan(t, d, r)
		require.Len(t, p.Left, 1, filesystem)
		assert.Contains(t, p.Left[0].Why.Say, "free")
		r.Wanted = bench.Target{Name: "Hall disk", Loader: "rowan", Titles: bench.Keys{all[0].Key, all[2].Key}}
		assert.Empty(t, plan(t, d, r).Left, filesystem)
		r.Titles, r.Wanted = []title.Title{coretest.Vesper(4, "Long One", "full", 20*size.GiB)}, bench.Target{}
		require.Len(t, plan(t, d, r).Left, 1, filesystem)
	}
}
