package settings_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/settings"
	"polytome/internal/testkit/judge"
)

func TestWhatAPersonEditedIsMerged(t *testing.T) {
	for name, c := range map[string]struct {
		syntax                     settings.Syntax
		last, theirs, wanted, want string
		conflicts                  []string
	}{
		"nobody edited":   {settings.KeyValue, "a=1\n", "a=1\n", "a=2\nb=3\n", "a=2\nb=3\n", nil},
		"the rule is old": {settings.KeyValue, "a=1\n", "a=9\n# mine\n", "a=1\n", "a=9\n# mine\n", nil},
		"different keys": {settings.KeyValue, "a=1\nb=1\n", "a=9\nb=1\n# mine\n", "a=1\nb=2\n", "a=9\nb=2\n# mine\n",
			nil},
		"a new key":       {settings.KeyValue, "a=1\n", "a=9\n", "a=1\nc=3\n", "a=9\nc=3\n", nil},
		"a key that went": {settings.KeyValue, "a=1\nb=1\n", "a=9\nb=1\n", "a=1\n", "a=9\n", nil},
		"the same change": {settings.KeyValue, "a=1\n", "a=2\nx=1\n", "a=2\n", "a=2\nx=1\n", nil},
		"both": {settings.KeyValue, "a=1\nb=1\n", "a=9\nb=1\n", "a=2\nb=5\n", "a=9\nb=5\n",
			[]string{`a was "1", was changed by hand to "9", and would become "2"`}},
		"deleted by hand": {settings.KeyValue, "a=1\nb=1\n", "b=1\n", "a=2\nb=1\n", "b=1\n",
			[]string{`a was "1", was changed by hand to "", and would become "2"`}},
		"sections": {settings.INI, "[x]\na=1\n[y]\na=1\n", "[x]\na=9\n[y]\na=1\n", "[x]\na=1\n[y]\na=2\n",
			"[x]\na=9\n[y]\na=2\n", nil},
		"toml": {settings.TOML, "name = \"Two Tides\"\nplayers = \"1\"\n",
			"name = \"Two Tides\"\nplayers = \"2\" # with a friend\n", "name = \"Two Tides II\"\nplayers = \"1\"\n",
			"name = \"Two Tides II\"\nplayers = \"2\" # with a friend\n", nil},
		"lines": {"", "mount packages\nrun plover\n", "; mine\nmount packages\nrun plover\n",
			"mount packages\nmount system\nrun plover\n", "; mine\nmount packages\nmount system\nrun plover\n", nil},
		"lines, both": {"", "a\nb\nc\n", "a\nmine\nc\n", "a\nnew\nc\n", "a\nmine\nc\n",
			[]string{`the lines "b" were changed by hand to "mine", and would become "new"`}},
	} {
		t.Run(name, func(t *testing.T) {
			got, conflicts, err := settings.Merge(c.last, c.theirs, c.wanted, c.syntax, false)
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
			var said []string
			for _, x := range conflicts {
				said = append(said, x.Say())
			}
			assert.Equal(t, c.conflicts, said)
		})
	}
	got, conflicts, err := settings.Merge("a=1\nb=1\n", "a=9\nb=1\n# mine\n", "a=2\nb=5\n", settings.KeyValue, true)
	require.NoError(t, err)
	assert.Equal(t, "a=2\nb=5\n# mine\n", got, "the rule wins where that is asked for, and all else stays")
	assert.Len(t, conflicts, 1)
}

// TestMergingLinesAgreesWithAnotherProgram holds merges without conflicts against diff3.
func TestMergingLinesAgreesWithAnotherProgram(t *testing.T) {
	dir := t.TempDir()
	line := rapid.SampledFrom([]string{"a\n", "b\n", "c\n", "d\n", "e\n"})
	agreed := 0
	rapid.Check(t, func(rt *rapid.T) {
		text := func(name string) string {
			s := strings.Join(rapid.SliceOfN(line, 0, 6).Draw(rt, name), "")
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(s), 0o644))
			return s
		}
		last, theirs, wanted := text("last"), text("theirs"), text("wanted")
		got, conflicts, err := settings.Merge(last, theirs, wanted, "", false)
		require.NoError(rt, err)
		if theirs == last {
			require.Equal(rt, wanted, got)
		}
		if wanted == last {
			require.Equal(rt, theirs, got)
		}
		if agreed < 60 && len(conflicts) == 0 {
			if out, err := judge.Try(t, "diff3", "-m", filepath.Join(dir, "theirs"), filepath.Join(dir, "last"),
				filepath.Join(dir, "wanted")); err == nil {
				require.Equal(rt, out, got)
				agreed++
			}
		}
	})
	assert.Positive(t, agreed)
}

func FuzzMerge(f *testing.F) {
	f.Add("a=1\n", "a=2\n[x]\nb=1", "a=3\n", 0)
	f.Fuzz(func(t *testing.T, last, theirs, wanted string, n int) {
		syntax := []settings.Syntax{"", settings.KeyValue, settings.INI, settings.TOML}[uint(n)%4]
		got, _, err := settings.Merge(last, theirs, wanted, syntax, n%2 == 0)
		if err == nil && last == wanted && got != theirs {
			t.Fatal("nothing was wanted, and the person's text was changed")
		}
	})
}
