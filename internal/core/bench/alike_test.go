package bench_test

import (
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/bench"
)

func load(t *testing.T, text string) (*bench.Bench, error) {
	file := filepath.Join(t.TempDir(), "season.toml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	return bench.Load(file)
}

const drawer = `format = 1
[[target]]
name = 'Hall 1'
at = '/media/HALL'
stick = '11110001'
loader = 'rowan'
everything = true
without = ['VSP-00001']
names = { VSP-00002 = 'Heron' }
[[target]]
name = 'Hall 2'
at = '/media/HALL1'
like = 'Hall 1'
stick = '11110002'
replace = ['FULL/a.iso']
[[target]]
name = 'Other'
at = '/media/OTHER'
loader = 'oxbow'
`

// TestASetHasOneChoice, which stands in its first target alone, and is the same for all when it is read.
func TestASetHasOneChoice(t *testing.T) {
	b, err := load(t, drawer)
	require.NoError(t, err)
	assert.Empty(t, b.Notes)
	two := &b.Targets[1]
	assert.Equal(t, "rowan", two.Loader)
	assert.True(t, two.Wants("VSP-00003"))
	assert.False(t, two.Wants("VSP-00001"))
	assert.Equal(t, []string{"FULL/a.iso"}, two.Replace, "it has marks of its own")
	assert.Empty(t, b.Targets[0].Replace)
	assert.Equal(t, []int{0, 1}, b.Alike(1))
	assert.Equal(t, []int{2}, b.Alike(2))

	two.Want(false, "VSP-00003") // at any of them
	b.Spread(1)
	assert.False(t, b.Targets[0].Wants("VSP-00003"))
	assert.True(t, b.Targets[0].Stick == "11110001" && b.Targets[0].Name == "Hall 1" && b.Targets[2].Loader == "oxbow")
	n := b.AddLike(1, "/media/HALL2", "11110003")
	assert.Equal(t, "Hall 3", b.Targets[n].Name)
	require.NoError(t, b.Save())
	text, err := os.ReadFile(b.File())
	require.NoError(t, err)
	assert.Contains(t, string(text), "name = 'Hall 3'\nat = '/media/HALL2'\nlike = 'Hall 1'\nstick = '11110003'\n")
	again, err := bench.Load(b.File())
	require.NoError(t, err)
	assert.Empty(t, again.Notes)
	for i := range again.Targets {
		assert.True(t, again.Targets[i].WantLike(&b.Targets[i]), again.Targets[i].Name)
	}
	assert.Equal(t, b.Targets[n].Names, again.Targets[n].Names)

	b.Unlike(0) // the next one is the first now
	assert.Equal(t, "", b.Targets[1].Like)
	assert.Equal(t, "Hall 2", b.Targets[n].Like)
	assert.Equal(t, []int{1, n}, b.Alike(n))
	b.Unlike(n)
	assert.Equal(t, []int{1}, b.Alike(1))
	assert.True(t, b.Targets[n].WantLike(&b.Targets[0]), "it keeps its choices")
}

// TestMistakesInSets are reported where they stand.
func TestMistakesInSets(t *testing.T) {
	for name, c := range map[string]struct{ more, say string }{
		"nobody":    {"like = 'Hall 9'", `there is no target "Hall 9" that Third could be like`},
		"itself":    {"like = 'Third'", "Third cannot be like itself"},
		"a chain":   {"like = 'Hall 2'", "Hall 2 is like Hall 1 itself: name that one"},
		"one stick": {"like = 'Hall 1'\nstick = '11110002'", "this stick is Hall 2 already"},
		"carrying": {"like = 'Hall 1'\ncarries-covers-of = 'Hall 1'",
			"Third is like Hall 1, and cannot carry covers"},
		"no loader":    {"", "a target needs a name, an address (at) and a loader"},
		"another name": {"lik = 'Hall 1'", `did you mean "like"?`},
	} {
		_, err := load(t, drawer+"[[target]]\nname = 'Third'\nat = '/media/3'\n"+c.more+"\n")
		assert.ErrorContains(t, err, c.say, name)
	}
	b, err := load(t, drawer+"[[target]]\nname = 'Third'\nat = '/media/3'\nlike = 'Hall 1'\ntitles = ['VSP-00009']\n")
	require.NoError(t, err)
	require.Len(t, b.Notes, 1)
	assert.Contains(t, b.Notes[0], "Third is like Hall 1: what else is set up or selected for it has no effect")
}

// TestEverythingThatCanBeSetIsOfTheSetOrOfItsTarget: what a target has for itself is named, and all else is shared.
func TestEverythingThatCanBeSetIsOfTheSetOrOfItsTarget(t *testing.T) {
	own := map[string]bool{}
	kind := reflect.TypeFor[bench.Target]()
	fields := []string{}
	for i := range kind.NumField() {
		if f := kind.Field(i); f.IsExported() && f.Type.Kind() == reflect.String {
			fields = append(fields, f.Name)
		}
	}
	rapid.Check(t, func(rt *rapid.T) {
		name := rapid.SampledFrom(fields).Draw(rt, "field")
		b := bench.New("")
		b.Targets = []bench.Target{{Name: "A", At: "a"}, {Name: "B", At: "b", Like: "A"}}
		reflect.ValueOf(&b.Targets[1]).Elem().FieldByName(name).SetString("x")
		if b.First(1) != 0 { // it is of no set any longer
			return
		}
		b.Spread(1)
		if got := reflect.ValueOf(b.Targets[0]).FieldByName(name).String(); got != "x" {
			own[name] = true
		}
	})
	for name := range own {
		assert.Contains(t, []string{"Name", "At", "Like", "Stick", "As", "Volume", "Carries"}, name)
	}
}
