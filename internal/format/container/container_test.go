package container_test

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/demo"
	"polytome/internal/format/container"
	"polytome/internal/testkit/judge"
)

// tree makes a folder with files of many lengths, names and depths.
func tree(t testing.TB) string {
	dir := filepath.Join(t.TempDir(), "tree")
	put := func(name string, n int) {
		file := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		data := make([]byte, n)
		for i := range data {
			data[i] = byte(i * i >> 3)
		}
		require.NoError(t, os.WriteFile(file, data, 0o644))
		when := time.Date(2024, 5, 6, 7, 8, 10, 0, time.UTC)
		require.NoError(t, os.Chtimes(file, when, when))
	}
	put("VESPER.INF", 90)
	put("A rather long name, with commas and spaces.data", 5000)
	put("sub/folder/of/some/depth/file.bin", 70_001)
	put("Ähren/Größe ж.txt", 10)
	put("empty", 0)
	for i := range 150 {
		put(fmt.Sprintf("many/file number %03d.dat", i), i*17)
	}
	return dir
}

// listing is a tree's files with their lengths, in order.
func listing(t testing.TB, fsys fs.FS) (out []string) {
	require.NoError(t, fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		out = append(out, fmt.Sprintf("%s %d", name, info.Size()))
		return err
	}))
	slices.Sort(out)
	return out
}

// sevenListing is what 7z lists.
func sevenListing(t testing.TB, file string, flags ...string) (out []string) {
	text := judge.Run(t, "7z", append(append([]string{"l", "-slt"}, flags...), file)...)
	for _, block := range strings.Split(text, "\n\n")[1:] {
		f := map[string]string{}
		for _, m := range regexp.MustCompile(`(?m)^([A-Za-z ]+) = (.*)$`).FindAllStringSubmatch(block, -1) {
			f[m[1]] = strings.TrimSpace(m[2])
		}
		if f["Path"] != "" && f["Folder"] != "+" && !strings.HasPrefix(f["Attributes"], "D") && f["Size"] != "" &&
			f["Physical Size"] == "" {
			out = append(out, f["Path"]+" "+f["Size"])
		}
	}
	slices.Sort(out)
	return out
}

func TestListingsAgreeWithOthersOverWholeTrees(t *testing.T) {
	dir := tree(t)
	made := t.TempDir()
	want := listing(t, os.DirFS(dir))
	for name, c := range map[string]struct {
		kind  string
		make  []string
		udf   bool
		seven []string // flags for the judge
	}{
		"rr.iso": {"ISO 9660", []string{"genisoimage", "-quiet", "-R", "-V", "LABEL", "-o"}, false, nil},
		"joliet.iso": {"ISO 9660", []string{"genisoimage", "-quiet", "-J", "-joliet-long", "-V", "LABEL", "-o"}, false,
			nil},
		"bridge.iso": {"UDF", []string{"genisoimage", "-quiet", "-udf", "-V", "LABEL", "-o"}, true, []string{"-tudf"}},
		"xorriso.iso": {"ISO 9660", []string{"xorriso", "-as", "mkisofs", "-quiet", "-R", "-J", "-V", "LABEL", "-o"},
			false, nil},
	} {
		t.Run(name, func(t *testing.T) {
			image := filepath.Join(made, name)
			judge.Run(t, c.make[0], append(c.make[1:], image, dir)...)
			got, err := container.Open(image, container.Options{UDF: c.udf})
			require.NoError(t, err)
			defer got.Close()
			assert.Equal(t, []any{c.kind, "LABEL", nil}, []any{got.Kind, got.Label, got.Damage})
			assert.Equal(t, want, listing(t, got))
			if name != "xorriso.iso" { // of whose two trees the judge prefers the other
				assert.Equal(t, sevenListing(t, image, c.seven...), listing(t, got))
			}
			if c.kind == "ISO 9660" {
				flag := map[string]string{"rr.iso": "-R", "joliet.iso": "-J", "xorriso.iso": "-R"}[name]
				var theirs []string
				for l := range strings.Lines(judge.Run(t, "isoinfo", flag, "-f", "-i", image)) {
					if p := strings.TrimPrefix(strings.TrimSpace(l), "/"); p != "" {
						theirs = append(theirs, p)
					}
				}
				var ours []string
				require.NoError(t, fs.WalkDir(got, ".", func(name string, _ fs.DirEntry, err error) error {
					if name != "." {
						ours = append(ours, name)
					}
					return err
				}))
				if name == "joliet.iso" { // the judge shows Latin letters in another encoding
					foreign := func(s string) bool { return strings.Contains(s, "hren") }
					theirs, ours = slices.DeleteFunc(theirs, foreign), slices.DeleteFunc(ours, foreign)
				}
				slices.Sort(theirs)
				slices.Sort(ours)
				assert.Equal(t, theirs, ours)
			}
			extracted := filepath.Join(t.TempDir(), "out")
			files, _, err := container.Extract(context.Background(), got, ".", extracted, nil,
				func(name string, err error) { t.Errorf("%s: %v", name, err) })
			require.NoError(t, err)
			assert.Equal(t, len(want), files)
			judge.Run(t, "diff", "-r", dir, extracted)
			info, err := os.Stat(filepath.Join(extracted, "VESPER.INF"))
			require.NoError(t, err)
			assert.WithinDuration(t, time.Date(2024, 5, 6, 7, 8, 10, 0, time.UTC), info.ModTime(), 2*time.Second,
				"dates are kept")
		})
	}
	for _, kind := range []string{"zip", "7z"} {
		t.Run(kind, func(t *testing.T) {
			file := filepath.Join(made, "a."+kind)
			judge.Run(t, "bash", "-c", `cd "$0" && 7z a -bd "$1" .`, dir, file)
			got, err := container.Open(file, container.Options{})
			require.NoError(t, err)
			defer got.Close()
			assert.Equal(t, want, listing(t, got))
			assert.Equal(t, sevenListing(t, file), listing(t, got))
			extracted := filepath.Join(t.TempDir(), "out")
			_, _, err = container.Extract(context.Background(), got, "sub", extracted, nil,
				func(name string, err error) { t.Errorf("%s: %v", name, err) })
			require.NoError(t, err)
			judge.Run(t, "diff", "-r", filepath.Join(dir, "sub"), filepath.Join(extracted, "sub"))
		})
	}
}

func TestContainersInContainersAndCueSheets(t *testing.T) {
	dir := t.TempDir()
	image, err := demo.Volume("LAP_04412", "DATA.DAT", []byte("the tide comes in"))
	require.NoError(t, err)
	put := func(name string, data []byte) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o644))
	}
	put("tides.bin", demo.RawTrack(image))
	put("tides.cue", []byte("FILE \"tides.bin\" BINARY\nTRACK 01 MODE1/2352\nINDEX 01 00:00:00\n"))
	put("plain.iso", image)
	judge.Run(t, "bash", "-c", `cd "$0" && 7z a -bd all.7z tides.bin tides.cue plain.iso && zip -q outer.zip plain.iso`,
		dir)
	read := func(file, in string) string {
		c, err := container.Open(filepath.Join(dir, file), container.Options{In: in})
		require.NoError(t, err, "%s %s", file, in)
		defer c.Close()
		b, err := fs.ReadFile(c, "DATA.DAT")
		require.NoError(t, err)
		return string(b)
	}
	for file, in := range map[string]string{"tides.cue": "", "tides.bin": "", "plain.iso": "",
		"outer.zip": "plain.iso"} {
		assert.Equal(t, "the tide comes in", read(file, in))
	}
	assert.Equal(t, "the tide comes in", read("all.7z", "tides.cue"))
	assert.Equal(t, "the tide comes in", read("all.7z", "plain.iso"))
	for file, want := range map[string]string{"none.txt": "not a disc image, cue sheet or archive",
		"gone.iso": "no such file", "lost.cue": "no such file", "empty.iso": "not a disc image, cue sheet or archive"} {
		put("none.txt", []byte("text"))
		put("empty.iso", nil)
		put("lost.cue", []byte("FILE \"lost.bin\" BINARY\nTRACK 01 MODE1/2352\nINDEX 01 00:00:00\n"))
		_, err := container.Open(filepath.Join(dir, file), container.Options{})
		assert.ErrorContains(t, err, want, file)
	}
	_, err = container.Open(filepath.Join(dir, "plain.iso"), container.Options{UDF: true})
	assert.ErrorContains(t, err, "no UDF volume")
}

// TestNothingIsWrittenElsewhere unpacks an archive whose names climb, over links that lead out.
func TestNothingIsWrittenElsewhere(t *testing.T) {
	dir := t.TempDir()
	judge.Run(t, "python3", "-c", `
import zipfile, sys
z = zipfile.ZipFile(sys.argv[1], "w")
for n in ["../up.txt", "/abs.txt", "link/in.txt", "fine/x.txt", "there.txt", "C:\\win.txt", "a/../../b.txt"]:
    z.writestr(n, "new")
z.close()`, filepath.Join(dir, "evil.zip"))
	out, outside := filepath.Join(dir, "out"), filepath.Join(dir, "outside")
	require.NoError(t, os.MkdirAll(out, 0o755))
	require.NoError(t, os.MkdirAll(outside, 0o755))
	require.NoError(t, os.Symlink(outside, filepath.Join(out, "link")))
	require.NoError(t, os.WriteFile(filepath.Join(out, "there.txt"), []byte("mine"), 0o644))
	c, err := container.Open(filepath.Join(dir, "evil.zip"), container.Options{})
	require.NoError(t, err)
	defer c.Close()
	assert.Len(t, c.Unsafe, 4)
	var failed []string
	_, _, err = container.Extract(context.Background(), c, ".", out, nil,
		func(name string, err error) { failed = append(failed, name+": "+err.Error()) })
	if err == nil {
		assert.NotEmpty(t, failed)
	}
	entries, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, entries, "a link is not followed out")
	all, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, all, 3, "nothing beside")
	b, err := os.ReadFile(filepath.Join(out, "there.txt"))
	require.NoError(t, err)
	assert.Equal(t, "mine", string(b), "nothing is overwritten")
}

func TestAFullDiskEndsUnpacking(t *testing.T) {
	small := judge.Mount(t, "size=64k")
	src := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(src, "big"), bytes.Repeat([]byte("x"), 1<<20), 0o644))
	_, _, err := container.Extract(context.Background(), os.DirFS(src), ".", small, nil,
		func(name string, err error) { t.Errorf("%s: %v", name, err) })
	require.ErrorContains(t, err, "no space left on device")
	_, err = os.Stat(filepath.Join(small, "big"))
	assert.ErrorIs(t, err, fs.ErrNotExist, "no half file is left")
}

func FuzzOpenImage(f *testing.F) {
	image, err := demo.Volume("LAP_04412", "DATA.DAT", []byte("the tide comes in"))
	require.NoError(f, err)
	f.Add(image[16*2048:])
	f.Add(demo.RawTrack(image)[16*2352:])
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, front := range []int{16 * 2048, 16 * 2352} {
			data := append(make([]byte, front), b...)
			if front != 16*2048 && len(b) > 12 {
				copy(data, b[:12])
			}
			im, err := container.OpenImage(bytes.NewReader(data), int64(len(data)))
			if err != nil {
				continue
			}
			for _, v := range im.Volumes {
				n := 0
				_ = fs.WalkDir(v, ".", func(name string, d fs.DirEntry, err error) error {
					if n++; n > 2000 {
						return fs.SkipAll
					}
					if err == nil && !d.IsDir() {
						_, _ = v.Where(name)
					}
					return nil
				})
			}
		}
	})
}
