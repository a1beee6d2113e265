package check_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/fix"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/sim"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
)

// TestRemediesBreakNothing makes targets with random mistakes for every loader and applies all remedies that the check
// offers: what started still starts, no stranger is changed, nothing is lost, and the next check finds less.
func TestRemediesBreakNothing(t *testing.T) {
	base := right(t)
	for _, name := range slices.Sorted(maps.Keys(base)) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for seed := range uint64(Targets()) {
				r := rand.New(rand.NewPCG(seed, 19))
				f := maps.Clone(base[name])
				var did []string
				for range 1 + int(seed)%3 {
					before := maps.Clone(f)
					all := slices.Sorted(maps.Keys(f))
					d := mistakes[r.IntN(len(mistakes))](r, f, all[r.IntN(len(all))])
					if !possible(f) {
						f, d = before, ""
					}
					did = append(did, d)
				}
				remedied(t, name, f, as[name][0], fmt.Sprintf("seed %d: %q", seed, did))
			}
		})
	}
}

// remedied applies all remedies for a target.
func remedied(t *testing.T, name string, f files, on [2]string, what string) {
	dir, err := os.MkdirTemp("", "stick-")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	for name, data := range f {
		coretest.Write(t, dir, name, data)
	}
	b := bench.New("")
	b.Targets = []bench.Target{{Name: "stick", At: dir, Loader: name, Via: on[0], As: on[1], Capacity: 1 << 30}}
	starting := func() map[string]bool {
		v := sim.Volume{FS: os.DirFS(dir), Filesystem: on[1]}
		if on[0] == "ftp" {
			v.Filesystem = ""
		}
		l, err := sim.Loaders[name].List(v)
		require.NoError(t, err)
		out := map[string]bool{}
		for _, g := range l.Games {
			if g.Starts {
				out[g.Path] = true
			}
		}
		return out
	}
	before := starting()
	s, err := survey.Take(t.Context(), b, 0, nil, survey.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	first, err := s.Check(t.Context(), check.Inside)
	require.NoError(t, err)
	b.Targets[0].Fix(first.Fixes()...)
	s, err = survey.Take(t.Context(), b, 0, nil, survey.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	p := s.Plan()
	to, err := s.Open(t.Context())
	require.NoError(t, err)
	report := run.Run(t.Context(), p, to, run.Options{}, func(run.Event) {})
	require.NoError(t, to.Close())
	fail := func(format string, args ...any) {
		var said []string
		for _, x := range first.Findings {
			said = append(said, fmt.Sprintf("%s %s %s: %s %v", x.Grade, x.Kind, x.Path, x.Say, words(x.Fixes)))
		}
		t.Errorf("%s\n%s\n  %s\n  notes %q", what, fmt.Sprintf(format, args...), strings.Join(said, "\n  "), p.Notes)
	}
	for _, x := range report.Failed {
		if !strings.Contains(x.Say, "picture") { // one that is none cannot be brought to size
			fail("a remedy failed: %s: %s", x.Path, x.Say)
		}
	}
	moved := func(path string) string {
		for _, step := range p.Steps {
			if step.From != "" && (path == step.From || strings.HasPrefix(path, step.From+"/")) {
				return step.Path + strings.TrimPrefix(path, step.From)
			}
		}
		return path
	}
	after := starting()
	for path := range before {
		if !after[path] && !after[moved(path)] {
			fail("%s started, and starts no longer", path)
		}
	}
	for _, path := range first.Others {
		if data, err := os.ReadFile(filepath.Join(dir, path)); err != nil || string(data) != string(f[path]) {
			fail("the stranger %s was changed: %v", path, err)
		}
	}
	kept := map[string]bool{}
	for _, data := range allBelow(t, dir) {
		kept[data] = true
	}
	written := map[string]bool{}
	for _, m := range first.Fixes() {
		written[m.Path] = m.Do != fix.Rename
	}
	for path, data := range f {
		if !kept[string(data)] && !written[path] && !target.IsTemporary(path) { // the run clears what runs have left
			fail("%s is lost", path)
		}
	}
	b.Targets[0].Fixes = nil
	s, err = survey.Take(t.Context(), b, 0, nil, survey.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	second, err := s.Check(t.Context(), check.Inside)
	require.NoError(t, err)
	if faults(second) > faults(first) {
		fail("%d faults before and %d after: %q", faults(first), faults(second), reported(second))
	}
	for i := range first.Findings {
		x := &first.Findings[i]
		again := slices.ContainsFunc(second.Findings,
			func(y check.Finding) bool { return y.Kind == x.Kind && y.Path == x.Path && y.Say == x.Say })
		if len(x.Fixes) > 0 && again && len(report.Failed) == 0 && len(p.Notes) == 0 {
			fail("its remedy did not help %s", x.Path)
		}
	}
}

func words(all []fix.Fix) (out []string) {
	for i := range all {
		out = append(out, all[i].Words())
	}
	return out
}

func faults(r *check.Report) (n int) {
	for i := range r.Findings {
		if r.Findings[i].Grade != check.Remark {
			n++
		}
	}
	return n
}

// allBelow are the contents of all files below a folder.
func allBelow(t *testing.T, dir string) (out []string) {
	require.NoError(t, filepath.WalkDir(dir, func(name string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(name)
		out = append(out, string(data))
		return err
	}))
	return out
}

// TestASecondSheetBesideAGoodOneIsLeft has a copy of a cue sheet beside a title that starts: moving its track away
// would break that one.
func TestASecondSheetBesideAGoodOneIsLeft(t *testing.T) {
	f := right(t)["bellows"]
	at := "Titles/Two Tides/Copy of Two Tides (Disc 2).cue"
	f[at] = f["Titles/Two Tides/Two Tides (Disc 2).cue"]
	r := checkFiles(t, f, as["bellows"][0], check.Inside, "bellows")
	i := slices.IndexFunc(r.Findings, func(x check.Finding) bool { return x.Path == at })
	require.GreaterOrEqual(t, i, 0)
	require.Empty(t, r.Findings[i].Fixes)
	require.Contains(t, r.Findings[i].Remedy, "working title from starting")
	delete(f, "Titles/Two Tides/Two Tides (Disc 2).cue") // nothing else needs it now
	r = checkFiles(t, f, as["bellows"][0], check.Inside, "bellows")
	require.NotEmpty(t, r.Fixes())
	remedied(t, "bellows", f, as["bellows"][0], "a copy that is the only one")
}

// TestASpoiltListOfPartsIsWrittenAgain leaves the parts alone where only their list is wrong, and keeps the list where
// a part is.
func TestASpoiltListOfPartsIsWrittenAgain(t *testing.T) {
	base := right(t)["rowan"]
	list := "LONG/VSP-20431/parts.toml"
	good := string(base[list])
	for what, text := range map[string]string{
		"no kind":      strings.Replace(good, "kind = \"full\"\n", "", 1),
		"no sums":      strings.ReplaceAll(good, "crc32", "sum"),
		"a short list": good[:strings.LastIndex(good, "[[part]]")],
		"empty":        "",
		"swapped":      strings.NewReplacer("001.rwn", "002.rwn", "002.rwn", "001.rwn").Replace(good),
		"commented":    "# mine\n" + good,
		"in CR":        strings.ReplaceAll(good, "\n", "\r"),
	} {
		f := maps.Clone(base)
		f[list] = []byte(text)
		r := checkFiles(t, f, as["rowan"][0], check.Inside, "rowan")
		i := slices.IndexFunc(r.Findings, func(x check.Finding) bool { return x.Path == list })
		require.GreaterOrEqual(t, i, 0, what)
		require.Len(t, r.Findings[i].Fixes, 1, what)
		require.Equal(t, fix.Write, r.Findings[i].Fixes[0].Do)
		require.Equal(t, strings.TrimSpace(good), strings.TrimSpace(r.Findings[i].Fixes[0].Text), what)
		remedied(t, "rowan", f, as["rowan"][0], what)
	}
	for what, spoil := range map[string]func(f files){
		"a short part":   func(f files) { f["LONG/VSP-20431/002.rwn"] = f["LONG/VSP-20431/002.rwn"][:2048] },
		"a missing part": func(f files) { delete(f, "LONG/VSP-20431/002.rwn") },
	} {
		f := maps.Clone(base)
		spoil(f)
		r := checkFiles(t, f, as["rowan"][0], check.Inside, "rowan")
		i := slices.IndexFunc(r.Findings, func(x check.Finding) bool { return x.Path == list })
		require.GreaterOrEqual(t, i, 0, what)
		require.Empty(t, r.Findings[i].Fixes, "%s: %s", what, r.Findings[i].Say)
	}
}

// TestSettingsInAnyLineEndsAreSetAtOnce has settings whose lines end in CR alone, CR LF, and all kinds: one fixing puts
// them right, and nothing else of them is lost.
func TestSettingsInAnyLineEndsAreSetAtOnce(t *testing.T) {
	for _, end := range []string{"\r", "\r\n", "\n"} {
		f := maps.Clone(right(t)["rowan"])
		f["ROWAN/rowan.cfg"] = []byte("# mine" + end + "look=disk" + end + "faces=no" + end + "volume=3" + end)
		remedied(t, "rowan", f, as["rowan"][0], fmt.Sprintf("%q", end))
		r := checkFiles(t, f, as["rowan"][0], check.Inside, "rowan")
		require.Len(t, r.Fixes(check.Setting), 2)
		f["ROWAN/rowan.cfg"] = []byte("# mine" + end + "look=stick" + end + "faces=yes" + end + "volume=3" + end)
		require.True(t, checkFiles(t, f, as["rowan"][0], check.Inside, "rowan").Good(), "%q", end)
	}
	without := maps.Clone(right(t)["rowan"])
	delete(without, "ROWAN/rowan.cfg")
	r := checkFiles(t, without, as["rowan"][0], check.Inside, "rowan")
	require.Equal(t, check.Stops, r.Findings[0].Grade)
	require.Equal(t, "look=stick\nfaces=yes\n", r.Findings[0].Fixes[0].Text,
		"the file is written with what must stand there")
	remedied(t, "rowan", without, as["rowan"][0], "without its settings")
}
