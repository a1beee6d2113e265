package survey_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/bench"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/sim"
	"polytome/internal/testkit/coretest"
)

// TestAnyCollectionIsFilledAndChecked goes the whole way with collections that
// hold all sorts of mistakes: what the plan says is there afterwards, nothing that was there is
// touched, the check and the simulator agree, and a second look has nothing to do.
func TestAnyCollectionIsFilledAndChecked(t *testing.T) {
	ctx := context.Background()
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp("", "whole-")
		must(t, err)
		defer os.RemoveAll(dir)
		games, stick := filepath.Join(dir, "games"), filepath.Join(dir, "stick")
		must(t, os.MkdirAll(games, 0o755))
		coretest.Write(t, stick, "ROWAN/rowan.cfg", []byte("look=stick\nfaces=yes\n"))
		for i := range rapid.IntRange(0, 3).Draw(t, "there") {
			coretest.Write(t, stick, rapid.SampledFrom([]string{"FULL", "full", "SHORT", "mine"}).
				Draw(t, "at")+fmt.Sprintf("/VSP-0000%d - Mine.iso", i),
				coretest.Image(t, coretest.Inf(fmt.Sprintf("VSP-0000%d", i), "Mine", "1/1", "full")))
		}
		for i := range rapid.IntRange(0, 8).Draw(t, "games") {
			inf := coretest.Inf(fmt.Sprintf("VSP-0000%d", rapid.IntRange(0, 9).Draw(t, "id")),
				rapid.SampledFrom([]string{"Mine", "Copper Tide", "Été: à la mer", "ひかり", strings.Repeat("long name ",
					5)}).Draw(t, "name"),
				rapid.SampledFrom([]string{"1/1", "1/2", "2/2", "x"}).Draw(t, "disc"),
				rapid.SampledFrom([]string{"full", "short", "tall"}).Draw(t, "kind"))
			data := coretest.Image(t, rapid.SampledFrom([]string{inf, inf, inf, ""}).Draw(t, "inf"))
			coretest.Write(t, games, fmt.Sprintf("%d%s", i, rapid.SampledFrom([]string{".iso", ".img", ".txt"}).
				Draw(t, "ext")), data[:rapid.SampledFrom([]int{len(data), len(data), 40_000}).Draw(t, "length")])
		}
		before := contents(t, stick)

		b := bench.New("")
		b.Sources = []bench.Source{{Path: games}}
		b.Targets = []bench.Target{{Name: "Stick", At: stick, Loader: "rowan", Via: "usb", As: "fat32",
			Capacity: bench.Size(rapid.Int64Range(200_000, 3_000_000).Draw(t, "space")), Everything: true}}
		set := coretest.Set(t)
		scanned, err := scan.Scan(ctx, b.SourcePaths(), scan.Options{Set: set})
		must(t, err)
		look := func() *survey.Survey {
			s, err := survey.Take(ctx, b, 0, scanned.Titles, survey.Options{Set: set})
			must(t, err)
			return s
		}
		s := look()
		p := s.Plan()
		to, err := s.Open(t.Context())
		must(t, err)
		defer to.Close()
		r := run.Run(ctx, p, to, run.Options{}, func(run.Event) {})
		if len(r.Failed) > 0 || r.Put != p.Files {
			t.Fatalf("%v", r.Failed)
		}
		after := contents(t, stick)
		moved := map[string]string{}
		for _, step := range p.Steps {
			if step.Kind == plan.Move {
				moved[step.From] = step.Path
			}
		}
		for name, data := range before {
			if to, ok := moved[name]; ok { // it was there under another name
				name = to
			}
			if after[name] != data {
				t.Fatalf("%s was touched", name)
			}
		}
		if len(after) != len(before)+p.Files {
			t.Fatalf("%d files, and %d were there and %d put", len(after), len(before), p.Files)
		}
		again := look()
		if !again.Plan().Empty() || again.Sheet.Free() < 0 {
			t.Fatalf("a second plan: %v, %d free", again.Plan().Steps, again.Sheet.Free())
		}
		audit, err := s.Check(ctx, "")
		must(t, err)
		for _, f := range audit.Findings {
			if f.Title != "" {
				t.Fatalf("promised and not there: %s", f.Say)
			}
		}
		listing, err := sim.Rowan{}.List(os.DirFS(stick))
		must(t, err)
		if len(listing.Games) != len(audit.Listed) {
			t.Fatalf("the check promises %v, the simulator lists %v", audit.Listed, listing.Games)
		}
		for i, g := range listing.Games {
			if l := audit.Listed[i]; g.Path != l.Path || g.Starts != l.Starts {
				t.Fatalf("the check promises %v, the simulator lists %v", l, g)
			}
			if _, mine := before[g.Path]; !mine && !g.Starts && len(moved) == 0 {
				t.Fatalf("we put %s there, and it does not start: %s", g.Path, g.Why)
			}
		}
	})
}

func must(t coretest.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatalf("%v", err)
	}
}

// contents reads every file below dir.
func contents(t coretest.T, dir string) map[string]string {
	out := map[string]string{}
	must(t, filepath.Walk(dir, func(p string, info os.FileInfo, err error) error {
		if err != nil || info.IsDir() {
			return err
		}
		b, err := os.ReadFile(p)
		rel, _ := filepath.Rel(dir, p)
		out[filepath.ToSlash(rel)] = string(b)
		return err
	}))
	return out
}

func TestWrongTargetsAndProfiles(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	for name, c := range map[string]struct {
		target bench.Target
		say    string
	}{
		"no such folder":   {bench.Target{At: filepath.Join(dir, "x"), Loader: "rowan", Via: "usb"}, "no folder"},
		"unknown loader":   {bench.Target{At: dir, Loader: "rown", Via: "usb"}, `did you mean "rowan"?`},
		"no such profile":  {bench.Target{At: dir, Loader: "mine.toml", Via: "usb"}, "reading the loader profile"},
		"wrong filesystem": {bench.Target{At: dir, Loader: "rowan", Via: "usb", As: "fat99"}, `did you mean "fat32"?`},
	} {
		t.Run(name, func(t *testing.T) {
			b := bench.New("")
			b.Targets = []bench.Target{c.target}
			_, err := survey.Take(ctx, b, 0, nil, survey.Options{Set: coretest.Set(t)})
			assert.ErrorContains(t, err, c.say)
		})
	}
	b := bench.New("")
	b.Targets = []bench.Target{{At: dir, Loader: "rowan", Via: "pigeon", As: "fat32"}}
	s, err := survey.Take(ctx, b, 0, nil, survey.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	r, err := s.Check(ctx, "")
	require.NoError(t, err)
	assert.Contains(t, r.Findings[0].Say, "does not support pigeon")
}
