package convert_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/convert"
	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/demo"
	"polytome/internal/format/container"
	"polytome/internal/format/iso9660"
	"polytome/internal/format/packed"
	"polytome/internal/parallel"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

func template(t testing.TB, text string) loader.Template {
	tpl, err := loader.ParseTemplate(text)
	require.NoError(t, err)
	return tpl
}

// buffer is a sink in memory.
type buffer struct{ bytes.Buffer }

func (b *buffer) Skip(n int64) error { return convert.Stream{Writer: &b.Buffer}.Skip(n) }

// TestAnyFileComesBackOfAnyParts cuts files with holes by any length, and joins them again.
func TestAnyFileComesBackOfAnyParts(t *testing.T) {
	dir := t.TempDir()
	to, err := folder.Open(dir, folder.Options{Unsynced: true})
	require.NoError(t, err)
	defer to.Close()
	round := 0
	rapid.Check(t, func(rt *rapid.T) {
		round++
		n := rapid.Int64Range(0, 6<<20).Draw(rt, "size")
		file := filepath.Join(dir, fmt.Sprintf("game%d.iso", round))
		f, err := os.Create(file)
		require.NoError(t, err)
		for range rapid.IntRange(0, 4).Draw(rt, "runs") {
			if n > 0 {
				at := rapid.Int64Range(0, n-1).Draw(rt, "at")
				_, err := f.WriteAt(bytes.Repeat([]byte("data"), 5000)[:min(20_000, n-at)], at)
				require.NoError(t, err)
			}
		}
		require.NoError(t, f.Truncate(n))
		require.NoError(t, f.Close())
		m, err := convert.Split(context.Background(), file, to,
			convert.SplitOptions{Size: rapid.Int64Range(max(1, n/20), 3<<20).Draw(rt, "part"),
				Name: template(t, fmt.Sprintf("%d/{base}.{index}", round)), Manifest: fmt.Sprintf("%d.toml", round)},
			nil)
		require.NoError(t, err)
		require.NotEmpty(t, m.Parts)
		again, err := convert.ReadManifest(filepath.Join(dir, fmt.Sprintf("%d.toml", round)))
		require.NoError(t, err)
		require.Equal(t, m.Parts, again.Parts)
		var out buffer
		require.NoError(t, convert.Join(context.Background(), again, &out, nil))
		want, err := os.ReadFile(file)
		require.NoError(t, err)
		require.True(t, bytes.Equal(want, out.Bytes()))
	})
}

// TestAFullDiskInTheMiddle has every conversion run into a full disk: nothing is left under a final name, and the
// source is as it was.
func TestAFullDiskInTheMiddle(t *testing.T) {
	dir := t.TempDir()
	game := bytes.Repeat([]byte("no space for this much"), 200_000)
	coretest.Write(t, dir, "disc/game.skd", game)
	file := filepath.Join(dir, "disc", "game.skd")
	small := judge.Mount(t, "size=1m")
	ctx := context.Background()
	set := coretest.Set(t)
	for name, do := range map[string]func(to *folder.Target) error{
		"split": func(to *folder.Target) error {
			_, err := convert.Split(ctx, file, to, convert.SplitOptions{Size: 3 << 20,
				Name: template(t, "{base}.{index}"), Manifest: "m.toml"}, nil)
			return err
		},
		"pack": func(to *folder.Target) error {
			p, err := convert.ProspectOf(file, set, convert.PackOptions{})
			require.NoError(t, err)
			c := convert.NewCutter(ctx, to, 2<<20, func(n int) string { return packed.PartName("x.pkd", n) })
			_, err = convert.Pack(ctx, file, p, c, convert.PackOptions{}, nil)
			return c.End(err)
		},
		"build": func(to *folder.Target) error {
			w, err := to.Create(ctx, "x.iso", 0)
			require.NoError(t, err)
			err = convert.Build(ctx, filepath.Join(dir, "disc"), iso9660.Options{UDF: true}, func(*iso9660.Image) {}, w,
				nil)
			var se *shape.SourceError
			assert.False(t, errors.As(err, &se), "it is not the source's fault: %v", err)
			return errors.Join(err, w.Abort())
		},
	} {
		t.Run(name, func(t *testing.T) {
			to, err := folder.Open(small, folder.Options{})
			require.NoError(t, err)
			defer to.Close()
			require.ErrorContains(t, do(to), "full (no space")
			left, err := os.ReadDir(small)
			require.NoError(t, err)
			assert.Empty(t, left)
			now, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(game, now))
		})
	}
}

// TestThePromisedSizeHoldsForEveryBlock packs a disc with used sectors far apart: large blocks around them keep more of
// it.
func TestThePromisedSizeHoldsForEveryBlock(t *testing.T) {
	dir := t.TempDir()
	disc := append(demo.SkuaDisc("SKUADISC", "SKU-0009", 1, "Far Apart"), bytes.Repeat([]byte("spread "), 1_000_000)...)
	for i := 0; i < 3000; i += 300 {
		disc[0x8000+i/8] |= 1 << (i % 8)
	}
	coretest.Write(t, dir, "far.skd", disc)
	file := filepath.Join(dir, "far.skd")
	for _, block := range []int64{4 << 10, 0, 256 << 10, 1 << 20} {
		o := convert.PackOptions{Block: block}
		p, err := convert.ProspectOf(file, coretest.Set(t), o)
		require.NoError(t, err)
		require.Positive(t, p.Used.Unit)
		var b bytes.Buffer
		_, err = convert.Pack(context.Background(), file, p, convert.Stream{Writer: &b}, o, nil)
		require.NoError(t, err)
		assert.LessOrEqual(t, int64(b.Len()), p.AtMost, "blocks of %d", block)
		assert.Less(t, p.AtMost-int64(b.Len()), int64(1<<20),
			"blocks of %d: no more is promised than one block of slack", block)
	}
}

func TestStoppingLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	coretest.Write(t, dir, "game.skd", bytes.Repeat([]byte("stopped"), 2_000_000))
	file := filepath.Join(dir, "game.skd")
	out := filepath.Join(dir, "out")
	require.NoError(t, os.MkdirAll(out, 0o755))
	to, err := folder.Open(out, folder.Options{})
	require.NoError(t, err)
	defer to.Close()
	ctx, cancel := context.WithCancel(context.Background())
	_, err = convert.Split(ctx, file, to, convert.SplitOptions{Size: 10 << 20, Name: template(t, "{index}")},
		func(done, _ int64) {
			if done > 4<<20 {
				cancel()
			}
		})
	assert.ErrorIs(t, err, context.Canceled)
	ctx, cancel = context.WithCancel(context.Background())
	c := convert.NewCutter(ctx, to, 0, func(int) string { return "x.pkd" })
	_, err = convert.Pack(ctx, file, convert.Prospect{}, c, convert.PackOptions{Compress: true},
		func(int64, int64) { cancel() })
	require.Error(t, err)
	require.Error(t, c.End(err))
	left, err := os.ReadDir(out)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// extension is content that says more than it has, or fails.
type ext struct {
	io.ReaderAt
	size int64
}

func (e ext) Size() int64                       { return e.size }
func (e ext) Close() error                      { return nil }
func (e ext) Data(off int64) (start, end int64) { return min(off, e.size), e.size }

type at struct{ err error }

func (a at) ReadAt(b []byte, off int64) (int, error) {
	if off < 3<<20 {
		return len(b), nil
	}
	return 0, a.err
}

func TestSourcesThatEndEarlyOrFail(t *testing.T) {
	n, err := convert.Copy(context.Background(), &buffer{}, ext{at{io.EOF}, 9 << 20}, nil, nil)
	assert.EqualValues(t, 3<<20, n)
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	assert.ErrorContains(t, err, "it ends after 3145728 bytes instead of 9437184")
	broken := errors.New("the disk is gone")
	_, err = convert.Copy(context.Background(), &buffer{}, ext{at{broken}, 9 << 20}, nil, nil)
	assert.ErrorIs(t, err, broken)
	full := errors.New("full")
	_, err = convert.Copy(context.Background(), convert.Stream{Writer: failing{full}}, ext{at{nil}, 2 << 20}, nil, nil)
	assert.ErrorIs(t, err, full)
}

type failing struct{ err error }

func (f failing) Write([]byte) (int, error) { return 0, f.err }

// TestChecksFindWhatIsWrong checks files of every kind, whole and damaged.
func TestChecksFindWhatIsWrong(t *testing.T) {
	dir := t.TempDir()
	good := coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full"))
	put := func(name string, data []byte) string {
		coretest.Write(t, dir, name, data)
		return filepath.Join(dir, name)
	}
	image := put("game.iso", good)
	archive := filepath.Join(dir, "game.7z")
	judge.Run(t, "7z", "a", "-bd", archive, image)
	zipped, err := os.ReadFile(archive)
	require.NoError(t, err)
	bad := bytes.Clone(zipped)
	bad[len(bad)/3] ^= 0xFF
	for name, c := range map[string]struct{ file, want string }{
		"an image":          {image, ""},
		"an archive":        {archive, ""},
		"a damaged archive": {put("bad.7z", bad), "game.iso"},
		"an image cut":      {put("cut.iso", good[:len(good)-6000]), "cut short"},
		"a list of nothing": {put("list.toml", []byte("[[part]]\nfile = 'gone'\nlength = 4\n")), "is missing"},
		"a sheet of nothing": {put("gone.cue",
			[]byte("FILE \"gone.bin\" BINARY\nTRACK 01 MODE1/2352\nINDEX 01 00:00:00\n")), "gone.bin"},
	} {
		got, err := convert.Check(context.Background(), c.file, container.Options{}, func(int64, int64) {})
		if err != nil {
			assert.NotEmpty(t, c.want, "%s: %v", name, err)
			continue
		}
		if c.want == "" {
			assert.Empty(t, got.Problems, name)
			assert.Positive(t, got.Bytes, name)
		} else {
			assert.Contains(t, strings.Join(got.Problems, "\n"), c.want, name)
		}
	}
	_, err = convert.Check(context.Background(), put("text.txt", []byte("nothing")), container.Options{}, nil)
	assert.ErrorContains(t, err, "not a disc image, cue sheet or archive")
	_, err = convert.Check(context.Background(), filepath.Join(dir, "never"), container.Options{}, nil)
	assert.ErrorContains(t, err, "reading the source")
}

// tripping is content of 9 MiB whose reader has a mistake, which shows at a byte.
type tripping struct{ at int64 }

func (tripping) Size() int64                   { return 9 << 20 }
func (tripping) Data(off int64) (int64, int64) { return off, 9 << 20 }
func (tripping) Close() error                  { return nil }
func (c tripping) ReadAt(b []byte, off int64) (int, error) {
	if off+int64(len(b)) > c.at {
		panic("a mistake in a reader")
	}
	return len(b), nil
}

func TestAMistakeInAReaderIsAnError(t *testing.T) {
	for _, at := range []int64{0, 5 << 20, 9<<20 - 1} {
		var to buffer
		n, err := convert.Copy(context.Background(), &to, tripping{at}, nil, nil)
		var mistake *parallel.MistakeError
		require.ErrorAs(t, err, &mistake)
		assert.EqualValues(t, to.Len(), n, "what came before is there")
		assert.LessOrEqual(t, n, at)
	}
}

func FuzzReadManifest(f *testing.F) {
	f.Add("title = 'x'\n[[part]]\nfile = '001.rwn'\nlength = 4\ncrc32 = '0abc1234'\n")
	f.Fuzz(func(t *testing.T, text string) {
		file := filepath.Join(t.TempDir(), "m.toml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		m, err := convert.ReadManifest(file)
		if err != nil {
			return
		}
		for _, p := range m.Parts {
			if !filepath.IsLocal(filepath.FromSlash(p.File)) {
				t.Fatalf("%q leads out of the folder", p.File)
			}
		}
		if p, err := m.Open(); err == nil {
			_ = p.Close()
		}
	})
}
