package bench_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/bench"
	"polytome/internal/core/estimate"
)

const commented = `# The season of the North Hall.
format = 1
name = "season" # as the poster says

# Odile keeps these.
[[source]]
path = "games" # on the ferry's own disk

# The stick with the blue tape.
[[target]]
# do not call it anything else
name = "North stick"
at = "stick"
loader = "rowan"
everything = false
titles = [
  "VSP-20417", # the children's favourite
  "VSP-21002",
]
reserve = "2GiB" # for the rota

[[target]]
name = "East # stick"
at = '''east'''
loader = "rowan"
everything = true
# the end
`

func TestCommentsAreKept(t *testing.T) {
	file := filepath.Join(t.TempDir(), "season.toml")
	require.NoError(t, os.WriteFile(file, []byte(commented), 0o644))
	b, err := bench.Load(file)
	require.NoError(t, err)
	b.Targets[0].Want(true, "VSP-00001")
	b.Targets[0], b.Targets[1] = b.Targets[1], b.Targets[0]
	for range 3 { // comments do not pile up
		require.NoError(t, b.Save())
	}
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	text := string(data)
	for _, c := range []string{"# The season of the North Hall.", "# as the poster says", "# Odile keeps these.",
		"# on the ferry's own disk", "# The stick with the blue tape.",
		"# do not call it anything else", "# the children's favourite", "# for the rota", "# the end"} {
		assert.Equal(t, 1, strings.Count(text, c), "%s in\n%s", c, text)
	}
	assert.Contains(t, text, "# The stick with the blue tape.\n[[target]]\n# do not call it anything else\nname = "+
		"'North stick'\n", "a comment stays with what it is about")
	assert.Contains(t, text, "reserve = '2GiB' # for the rota\n")
	again, err := bench.Load(file)
	require.NoError(t, err)
	assert.Equal(t, bench.Keys{"VSP-00001", "VSP-20417", "VSP-21002"}, again.Targets[1].Titles)

	b.Targets = b.Targets[:1] // what a comment was about is gone: the comment stays all the same
	require.NoError(t, b.Save())
	data, err = os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(data), "# The stick with the blue tape.")
	assert.Contains(t, string(data), "# for the rota")
}

func TestAnyCommentsSurviveAnySave(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		lines := strings.Split(strings.TrimSpace(commented), "\n")
		var marks []string
		var out []string
		for i, l := range lines {
			if rapid.Bool().Draw(t, "above") && !strings.HasPrefix(strings.TrimSpace(l), `"`) && l != "]" {
				marks = append(marks, fmt.Sprintf("# remark %d.", i))
				out = append(out, marks[len(marks)-1])
			}
			out = append(out, l)
		}
		file := filepath.Join(dir, "any.toml")
		if err := os.WriteFile(file, []byte(strings.Join(out, "\n")), 0o644); err != nil {
			t.Fatal(err)
		}
		b, err := bench.Load(file)
		if err != nil {
			t.Fatal(err)
		}
		if err := b.Save(); err != nil {
			t.Fatal(err)
		}
		text, _ := os.ReadFile(file)
		for _, m := range marks {
			if strings.Count(string(text), m+"\n") != 1 {
				t.Fatalf("%s: in\n%s", m, text)
			}
		}
		if again, err := bench.Load(file); err != nil || again.Targets[0].Name != "North stick" ||
			again.Targets[1].Name != "East # stick" {
			t.Fatalf("%v\n%s", err, text)
		}
	})
}

func TestAFileThatAnotherProgramChangedIsLeftAlone(t *testing.T) {
	file := filepath.Join(t.TempDir(), "season.toml")
	require.NoError(t, os.WriteFile(file, []byte(commented), 0o644))
	b, err := bench.Load(file)
	require.NoError(t, err)
	mine := strings.Replace(commented, "2GiB", "3GiB", 1)
	require.NoError(t, os.WriteFile(file, []byte(mine), 0o644))
	assert.ErrorIs(t, b.Save(), bench.ErrChanged)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, mine, string(text))
}

func TestTheLastGoodVersionIsKept(t *testing.T) {
	dir := t.TempDir()
	file, state := filepath.Join(dir, "season.toml"), filepath.Join(dir, "state")
	require.NoError(t, os.WriteFile(file, []byte(commented), 0o644))
	b, err := bench.Open(file, state)
	require.NoError(t, err)
	b.Targets[0].Want(true, "VSP-77777")
	require.NoError(t, b.Save())
	good, err := os.ReadFile(file)
	require.NoError(t, err)

	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(good), "titles = ",
		"evrything = false\ntitles = ", 1)), 0o644))
	_, err = bench.Open(file, state)
	require.ErrorContains(t, err, `evrything": did you mean "everything"?`)
	require.ErrorContains(t, err, `did you mean "everything"?`)
	require.ErrorContains(t, err, "The last good version is kept as ")
	_, at, _ := strings.Cut(err.Error(), "kept as ")
	at, _, _ = strings.Cut(at, ": ")
	kept, err := os.ReadFile(at)
	require.NoError(t, err)
	assert.Equal(t, string(good), string(kept))
}

func TestOnlyOneHasABenchOpenForChanges(t *testing.T) {
	if os.Getenv("POLYTOME_TEST_HOLD") != "" {
		b, err := bench.Load(os.Getenv("POLYTOME_TEST_HOLD"))
		if err == nil {
			err = b.Hold(os.Getenv("POLYTOME_TEST_STATE"))
		}
		fmt.Println("held:", b.ReadOnly(), err)
		_, _ = fmt.Scanln()
		return
	}
	dir := t.TempDir()
	file, state := filepath.Join(dir, "season.toml"), filepath.Join(dir, "state")
	require.NoError(t, os.WriteFile(file, []byte(commented), 0o644))
	other := exec.Command(os.Args[0], "-test.run", "TestOnlyOneHasABenchOpenForChanges")
	other.Env = append(os.Environ(), "POLYTOME_TEST_HOLD="+file, "POLYTOME_TEST_STATE="+state)
	in, err := other.StdinPipe()
	require.NoError(t, err)
	out, err := other.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, other.Start())
	line := make([]byte, 64)
	n, err := out.Read(line)
	require.NoError(t, err)
	require.Contains(t, string(line[:n]), "held:  <nil>", "the first one has it")

	b, err := bench.Load(file)
	require.NoError(t, err)
	require.NoError(t, b.Hold(state))
	assert.Equal(t, fmt.Sprint("process ", other.Process.Pid), b.ReadOnly(), "the second is reported who has it")
	assert.ErrorIs(t, b.Save(), bench.ErrReadOnly)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, commented, string(text))

	require.NoError(t, other.Process.Kill()) // however it ends
	_ = other.Wait()
	_ = in.Close()
	again, err := bench.Load(file)
	require.NoError(t, err)
	require.NoError(t, again.Hold(state))
	assert.Empty(t, again.ReadOnly())
	assert.NoError(t, again.Save())
	again.Release()
}

func TestContradictionsAreReported(t *testing.T) {
	target := "format = 1\n\n[[target]]\nname = 'A'\nat = 'a'\nloader = 'rowan'\n"
	for text, want := range map[string]string{
		"everything = true\nwithout = ['x']\ntitles = ['x']\n": "b.toml:9:1: x is both in the titles of A and in its " +
			"exceptions: excluded",
		"everything = true\ntitles = ['y']\n": "selects everything, so its list of titles has no " +
			"effect",
		"without = ['y']\n": "selects only its listed titles, so its",
		"removing = ['f']\nreplace = ['f']\n": "f of A is marked both to be removed and to be " +
			"replaced: it is removed",
	} {
		file := filepath.Join(t.TempDir(), "b.toml")
		require.NoError(t, os.WriteFile(file, []byte(target+text), 0o644))
		b, err := bench.Load(file)
		require.NoError(t, err, "it can be used all the same")
		assert.Contains(t, strings.Join(b.Notes, "\n"), want)
	}
	for text, want := range map[string]string{
		"cluster = '3KiB'\n": "a power of two", "reserve = -1\n": "cannot be negative",
		"also-for = ['rowan']\n": "first loader",
	} {
		file := filepath.Join(t.TempDir(), "b.toml")
		require.NoError(t, os.WriteFile(file, []byte(target+text), 0o644))
		_, err := bench.Load(file)
		assert.ErrorContains(t, err, want)
	}
}

func TestFavouritesAndPriorities(t *testing.T) {
	b := bench.New("")
	b.Prioritise("low", -2)
	b.Prioritise("high", 20)
	b.Favour(true, "best")
	assert.Equal(t, bench.MaxPriority, b.Priorities["high"])
	assert.Greater(t, b.Rank("best"), b.Rank("high"), "favourites come before every priority")
	assert.Greater(t, b.Rank("high"), b.Rank("other"))
	assert.Greater(t, b.Rank("other"), b.Rank("low"))
	was := b.Choices()
	b.Prioritise("low", 2)
	b.Favour(false, "best")
	assert.NotContains(t, b.Priorities, "low")
	b.Restore(was)
	assert.Equal(t, -2, b.Priorities["low"])
	assert.True(t, b.Favours("best"))
}

func TestUndoDoesNotForgetWhatRunsTaught(t *testing.T) {
	b := bench.New("")
	b.Targets = []bench.Target{{Name: "A"}}
	was := b.Choices()
	b.Targets[0].Speed = &estimate.Learnt{Rate: 5, Runs: 1}
	b.Restore(was)
	require.NotNil(t, b.Targets[0].Speed)
	assert.Equal(t, 1, b.Targets[0].Speed.Runs)
}
