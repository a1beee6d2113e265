package saves_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/loader"
	"polytome/internal/core/saves"
	"polytome/internal/target"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

func open(t require.TestingT, dir string) target.Target {
	p, err := folder.Open(dir, folder.Options{})
	require.NoError(t, err)
	return p
}

// find are the saves that a loader has on a folder.
func find(t require.TestingT, dir, name string) []saves.Save {
	set, err := loader.Shipped()
	require.NoError(t, err)
	p, err := set.Profile(name)
	require.NoError(t, err)
	to := open(t, dir)
	defer to.Close()
	entries, err := to.List(context.Background(), nil)
	require.NoError(t, err)
	return saves.Find(p, "", entries)
}

// TestSavesAreFound by the rules of each loader: a file, a folder, one beside a game, shared ones.
func TestSavesAreFound(t *testing.T) {
	judge.NotWindows(t, "two of its folders differ in letter case only")
	for name, x := range map[string]struct {
		files []string
		want  map[string]string // path -> of
	}{
		"rowan": {[]string{"ROWAN/cards/VSP-20417.crd", "rowan/CARDS/vsp-1.CRD", "ROWAN/cards/shared-1.crd",
			"ROWAN/cards/note.txt", "ROWAN/rowan.cfg", "FULL/VSP-20417 - Tide.iso"},
			map[string]string{"ROWAN/cards/VSP-20417.crd": "VSP-20417", "rowan/CARDS/vsp-1.CRD": "vsp-1",
				"ROWAN/cards/shared-1.crd": ""}},
		"gantry": {[]string{"saves/CVN00130/one.sav", "saves/CVN00130/deep/two.sav", "saves/CVN00117/x",
			"Games/Tide/main.run"},
			map[string]string{"saves/CVN00130": "CVN00130", "saves/CVN00117": "CVN00117"}},
		"oxbow": {[]string{"oxbow/play/finch/Reed Runner.zip", "oxbow/play/finch/Reed Runner.hold"},
			map[string]string{"oxbow/play/finch/Reed Runner.hold": "Reed Runner"}},
		"plover": {[]string{"packages/Mast & Mirror/saves/slot", "packages/Mast & Mirror/start.prog",
			"packages/x/saves"},
			map[string]string{"packages/Mast & Mirror/saves": "Mast & Mirror"}},
		"trellis": {[]string{"keep/MRD-0117/a", "keep/MRD-0117/deep/b", "keep/note.txt",
			"GAMES/MRD-0117/SYS/TITLE.JSON"},
			map[string]string{"keep/MRD-0117": "MRD-0117"}},
		"mica": {[]string{"skua/saves/SKU-1.hold", "skua/SKU-1/Tide.pkd"},
			map[string]string{"skua/saves/SKU-1.hold": "SKU-1"}},
		"bellows": {[]string{"Titles/Reed Watch/state/a", "Titles/+2/Moor/state/b", "Titles/Reed Watch/title.toml",
			"bellows/cards/main.keep"}, map[string]string{"Titles/Reed Watch/state": "Reed Watch",
			"Titles/+2/Moor/state":    "Moor",
			"bellows/cards/main.keep": ""}},
	} {
		dir := t.TempDir()
		for _, f := range x.files {
			coretest.Write(t, dir, f, []byte(f))
			if f := target.TemporaryName(f); strings.HasSuffix(path.Dir(f), "state") { // what an interrupted run left
				coretest.Write(t, dir, f, nil)
			}
		}
		got := map[string]string{}
		for _, s := range find(t, dir, name) {
			got[s.Path] = s.Of
			assert.Equal(t, name, s.Loader)
			assert.NotEmpty(t, s.Files)
			for _, f := range s.Files {
				assert.False(t, target.IsTemporary(f.Path), f.Path)
			}
			assert.NotZero(t, s.Modified)
		}
		assert.Equal(t, x.want, got, name)
	}
}

func TestASaveOfAnotherLength(t *testing.T) {
	dir := t.TempDir()
	coretest.Write(t, dir, "ROWAN/cards/VSP-1.crd", make([]byte, 6<<20))
	coretest.Write(t, dir, "ROWAN/cards/VSP-2.crd", make([]byte, 100))
	found := find(t, dir, "rowan")
	require.Len(t, found, 2)
	assert.Empty(t, found[0].Odd)
	assert.NotEmpty(t, found[1].Odd)
}

// TestKeptAndPutBack with every version, each file once, and a list that another program reads.
func TestKeptAndPutBack(t *testing.T) {
	dir, v := t.TempDir(), saves.Vault{Dir: filepath.Join(t.TempDir(), "vault")}
	none, err := v.Versions()
	require.NoError(t, err)
	assert.Empty(t, none)
	to := open(t, dir)
	defer to.Close()
	place := saves.Place{Target: to, Name: "Disk", ID: "disk-1", Why: "a test"}
	keep := func() ([]saves.Version, int) {
		kept, fresh, err := v.Keep(t.Context(), place, find(t, dir, "gantry"))
		require.NoError(t, err)
		return kept, fresh
	}
	coretest.Write(t, dir, "saves/CVN00130/one", []byte("first"))
	coretest.Write(t, dir, "saves/CVN00130/deep/two", []byte("same"))
	coretest.Write(t, dir, "saves/CVN00117/three", []byte("same"))
	kept, fresh := keep()
	assert.Equal(t, 2, fresh)
	_, fresh = keep()
	assert.Zero(t, fresh, "nothing has changed")
	files := 0
	require.NoError(t, filepath.WalkDir(filepath.Join(v.Dir, "files"), func(_ string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			files++
		}
		return err
	}))
	assert.Equal(t, 2, files, "the same bytes are there once")
	one := kept[1]
	assert.Equal(t, "saves/CVN00130", one.Path)

	coretest.Write(t, dir, "saves/CVN00130/one", []byte("second"))
	coretest.Write(t, dir, "saves/CVN00130/new", []byte("more"))
	r, err := v.Restore(t.Context(), place, &one, "")
	require.NoError(t, err)
	assert.Equal(t, 1, r.Written)
	assert.Equal(t, 1, r.Same)
	assert.Equal(t, 1, r.Removed)
	require.NotNil(t, r.Before)
	assert.Len(t, r.Before.Files, 3)
	b, err := os.ReadFile(filepath.Join(dir, "saves/CVN00130/one"))
	require.NoError(t, err)
	assert.Equal(t, "first", string(b))
	assert.NoFileExists(t, filepath.Join(dir, "saves/CVN00130/new"))

	out := t.TempDir()
	at, err := v.Export(r.Before, out)
	require.NoError(t, err)
	b, err = os.ReadFile(filepath.Join(at, "one"))
	require.NoError(t, err)
	assert.Equal(t, "second", string(b))
	_, err = v.Export(r.Before, out)
	assert.ErrorIs(t, err, os.ErrExist)

	said := judge.Run(t, "python3", "-c", `import tomllib, hashlib, sys, os
d = sys.argv[1]
for v in tomllib.load(open(d + "/list.toml", "rb"))["version"]:
    for f in v["file"]:
        b = open(os.path.join(d, "files", f["sha256"][:2], f["sha256"]), "rb").read()
        assert len(b) == f["size"] and hashlib.sha256(b).hexdigest() == f["sha256"]
        print(v["number"], v["path"], f["path"])`, v.Dir)
	assert.Contains(t, said, "2 saves/CVN00130 deep/two")

	// one that was damaged in the vault is not put back
	require.NoError(t, os.WriteFile(filepath.Join(v.Dir, "files", one.Files[1].SHA256[:2], one.Files[1].SHA256),
		[]byte("x"),
		0o600))
	_, err = v.Export(&one, t.TempDir())
	assert.ErrorContains(t, err, "is damaged")
	require.NoError(t, os.Remove(filepath.Join(dir, "saves/CVN00117/three")))
	keep() // the bytes that are damaged are still on the target
	_, err = v.Export(&one, t.TempDir())
	assert.NoError(t, err, "they are whole again")
	_, err = v.Version(99)
	assert.EqualError(t, err, "no save number 99 was kept")
	require.NoError(t, os.WriteFile(filepath.Join(v.Dir, "list.toml"), []byte("format = 7\n"), 0o600))
	_, _, err = v.Keep(t.Context(), place, find(t, dir, "gantry"))
	assert.ErrorContains(t, err, "format 7")
}

// failing is a target of which something fails after so many steps.
type failing struct {
	target.Target
	left int
}

var errPulled = errors.New("the stick was pulled")

func (f *failing) step() error {
	if f.left--; f.left < 0 {
		return errPulled
	}
	return nil
}

func (f *failing) Open(ctx context.Context, path string) (target.Content, error) {
	if err := f.step(); err != nil {
		return nil, err
	}
	return f.Target.Open(ctx, path)
}

func (f *failing) Create(ctx context.Context, path string, size int64) (target.Writer, error) {
	if err := f.step(); err != nil {
		return nil, err
	}
	return f.Target.Create(ctx, path, size)
}

func (f *failing) Replace(ctx context.Context, path string, size int64) (target.Writer, error) {
	if err := f.step(); err != nil {
		return nil, err
	}
	return f.Target.Replace(ctx, path, size)
}

func (f *failing) Remove(ctx context.Context, path string) error {
	if err := f.step(); err != nil {
		return err
	}
	return f.Target.Remove(ctx, path)
}

// TestNoSaveIsLost: whatever is played, kept, put back and pulled, in any order, what a player had reached when
// something was done here is on the target or in the vault.
func TestNoSaveIsLost(t *testing.T) {
	judge.Times(t, 60, func(t *rapid.T) {
		dir, err := os.MkdirTemp("", "")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		stick := filepath.Join(dir, "stick")
		require.NoError(t, os.Mkdir(stick, 0o755))
		v := saves.Vault{Dir: filepath.Join(dir, "vault")}
		written := 0
		titles := []string{"saves/CVN00001/a", "saves/CVN00001/b", "saves/CVN00002/a"}
		reached := map[string]bool{} // contents that players had when something was done here
		note := func() {
			for _, f := range titles {
				if b, err := os.ReadFile(filepath.Join(stick, f)); err == nil {
					reached[string(b)] = true
				}
			}
		}
		for range rapid.IntRange(1, 12).Draw(t, "steps") {
			to := &failing{open(t, stick), rapid.IntRange(0, 12).Draw(t, "pulled after")}
			place := saves.Place{Target: to, Name: "Stick", ID: "stick"}
			switch rapid.SampledFrom([]string{"play", "keep", "restore", "clear"}).Draw(t, "what") {
			case "play":
				written++
				name := filepath.Join(stick, rapid.SampledFrom(titles).Draw(t, "file"))
				if b, err := os.ReadFile(name); err == nil {
					delete(reached, string(b)) // the player writes over it, and may
				}
				require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
				require.NoError(t, os.WriteFile(name, fmt.Appendf(nil, "state %d", written), 0o644))
			case "keep":
				note()
				_, _, err := v.Keep(context.Background(), place, find(t, stick, "gantry"))
				if err != nil && !errors.Is(err, errPulled) {
					t.Fatal(err)
				}
			case "restore":
				note()
				all, err := v.Versions()
				require.NoError(t, err)
				if len(all) == 0 {
					continue
				}
				x := &all[rapid.IntRange(0, len(all)-1).Draw(t, "version")]
				if _, err := v.Restore(context.Background(), place, x, ""); err != nil && !errors.Is(err, errPulled) {
					t.Fatal(err)
				}
			case "clear": // as preparing does
				note()
				if _, _, err := v.Keep(context.Background(), place, find(t, stick, "gantry")); err == nil {
					require.NoError(t, os.RemoveAll(filepath.Join(stick, "saves")))
				}
			}
			have := map[string]bool{}
			for _, f := range titles {
				if b, err := os.ReadFile(filepath.Join(stick, f)); err == nil {
					have[string(b)] = true
				}
			}
			all, err := v.Versions()
			require.NoError(t, err)
			for i := range all {
				for _, f := range all[i].Files {
					b, err := os.ReadFile(filepath.Join(v.Dir, "files", f.SHA256[:2], f.SHA256))
					require.NoError(t, err)
					have[string(b)] = true
				}
			}
			for state := range reached {
				if !have[state] {
					t.Fatalf("%s is nowhere", state)
				}
			}
			_ = to.Close()
		}
	})
}

// TestKeepStops when the context ends.
func TestKeepStops(t *testing.T) {
	dir := t.TempDir()
	coretest.Write(t, dir, "saves/CVN00130/one", []byte("x"))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	to := open(t, dir)
	defer to.Close()
	v := saves.Vault{Dir: t.TempDir()}
	_, _, err := v.Keep(ctx, saves.Place{Target: to, Name: "x", ID: "x"}, find(t, dir, "gantry"))
	assert.ErrorIs(t, err, context.Canceled)
	all, err := v.Versions()
	require.NoError(t, err)
	assert.Empty(t, all)
}
