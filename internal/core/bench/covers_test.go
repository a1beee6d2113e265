package bench_test

import (
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/bench"
	"polytome/internal/core/title"
	"polytome/internal/size"
)

func TestABudgetIsAnAmountOrAShare(t *testing.T) {
	for text, want := range map[bench.Budget]int64{"40MiB": 40 * size.MiB, "0": 0, "5%": 50, "0.5 %": 5, "100%": 1000,
		"0%": 0, "1000000": 1_000_000} {
		require.NoError(t, text.Check(), text)
		n, ok := text.Bytes(1000)
		assert.True(t, ok, text)
		assert.Equal(t, want, n, text)
	}
	for _, bad := range []bench.Budget{"-1%", "101%", "%", "NaN%", "much", "-3MiB", "5 per cent"} {
		assert.Error(t, bad.Check(), bad)
	}
	_, ok := bench.Budget("").Bytes(1000)
	assert.False(t, ok)
	assert.NoError(t, bench.Budget("").Check())
}

func TestPathsOnServers(t *testing.T) {
	for _, good := range []string{"{platform}/{kind}/{id}.png", "a b/{name}.jpg", "x.png", "{crc32}.png"} {
		assert.NoError(t, bench.CheckPath(good), good)
	}
	for bad, says := range map[string]string{
		"{titel}.png": "unknown field of a picture's path \"titel\"", "{nam}.png": "did you mean \"name\"?",
		"{id.png": "has an unclosed", "id}.png": "has an unclosed", "../x.png": "leads out", "/x.png": "leads out",
		"a/../../x":          "leads out",
		"http://other/x.png": "leads out", "": "leads out", `a\b`: "leads out",
	} {
		assert.ErrorContains(t, bench.CheckPath(bad), says, bad)
	}
	value := func(f string) string { return map[string]string{"id": "VSP-1", "name": "A/B & C? #1", "kind": ".."}[f] }
	out, ok := bench.FillPath("{id}/{name}.png", value)
	assert.True(t, ok)
	assert.Equal(t, "VSP-1/A%2FB%20&%20C%3F%20%231.png", out)
	for _, none := range []string{"{region}.png", "{kind}/x.png"} {
		_, ok = bench.FillPath(none, value)
		assert.False(t, ok, none)
	}
}

// TestNoValueLeadsOutOfAServer fills paths with anything, and resolves them as a client would.
func TestNoValueLeadsOutOfAServer(t *testing.T) {
	base, err := url.Parse("http://127.0.0.1:8000/shelf/deep/")
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		values := rapid.MapOf(rapid.SampledFrom(bench.PathFields), rapid.OneOf(rapid.String(),
			rapid.SampledFrom([]string{"..", ".", "../..", "%2e%2e", "/etc", "a/../..", "//x", "http://y/", "?q", "#f",
				"\\..\\"}))).Draw(t, "values")
		p := rapid.SampledFrom([]string{"{id}", "{platform}/{kind}/{id}.png", "x{name}", "{bare}/{file}",
			"{region}..{disc}"}).Draw(t, "path")
		if bench.CheckPath(p) != nil {
			t.Fatal(p)
		}
		filled, ok := bench.FillPath(p, func(f string) string { return values[f] })
		if !ok {
			return
		}
		u, err := url.Parse(base.String() + filled)
		if err != nil {
			t.Fatalf("%q: %v", filled, err)
		}
		if u.Host != base.Host || u.RawQuery != "" || u.Fragment != "" ||
			!strings.HasPrefix(path.Clean(u.EscapedPath()), "/shelf/deep/") {
			t.Fatalf("%q leads to %s", filled, u)
		}
	})
}

func TestCoversAreKeptOnTheBench(t *testing.T) {
	file := filepath.Join(t.TempDir(), "season.toml")
	text := `format = 1
name = "season"

# where the pictures are
[covers]
order = ["folders", "beside"] # mine first

[covers.of]
disc = ["servers"]

[[covers.folder]]
path = "pictures"
of = "disc"

[[covers.server]]
name = "shelf"
url = "http://127.0.0.1:9/"
paths = ["{id}.png"]
connections = 3

[[target]]
name = "Disk"
at = "disk"
loader = "gantry"
covers-at-most = "5%"

[[target]]
name = "Carry"
at = "carry"
loader = "gantry"
carries-covers-of = "Disk"

[[edit]]
file = "games/x.iso"
pictures = [{ of = "front", file = "pictures/x.png", crop = [10, 0, 10, 0] }, { of = "disc", none = true }]
`
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	b, err := bench.Load(file)
	require.NoError(t, err)
	dir := filepath.Dir(file)
	assert.Equal(t, []string{"folders", "beside"}, b.Covers.Sources("front"))
	assert.Equal(t, []string{"servers"}, b.Covers.Sources("disc"))
	assert.Equal(t, bench.CoverSources, (&bench.Covers{}).Sources("front"))
	assert.Equal(t, []bench.CoverFolder{{Path: filepath.Join(dir, "pictures"), Of: "disc"}}, b.CoverFolders())
	assert.Equal(t, filepath.Join(dir, "pictures", "x.png"), b.ResolvedEdits()[0].Pictures[0].File)
	of, ok := b.Carried(1)
	assert.Equal(t, [2]any{0, true}, [2]any{of, ok})
	_, ok = b.Carried(0)
	assert.False(t, ok)
	b.Targets[0].Want(true, "k")
	assert.True(t, b.Wants(1, "k"), "what is wanted there is carried")
	assert.False(t, b.Wants(1, "other"))

	before := b.Choices()
	assert.True(t, b.AddCoverFolder(filepath.Join(dir, "more")))
	assert.False(t, b.AddCoverFolder(filepath.Join(dir, "more")))
	assert.Equal(t, "127.0.0.1", b.NameServer("http://127.0.0.1:8/x"))
	b.Covers.Servers = append(b.Covers.Servers, bench.CoverServer{Name: "127.0.0.1", URL: "http://127.0.0.1:8/",
		Paths: []string{"x"}})
	assert.Equal(t, "127.0.0.1 2", b.NameServer("http://127.0.0.1:8/x"))
	require.NoError(t, b.Save())
	saved, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, want := range []string{"# where the pictures are", "# mine first", "path = 'more'", "covers-at-most = '5%'",
		"carries-covers-of = 'Disk'", "none = true"} {
		assert.Contains(t, string(saved), want)
	}
	again, err := bench.Load(file)
	require.NoError(t, err)
	assert.Equal(t, b.Covers, again.Covers)
	assert.Equal(t, b.Edits, again.Edits)
	assert.True(t, b.Restore(before), "undo brings the folders back")
	assert.Len(t, b.Covers.Folders, 1)
	assert.Len(t, b.Covers.Servers, 1)
}

func TestChoicesOfPictures(t *testing.T) {
	var e title.Edit
	e.Choose(title.Chosen{Of: "disc", None: true})
	e.Choose(title.Chosen{Of: "front", File: "a.png"})
	assert.Equal(t, []string{"front", "disc"}, []string{e.Pictures[0].Of, e.Pictures[1].Of}, "in the usual order")
	assert.False(t, e.Empty())
	e.Choose(title.Chosen{Of: "front", File: "b.png"})
	assert.Len(t, e.Pictures, 2)
	e.Choose(title.Chosen{Of: "front"})
	e.Choose(title.Chosen{Of: "disc"})
	assert.True(t, e.Empty(), "what says nothing is forgotten")
}
