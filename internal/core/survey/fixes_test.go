package survey_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/fix"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/format/picture"
	"polytome/internal/testkit/coretest"
)

// allContents are what is in all files below a folder, sorted.
func allContents(t coretest.T, dir string) (out []string) {
	err := filepath.WalkDir(dir, func(name string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(name)
		out = append(out, string(b))
		return err
	})
	if err != nil {
		t.Fatalf("%v", err)
	}
	slices.Sort(out)
	return out
}

// TestRenamesLoseNothing carries out any number of renames, many of which are in each other's way: each file is there
// afterwards, once.
func TestRenamesLoseNothing(t *testing.T) {
	set := coretest.Set(t)
	paths := []string{"FULL/a.iso", "FULL/b.iso", "FULL/A.iso", "SHORT/a.iso", "x/y/a.iso", "a.iso",
		"FULL/VSP-20417 - a.iso", "FULL/c", "FULL"}
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp("", "stick-")
		if err != nil {
			t.Fatalf("%v", err)
		}
		defer os.RemoveAll(dir)
		used := map[string]bool{}
		for i, name := range rapid.SliceOfNDistinct(rapid.SampledFrom(paths[:8]), 1, 6, rapid.ID[string]).
			Draw(t, "files") {
			if key := strings.ToUpper(name); !used[key] && !used[key+"/"] {
				used[key] = true
				coretest.Write(t, dir, name, fmt.Appendf(nil, "file %d", i))
			}
		}
		before := allContents(t, dir)
		b := bench.New("")
		b.Targets = []bench.Target{{Name: "stick", At: dir, Loader: "rowan", Via: "usb", As: "fat32",
			Capacity: 1 << 30}}
		for range rapid.IntRange(1, 8).Draw(t, "fixes") {
			b.Targets[0].Fixes = append(b.Targets[0].Fixes, fix.Fix{Do: fix.Rename, Path: rapid.SampledFrom(paths).
				Draw(t, "from"), To: rapid.SampledFrom(paths).Draw(t, "to")})
		}
		s, err := survey.Take(context.Background(), b, 0, nil, survey.Options{Set: set})
		if err != nil {
			t.Fatalf("%v", err)
		}
		p := s.Plan()
		destinations := map[string]bool{}
		for i := range p.Steps {
			if st := &p.Steps[i]; st.Kind == plan.Move {
				if key := strings.ToUpper(st.Path); destinations[key] {
					t.Fatalf("two files are renamed to %s", st.Path)
				} else {
					destinations[key] = true
				}
			}
		}
		to, err := s.Open(t.Context())
		if err != nil {
			t.Fatalf("%v", err)
		}
		defer to.Close()
		report := run.Run(context.Background(), p, to, run.Options{}, func(run.Event) {})
		if after := allContents(t, dir); !slices.Equal(before, after) {
			t.Fatalf("before: %q\nafter: %q\nsteps: %v\nfailed: %v", before, after, p.Steps, report.Failed)
		}
		for _, f := range report.Failed {
			t.Fatalf("%s: %s\nmends: %v\nsteps: %v", f.Path, f.Say, b.Targets[0].Fixes, p.Steps)
		}
	})
}

// TestFixesThatMeet has several fixes of one file, and fixes that are in the way of what leaves or was changed.
func TestFixesThatMeet(t *testing.T) {
	dir := t.TempDir()
	coretest.Write(t, dir, "boot/plover.prefs", []byte("; mine\nsaves=never\nleave=F9\n"))
	coretest.Write(t, dir, "boot/plover.script", []byte("old"))
	coretest.Write(t, dir, "leaves.txt", []byte("x"))
	coretest.Write(t, dir, "cover.png", []byte("no picture"))
	b := bench.New("")
	b.Targets = []bench.Target{{Name: "stick", At: dir, Loader: "plover", Via: "usb", As: "fat32", Capacity: 1 << 30,
		Removing: []string{"leaves.txt"}}}
	set := func(key, value string) fix.Fix {
		return fix.Fix{Do: fix.Set, Path: "boot/plover.prefs", Syntax: "key=value", Key: key, Value: value}
	}
	b.Targets[0].Fixes = []fix.Fix{
		set("saves", "at-once"), set("leave", "F10"), set("logo", "off"),
		{Do: fix.Write, Path: "boot/plover.script", Text: "run plover\n"},
		{Do: fix.Write, Path: "new/list.txt", Text: "one\n"},
		{Do: fix.Rename, Path: "leaves.txt", To: "stays.txt"},
		{Do: fix.Rename, Path: "nowhere.txt", To: "here.txt"},
		{Do: fix.Write, Path: "boot", Text: "x"},
		{Do: fix.Fit, Path: "cover.png", To: "cover.jpg", Picture: &picture.Rule{Width: 10, Height: 10, Fit: "inside",
			Format: "jpg"}},
	}
	s, err := survey.Take(t.Context(), b, 0, nil, survey.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	p := s.Plan()
	assert.Contains(t, strings.Join(p.Notes, "\n"), "nowhere.txt was not fixed: it no longer exists")
	assert.Contains(t, strings.Join(p.Notes, "\n"), "boot was not fixed: it is a folder")
	writes := 0
	for i := range p.Steps {
		if p.Steps[i].Path == "boot/plover.prefs" {
			writes++
			assert.Len(t, p.Steps[i].Make.With.Values, 3, "one step sets all values of a file")
		}
		assert.NotEqual(t, "stays.txt", p.Steps[i].Path, "what leaves is not renamed")
	}
	assert.Equal(t, 1, writes)
	to, err := s.Open(t.Context())
	require.NoError(t, err)
	defer to.Close()
	report := run.Run(t.Context(), p, to, run.Options{}, func(run.Event) {})
	require.Len(t, report.Failed, 1, "the rest goes on: %v", report.Failed)
	assert.Equal(t, "cover.jpg", report.Failed[0].Path)
	assert.Contains(t, report.Failed[0].Say, "it is not a readable picture")
	prefs, err := os.ReadFile(filepath.Join(dir, "boot/plover.prefs"))
	require.NoError(t, err)
	assert.Equal(t, "; mine\nsaves=at-once\nleave=F10\nlogo=off\n", string(prefs), "the rest of it stays")
	script, err := os.ReadFile(filepath.Join(dir, "boot/plover.script"))
	require.NoError(t, err)
	assert.Equal(t, "run plover\n", string(script))
	assert.FileExists(t, filepath.Join(dir, "new/list.txt"))
	assert.FileExists(t, filepath.Join(dir, "cover.png"), "what could not be fixed is as it was")
	done := s.Fixed(p, &report)
	assert.True(t, done(&b.Targets[0].Fixes[0]))
	assert.False(t, done(&b.Targets[0].Fixes[8]), "what failed stays marked")
}

// TestPartsArePutRightFromTheirGame spoils a title in parts in different ways: what is wrong of it is put again from
// the game, and it starts afterwards.
func TestPartsArePutRightFromTheirGame(t *testing.T) {
	games := t.TempDir()
	coretest.Write(t, games, "orchard.iso", coretest.Image(t, coretest.Inf("VSP-20431", "The Ninth Orchard", "1/1",
		"full")))
	scanned, err := scan.Scan(t.Context(), []string{games}, scan.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	for what, spoil := range map[string]func(dir string){
		"a short part":      func(dir string) { require.NoError(t, os.Truncate(filepath.Join(dir, "002.rwn"), 100)) },
		"a part is gone":    func(dir string) { require.NoError(t, os.Remove(filepath.Join(dir, "003.rwn"))) },
		"the list is empty": func(dir string) { require.NoError(t, os.Truncate(filepath.Join(dir, "parts.toml"), 0)) },
		"the list is gone":  func(dir string) { require.NoError(t, os.Remove(filepath.Join(dir, "parts.toml"))) },
		"both": func(dir string) {
			require.NoError(t, os.Truncate(filepath.Join(dir, "002.rwn"), 100))
			coretest.Write(t, dir, "parts.toml", []byte("title = \"x\"\n"))
		},
		"the list tells a wrong sum": func(dir string) {
			text, err := os.ReadFile(filepath.Join(dir, "parts.toml"))
			require.NoError(t, err)
			i := bytes.Index(text, []byte("crc32 = \"")) + 9
			coretest.Write(t, dir, "parts.toml", append(append(bytes.Clone(text[:i]), "00000000"...), text[i+8:]...))
		},
	} {
		t.Run(what, func(t *testing.T) {
			stick := t.TempDir()
			coretest.Write(t, stick, "ROWAN/rowan.cfg", []byte("look=stick\nfaces=yes\n"))
			coretest.Write(t, stick, "ROWAN/rowan.run", []byte("run"))
			b := bench.New("")
			b.Sources = []bench.Source{{Path: games}}
			b.Targets = []bench.Target{{Name: "stick", At: stick, Loader: "rowan", Via: "usb", As: "fat32",
				Capacity: 1 << 30, Everything: true, Rules: map[string]string{"accept.1.too-large.over": "20KiB",
					"accept.1.too-large.part-size": "20KiB"}}}
			take := func() *survey.Survey {
				s, err := survey.Take(t.Context(), b, 0, scanned.Titles, survey.Options{Set: coretest.Set(t)})
				require.NoError(t, err)
				return s
			}
			fill := func() *plan.Plan {
				s := take()
				p := s.Plan()
				to, err := s.Open(t.Context())
				require.NoError(t, err)
				r := run.Run(t.Context(), p, to, run.Options{}, func(run.Event) {})
				require.NoError(t, to.Close())
				require.Empty(t, r.Failed)
				b.Targets[0].Fixed(s.Fixed(p, &r))
				return p
			}
			fill()
			dir := filepath.Join(stick, "LONG/VSP-20431")
			require.FileExists(t, filepath.Join(dir, "003.rwn"))
			spoil(dir)
			check := func() *check.Report {
				r, err := take().Check(t.Context(), check.Whole)
				require.NoError(t, err)
				return r
			}
			first := check()
			require.False(t, first.Good())
			require.NotEmpty(t, first.Fixes(), "%+v", first.Findings)
			b.Targets[0].Fix(first.Fixes()...)
			p := fill()
			again := check()
			require.True(t, again.Good(), "%+v\nafter %+v", again.Findings, p.Steps)
			require.True(t, again.Listed[0].Starts)
			require.True(t, take().Plan().Empty())
		})
	}
}
