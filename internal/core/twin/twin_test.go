package twin_test

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/twin"
	"polytome/internal/target"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/judge"
)

// when is the date of files that are alike.
var when = time.Date(2026, 3, 4, 5, 6, 8, 0, time.UTC)

// fill writes files into a folder: contents by path, with a date each.
func fill(t testing.TB, dir string, files map[string]string, dates map[string]time.Time) {
	for name, text := range files {
		file := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		d := when
		if x, ok := dates[name]; ok {
			d = x
		}
		require.NoError(t, os.Chtimes(file, d, d))
	}
}

// on lists what is in a folder, with folders as names that end in a slash.
func on(t testing.TB, dir string) map[string]string {
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(dir, p)
		rel = filepath.ToSlash(rel)
		if err != nil || rel == "." {
			return err
		}
		if e.IsDir() {
			out[rel+"/"] = ""
			return nil
		}
		b, err := os.ReadFile(p)
		out[rel] = string(b)
		return err
	}))
	return out
}

func open(t testing.TB, dir string, o folder.Options) target.Target {
	f, err := folder.Open(dir, o)
	require.NoError(t, err)
	return f
}

// become makes one folder like another one.
func become(t testing.TB, from, to string, as folder.Options, o twin.Options) (*twin.Twin, run.Report) {
	a, b := open(t, from, folder.Options{}), open(t, to, as)
	defer a.Close()
	defer b.Close()
	m, err := twin.Make(context.Background(), a, b, o)
	require.NoError(t, err)
	r := run.Start(context.Background(), run.Job{Plan: m.Plan, From: a,
		Open: func(context.Context) (target.Target, error) { return folder.Open(to, as) }}).Wait()
	return m, r
}

// TestAnyFolderBecomesLikeAnyOther: all that the other one has is there with its dates, what players have reached stays
// as it is, what is only here stays or goes as is wished, and then there is nothing left to do.
func TestAnyFolderBecomesLikeAnyOther(t *testing.T) {
	names := []string{
		"a.iso",
		"b.iso",
		"FULL/a.iso",
		"FULL/deep/c.bin",
		"SAVE/one.sav",
		"SAVE/two.sav",
		"KIT/x.cfg",
		"top",
	}
	under := t.TempDir()
	judge.Times(t, 60, func(rt *rapid.T) {
		dirs := [2]string{}
		files, dates := [2]map[string]string{}, [2]map[string]time.Time{}
		for k := range 2 {
			dir, err := os.MkdirTemp(under, "")
			require.NoError(t, err)
			dirs[k], files[k], dates[k] = dir, map[string]string{}, map[string]time.Time{}
			for _, n := range names {
				if rapid.IntRange(0, 3).Draw(rt, "has "+n) == 0 {
					continue
				}
				files[k][n] = strings.Repeat(rapid.SampledFrom([]string{"x", "y", "zz"}).Draw(rt, "text"), 3)
				if rapid.Bool().Draw(rt, "other date") {
					dates[k][n] = when.Add(time.Duration(k+1) * time.Hour)
				}
			}
			fill(t, dir, files[k], dates[k])
		}
		o := twin.Options{Fix: rapid.Bool().Draw(rt, "fix"), DeleteOthers: rapid.Bool().Draw(rt, "delete-others")}
		if rapid.Bool().Draw(rt, "saves are known") {
			o.Stay = func(target.Facts, []target.Entry) []string { return []string{"SAVE/one.sav"} }
		}
		kept, err := os.MkdirTemp(under, "")
		require.NoError(t, err)
		if rapid.Bool().Draw(rt, "backed up") {
			o.BackupTo = kept
		}
		_, r := become(t, dirs[0], dirs[1], folder.Options{}, o)
		if !r.All() {
			rt.Fatalf("%v", r.Failed)
		}
		want := map[string]string{}
		if !o.DeleteOthers {
			maps.Copy(want, files[1])
		}
		for n, text := range files[0] {
			was, is := files[1][n]
			at := func(k int) time.Time {
				if d, ok := dates[k][n]; ok {
					return d
				}
				return when
			}
			if looksAlike := is && len(was) == len(text) && at(0).Equal(at(1)); looksAlike && !o.Fix {
				want[n] = was
				continue
			}
			want[n] = text
		}
		if was, is := files[1]["SAVE/one.sav"]; is && o.Stay != nil {
			want["SAVE/one.sav"] = was
		}
		got := on(t, dirs[1])
		for n, text := range want {
			if got[n] != text {
				rt.Fatalf("%s is %q and should be %q", n, got[n], text)
			}
		}
		for n := range got {
			if _, ok := want[n]; !ok && !strings.HasSuffix(n, "/") {
				rt.Fatalf("%s should have gone", n)
			}
			if strings.HasSuffix(n, "/") && !slices.ContainsFunc(slices.Collect(maps.Keys(want)),
				func(f string) bool { return strings.HasPrefix(f, n) }) && o.DeleteOthers {
				rt.Fatalf("the folder %s is empty", n)
			}
		}
		for n, was := range files[1] { // nothing is lost where a backup is wished
			if o.BackupTo != "" && got[n] != was {
				b, err := os.ReadFile(filepath.Join(kept, "files", filepath.FromSlash(n)))
				if err != nil || string(b) != was {
					rt.Fatalf("%s was not kept: %v", n, err)
				}
			}
		}
		again, _ := become(t, dirs[0], dirs[1], folder.Options{}, o)
		if !again.Plan.Empty() {
			rt.Fatalf("there is more to do: %s", again.Plan.Say())
		}
	})
}

// TestWhatCannotBeOnTheCopyIsLeftOut, with the reason, and all else goes.
func TestWhatCannotBeOnTheCopyIsLeftOut(t *testing.T) {
	judge.NotWindows(t, "no folder there has such names")
	from, to := t.TempDir(), t.TempDir()
	fill(
		t,
		from,
		map[string]string{"A.iso": "x", "a.iso": "y", "what?.iso": "z", "good/b.iso": "b", "dir": "file"},
		nil,
	)
	require.NoError(t, os.Truncate(filepath.Join(from, "good/b.iso"), 3))
	big := filepath.Join(from, "big.iso")
	require.NoError(t, os.WriteFile(big, nil, 0o644))
	require.NoError(t, os.Truncate(big, 5<<30))
	fill(t, to, map[string]string{"dir/in": "x"}, nil)
	m, r := become(t, from, to, folder.Options{Filesystem: "fat32", Capacity: 8 << 30}, twin.Options{})
	assert.True(t, r.All(), r.Failed)
	said := fmt.Sprint(m.Left)
	assert.Contains(t, said, "{a.iso its name differs from that of another file in capital letters alone")
	assert.Contains(t, said, `{what?.iso FAT32 does not allow the character '?' in a name}`)
	assert.Contains(t, said, "{dir dir is a folder on one of them, and a file on the other}")
	assert.Contains(t, said, "{big.iso it has 5.00 GiB, and a file on FAT32 has 4.00 GiB at most}")
	assert.Len(t, m.Left, 4)
	got := on(t, to)
	assert.Equal(t, "x", got["A.iso"])
	assert.Contains(t, got, "good/b.iso")
}

// TestWhatDoesNotFitIsSaidBeforeAnythingIsWritten.
func TestWhatDoesNotFitIsSaidBeforeAnythingIsWritten(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	fill(t, from, map[string]string{"a.iso": strings.Repeat("x", 40<<20)}, nil)
	a, b := open(t, from, folder.Options{}), open(t, to, folder.Options{Filesystem: "fat32", Capacity: 36 << 20})
	defer a.Close()
	defer b.Close()
	_, err := twin.Make(context.Background(), a, b, twin.Options{})
	require.ErrorIs(t, err, twin.ErrNoSpace)
	assert.ErrorContains(t, err, "40.00 MiB more are needed, and ")
}

// bad is a target of which one file cannot be read.
type bad struct {
	target.Target
	path string
}

func (b *bad) Open(ctx context.Context, path string) (target.Content, error) {
	c, err := b.Target.Open(ctx, path)
	if path == b.path {
		c = unreadable{c}
	}
	return c, err
}

type unreadable struct{ target.Content }

func (unreadable) ReadAt([]byte, int64) (int, error) {
	return 0, &fs.PathError{Op: "read", Path: "x", Err: fs.ErrInvalid}
}

// TestATargetIsFixedFromItsTwin: files that differ or cannot be read are written again; a file that cannot be read on
// the twin fixes nothing.
func TestATargetIsFixedFromItsTwin(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	all := map[string]string{"a.iso": "aaaa", "b.iso": "bbbb", "c.iso": "cccc", "d.iso": "dddd"}
	fill(t, from, all, nil)
	fill(t, to, all, nil)
	fill(t, to, map[string]string{"b.iso": "bbxb"}, nil) // of the same length and date
	a, b := open(t, from, folder.Options{}), open(t, to, folder.Options{})
	defer a.Close()
	defer b.Close()
	m, err := twin.Make(context.Background(), &bad{a, "d.iso"}, &bad{b, "c.iso"}, twin.Options{Fix: true})
	require.NoError(t, err)
	var puts []string
	for _, s := range m.Plan.Steps {
		require.Equal(t, plan.Replace, s.Kind)
		puts = append(puts, s.Path)
	}
	assert.Equal(t, []string{"b.iso", "c.iso"}, puts)
	require.Len(t, m.Left, 1)
	assert.Equal(t, "d.iso", m.Left[0].Path)
	assert.Contains(t, m.Left[0].Why, "it cannot be read")
	assert.Equal(t, 2, m.Plan.Loses(), "that is asked for")

	r := run.Start(context.Background(), run.Job{Plan: m.Plan, From: &bad{a, "c.iso"},
		Open: func(context.Context) (target.Target, error) { return folder.Open(to, folder.Options{}) }}).Wait()
	assert.Len(t, r.Failed, 1, "the other one goes all the same")
	got := on(t, to)
	assert.Equal(t, "bbbb", got["b.iso"])
	assert.Equal(t, "cccc", got["c.iso"])
	assert.Equal(t, "dddd", got["d.iso"])
}

// TestFoldersGoWithWhatIsInThem, the lower ones first; what systems and interrupted runs have left is of no concern.
func TestFoldersGoWithWhatIsInThem(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	half := target.TemporaryName("a.iso")
	fill(t, from, map[string]string{"a.iso": "a", half: "hal", "System Volume Information/x": "x"}, nil)
	fill(t, to, map[string]string{"a.iso": "a", "old/deep/er/b.iso": "b", "System Volume Information/y": "y",
		"kept/" + half: "half"}, nil)
	_, r := become(t, from, to, folder.Options{}, twin.Options{DeleteOthers: true})
	assert.True(t, r.All(), r.Failed)
	assert.Equal(t, []string{"System Volume Information/", "System Volume Information/y", "a.iso", "kept/",
		"kept/" + half}, slices.Sorted(maps.Keys(on(t, to))))
}

// TestNothingGoesThatCannotBeBackedUp.
func TestNothingGoesThatCannotBeBackedUp(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	fill(t, from, map[string]string{"a.iso": "new and longer"}, nil)
	fill(t, to, map[string]string{"a.iso": "old", "b.iso": "b"}, nil)
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	_, r := become(t, from, to, folder.Options{}, twin.Options{DeleteOthers: true,
		BackupTo: filepath.Join(file, "kept")})
	assert.NotEmpty(t, r.Failed)
	assert.Equal(t, map[string]string{"a.iso": "old", "b.iso": "b"}, on(t, to))
}

// TestAnotherStickInItsPlaceIsNotWrittenTo.
func TestAnotherStickInItsPlaceIsNotWrittenTo(t *testing.T) {
	from, at := t.TempDir(), filepath.Join(t.TempDir(), "media", "GULL")
	fill(t, from, map[string]string{"a.iso": "a"}, nil)
	one, two := judge.NewStick(t, 40, "GULL", "bbbb0001"), judge.NewStick(t, 40, "GULL", "bbbb0002")
	one.Plug(at)
	a, b := open(t, from, folder.Options{}), open(t, at, folder.Options{})
	defer a.Close()
	m, err := twin.Make(context.Background(), a, b, twin.Options{})
	require.NoError(t, err)
	require.NoError(t, b.Close())
	one.Pull()
	two.Plug(at)
	opens := func(context.Context) (target.Target, error) { return folder.Open(at, folder.Options{}) }
	_, err = m.Open(context.Background(), opens)
	require.ErrorIs(t, err, target.ErrChanged)
	two.Pull()
	one.Plug(at)
	to, err := m.Open(context.Background(), opens)
	require.NoError(t, err)
	require.NoError(t, to.Close())
}
