//go:build !race

package survey_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/learn"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/coretest"
)

// family is a console that was made up: its games, a stick that it reads, and what was learnt of that.
type family struct {
	dir   string
	draft *learn.Draft
	err   error
	why   string   // what of a stick filled by the draft is wrong, "" for nothing
	lies  []string // what was called certain, and is wrong
	// unlike is how the check of the stick that was learnt from, by the draft, differs from what lies there, or what is
	// still to be done on one that was filled by it; "" for nothing.
	unlike string
}

// judged has the independent judge look at a stick for one of a family's collections, or write it.
func judged(t *testing.T, dir, collection, stick string, write bool) (out said) {
	b, err := os.ReadFile(filepath.Join(dir, "facts.json"))
	require.NoError(t, err)
	var all map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(b, &all))
	facts := filepath.Join(dir, collection+".json")
	require.NoError(t, os.WriteFile(facts, all[collection], 0o644))
	args := []string{"testdata/stick.py", filepath.Join(dir, "rules.toml"), facts, stick,
		`{"via": "usb", "filesystem": "exfat", "volume": "", "capacity": "1073741824"}`}
	if write {
		args = append(args, "write")
	}
	cmd := exec.Command("/usr/bin/python3", args...)
	cmd.Stderr = os.Stderr
	b, err = cmd.Output()
	require.NoError(t, err, "%s", dir)
	require.NoError(t, json.Unmarshal(b, &out))
	return out
}

// madeUp makes up a family, learns from a stick with its first collection, fills another one with the second by what
// was learnt, and has the judge look.
func madeUp(t *testing.T, seed int) (f family) {
	f.dir = t.TempDir()
	cmd := exec.Command("/usr/bin/python3", "testdata/family.py", strconv.Itoa(seed), f.dir)
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Run())
	stick := filepath.Join(f.dir, "CONSOLE")
	require.NoError(t, os.MkdirAll(stick, 0o755))
	judged(t, f.dir, "one", stick, true)
	to, err := folder.Open(stick, folder.Options{Filesystem: "exfat", Capacity: 1 << 30})
	require.NoError(t, err)
	defer to.Close()
	f.draft, f.err = learn.FromTarget(t.Context(), stick, to, coretest.Set(t), learn.Sources{})
	if f.err != nil {
		f.why = f.err.Error()
		return f
	}
	own := filepath.Join(f.dir, "learnt")
	_, err = f.draft.Save(filepath.Join(own, "profiles", "x.toml"), own, coretest.Set(t))
	require.NoError(t, err)
	set, err := loader.Known(own)
	require.NoError(t, err)
	i := slices.IndexFunc(set.Profiles, func(p *loader.Profile) bool { return p.Own })
	if i < 0 || len(set.Broken) > 0 {
		f.why = fmt.Sprint("the draft is no profile: ", set.Broken)
		return f
	}
	r, err := scan.Scan(t.Context(), []string{filepath.Join(f.dir, "one")}, scan.Options{Set: set})
	require.NoError(t, err)
	source := oneStick(t, f.dir, set, set.Profiles[i].Name, "exfat", r.Titles)
	source.bench.Targets[0].At = stick
	listed, faults := checked(t, source)
	if before := judged(t, f.dir, "one", stick, false); faults != "" || !slices.Equal(listed, before.Starts) {
		f.unlike = fmt.Sprintf("the check of its own stick: %s lists %q of %q", faults, listed, before.Starts)
	}
	r, err = scan.Scan(t.Context(), []string{filepath.Join(f.dir, "two")}, scan.Options{Set: set})
	require.NoError(t, err)
	w := oneStick(t, f.dir, set, set.Profiles[i].Name, "exfat", r.Titles)
	w.fill(0)
	if again := w.look(0).Plan(); !again.Empty() {
		f.unlike = fmt.Sprintf("after it was filled, %d steps are to be done: %v", len(again.Steps), again.Steps[0])
	}
	now := judged(t, f.dir, "two", w.at("Stick", ""), false)
	switch {
	case !slices.Equal(now.Placed, now.Starts):
		f.why = fmt.Sprintf("start: %q\nof: %q\nmissing: %q\ninstead: %q", now.Starts, now.Placed, now.Missing,
			now.Strangers)
	case len(now.Lists) > 0:
		f.why = fmt.Sprintf("lists: %q\nmissing %q", now.Lists, now.Missing)
	case len(now.Strangers) > 0:
		f.why = fmt.Sprintf("strangers: %q", now.Strangers)
	}
	f.claims("go to", now.Astray, " go to ", "are split into parts")
	if len(now.Astray) > 0 {
		return f // files beside games, and lists, follow where these are
	}
	f.claims("each title has", slices.DeleteFunc(now.Beside, func(at string) bool {
		return !slices.ContainsFunc(f.draft.Companions, func(c learn.Companion) bool {
			return path.Ext(c.Path) == path.Ext(at)
		}) // of which nothing was said
	}), "each title")
	f.claims("are listed", slices.DeleteFunc(now.Lists, func(at string) bool {
		return !slices.ContainsFunc(f.draft.Lists, func(l learn.List) bool { // of which nothing was said
			var p loader.Template
			if p.UnmarshalText([]byte(l.Path)) != nil {
				return false
			}
			_, is := p.Match(at)
			return is
		})
	}), "titles are listed")
	return f
}

// claims notes what counts as certain, and is wrong.
func (f *family) claims(what string, wrong []string, kinds ...string) {
	if len(wrong) > 0 && f.certain(kinds[0]) && !slices.ContainsFunc(kinds[1:], func(kind string) bool {
		return f.says(kind) && !f.certain(kind)
	}) {
		f.lies = append(f.lies, fmt.Sprintf("%q is certain, but not %q", what, wrong))
	}
}

// says reports whether there are findings of a kind.
func (f *family) says(kind string) bool {
	return slices.ContainsFunc(f.draft.Findings, func(x learn.Finding) bool { return strings.Contains(x.Say, kind) })
}

// certain reports whether all findings of a kind are certain.
func (f *family) certain(kind string) bool {
	return f.says(kind) && !slices.ContainsFunc(f.draft.Findings, func(x learn.Finding) bool {
		return strings.Contains(x.Say, kind) && x.Confidence != learn.Certain
	})
}

// TestLearningConsolesThatWereMadeUp shows what teaching is worth: of consoles that were made up at random, with games
// that nobody has described, most are learnt from one stick so that another one filled with other games is right to the
// byte.
func TestLearningConsolesThatWereMadeUp(t *testing.T) {
	seeds := 12
	if n, err := strconv.Atoi(os.Getenv("POLYTOME_TEST_FAMILIES")); err == nil {
		seeds = n
	}
	first, _ := strconv.Atoi(os.Getenv("POLYTOME_TEST_FIRST"))
	right, lies := 0, 0
	var questions []int
	for seed := first; seed < first+seeds; seed++ {
		f := madeUp(t, seed)
		questions = append(questions, len(f.draft.Open))
		for _, lie := range f.lies {
			lies++
			t.Logf("seed %d: %s", seed, lie)
		}
		if f.why == "" {
			f.why = f.unlike
		}
		if f.why == "" {
			right++
			continue
		}
		t.Logf("seed %d: %s", seed, f.why)
		if os.Getenv("POLYTOME_TEST_FIRST") != "" && seeds == 1 {
			rules, _ := os.ReadFile(filepath.Join(f.dir, "rules.toml"))
			t.Logf("%s\n%s", rules, f.draft.TOML())
			for _, p := range f.draft.Taught {
				t.Log(p.TOML())
			}
		}
	}
	slices.Sort(questions)
	t.Logf("%d of %d are wholly right; %d times certain and wrong; %d questions as a rule", right, seeds, lies,
		questions[len(questions)/2])
	assert.GreaterOrEqual(t, right*10, seeds*9)
	assert.Zero(t, lies, "certain and wrong")
	assert.Less(t, questions[len(questions)/2], 4)
}
